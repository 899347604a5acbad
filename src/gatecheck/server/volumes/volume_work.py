"""What is worked on with the volumes of a shop's tickets: where they are, what is read of them, and what goes on."""

from __future__ import annotations

import threading
from collections.abc import Mapping
from typing import Any

from gatecheck.adapters.file_rescue import not_whole
from gatecheck.core.volume.gather import CheckResult
from gatecheck.core.volume.tree import CLEAN, DIRTY
from gatecheck.core.words.said import say, to_json
from gatecheck.practice.patients import PATIENTS
from gatecheck.server.captures.service import Captures
from gatecheck.server.link.orders import BY
from gatecheck.server.link.service import Links
from gatecheck.server.path.service import Paths
from gatecheck.server.shop import Shop, now
from gatecheck.server.volumes import check_reports
from gatecheck.server.volumes.jobs import BackgroundTask
from gatecheck.server.volumes.locate import SourceVolume, VolumeLocator
from gatecheck.server.volumes.partial_image import PartialImages
from gatecheck.server.volumes.rescues import DONE, PAUSED, RUNS, Rescues
from gatecheck.server.volumes.ticket_keys import TicketKeys
from gatecheck.server.volumes.wire import LivesAtOut
from gatecheck.server.volumes.worker import WorkerProcess
from gatecheck.server.volumes.worker_tasks import ReadRequest
from gatecheck.store import StoreError, links
from gatecheck.store.keeping import VOLUMES as VOLUMES_FOLDER
from gatecheck.store.links import WAITING

_WITH_FILES = tuple(p.id for p in PATIENTS if p.has_files)
MOVES = {"look": "volume-look", "repair": "repair-volume", "rescue": "copy-data", "records": "system-records"}
MOST_NAMED = 20
_MODE_FACT, _UNKNOWN = "storage_was", "unknown"
Key = tuple[int, str, int]
"""ticket, source, first sector"""


def escape_glob(path: str) -> str:
    """A path as a glob that matches only it: special characters are in brackets."""
    return "".join(f"[{c}]" if c in "*?[" else c for c in path)


class VolumeWork:
    """`tasks`: the running task of each volume, one at a time; `copying`: files being copied out while an order's probe
    reads on, by order; `begins`: held while the note of a rescue is made; `named_places`: what lives at sectors that
    were asked about."""

    def __init__(
        self, shop: Shop, captures: Captures, linked: Links, paths: Paths, worker: WorkerProcess, keys: TicketKeys
    ) -> None:
        self.shop, self.captures = shop, captures
        self.sessions, self.orders, self.copies = linked.sessions, linked.orders, linked.copies
        self.parts, self.worker = PartialImages(shop.files.folder.parent / VOLUMES_FOLDER), worker
        self.keys = keys
        self.locator = VolumeLocator(paths, self.parts, linked.copies.copies)
        self.tasks: dict[Key, BackgroundTask] = {}
        self.copying: dict[int, BackgroundTask] = {}
        self.begins = threading.Lock()
        self.named_places: dict[tuple[str, str, tuple[int, ...]], list[LivesAtOut]] = {}

    def report_place(self, ticket_id: int, source: str, first: int) -> Any:
        return check_reports.place_of(self.locator.folder(ticket_id), source, first)

    def free_volume(self, ticket_id: int, source: str, first: int) -> SourceVolume:
        """The volume, if no task is running on it. Raises NotFoundError, StoreError."""
        own = self.locator.volume(ticket_id, source, first)
        job = self.tasks.get((ticket_id, source, first))
        with self.shop.database.read() as connection:
            link = links.link_of(connection, ticket_id)
            if link is not None and link.practice and link.practice not in _WITH_FILES:
                raise StoreError(
                    "volume: expected a volume with files, got one of a simulated machine that has none; "
                    f"these have: {', '.join(_WITH_FILES)}"
                )
            waits = (
                any(o.state == WAITING and o.body.get("disk") == source for o in links.orders_of(connection, ticket_id))
                and not own.is_copy
            )
        if waits or (job is not None and not job.ended.is_set()):
            raise StoreError(
                "volume: expected one that is not in use, got one with a running task; wait until it finishes, "
                "or stop it"
            )
        return own

    def begin(self, ticket_id: int, own: SourceVolume, what: str, order: int | None = None) -> BackgroundTask:
        job = self.tasks[ticket_id, own.source, own.first] = BackgroundTask(what, order)
        return job

    @classmethod
    def records_order(cls, own: SourceVolume) -> dict[str, Any]:
        return cls.order_of("volume", own) | {"kind": "records"}

    @staticmethod
    def order_of(name: str, own: SourceVolume) -> dict[str, Any]:
        return {"order": name, "device": own.device, "disk": own.disk, "first": own.first, "end": own.last + 1}

    def check(self, ticket_id: int, own: SourceVolume) -> tuple[CheckResult, ReadRequest]:
        job = self.tasks.get((ticket_id, own.source, own.first)) or BackgroundTask("look")
        found: tuple[CheckResult, ReadRequest] = self.worker.run(
            "look", own.ground, own.first, own.last, self.keys.of(ticket_id), told=job.told
        )
        return found

    def records_place(self, ticket_id: int, source: str, first: int) -> Any:
        return self.locator.folder(ticket_id) / f"records-{source}-{first}.json"

    def records(self, ticket_id: int, own: SourceVolume) -> tuple[dict[str, Any], ReadRequest]:
        """What the systems on it say of themselves, as far as it was read."""
        found: tuple[dict[str, Any], ReadRequest] = self.worker.run(
            "records",
            own.ground,
            own.first,
            own.last,
            self.keys.of(ticket_id),
            self.locator.paths.controllers(ticket_id),
        )
        return found

    def keep_records(self, ticket_id: int, own: SourceVolume, found: Mapping[str, Any], *, by: str, key: str) -> None:
        """Save it for the screen; into the log goes what it says of why the machine does not start."""
        said = found.get("entry")
        device = own.device
        if own.is_copy:
            with self.shop.database.read() as connection:
                made = next((o for o in links.orders_of(connection, ticket_id) if o.id == own.copy), None)
            device = str(made.body.get("device", "")) if made is not None else ""
        entries: list[tuple[dict[str, Any], str | None]] = []
        if self.captures.is_the_machines(ticket_id, device) and own.is_main:
            if said and not self.was_written(ticket_id):  # after a repair it is the start that tells
                entries.append((dict(said), key))
            entries += self._storage_was(ticket_id, found)
        try:
            if entries:
                self.captures.tickets.append_all(ticket_id, entries, by=BY)
        finally:
            kept = {**found, "by": by, "at": now(), "session": own.session}
            check_reports.save(self.records_place(ticket_id, own.source, own.first), kept)
            self.sessions.notify(ticket_id, at_once=True)

    def _storage_was(self, ticket_id: int, found: Mapping[str, Any]) -> list[tuple[dict[str, Any], str | None]]:
        """The storage mode that the machine's one system was installed for, where nobody has said it yet. Once a repair
        lets it start in another one too, it asks for none."""
        systems = found.get("systems", [])
        modes = systems[0]["storage"]["installed_for"] if len(systems) == 1 else []
        known = self.captures.tickets.folded_of(ticket_id).state.facts.get(_MODE_FACT, _UNKNOWN)
        if known == _UNKNOWN and len(modes) == 1 and modes[0] in ("ahci", "raid"):
            return [({"fact": {_MODE_FACT: modes[0]}}, None)]
        if known in modes and len(modes) > 1 and self.was_written(ticket_id):
            return [({"fact": {_MODE_FACT: _UNKNOWN}}, None)]
        return []

    def was_written(self, ticket_id: int) -> bool:
        """Was a repair written to a disk of the machine?"""
        with self.shop.database.read() as connection:
            orders = links.orders_of(connection, ticket_id)
        return any(o.body["order"] == "mend" and o.state == "done" for o in orders)

    def records_changed(self, ticket_id: int, own: SourceVolume) -> None:
        """What the newest reading would repair is written, or ordered: no plan of it is offered any more."""
        place = self.records_place(ticket_id, own.source, own.first)
        kept = check_reports.read(place)
        if kept is not None:
            check_reports.save(place, {**kept, "repairs": None})
            self.sessions.notify(ticket_id, at_once=True)

    def keep_report(self, ticket_id: int, own: SourceVolume, found: CheckResult, *, by: str) -> None:
        check_reports.save(
            self.report_place(ticket_id, own.source, own.first),
            check_reports.to_stored(found, by=by, at=now(), session=own.session, base=found.base * own.ground.sector),
        )
        self.named_places.clear()
        self.sessions.notify(ticket_id, at_once=True)

    def rescue_turn(
        self, ticket_id: int, own: SourceVolume, kept: Rescues, name: str, job: BackgroundTask, *, ahead: bool = False
    ) -> ReadRequest:
        with self.begins:
            note = check_reports.read(kept.note(name))
        if note is None:
            raise StoreError(f"rescue {name}: expected the note of what is wanted, got none")
        copying = self.copying.pop(int(name), None) if name.isdigit() else None
        if copying is not None:
            copying.ended.wait()
            if copying.problem:
                raise StoreError(copying.problem)
        wants: ReadRequest = self.worker.run(
            "rescue",
            own.ground,
            own.first,
            own.last,
            str(kept.target(name)),
            [escape_glob(p) for p in note["only"]] or None,
            note["deleted"],
            ahead,
            self.keys.of(ticket_id),
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

    def record_rescue(
        self, ticket_id: int, own: SourceVolume, kept: Rescues, name: str, key: str, *, is_whole_ticket: bool
    ) -> None:
        """Write the note, the summary for the customer, and the log entry."""
        note = kept.update(name, not_whole=not_whole(kept.target(name))[:MOST_NAMED])
        summary = note["summary"]
        kept.tell_customer(name, self.shop.words)
        missing = summary.get("holes", 0) + summary.get("lost", 0)
        said = say("rescue.saved", files=summary.get("files", 0), bytes=summary.get("bytes", 0), missing=missing)
        entry: dict[str, Any] = {"note": to_json(said)}
        if is_whole_ticket:
            # files that a broken or unread catalogue does not name are saved by nobody: then what is there is not all,
            # whoever says so
            look = check_reports.read(self.report_place(ticket_id, own.source, own.first))
            is_sure = not note.get("blind") and (look is None or look["report"]["state"] in (CLEAN, DIRTY))
            entry |= {
                "move": MOVES["rescue"],
                "outcome": "complete" if is_sure and not missing and summary.get("files") else "partial",
            }
        try:
            self.captures.tickets.append_all(ticket_id, [(entry, key)], by=BY)
        finally:  # whoever sees it done finds it in the log
            kept.update(name, state=DONE)
            self.sessions.notify(ticket_id, at_once=True)
