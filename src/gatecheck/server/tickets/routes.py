"""Routes of tickets."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any

from fastapi import APIRouter, Query

from gatecheck.core.errors import TapeError
from gatecheck.core.tape.parse import PARSERS
from gatecheck.server.tickets.service import Tickets
from gatecheck.server.tickets.wire import BayIn, EntryIn, HowOut, SheetOut, TermsIn, TicketIn, TicketOut
from gatecheck.server.wire import TicketId

ONLY_BY_WORK = {"step", "waive", "first", "out", "back", "part", "picture", "reopened"}
"""entries that are checked against the job, the tray, the shelf and the files before they are kept"""
_CLIENT_KEYS = {
    *(PARSERS.keys() - ONLY_BY_WORK),
    "outcome",
    "weights",
    "found",
    "before",
    "after",
    "reason",
    "minutes",
    "opens",
    "code",
    "worked",
    "value",
    "at",
    "walk",
    "fix",
    "says",
    "evidence",
}
"""what a browser may say of an entry; on what it rests, and with what odds it was signed, the server says itself"""


def client_entries(entries: Sequence[Mapping[str, Any]]) -> None:
    """Raises TapeError for an entry that says more than a person can."""
    for place, entry in enumerate(entries):
        more = sorted(map(str, entry.keys() - _CLIENT_KEYS))
        if more:
            raise TapeError(
                f"entry {place}", expected=f"nothing but {', '.join(sorted(_CLIENT_KEYS))}", got=", ".join(more)[:200]
            )


def ticket_routes(tickets: Tickets) -> APIRouter:
    """Taking in, reading, appending, moving, the call sheet."""
    router = APIRouter(prefix="/api/tickets")

    @router.post("", operation_id="takeIn", status_code=201)
    def take_in(ticket: TicketIn) -> TicketOut:
        client_entries(ticket.entries)
        return tickets.take_in(**ticket.model_dump())

    @router.get("/{ticket_id}", operation_id="getTicket")
    def get_ticket(ticket_id: TicketId) -> TicketOut:
        return tickets.ticket(ticket_id)

    @router.post("/{ticket_id}/entries", operation_id="appendEntry", status_code=201)
    def append_entry(ticket_id: TicketId, request: EntryIn) -> TicketOut:
        given = request.entries if request.entry is None else [request.entry, *request.entries]
        if not given:
            raise TapeError("entry", expected="an entry, or several", got="none")
        client_entries(given)
        keys = [
            None if request.key is None else request.key if n == 0 else f"{request.key}.{n}" for n in range(len(given))
        ]
        return tickets.append_all(ticket_id, list(zip(given, keys, strict=True)), by=request.by)

    @router.get("/{ticket_id}/ways", operation_id="getWays")
    def get_ways(ticket_id: TicketId, move: Annotated[str, Query(max_length=60)] = "") -> list[HowOut]:
        return tickets.ways(ticket_id, move)

    @router.put("/{ticket_id}/bay", operation_id="moveToBay")
    def move_to_bay(ticket_id: TicketId, request: BayIn) -> TicketOut:
        return tickets.move_to_bay(ticket_id, request.bay)

    @router.post("/{ticket_id}/sheet", operation_id="getSheet")
    def get_sheet(ticket_id: TicketId, request: TermsIn) -> SheetOut:
        return tickets.sheet(ticket_id, request.terms)

    return router
