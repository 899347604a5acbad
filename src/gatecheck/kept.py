"""What was worked out from the program's own files, kept between runs: compiled tables, parsed catalogues.

A kept value goes by everything it was made from: path, size and time of change of each file, as Python keeps its own compiled code. It is only read from
a folder and a file that nobody else can write to. Where there is none, or it is broken, it is made anew: nothing but time is lost.
"""

from __future__ import annotations

import contextlib
import os
import pickle
import stat
import sys
import zlib
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import TypeVar

T = TypeVar("T")
_MOST_KEPT = 6
"""values of one name that stay on the disk: several checkouts share the folder"""


def cache_folder() -> Path:
    """Where the program keeps what it can make again: `$GATECHECK_CACHE`, else the user's own cache folder."""
    own = os.environ.get("GATECHECK_CACHE")
    return Path(own) if own else Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "gatecheck"


def kept(name: str, made_from: Iterable[Path], make: Callable[[], T]) -> T:
    """What `make` gave at an earlier run, as long as every file it was made from is still the same; otherwise what it gives now, kept for the next."""
    try:
        key = (sys.version, *((str(file), (found := file.stat()).st_size, found.st_mtime_ns) for file in sorted(made_from)))
        place = cache_folder() / f"{name}-{zlib.crc32(repr(key).encode()):08x}.pickle"
    except (OSError, RuntimeError):  # no home folder, or a package that lies in no folder
        return make()
    with contextlib.suppress(Exception):  # whatever is wrong with it, it is made again
        if _is_ours(place.parent) and _is_ours(place):
            of, value = pickle.loads(place.read_bytes())
            if of == key:
                found_value: T = value
                return found_value
    made = make()
    with contextlib.suppress(OSError, pickle.PicklingError):
        _keep(place, (key, made))
    return made


def _is_ours(place: Path) -> bool:
    """Nobody else can have written it."""
    found = place.stat()
    return os.name != "posix" or (found.st_uid == os.geteuid() and not found.st_mode & (stat.S_IWGRP | stat.S_IWOTH))


def _keep(place: Path, value: object) -> None:
    import tempfile

    place.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    handle, made = tempfile.mkstemp(dir=place.parent, prefix=".kept-")
    try:
        with os.fdopen(handle, "wb") as file:
            pickle.dump(value, file, protocol=5)
        os.replace(made, place)
    except BaseException:
        os.unlink(made)
        raise
    others = sorted(place.parent.glob(f"{place.name.rpartition('-')[0]}-*.pickle"), key=lambda p: p.stat().st_mtime)
    for old in others[:-_MOST_KEPT]:
        old.unlink(missing_ok=True)
