"""Writing to an image by a plan, with a way back.

Order: the undo file is complete and on disk under its own name before the first byte of the image changes; each write
is read back; where something stops it, the image holds, byte for byte, either what was there or what was to be there,
and the undo file knows both."""

from __future__ import annotations

import base64
import contextlib
import errno
import fcntl
import hashlib
import json
import os
import stat
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from operator import index
from pathlib import Path

from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.adapters.durable_file import sync_folder
from gatecheck.core.disk.identity import identity_of_disk
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.errors import InputError

FORMAT, VERSION = "gatecheck-undo", 1
_LARGEST_UNDO, _MOST_WRITES = 512 << 20, 100_000


@dataclass(frozen=True, slots=True)
class Change:
    """`at`: byte of the image; what stood there and what is to stand there, of equal length; `around`: a sum of what
    surrounds it and is not changed, empty in an older undo file."""

    at: int
    before: bytes
    after: bytes
    around: str = ""


@dataclass(frozen=True, slots=True)
class UndoFile:
    """`size`: bytes of the image; `plans`: what was applied; `disk`: what the image was told by (`core/disk/identity`),
    and `sector` its bytes of a sector."""

    size: int
    plans: tuple[str, ...]
    changes: tuple[Change, ...]
    disk: tuple[str, ...] = ()
    sector: int = 512


def write_undo(place: Path, undo: UndoFile) -> None:
    """Durable under its name, or not there at all. Raises InputError where the name is taken or the file cannot be
    written."""
    if place.exists():
        raise InputError(f"--undo {place}: expected a name that is free, got a file that is there already")
    body = [
        {
            "at": c.at,
            "before": base64.b64encode(c.before).decode(),
            "after": base64.b64encode(c.after).decode(),
            "around": c.around,
        }
        for c in undo.changes
    ]
    document: dict[str, object] = {
        "format": FORMAT,
        "version": VERSION,
        "size": undo.size,
        "sector": undo.sector,
        "disk": list(undo.disk),
        "plans": list(undo.plans),
        "count": len(body),
        "writes": body,
        "sha256": _sum(body),
    }
    raw = json.dumps({**document, "whole": _sum(document)}).encode()
    if len(raw) > _LARGEST_UNDO or len(body) > _MOST_WRITES:
        raise InputError(
            f"--undo {place}: expected at most {_MOST_WRITES} writes and {_LARGEST_UNDO >> 20} MiB of undo, got "
            f"{len(body)} and {len(raw) >> 20} MiB; nothing was written to the image: apply fewer plans at once"
        )
    waiting = place.with_name(f".{place.name}.part")
    try:
        with waiting.open("wb") as file:
            file.write(raw)
            file.flush()
            os.fsync(file.fileno())
        _named(waiting, place)
        sync_folder(place.parent)
    except OSError as error:
        raise InputError(
            f"--undo {place}: expected a file that can be written, got {error.strerror}; "
            "nothing was written to the image"
        ) from error
    finally:
        waiting.unlink(missing_ok=True)


def _named(waiting: Path, place: Path) -> None:
    """Give the whole file its name, where nobody took it meanwhile. A stick's file system has no second names: there it
    is renamed."""
    try:
        os.link(waiting, place)
    except OSError as error:
        if error.errno not in (errno.EPERM, errno.EOPNOTSUPP, errno.ENOSYS) or place.exists():
            raise
        waiting.rename(place)


def _sum(body: object) -> str:
    return hashlib.sha256(json.dumps(body, sort_keys=True).encode()).hexdigest()


def read_undo(place: Path) -> UndoFile:
    """Raises InputError for what is no whole undo file."""
    try:
        if place.stat().st_size > _LARGEST_UNDO:
            raise InputError(
                f"{place}: expected an undo file of at most {_LARGEST_UNDO >> 20} MiB, got "
                f"{place.stat().st_size >> 20} MiB"
            )
        document = json.loads(place.read_bytes())
    except OSError as error:
        raise InputError(f"{place}: expected an undo file, got {error.strerror}") from error
    except (ValueError, RecursionError) as error:
        raise InputError(f"{place}: expected an undo file, got something else") from error
    if not isinstance(document, dict) or document.get("format") != FORMAT:
        raise InputError(f"{place}: expected an undo file, got something else")
    if document.get("version") != VERSION:
        raise InputError(f"{place}: expected an undo file of version {VERSION}, got {document.get('version')!r}")
    body = document.get("writes")
    if not isinstance(body, list) or len(body) > _MOST_WRITES or document.get("sha256") != _sum(body):
        raise InputError(f"{place}: expected a complete undo file, got one with a wrong checksum")
    try:
        changes = tuple(
            Change(
                index(w["at"]),
                base64.b64decode(w["before"], validate=True),
                base64.b64decode(w["after"], validate=True),
                str(w.get("around", "")),
            )
            for w in body
        )
        size, plans = index(document["size"]), tuple(map(str, document["plans"]))
        disk, sector = tuple(map(str, document.get("disk", ()))), index(document.get("sector", 512))
    except (KeyError, TypeError, ValueError) as error:
        raise InputError(f"{place}: expected an undo file, got one with a broken write") from error
    if any(len(c.before) != len(c.after) or c.at < 0 or c.at + len(c.after) > size for c in changes):
        raise InputError(f"{place}: expected writes within {size} bytes, got one outside")
    is_whole = document.get("whole") == _sum(
        {name: value for name, value in document.items() if name != "whole"}
    ) and document.get("count") == len(body)
    if not is_whole and (
        "whole" in document or disk or any(c.around for c in changes)
    ):  # one that an older program wrote has none of it
        raise InputError(f"{place}: expected a complete undo file, got one with a wrong checksum")
    if sector not in (512, 1024, 2048, 4096):
        raise InputError(f"{place}: expected sectors of 512 to 4096 bytes, got {sector}")
    return UndoFile(size, plans, changes, disk, sector)


class Target:
    """An image opened for writing, by nobody else. Devices are not: a drive is mended through the link, with
    clearance."""

    def __init__(self, path: str) -> None:
        """Raises InputError."""
        self.path = path
        try:
            self.descriptor = os.open(path, os.O_RDWR)
        except OSError as error:
            raise InputError(f"{path}: expected an image that can be written, got {error.strerror}") from error
        try:
            told = os.fstat(self.descriptor)
            if not stat.S_ISREG(told.st_mode):
                raise InputError(f"{path}: expected an image file, got a device: repair a drive over the connection")
            fcntl.flock(self.descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            os.close(self.descriptor)
            raise InputError(f"{path}: expected an image that nobody else writes to, got one that is locked") from error
        except InputError:
            os.close(self.descriptor)
            raise
        self.size = told.st_size

    def read(self, at: int, count: int) -> bytes:
        return os.pread(self.descriptor, count, at)

    def write(self, at: int, data: bytes) -> None:
        """On disk when it returns, and read back. Raises InputError where that fails."""
        try:
            done = 0
            while done < len(data):
                done += os.pwrite(self.descriptor, data[done:], at + done)
            os.fsync(self.descriptor)
            back = self.read(at, len(data))
        except OSError as error:
            raise InputError(
                f"{self.path}: byte {at}: expected {len(data)} bytes written, got {error.strerror}; the undo file "
                f"knows what was there"
            ) from error
        if back != data:
            raise InputError(
                f"{self.path}: byte {at}: expected to verify the written bytes, got other bytes; the undo file "
                f"has the old ones"
            )

    def close(self) -> None:
        os.close(self.descriptor)


@contextlib.contextmanager
def target(path: str) -> Iterator[Target]:
    own = Target(path)
    try:
        yield own
    finally:
        own.close()


def changes_of(own: Target, writes: Sequence[tuple[int, bytes]]) -> list[Change]:
    return [Change(at, own.read(at, len(data)), data) for at, data in writes]


_AROUND = 512
"""bytes before and behind a place that tell where it is"""


def _around(own: Target, changes: Sequence[tuple[int, int]], at: int, length: int) -> str:
    """A sum of what stands around a place, without what is changed there by any of the writes: the same before them, in
    the middle of them, and after."""
    start = max(0, at - _AROUND)
    data = bytearray(own.read(start, at + length + _AROUND - start))
    for other, size in changes:
        low, high = max(other, start), min(other + size, start + len(data))
        if low < high:
            data[low - start : high - start] = bytes(high - low)
    return hashlib.sha256(data).hexdigest()


def _identity(own: Target, sector: int, back: Sequence[Change] = ()) -> tuple[str, ...]:
    """What the image is told by, as it was before these changes."""
    return identity_of_disk(Overlay(ImageSectors(own.path, sector=sector), [(c.at, c.before) for c in back]))


def apply(own: Target, undo_file: Path, plans: Sequence[str], writes: Sequence[tuple[int, bytes]]) -> None:
    """Undo file first, then each write. Raises InputError; what was begun can be reverted, or gone on with by the same
    undo file."""
    places = [(at, len(data)) for at, data in writes]
    changes = [
        Change(c.at, c.before, c.after, _around(own, places, c.at, len(c.after))) for c in changes_of(own, writes)
    ]
    sector = ImageSectors(own.path).sector
    write_undo(undo_file, UndoFile(own.size, tuple(plans), tuple(changes), _identity(own, sector), sector))
    for change in changes:
        own.write(change.at, change.after)


def go_on(own: Target, undo: UndoFile) -> bool:
    """Finish what was begun by this undo file. True where something was left to do. Raises InputError where the image
    holds neither the one nor the other."""
    _expect_ours(own, undo)
    left = [c for c in undo.changes if own.read(c.at, len(c.after)) != c.after]
    for change in left:
        own.write(change.at, change.after)
    return bool(left)


def revert(own: Target, undo: UndoFile) -> int:
    """Every byte as it was, the last write first; how many were written, 0 where all of them are as they were already.
    Raises InputError, and writes nothing, where the image is another one, or holds neither what was written nor what
    was there."""
    _expect_ours(own, undo)
    left = [c for c in reversed(undo.changes) if own.read(c.at, len(c.before)) != c.before]
    for change in left:
        own.write(change.at, change.before)
    return sum(len(c.before) for c in left)


def _expect_ours(own: Target, undo: UndoFile) -> None:
    if own.size != undo.size:
        raise InputError(
            f"{own.path}: expected the image that the undo file was made for ({undo.size} bytes), got one of "
            f"{own.size} bytes"
        )
    if undo.disk and _identity(own, undo.sector, undo.changes) != undo.disk:
        raise InputError(
            f"{own.path}: expected the image that the undo file was made for, got one whose tables or volumes have "
            f"other identifiers; nothing was changed"
        )
    places = [(c.at, len(c.after)) for c in undo.changes]
    for change in undo.changes:
        if change.around and _around(own, places, change.at, len(change.after)) != change.around:
            raise InputError(
                f"{own.path}: byte {change.at}: expected what surrounded it when it was written, got other bytes: "
                f"it "
                f"is another image, or something else has written to it; nothing was changed"
            )
        now = own.read(change.at, len(change.after))
        if now != change.after and any(
            n not in (b, a) for n, b, a in zip(now, change.before, change.after, strict=True)
        ):
            raise InputError(
                f"{own.path}: byte {change.at}: expected what was written there, got other bytes: something else "
                f"has "
                f"written to it since; nothing was changed"
            )
