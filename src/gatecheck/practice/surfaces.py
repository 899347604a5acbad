"""Surfaces of practice drives: how long a block takes, and which sectors do not read. Physical: zones, heads in
serpentine order, revolutions for retries, a flash cache and its garbage collection, transfers lost on a cable. The same
seed gives the same surface.

A disk: Gim, Won, "Extract and infer quickly: obtaining sector geometry of modern hard disk drives", ACM TOS 6(2), 2010,
for zones and serpentine order."""

from __future__ import annotations

import bisect
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

_MIX, _MASK = 0x9E3779B97F4A7C15, (1 << 64) - 1


def chance(seed: int, number: int) -> float:
    """A number in [0, 1) that is always the same for these two."""
    x = (number + seed * 0x632BE59BD9B4E019 + 1) * _MIX & _MASK
    x = (x ^ (x >> 31)) * 0xBF58476D1CE4E5B9 & _MASK
    return ((x ^ (x >> 29)) >> 11) / (1 << 53)


def chances(seed: int, numbers: range) -> npt.NDArray[np.float64]:
    """The same for a run of numbers, shape (k,)."""
    x = (
        np.arange(numbers.start, numbers.stop, dtype=np.uint64) + np.uint64((seed * 0x632BE59BD9B4E019 + 1) & _MASK)
    ) * np.uint64(_MIX)
    x = (x ^ (x >> np.uint64(31))) * np.uint64(0xBF58476D1CE4E5B9)
    return ((x ^ (x >> np.uint64(29))) >> np.uint64(11)) / float(1 << 53)


@dataclass(frozen=True)
class Patch:
    """A run of sectors [first, end) in which a share of them needs `tries` revolutions more, or does not read at
    all."""

    first: int
    end: int
    slow: float = 0.0
    tries: int = 20
    dead: float = 0.0


@dataclass(frozen=True)
class Surface:
    """What a drive's medium does when it is read.

    mb_s: throughput at its start; inner: what is left of it at its end; rpm 0: flash. dead_head: (which one, of how
    many, share of tracks that fail). stalls_from: share of the disk; once it was read up to there, every read takes as
    long as a reset. lost: share of blocks whose transfer is repeated. drops: share of blocks that wait for the flash to
    tidy up."""

    seed: int = 1
    mb_s: float = 145.0
    inner: float = 0.48
    rpm: int = 5400
    patches: Sequence[Patch] = ()
    spots: frozenset[int] = frozenset()
    dead_head: tuple[int, int, float] | None = None
    stalls_from: float | None = None
    lost: float = 0.0
    drops: float = 0.0
    zones: int = 16
    _sorted: list[int] = field(default_factory=list, compare=False)

    def milliseconds(self, lba: int, count: int, sector: int, sectors: int, *, stalled: bool = False) -> float:
        """How long these sectors take where all of them read."""
        place = lba / max(sectors, 1)
        zone = int(place * self.zones) / self.zones if self.rpm else 0.0
        ms = count * sector / (self.mb_s * 1e3) / (1.0 - (1.0 - self.inner) * zone if self.rpm else 1.0)
        ms *= 0.97 + 0.06 * chance(self.seed, lba)
        turn = 60_000.0 / self.rpm if self.rpm else 4.0
        if self.lost and chance(self.seed + 7, lba // 512) < self.lost:
            ms += 40.0 + 160.0 * chance(self.seed + 8, lba)
        if self.drops and chance(self.seed + 9, lba // 4096) < self.drops:
            ms *= 3.0
        for patch in self.patches:
            if patch.first < lba + count and lba < patch.end and chance(self.seed + 3, lba // 2048) < patch.slow:
                ms += turn * patch.tries * (0.4 + chance(self.seed + 4, lba))
        if stalled:
            ms += 4000.0 + 6000.0 * chance(self.seed + 5, lba)
        return ms

    def fails(self, lba: int, count: int, sectors: int) -> bool:
        """Is there a sector among these that does not read?"""
        if self.spots:
            if not self._sorted:
                self._sorted.extend(sorted(self.spots))
            at = bisect.bisect_left(self._sorted, lba)
            if at < len(self._sorted) and self._sorted[at] < lba + count:
                return True
        for patch in self.patches:
            low, high = max(lba, patch.first), min(lba + count, patch.end)
            if (
                patch.dead
                and low < high
                and bool((chances(self.seed + 6, _some(low, high, patch.dead)) < patch.dead).any())
            ):
                return True
        return self.dead_head is not None and self._on_dead_head(lba, count, sectors)

    def _on_dead_head(self, lba: int, count: int, sectors: int) -> bool:
        assert self.dead_head is not None
        which, heads, share = self.dead_head
        band = max(sectors // 640, 1)  # tracks of one surface read in a row before the next one's
        width = band * (1.0 - (1.0 - self.inner) * lba / max(sectors, 1))
        at = lba
        while at < lba + count:
            turn = int(at // width)
            cycle, own = divmod(turn, heads)
            if (own if cycle % 2 == 0 else heads - 1 - own) == which and chance(self.seed + 11, turn) < share:
                return True
            at = int((turn + 1) * width) + 1
        return False


def _some(low: int, high: int, share: float) -> range:
    """Sectors to ask for one that fails: all of them where there are few, else so many that one is found where any is
    likely."""
    return range(low, high) if high - low <= 64 else range(low, min(high, low + max(64, int(8 / share))))
