"""The first structure of a volume from its copy: what everything else hangs on."""

from __future__ import annotations

from typing import TYPE_CHECKING

from gatecheck.core.volume.crc32c import crc32c
from gatecheck.core.volume.exfat.read import ExFat
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.fat.read import Fat
from gatecheck.core.volume.ntfs.read import Ntfs
from gatecheck.core.volume.repair_group import RepairGroup, group

if TYPE_CHECKING:
    from gatecheck.core.volume.check import OpenedVolume, Report


def first_structure(own: OpenedVolume, base: int, sector: int, report: Report) -> RepairGroup | None:
    """`base`: byte of the disk at which the volume begins."""
    if not any(f.id == "first-structure" for f in report.findings):
        return None
    volume = own.volume
    if isinstance(volume, Ext):
        raw = bytearray(volume.bytes.read(volume.from_backup, 1024, "superblock, backup copy"))
        raw[90:92] = b"\0\0"  # the group that this copy stands in (s_block_group_nr)
        raw[58:60] = b"\1\0"
        if volume.super.has_checksums:
            raw[1020:1024] = crc32c(0xFFFFFFFF, bytes(raw[:1020])).to_bytes(4, "little")
        return group("first-structure", [(base + 1024, bytes(raw))], "superblock", kind=volume.kind)
    if isinstance(volume, Fat | Ntfs):
        return group(
            "first-structure",
            [(base, volume.bytes.read(0, max(512, sector), "boot sector"))],
            "boot-sector",
            kind=volume.kind,
        )
    if isinstance(volume, ExFat):
        copy = volume.bytes.read(12 * volume.sector, 12 * volume.sector, "copy of the boot region")
        return group("first-structure", [(base, copy)], "boot-sector", kind=volume.kind)
    return None
