"""Routes of the bench: rows, search, words, events."""

from __future__ import annotations

from fastapi import APIRouter
from fastapi.responses import StreamingResponse

from gatecheck.server.bench.service import BenchView, words_of
from gatecheck.server.bench.wire import BenchOut, FoundOut, KnownOut, WordsOut
from gatecheck.server.events import Events


def bench_routes(bench: BenchView, events: Events) -> APIRouter:
    router = APIRouter(prefix="/api")
    words = words_of(bench.shop.model.knowledge)

    @router.get("/bench", operation_id="getBench")
    def get_bench() -> BenchOut:
        return bench.overview()

    @router.get("/words", operation_id="getWords")
    def get_words() -> WordsOut:
        return words

    @router.get("/find", operation_id="findTickets")
    def find_tickets(text: str = "") -> list[FoundOut]:
        return bench.find(text)

    @router.get("/known", operation_id="getKnown")
    def get_known(customer: str = "", machine: str = "") -> KnownOut:
        return bench.known(customer, machine)

    @router.get("/events", operation_id="getEvents", response_class=StreamingResponse)
    async def get_events() -> StreamingResponse:
        headers = {"Cache-Control": "no-store", "X-Accel-Buffering": "no"}
        events.check_room()
        return StreamingResponse(events.stream(), media_type="text/event-stream", headers=headers)

    return router
