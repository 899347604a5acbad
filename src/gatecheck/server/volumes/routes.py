"""Routes of the Volume instrument."""

from __future__ import annotations

import base64
from typing import Annotated

from fastapi import APIRouter, Path, Query, Request
from fastapi.responses import StreamingResponse

from gatecheck.adapters.desktop import has_desktop, open_folder
from gatecheck.core.errors import InputError
from gatecheck.server.request_guard import is_here
from gatecheck.server.volumes.service import Volumes
from gatecheck.server.volumes.wire import (
    KeyIn,
    LivesAtOut,
    LookIn,
    RecordsOut,
    RepairIn,
    RescueIn,
    TakeBackRepairIn,
    VolumesOut,
)
from gatecheck.server.wire import TicketId
from gatecheck.store import StoreError

Name = Annotated[str, Query(max_length=60)]
Lbas = Annotated[list[Annotated[int, Query(ge=0, lt=1 << 48)]], Query(max_length=64)]
RescueName = Annotated[str, Path(pattern=r"^[A-Za-z0-9-]{1,60}$")]
First = Annotated[int | None, Query(ge=0)]


def volume_routes(volumes: Volumes) -> APIRouter:
    router = APIRouter(prefix="/api/tickets/{ticket_id}/volumes")

    @router.get("", operation_id="getVolumes")
    def get_volumes(ticket_id: TicketId, source: Name = "", first: First = None) -> VolumesOut:
        return volumes.view(ticket_id, source, first)

    @router.get("/where", operation_id="livesAt")
    def where(ticket_id: TicketId, device: Name, lba: Lbas) -> list[LivesAtOut]:
        return volumes.where(ticket_id, device, lba)

    @router.post("/look", operation_id="lookAtVolume", status_code=201)
    def look(ticket_id: TicketId, said: LookIn) -> VolumesOut:
        volumes.look(ticket_id, said.source, said.first, by=said.by)
        return volumes.view(ticket_id, said.source, said.first)

    @router.get("/records", operation_id="getRecords")
    def get_records(ticket_id: TicketId, source: Name, first: Annotated[int, Query(ge=0)]) -> RecordsOut | None:
        return volumes.records(ticket_id, source, first)

    @router.post("/records", operation_id="readRecords", status_code=201)
    def read_records(ticket_id: TicketId, said: LookIn) -> VolumesOut:
        volumes.read_records(ticket_id, said.source, said.first, by=said.by)
        return volumes.view(ticket_id, said.source, said.first)

    @router.post("/key", operation_id="unlockVolume", status_code=201)
    def unlock(ticket_id: TicketId, said: KeyIn) -> VolumesOut:
        try:
            raw = base64.b64decode(said.file, validate=True) if said.file else said.key.strip().encode()
        except ValueError as error:
            raise InputError("key file: expected base64, got something else") from error
        volumes.unlock(ticket_id, said.source, said.first, raw, by=said.by)
        return volumes.view(ticket_id, said.source, said.first)

    @router.delete("/key", operation_id="forgetVolumeKey")
    def forget_key(ticket_id: TicketId, source: Name = "", first: First = None) -> VolumesOut:
        volumes.forget_key(ticket_id)
        return volumes.view(ticket_id, source, first)

    @router.post("/repair", operation_id="repairVolume", status_code=201)
    def repair(ticket_id: TicketId, said: RepairIn) -> VolumesOut:
        volumes.repair(ticket_id, said.source, said.first, said.groups, by=said.by)
        return volumes.view(ticket_id, said.source, said.first)

    @router.post("/take-back", operation_id="takeBackRepair", status_code=201)
    def take_back(ticket_id: TicketId, said: TakeBackRepairIn) -> VolumesOut:
        volumes.take_back(ticket_id, said.source, said.first, said.id, by=said.by)
        return volumes.view(ticket_id, said.source, said.first)

    @router.post("/rescue", operation_id="rescueFiles", status_code=201)
    def rescue(ticket_id: TicketId, said: RescueIn) -> VolumesOut:
        volumes.rescue(
            ticket_id, said.source, said.first, said.only, deleted=said.deleted, is_all=said.is_all, by=said.by
        )
        return volumes.view(ticket_id, said.source, said.first)

    @router.get("/rescues/{name}.zip", operation_id="getRescueZip", response_class=StreamingResponse)
    def rescue_zip(ticket_id: TicketId, name: RescueName) -> StreamingResponse:
        filename, pieces = volumes.zipped(ticket_id, name)
        headers = {"Content-Disposition": f'attachment; filename="{filename}"', "X-Content-Type-Options": "nosniff"}
        return StreamingResponse(pieces, media_type="application/zip", headers=headers)

    @router.post("/rescues/{name}/open", operation_id="openRescueFolder", status_code=204)
    def open_rescue(ticket_id: TicketId, name: RescueName, request: Request) -> None:
        folder = volumes.saved(ticket_id, name)
        if not (is_here(request.scope) and has_desktop()):
            raise StoreError(f"folder {folder}: it opens only on the screen of the computer that the server runs on")
        open_folder(folder)

    return router
