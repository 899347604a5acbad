"""Which kinds of volumes have a reader."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.disk.volume import volume_at
from gatecheck.core.volume.exfat.read import ExFat
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.fat.read import Fat
from gatecheck.core.volume.ntfs.read import Ntfs
from gatecheck.core.volume.tree import Filesystem

READERS: Mapping[str, Callable[[Sectors, int, int], Filesystem]] = {
    "fat": Fat,
    "exfat": ExFat,
    "ext": Ext,
    "ntfs": Ntfs,
}


def open_volume(disk: Sectors, first: int, last: int) -> Filesystem | None:
    """The reader of what begins there, None where there is none for its kind. Raises DecodeError where it cannot be
    read."""
    known = volume_at(disk, first)
    opened = READERS.get(known.kind) if known is not None else None
    return opened(disk, first, last) if opened else None
