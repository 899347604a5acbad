"""Bytes that came in parts: summed and written as they are, for joining them would be one more copy of a whole
drive."""

from __future__ import annotations

import os
import zlib
from collections.abc import Iterable

_AT_ONCE = 512
"""parts of one write; POSIX has at least 16 (IOV_MAX), Linux 1024"""


def crc_of(parts: Iterable[bytes]) -> int:
    """CRC-32 (ISO 3309) of parts one after the other."""
    found = 0
    for part in parts:
        found = zlib.crc32(part, found)
    return found


def pwritev_all(descriptor: int, parts: Iterable[bytes], at: int) -> None:
    """All of these, one after the other, from a byte of an open file on; a disk that is nearly full takes less than it
    was given, and fails the next time. Raises OSError."""
    left: list[memoryview] = [memoryview(part) for part in parts if part]
    while left:
        done = os.pwritev(descriptor, left[:_AT_ONCE], at)
        at += done
        whole = 0
        while whole < len(left) and done >= len(left[whole]):
            done -= len(left[whole])
            whole += 1
        left = [left[whole][done:], *left[whole + 1 :]] if done else left[whole:]
