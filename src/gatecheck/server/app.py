"""The application: routes, one error-to-HTTP map, and the built front end."""

from __future__ import annotations

import logging
from collections.abc import AsyncIterator, Mapping
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Annotated, Any

from fastapi import FastAPI, File, Form, Request, UploadFile
from fastapi.exceptions import RequestValidationError
from fastapi.responses import FileResponse, JSONResponse, Response, StreamingResponse
from fastapi.staticfiles import StaticFiles
from starlette.exceptions import HTTPException

from gatecheck.core.errors import BenchError, TapeError
from gatecheck.core.knowledge.tables import Check, Fix, Knowledge
from gatecheck.files import InputError
from gatecheck.server.bench import Bench, NotFoundError
from gatecheck.server.captures import Captures
from gatecheck.server.events import Events
from gatecheck.server.instruments import Instruments
from gatecheck.server.link import LinkEndedError, Links, LinkUnknownError
from gatecheck.server.link_routes import add_link_routes
from gatecheck.server.models import (
    BayIn,
    BenchOut,
    ByIn,
    EntryIn,
    FoundOut,
    GuessOut,
    HandOverIn,
    LearningOut,
    Problem,
    SheetOut,
    TermsIn,
    TicketIn,
    TicketOut,
    WordsOut,
)  # fmt: skip
from gatecheck.server.models_captures import CaptureOut, RawOut, WeighIn
from gatecheck.server.models_instruments import BookModelOut, KeysOut, SettingsOut, SightingsOut
from gatecheck.store import StoreError

_log = logging.getLogger(__name__)

_STATUS: tuple[tuple[type[BenchError], int, str], ...] = (
    (NotFoundError, 404, "Not found"),
    (LinkUnknownError, 401, "Not a link of this bench"),
    (LinkEndedError, 410, "The link is over"),
    (TapeError, 422, "Entry not usable"),
    (InputError, 422, "File not usable"),
    (StoreError, 409, "Not possible now"),
    (BenchError, 400, "Not usable"),
)


def create_app(
    bench: Bench, dist: Path | None = None, url: str | None = None, practice: Mapping[int, str] | None = None
) -> FastAPI:
    """The web application for one shop. `dist` is the built front end, `url` where practice machines find the server;
    `practice`: machines that are linked to these tickets once it runs."""
    events, captures = Events(), Captures(bench)
    links = Links(bench, captures, url)
    bench.announce = events.publish

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        events.attach()
        for ticket_id, name in (practice or {}).items():
            links.connect_practice(ticket_id, name, by="demo")
        yield
        events.close()
        links.close()
        bench.database.close()

    app = FastAPI(
        title="Gate Check", version="1", lifespan=lifespan, openapi_url="/api/openapi.json", docs_url=None, redoc_url=None,
        responses={422: {"model": Problem}, 404: {"model": Problem}, 409: {"model": Problem}},
    )  # fmt: skip
    app.state.events = events
    _map_errors(app)
    _bench_routes(app, bench, events)
    _ticket_routes(app, bench)
    _learning_routes(app, bench)
    _instrument_routes(app, Instruments(bench))
    _file_routes(app, bench, captures)
    add_link_routes(app, links)
    if dist and dist.is_dir():
        _front_end(app, dist)
    return app


def _problem(status: int, title: str, detail: str) -> JSONResponse:
    body = Problem(title=title, status=status, detail=detail).model_dump()
    return JSONResponse(body, status_code=status, media_type="application/problem+json")


def _map_errors(app: FastAPI) -> None:
    async def bench_error(request: Request, error: Exception) -> Response:
        status, title = next((s, t) for cls, s, t in _STATUS if isinstance(error, cls))
        return _problem(status, title, str(error))

    async def invalid(request: Request, error: Exception) -> Response:
        assert isinstance(error, RequestValidationError)
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        return _problem(422, "Request not usable", f"{where}: {first['msg']}, got {str(first.get('input'))[:80]!r}")

    async def http(request: Request, error: Exception) -> Response:
        assert isinstance(error, HTTPException)
        return _problem(error.status_code, "Not possible", str(error.detail))

    async def unexpected(request: Request, error: Exception) -> Response:
        _log.error("%s %s failed", request.method, request.url.path, exc_info=error)
        return _problem(
            500, "The server failed", f"{type(error).__name__}: nothing was kept of this request; the tape is as it was"
        )

    app.add_exception_handler(Exception, unexpected)
    app.add_exception_handler(BenchError, bench_error)
    app.add_exception_handler(RequestValidationError, invalid)
    app.add_exception_handler(HTTPException, http)


def _bench_routes(app: FastAPI, bench: Bench, events: Events) -> None:
    @app.get("/api/bench", operation_id="getBench")
    def get_bench() -> BenchOut:
        return bench.overview()

    words = _words(bench.model.knowledge)

    @app.get("/api/words", operation_id="getWords")
    def get_words() -> WordsOut:
        return words

    @app.get("/api/find", operation_id="findTickets")
    def find_tickets(text: str = "") -> list[FoundOut]:
        return bench.find(text)

    @app.get("/api/events", operation_id="getEvents", response_class=StreamingResponse)
    async def get_events() -> StreamingResponse:
        headers = {"Cache-Control": "no-store", "X-Accel-Buffering": "no"}
        return StreamingResponse(events.stream(), media_type="text/event-stream", headers=headers)


def _ticket_routes(app: FastAPI, bench: Bench) -> None:
    @app.post("/api/tickets", operation_id="takeIn", status_code=201)
    def take_in(ticket: TicketIn) -> TicketOut:
        return bench.take_in(**ticket.model_dump())

    @app.get("/api/tickets/{ticket_id}", operation_id="getTicket")
    def get_ticket(ticket_id: int) -> TicketOut:
        return bench.ticket(ticket_id)

    @app.post("/api/tickets/{ticket_id}/entries", operation_id="appendEntry", status_code=201)
    def append_entry(ticket_id: int, request: EntryIn) -> TicketOut:
        return bench.append(ticket_id, request.entry, by=request.by, key=request.key)

    @app.put("/api/tickets/{ticket_id}/bay", operation_id="moveToBay")
    def move_to_bay(ticket_id: int, request: BayIn) -> TicketOut:
        return bench.move_to_bay(ticket_id, request.bay)

    @app.post("/api/tickets/{ticket_id}/handover", operation_id="handOver")
    def hand_over(ticket_id: int, request: HandOverIn | None = None) -> TicketOut:
        given = request or HandOverIn()
        return bench.hand_over(ticket_id, given.proven, by=given.by)

    @app.post("/api/tickets/{ticket_id}/reopen", operation_id="reopen")
    def reopen(ticket_id: int) -> TicketOut:
        return bench.reopen(ticket_id)

    @app.post("/api/tickets/{ticket_id}/sheet", operation_id="getSheet")
    def get_sheet(ticket_id: int, request: TermsIn) -> SheetOut:
        return bench.sheet(ticket_id, request.terms)

    @app.get("/api/tickets/{ticket_id}/guesses", operation_id="getGuesses")
    def get_guesses(ticket_id: int) -> list[GuessOut]:
        return bench.guesses(ticket_id)


def _learning_routes(app: FastAPI, bench: Bench) -> None:
    @app.get("/api/learning", operation_id="getLearning")
    def get_learning() -> LearningOut:
        return bench.learning()

    @app.post("/api/learning/reset", operation_id="resetLearning")
    def reset_learning(request: ByIn) -> LearningOut:
        return bench.reset_learning(by=request.by)


def _instrument_routes(app: FastAPI, instruments: Instruments) -> None:
    @app.get("/api/tickets/{ticket_id}/settings", operation_id="getSettings")
    def get_settings(ticket_id: int) -> SettingsOut:
        return instruments.settings(ticket_id)

    @app.get("/api/tickets/{ticket_id}/sightings", operation_id="getSightings")
    def get_sightings(ticket_id: int) -> SightingsOut:
        return instruments.sightings(ticket_id)

    @app.get("/api/tickets/{ticket_id}/keys", operation_id="getTicketKeys")
    def get_ticket_keys(ticket_id: int) -> KeysOut:
        return instruments.keys_of_ticket(ticket_id)

    @app.get("/api/keys", operation_id="getKeys")
    def get_keys(machine: str, platform: str = "pc") -> KeysOut:
        return instruments.keys(machine, platform)

    @app.get("/api/keys/models", operation_id="getBook")
    def get_book() -> list[BookModelOut]:
        return instruments.book()


def _file_routes(app: FastAPI, bench: Bench, captures: Captures) -> None:
    @app.post("/api/tickets/{ticket_id}/files", operation_id="addFile", status_code=201)
    def add_file(
        ticket_id: int, file: Annotated[UploadFile, File()], by: Annotated[str, Form(min_length=1, max_length=20)]
    ) -> CaptureOut:
        data = file.file.read(bench.files.largest + 1)
        if len(data) > bench.files.largest:
            raise StoreError(f"{file.filename}: expected at most {bench.files.largest >> 20} MiB, got more")
        return captures.add_file(ticket_id, file.filename or "file", data, by=by)

    @app.get("/api/tickets/{ticket_id}/captures", operation_id="getCaptures")
    def get_captures(ticket_id: int) -> list[CaptureOut]:
        return captures.captures(ticket_id)

    @app.post("/api/tickets/{ticket_id}/captures", operation_id="weighCapture", status_code=201)
    def weigh_capture(ticket_id: int, request: WeighIn) -> TicketOut:
        return captures.weigh(ticket_id, request.sha256, request.device, by=request.by)

    @app.get("/api/tickets/{ticket_id}/captures/{sha256}/raw", operation_id="getRaw")
    def get_raw(ticket_id: int, sha256: str, path: str, at: int | None = None) -> RawOut:
        return captures.raw(ticket_id, sha256, path, at)

    @app.get("/api/files/{sha256}", operation_id="getFile", response_class=Response)
    def get_file(sha256: str) -> Response:
        headers = {"Content-Disposition": f'attachment; filename="{sha256[:12]}.bin"', "X-Content-Type-Options": "nosniff"}
        return Response(bench.files.get(sha256), media_type="application/octet-stream", headers=headers)


def _words(knowledge: Knowledge) -> WordsOut:
    def move(kind: str, item: Check | Fix) -> dict[str, Any]:
        return {
            "id": item.id, "kind": kind, "gate": item.gate, "name": item.name, "ask": item.ask, "why": item.why,
            "outcomes": list(item.outcomes), "say": dict(item.say), "minutes": item.minutes, "unattended": item.unattended,
            "visit": item.visit, "verdict": getattr(item, "verdict", False), "trial": getattr(item, "trial", False),
        }  # fmt: skip

    return WordsOut.model_validate({
        "gates": [{"id": g.id, "name": g.name, "asks": g.asks} for g in knowledge.gates],
        "faults": [{"id": f.id, "gate": f.gate, "name": f.name, "text": f.text} for f in knowledge.faults],
        "moves": [
            *(move("check", c) for c in knowledge.checks.values()), *(move("fix", f) for f in knowledge.fixes.values())
        ],
        "calls": dict(knowledge.calls), "call_names": dict(knowledge.call_names),
        "interlocks": {i.id: i.text for i in knowledge.interlocks.values()},
        "facts": {k: list(v) for k, v in knowledge.facts.items()}, "platforms": knowledge.platform_words,
        "key_moves": knowledge.keys.moves,
        "values": {v: name for row in knowledge.settings.rows.values() for v, name in row.values.items()} | dict(knowledge.sightings.seen),
        "instruments": {
            "drive": "System drive", **{r.id: r.name for r in knowledge.settings.rows.values()}, **knowledge.sightings.kinds,
            **{v.id: v.name for v in knowledge.sightings.vantages.values()},
        },
        "purposes": knowledge.keys.purposes,
    })  # fmt: skip


def _front_end(app: FastAPI, dist: Path) -> None:
    app.mount("/assets", StaticFiles(directory=dist / "assets"), name="assets")
    index = dist / "index.html"

    @app.get("/{path:path}", include_in_schema=False)
    def page(path: str) -> Response:
        if path.startswith("api/"):
            return _problem(404, "Not found", f"/{path}: expected a route of /api/openapi.json, got none")
        wanted = dist / path
        if path and wanted.is_file() and wanted.resolve().is_relative_to(dist.resolve()):
            return FileResponse(wanted)
        return FileResponse(index, headers={"Cache-Control": "no-cache"})
