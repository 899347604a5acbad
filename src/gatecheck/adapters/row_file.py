"""Files of rows of one length that are only appended to: whole rows or none of them, whatever a full disk or a power
cut leaves behind."""

from __future__ import annotations

import contextlib
import os
import struct
from pathlib import Path


def append_rows(place: Path, row: struct.Struct, raw: bytes) -> None:
    """Put whole rows at the end. Half a row that was left there goes first; where these do not fit, the file is as it
    was. Raises OSError."""
    descriptor = os.open(place, os.O_RDWR | os.O_CREAT, 0o644)
    try:
        end = os.lseek(descriptor, 0, os.SEEK_END)
        whole = end - end % row.size
        if whole != end:
            os.truncate(descriptor, whole)
        done = 0
        try:
            while done < len(raw):
                done += os.pwrite(descriptor, raw[done:], whole + done)
        except OSError:
            with contextlib.suppress(OSError):
                os.truncate(descriptor, whole)
            raise
    finally:
        os.close(descriptor)


def whole_rows(place: Path, row: struct.Struct) -> None:
    """Half a row at the end goes. Raises OSError."""
    if place.exists() and place.stat().st_size % row.size:
        append_rows(place, row, b"")
