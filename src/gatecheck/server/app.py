"""The application: every entity's routes over one shop, one error-to-HTTP map, and the built front end."""

from __future__ import annotations

import hashlib
from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from contextlib import asynccontextmanager
from pathlib import Path

from fastapi import FastAPI, Request
from fastapi.responses import FileResponse, HTMLResponse, Response
from fastapi.staticfiles import StaticFiles

from gatecheck.server.bench.routes import bench_routes
from gatecheck.server.captures.routes import capture_routes
from gatecheck.server.ear.routes import ear_routes
from gatecheck.server.errors import map_errors, problem
from gatecheck.server.instruments.routes import instrument_routes
from gatecheck.server.learning.routes import learning_routes
from gatecheck.server.link.routes import link_routes
from gatecheck.server.papers.routes import paper_routes
from gatecheck.server.path.routes import path_routes
from gatecheck.server.people.routes import people_routes
from gatecheck.server.practice.routes import practice_routes
from gatecheck.server.request_guard import AUTHORITY_PATH, NONCE, RequestGuard
from gatecheck.server.room.routes import room_routes
from gatecheck.server.services import Services
from gatecheck.server.surface.routes import surface_routes
from gatecheck.server.tickets.routes import ticket_routes
from gatecheck.server.tls.authority import BenchTls
from gatecheck.server.volumes.routes import volume_routes
from gatecheck.server.wire import Problem
from gatecheck.server.work.routes import work_routes


def create_app(
    house: Services,
    dist: Path | None = None,
    practice: Mapping[int, str] | None = None,
    *,
    is_public: bool = False,
    names: Sequence[str] = (),
    after: Callable[[], None] = lambda: None,
    tls: BenchTls | None = None,
    needs_tls: bool = False,
) -> FastAPI:
    """The web application for one shop. `dist` is the built front end; `practice`: machines that are linked to these
    tickets once it runs; `is_public`: it answers beyond this computer; `names`: host names that it answers to besides
    its addresses; `after`: once all that is linked; `tls`: the shop's authority; `needs_tls`: other
    computers' browsers are only led to the encrypted pages."""
    events = house.shop.events

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        events.attach()
        house.links.pages.resume_outcomes()
        for ticket_id, name in (practice or {}).items():
            house.practice.connect(ticket_id, name, by="demo")
        after()
        house.tickets.warm()
        yield
        events.close()
        house.tickets.warming.close()
        house.practice.processes.close()
        house.volumes.close()
        house.shop.database.close()

    app = FastAPI(
        title="Gate Check",
        version="1",
        lifespan=lifespan,
        openapi_url="/api/openapi.json",
        docs_url=None,
        redoc_url=None,
        responses={422: {"model": Problem}, 404: {"model": Problem}, 409: {"model": Problem}},
    )
    app.state.events = events
    app.state.is_public, app.state.needs_tls = is_public, needs_tls
    app.add_middleware(
        RequestGuard, devices=house.devices, technicians=house.technicians, names=names, needs_tls=needs_tls
    )
    map_errors(app)
    for router in (
        bench_routes(house.bench, events, house.devices),
        ticket_routes(house.tickets),
        learning_routes(house.learning),
        instrument_routes(house.instruments),
        capture_routes(house.captures),
        link_routes(house.links, house.machines),
        surface_routes(house.surfaces),
        path_routes(house.paths),
        volume_routes(house.volumes),
        ear_routes(house.ear),
        practice_routes(house.practice),
        work_routes(house.work),
        paper_routes(house.papers),
        people_routes(house.devices, house.technicians, tls),
        room_routes(house.room),
    ):
        app.include_router(router)
    if tls is not None:
        _authority(app, tls)
    if dist and dist.is_dir():
        _front_end(app, dist)
    return app


def _authority(app: FastAPI, tls: BenchTls) -> None:
    @app.get(AUTHORITY_PATH, include_in_schema=False)
    def authority() -> Response:
        """What a tablet installs once; no secret."""
        return Response(
            tls.authority_pem,
            media_type="application/x-x509-ca-cert",
            headers={"Content-Disposition": 'attachment; filename="gatecheck-bench.crt"'},
        )


def _front_end(app: FastAPI, dist: Path) -> None:
    app.mount("/assets", StaticFiles(directory=dist / "assets"), name="assets")
    index = (dist / "index.html").read_text(encoding="utf-8")
    app.state.events.program = hashlib.sha256(index.encode()).hexdigest()[:16]  # it names every part of the pages

    @app.get("/{path:path}", include_in_schema=False)
    def page(path: str, request: Request) -> Response:
        if path.startswith("api/"):
            return problem(404, "Not found", f"/{path}: expected a route of /api/openapi.json, got none")
        wanted = dist / path
        try:
            is_ours = (
                bool(path)
                and wanted.name != "index.html"
                and wanted.is_file()
                and wanted.resolve().is_relative_to(dist.resolve())
            )
        except (OSError, ValueError):  # a name that no file can have
            is_ours = False
        if is_ours:
            return FileResponse(wanted)
        return HTMLResponse(
            index.replace("__NONCE__", getattr(request.state, NONCE, "")), headers={"Cache-Control": "no-cache"}
        )
