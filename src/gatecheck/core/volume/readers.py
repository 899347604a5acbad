"""Which kinds of volumes have a reader."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.disk.volume import Volume, volume_at
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.btrfs.layout import COPIES, MAGIC
from gatecheck.core.volume.btrfs.read import Btrfs
from gatecheck.core.volume.exfat.read import ExFat
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.f2fs.read import F2fs
from gatecheck.core.volume.fat.read import Fat
from gatecheck.core.volume.hfsplus.read import HfsPlus
from gatecheck.core.volume.ntfs.read import Ntfs
from gatecheck.core.volume.tree import Filesystem
from gatecheck.core.volume.xfs.read import Xfs

READERS: Mapping[str, Callable[[Sectors, int, int], Filesystem]] = {
    "btrfs": Btrfs,
    "fat": Fat,
    "exfat": ExFat,
    "ext": Ext,
    "f2fs": F2fs,
    "hfs+": HfsPlus,
    "ntfs": Ntfs,
    "xfs": Xfs,
}


def known_at(disk: Sectors, first: int) -> Volume | None:
    """The volume that begins there, also where its mark stands far behind its first sectors. Raises MissingSectorError
    where its first sector was not read."""
    near = volume_at(disk, first)
    if near is not None:
        return near
    for at in COPIES[:2]:
        lba = first + at // disk.sector
        if (disk.length is None or lba < disk.length) and disk.read(lba, 1).data[64:72] == MAGIC:
            return Volume("btrfs", "Btrfs", at + 64)
    return None


def name_at(disk: Sectors, first: int) -> str:
    """Kind and label of the volume that begins there; empty where none is known or its first sector was not read."""
    try:
        own = known_at(disk, first)
    except DecodeError:
        return ""
    return " ".join(filter(None, (own.name, f"“{own.label}”" if own.label else ""))) if own else ""


def open_volume(disk: Sectors, first: int, last: int) -> Filesystem | None:
    """The reader of what begins there, None where there is none for its kind. Raises DecodeError where it cannot be
    read."""
    known = known_at(disk, first)
    opened = READERS.get(known.kind) if known is not None else None
    return opened(disk, first, last) if opened else None
