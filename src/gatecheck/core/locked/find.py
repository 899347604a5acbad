"""Which encrypted volume stands at a place."""

from __future__ import annotations

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.locked.luks import read_luks
from gatecheck.core.locked.model import Locked
from gatecheck.core.locked.windows import read_windows


def locked_at(disk: Sectors, first: int, last: int, *, memory: int | None = None) -> Locked | None:
    """`memory`: bytes that the bench has free, for keys that ask for much of it. Raises DecodeError where one stands
    there whose records cannot be read."""
    return read_windows(disk, first, last) or read_luks(disk, first, last, memory=memory)
