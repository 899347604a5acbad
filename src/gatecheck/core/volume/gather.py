"""A volume of which only a part was read: what a look at it still lacks, so that it can be fetched turn by turn until
the look rests on bytes alone."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np

from gatecheck.core.disk.follow import Run, merge_runs
from gatecheck.core.disk.sectors import NOT_CAPTURED, UNREADABLE, Sectors, Span, WrappedSectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.check import Progress, Report, check, opened
from gatecheck.core.volume.exfat.read import ExFat
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.fat.read import Fat
from gatecheck.core.volume.ntfs.read import Ntfs
from gatecheck.core.volume.people import Rules, Share, people_of
from gatecheck.core.volume.repair import Repair, repair_of
from gatecheck.core.volume.tree import Filesystem

_JOIN = 64 << 10
"""bytes between two wanted runs that are read along: cheaper than another command"""


class RecordingSectors(WrappedSectors):
    """`Sectors` that remember which of what was asked for nobody has read yet, and what could not be read."""

    def __init__(self, disk: Sectors) -> None:
        super().__init__(disk)
        self._lacking: list[Run] = []
        self.unreadable = 0

    def read(self, lba: int, count: int) -> Span:
        span = self._disk.read(lba, count)
        for place, why in span.missing.items():
            if why == NOT_CAPTURED:
                last = self._lacking[-1] if self._lacking else (-1, 0)
                if last[0] + last[1] == place:
                    self._lacking[-1] = (last[0], last[1] + 1)
                else:
                    self._lacking.append((place, 1))
            elif why == UNREADABLE:
                self.unreadable += 1
        return span

    def missing_runs(self) -> list[Run]:
        """Runs to read next, in the order of the disk."""
        return merge_close(merge_runs(self._lacking), max(1, _JOIN // self.sector))


def merge_close(runs: Iterable[Run], gap: int) -> list[Run]:
    """Runs no farther apart than `gap` sectors as one. `runs`: in the order of the disk."""
    out: list[Run] = []
    for first, count in runs:
        if out and first - (out[-1][0] + out[-1][1]) <= gap:
            out[-1] = (out[-1][0], max(out[-1][0] + out[-1][1], first + count) - out[-1][0])
        else:
            out.append((first, count))
    return out


@dataclass(frozen=True, slots=True)
class CheckResult:
    """`wanted`: what has to be read before the rest stands; `report` and all else only where it is empty. `repair`:
    None where the volume has no reader, or nothing is to be repaired. `lossless`: ids of the groups that can be carried
    out together without losing anything."""

    wanted: tuple[Run, ...]
    report: Report | None = None
    repair: Repair | None = None
    people: tuple[Share, ...] = ()
    deleted: int = 0
    fill: tuple[float, ...] = ()
    lossless: frozenset[str] = frozenset()
    encryption: Mapping[str, Any] | None = None
    """what the encryption says of itself that the volume stands in"""
    held_in: Mapping[str, Any] | None = None
    """the set of drives, or the group, that the volume is read from"""
    base: int = 0
    """LBA at which the volume begins, in what was looked at"""


def look(
    disk: Sectors, first: int, last: int, rules: Rules, progress: Progress = lambda _stage, _done, _of: None
) -> CheckResult:
    """Check, plan of a repair, and what is the customer's. Never raises for what stands on the volume."""
    asked = RecordingSectors(disk)
    report = check(asked, first, last, progress)
    if asked.missing_runs():
        return CheckResult(tuple(asked.missing_runs()))
    repair, lossless = None, frozenset[str]()
    if any(f.severity != "note" for f in report.findings):
        progress("repair", 0, 1)
        repair = repair_of(asked, first, last)
        lossless = frozenset(g.id for g in repair.groups)
        kept = [g.id for g in repair.groups if not g.loses]
        if kept and len(kept) < len(repair.groups):  # those that build on what is lost drop out
            lossless = frozenset(g.id for g in repair_of(asked, first, last, only=kept).groups)
        elif not kept:
            lossless = frozenset()
        if not asked.missing_runs():  # what stands where it writes is kept before, so it is read now
            for at, data in sorted(pair for group in repair.groups for pair in group.pairs):
                asked.read(at // asked.sector, -(-(at + len(data)) // asked.sector) - at // asked.sector)
    if asked.missing_runs():
        return CheckResult(tuple(asked.missing_runs()))
    volume = opened(asked, first, last).volume
    people, deleted, fill = _rest(volume, rules, progress) if volume is not None else ([], 0, ())
    if asked.missing_runs():
        return CheckResult(tuple(asked.missing_runs()))
    return CheckResult((), report, repair, tuple(people), deleted, fill, lossless)


def _rest(volume: Filesystem, rules: Rules, progress: Progress) -> tuple[list[Share], int, tuple[float, ...]]:
    progress("people", 0, 1)
    try:
        people = people_of(volume.nodes(), rules)
        deleted = sum(1 for n in volume.nodes(deleted=True) if n.deleted and not n.is_folder)
    except DecodeError:
        return [], 0, ()
    return people, deleted, _fill(volume)


CELLS = 240


def _fill(volume: Filesystem) -> tuple[float, ...]:
    """How full each of so many stretches of the volume is, 0 to 1, by its own map; empty where that cannot be read."""
    try:
        if isinstance(volume, Fat):
            marks = volume.table[2:] != 0
        elif isinstance(volume, Ntfs | ExFat | Ext):
            marks = volume.bitmap() != 0
        else:
            return ()
    except DecodeError:
        return ()
    sums = np.concatenate([[0], np.cumsum(marks, dtype=np.int64)])
    edges = [len(marks) * n // CELLS for n in range(CELLS + 1)]
    return tuple(round(float(sums[b] - sums[a]) / (b - a), 3) if b > a else 0.0 for a, b in pairwise(edges))
