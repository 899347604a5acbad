"""Routes of the page about disk room."""

from __future__ import annotations

from fastapi import APIRouter

from gatecheck.server.room.service import Room
from gatecheck.server.room.wire import RoomOut
from gatecheck.server.wire import ByIn, TicketId


def room_routes(room: Room) -> APIRouter:
    router = APIRouter(prefix="/api/room")

    @router.get("", operation_id="getRoom")
    def get_room() -> RoomOut:
        return room.view()

    @router.post("/{ticket_id}", operation_id="makeRoom")
    def make_room(ticket_id: TicketId, request: ByIn) -> RoomOut:
        return room.make(ticket_id, by=request.by)

    return router
