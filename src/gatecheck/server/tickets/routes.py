"""Routes of tickets."""

from __future__ import annotations

from fastapi import APIRouter

from gatecheck.core.errors import TapeError
from gatecheck.server.tickets.service import Tickets
from gatecheck.server.tickets.wire import BayIn, EntryIn, SheetOut, TermsIn, TicketIn, TicketOut


def ticket_routes(tickets: Tickets) -> APIRouter:
    """Taking in, reading, appending, moving, the call sheet."""
    router = APIRouter(prefix="/api/tickets")

    @router.post("", operation_id="takeIn", status_code=201)
    def take_in(ticket: TicketIn) -> TicketOut:
        return tickets.take_in(**ticket.model_dump())

    @router.get("/{ticket_id}", operation_id="getTicket")
    def get_ticket(ticket_id: int) -> TicketOut:
        return tickets.ticket(ticket_id)

    @router.post("/{ticket_id}/entries", operation_id="appendEntry", status_code=201)
    def append_entry(ticket_id: int, request: EntryIn) -> TicketOut:
        given = request.entries if request.entry is None else [request.entry, *request.entries]
        if not given:
            raise TapeError("entry", expected="an entry, or several", got="none")
        keys = [None if request.key is None else request.key if n == 0 else f"{request.key}.{n}" for n in range(len(given))]
        return tickets.append_all(ticket_id, list(zip(given, keys, strict=True)), by=request.by)

    @router.put("/{ticket_id}/bay", operation_id="moveToBay")
    def move_to_bay(ticket_id: int, request: BayIn) -> TicketOut:
        return tickets.move_to_bay(ticket_id, request.bay)

    @router.post("/{ticket_id}/sheet", operation_id="getSheet")
    def get_sheet(ticket_id: int, request: TermsIn) -> SheetOut:
        return tickets.sheet(ticket_id, request.terms)

    return router
