"""Routes of the instruments."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from gatecheck.core.tape.parse import LONGEST_CODE
from gatecheck.server.instruments.service import Instruments
from gatecheck.server.instruments.wire import BookModelOut, CodesOut, KeysOut, SettingsOut, SightingsOut
from gatecheck.server.wire import TicketId


def instrument_routes(instruments: Instruments) -> APIRouter:
    router = APIRouter(prefix="/api")

    @router.get("/tickets/{ticket_id}/settings", operation_id="getSettings")
    def get_settings(ticket_id: TicketId) -> SettingsOut:
        return instruments.settings(ticket_id)

    @router.get("/tickets/{ticket_id}/sightings", operation_id="getSightings")
    def get_sightings(ticket_id: TicketId) -> SightingsOut:
        return instruments.sightings(ticket_id)

    @router.get("/tickets/{ticket_id}/keys", operation_id="getTicketKeys")
    def get_ticket_keys(ticket_id: TicketId) -> KeysOut:
        return instruments.keys_of_ticket(ticket_id)

    @router.get("/tickets/{ticket_id}/codes", operation_id="getCodes")
    def get_codes(ticket_id: TicketId, code: Annotated[str, Query(max_length=LONGEST_CODE)] = "") -> CodesOut:
        return instruments.codes(ticket_id, code)

    @router.get("/keys", operation_id="getKeys")
    def get_keys(machine: str, platform: str = "pc") -> KeysOut:
        return instruments.keys(machine, platform)

    @router.get("/keys/models", operation_id="getBook")
    def get_book() -> list[BookModelOut]:
        return instruments.book()

    return router
