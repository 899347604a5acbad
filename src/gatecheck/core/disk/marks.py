"""Which field a byte of a boot structure belongs to: what a screen marks when a stop is unfolded to its bytes.

UEFI 2.10, 5.2 (MBR, table 5.1), 5.3 (GPT, tables 5.5 and 5.6); Microsoft, "FAT: General Overview of On-Disk Format",
1.03; NTFS boot sector as mkfs and drivers have it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from gatecheck.core.disk.division import Division
from gatecheck.core.disk.gpt import GPT_ENTRY, GPT_HEADER
from gatecheck.core.fields import Field
from gatecheck.core.volume.fat.layout import BOOT

_RECORDS_AT = 446
_NTFS = (
    Field("oem", 3, "raw:8"),
    Field("sector_bytes", 11, "<H"),
    Field("cluster_sectors", 13, "<B"),
    Field("media", 21, "<B"),
    Field("total_sectors", 40, "<Q"),
    Field("mft_cluster", 48, "<Q"),
    Field("mirror_cluster", 56, "<Q"),
    Field("serial", 72, "<Q"),
)
_SIGNATURE = Field("signature_55aa", 510, "raw:2")


@dataclass(frozen=True, slots=True)
class Mark:
    """`at`, `size`: bytes within the sector; `name` as the standard calls it."""

    at: int
    size: int
    name: str


def marks_of(sector: bytes, lba: int, division: Division) -> list[Mark]:
    """The fields of the structure that stands in this sector, by what the table says of its place and by its own marks;
    empty for one that is not known."""
    return [Mark(f.at, f.size, f.name) for f in _fields(sector, lba, division) if f.at + f.size <= len(sector)]


def _fields(sector: bytes, lba: int, division: Division) -> Sequence[Field]:
    if lba == 0 and division.scheme != "none":
        return list(_mbr())
    if sector[:8] == b"EFI PART":
        return GPT_HEADER
    for copy in (division.primary, division.backup):
        if (
            copy.header
            and copy.entries
            and copy.entries_lba <= lba < copy.entries_lba + -(-len(copy.entries) // max(len(sector), 1))
        ):
            return list(_entries(copy.entry_size, len(sector)))
    if sector[3:11] == b"NTFS    ":
        return (*_NTFS, _SIGNATURE)
    if any(p.first == lba for p in division.pieces) or lba == 0:
        return (Field("jump", 0, "raw:3"), *BOOT, _SIGNATURE) if sector[510:512] == b"\x55\xaa" else (_SIGNATURE,)
    return ()


def _mbr() -> Iterator[Field]:
    yield Field("boot_code", 0, "raw:440")
    yield Field("disk_signature", 440, "raw:4")
    for number in range(4):
        yield Field(f"partition_record_{number + 1}", _RECORDS_AT + 16 * number, "raw:16")
    yield _SIGNATURE


def _entries(size: int, sector: int) -> Iterator[Field]:
    for number in range(sector // size if 0 < size <= sector else 0):
        for field in GPT_ENTRY:
            yield Field(f"entry_{number + 1}.{field.name}", number * size + field.at, field.format)
