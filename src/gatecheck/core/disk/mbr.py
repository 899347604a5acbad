"""The master boot record in a disk's first sector: four partition records, and how the disk is divided at all.

UEFI Specification 2.10, 5.2.1: legacy MBR (table 5.1), partition record (table 5.2), protective MBR (5.2.3).
"""

from __future__ import annotations

from dataclasses import dataclass

from gatecheck.core.disk.gpt import SECTOR, GptTable, read_gpt
from gatecheck.core.disk.sectors import MissingSectorError, Sectors
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


def read_mbr(disk: Sectors) -> MbrTable:
    """Read the four records. Raises DecodeError where the sector carries no signature or nonsense records,
    MissingSectorError where it could not be read."""
    start = disk.read(0, 1).whole("MBR")[:SECTOR]
    if start[510:512] != SIGNATURE:
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


@dataclass(frozen=True, slots=True)
class Layout:
    """How a disk is divided. `kind`: gpt, mbr, or None where it carries no table; `unreadable`: LBA that kept the
    answer back, where a sector that was needed could not be read: then `kind` None says nothing."""

    kind: str | None
    gpt: GptTable | None
    mbr: MbrTable | None
    unreadable: int | None

    @property
    def is_known(self) -> bool:
        return self.kind is not None or self.unreadable is None


def layout_of(disk: Sectors) -> Layout:
    """The tables of a disk, as far as they can be read. Never raises."""
    gpt, missing = None, None
    try:
        gpt = read_gpt(disk)
    except MissingSectorError as error:
        missing = error.lba
    except DecodeError:
        pass
    if gpt is not None and gpt.partitions:
        return Layout("gpt", gpt, None, None)
    try:
        mbr = read_mbr(disk)
    except MissingSectorError as error:
        return Layout(None, gpt, None, error.lba)
    except DecodeError:
        return Layout(None, gpt, None, missing)
    real = [p for p in mbr.partitions if p.type != PROTECTIVE and p.size]
    if real and not mbr.is_protective:
        return Layout("mbr", None, mbr, None)
    return Layout(None, gpt, mbr, missing if mbr.is_protective else None)
