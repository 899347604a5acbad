"""A key from a file or standard input, and how much memory there is to derive from it. A key is never an argument."""

from __future__ import annotations

import os
import sys
from pathlib import Path

from gatecheck.core.errors import InputError
from gatecheck.core.locked.keys import Key, key_of

_LARGEST = 1 << 20


def read_key(place: str) -> Key:
    """Raises InputError."""
    try:
        if place == "-":
            raw = sys.stdin.buffer.read(_LARGEST + 1)
        else:
            with Path(place).open("rb") as file:
                raw = file.read(_LARGEST + 1)
    except OSError as error:
        raise InputError(f"--key-file {place}: expected a file that can be read, got {error.strerror}") from error
    return key_of(raw)


def free_memory() -> int | None:
    """Bytes that can be had without swapping, None where the system does not say."""
    try:
        for line in Path("/proc/meminfo").read_text().splitlines():
            if line.startswith("MemAvailable:"):
                return int(line.split()[1]) << 10
        return os.sysconf("SC_AVPHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
    except (OSError, ValueError):
        return None
