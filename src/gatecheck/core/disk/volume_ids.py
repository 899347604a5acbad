"""The names by which a system's own table of volumes may call what is on a disk: UUID, LABEL, PARTUUID, PARTLABEL, as
they are written there.

Sources: on-disk layouts of ext, XFS, Btrfs, FAT, exFAT, NTFS, swap space and LUKS; UEFI 2.10, table 5-6, for those of
the partition."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from uuid import UUID

from gatecheck.core.disk.division import division_of
from gatecheck.core.disk.sectors import Sectors

_ENOUGH = 0x10000 + 0x200
_CLOSED = (b"LUKS\xba\xbe", b"LABELONE", b"-FVE-FS-")


@dataclass(frozen=True, slots=True)
class VolumeIds:
    """is_closed: something on the disk holds volumes that cannot be seen from outside (encryption, a volume group, a
    set of drives, a place that was not read): then a UUID or a label that is missing may be inside."""

    names: tuple[str, ...]
    is_closed: bool


def volume_ids(disk: Sectors) -> VolumeIds:
    """Of all partitions of the disk, or of the one volume that takes all of it."""
    division = division_of(disk)
    names: list[str] = []
    closed = division.scheme == "unreadable"
    pieces = [p for p in division.pieces if not p.is_extended]
    for piece in pieces:
        if piece.guid:
            names.append(f"PARTUUID={piece.guid.lower()}")
        elif division.scheme == "mbr" and division.start:
            names.append(f"PARTUUID={int.from_bytes(division.start[440:444], 'little'):08x}-{piece.number:02x}")
        if piece.name:
            names.append(f"PARTLABEL={piece.name}")
    for first in [p.first for p in pieces] or [0]:
        span = disk.read(first, -(-_ENOUGH // disk.sector))
        start = span.data
        closed |= bool(span.missing) and not any(start[:4096])
        closed |= start.startswith(_CLOSED) or b"LABELONE" in start[:2048] or _is_member(start)
        names += _own(start)
    return VolumeIds(tuple(names), closed)


def _is_member(start: bytes) -> bool:
    """Of a set of drives (Linux RAID, versions 1.1 and 1.2)."""
    return b"\xfc\x4e\x2b\xa9" in (start[:4], start[4096:4100])


def _own(start: bytes) -> Iterator[str]:
    uuid, label = "", b""
    if start[0x438:0x43A] == b"\x53\xef":
        uuid, label = str(UUID(bytes=start[0x468:0x478])), start[0x478:0x488]
    elif start[:4] == b"XFSB":
        uuid, label = str(UUID(bytes=start[32:48])), start[108:120]
    elif start[0x10040:0x10048] == b"_BHRfS_M":
        uuid, label = str(UUID(bytes=start[0x10020:0x10030])), start[0x1012B:0x1022B]
    elif start[4086:4096] == b"SWAPSPACE2":
        uuid, label = str(UUID(bytes=start[1036:1052])), start[1052:1068]
    elif start[:6] == b"LUKS\xba\xbe":
        uuid = start[168:208].partition(b"\0")[0].decode("ascii", "replace")
    elif start[3:11] == b"NTFS    ":
        uuid = f"{int.from_bytes(start[72:80], 'little'):016X}"
    elif start[3:11] == b"EXFAT   ":
        uuid = _short(start[100:104])
    elif start[510:512] == b"\x55\xaa" and start[82:87] == b"FAT32":
        uuid, label = _short(start[67:71]), start[71:82]
    elif start[510:512] == b"\x55\xaa" and start[54:57] == b"FAT":
        uuid, label = _short(start[39:43]), start[43:54]
    if uuid:
        yield f"UUID={uuid}"
    text = label.partition(b"\0")[0].decode("utf-8", "replace").rstrip()
    if text:
        yield f"LABEL={text}"


def _short(raw: bytes) -> str:
    number = int.from_bytes(raw, "little")
    return f"{number >> 16:04X}-{number & 0xFFFF:04X}"
