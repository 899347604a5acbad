"""Values -> first sectors of a disk: GPT and MBR, the readers' mirror."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Sequence

from gatecheck.core.disk.gpt import EFI_SYSTEM, ENTRY, HEADER, SECTOR
from gatecheck.core.disk.mbr import ACTIVE, PROTECTIVE, RECORDS_AT, SIGNATURE
from gatecheck.core.guid import guid_bytes

BASIC_DATA = "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7"
_ENTRIES = 128


def gpt_start(
    disk_guid: str, partitions: Sequence[tuple[str, str, int, int, str]], *, sectors: int = 8192, sector: int = SECTOR
) -> bytes:
    """The first sectors up to the entries' end (LBA 33 at 512 bytes): protective MBR, header, entries. Partitions:
    (GUID, type GUID, first LBA, last LBA, name)."""
    entries = b"".join(
        guid_bytes(kind)
        + guid_bytes(guid)
        + struct.pack("<QQQ", first, last, 0)
        + name.encode("utf-16-le").ljust(72, b"\0")
        for guid, kind, first, last, name in partitions
    ).ljust(_ENTRIES * ENTRY, b"\0")
    header = bytearray(
        struct.pack(
            "<8sIIIIQQQQ16sQIII",
            b"EFI PART",
            0x10000,
            HEADER,
            0,
            0,
            1,
            sectors - 1,
            34,
            sectors - 34,
            guid_bytes(disk_guid),
            2,
            _ENTRIES,
            ENTRY,
            zlib.crc32(entries),
        )
    )
    header[16:20] = struct.pack("<I", zlib.crc32(header))
    return (
        mbr_start([(PROTECTIVE, False, 1, min(sectors - 1, 0xFFFFFFFF))]).ljust(sector, b"\0")
        + bytes(header).ljust(sector, b"\0")
        + entries
    )


def gpt_end(start: bytes, *, sectors: int, sector: int = SECTOR) -> bytes:
    """The second copy of a table that `gpt_start` made: its entries and its header, up to the end of the disk."""
    entries = start[2 * sector : 2 * sector + _ENTRIES * ENTRY]
    header = bytearray(start[sector : sector + HEADER])
    struct.pack_into("<QQ", header, 24, sectors - 1, 1)
    struct.pack_into("<Q", header, 72, sectors - 1 - -(-len(entries) // sector))
    header[16:20] = bytes(4)
    header[16:20] = struct.pack("<I", zlib.crc32(header))
    return entries.ljust(-(-len(entries) // sector) * sector, b"\0") + bytes(header).ljust(sector, b"\0")


def mbr_start(records: Sequence[tuple[int, bool, int, int]]) -> bytes:
    """LBA 0. Records: (type, active, first LBA, sectors), at most four."""
    sector = bytearray(SECTOR)
    for index, (kind, active, first, size) in enumerate(records[:4]):
        struct.pack_into("<B3xB3xII", sector, RECORDS_AT + 16 * index, ACTIVE if active else 0, kind, first, size)
    sector[510:512] = SIGNATURE
    return bytes(sector)


def system_disk(
    esp: str,
    data: str,
    *,
    disk_guid: str = "6E0C2B7A-90D1-4F5B-9C43-0B7C61D2E8F4",
    sectors: int = 1 << 21,
    sector: int = SECTOR,
    last: int | None = None,
) -> bytes:
    """A GPT disk as a system is installed on it: EFI system partition and one data partition, up to `last` or the
    end."""
    return gpt_start(
        disk_guid,
        [
            (esp, EFI_SYSTEM, 2048, 206847, "EFI system"),
            (data, BASIC_DATA, 206848, sectors - 34 if last is None else last, "System"),
        ],
        sectors=sectors,
        sector=sector,
    )
