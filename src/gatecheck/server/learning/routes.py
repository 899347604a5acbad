"""Routes of handing over and learning."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from gatecheck.server.learning.service import Learning
from gatecheck.server.learning.wire import GuessOut, HandOverIn, LearningOut
from gatecheck.server.tickets.wire import TicketOut
from gatecheck.server.wire import ByIn, TicketId


def learning_routes(learning: Learning) -> APIRouter:
    router = APIRouter(prefix="/api")

    @router.post("/tickets/{ticket_id}/handover", operation_id="handOver")
    def hand_over(ticket_id: TicketId, request: HandOverIn | None = None) -> TicketOut:
        given = request or HandOverIn()
        return learning.hand_over(ticket_id, given.proven, by=given.by, waive=given.waive)

    @router.post("/tickets/{ticket_id}/reopen", operation_id="reopen")
    def reopen(ticket_id: TicketId, by: Annotated[str, Query(max_length=20)] = "?") -> TicketOut:
        return learning.reopen(ticket_id, by=by)

    @router.get("/tickets/{ticket_id}/guesses", operation_id="getGuesses")
    def get_guesses(ticket_id: TicketId) -> list[GuessOut]:
        return learning.guesses(ticket_id)

    @router.get("/learning", operation_id="getLearning")
    def get_learning() -> LearningOut:
        return learning.learning()

    @router.post("/learning/reset", operation_id="resetLearning")
    def reset_learning(request: ByIn) -> LearningOut:
        return learning.reset(by=request.by)

    return router
