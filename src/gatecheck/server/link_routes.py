"""Routes of the link: those the browser asks, those the probe asks (docs/link-protocol.md), and the probe itself."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Depends, FastAPI, Header, Request
from fastapi.responses import PlainTextResponse

from gatecheck.practice.patients import PATIENTS
from gatecheck.probe_file import probe_with
from gatecheck.server.link import Links, LinkUnknownError
from gatecheck.server.models import ByIn, TicketOut
from gatecheck.server.models_link import DoneIn, HelloIn, LinkOut, OrderIn, PageIn, PatientOut, PracticeIn, ProgressIn


def _bearer(authorization: Annotated[str, Header()] = "") -> str:
    kind, _, secret = authorization.partition(" ")
    if kind.lower() != "bearer" or not secret:
        raise LinkUnknownError("Authorization: expected `Bearer SECRET`, got none")
    return secret.strip()


Secret = Annotated[str, Depends(_bearer)]


def add_link_routes(app: FastAPI, links: Links) -> None:
    """All of them."""
    _for_the_browser(app, links)
    _for_the_probe(app, links)

    @app.get("/probe", response_class=PlainTextResponse, include_in_schema=False)
    def get_probe() -> str:
        return probe_with()

    @app.get("/p/{secret}", response_class=PlainTextResponse, include_in_schema=False)
    def get_probe_of_ticket(secret: str, request: Request) -> str:
        return links.probe_for(secret, str(request.base_url))


def _for_the_browser(app: FastAPI, links: Links) -> None:
    @app.get("/api/tickets/{ticket_id}/link", operation_id="getLink")
    def get_link(ticket_id: int, request: Request) -> LinkOut:
        return links.view(ticket_id, str(request.base_url))

    @app.post("/api/tickets/{ticket_id}/link", operation_id="openLink", status_code=201)
    def open_link(ticket_id: int, by: ByIn, request: Request) -> LinkOut:
        links.open(ticket_id, by=by.by)
        return links.view(ticket_id, str(request.base_url))

    @app.delete("/api/tickets/{ticket_id}/link", operation_id="endLink")
    def end_link(ticket_id: int, request: Request) -> LinkOut:
        links.end(ticket_id)
        return links.view(ticket_id, str(request.base_url))

    @app.post("/api/tickets/{ticket_id}/orders", operation_id="putOrder", status_code=201)
    def put_order(ticket_id: int, order: OrderIn, request: Request) -> LinkOut:
        links.order(ticket_id, order.model_dump(exclude={"by"}, exclude_none=True), by=order.by)
        return links.view(ticket_id, str(request.base_url))

    @app.post("/api/tickets/{ticket_id}/practice", operation_id="connectPractice", status_code=201)
    def connect_practice(ticket_id: int, practice: PracticeIn, request: Request) -> LinkOut:
        links.connect_practice(ticket_id, practice.machine, by=practice.by)
        return links.view(ticket_id, str(request.base_url))

    @app.get("/api/practice", operation_id="getPatients")
    def get_patients() -> list[PatientOut]:
        return [PatientOut(id=p.id, title=p.title, machine=p.machine, words=p.words) for p in PATIENTS]

    @app.post("/api/practice", operation_id="takeInPractice", status_code=201)
    def take_in_practice(practice: PracticeIn) -> TicketOut:
        return links.take_in_practice(practice.machine, bay=practice.bay, by=practice.by)


def _for_the_probe(app: FastAPI, links: Links) -> None:
    @app.post("/api/link/hello", operation_id="linkHello")
    def hello(said: HelloIn, secret: Secret) -> dict[str, Any]:
        return links.hello(secret, said.protocol, said.probe, said.machine, said.session, said.has)

    @app.get("/api/link/orders", operation_id="linkOrders")
    def orders(session: str, secret: Secret) -> dict[str, Any]:
        return links.orders(secret, session)

    @app.post("/api/link/pages", operation_id="linkPage")
    def page(page: PageIn, secret: Secret) -> dict[str, Any]:
        return links.page(secret, page)

    @app.post("/api/link/progress", operation_id="linkProgress")
    def progress(progress: ProgressIn, secret: Secret) -> dict[str, Any]:
        return links.progress(secret, progress)

    @app.post("/api/link/done", operation_id="linkDone")
    def done(said: DoneIn, secret: Secret) -> dict[str, Any]:
        return links.done(secret, said.session, said.order, said.result, said.detail)
