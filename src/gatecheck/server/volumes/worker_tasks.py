"""What the helper process does: look at a volume, work out the bytes of a repair, copy files out of what was read."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from gatecheck.adapters.file_rescue import Rescue, RescueItem, summary
from gatecheck.adapters.shipped_tables import people_rules, record_rules
from gatecheck.core.disk.follow import Run, merge_runs
from gatecheck.core.disk.mend import merged
from gatecheck.core.disk.volume_ids import volume_ids
from gatecheck.core.disk.where import Where, places_of
from gatecheck.core.errors import DecodeError
from gatecheck.core.records.document import records_document
from gatecheck.core.records.evidence import records_say
from gatecheck.core.records.read import read_records
from gatecheck.core.records.repairs import RecordsRepair, records_repair
from gatecheck.core.records.source import VolumeFiles
from gatecheck.core.volume.check import opened
from gatecheck.core.volume.gather import CheckResult, RecordingSectors, look, merge_close
from gatecheck.core.volume.readers import open_volume
from gatecheck.core.volume.repair import Repair, repair_of
from gatecheck.core.words.said import to_json
from gatecheck.server.volumes.open_volume import VolumeView, forget, view_of
from gatecheck.server.volumes.partial_image import (
    BAD_SECTOR,
    READ,
    RETRY,
    UNKNOWN,
    PartialImages,
    PartSectors,
    SectorMap,
    SectorStore,
)
from gatecheck.server.volumes.plain_tasks import opens_task, plain_task

Told = Callable[[str, int, int], None]
_BATCH, _CAREFUL_BATCH = 64 << 20, 8 << 20
"""bytes asked for in one turn; of what did not read at once"""
_TURN_SECONDS, _MOST_RUNS = 3.0, 4000
_LARGEST_FILES = 1 << 50


@dataclass(frozen=True, slots=True)
class ReadRequest:
    """What is to be read next. `careful`: it did not read at once; to the sector this time. `again`: nothing yet, but
    there is more to do here."""

    runs: tuple[Run, ...] = ()
    careful: bool = False
    again: bool = False
    done: int = 0
    of: int = 0
    """bytes"""
    files_done: int = 0
    files: int = 0
    blind: bool = False
    """something of the catalogue did not read: there may be files that nobody knows of"""
    summary: Mapping[str, int] = field(default_factory=dict)
    """how it ended; empty while it goes on"""


def split(disk: PartSectors, runs: Sequence[Run], most: int) -> tuple[list[Run], list[Run]]:
    """(what nobody has read, what did not read at once) of these, each up to so many bytes."""
    fresh: list[Run] = []
    again: list[Run] = []
    room = {UNKNOWN: most, RETRY: min(most, _CAREFUL_BATCH)}
    for first, count in runs:
        for at, length, state in disk.marks.runs(first, count):
            if state in room and room[state] > 0 and (disk.length is None or at < disk.length):
                own = min(length, max(1, room[state] // disk.sector))
                (fresh if state == UNKNOWN else again).append((at, own))
                room[state] -= own * disk.sector
    return fresh[:_MOST_RUNS], again[:_MOST_RUNS]


def _wants(disk: PartSectors, runs: Sequence[Run]) -> ReadRequest:
    fresh, again = split(disk, runs, _BATCH)
    return ReadRequest(tuple(fresh or again), careful=not fresh and bool(again))


def _forget(ground: SectorStore) -> None:
    """What a rescue knows of a volume by heart may not be so any more."""
    for key in [k for k in _SAVING if k[0] == ground.image]:
        del _SAVING[key]


def look_task(
    told: Told, ground: SectorStore, first: int, last: int, keys: Sequence[bytes] = ()
) -> tuple[CheckResult, ReadRequest]:
    """A look; through a key of the ticket where the volume is encrypted and one opens it."""
    _forget(ground)
    view = view_of(ground, first, last, keys)
    if view.wanted:
        return CheckResult(view.wanted), _wants(view.disk, view.wanted)
    found = look(view.seen, view.first, view.last, people_rules(), told)
    wanted = tuple(view.sources(found.wanted))
    found = replace(found, wanted=wanted, encryption=view.told(), held_in=view.told_set(), base=view.first)
    return replace(found, repair=None) if view.is_shared else found, _wants(view.disk, wanted)


def records_task(
    told: Told, ground: SectorStore, first: int, last: int, keys: Sequence[bytes], controllers: Sequence[str]
) -> tuple[dict[str, Any], ReadRequest]:
    """What the installed systems of a volume say of themselves. `controllers`: PCI classes of the machine."""
    view = view_of(ground, first, last, keys)
    if view.wanted:
        return {}, _wants(view.disk, view.wanted)
    asked = RecordingSectors(view.seen)
    told("records", 0, 1)
    opening = opened(asked, view.first, view.last)
    problem = opening.problem or (opening.known.name if opening.known else "no file system that can be read")
    files = VolumeFiles(opening.volume) if opening.volume is not None else None
    if asked.missing_runs() or files is None:
        document = records_document([], [problem], to_json) | {"entry": None}
        return document, _wants(view.disk, view.sources(asked.missing_runs()))
    around = RecordingSectors(view.disk)
    there = volume_ids(around)
    found = read_records(files, record_rules(), controllers, (there.names, there.is_closed))
    said = records_say(found)
    document = records_document(found, [files.problem] if files.problem else [], to_json)
    document["entry"] = said and {**said, "note": to_json(said["note"])}
    if any(own.windows is not None for own in found) and not asked.missing_runs():
        plan = records_repair(asked, view.first, view.last, record_rules(), controllers)
        document["repairs"] = {
            "groups": [
                {"id": g.id, "what": to_json(g.what), "doubts": [to_json(d) for d in g.doubts]} for g in plan.groups
            ],
            "refused": to_json(plan.refused) if plan.refused is not None else None,
        }
    return document, _wants(view.disk, [*view.sources(asked.missing_runs()), *around.missing_runs()])


def unlock_task(
    told: Told, ground: SectorStore, first: int, last: int, keys: Sequence[bytes]
) -> tuple[Mapping[str, Any] | None, str, bool]:
    """(what the encryption says of itself, why no key opens it, is something of it not read yet)."""
    view = view_of(ground, first, last, keys)
    return view.told(), view.problem, bool(view.wanted)


def forget_task(told: Told, image: str) -> None:
    """Nothing that was derived from a key stays."""
    forget(image)
    for key in [k for k in _SAVING if not image or k[0] == image]:
        del _SAVING[key]


def writes_task(
    told: Told,
    ground: SectorStore,
    first: int,
    last: int,
    only: Sequence[str],
    keys: Sequence[bytes] = (),
    controllers: Sequence[str] | None = None,
) -> tuple[list[tuple[int, bytes, bytes]], list[str]]:
    """((byte, bytes there now, bytes to be written) of each write, the groups that they are). `controllers`: of
    the machine, for what its system's records make possible; None for the file system's own repair. Raises DecodeError
    where something of it was not read, InputError where it is not safe to write through a key."""
    _forget(ground)
    view = view_of(ground, first, last, keys)
    disk = view.disk
    plan: Repair | RecordsRepair
    if controllers is None:
        plan = repair_of(view.seen, view.first, view.last, only=only)
    else:
        plan = records_repair(view.seen, view.first, view.last, record_rules(), controllers, only=only)
    size, out = disk.sector, []
    inside = merged(view.seen, [pair for g in plan.groups for pair in g.pairs])
    for at, after in view.to_disk(inside):
        before = disk.read(at // size, len(after) // size).whole("sectors to be written")
        if before != after:
            out.append((at, before, after))
    return out, [g.id for g in plan.groups]


class RescueSession:
    """A rescue that goes on: `queue`: files to come in the order of the disk; `later`: those of which something did not
    read at once."""

    def __init__(self, view: VolumeView, rescue: Rescue, *, blind: bool) -> None:
        self.view, self.disk, self.rescue, self.blind = view, view.disk, rescue, blind
        self.queue, self.later = deque(rescue.left), deque[RescueItem]()
        self.asked = SectorMap()
        """READ: asked for by an earlier turn; what of it is not there yet is on its way"""
        self.ready: list[tuple[RescueItem, list[Run]]] = []
        """files all of which was read, to be copied out while the next are read"""
        self.of, self.files = sum(rescue.size_of(i.node) for i in rescue.files), len(rescue.files)
        rescue.begin()

    def runs(self, item: RescueItem) -> list[Run]:
        """Sectors that hold a file; none where that cannot be told: it is copied as what it is then."""
        size = self.disk.sector
        try:
            own = self.rescue.volume.runs(item.node)
        except DecodeError:
            return []
        return self.view.sources(
            merge_runs(
                (r.at // size, -(-(r.at % size + r.length) // size))
                for r in own
                if r.at is not None and r.at + r.length < _LARGEST_FILES
            )
        )

    def turn(self, parts: PartialImages, *, ahead: bool) -> ReadRequest:
        """Say what to read next; what is there is copied out now only where nothing is. `ahead`: what the turn before
        asked for may still come. Raises OSError, InputError."""
        began = time.monotonic()
        if not ahead:
            self.asked = SectorMap()
        fresh, careful = self._pass(self.queue, began, self.later)
        if not fresh and not self.queue:
            _, careful = self._pass(self.later, began, None)
        if not fresh and not careful:
            self.copy(parts)
        waiting = [*self.queue, *self.later, *(item for item, _ in self.ready)]
        said = ReadRequest(
            done=self.of - sum(self.rescue.size_of(i.node) for i in waiting),
            of=self.of,
            files_done=self.files - len(waiting),
            files=self.files,
            blind=self.blind,
        )
        for first, count in fresh:
            self.asked.mark(first, count, READ)
        if fresh or careful:
            return replace(said, runs=tuple(fresh or careful), careful=not fresh)
        if self.queue or self.later:
            return replace(said, again=True)
        return replace(said, summary=summary(self.rescue.finish()))

    def copy(self, parts: PartialImages) -> None:
        """Copy out what is whole, or as whole as it can be. Raises OSError, InputError."""
        if self.ready:
            self.rescue.take([item for item, _ in self.ready])
            gone = [run for _, runs in self.ready for run in self._read_ones(runs)]
            parts.drop(self.disk.ground, gone)
            self.disk.refresh()
            for first, count in gone:
                self.asked.mark(first, count, UNKNOWN)
            self.ready = []  # only now: what could not be copied is copied when it goes on

    def _pass(
        self, queue: deque[RescueItem], began: float, later: deque[RescueItem] | None
    ) -> tuple[list[Run], list[Run]]:
        """Over the files in their order, until there is enough to ask for. What is whole, or as whole as it can be, is
        ready; `later`: where the rest goes."""
        kept: list[RescueItem] = []
        fresh: list[Run] = []
        again: list[Run] = []
        fresh_size = again_size = 0
        while (
            queue
            and time.monotonic() - began < _TURN_SECONDS
            and fresh_size < _BATCH
            and again_size < _CAREFUL_BATCH
            and len(fresh) < _MOST_RUNS
            and len(again) < _MOST_RUNS
        ):
            item = queue.popleft()
            runs = self.runs(item)
            new, failed = split(self.disk, runs, _BATCH)
            if new:
                own = [run for run in new for run in self._not_asked(run)]
                fresh += own
                fresh_size += _size(own) * self.disk.sector
                kept.append(item)
            elif failed and later is not None:
                later.append(item)
            elif failed:
                again += failed
                again_size += _size(failed) * self.disk.sector
                kept.append(item)
            else:
                self.ready.append((item, runs))
                if sum(i.node.size for i, _ in self.ready) > 2 * _BATCH:
                    break
        queue.extendleft(reversed(kept))
        return merge_runs(fresh), merge_runs(again)

    def _not_asked(self, run: Run) -> list[Run]:
        return [(at, count) for at, count, state in self.asked.runs(*run) if state == UNKNOWN]

    def _read_ones(self, runs: Sequence[Run]) -> list[Run]:
        return [
            (at, count)
            for first, length in runs
            for at, count, state in self.disk.marks.runs(first, length)
            if state in (READ, BAD_SECTOR)
        ]


def _size(runs: Sequence[Run]) -> int:
    return sum(count for _, count in runs)


_SAVING: dict[tuple[str, ...], RescueSession] = {}


def copy_task(told: Told, ground: SectorStore, first: int, last: int, target: str) -> None:
    """Copy out what a rescue's last turn found ready. Raises InputError, OSError."""
    own = _SAVING.get((ground.image, str(first), target))
    if own is not None:
        own.copy(_parts(ground))


def _parts(ground: SectorStore) -> PartialImages:
    return PartialImages(Path(ground.image).parent.parent) if ground.marks else _Whole(Path(ground.image).parent)


def rescue_task(
    told: Told,
    ground: SectorStore,
    first: int,
    last: int,
    target: str,
    only: Sequence[str] | None,
    deleted: bool,
    ahead: bool = False,
    keys: Sequence[bytes] = (),
) -> ReadRequest:
    """One turn of a rescue. `ahead`: what the turn before asked for may still be on its way. The catalogue is read
    first, then the files in the order of the disk. Raises InputError, OSError, DecodeError."""
    key = (ground.image, str(first), target)
    own = _SAVING.get(key)
    if own is None:
        view = view_of(ground, first, last, keys)
        disk = view.disk
        if view.wanted:
            return _wants(disk, view.wanted)
        asked = RecordingSectors(view.seen)
        opening = opened(asked, view.first, view.last)
        if asked.missing_runs():
            return _wants(disk, view.sources(asked.missing_runs()))
        if opening.volume is None:
            raise DecodeError(
                "volume",
                at=first * ground.sector,
                expected="one that can be read",
                got=opening.problem or (opening.known.name if opening.known else "none"),
            )
        rescue = Rescue(opening.volume, Path(target), only=only, deleted=deleted)
        if asked.missing_runs():
            return _wants(disk, merge_close(view.sources(asked.missing_runs()), 1))
        _SAVING.clear()
        own = _SAVING[key] = RescueSession(view, rescue, blind=asked.unreadable > 0)
    own.disk.refresh()
    wants = own.turn(_parts(ground), ahead=ahead)
    if wants.summary:
        _SAVING.pop(key, None)
    return wants


class _Whole(PartialImages):
    """A copy keeps what it holds."""

    def drop(self, ground: SectorStore, runs: object) -> None:
        return


def where_task(
    told: Told,
    ground: SectorStore,
    lbas: Sequence[int],
    volumes: Sequence[tuple[int, int]] = (),
    keys: Sequence[bytes] = (),
) -> list[Where]:
    """What lives at these sectors, by what was read; in encrypted ones of these `volumes` (first, last) what a key
    shows."""
    found = {own.lba: own for own in places_of(PartSectors(ground), lbas)}
    for first, last in volumes if keys else ():
        view = view_of(ground, first, last, keys)
        inside = {lba: view.seen_at(lba) for lba in lbas if first <= lba <= last} if view.open is not None else {}
        seen = {lba: place for lba, place in inside.items() if place is not None and view.first <= place <= view.last}
        volume = open_volume(view.seen, view.first, view.last) if seen else None
        if volume is not None:
            for lba, place in zip(seen, volume.places(list(seen.values())), strict=True):
                found[lba] = replace(found[lba], structure=place.structure, path=place.path, stakes=place.stakes)
    return [found[lba] for lba in lbas]


TASKS: Mapping[str, Callable[..., Any]] = {
    "look": look_task,
    "writes": writes_task,
    "rescue": rescue_task,
    "copy": copy_task,
    "where": where_task,
    "unlock": unlock_task,
    "records": records_task,
    "forget": forget_task,
    "opens": opens_task,
    "plain": plain_task,
}
