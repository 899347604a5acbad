"""What was read of customers' drives in part: a sparse image of a disk, and beside it the map of which sectors in it
are read.

`NAME.img` is as large as the disk and takes only what was read; `NAME.map` is appended to: first sector, sectors,
state. What the map says is read holds for as long as this kernel runs: nothing is forced onto the bench's disk, and
after a start of the bench's machine it is read again. Parts are no part of a backup: what they hold can be read again,
or was copied out as files."""

from __future__ import annotations

import contextlib
import ctypes
import functools
import os
import shutil
import struct
import threading
from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from gatecheck.adapters.row_file import append_rows, whole_rows
from gatecheck.adapters.vectored_write import pwritev_all
from gatecheck.core.disk.sectors import BEYOND, NOT_CAPTURED, UNREADABLE, Span
from gatecheck.server.copies.service import Copies, pieces_of
from gatecheck.store import StoreError

UNKNOWN, READ, BAD_SECTOR, RETRY = 0, 1, 2, 3
"""not there (any more); read; does not read, to the sector; did not read in a large piece: to be tried again with
care"""
_START = 4
"""no state, but the start of the bench's machine that the rows after it were written in; 0: of which nobody knows, and
what they say is on the disk"""
_ROW = struct.Struct("<QQB")
_LARGEST_DISK = 1 << 47
_WHY = {BAD_SECTOR: UNREADABLE, RETRY: NOT_CAPTURED, UNKNOWN: NOT_CAPTURED}
_KEEP_SIZE_PUNCH_HOLE = 3


class SectorMap:
    """State of every sector, as runs. What was never marked is GONE."""

    def __init__(self) -> None:
        self._starts: list[int] = [0]
        self._states: list[int] = [UNKNOWN]

    def mark(self, first: int, count: int, state: int) -> None:
        if count <= 0:
            return
        end = first + count
        after = self._states[bisect_right(self._starts, end) - 1]
        low, high = bisect_left(self._starts, first), bisect_right(self._starts, end)
        before = self._states[low - 1] if low else None
        starts, states = ([] if before == state else [first]), ([] if before == state else [state])
        if after != state:
            starts.append(end)
            states.append(after)
        self._starts[low:high], self._states[low:high] = starts, states

    def is_all(self, first: int, count: int, state: int) -> bool:
        at = bisect_right(self._starts, first) - 1
        return self._states[at] == state and (at + 1 == len(self._starts) or self._starts[at + 1] >= first + count)

    def runs(self, first: int, count: int) -> Iterator[tuple[int, int, int]]:
        """(first, sectors, state) within these."""
        place, end, at = first, first + count, bisect_right(self._starts, first) - 1
        while place < end:
            stop = min(end, self._starts[at + 1] if at + 1 < len(self._starts) else end)
            yield place, stop - place, self._states[at]
            place, at = stop, at + 1


@dataclass(frozen=True, slots=True)
class SectorStore:
    """Where the sectors of a disk are kept, for whoever reads them in another process. `marks`: the map beside it;
    `is_copy`: a copy of the whole drive, with its sums beside it; `beside`: the ticket's other copies."""

    image: str
    sector: int
    sectors: int
    marks: str = ""
    is_copy: bool = False
    beside: tuple[SectorStore, ...] = ()


class PartSectors:
    """`Sectors` over what was read in part, or over a copy. What nobody read is not captured; of a copy all that is not
    in it counts as unreadable."""

    def __init__(self, ground: SectorStore) -> None:
        self.ground, self.marks = ground, SectorMap()
        self._at, self._holds = 0, True
        self.refresh()

    def refresh(self) -> None:
        """What came since."""
        own = self.ground
        if own.is_copy and not self._at:
            for at, length in pieces_of(own.image):
                self.marks.mark(at // own.sector, -(-length // own.sector), READ)
            for at, length in Copies.wrong(
                Path(own.image)
            ):  # what the bench's disk has changed since is no byte of the customer's
                self.marks.mark(at // own.sector, -(-length // own.sector), BAD_SECTOR)
            self._at = 1
        elif own.marks and Path(own.marks).exists():
            with Path(own.marks).open("rb") as file:
                file.seek(self._at)
                raw = file.read()
            raw = raw[: len(raw) // _ROW.size * _ROW.size]
            self._at += len(raw)
            for first, count, state in _ROW.iter_unpack(raw):
                if state == _START:
                    self._holds = first in (0, this_start())
                else:
                    self.marks.mark(first, count, state if self._holds or state != READ else UNKNOWN)

    @property
    def sector(self) -> int:
        return self.ground.sector

    @property
    def length(self) -> int | None:
        return self.ground.sectors

    def read(self, lba: int, count: int) -> Span:
        size, count = self.ground.sector, max(0, count)
        if lba >= 0 and count and self.marks.is_all(lba, count, READ):
            descriptor = os.open(self.ground.image, os.O_RDONLY)
            try:
                raw = os.pread(descriptor, count * size, lba * size)
            finally:
                os.close(descriptor)
            if len(raw) == count * size:
                return Span(lba, size, raw, {})
        data, missing = bytearray(count * size), dict[int, str]()
        inside = max(0, min(lba + count, self.ground.sectors) - max(lba, 0)) if lba >= 0 else 0
        missing.update(dict.fromkeys(range(lba + inside, lba + count), BEYOND))
        descriptor = os.open(self.ground.image, os.O_RDONLY) if inside else -1
        try:
            for first, length, state in self.marks.runs(lba, inside) if inside else ():
                if state == READ:
                    raw = os.pread(descriptor, length * size, first * size)
                    data[(first - lba) * size : (first - lba) * size + len(raw)] = raw
                else:
                    missing.update(
                        dict.fromkeys(range(first, first + length), UNREADABLE if self.ground.is_copy else _WHY[state])
                    )
        finally:
            if inside:
                os.close(descriptor)
        return Span(lba, size, bytes(data), missing)


class PartialImages:
    """The parts of a shop, under a folder of its own for each ticket."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._lock = threading.Lock()
        self._waiting: dict[Path, list[tuple[int, int, int]]] = {}

    def of(self, ticket_id: int, name: str, sector: int, sectors: int) -> SectorStore:
        """The part by that name, made where it is not there. Raises StoreError."""
        image = self.folder / str(ticket_id) / f"{name}.img"
        if not 0 < sectors * sector <= _LARGEST_DISK:
            raise StoreError(f"part: expected a disk of a known size, got {sectors} sectors")
        try:
            image.parent.mkdir(parents=True, exist_ok=True)
            with image.open("ab") as file:
                if file.tell() < sectors * sector:
                    os.truncate(image, sectors * sector)
            whole_rows(image.with_suffix(".map"), _ROW)
        except OSError as error:
            raise StoreError(
                f"{image}: expected room for a sparse image of {sectors * sector} bytes, got {error.strerror}"
            ) from error
        return SectorStore(str(image), sector, sectors, str(image.with_suffix(".map")))

    def only(self, ticket_id: int, start: str) -> None:
        """Parts by another start of the ticket's machine go: its own system may have written since. `start`: how the
        names of those end that stay."""
        for place in (self.folder / str(ticket_id)).glob("*.img"):
            if not place.stem.endswith(f"-{start}"):
                place.unlink(missing_ok=True)
                place.with_suffix(".map").unlink(missing_ok=True)

    def remove_all(self, ticket_id: int) -> None:
        """Everything that is kept of a ticket's volumes. Raises StoreError."""
        place = self.folder / str(ticket_id)
        try:
            if place.exists():
                shutil.rmtree(place)
        except OSError as error:
            raise StoreError(
                f"{place}: expected what was read of volumes to be deletable, got {error.strerror}"
            ) from error

    def write(self, ground: SectorStore, at: int, parts: Sequence[bytes] | None, length: int) -> None:
        """Bytes that were read, in parts as they came; None: zeros. Raises StoreError."""
        if at % ground.sector or length % ground.sector or at + length > ground.sectors * ground.sector:
            raise StoreError(
                f"part: expected whole sectors within {ground.sectors * ground.sector} bytes, got {length} at {at}"
            )
        try:
            descriptor = os.open(ground.image, os.O_WRONLY)
            try:
                if parts is not None:
                    pwritev_all(descriptor, parts, at)
                else:
                    _punched(descriptor, at, length)
            finally:
                os.close(descriptor)
        except OSError as error:
            raise StoreError(f"{ground.image}: expected room on the bench's disk, got {error.strerror}") from error
        self.mark(ground, at // ground.sector, length // ground.sector, READ)

    def mark(self, ground: SectorStore, first: int, count: int, state: int) -> None:
        with self._lock:
            self._waiting.setdefault(Path(ground.marks), []).append((first, count, state))

    def settle(self, ground: SectorStore) -> None:
        """All that came stands in the map."""
        place = Path(ground.marks)
        with self._lock:
            rows = self._waiting.pop(place, [])
        if not rows:
            return
        try:
            self._settled(ground, place, rows)
        except OSError as error:
            with self._lock:  # they come again with what follows
                self._waiting[place] = [*rows, *self._waiting.get(place, [])]
            raise StoreError(f"{place}: expected room on the bench's disk, got {error.strerror}") from error

    @staticmethod
    def _settled(ground: SectorStore, place: Path, rows: list[tuple[int, int, int]]) -> None:
        if not this_start():
            descriptor = os.open(ground.image, os.O_RDONLY)
            try:
                os.fsync(descriptor)
            finally:
                os.close(descriptor)
        append_rows(place, _ROW, b"".join(_ROW.pack(*row) for row in [(this_start(), 0, _START), *rows]))

    def drop(self, ground: SectorStore, runs: Iterable[tuple[int, int]]) -> None:
        """Sectors whose bytes are not needed any more give their room back."""
        own = list(runs)
        for first, count in own:
            self.mark(ground, first, count, UNKNOWN)
        self.settle(ground)  # the map first: nobody reads a hole for bytes
        with contextlib.suppress(OSError):
            descriptor = os.open(ground.image, os.O_WRONLY)
            try:
                for first, count in own:
                    _punched(descriptor, first * ground.sector, count * ground.sector)
            finally:
                os.close(descriptor)


@functools.cache
def this_start() -> int:
    """Which start of the machine this is, as Linux names it in /proc/sys/kernel/random/boot_id; 0 where it does not."""
    try:
        return int(
            Path("/proc/sys/kernel/random/boot_id").read_text(encoding="ascii").strip().replace("-", "")[:16], 16
        )
    except (OSError, ValueError):
        return 0


def _punched(descriptor: int, at: int, length: int) -> None:
    """A hole in a file; where its file system has none, zeros."""
    call = ctypes.CDLL(None, use_errno=True).fallocate
    call.argtypes = [ctypes.c_int, ctypes.c_int, ctypes.c_int64, ctypes.c_int64]
    if call(descriptor, _KEEP_SIZE_PUNCH_HOLE, at, length) == 0:
        return
    while length > 0:
        step = min(length, 1 << 20)
        os.pwrite(descriptor, bytes(step), at)
        at, length = at + step, length - step
