"""Images that are copied off a drive: written piece by piece as they come, durable before the probe is told, verified
against what was sent.

Beside `ORDER.img` (sparse, as large as the drive) stands `ORDER.b2`: place, length and BLAKE2b (RFC 7693, 32 bytes) of
every piece as the probe has told it, in the order they came; of two for one place the later counts. On its way a piece
is watched by a CRC-32; that it is what was read shows when all of it is read back. Copies are no part of a backup: they
are as large as the drives they are of."""

from __future__ import annotations

import errno
import hashlib
import os
import re
import shutil
import struct
import threading
from bisect import bisect_left
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from gatecheck.adapters.row_file import append_rows
from gatecheck.adapters.vectored_write import crc_of, pwritev_all
from gatecheck.server.errors import NotFoundError
from gatecheck.store import StoreError

_SUM = struct.Struct("<QI32s")
_PLACE = struct.Struct("<QQ")
LARGEST_PIECE = 8 << 20
_WRONG = ".wrong"
_SUMS, _DIGEST = ".b2", re.compile(r"[0-9a-f]{64}")
_ZEROS = b"\0" * 32
"""stands for the sum of a piece of zeros: nothing is written for it"""
_LEAVE_FREE = 2 << 30
_LARGEST_DISK = 1 << 47


def sum_of(data: bytes) -> bytes:
    """BLAKE2b of 32 bytes (RFC 7693)."""
    return hashlib.blake2b(data, digest_size=32).digest()


def _older(data: bytes) -> bytes:
    return hashlib.sha256(data).digest()


_KINDS: Mapping[str, Callable[[bytes], bytes]] = {".sums": _older, _SUMS: sum_of}
"""the files that stand beside an image, and whose sums they hold: copies that were begun by an older server have the
first"""


def pieces_of(image: str | Path) -> Iterator[tuple[int, int]]:
    """(place, length) of every piece that an image was given, in the order they came."""
    for suffix in _KINDS:
        for at, length, _ in _sums(Path(image).with_suffix(suffix)):
            yield at, length


def _sums(place: Path) -> Iterator[tuple[int, int, bytes]]:
    raw = place.read_bytes() if place.exists() else b""
    yield from _SUM.iter_unpack(raw[: len(raw) // _SUM.size * _SUM.size])


def _next_data(descriptor: int, at: int) -> int | None:
    """Where the next bytes from there are that are no hole; None where a hole goes to the end. A file system that knows
    no holes has bytes everywhere."""
    try:
        return os.lseek(descriptor, at, os.SEEK_DATA)
    except OSError as error:
        return None if error.errno == errno.ENXIO else at


@dataclass(frozen=True, slots=True)
class DriveCopy:
    """An image on the bench's disk. `used`: bytes that it takes there."""

    order: int
    path: Path
    size: int
    used: int


class _Index:
    """Pieces of a copy by place: place -> (length, sum, how it is summed)."""

    def __init__(self, mark: object, pieces: Mapping[int, tuple[int, bytes, Callable[[bytes], bytes]]]) -> None:
        self.mark, self.pieces = mark, pieces
        self.places = sorted(pieces)
        self.longest = max((own[0] for own in pieces.values()), default=0)

    def over(self, at: int, length: int) -> Iterator[tuple[int, tuple[int, bytes, Callable[[bytes], bytes]]]]:
        """Those that lie over these bytes, by their place."""
        for place in self.places[bisect_left(self.places, at - self.longest) : bisect_left(self.places, at + length)]:
            if place + self.pieces[place][0] > at:
                yield place, self.pieces[place]


class Copies:
    """The copies of a shop, under a folder of its own for each ticket."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._lock = threading.Lock()
        self._indexes: dict[Path, _Index] = {}

    def image(self, ticket_id: int, order_id: int) -> Path:
        return self.folder / str(ticket_id) / f"{order_id}.img"

    def room(self) -> int:
        """Bytes that may still be written, with some left for everything else."""
        place = self.folder
        while not place.exists():
            place = place.parent
        return max(0, shutil.disk_usage(place).free - _LEAVE_FREE)

    def begin(self, ticket_id: int, order_id: int, size: int) -> None:
        """Make the image as large as the drive; one that is there stays as it is. Raises StoreError where it cannot be
        made."""
        path = self.image(ticket_id, order_id)
        if not 0 < size <= _LARGEST_DISK:
            raise StoreError(f"copy: expected a drive of a known size, got {size} bytes")
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            with path.open("ab") as file:
                if file.tell() < size:
                    os.truncate(path, size)
        except OSError as error:
            raise StoreError(f"{path}: expected room for an image of {size} bytes, got {error.strerror}") from error

    def write(
        self, ticket_id: int, order_id: int, at: int, parts: Sequence[bytes], told: str, crc: int | None = None
    ) -> None:
        """Keep a piece, in parts as they came. `told`: its BLAKE2b where a `crc` came with it, else its SHA-256, as
        older probes send it. Raises StoreError for bytes that are not those of the sum, or that do not fit; nothing is
        kept of them."""
        path, length = self.image(ticket_id, order_id), sum(map(len, parts))
        if crc is not None:
            is_so, digest = (
                crc_of(parts) == crc and bool(_DIGEST.fullmatch(told)),
                bytes.fromhex(told) if _DIGEST.fullmatch(told) else b"",
            )
        else:
            data = b"".join(parts)
            is_so, digest = hashlib.sha256(data).hexdigest() == told, sum_of(data)
        if not is_so:
            raise StoreError(f"copy at byte {at}: expected the bytes of the sum, got others")
        self._fits(path, at, length)
        if self.room() < length:
            raise StoreError(
                f"copy: expected room on the bench's disk, got {shutil.disk_usage(path.parent).free >> 20} MiB free"
            )
        descriptor = os.open(path, os.O_WRONLY)
        try:
            pwritev_all(descriptor, parts, at)
        except OSError as error:
            raise StoreError(f"{path}: expected room on the bench's disk, got {error.strerror}") from error
        finally:
            os.close(descriptor)
        self._note(path, at, length, digest)

    def zeros(self, ticket_id: int, order_id: int, at: int, length: int) -> None:
        """A stretch of zeros: a hole in the image."""
        path = self.image(ticket_id, order_id)
        self._fits(path, at, length)
        while length > 0:
            part = min(length, LARGEST_PIECE)
            self._note(path, at, part, _ZEROS)
            at, length = at + part, length - part

    @staticmethod
    def _fits(path: Path, at: int, length: int) -> None:
        if not path.exists():
            raise NotFoundError(f"{path.name}: expected a copy that was begun, got none")
        if at < 0 or length < 0 or at + length > path.stat().st_size:
            raise StoreError(f"copy: expected a place within {path.stat().st_size} bytes, got {length} at {at}")

    def _note(self, path: Path, at: int, length: int, digest: bytes) -> None:
        """Raises StoreError."""
        try:
            with self._lock:
                append_rows(path.with_suffix(_SUMS), _SUM, _SUM.pack(at, length, digest))
        except OSError as error:
            raise StoreError(f"{path}: expected room on the bench's disk, got {error.strerror}") from error

    def read(
        self, ticket_id: int, order_id: int, at: int, length: int, *, holes: bool = False
    ) -> tuple[bytes | None, int]:
        """(bytes of the image, 0) or (None, how many bytes from there are zeros: at least `length`, unless the image
        ends before). Every piece of them is held against the sum that it came with: what is no piece is not in the
        copy, and stands as zeros; so does, with `holes`, one that is not as it came. Raises NotFoundError; StoreError
        for such a piece where nobody said that holes are known."""
        path = self.image(ticket_id, order_id)
        self._fits(path, at, length)
        index = self._index(path)
        with path.open("rb") as file:
            following = _next_data(file.fileno(), at)
            if following is None or following < at + length:
                data = self._vouched(path, index, file.fileno(), at, length, holes=holes)
                if data != bytes(len(data)):
                    return data, 0
                following = _next_data(file.fileno(), at + length)
            size, end = path.stat().st_size, at + length
            more = (size if following is None else min(following, size)) - end
            return None, length + max(0, more if following is None else more - more % max(length, 1))

    def _index(self, path: Path) -> _Index:
        """The pieces of a copy by their places, as its notes stand now."""
        places = [path.with_suffix(suffix) for suffix in _KINDS]
        mark = tuple((p.stat().st_size, p.stat().st_mtime_ns) if p.exists() else (0, 0) for p in places)
        with self._lock:
            known = self._indexes.get(path)
            if known is None or known.mark != mark:
                known = _Index(
                    mark,
                    {
                        at: (length, digest, kind)
                        for suffix, kind in _KINDS.items()
                        for at, length, digest in _sums(path.with_suffix(suffix))
                    },
                )
                self._indexes = {path: known, **dict(list(self._indexes.items())[:3])}
            return known

    def _vouched(self, path: Path, index: _Index, descriptor: int, at: int, length: int, *, holes: bool) -> bytes:
        """The bytes there that are as they came; zeros for all others. Raises StoreError."""
        out = bytearray(length)
        for start, (size, digest, kind) in index.over(at, length):
            low, high = max(at, start), min(at + length, start + size)
            if digest == _ZEROS:
                out[low - at : high - at] = bytes(high - low)
                continue
            data = os.pread(descriptor, size, start)
            if len(data) == size and kind(data) == digest:
                out[low - at : high - at] = data[low - start : high - start]
                continue
            self.mark_wrong(path, [(start, size)])
            if not holes:
                raise StoreError(
                    f"{path.name}: byte {start}: expected the bytes that were copied, got others: the bench's disk "
                    f"has "
                    f"changed them since. Fill with what is left of it, or copy again"
                )
            out[low - at : high - at] = bytes(high - low)
        return bytes(out)

    def mark_wrong(self, path: Path, pieces: Sequence[tuple[int, int]]) -> None:
        """Pieces that were found not to be as they came; kept beside the image, and counted as missing. Raises
        StoreError."""
        known = set(self.wrong(path))
        new = [p for p in pieces if p not in known]
        if new:
            try:
                append_rows(path.with_suffix(_WRONG), _PLACE, b"".join(_PLACE.pack(*p) for p in new))
            except OSError as error:
                raise StoreError(f"{path}: expected room on the bench's disk, got {error.strerror}") from error

    @staticmethod
    def wrong(path: Path) -> list[tuple[int, int]]:
        """(place, length) of pieces that were found wrong once."""
        place = path.with_suffix(_WRONG)
        raw = place.read_bytes() if place.exists() else b""
        return list(_PLACE.iter_unpack(raw[: len(raw) // _PLACE.size * _PLACE.size]))

    def changes(self, path: Path, runs: Sequence[tuple[int, int]]) -> Callable[[], None]:
        """Something is about to be written to these runs of a copy (byte, length). What is called once it was: their
        sums anew. Raises StoreError where a piece of them is not as it came: what is wrong is not made right by a new
        sum."""
        index = self._index(path)
        touched: dict[int, int] = {}
        with path.open("rb") as file:
            for at, length in runs:
                covered = 0
                for start, (size, digest, kind) in index.over(at, length):
                    data = os.pread(file.fileno(), size, start)
                    if (digest == _ZEROS and any(data)) or (digest != _ZEROS and kind(data) != digest):
                        raise StoreError(
                            f"{path.name}: byte {start}: expected the bytes that were copied, got others: the "
                            f"bench's "
                            f"disk has changed them since; nothing was written"
                        )
                    touched[start] = size
                    covered += min(at + length, start + size) - max(at, start)
                if covered < length:
                    touched[at] = max(length, touched.get(at, 0))

        def noted() -> None:
            with path.open("rb") as file:
                for start, size in sorted(touched.items()):
                    self._note(path, start, size, sum_of(os.pread(file.fileno(), size, start)))

        return noted

    def sync(self, ticket_id: int, order_id: int) -> None:
        """All that was kept so far is on the disk."""
        path = self.image(ticket_id, order_id)
        for place in (path, path.with_suffix(_SUMS)):
            if place.exists():
                descriptor = os.open(place, os.O_RDONLY)
                try:
                    os.fsync(descriptor)
                finally:
                    os.close(descriptor)

    def verify(
        self, ticket_id: int, order_id: int, told: Callable[[int, int], None] = lambda done, of: None
    ) -> list[tuple[int, int]]:
        """Read the image back and compare it with what was sent: (place, length) of every piece that is not as it came.
        `told`: how far, in bytes."""
        path = self.image(ticket_id, order_id)
        newest = {
            at: (length, digest, kind)
            for suffix, kind in _KINDS.items()
            for at, length, digest in _sums(path.with_suffix(suffix))
        }
        path.with_suffix(_WRONG).unlink(missing_ok=True)  # it is told anew
        wrong, done, of = [], 0, sum(length for length, digest, _ in newest.values() if digest != _ZEROS)
        with path.open("rb") as file:
            for at, (length, digest, kind) in sorted(newest.items(), key=lambda item: item[0]):
                if digest == _ZEROS:
                    continue
                data = os.pread(file.fileno(), length, at)
                if kind(data) != digest:
                    wrong.append((at, length))
                    self.mark_wrong(path, [(at, length)])
                done += length
                told(done, of)
        return wrong

    def of_ticket(self, ticket_id: int) -> list[DriveCopy]:
        """What is there, the newest last."""
        found = []
        for path in sorted(
            (self.folder / str(ticket_id)).glob("*.img"), key=lambda p: int(p.stem) if p.stem.isdigit() else 0
        ):
            told = path.stat()
            found.append(DriveCopy(int(path.stem), path, told.st_size, told.st_blocks * 512))
        return found

    def remove(self, ticket_id: int, order_id: int) -> None:
        """Delete a copy. Raises NotFoundError."""
        path = self.image(ticket_id, order_id)
        if not path.exists():
            raise NotFoundError(f"copy {order_id}: expected a copy of this ticket, got none")
        path.unlink()
        for suffix in (*_KINDS, _WRONG):
            path.with_suffix(suffix).unlink(missing_ok=True)

    def remove_all(self, ticket_id: int) -> None:
        """A customer who is erased leaves no copy behind. Raises StoreError where one cannot be deleted."""
        place = self.folder / str(ticket_id)
        try:
            if place.exists():
                shutil.rmtree(place)
        except OSError as error:
            raise StoreError(f"{place}: expected copies that can be deleted, got {error.strerror}") from error
