"""Routes of the bench: rows, search, words, events."""

from __future__ import annotations

from fastapi import APIRouter, Request
from fastapi.responses import StreamingResponse

from gatecheck.server.bench.service import BenchView, words_of
from gatecheck.server.bench.wire import BenchOut, FoundOut, KnownOut, WordsOut
from gatecheck.server.events import Events
from gatecheck.server.people.devices import Devices


def bench_routes(bench: BenchView, events: Events, devices: Devices) -> APIRouter:
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
    async def get_events(request: Request) -> StreamingResponse:
        own = getattr(request.state, "device", None)
        headers = {"Cache-Control": "no-store", "X-Accel-Buffering": "no"}
        events.check_room()
        return StreamingResponse(
            events.stream(lambda: own is None or devices.is_paired(own)),
            media_type="text/event-stream",
            headers=headers,
        )

    return router
