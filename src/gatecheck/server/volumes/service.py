"""Volumes of a ticket's disks and copies: looked at without writing, repaired with the undo kept first, files rescued
from them in the order of the disk."""

from __future__ import annotations

import base64
import logging
import threading
from collections.abc import Callable, Sequence
from typing import Any

from gatecheck.adapters.file_rescue import not_whole
from gatecheck.core.errors import GateCheckError
from gatecheck.core.instruments.evidence import noted
from gatecheck.core.volume.check import Report
from gatecheck.core.volume.evidence import FACT, repair_says, volume_says
from gatecheck.core.volume.gather import CheckResult
from gatecheck.core.volume.tree import CLEAN, DIRTY
from gatecheck.core.words.said import say, to_json
from gatecheck.server.captures.service import ELSEWHERE, Captures
from gatecheck.server.errors import NotFoundError
from gatecheck.server.link.order_kinds import VOLUMES
from gatecheck.server.link.orders import BY
from gatecheck.server.link.service import Links
from gatecheck.server.path.service import Paths
from gatecheck.server.shop import Shop, now
from gatecheck.server.volumes import check_reports
from gatecheck.server.volumes.jobs import BackgroundTask
from gatecheck.server.volumes.locate import KnownSource, SourceVolume, VolumeLocator
from gatecheck.server.volumes.partial_image import BAD_SECTOR, RETRY, UNKNOWN, PartialImages
from gatecheck.server.volumes.repairs import Repairs
from gatecheck.server.volumes.rescues import DONE, FAILED, PAUSED, RUNS, STOPPED, Rescues
from gatecheck.server.volumes.wire import LivesAtOut, VolumeJobOut, VolumesOut
from gatecheck.server.volumes.worker import WorkerProcess
from gatecheck.server.volumes.worker_tasks import ReadRequest
from gatecheck.store import StoreError, links
from gatecheck.store.files import attachments
from gatecheck.store.keeping import VOLUMES as VOLUMES_FOLDER
from gatecheck.store.links import WAITING, Order

_log = logging.getLogger(__name__)
_WAIT_SECONDS = 1.5
"""how long a probe's question waits for an answer before it is to ask again"""
_MOVES = {"look": "volume-look", "repair": "repair-volume", "rescue": "copy-data"}
_MOST_NAMED = 20
Key = tuple[int, str, int]
"""ticket, source, first sector"""


def escape_glob(path: str) -> str:
    """A path as a glob that means just it: what is special in a glob stands in brackets."""
    return "".join(f"[{c}]" if c in "*?[" else c for c in path)


class Volumes:
    """The volumes of a shop's tickets."""

    def __init__(self, shop: Shop, captures: Captures, linked: Links, paths: Paths) -> None:
        self.shop, self.captures = shop, captures
        self.sessions, self.orders, self.copies = linked.sessions, linked.orders, linked.copies
        self.parts, self.desk = PartialImages(shop.files.folder.parent / VOLUMES_FOLDER), WorkerProcess()
        self.grounds = VolumeLocator(paths, self.parts, linked.copies.copies)
        self.repairs = Repairs(shop, linked, paths)
        self._jobs: dict[Key, BackgroundTask] = {}
        self._copying: dict[int, BackgroundTask] = {}
        self._begins = threading.Lock()
        self._owned: dict[tuple[int, str], SourceVolume] = {}
        self._lived: dict[tuple[str, str, tuple[int, ...]], list[LivesAtOut]] = {}
        linked.instruments.readers[VOLUMES] = linked.instruments.followers[VOLUMES] = self

    # --- for the browser ---------------------------------------------------------------------------------------

    def view(self, ticket_id: int, source: str = "", first: int | None = None) -> VolumesOut:
        """One volume of one source; the main one of the first where none is named. Raises NotFoundError."""
        ticket = self.captures.tickets.ticket(ticket_id)
        sources = self.grounds.sources(ticket_id)
        chosen = next((s for s in sources if s.id == source), sources[0] if sources else None)
        known = self.grounds.known(ticket_id, chosen.id) if chosen else None
        pieces = self.grounds.pieces(known) if known else []
        own = next((p for p in pieces if p.first == first), None) or next(
            (p for p in pieces if known and p.first == self.grounds.main(known)), pieces[0] if pieces else None
        )
        kept = check_reports.read(self._look_place(ticket_id, chosen.id, own.first)) if chosen and own else None
        with self.shop.database.read() as connection:
            link, orders = links.link_of(connection, ticket_id), links.orders_of(connection, ticket_id)
        is_copy = bool(chosen and chosen.is_copy)
        held = {what: "" if is_copy else self.orders.held(ticket_id, move) for what, move in _MOVES.items()}
        return VolumesOut(
            sources=sources,
            source=chosen.id if chosen else "",
            pieces=pieces,
            first=own.first if own else None,
            sectors=known.sectors.length or 0 if known else 0,
            sector=known.sectors.sector if known else 512,
            look=check_reports.to_wire(kept, self.shop.words, session=known.session if known else "") if kept else None,
            job=self._job_out(ticket_id, chosen.id if chosen else "", own.first if own else -1, orders),
            repairs=self.repairs.of(ticket_id, orders, chosen.id, self.grounds.folder(ticket_id)) if chosen else [],
            rescues=Rescues(self.grounds.folder(ticket_id)).of(chosen.id, own.first, {o.id: o for o in orders})
            if chosen and own
            else [],
            held=held,
            linked=is_copy or (link is not None and not link.ended_at and not ticket.closed_at),
        )

    def _look_place(self, ticket_id: int, source: str, first: int) -> Any:
        return check_reports.place_of(self.grounds.folder(ticket_id), source, first)

    def _job_out(self, ticket_id: int, source: str, first: int, orders: list[Order]) -> VolumeJobOut | None:
        job = self._jobs.get((ticket_id, source, first))
        running = next(
            (
                o
                for o in orders
                if o.standing == WAITING
                and o.body["order"] in ("volume", "rescue", "mend")
                and o.body.get("disk") == source
            ),
            None,
        )
        if running is not None:
            what = {"volume": "look", "rescue": "rescue", "mend": "repair"}[running.body["order"]]
            own = job if job is not None and job.order == running.id else BackgroundTask(what)
            return VolumeJobOut(what=what, stage=own.stage or "reading", done=own.done, of=own.of, order=running.id)
        newest = next(
            (
                o
                for o in reversed(orders)
                if o.body["order"] == "volume" and (o.body.get("disk"), o.body.get("first")) == (source, first)
            ),
            None,
        )
        if newest is not None and newest.state in ("failed", "refused", "paused"):
            return VolumeJobOut(
                what="look",
                stage="paused" if newest.state == "paused" else "failed",
                done=0,
                of=0,
                order=newest.id,
                problem=newest.detail,
            )
        if job is None or (job.ended.is_set() and not job.problem):
            return None
        return VolumeJobOut(
            what=job.what,
            stage="failed" if job.problem else job.stage,
            done=job.done,
            of=job.of,
            order=None,
            problem=job.problem,
        )

    def look(self, ticket_id: int, source: str, first: int, *, by: str) -> None:
        """Have a volume looked at: a disk's by the probe, a copy's here and now. Raises NotFoundError, StoreError."""
        own = self._free(ticket_id, source, first)
        if not own.is_copy:
            self.parts.only(ticket_id, own.session[:16])
            self.orders.enqueue(ticket_id, self._order("volume", own), by=by)
            return
        self._begun(ticket_id, own, "look").run(
            lambda: self._looked(ticket_id, own), lambda found: self._keep(ticket_id, own, found[0], by=by)
        )

    def repair(self, ticket_id: int, source: str, first: int, groups: list[str], *, by: str) -> None:
        """Write some groups of a repair; what stands there is kept first. Raises NotFoundError, StoreError."""
        own = self._free(ticket_id, source, first)
        self._is_no_source(ticket_id, own)
        kept = check_reports.read(self._look_place(ticket_id, source, first))
        known = [g["id"] for g in kept["groups"]] if kept and kept["session"] == own.session else []
        unknown = [g for g in groups if g not in known]
        if unknown:
            raise NotFoundError(
                f"group {unknown[0][:60]!r}: expected one that the newest look shows, got none by that name"
            )
        whats = [g["what"] for g in kept["groups"] if g["id"] in groups] if kept else []
        held = "" if own.is_copy else self.orders.held(ticket_id, _MOVES["repair"])
        if held:
            raise StoreError(f"repair: {held}")
        with self.copies.changes:
            self._is_no_source(ticket_id, own)  # it may have become one since
            job = self._begun(ticket_id, own, "repair")
            if own.is_copy:
                self.copies.repairing(ticket_id, own.copy, job.ended)

        def work() -> Any:
            return self.desk.run("writes", own.ground, own.first, own.last, groups, told=job.told)

        def then(found: Any) -> None:
            writes, done = found
            if sorted(done) != sorted(groups) or not writes:
                raise StoreError(
                    f"repair: expected {', '.join(groups)} to be possible without the others, got "
                    f"{', '.join(done) or 'none'}: take those before it as well"
                )
            if own.is_copy:
                self.repairs.write_copy(own, done, whats, writes, self.grounds.folder(ticket_id), by=by)
                self._keep(ticket_id, own, self._looked(ticket_id, own)[0], by=by)
            else:
                self.repairs.order(ticket_id, own, whats, writes, by=by)

        job.run(work, then)

    def take_back(self, ticket_id: int, source: str, first: int, name: str, *, by: str) -> None:
        """Every byte of a repair as it was. Raises NotFoundError, StoreError, InputError."""
        own = self._free(ticket_id, source, first)
        if own.is_copy:
            with self.copies.changes:
                self._is_no_source(ticket_id, own)
                self.repairs.revert_copy(own, name, self.grounds.folder(ticket_id))
            self._begun(ticket_id, own, "look").run(
                lambda: self._looked(ticket_id, own), lambda found: self._keep(ticket_id, own, found[0], by=by)
            )
        else:
            self.repairs.take_back(ticket_id, name, by=by)

    def _is_no_source(self, ticket_id: int, own: SourceVolume) -> None:
        """A copy that changes while a drive is filled from it would be on that drive half as it was and half as it is.
        Raises StoreError."""
        if own.is_copy and self.copies.is_source(ticket_id, own.copy):
            raise StoreError(
                "repair: expected a copy that no drive is being filled from, got one that is in use; wait until "
                "that "
                "is through, or leave it"
            )

    def rescue(
        self, ticket_id: int, source: str, first: int, only: list[str], *, deleted: bool, is_all: bool, by: str
    ) -> None:
        """Copy files off a volume onto the bench's disk. Raises NotFoundError, StoreError."""
        own = self._free(ticket_id, source, first)
        kept = Rescues(self.grounds.folder(ticket_id))
        said: dict[str, Any] = {
            "source": source,
            "first": first,
            "only": only,
            "deleted": deleted,
            "is_all": is_all,
            "by": by,
            "at": now(),
        }
        if not own.is_copy:
            self.parts.only(ticket_id, own.session[:16])
            with self._begins:  # the probe may ask before this is through
                number = self.orders.enqueue(ticket_id, self._order("rescue", own), by=by)
                kept.begin(str(number), **said)
            return
        name = kept.next_name(source)
        kept.begin(name, **said)
        job = self._begun(ticket_id, own, "rescue")

        def work() -> None:
            while True:
                wants = self._turn(ticket_id, own, kept, name, job)
                if wants.summary or not wants.again:
                    break

        def safely() -> None:
            try:
                work()
            except Exception as error:
                kept.update(name, state=FAILED, detail=str(error)[:300])
                raise
            self._saved(ticket_id, own, kept, name, f"rescue-{name}", is_whole_ticket=False)

        job.run(safely)

    def where(self, ticket_id: int, device: str, lbas: list[int]) -> list[LivesAtOut]:
        """What lives at these sectors, for those in volumes that were looked at; nothing for the others, and while
        something goes on. Raises NotFoundError, StoreError."""
        self.captures.tickets.row_of(ticket_id)
        disk = next((d.disk for d in self.grounds.paths.disks_of(ticket_id) if device in (d.device, d.disk)), device)
        known = self.grounds.known(ticket_id, disk)
        if known is None or any(not j.ended.is_set() for (t, _, _), j in self._jobs.items() if t == ticket_id):
            return []
        looked = []
        for piece in self.grounds.pieces(known):
            kept = check_reports.read(self._look_place(ticket_id, disk, piece.first))
            if kept is not None and kept["session"] == known.session:
                looked.append((piece.first, piece.last))
        wanted = tuple(sorted({lba for lba in lbas if any(a <= lba <= b for a, b in looked)}))
        return self._lives(known, wanted) if wanted else []

    def _lives(self, known: KnownSource, lbas: tuple[int, ...]) -> list[LivesAtOut]:
        key = (known.ground.image, known.session, lbas)
        if key not in self._lived:
            self.grounds.seed(known)
            found = self.desk.run("where", known.ground, lbas)
            if len(self._lived) > _MOST_NAMED:
                self._lived.clear()
            self._lived[key] = [
                LivesAtOut(lba=p.lba, text=self.shop.words.say(p.structure), path=p.path, stakes=p.stakes)
                for p in found
            ]
        return self._lived[key]

    def _free(self, ticket_id: int, source: str, first: int) -> SourceVolume:
        """The volume, where nothing goes on with it. Raises NotFoundError, StoreError."""
        own = self.grounds.volume(ticket_id, source, first)
        job = self._jobs.get((ticket_id, source, first))
        with self.shop.database.read() as connection:
            waits = (
                any(o.state == WAITING and o.body.get("disk") == source for o in links.orders_of(connection, ticket_id))
                and not own.is_copy
            )
        if waits or (job is not None and not job.ended.is_set()):
            raise StoreError(
                "volume: expected one that nothing goes on with, got one that is worked on; wait until that is "
                "through, or stop it"
            )
        return own

    def _begun(self, ticket_id: int, own: SourceVolume, what: str, order: int | None = None) -> BackgroundTask:
        job = self._jobs[ticket_id, own.source, own.first] = BackgroundTask(what, order)
        return job

    @staticmethod
    def _order(name: str, own: SourceVolume) -> dict[str, Any]:
        return {"order": name, "device": own.device, "disk": own.disk, "first": own.first, "end": own.last + 1}

    def _looked(self, ticket_id: int, own: SourceVolume) -> tuple[CheckResult, ReadRequest]:
        job = self._jobs.get((ticket_id, own.source, own.first)) or BackgroundTask("look")
        found: tuple[CheckResult, ReadRequest] = self.desk.run("look", own.ground, own.first, own.last, told=job.told)
        return found

    def _keep(self, ticket_id: int, own: SourceVolume, found: CheckResult, *, by: str) -> None:
        check_reports.save(
            self._look_place(ticket_id, own.source, own.first),
            check_reports.to_stored(found, by=by, at=now(), session=own.session, base=own.first * own.ground.sector),
        )
        self._lived.clear()
        self.sessions.notify(ticket_id, at_once=True)

    # --- for the probe -----------------------------------------------------------------------------------------

    def _own(self, ticket_id: int, order: Order, session_id: str) -> SourceVolume:
        """The volume of an order; known by heart, for it is asked with every piece. Raises NotFoundError,
        StoreError."""
        known = self._owned.get((order.id, session_id))
        if known is not None:
            return known
        own = self.grounds.volume(ticket_id, str(order.body["disk"]), int(order.body["first"]))
        if session_id[:16] not in own.ground.image:
            raise StoreError(f"order {order.id}: expected the newest start of the probe, got an earlier one")
        self._owned = {(order.id, session_id): own, **dict(list(self._owned.items())[:_MOST_NAMED])}
        return own

    def next_ranges(self, ticket_id: int, order: Order, session_id: str, *, ahead: bool = False) -> dict[str, Any]:
        """What to read next; the answer is worked out beside, and a probe that asks before it is there asks again."""
        own = self._own(ticket_id, order, session_id)
        job = self._jobs.get((ticket_id, own.source, own.first))
        if job is None or job.order != order.id or (job.ended.is_set() and job.result is None):
            done, of = (job.done, job.of) if job is not None and job.order == order.id else (0, 0)
            self.parts.settle(own.ground)
            job = self._begun(ticket_id, own, "look" if order.body["order"] == "volume" else "rescue", order.id)
            job.done, job.of = done, of
            job.run(
                self._look_turn(ticket_id, own)
                if job.what == "look"
                else self._rescue_turn(ticket_id, own, order, job, ahead=ahead)
            )
        if not job.ended.wait(_WAIT_SECONDS):
            return {"ranges": [], "wait": 0.2}
        if job.problem:
            raise StoreError(f"volume: {job.problem}")
        wants: ReadRequest = job.result[1] if job.what == "look" else job.result
        if not wants.runs and not wants.again:
            return {"ranges": []}
        job.result = None  # the next question is another turn
        if job.what == "rescue":
            self._copy_meanwhile(ticket_id, own, order)
        if job.what == "look":
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
        return lambda: self.desk.run("look", own.ground, own.first, own.last)

    def _rescue_turn(
        self, ticket_id: int, own: SourceVolume, order: Order, job: BackgroundTask, *, ahead: bool
    ) -> Callable[[], Any]:
        return lambda: self._turn(
            ticket_id, own, Rescues(self.grounds.folder(ticket_id)), str(order.id), job, ahead=ahead
        )

    def _copy_meanwhile(self, ticket_id: int, own: SourceVolume, order: Order) -> None:
        """What is ready is copied out while the probe reads; the next turn comes after it, and says what became of
        it."""
        copying = self._copying[order.id] = BackgroundTask("copy")
        target = str(Rescues(self.grounds.folder(ticket_id)).target(str(order.id)))
        copying.run(lambda: self.desk.run("copy", own.ground, own.first, own.last, target))

    def _turn(
        self, ticket_id: int, own: SourceVolume, kept: Rescues, name: str, job: BackgroundTask, *, ahead: bool = False
    ) -> ReadRequest:
        with self._begins:
            note = check_reports.read(kept.note(name))
        if note is None:
            raise StoreError(f"rescue {name}: expected the note of what is wanted, got none")
        copying = self._copying.pop(int(name), None) if name.isdigit() else None
        if copying is not None:
            copying.ended.wait()
            if copying.problem:
                raise StoreError(copying.problem)
        wants: ReadRequest = self.desk.run(
            "rescue",
            own.ground,
            own.first,
            own.last,
            str(kept.target(name)),
            [escape_glob(p) for p in note["only"]] or None,
            note["deleted"],
            ahead,
        )
        job.stage, job.done, job.of = "files", wants.done, wants.of
        if (check_reports.read(kept.note(name)) or note)["state"] in (
            RUNS,
            PAUSED,
        ):  # a turn that was asked for early may be worked out after the order has ended
            kept.update(
                name,
                state=RUNS,
                files=wants.files,
                files_done=wants.files_done,
                size=wants.of,
                size_done=wants.done,
                blind=wants.blind,
                summary=dict(wants.summary),
            )
        return wants

    def receive(
        self, ticket_id: int, order: Order, session_id: str, at: int, parts: Sequence[bytes] | None, length: int
    ) -> None:
        own = self._own(ticket_id, order, session_id)
        self.parts.write(own.ground, at, parts, length)
        job = self._jobs.get((ticket_id, own.source, own.first))
        if job is not None and job.what == "look":
            job.done += length

    def report_unreadable(
        self, ticket_id: int, order: Order, session_id: str, first: int, count: int, *, careful: bool
    ) -> None:
        own = self._own(ticket_id, order, session_id)
        self.parts.mark(own.ground, first, min(count, own.ground.sectors - first), BAD_SECTOR if careful else RETRY)

    # --- what an order that is through comes to ----------------------------------------------------------------

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
        elif kind == "volume" and result == "done":
            own = self.grounds.volume(ticket_id, str(order.body["disk"]), int(order.body["first"]))
            job = self._jobs.get((ticket_id, own.source, own.first))
            if job is not None and job.order == order.id and job.ended.is_set() and job.result is not None:
                self._weighed(ticket_id, order, own, job.result[0])
            else:  # the bench was started anew in between
                self._begun(ticket_id, own, "look").run(
                    lambda: self._looked(ticket_id, own), lambda found: self._weighed(ticket_id, order, own, found[0])
                )

    def _weighed(self, ticket_id: int, order: Order, own: SourceVolume, found: CheckResult) -> None:
        """Kept for the screen, and on the tape where it tells why the machine does not start."""
        if found.report is None:
            return
        try:
            self._noted(ticket_id, order, own, found.report)
        finally:  # who sees it finds it on the tape
            self._keep(ticket_id, own, found, by=order.made_by)

    def _noted(self, ticket_id: int, order: Order, own: SourceVolume, report: Report) -> None:
        with self.shop.database.read() as connection:
            written = any(
                o.body["order"] == "mend" and o.state == "done" for o in links.orders_of(connection, ticket_id)
            )
            kept = attachments(connection, ticket_id)
        said = volume_says(self.shop.shipped.knowledge.findings, report, is_main=own.is_main)
        if said is None or not self.captures.is_the_machines(ticket_id, own.device):
            return
        mendable, known = repair_says(report), self.captures.tickets.folded_of(ticket_id).state.facts.get(FACT)
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
        self.captures.tickets.append_all(ticket_id, entries, by=BY)

    def _written(self, ticket_id: int, order: Order, result: str) -> None:
        """What was written is known without reading it again; where it stopped half-way, that is read anew."""
        disk = str(order.body["disk"])
        known = self.grounds.known(ticket_id, disk)
        if known is None:
            return
        for own in order.body["writes"]:
            data = base64.b64decode(own["after"])
            if result == "done":
                self.parts.write(known.ground, own["at"], [data], len(data))
            else:
                self.parts.mark(
                    known.ground, own["at"] // known.ground.sector, len(data) // known.ground.sector, UNKNOWN
                )
        self.parts.settle(known.ground)
        if order.body["kind"] == _MOVES["repair"] and not self.orders.held(ticket_id, _MOVES["look"]):
            self.orders.enqueue(
                ticket_id, self._order("volume", self.grounds.volume(ticket_id, disk, int(order.body["first"]))), by=BY
            )

    def _rescued(self, ticket_id: int, order: Order, result: str) -> None:
        kept, name = Rescues(self.grounds.folder(ticket_id)), str(order.id)
        if result != "done":
            kept.update(
                name,
                state=PAUSED if result == links.PAUSED else STOPPED if order.wanted == "stop" else FAILED,
                detail="",
            )
            return
        own = self.grounds.volume(ticket_id, str(order.body["disk"]), int(order.body["first"]))
        note = check_reports.read(kept.note(name)) or {}
        if not note.get("summary"):
            kept.update(name, state=STOPPED)
            return
        self._saved(
            ticket_id,
            own,
            kept,
            name,
            f"rescue-{name}",
            is_whole_ticket=bool(note.get("is_all")) and self.captures.is_the_machines(ticket_id, own.device),
        )

    def _saved(
        self, ticket_id: int, own: SourceVolume, kept: Rescues, name: str, key: str, *, is_whole_ticket: bool
    ) -> None:
        """The note, the summary for the customer, and what the tape is told."""
        note = kept.update(name, not_whole=not_whole(kept.target(name))[:_MOST_NAMED])
        summary = note["summary"]
        kept.tell_customer(name, self.shop.words)
        missing = summary.get("holes", 0) + summary.get("lost", 0)
        said = say("rescue.saved", files=summary.get("files", 0), bytes=summary.get("bytes", 0), missing=missing)
        entry: dict[str, Any] = {"note": to_json(said)}
        if is_whole_ticket:
            # files that a broken or unread catalogue does not name are saved by nobody: then what is there is not all,
            # whoever says so
            look = check_reports.read(self._look_place(ticket_id, own.source, own.first))
            is_sure = not note.get("blind") and (look is None or look["report"]["state"] in (CLEAN, DIRTY))
            entry |= {
                "move": _MOVES["rescue"],
                "outcome": "complete" if is_sure and not missing and summary.get("files") else "partial",
            }
        try:
            self.captures.tickets.append_all(ticket_id, [(entry, key)], by=BY)
        finally:  # who sees that it is done finds it on the tape
            kept.update(name, state=DONE)
            self.sessions.notify(ticket_id, at_once=True)

    def remove_all(self, ticket_id: int) -> None:
        """A customer who is erased leaves nothing of their disks here: no copies, nothing that was read, nothing that
        was saved. Raises StoreError."""
        self.copies.copies.remove_all(ticket_id)
        self.parts.remove_all(ticket_id)

    def close(self) -> None:
        self.desk.close()
