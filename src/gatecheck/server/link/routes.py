"""Routes of the link: those the browser asks, those the probe asks (docs/link-protocol.md), and the probe itself."""

from __future__ import annotations

import hashlib
from typing import Annotated, Any

from fastapi import APIRouter, Depends, Header, Query, Request, Response
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import PlainTextResponse

from gatecheck.adapters.probe_script import probe_archive
from gatecheck.server.errors import LinkUnknownError
from gatecheck.server.link.drive_restore import LARGEST_PIECE
from gatecheck.server.link.service import Links
from gatecheck.server.link.waiting_machines import WaitingMachines
from gatecheck.server.link.wire import (
    BeginCopyIn,
    CodeTypedIn,
    CopyOut,
    DoneIn,
    FillIn,
    HelloIn,
    KnockIn,
    KnocksOut,
    LinkOut,
    OrderIn,
    PageIn,
    ProgressIn,
    SteerIn,
    TakeKnockIn,
    TargetOut,
    UnreadIn,
)
from gatecheck.server.wire import ByIn, TicketId


def _bearer(authorization: Annotated[str, Header()] = "") -> str:
    kind, _, secret = authorization.partition(" ")
    if kind.lower() != "bearer" or not secret:
        raise LinkUnknownError("Authorization: expected `Bearer SECRET`, got none")
    return secret.strip()


Secret = Annotated[str, Depends(_bearer)]


def link_routes(links: Links, machines: WaitingMachines) -> APIRouter:
    """All of them."""
    router = APIRouter()
    _at_the_stick(router, machines)
    _for_the_browser(router, links)
    _copies(router, links)
    _filling(router, links)
    _for_the_probe(router, links)

    @router.get("/probe", include_in_schema=False)
    def get_probe() -> Response:
        return _as_file(probe_archive())

    @router.get("/p/{secret}", include_in_schema=False)
    def get_probe_of_ticket(secret: str, request: Request) -> Response:
        return _as_file(links.start_codes.probe_for(secret, str(request.base_url), _source(request)))

    @router.get("/s/{secret}", response_class=PlainTextResponse, include_in_schema=False)
    def get_start_line(secret: str, request: Request) -> str:
        return links.start_codes.start_for(secret, str(request.base_url), _source(request))

    return router


def _as_file(probe: bytes) -> Response:
    named = {"Content-Disposition": 'attachment; filename="gatecheck_probe.pyz"', "Cache-Control": "no-store"}
    return Response(probe, media_type="application/zip", headers=named)


def _source(request: Request) -> str:
    return request.client.host if request.client else ""


def _at_the_stick(router: APIRouter, machines: WaitingMachines) -> None:
    @router.post("/api/link/knock", operation_id="linkKnock")
    def knock(said: KnockIn, request: Request) -> dict[str, Any]:
        return machines.knock(
            said.machine,
            int(said.probe) if said.probe.isdigit() else 0,
            str(request.base_url),
            _source(request),
            said.commit,
        )

    @router.get("/api/link/knock/{token}", operation_id="linkKnocked")
    def knocked(token: str, nonce: Annotated[str, Query(max_length=80)] = "") -> dict[str, Any]:
        return machines.asked(token, nonce)

    @router.post("/api/link/code", operation_id="linkCode")
    def code(said: CodeTypedIn, request: Request) -> dict[str, Any]:
        return machines.code(said.code, _source(request), said.token)

    @router.get("/api/knocks", operation_id="getKnocks")
    def get_knocks() -> KnocksOut:
        return machines.all()

    @router.post("/api/knocks/{token}", operation_id="takeKnock")
    def take_knock(token: str, said: TakeKnockIn) -> KnocksOut:
        machines.take(token, said.ticket, by=said.by)
        return machines.all()


def _for_the_browser(router: APIRouter, links: Links) -> None:
    @router.get("/api/tickets/{ticket_id}/link", operation_id="getLink")
    def get_link(ticket_id: TicketId, request: Request) -> LinkOut:
        return links.view(ticket_id, str(request.base_url))

    @router.post("/api/tickets/{ticket_id}/link", operation_id="openLink", status_code=201)
    def open_link(ticket_id: TicketId, by: ByIn, request: Request) -> LinkOut:
        links.sessions.open(ticket_id, by=by.by)
        return links.view(ticket_id, str(request.base_url))

    @router.delete("/api/tickets/{ticket_id}/link", operation_id="endLink")
    def end_link(ticket_id: TicketId, request: Request) -> LinkOut:
        links.end(ticket_id)
        return links.view(ticket_id, str(request.base_url))

    @router.post("/api/tickets/{ticket_id}/orders", operation_id="putOrder", status_code=201)
    def put_order(ticket_id: TicketId, order: OrderIn, request: Request) -> LinkOut:
        links.orders.give(ticket_id, order.model_dump(exclude={"by"}, exclude_none=True), by=order.by)
        return links.view(ticket_id, str(request.base_url))

    @router.post("/api/tickets/{ticket_id}/orders/{order_id}", operation_id="steerOrder")
    def steer_order(ticket_id: TicketId, order_id: int, steer: SteerIn, request: Request) -> LinkOut:
        links.control(ticket_id, order_id, steer.do)
        return links.view(ticket_id, str(request.base_url))


def _copies(router: APIRouter, links: Links) -> None:
    @router.get("/api/tickets/{ticket_id}/copies", operation_id="getCopies")
    def get_copies(ticket_id: TicketId) -> list[CopyOut]:
        return [
            CopyOut(order=c.order, path=str(c.path), size=c.size, used=c.used)
            for c in links.copies.of_ticket(ticket_id)
        ]

    @router.delete("/api/tickets/{ticket_id}/copies/{order_id}", operation_id="removeCopy")
    def remove_copy(ticket_id: TicketId, order_id: int) -> list[CopyOut]:
        links.copies.remove(ticket_id, order_id)
        return get_copies(ticket_id)


def _filling(router: APIRouter, links: Links) -> None:
    @router.get("/api/tickets/{ticket_id}/copies/{order_id}/targets", operation_id="getTargets")
    def get_targets(ticket_id: TicketId, order_id: int) -> list[TargetOut]:
        return links.restores.targets(ticket_id, order_id)

    @router.get("/api/tickets/{ticket_id}/copies/{order_id}/opens", operation_id="getOpens")
    def get_opens(ticket_id: TicketId, order_id: int) -> list[str]:
        return links.restores.opens(ticket_id, order_id)

    @router.post("/api/tickets/{ticket_id}/copies/{order_id}/fill", operation_id="fillDrive", status_code=201)
    def fill_drive(ticket_id: TicketId, order_id: int, said: FillIn, request: Request) -> LinkOut:
        links.restores.fill(
            ticket_id,
            order_id,
            said.device,
            said.ends,
            holes=said.holes,
            over=said.over,
            by=said.by,
            serial=said.serial,
            opened=said.opened,
        )
        return links.view(ticket_id, str(request.base_url))

    @router.get("/api/link/image", operation_id="linkImage")
    def get_image(
        session: str,
        order: str,
        at: Annotated[int, Query(ge=0)],
        length: Annotated[int, Query(ge=1, le=LARGEST_PIECE)],
        secret: Secret,
    ) -> Response:
        data, zeros = links.restores.piece(secret, session, order, at, length)
        if data is None:
            return Response(status_code=200, headers={"X-Zeros": str(zeros)})
        return Response(
            data, media_type="application/octet-stream", headers={"X-Sha256": hashlib.sha256(data).hexdigest()}
        )


def _for_the_probe(router: APIRouter, links: Links) -> None:
    @router.post("/api/link/hello", operation_id="linkHello")
    def hello(said: HelloIn, secret: Secret) -> dict[str, Any]:
        return links.orders.hello(secret, said.protocol, said.probe, said.machine, said.session, said.has)

    @router.get("/api/link/orders", operation_id="linkOrders")
    def orders(session: str, secret: Secret) -> dict[str, Any]:
        return links.orders.hand_out(secret, session)

    @router.get("/api/link/map", operation_id="linkMap")
    def known_map(session: str, order: str, secret: Secret) -> dict[str, Any]:
        return links.orders.map_so_far(secret, session, order)

    @router.get("/api/link/said", operation_id="linkSaid")
    def said(session: str, secret: Secret) -> dict[str, Any]:
        return links.orders.verdicts(secret, session)

    @router.get("/api/link/wanted", operation_id="linkWanted")
    def wanted(session: str, order: str, secret: Secret, ahead: bool = False) -> dict[str, Any]:
        return links.orders.next_ranges(secret, session, order, ahead=ahead)

    @router.post("/api/link/unread", operation_id="linkUnread")
    def unread(said: UnreadIn, secret: Secret) -> dict[str, Any]:
        return links.orders.report_unreadable(
            secret, said.session, said.order, said.first, said.count, careful=said.careful
        )

    @router.post("/api/link/copy", operation_id="linkBeginCopy")
    def begin_copy(said: BeginCopyIn, secret: Secret) -> dict[str, Any]:
        return links.copies.begin(secret, said.session, said.order, said.size)

    @router.put("/api/link/copy", operation_id="linkCopy")
    async def copy_piece(
        request: Request,
        session: str,
        order: str,
        at: Annotated[int, Query(ge=0)],
        secret: Secret,
        sha256: str = "",
        zeros: Annotated[int, Query(ge=0)] = 0,
        blake2: str = "",
        crc: Annotated[int | None, Query(ge=0)] = None,
    ) -> dict[str, Any]:
        # as they came: joining them would be one more copy of it all
        parts = [part async for part in request.stream() if part]
        return await run_in_threadpool(
            links.orders.receive, secret, session, order, at, parts, blake2 if crc is not None else sha256, zeros, crc
        )

    @router.post("/api/link/pages", operation_id="linkPage")
    def page(page: PageIn, secret: Secret) -> dict[str, Any]:
        return links.pages.page(secret, page)

    @router.post("/api/link/progress", operation_id="linkProgress")
    def progress(progress: ProgressIn, secret: Secret) -> dict[str, Any]:
        return links.orders.progress(secret, progress)

    @router.post("/api/link/done", operation_id="linkDone")
    def done(said: DoneIn, secret: Secret) -> dict[str, Any]:
        return links.pages.done(secret, said)
