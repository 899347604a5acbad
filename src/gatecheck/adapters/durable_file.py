"""A file that is whole under its name, or is as it was: written beside it, synced, renamed, and its folder synced.

Without the last, a name may be gone after a power cut though the program has gone on (ext4, XFS, btrfs; rename(2),
fsync(2))."""

from __future__ import annotations

import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO


@contextmanager
def durable(place: Path) -> Iterator[BinaryIO]:
    """The file to be written, by another name; under its own once the block has ended without an error. Raises
    OSError."""
    place.parent.mkdir(parents=True, exist_ok=True)
    own = f"{os.getpid()}-{threading.get_native_id()}"
    part = place.with_name(f".{place.name.encode()[:200].decode('utf-8', 'ignore')}.{own}.part")
    try:
        with part.open("wb") as file:
            yield file
            file.flush()
            os.fsync(file.fileno())
        part.replace(place)
        sync_folder(place.parent)
    finally:
        part.unlink(missing_ok=True)


def write_durably(place: Path, data: bytes) -> None:
    """All of it under this name, or what was there. Raises OSError."""
    with durable(place) as file:
        file.write(data)


def put_in_place(whole: Path, place: Path) -> None:
    """A file that was written beside it, in one step. Raises OSError."""
    with whole.open("rb") as file:
        os.fsync(file.fileno())
    whole.replace(place)
    sync_folder(place.parent)


def sync_folder(folder: Path) -> None:
    """The names in it are on the disk. Raises OSError."""
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
