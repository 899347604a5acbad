"""Orders that read a volume turn by turn, or write to it: what the probe is to read next, and what an order that has
ended comes to."""

from __future__ import annotations

import base64
import logging
from collections.abc import Callable, Sequence
from typing import Any

from gatecheck.core.errors import GateCheckError
from gatecheck.core.instruments.evidence import noted
from gatecheck.core.volume.check import Report
from gatecheck.core.volume.evidence import FACT, repair_says, volume_says
from gatecheck.core.volume.gather import CheckResult
from gatecheck.server.captures.service import ELSEWHERE
from gatecheck.server.link.orders import BY
from gatecheck.server.volumes import check_reports
from gatecheck.server.volumes.jobs import BackgroundTask
from gatecheck.server.volumes.locate import SourceVolume
from gatecheck.server.volumes.partial_image import BAD_SECTOR, RETRY, UNKNOWN
from gatecheck.server.volumes.rescues import FAILED, PAUSED, STOPPED, Rescues
from gatecheck.server.volumes.volume_work import MOST_NAMED, MOVES, VolumeWork
from gatecheck.server.volumes.worker_tasks import ReadRequest
from gatecheck.store import StoreError, links
from gatecheck.store.files import attachments
from gatecheck.store.links import Order

_log = logging.getLogger(__name__)
_WAIT_SECONDS = 1.5
"""how long a probe's question waits for an answer before it is to ask again"""


def _what(order: Order) -> str:
    """What an order does with its volume: look, records, rescue."""
    if order.body["order"] != "volume":
        return str(order.body["order"])
    return "records" if order.body.get("kind") == "records" else "look"


class VolumeOrders:
    """What the probe and the end of an order have to do with the volumes that `work` knows."""

    def __init__(self, work: VolumeWork) -> None:
        self.work = work
        self._owned: dict[tuple[int, str], SourceVolume] = {}

    def _own(self, ticket_id: int, order: Order, session_id: str) -> SourceVolume:
        """The volume of an order; known by heart, for it is asked with every piece. Raises NotFoundError,
        StoreError."""
        known = self._owned.get((order.id, session_id))
        if known is not None:
            return known
        own = self.work.locator.volume(ticket_id, str(order.body["disk"]), int(order.body["first"]))
        if session_id[:16] not in own.ground.image:
            raise StoreError(f"order {order.id}: expected the newest start of the probe, got an earlier one")
        self._owned = {(order.id, session_id): own, **dict(list(self._owned.items())[:MOST_NAMED])}
        return own

    def next_ranges(self, ticket_id: int, order: Order, session_id: str, *, ahead: bool = False) -> dict[str, Any]:
        """What to read next; the answer is worked out beside, and a probe that asks before it is there asks again."""
        own = self._own(ticket_id, order, session_id)
        job = self.work.tasks.get((ticket_id, own.source, own.first))
        if job is None or job.order != order.id or (job.ended.is_set() and job.result is None):
            done, of = (job.done, job.of) if job is not None and job.order == order.id else (0, 0)
            self.work.parts.settle(own.ground)
            job = self.work.begin(ticket_id, own, _what(order), order.id)
            job.done, job.of = done, of
            job.run(
                self._look_turn(ticket_id, own)
                if job.what == "look"
                else (lambda: self.work.records(ticket_id, own))
                if job.what == "records"
                else self._rescue_turn(ticket_id, own, order, job, ahead=ahead)
            )
        if not job.ended.wait(_WAIT_SECONDS):
            return {"ranges": [], "wait": 0.2}
        if job.problem:
            raise StoreError(f"volume: {job.problem}")
        wants: ReadRequest = job.result if job.what == "rescue" else job.result[1]
        if not wants.runs and not wants.again:
            return {"ranges": []}
        job.result = None  # the next question is another turn
        if job.what == "rescue":
            self._copy_meanwhile(ticket_id, own, order)
        else:
            job.of = max(job.of, job.done + sum(n for _, n in wants.runs) * own.ground.sector)
        is_ahead = job.what == "rescue" and bool(wants.runs) and wants.files > 0 and not wants.careful
        return {
            "ranges": [list(run) for run in wants.runs],
            "careful": wants.careful,
            "done": job.done,
            "of": job.of,
            **({"wait": 0.01} if wants.again else {}),
            **({"ahead": True} if is_ahead else {}),
        }

    def _look_turn(self, ticket_id: int, own: SourceVolume) -> Callable[[], Any]:
        return lambda: self.work.worker.run("look", own.ground, own.first, own.last, self.work.keys.of(ticket_id))

    def _rescue_turn(
        self, ticket_id: int, own: SourceVolume, order: Order, job: BackgroundTask, *, ahead: bool
    ) -> Callable[[], Any]:
        return lambda: self.work.rescue_turn(
            ticket_id, own, Rescues(self.work.locator.folder(ticket_id)), str(order.id), job, ahead=ahead
        )

    def _copy_meanwhile(self, ticket_id: int, own: SourceVolume, order: Order) -> None:
        """What is ready is copied out while the probe reads; the next turn comes after it, and says what became of
        it."""
        copying = self.work.copying[order.id] = BackgroundTask("copy")
        target = str(Rescues(self.work.locator.folder(ticket_id)).target(str(order.id)))
        copying.run(lambda: self.work.worker.run("copy", own.ground, own.first, own.last, target))

    def receive(
        self, ticket_id: int, order: Order, session_id: str, at: int, parts: Sequence[bytes] | None, length: int
    ) -> None:
        own = self._own(ticket_id, order, session_id)
        self.work.parts.write(own.ground, at, parts, length)
        job = self.work.tasks.get((ticket_id, own.source, own.first))
        if job is not None and job.what != "rescue":
            job.done += length

    def report_unreadable(
        self, ticket_id: int, order: Order, session_id: str, first: int, count: int, *, careful: bool
    ) -> None:
        own = self._own(ticket_id, order, session_id)
        self.work.parts.mark(
            own.ground, first, min(count, own.ground.sectors - first), BAD_SECTOR if careful else RETRY
        )

    def order_ended(self, ticket_id: int, order: Order, result: str) -> None:
        """An order that has ended stays ended, whatever its volume says now: the probe has other work."""
        try:
            self._follow(ticket_id, order, result)
        except GateCheckError:
            _log.exception("what order %s of ticket %s came to", order.id, ticket_id)

    def _follow(self, ticket_id: int, order: Order, result: str) -> None:
        kind = order.body["order"]
        if kind == "mend":
            self._written(ticket_id, order, result)
        elif kind == "rescue":
            self._rescued(ticket_id, order, result)
        elif _what(order) == "records" and result == "done":
            self._records_read(ticket_id, order)
        elif kind == "volume" and result == "done":
            own = self.work.locator.volume(ticket_id, str(order.body["disk"]), int(order.body["first"]))
            job = self.work.tasks.get((ticket_id, own.source, own.first))
            if job is not None and job.order == order.id and job.ended.is_set() and job.result is not None:
                self._weighed(ticket_id, order, own, job.result[0])
            else:  # the bench was started anew in between
                self.work.begin(ticket_id, own, "look").run(
                    lambda: self.work.check(ticket_id, own),
                    lambda found: self._weighed(ticket_id, order, own, found[0]),
                )

    def _records_read(self, ticket_id: int, order: Order) -> None:
        own = self.work.locator.volume(ticket_id, str(order.body["disk"]), int(order.body["first"]))
        job = self.work.tasks.get((ticket_id, own.source, own.first))

        def keep(found: tuple[dict[str, Any], ReadRequest]) -> None:
            self.work.keep_records(ticket_id, own, found[0], by=order.made_by, key=f"records-{order.id}")

        if job is not None and job.order == order.id and job.ended.is_set() and job.result is not None:
            keep(job.result)
        else:  # the bench was started anew in between
            self.work.begin(ticket_id, own, "records").run(lambda: self.work.records(ticket_id, own), keep)

    def _weighed(self, ticket_id: int, order: Order, own: SourceVolume, found: CheckResult) -> None:
        """Save it for the screen, and log it if it says why the machine does not start."""
        if found.report is None:
            return
        try:
            self._noted(ticket_id, order, own, found.report)
        finally:  # whoever sees it finds it in the log
            self.work.keep_report(ticket_id, own, found, by=order.made_by)

    def _noted(self, ticket_id: int, order: Order, own: SourceVolume, report: Report) -> None:
        written = self.work.was_written(ticket_id)
        with self.work.shop.database.read() as connection:
            kept = attachments(connection, ticket_id)
        said = volume_says(self.work.shop.shipped.knowledge.findings, report, is_main=own.is_main)
        if said is None or not self.work.captures.is_the_machines(ticket_id, own.device):
            return
        mendable, known = repair_says(report), self.work.captures.tickets.folded_of(ticket_id).state.facts.get(FACT)
        entries: list[tuple[dict[str, Any], str]] = (
            [({"fact": {FACT: mendable}}, f"volume-{order.id}-repair")] if mendable != known else []
        )
        if not written:  # after a repair it is the start that tells; what is left to mend is known all the same
            rests_on = {"file": kept[0].sha256, "name": kept[0].name, "device": ELSEWHERE} if kept else {}
            entry = noted(
                {"move": said["move"], "weights": said["weights"], **({"rests_on": rests_on} if rests_on else {})},
                said["note"],
            )
            entries.insert(0, (entry, f"volume-{order.id}"))
        self.work.captures.tickets.append_all(ticket_id, entries, by=BY)

    def _written(self, ticket_id: int, order: Order, result: str) -> None:
        """What was written is known without reading it again; where it stopped half-way, that is read anew."""
        disk = str(order.body["disk"])
        known = self.work.locator.known(ticket_id, disk)
        if known is None:
            return
        for own in order.body["writes"]:
            data = base64.b64decode(own["after"])
            if result == "done":
                self.work.parts.write(known.ground, own["at"], [data], len(data))
            else:
                self.work.parts.mark(
                    known.ground, own["at"] // known.ground.sector, len(data) // known.ground.sector, UNKNOWN
                )
        self.work.parts.settle(known.ground)
        if order.body["kind"] == MOVES["repair"] and not self.work.orders.held(ticket_id, MOVES["look"]):
            again = self.work.locator.volume(ticket_id, disk, int(order.body["first"]))
            self.work.orders.enqueue(ticket_id, self.work.order_of("volume", again), by=BY)
            if self.work.records_place(ticket_id, disk, again.first).exists():
                self.work.orders.enqueue(ticket_id, self.work.records_order(again), by=BY)

    def _rescued(self, ticket_id: int, order: Order, result: str) -> None:
        kept, name = Rescues(self.work.locator.folder(ticket_id)), str(order.id)
        if result != "done":
            kept.update(
                name,
                state=PAUSED if result == links.PAUSED else STOPPED if order.wanted == "stop" else FAILED,
                detail="",
            )
            return
        own = self.work.locator.volume(ticket_id, str(order.body["disk"]), int(order.body["first"]))
        note = check_reports.read(kept.note(name)) or {}
        if not note.get("summary"):
            kept.update(name, state=STOPPED)
            return
        self.work.record_rescue(
            ticket_id,
            own,
            kept,
            name,
            f"rescue-{name}",
            is_whole_ticket=bool(note.get("is_all")) and self.work.captures.is_the_machines(ticket_id, own.device),
        )
