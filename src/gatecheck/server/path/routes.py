"""Routes of the Path instrument."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from gatecheck.server.path.service import Paths
from gatecheck.server.path.wire import MendIn, PathOut, ReadPathIn, TakeBackIn
from gatecheck.server.wire import TicketId

Name = Annotated[str, Query(max_length=40)]
Mode = Annotated[str, Query(pattern="^(|uefi|bios)$")]


def path_routes(paths: Paths) -> APIRouter:
    router = APIRouter(prefix="/api/tickets/{ticket_id}/path")

    @router.get("", operation_id="getPath")
    def get_path(ticket_id: TicketId, device: Name = "", mode: Mode = "") -> PathOut:
        return paths.view(ticket_id, device, mode)

    @router.post("/read", operation_id="readPath", status_code=201)
    def read_path(ticket_id: TicketId, said: ReadPathIn) -> PathOut:
        paths.read(ticket_id, said.device, by=said.by)
        return paths.view(ticket_id, said.device)

    @router.post("/mend", operation_id="mendPath", status_code=201)
    def mend_path(ticket_id: TicketId, said: MendIn) -> PathOut:
        paths.mend(ticket_id, said.device, said.plan, said.mode, by=said.by)
        return paths.view(ticket_id, said.device, said.mode)

    @router.post("/take-back", operation_id="takeBackMend", status_code=201)
    def take_back(ticket_id: TicketId, said: TakeBackIn) -> PathOut:
        paths.take_back(ticket_id, said.order, by=said.by)
        return paths.view(ticket_id)

    return router
