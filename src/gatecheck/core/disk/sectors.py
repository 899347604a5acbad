"""`Sectors`: random access to a device, an image, or the ranges of one that a capture holds.

Everything that reads disks and volumes reads through it. A sector that could not be read is part of the truth: it is
named, never taken for zeros."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from itertools import accumulate
from typing import Protocol

from gatecheck.core.errors import DecodeError

SECTOR_SIZES = (512, 1024, 2048, 4096)
UNREADABLE, NOT_CAPTURED, BEYOND = "unreadable", "not captured", "beyond the end"


_HEADER = b"EFI PART"


@dataclass(frozen=True, slots=True)
class Span:
    """A run of sectors from `lba` on. `data`: all of it, zeros where a sector is missing; `missing`: LBA -> why."""

    lba: int
    sector: int
    data: bytes
    missing: Mapping[int, str]

    def whole(self, what: str) -> bytes:
        """The bytes. Raises DecodeError where a sector of them is missing: says which and why."""
        if self.missing:
            first = min(self.missing)
            raise MissingSectorError(what, first, self.missing[first], at=(first - self.lba) * self.sector)
        return self.data


class MissingSectorError(DecodeError):
    """A structure stands in a sector that could not be read, or that a capture does not hold."""

    def __init__(self, what: str, lba: int, why: str, *, at: int = 0) -> None:
        self.lba, self.why = lba, why
        super().__init__(f"{what}, LBA {lba}", at=at, expected="a sector that was read", got=why)


class Sectors(Protocol):
    """`sector`: bytes of one; `length`: how many there are, None where nobody said."""

    @property
    def sector(self) -> int: ...

    @property
    def length(self) -> int | None: ...

    def read(self, lba: int, count: int) -> Span:
        """`count` sectors from there. Never raises for what cannot be read: the span names it."""
        ...


class WrappedSectors:
    """A base for `Sectors` that stand over other ones: of their size and length."""

    notes = False
    """it keeps what was asked for"""

    def __init__(self, disk: Sectors) -> None:
        self._disk = disk

    @property
    def under(self) -> Sectors:
        return self._disk

    @property
    def sector(self) -> int:
        return self._disk.sector

    @property
    def length(self) -> int | None:
        return self._disk.length


def untraced(disk: Sectors) -> Sectors:
    """The same disk without anybody who notes what was asked for and not read."""
    while getattr(disk, "notes", False):
        assert isinstance(disk, WrappedSectors)
        disk = disk.under
    return disk


def checked_sector(size: int, what: str = "sector size") -> int:
    """The size, where a disk can be read with it. Raises DecodeError: 520 and 528 carry checks that this does not
    read."""
    if size not in SECTOR_SIZES:
        raise DecodeError(what, at=0, expected=f"one of {', '.join(map(str, SECTOR_SIZES))} bytes", got=f"{size} bytes")
    return size


class CapturedSectors:
    """The ranges of a disk that a capture holds. `ranges`: first LBA -> bytes; `unreadable`: LBAs known to be so."""

    def __init__(
        self,
        ranges: Mapping[int, bytes],
        *,
        sector: int = 512,
        length: int | None = None,
        unreadable: Iterable[int] = (),
    ) -> None:
        """Raises DecodeError for a sector size that disks are not read with."""
        self._sector, self._length = checked_sector(sector), length
        self._ranges = [(lba, data) for lba, data in sorted(ranges.items()) if len(data) >= sector]
        self._firsts = [lba for lba, _ in self._ranges]
        # how far the ranges up to each one reach: what ends before a place need not be looked at for it
        self._reach = list(accumulate((lba + len(data) // sector for lba, data in self._ranges), max))
        self._unreadable = frozenset(unreadable)

    @property
    def sector(self) -> int:
        return self._sector

    @property
    def length(self) -> int | None:
        return self._length

    def with_range(self, first: int, data: bytes) -> CapturedSectors:
        """The same with one range more."""
        return CapturedSectors(
            {**dict(self._ranges), first: data}, sector=self._sector, length=self._length, unreadable=self._unreadable
        )

    def read(self, lba: int, count: int) -> Span:
        size = self._sector
        data, missing = bytearray(max(0, count) * size), dict.fromkeys(range(lba, lba + max(0, count)), NOT_CAPTURED)
        near = slice(bisect_right(self._reach, lba), bisect_left(self._firsts, lba + count))
        for first, held in self._ranges[near]:
            low, high = max(lba, first), min(lba + count, first + len(held) // size)
            if low < high:
                data[(low - lba) * size : (high - lba) * size] = held[(low - first) * size : (high - first) * size]
                for place in range(low, high):
                    missing.pop(place, None)
        for place in missing:
            if place in self._unreadable:
                missing[place] = UNREADABLE
            elif self._length is not None and place >= self._length:
                missing[place] = BEYOND
        return Span(lba, size, bytes(data), missing)


def sectors_of(start: bytes, sector: int | None = None) -> CapturedSectors:
    """The first sectors of a disk as they stand in one page; their size is told by where a GPT header stands, else
    512."""
    return CapturedSectors({0: start}, sector=sector or guessed_sector(start))


def guessed_sector(start: bytes, end: bytes = b"", size: int = 0) -> int:
    """512, or 4096 where a GPT header stands in that disk's second or last sector and in none of the other's, or where
    the protective record is as long as `size` bytes are in such sectors. `end`: the last 4096 bytes."""
    for each in (512, 4096):
        if start[each : each + len(_HEADER)] == _HEADER:
            return each
    for each in (512, 4096):
        if end[len(end) - each :][: len(_HEADER)] == _HEADER and len(end) >= each:
            return each
    told = int.from_bytes(start[458:462], "little")
    is_guard = start[450:451] == b"\xee" and start[454:458] == b"\1\0\0\0" and start[510:512] == b"\x55\xaa"
    return 4096 if is_guard and size and (told + 1) * 4096 == size else 512
