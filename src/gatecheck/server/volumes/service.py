"""Volumes of a ticket's disks and copies: looked at without writing, repaired with the undo kept first, files rescued
from them in the order of the disk."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from gatecheck.adapters.desktop import has_desktop
from gatecheck.adapters.zip_stream import zip_of
from gatecheck.core.errors import InputError
from gatecheck.core.locked.keys import key_of
from gatecheck.core.records.repairs import GROUPS
from gatecheck.core.words.said import say, to_json
from gatecheck.server.captures.service import Captures
from gatecheck.server.errors import NotFoundError
from gatecheck.server.link.order_kinds import VOLUMES
from gatecheck.server.link.service import Links
from gatecheck.server.path.service import Paths
from gatecheck.server.shop import Shop, now
from gatecheck.server.volumes import check_reports
from gatecheck.server.volumes.jobs import job_shown
from gatecheck.server.volumes.locate import KnownSource, SourceVolume
from gatecheck.server.volumes.plain_copies import PlainCopies
from gatecheck.server.volumes.records_shown import records_out
from gatecheck.server.volumes.repairs import Repairs
from gatecheck.server.volumes.rescues import DONE, FAILED, Rescues
from gatecheck.server.volumes.ticket_keys import TicketKeys
from gatecheck.server.volumes.volume_orders import VolumeOrders
from gatecheck.server.volumes.volume_work import MOST_NAMED, MOVES, VolumeWork
from gatecheck.server.volumes.wire import LivesAtOut, RecordsOut, VolumesOut
from gatecheck.server.volumes.worker import WorkerProcess
from gatecheck.store import StoreError, links

KEY_FACT, KEY_HERE = "recovery_key", "on-ticket"


class Volumes:
    """The volumes of a shop's tickets, for the browser."""

    def __init__(
        self, shop: Shop, captures: Captures, linked: Links, paths: Paths, worker: WorkerProcess, keys: TicketKeys
    ) -> None:
        self.work = VolumeWork(shop, captures, linked, paths, worker, keys)
        self.repairs = Repairs(shop, linked, paths)
        linked.restores.plain = PlainCopies(self.work.locator, worker, keys)
        linked.instruments.readers[VOLUMES] = linked.instruments.followers[VOLUMES] = VolumeOrders(self.work)

    def view(self, ticket_id: int, source: str = "", first: int | None = None) -> VolumesOut:
        """One volume of one source; the main one of the first where none is named. Raises NotFoundError."""
        work, ticket = self.work, self.work.captures.tickets.ticket(ticket_id)
        sources = work.locator.sources(ticket_id)
        with work.shop.database.read() as connection:
            link, orders = links.link_of(connection, ticket_id), links.orders_of(connection, ticket_id)
        chosen = next((s for s in sources if s.id == source), sources[0] if sources else None)
        is_copy = bool(chosen and chosen.is_copy)
        shown = VolumesOut(
            sources=sources,
            source=chosen.id if chosen else "",
            pieces=[],
            first=None,
            sectors=0,
            sector=512,
            look=None,
            job=None,
            repairs=[],
            rescues=[],
            held={what: "" if is_copy else work.orders.held(ticket_id, move) for what, move in MOVES.items()},
            linked=is_copy or (link is not None and not link.ended_at and not ticket.closed_at),
            has_key=bool(work.keys.of(ticket_id)),
            has_records=False,
            has_desktop=has_desktop(),
        )
        if chosen is None:
            return shown
        folder, known = work.locator.folder(ticket_id), work.locator.known(ticket_id, chosen.id)
        shown.repairs = self.repairs.of(ticket_id, orders, chosen.id, folder)
        if known is not None:
            shown.pieces = work.locator.pieces(known)
            shown.sectors, shown.sector = known.sectors.length or 0, known.sectors.sector
        own = next((p for p in shown.pieces if p.first == first), None) or next(
            (p for p in shown.pieces if known and p.first == work.locator.main(known)), next(iter(shown.pieces), None)
        )
        shown.job = job_shown(
            chosen.id,
            own.first if own else -1,
            work.tasks.get((ticket_id, chosen.id, own.first)) if own else None,
            orders,
        )
        if own is not None:
            shown.first = own.first
            kept = check_reports.read(work.report_place(ticket_id, chosen.id, own.first))
            if kept:
                session = known.session if known else ""
                shown.look = check_reports.to_wire(kept, work.shop.words, session=session)
            shown.has_records = work.records_place(ticket_id, chosen.id, own.first).exists()
            shown.rescues = Rescues(folder).of(chosen.id, own.first, {o.id: o for o in orders})
        return shown

    def look(self, ticket_id: int, source: str, first: int, *, by: str) -> None:
        """Have a volume looked at: a disk's by the probe, a copy's here and now. Raises NotFoundError, StoreError."""
        own = self.work.free_volume(ticket_id, source, first)
        if not own.is_copy:
            self.work.parts.only(ticket_id, own.session[:16])
            self.work.orders.enqueue(ticket_id, self.work.order_of("volume", own), by=by)
            return
        self.work.begin(ticket_id, own, "look").run(
            lambda: self.work.check(ticket_id, own),
            lambda found: self.work.keep_report(ticket_id, own, found[0], by=by),
        )

    def read_records(self, ticket_id: int, source: str, first: int, *, by: str) -> None:
        """Have the records of the systems on a volume read. Raises NotFoundError, StoreError."""
        own = self.work.free_volume(ticket_id, source, first)
        if not own.is_copy:
            self.work.parts.only(ticket_id, own.session[:16])
            self.work.orders.enqueue(ticket_id, self.work.records_order(own), by=by)
            return
        self.work.begin(ticket_id, own, "records").run(
            lambda: self.work.records(ticket_id, own),
            lambda found: self.work.keep_records(ticket_id, own, found[0], by=by, key=f"records-{own.source}-{now()}"),
        )

    def records(self, ticket_id: int, source: str, first: int) -> RecordsOut | None:
        """What the newest reading found; None where nobody has read them. Raises NotFoundError."""
        self.work.captures.tickets.row_of(ticket_id)
        kept = check_reports.read(self.work.records_place(ticket_id, source, first))
        if kept is None:
            return None
        known = self.work.locator.known(ticket_id, source)
        return records_out(kept, self.work.shop.words, session=known.session if known else "")

    def unlock(self, ticket_id: int, source: str, first: int, raw: bytes, *, by: str) -> None:
        """Open an encrypted volume for this ticket, and have its inside looked at. The key stays in memory. Raises
        NotFoundError, StoreError, InputError where the key is none, or opens nothing."""
        key_of(raw)
        own, work = self.work.free_volume(ticket_id, source, first), self.work
        if work.captures.tickets.row_of(ticket_id).closed_at:
            raise StoreError("key: expected a ticket that is open, got one that was handed over")
        told, problem, is_partial = work.worker.run("unlock", own.ground, own.first, own.last, [raw])
        if told is None:
            raise InputError(f"key: expected an encrypted volume, got {problem or 'one that is not'}")
        if not is_partial and told["needs_key"] and told["opened_by"] is None:
            raise InputError(problem or "key: expected one that opens this volume, got another")
        work.keys.add(ticket_id, raw)
        way = next((k for k in told["keys"] if k["id"] == told["opened_by"]), None)
        if way is not None:
            note = to_json(say("volume.opened-with", name=told["name"], how=way["name"], id=way["id"]))
            entries: list[tuple[dict[str, Any], str | None]] = [({"note": note}, None)]
            if work.captures.tickets.folded_of(ticket_id).state.facts.get(KEY_FACT) != KEY_HERE:
                entries.append(({"fact": {KEY_FACT: KEY_HERE}}, None))
            work.captures.tickets.append_all(ticket_id, entries, by=by)
        self.look(ticket_id, source, first, by=by)

    def forget_key(self, ticket_id: int) -> None:
        """No key of this ticket is left, nor what was derived from it. Raises NotFoundError."""
        self.work.captures.tickets.row_of(ticket_id)
        if self.work.keys.forget(ticket_id):
            self.work.named_places.clear()

    def repair(self, ticket_id: int, source: str, first: int, groups: list[str], *, by: str) -> None:
        """Write some groups of a repair; what stands there is kept first. Raises NotFoundError, StoreError."""
        own = self.work.free_volume(ticket_id, source, first)
        self._is_no_source(ticket_id, own)
        of_records = bool(groups) and all(g in GROUPS for g in groups)
        kept = self._plans(ticket_id, own, of_records=of_records)
        unknown = [g for g in groups if g not in {k["id"] for k in kept}]
        if unknown:
            raise NotFoundError(
                f"group {unknown[0][:60]!r}: expected one that the newest look shows, got none by that name"
            )
        whats = [g["what"] for g in kept if g["id"] in groups]
        held = "" if own.is_copy else self.work.orders.held(ticket_id, MOVES["repair"])
        if held:
            raise StoreError(f"repair: {held}")
        with self.work.copies.changes:
            self._is_no_source(ticket_id, own)  # it may have become one since
            job = self.work.begin(ticket_id, own, "repair")
            if own.is_copy:
                self.work.copies.repairing(ticket_id, own.copy, job.ended)

        def work() -> Any:
            return self.work.worker.run(
                "writes",
                own.ground,
                own.first,
                own.last,
                groups,
                self.work.keys.of(ticket_id),
                self.work.locator.paths.controllers(ticket_id) if of_records else None,
                told=job.told,
            )

        def then(found: Any) -> None:
            writes, done = found
            if sorted(done) != sorted(groups) or not writes:
                raise StoreError(
                    f"repair: expected {', '.join(groups)} to be possible without the others, got "
                    f"{', '.join(done) or 'none'}: take those before it as well"
                )
            if own.is_copy:
                self.repairs.write_copy(own, done, whats, writes, self.work.locator.folder(ticket_id), by=by)
                self.work.keep_report(ticket_id, own, self.work.check(ticket_id, own)[0], by=by)
                self._records_again(ticket_id, own, by=by)
            else:
                self.repairs.order(ticket_id, own, whats, writes, by=by)
                if of_records:
                    self.work.records_changed(ticket_id, own)

        job.run(work, then)

    def _records_again(self, ticket_id: int, own: SourceVolume, *, by: str) -> None:
        """What the system on an image says after a repair, where somebody has read it before."""
        if self.work.records_place(ticket_id, own.source, own.first).exists():
            found = self.work.records(ticket_id, own)[0]
            self.work.keep_records(ticket_id, own, found, by=by, key=f"records-{own.source}-{now()}")

    def _plans(self, ticket_id: int, own: SourceVolume, *, of_records: bool) -> list[dict[str, Any]]:
        """Groups that the newest check shows, or the newest reading of its system's records."""
        place = self.work.records_place if of_records else self.work.report_place
        kept = check_reports.read(place(ticket_id, own.source, own.first))
        if not kept or kept["session"] != own.session:
            return []
        found: list[dict[str, Any]] = ((kept.get("repairs") or {}) if of_records else kept).get("groups", [])
        return found

    def take_back(self, ticket_id: int, source: str, first: int, name: str, *, by: str) -> None:
        """Every byte of a repair as it was. Raises NotFoundError, StoreError, InputError."""
        own = self.work.free_volume(ticket_id, source, first)
        if own.is_copy:
            with self.work.copies.changes:
                self._is_no_source(ticket_id, own)
                self.repairs.revert_copy(own, name, self.work.locator.folder(ticket_id))

            def then(found: Any) -> None:
                self.work.keep_report(ticket_id, own, found[0], by=by)
                self._records_again(ticket_id, own, by=by)

            self.work.begin(ticket_id, own, "look").run(
                lambda: self.work.check(ticket_id, own),
                then,
            )
        else:
            self.repairs.take_back(ticket_id, name, by=by)

    def _is_no_source(self, ticket_id: int, own: SourceVolume) -> None:
        """A copy that changes while a drive is filled from it would be on that drive half as it was and half as it is.
        Raises StoreError."""
        if own.is_copy and self.work.copies.is_source(ticket_id, own.copy):
            raise StoreError(
                "repair: expected an image that is not being restored, got one that is in use; wait until that "
                "finishes, or stop it"
            )

    def rescue(
        self, ticket_id: int, source: str, first: int, only: list[str], *, deleted: bool, is_all: bool, by: str
    ) -> None:
        """Copy files off a volume onto the bench's disk. Raises NotFoundError, StoreError."""
        own = self.work.free_volume(ticket_id, source, first)
        kept = Rescues(self.work.locator.folder(ticket_id))
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
            self.work.parts.only(ticket_id, own.session[:16])
            with self.work.begins:  # the probe may ask before this is through
                number = self.work.orders.enqueue(ticket_id, self.work.order_of("rescue", own), by=by)
                kept.begin(str(number), **said)
            return
        name = kept.next_name(source)
        kept.begin(name, **said)
        job = self.work.begin(ticket_id, own, "rescue")

        def work() -> None:
            while True:
                wants = self.work.rescue_turn(ticket_id, own, kept, name, job)
                if wants.summary or not wants.again:
                    break

        def safely() -> None:
            try:
                work()
            except Exception as error:
                kept.update(name, state=FAILED, detail=str(error)[:300])
                raise
            self.work.record_rescue(ticket_id, own, kept, name, f"rescue-{name}", is_whole_ticket=False)

        job.run(safely)

    def zipped(self, ticket_id: int, name: str) -> tuple[str, Iterator[bytes]]:
        """What one recovery saved, as a ZIP made while it is read. Raises NotFoundError."""
        number, folder = self.work.captures.tickets.row_of(ticket_id).number, self.saved(ticket_id, name)
        return f"{number.lower()}-{name}.zip", zip_of(folder)

    def saved(self, ticket_id: int, name: str) -> Path:
        """The folder of one finished recovery. Raises NotFoundError."""
        self.work.captures.tickets.row_of(ticket_id)
        kept = Rescues(self.work.locator.folder(ticket_id))
        note = check_reports.read(kept.note(name))
        folder = kept.target(name)
        if note is None or note.get("state") != DONE or not folder.is_dir():
            raise NotFoundError(f"recovery {name[:60]!r}: expected one of this ticket that is finished, got none")
        return folder

    def where(self, ticket_id: int, device: str, lbas: list[int]) -> list[LivesAtOut]:
        """What lives at these sectors, for those in volumes that were looked at; nothing for the others, and while
        something goes on. Raises NotFoundError, StoreError."""
        self.work.captures.tickets.row_of(ticket_id)
        disk = next(
            (d.disk for d in self.work.locator.paths.disks_of(ticket_id) if device in (d.device, d.disk)), device
        )
        known = self.work.locator.known(ticket_id, disk)
        if known is None or any(not j.ended.is_set() for (t, _, _), j in self.work.tasks.items() if t == ticket_id):
            return []
        looked = []
        for piece in self.work.locator.pieces(known):
            kept = check_reports.read(self.work.report_place(ticket_id, disk, piece.first))
            if kept is not None and kept["session"] == known.session:
                looked.append((piece.first, piece.last))
        wanted = tuple(sorted({lba for lba in lbas if any(a <= lba <= b for a, b in looked)}))
        return self._lives(ticket_id, known, wanted, looked) if wanted else []

    def _lives(
        self, ticket_id: int, known: KnownSource, lbas: tuple[int, ...], looked: list[tuple[int, int]]
    ) -> list[LivesAtOut]:
        key = (known.ground.image, known.session, lbas)
        if key not in self.work.named_places:
            self.work.locator.seed(known)
            found = self.work.worker.run("where", known.ground, lbas, looked, self.work.keys.of(ticket_id))
            if len(self.work.named_places) > MOST_NAMED:
                self.work.named_places.clear()
            self.work.named_places[key] = [
                LivesAtOut(lba=p.lba, text=self.work.shop.words.say(p.structure), path=p.path, stakes=p.stakes)
                for p in found
            ]
        return self.work.named_places[key]

    def remove_all(self, ticket_id: int) -> None:
        """A customer who is erased leaves nothing of their disks here: no copies, nothing that was read, nothing that
        was saved. Raises StoreError."""
        self.work.keys.forget(ticket_id)
        self.work.copies.copies.remove_all(ticket_id)
        self.work.parts.remove_all(ticket_id)

    def close(self) -> None:
        self.work.worker.close()
