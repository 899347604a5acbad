"""Routes of a ticket's files."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, File, Form, UploadFile
from fastapi.responses import Response

from gatecheck.server.captures.service import Captures
from gatecheck.server.captures.wire import CaptureOut, RawOut, WeighIn
from gatecheck.server.tickets.wire import TicketOut
from gatecheck.store import StoreError


def capture_routes(captures: Captures) -> APIRouter:
    router = APIRouter(prefix="/api")
    files = captures.shop.files

    @router.post("/tickets/{ticket_id}/files", operation_id="addFile", status_code=201)
    def add_file(
        ticket_id: int, file: Annotated[UploadFile, File()], by: Annotated[str, Form(min_length=1, max_length=20)]
    ) -> CaptureOut:
        data = file.file.read(files.largest + 1)
        if len(data) > files.largest:
            raise StoreError(f"{file.filename}: expected at most {files.largest >> 20} MiB, got more")
        return captures.add_file(ticket_id, file.filename or "file", data, by=by)

    @router.get("/tickets/{ticket_id}/captures", operation_id="getCaptures")
    def get_captures(ticket_id: int) -> list[CaptureOut]:
        return captures.captures(ticket_id)

    @router.post("/tickets/{ticket_id}/captures", operation_id="weighCapture", status_code=201)
    def weigh_capture(ticket_id: int, request: WeighIn) -> TicketOut:
        return captures.weigh(ticket_id, request.sha256, request.device, by=request.by)

    @router.get("/tickets/{ticket_id}/captures/{sha256}/raw", operation_id="getRaw")
    def get_raw(ticket_id: int, sha256: str, path: str, at: int | None = None) -> RawOut:
        return captures.raw(ticket_id, sha256, path, at)

    @router.get("/files/{sha256}", operation_id="getFile", response_class=Response)
    def get_file(sha256: str) -> Response:
        headers = {"Content-Disposition": f'attachment; filename="{sha256[:12]}.bin"', "X-Content-Type-Options": "nosniff"}
        return Response(files.get(sha256), media_type="application/octet-stream", headers=headers)

    return router
