"""What lives at a place of a volume, for every kind that has a reader."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.disk.volume import volume_at
from gatecheck.core.words.said import Said

NOTHING, FILE, CATALOGUE, BOOT = "nothing", "file", "catalogue", "boot"


@dataclass(frozen=True, slots=True)
class Place:
    """`path`: from the volume's root, parts joined by `/`; None where it is no file's or folder's."""

    structure: Said
    path: str | None
    stakes: str


class Placed(Protocol):
    def places(self, lbas: Sequence[int]) -> list[Place]:
        """What lives at these LBA of the disk, all within the volume's partition."""
        ...


def open_volume(disk: Sectors, first: int, last: int) -> Placed | None:
    """The reader of what begins there, None where there is none for its kind. Raises DecodeError where it cannot be read."""
    from gatecheck.core.volume import readers

    known = volume_at(disk, first)
    opened = readers.READERS.get(known.kind) if known is not None else None
    return opened(disk, first, last) if opened else None
