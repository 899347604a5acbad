"""Stretches of disks one behind the other, read as one disk: a logical volume."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import dataclass

from gatecheck.core.disk.sectors import BEYOND, UNREADABLE, Sectors, Span
from gatecheck.core.errors import DecodeError, InputError


@dataclass(frozen=True, slots=True)
class JoinedStretch:
    """Bytes `first` to `first + size` of what is joined stand on `disk` from byte `at` on. `disk`: None where the drive
    that holds them is not there."""

    first: int
    size: int
    disk: Sectors | None
    at: int


def _flat(own: JoinedStretch) -> list[JoinedStretch]:
    """A stretch of what is itself joined, as the stretches below it."""
    if not isinstance(own.disk, JoinedSectors):
        return [own]
    found = [
        JoinedStretch(own.first + low - own.at, high - low, part.disk, part.at + low - part.first)
        for part, low, high in own.disk.parts(own.at, own.at + own.size)
    ]
    ended = found[-1].first + found[-1].size if found else own.first
    rest = own.first + own.size - ended
    return [*found, JoinedStretch(ended, rest, None, 0)] if rest else found


class JoinedSectors:
    def __init__(self, stretches: Sequence[JoinedStretch]) -> None:
        """In order and without gaps. Raises DecodeError for a stretch that is no whole number of sectors, and where no
        drive is there."""
        self._sector = max((s.disk.sector for s in stretches if s.disk is not None), default=0)
        at = 0
        stretches = [part for own in stretches for part in _flat(own)]
        for own in stretches:
            if not self._sector or own.first != at or own.size % self._sector or own.at % self._sector:
                raise DecodeError("logical volume", at=own.first, expected=f"a stretch from byte {at} on", got="none")
            at += own.size
        self.stretches: tuple[JoinedStretch, ...] = tuple(stretches)
        self._firsts = [s.first for s in stretches]
        self._size = at

    @property
    def sector(self) -> int:
        return self._sector

    @property
    def length(self) -> int:
        return self._size // self._sector

    def is_only_on(self, disk: Sectors) -> bool:
        """Its sectors are all of this disk, in another order."""
        return all(s.disk is disk for s in self.stretches)

    def sources(self, runs: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
        """(LBA of the disk, sectors) that hold these (LBA, sectors), where all of it is on one disk."""
        size = self._sector
        found = []
        for lba, count in runs:
            for own, low, high in self.parts(lba * size, (lba + count) * size):
                found.append(((own.at + low - own.first) // size, (high - low) // size))
        return found

    def inside_of(self, lba: int) -> int | None:
        """Where an LBA of the one disk is seen; None for one that holds nothing of it."""
        byte = lba * self._sector
        for own in self.stretches:
            if own.at <= byte < own.at + own.size:
                return (own.first + byte - own.at) // self._sector
        return None

    def to_disk(self, writes: Sequence[tuple[int, bytes]]) -> list[tuple[int, bytes]]:
        """(byte of the one disk, bytes) of these (byte, bytes). Raises InputError beyond the end."""
        found = []
        for at, data in writes:
            if at + len(data) > self._size:
                raise InputError(f"write to byte {at}: expected one inside the volume, got one beyond its end")
            for own, low, high in self.parts(at, at + len(data)):
                found.append((own.at + low - own.first, data[low - at : high - at]))
        return found

    def parts(self, begin: int, end: int) -> list[tuple[JoinedStretch, int, int]]:
        """(stretch, first, last + 1) of the bytes from begin to end that there are."""
        found = []
        place = max(0, bisect_right(self._firsts, begin) - 1)
        while place < len(self.stretches) and self.stretches[place].first < end:
            own = self.stretches[place]
            low, high = max(begin, own.first), min(end, own.first + own.size)
            if low < high:
                found.append((own, low, high))
            place += 1
        return found

    def read(self, lba: int, count: int) -> Span:
        size, count = self._sector, max(0, count)
        missing = {p: BEYOND for p in range(lba, lba + count) if not 0 <= p < self.length}
        parts = self.parts(max(0, lba) * size, (lba + count) * size)
        if len(parts) == 1 and not missing:
            data, lost = self._of(*parts[0])
            return Span(lba, size, data, lost)
        out = bytearray(count * size)
        for own, low, high in parts:
            data, lost = self._of(own, low, high)
            out[low - lba * size : high - lba * size] = data
            missing |= lost
        return Span(lba, size, bytes(out), missing)

    def _of(self, own: JoinedStretch, low: int, high: int) -> tuple[bytes, dict[int, str]]:
        size = self._sector
        if own.disk is None:
            return bytes(high - low), dict.fromkeys(range(low // size, high // size), UNREADABLE)
        step = own.disk.sector
        first = (own.at + low - own.first) // step
        span = own.disk.read(first, (high - low) // step)
        return span.data, {(low + (lba - first) * step) // size: why for lba, why in span.missing.items()}
