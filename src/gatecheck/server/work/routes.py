"""Routes of carrying out."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path
from fastapi.responses import PlainTextResponse

from gatecheck.server.tickets.wire import TicketOut
from gatecheck.server.wire import LARGEST_ID, TicketId
from gatecheck.server.work.service import Work
from gatecheck.server.work.wire import (
    AnswerIn,
    BackIn,
    GroupIn,
    PartIn,
    PartsOut,
    ShelfIn,
    ShelfOut,
    StepByIn,
    WaiveIn,
    WorkOut,
)

StepId = Annotated[str, Path(max_length=60)]
Number = Annotated[int, Path(ge=0, le=LARGEST_ID)]


def work_routes(work: Work) -> APIRouter:
    router = APIRouter(prefix="/api")

    @router.get("/tickets/{ticket_id}/work", operation_id="getWork")
    def get_work(ticket_id: TicketId) -> WorkOut:
        return work.view(ticket_id)

    @router.post("/tickets/{ticket_id}/steps/{step}", operation_id="answerStep", status_code=201)
    def answer_step(ticket_id: TicketId, step: StepId, request: AnswerIn) -> TicketOut:
        return work.answer(ticket_id, step, request.answer, request.value, by=request.by, key=request.key)

    @router.post("/tickets/{ticket_id}/steps/{step}/waive", operation_id="waiveStep", status_code=201)
    def waive_step(ticket_id: TicketId, step: StepId, request: WaiveIn) -> TicketOut:
        return work.waive(ticket_id, step, request.reason, by=request.by, key=request.key)

    @router.post("/tickets/{ticket_id}/steps/{step}/first", operation_id="bringForward", status_code=201)
    def bring_forward(ticket_id: TicketId, step: StepId, request: StepByIn) -> TicketOut:
        return work.bring_forward(ticket_id, step, by=request.by, key=request.key)

    @router.post("/tickets/{ticket_id}/tray", operation_id="takeOut", status_code=201)
    def take_out(ticket_id: TicketId, request: GroupIn) -> TicketOut:
        return work.take_out(ticket_id, request.model_dump(), by=request.by, key=request.key)

    @router.post("/tickets/{ticket_id}/tray/{entry}/back", operation_id="putBack", status_code=201)
    def put_back(ticket_id: TicketId, entry: Number, request: BackIn) -> TicketOut:
        return work.put_back(ticket_id, entry, request.missing, by=request.by, key=request.key)

    @router.get("/tickets/{ticket_id}/parts", operation_id="getParts")
    def get_parts(ticket_id: TicketId) -> PartsOut:
        return work.parts(ticket_id)

    @router.post("/tickets/{ticket_id}/part", operation_id="choosePart", status_code=201)
    def choose_part(ticket_id: TicketId, request: PartIn) -> TicketOut:
        return work.choose(ticket_id, request)

    @router.get("/shelf", operation_id="getShelf")
    def get_shelf() -> ShelfOut:
        return work.shelf_view()

    @router.get("/shelf.csv", operation_id="exportShelf", response_class=PlainTextResponse)
    def export_shelf() -> PlainTextResponse:
        headers = {"Content-Disposition": 'attachment; filename="shelf.csv"'}
        return PlainTextResponse(work.shelf_csv(), media_type="text/csv; charset=utf-8", headers=headers)

    @router.post("/shelf", operation_id="importShelf", status_code=201)
    def import_shelf(request: ShelfIn) -> ShelfOut:
        return work.bring_in(request.csv)

    @router.delete("/shelf/{entry}", operation_id="removeFromShelf")
    def remove_from_shelf(entry: Number) -> ShelfOut:
        return work.remove(entry)

    return router
