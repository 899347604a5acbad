"""Routes of the Ear instrument."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, File, Form, Path, UploadFile
from fastapi.responses import Response

from gatecheck.server.ear.service import LARGEST, Ear
from gatecheck.server.ear.wire import EarOut, ReadyIn
from gatecheck.server.tickets.wire import TicketOut
from gatecheck.server.wire import By, ByIn, TicketId
from gatecheck.store import StoreError

Digest = Annotated[str, Path(pattern="^[0-9a-f]{64}$")]
_KINDS = {"sound": "audio/wav", "supply": "text/csv; charset=utf-8"}


def ear_routes(ear: Ear) -> APIRouter:
    router = APIRouter(prefix="/api")

    @router.get("/tickets/{ticket_id}/ear", operation_id="getEar")
    def get_ear(ticket_id: TicketId) -> EarOut:
        return ear.view(ticket_id)

    @router.post("/tickets/{ticket_id}/recordings", operation_id="addRecording", status_code=201)
    def add_recording(
        ticket_id: TicketId,
        file: Annotated[UploadFile, File()],
        by: Annotated[By, Form()],
        key: Annotated[str | None, Form(max_length=80)] = None,
    ) -> TicketOut:
        data = file.file.read(LARGEST + 1)
        if len(data) > LARGEST:
            raise StoreError(
                f"{(file.filename or 'recording')[:80]}: expected at most {LARGEST >> 20} MiB, about two minutes "
                f"of "
                f"sound, got more"
            )
        return ear.add(ticket_id, file.filename or "recording", data, by=by, key=key)

    @router.get("/tickets/{ticket_id}/recordings/{sha256}", operation_id="getRecording", response_class=Response)
    def get_recording(ticket_id: TicketId, sha256: Digest) -> Response:
        own, data = ear.file(ticket_id, sha256)
        return Response(
            data,
            media_type=_KINDS[own.kind],
            headers={"Cache-Control": "private, max-age=86400", "X-Content-Type-Options": "nosniff"},
        )

    @router.post("/tickets/{ticket_id}/recordings/practice", operation_id="recordPractice", status_code=201)
    def record_practice(ticket_id: TicketId, said: ByIn) -> TicketOut:
        return ear.from_practice(ticket_id, by=said.by)

    @router.post("/tickets/{ticket_id}/ready", operation_id="putReady", status_code=201)
    def put_ready(ticket_id: TicketId, said: ReadyIn) -> TicketOut:
        return ear.ready(ticket_id, said.seconds, said.waited, by=said.by)

    @router.get("/ear/references/{kind}", operation_id="getReference", response_class=Response)
    def get_reference(kind: str) -> Response:
        return Response(ear.reference(kind), media_type="audio/wav", headers={"Cache-Control": "public, max-age=86400"})

    return router
