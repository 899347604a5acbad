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
from gatecheck.core.volume.iso9660.read import FIRST_DESCRIPTOR, MARK, SECTOR, Iso9660
from gatecheck.core.volume.ntfs.read import Ntfs
from gatecheck.core.volume.tree import Filesystem
from gatecheck.core.volume.udf.read import Udf
from gatecheck.core.volume.xfs.read import Xfs

READERS: Mapping[str, Callable[[Sectors, int, int], Filesystem]] = {
    "btrfs": Btrfs,
    "fat": Fat,
    "exfat": ExFat,
    "ext": Ext,
    "f2fs": F2fs,
    "hfs+": HfsPlus,
    "iso9660": Iso9660,
    "ntfs": Ntfs,
    "udf": Udf,
    "xfs": Xfs,
}

_SEQUENCE = 64
"""descriptors of a disc that are looked at for what it is"""


def known_at(disk: Sectors, first: int) -> Volume | None:
    """The volume that begins there, also where its mark stands far behind its first sectors. Raises MissingSectorError
    where its first sector was not read."""
    near = volume_at(disk, first)
    if near is not None:
        return near
    for at in COPIES[:2]:
        if _bytes_at(disk, first, at + 64, 8) == MAGIC:
            return Volume("btrfs", "Btrfs", at + 64)
    return _disc_at(disk, first)


def _disc_at(disk: Sectors, first: int) -> Volume | None:
    """A disc's volume, by the recognition sequence that both kinds share (ECMA-167, 2/8): UDF where it names it."""
    found, start = None, FIRST_DESCRIPTOR * SECTOR
    for step in (SECTOR, 2 * SECTOR):  # a descriptor takes whole sectors, also where those are larger
        for at in range(start, start + _SEQUENCE * step, step):
            mark = _bytes_at(disk, first, at, 6)[1:]
            if mark in (b"NSR02", b"NSR03"):
                return Volume("udf", "UDF", at + 1)
            if mark == MARK and found is None:
                found = Volume("iso9660", "ISO 9660", at + 1)
            if mark not in (MARK, b"BEA01", b"BOOT2", b"TEA01", b"CDW02"):
                break
    return found


def _bytes_at(disk: Sectors, first: int, at: int, count: int) -> bytes:
    """Bytes within one sector; none where it was not read, or the disk ends before it."""
    lba, place = first + at // disk.sector, at % disk.sector
    if disk.length is not None and lba >= disk.length:
        return b""
    return disk.read(lba, 1).data[place : place + count]


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
