"""Headers of crash dumps: the stop code, its parameters, and when."""

from __future__ import annotations

import struct
from collections.abc import Mapping
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.records.moments import of_filetime


@dataclass(frozen=True, slots=True)
class Crash:
    """`name`: of the stop code, None where the table does not know it."""

    at: float | None
    code: int
    name: str | None
    driver: str | None = None


def read_dump(head: bytes, names: Mapping[int, str]) -> Crash:
    """Of the first 8192 bytes of a dump. Raises DecodeError."""
    if head[:8] == b"PAGEDU64" and len(head) >= 0xFB0:
        code, at = struct.unpack_from("<I", head, 0x38)[0], struct.unpack_from("<Q", head, 0xFA8)[0]
    elif head[:8] == b"PAGEDUMP" and len(head) >= 0xFC8:
        code, at = struct.unpack_from("<I", head, 0x28)[0], struct.unpack_from("<Q", head, 0xFC0)[0]
    else:
        raise DecodeError("crash dump", at=0, expected="PAGEDU64 or PAGEDUMP", got=head[:8].hex() or "nothing")
    return Crash(of_filetime(at), code, names.get(code))
