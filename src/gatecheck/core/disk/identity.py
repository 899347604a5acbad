"""What a disk is, by what stands on it: its tables' and volumes' own identifiers, by which an undo file knows the image
that it belongs to."""

from __future__ import annotations

from gatecheck.core.disk.division import division_of
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.disk.volume import volume_of

_MOST = 32
# where a volume keeps its identifier, from its first byte: FAT 1.03 (volume ID), exFAT 3.1.11, NTFS boot sector 48h,
# ext superblock s_uuid, XFS sb_uuid
_IDENTIFIER = {
    "fat32": (67, 4),
    "fat": (39, 4),
    "exfat": (100, 4),
    "ntfs": (72, 8),
    "ext": (1024 + 0x68, 16),
    "xfs": (32, 16),
}
_START = 4096


def identity_of_disk(disk: Sectors) -> tuple[str, ...]:
    """The disk's identifier in its MBR and in either copy of a GPT, each partition's place and GUID, each volume's kind
    and serial number or UUID; empty texts where they were not read."""
    division, size = division_of(disk), disk.sector
    found = [f"mbr {division.start[440:444].hex()}" if division.start else "mbr"]
    found += [f"gpt {copy.header[56:72].hex()}" for copy in (division.primary, division.backup) if copy.header]
    pieces = [p for p in division.pieces if not p.is_extended][:_MOST]
    found += [f"partition {p.number} {p.first} {p.last} {p.guid}" for p in pieces]
    for first in [p.first for p in pieces] or [0]:
        span = disk.read(first, max(1, _START // size))
        own = volume_of(span.data) if not span.missing else None
        if own is not None:
            at, length = _IDENTIFIER.get("fat32" if own.name == "FAT32" else own.kind, (0, 0))
            found.append(f"volume {first} {own.kind} {span.data[at : at + length].hex()}")
    return tuple(found)
