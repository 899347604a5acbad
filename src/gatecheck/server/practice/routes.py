"""Routes of the practice bench."""

from __future__ import annotations

from fastapi import APIRouter, Request

from gatecheck.practice.patients import PATIENTS, level_of
from gatecheck.server.link.wire import LinkOut
from gatecheck.server.practice.service import Practice
from gatecheck.server.practice.wire import PatientOut, PracticeIn
from gatecheck.server.tickets.wire import TicketOut
from gatecheck.server.wire import TicketId


def practice_routes(practice: Practice) -> APIRouter:
    router = APIRouter(prefix="/api")

    @router.post("/tickets/{ticket_id}/practice", operation_id="connectPractice", status_code=201)
    def connect_practice(ticket_id: TicketId, wanted: PracticeIn, request: Request) -> LinkOut:
        practice.connect(ticket_id, wanted.machine, by=wanted.by)
        return practice.links.view(ticket_id, str(request.base_url))

    @router.get("/practice", operation_id="getPatients")
    def get_patients() -> list[PatientOut]:
        return [
            PatientOut(id=p.id, title=p.title, machine=p.machine, words=p.words, level=level_of(p)) for p in PATIENTS
        ]

    @router.post("/practice", operation_id="takeInPractice", status_code=201)
    def take_in_practice(wanted: PracticeIn) -> TicketOut:
        return practice.take_in(wanted.machine, bay=wanted.bay, by=wanted.by)

    return router
