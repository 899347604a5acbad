"""The walk as it can be followed: which sectors each step asked for, and which of them nobody has read yet.

A firmware's walk reads little: what is missing of it can be read on demand, a run at a time, until the verdict rests on
bytes alone."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from gatecheck.core.disk.boot_uefi import FirmwareEntry
from gatecheck.core.disk.bootpath import BootPath, boot_path
from gatecheck.core.disk.sectors import NOT_CAPTURED, Sectors, Span, WrappedSectors
from gatecheck.core.disk.walk import Walk

Run = tuple[int, int]
"""(first LBA, sectors)"""
_FIRST_AHEAD, _MOST_AHEAD = 16 << 10, 1 << 20
_MOST_RUNS = 64


class LayeredSectors:
    """Several readings of one disk as one. `layers`: newest first; what one does not hold is taken from the next."""

    def __init__(self, layers: Sequence[Sectors], *, sector: int, length: int | None) -> None:
        self._layers, self._sector, self._length = tuple(layers), sector, length

    @property
    def sector(self) -> int:
        return self._sector

    @property
    def length(self) -> int | None:
        return self._length

    def read(self, lba: int, count: int) -> Span:
        data, missing = (
            bytearray(max(0, count) * self._sector),
            dict.fromkeys(range(lba, lba + max(0, count)), NOT_CAPTURED),
        )
        for layer in self._layers:
            if not any(why == NOT_CAPTURED for why in missing.values()):
                break
            span = layer.read(lba, count)
            for place in [p for p, why in missing.items() if why == NOT_CAPTURED]:
                why = span.missing.get(place)
                if why is None:
                    at = (place - lba) * self._sector
                    data[at : at + self._sector] = span.data[at : at + self._sector]
                    del missing[place]
                else:
                    missing[place] = why
        return Span(lba, self._sector, bytes(data), missing)


class TracingSectors(WrappedSectors):
    """`Sectors` that remember, for each step of a walk, what was asked for, and what of it was not captured."""

    notes = True

    def __init__(self, disk: Sectors, walk: Walk) -> None:
        super().__init__(disk)
        self._walk = walk
        self.asked: list[tuple[int, int, int]] = []
        """(step, first LBA, sectors), in the order of the walk"""
        self.unread: set[int] = set()
        self.sure: int | None = None
        """steps that were taken before anything was missing; None: nothing is"""

    def read(self, lba: int, count: int) -> Span:
        span = self._disk.read(lba, count)
        own = (len(self._walk.path), lba, count)
        if not self.asked or self.asked[-1] != own:
            self.asked.append(own)
        lacking = {place for place, why in span.missing.items() if why == NOT_CAPTURED}
        if lacking and self.sure is None:
            self.sure = len(self._walk.path)
        self.unread |= lacking
        return span


@dataclass(frozen=True, slots=True)
class Followed:
    """`reads`: for each step of `verdict.path` what was asked for after the step before it, up to this one; the last
    one more: what was asked for at the end. `wanted`: what has to be read before the verdict stands; empty where it
    does."""

    verdict: BootPath
    reads: tuple[tuple[Run, ...], ...]
    wanted: tuple[Run, ...]
    sure: int
    """steps that rest on bytes alone: all of them where the verdict stands"""

    @property
    def stands(self) -> bool:
        return not self.wanted


def follow(
    disk: Sectors,
    mode: str,
    *,
    machine: str = "x64",
    entries: Sequence[FirmwareEntry] | None = None,
    secure: bool = False,
) -> Followed:
    """Walk over what is known of a disk. Never raises for what stands on it, or does not."""
    walk = Walk()
    watched = TracingSectors(disk, walk)
    verdict = boot_path(watched, mode, machine=machine, entries=entries, secure=secure, walk=walk)
    reads: list[list[Run]] = [[] for _ in range(len(verdict.path) + 1)]
    for step, first, count in watched.asked:
        reads[min(step, len(verdict.path))].append((first, count))
    return Followed(
        verdict,
        tuple(tuple(merge_runs(own)) for own in reads),
        tuple(wanted_runs(disk, watched.unread)),
        len(verdict.path) if watched.sure is None else watched.sure,
    )


def merge_runs(runs: Iterable[Run]) -> list[Run]:
    """The same sectors as runs that neither touch nor overlap, in the order of the disk."""
    out: list[Run] = []
    for first, count in sorted(runs):
        if out and first <= out[-1][0] + out[-1][1]:
            out[-1] = (out[-1][0], max(out[-1][0] + out[-1][1], first + count) - out[-1][0])
        elif count > 0:
            out.append((first, count))
    return out


def wanted_runs(disk: Sectors, unread: Iterable[int], *, careful: bool = False) -> list[Run]:
    """What to read next so that these sectors are known. A file is read from its beginning: what follows on something
    read already is read ahead, as far again as was read before it. `careful`: nothing is read ahead."""
    size, length = disk.sector, disk.length or 1 << 62
    out: list[Run] = []
    for first, count in merge_runs((lba, 1) for lba in unread):
        ahead = _before(disk, first)
        wide = count if careful else max(count, min(max(ahead, _FIRST_AHEAD // size), _MOST_AHEAD // size))
        out.append((first, min(wide, length - first)))
    return merge_runs(out)[:_MOST_RUNS]


def _before(disk: Sectors, lba: int) -> int:
    """How many sectors right before this one are known, counted in doubling steps."""
    count = 1
    while count * disk.sector <= _MOST_AHEAD and lba - count >= 0 and not disk.read(lba - count, count).missing:
        count *= 2
    return count - 1
