"""What was worked out from the program's own files, kept between runs: compiled tables, parsed catalogues.

A kept value goes by everything it was made from: path, size and time of change of each file, as Python keeps its own
compiled code. It is only read from a folder and a file that nobody else can write to. Where there is none, or it is
broken, it is made anew: nothing but time is lost."""

from __future__ import annotations

import contextlib
import mmap
import os
import pickle
import stat
import struct
import sys
import zlib
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any, TypeVar

T = TypeVar("T")
_MOST_KEPT = 6
"""values of one name that stay on the disk: several checkouts share the folder"""
_ALIGNED = 64
"""where arrays begin in a kept file, bytes"""


class _MmapOnce:
    map = False


_HURRY = _MmapOnce()


def use_mmap() -> None:
    """This process is done in a moment: what is kept is mapped and not read, for most of a big table is never looked
    at."""
    _HURRY.map = True


def cache_folder() -> Path:
    """Where the program keeps what it can make again: `$GATECHECK_CACHE`, else the user's own cache folder."""
    own = os.environ.get("GATECHECK_CACHE")
    return Path(own) if own else Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "gatecheck"


def kept(name: str, made_from: Iterable[Path], make: Callable[[], T]) -> T:
    """What `make` gave at an earlier run, as long as every file it was made from is still the same; otherwise what it
    gives now, kept for the next."""
    try:
        key = (
            sys.version,
            *((str(file), (found := file.stat()).st_size, found.st_mtime_ns) for file in sorted(made_from)),
        )
        place = cache_folder() / f"{name}-{zlib.crc32(repr(key).encode()):08x}.kept"
    except (OSError, RuntimeError):  # no home folder, or a package that lies in no folder
        return make()
    with contextlib.suppress(Exception):  # whatever is wrong with it, it is made again
        if _is_ours(place.parent) and _is_ours(place):
            of, value = _read(place)
            if of == key:
                found_value: T = value
                return found_value
    made = make()
    if place.parent.exists() and not _is_ours(place.parent):
        return made  # somebody else's folder: it would not be read from there
    with contextlib.suppress(
        OSError, pickle.PicklingError, AttributeError, TypeError
    ):  # the last two: what cannot be pickled
        _keep(place, (key, made))
    return made


def _is_ours(place: Path) -> bool:
    """Nobody else can have written it."""
    found = place.stat()
    return os.name != "posix" or (found.st_uid == os.geteuid() and not found.st_mode & (stat.S_IWGRP | stat.S_IWOTH))


def _read(place: Path) -> tuple[object, Any]:
    """What `_keep` wrote. Its arrays lie side by side in memory, or in the mapped file."""
    with place.open("rb") as file:
        content = memoryview(mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_COPY) if _HURRY.map else file.read())
    (count,) = struct.unpack_from("<Q", content)
    sizes = struct.unpack_from(f"<{count}Q", content, 8)
    at, parts = 8 + 8 * count, []
    for size in sizes:
        at += -at % _ALIGNED
        part = content[at : at + size]
        # a large block given back also teaches the allocator to keep what is freed later
        parts.append(part if _HURRY.map else bytearray(part))
        at += size
    of, value = pickle.loads(parts[0], buffers=parts[1:])
    return of, value


def _keep(place: Path, value: object) -> None:
    import tempfile

    buffers: list[pickle.PickleBuffer] = []
    head = pickle.dumps(value, protocol=5, buffer_callback=buffers.append)
    parts = [memoryview(head), *(b.raw() for b in buffers)]
    place.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    handle, made = tempfile.mkstemp(dir=place.parent, prefix=".kept-")
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(struct.pack(f"<{len(parts) + 1}Q", len(parts), *(len(p) for p in parts)))
            for part in parts:
                file.write(bytes(-file.tell() % _ALIGNED))
                file.write(part)
        os.replace(made, place)
    except BaseException:
        os.unlink(made)
        raise
    others = sorted(place.parent.glob(f"{place.name.rpartition('-')[0]}-*.kept"), key=lambda p: p.stat().st_mtime)
    for old in others[:-_MOST_KEPT]:
        old.unlink(missing_ok=True)
