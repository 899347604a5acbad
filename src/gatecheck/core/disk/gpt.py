"""The GUID partition table in the first sectors of a disk: which partitions there are.

UEFI Specification 2.10, 5.3: header in LBA 1 (table 5.5), entries (table 5.6). Checksums are compared and reported, not
required: a table that is damaged in one place still names its partitions.
"""

from __future__ import annotations

import zlib
from dataclasses import dataclass

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.fields import Field, read_fields
from gatecheck.core.guid import guid_text

SECTOR, HEADER, ENTRY = 512, 92, 128
_MOST_ENTRIES, _MOST_ENTRY_SIZE = 1024, 4096
_LAST_LBA = 1 << 62
SIGNATURE = b"EFI PART"
EFI_SYSTEM = "C12A7328-F81F-11D2-BA4B-00A0C93EC93B"

GPT_HEADER = (  # table 5.5
    Field("signature", 0, "raw:8"),
    Field("revision", 8, "<I"),
    Field("header_size", 12, "<I", "B"),
    Field("header_crc", 16, "<I"),
    Field("my_lba", 24, "<Q", "LBA"),
    Field("alternate_lba", 32, "<Q", "LBA"),
    Field("disk_guid", 56, "raw:16"),
    Field("entries_lba", 72, "<Q", "LBA"),
    Field("entry_count", 80, "<I"),
    Field("entry_size", 84, "<I", "B"),
)
GPT_ENTRY = (  # table 5.6
    Field("type", 0, "raw:16"),
    Field("guid", 16, "raw:16"),
    Field("first_lba", 32, "<Q", "LBA"),
    Field("last_lba", 40, "<Q", "LBA"),
    Field("attributes", 48, "<Q"),
    Field("name", 56, "raw:72"),
)


@dataclass(frozen=True, slots=True)
class Partition:
    """number counts from 1; guid and type as text; first and last in LBA, both inside."""

    number: int
    guid: str
    type: str
    first: int
    last: int
    name: str
    attributes: int = 0

    @property
    def is_efi_system(self) -> bool:
        return self.type == EFI_SYSTEM


@dataclass(frozen=True, slots=True)
class GptTable:
    disk_guid: str
    partitions: tuple[Partition, ...]
    header_ok: bool
    """the header's own checksum fits"""
    cut_off: bool
    """not all of its entries could be read"""


def read_gpt(disk: Sectors) -> GptTable:
    """Read the primary table. Raises DecodeError where there is none, MissingSectorError where its header could not be
    read."""
    sector = disk.sector
    header = disk.read(1, 1).whole("GPT header")[:HEADER]
    if header[:8] != SIGNATURE:
        raise DecodeError("GPT signature", at=sector, expected=SIGNATURE.decode(), got=header[:8].hex() or "nothing")
    own = read_fields(GPT_HEADER, header, "GPT header", size=HEADER)
    count, size, first = int(own["entry_count"]), int(own["entry_size"]), int(own["entries_lba"])
    if not ENTRY <= size <= _MOST_ENTRY_SIZE or count > _MOST_ENTRIES:
        raise DecodeError(
            "GPT entries", at=sector + 80, expected="up to 1024 entries of 128 to 4096 bytes", got=f"{count} of {size}"
        )
    if not 0 < first < _LAST_LBA:
        raise DecodeError("GPT entries", at=sector + 72, expected="an LBA on the disk", got=first)
    span = disk.read(first, -(-count * size // sector))
    gone = {lba - first for lba in span.missing}
    partitions = []
    for number in range(count):
        raw = span.data[number * size : number * size + ENTRY]
        if any(raw[:16]) and not gone & set(range(number * size // sector, (number * size + ENTRY - 1) // sector + 1)):
            fields = read_fields(GPT_ENTRY, raw, "GPT entry", size=ENTRY)
            name = bytes(fields["name"]).decode("utf-16-le", "replace").split("\0")[0]  # type: ignore[arg-type]
            partitions.append(
                Partition(
                    number + 1,
                    guid_text(bytes(fields["guid"])),  # type: ignore[arg-type]
                    guid_text(bytes(fields["type"])),  # type: ignore[arg-type]
                    int(fields["first_lba"]),
                    int(fields["last_lba"]),
                    name,
                    int(fields["attributes"]),
                )
            )
    checked = header[:16] + bytes(4) + header[20:]
    fits = int(own["header_size"]) == HEADER and zlib.crc32(checked) == int(own["header_crc"])
    return GptTable(guid_text(bytes(own["disk_guid"])), tuple(partitions), fits, bool(span.missing))  # type: ignore[arg-type]
