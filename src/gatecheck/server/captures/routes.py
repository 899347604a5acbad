"""Routes of a ticket's files."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, File, Form, Query, UploadFile
from fastapi.responses import Response

from gatecheck.server.captures.service import Captures
from gatecheck.server.captures.wire import CaptureOut, RawOut, WeighIn
from gatecheck.server.tickets.wire import TicketOut
from gatecheck.server.wire import LARGEST_ID, By, TicketId
from gatecheck.store import StoreError


def capture_routes(captures: Captures) -> APIRouter:
    router = APIRouter(prefix="/api")
    files = captures.shop.files

    @router.post("/tickets/{ticket_id}/files", operation_id="addFile", status_code=201)
    def add_file(ticket_id: TicketId, file: Annotated[UploadFile, File()], by: Annotated[By, Form()]) -> CaptureOut:
        data = file.file.read(files.largest + 1)
        if len(data) > files.largest:
            raise StoreError(f"{file.filename}: expected at most {files.largest >> 20} MiB, got more")
        return captures.add_file(ticket_id, file.filename or "file", data, by=by)

    @router.get("/tickets/{ticket_id}/captures", operation_id="getCaptures")
    def get_captures(ticket_id: TicketId) -> list[CaptureOut]:
        return captures.captures(ticket_id)

    @router.post("/tickets/{ticket_id}/captures", operation_id="weighCapture", status_code=201)
    def weigh_capture(ticket_id: TicketId, request: WeighIn) -> TicketOut:
        return captures.weigh(ticket_id, request.sha256, request.device, by=request.by)

    @router.get("/tickets/{ticket_id}/captures/{sha256}/raw", operation_id="getRaw")
    def get_raw(
        ticket_id: TicketId, sha256: str, path: str, at: Annotated[int | None, Query(ge=0, le=LARGEST_ID)] = None
    ) -> RawOut:
        return captures.raw(ticket_id, sha256, path, at)

    @router.get("/files/{sha256}", operation_id="getFile", response_class=Response)
    def get_file(sha256: str) -> Response:
        headers = {
            "Content-Disposition": f'attachment; filename="{sha256[:12]}.bin"',
            "X-Content-Type-Options": "nosniff",
        }
        return Response(files.get(sha256), media_type="application/octet-stream", headers=headers)

    return router
