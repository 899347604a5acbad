"""The master boot record in a disk's first sector: four partition records, and how the disk is divided at all.

UEFI Specification 2.10, 5.2.1: legacy MBR (table 5.1), partition record (table 5.2), protective MBR (5.2.3).
"""

from __future__ import annotations

from dataclasses import dataclass

from gatecheck.core.disk.gpt import SECTOR, read_gpt
from gatecheck.core.errors import DecodeError
from gatecheck.core.fields import Field, read_fields

SIGNATURE = b"\x55\xaa"
PROTECTIVE, EXTENDED = 0xEE, (0x05, 0x0F, 0x85)
ACTIVE = 0x80

MBR_RECORD = (  # table 5.2
    Field("boot_indicator", 0, "B"),
    Field("type", 4, "B"),
    Field("first_lba", 8, "<I", "LBA"),
    Field("size", 12, "<I", "LBA"),
)
RECORDS_AT, RECORD, RECORDS = 446, 16, 4


@dataclass(frozen=True, slots=True)
class MbrPartition:
    """number counts from 1; first and size in LBA."""

    number: int
    type: int
    active: bool
    first: int
    size: int


@dataclass(frozen=True, slots=True)
class MbrTable:
    partitions: tuple[MbrPartition, ...]

    @property
    def is_protective(self) -> bool:
        """It only guards a GPT."""
        return any(p.type == PROTECTIVE for p in self.partitions)


def read_mbr(start: bytes) -> MbrTable:
    """Read the four records. Raises DecodeError where the sector is short or carries no signature or nonsense records."""
    if len(start) < SECTOR or start[510:512] != SIGNATURE:
        raise DecodeError("MBR signature", at=510, expected="55 AA", got=start[510:512].hex(" ") or "nothing")
    partitions = []
    for index in range(RECORDS):
        at = RECORDS_AT + index * RECORD
        own = read_fields(MBR_RECORD, start[at : at + RECORD], "MBR partition record", size=RECORD)
        flag, kind, first, size = (int(own[name]) for name in ("boot_indicator", "type", "first_lba", "size"))
        if flag not in (0, ACTIVE):
            raise DecodeError("MBR boot indicator", at=at, expected="00h or 80h", got=f"{flag:02X}h")
        if kind:
            partitions.append(MbrPartition(index + 1, kind, flag == ACTIVE, first, size))
    return MbrTable(tuple(partitions))


def disk_layout(start: bytes) -> str | None:
    """`gpt` or `mbr`, as the first sectors say; None where the disk carries no partition table."""
    try:
        if read_gpt(start).partitions:
            return "gpt"
    except DecodeError:
        pass
    try:
        table = read_mbr(start)
    except DecodeError:
        return None
    real = [p for p in table.partitions if p.type != PROTECTIVE and p.size]
    return "mbr" if real and not table.is_protective else None
