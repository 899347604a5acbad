"""How a disk is divided, as well as it can be told: both copies of a GPT, a master boot record with its extended chain,
and what lies where.

UEFI 2.10, 5.3 (GPT), 5.2 (MBR). This is what stands on the disk, for people and for mending; what a firmware makes of
it is `boot_uefi`, `boot_legacy`."""

from __future__ import annotations

import zlib
from dataclasses import dataclass, replace

from gatecheck.core.disk.gpt import EFI_SYSTEM, GPT_ENTRY, HEADER, SIGNATURE
from gatecheck.core.disk.mbr import ACTIVE, EXTENDED, PROTECTIVE, RECORD, RECORDS, RECORDS_AT
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.fields import read_fields
from gatecheck.core.guid import guid_text

MOST_ENTRIES, MOST_LOGICAL = 1024, 128
_SIGNED = b"\x55\xaa"
SOUND, BROKEN, ABSENT, UNREADABLE = "sound", "broken", "absent", "unreadable"


@dataclass(frozen=True, slots=True)
class Piece:
    """A partition. `number` as systems count them (logical ones from 5); `type`: GUID or hex code; `first`, `last`:
    LBA, both inside; `table`: LBA of the record that names it, which for a logical one is its own."""

    number: int
    first: int
    last: int
    type: str
    guid: str = ""
    name: str = ""
    active: bool = False
    attributes: int = 0
    table: int = 0

    @property
    def is_efi_system(self) -> bool:
        return self.type in (EFI_SYSTEM, "EFh")

    @property
    def is_extended(self) -> bool:
        return self.type in {f"{kind:02X}h" for kind in EXTENDED}


@dataclass(frozen=True, slots=True)
class TableCopy:
    """One copy of a GPT. `state`: sound, broken (it carries the signature, but a sum or a field does not fit), absent,
    unreadable. `header`: its bytes as far as its own size goes; `entries`: the bytes of its entries, empty where they
    could not be read; `entries_fit`: their sum is the header's."""

    state: str
    lba: int
    header: bytes = b""
    entries: bytes = b""
    entries_fit: bool = False

    def _number(self, at: int, size: int) -> int:
        return int.from_bytes(self.header[at : at + size], "little")

    @property
    def alternate(self) -> int:
        return self._number(32, 8)

    @property
    def first_usable(self) -> int:
        return self._number(40, 8)

    @property
    def last_usable(self) -> int:
        return self._number(48, 8)

    @property
    def entries_lba(self) -> int:
        return self._number(72, 8)

    @property
    def count(self) -> int:
        return self._number(80, 4)

    @property
    def entry_size(self) -> int:
        return self._number(84, 4)


@dataclass(frozen=True, slots=True)
class Division:
    """`scheme`: gpt, mbr, none, or unreadable (the first sector was not read and no GPT tells instead). `pieces` in the
    table's order."""

    scheme: str
    pieces: tuple[Piece, ...]
    primary: TableCopy
    backup: TableCopy
    records: tuple[Piece, ...]
    """the first sector's own four, whatever else there is"""
    start: bytes
    """the first sector, empty where it was not read"""

    @property
    def is_signed(self) -> bool:
        return self.start[510:512] == _SIGNED

    @property
    def is_guarded(self) -> bool:
        """A record of the protective kind begins at LBA 1 (what firmware asks of it)."""
        return any(p.type == f"{PROTECTIVE:02X}h" and p.first == 1 for p in self.records)

    def at(self, lba: int) -> Piece | None:
        """The partition in which an LBA lies; of several the smallest."""
        inside = [p for p in self.pieces if p.first <= lba <= p.last and not p.is_extended]
        return min(inside, key=lambda p: p.last - p.first, default=None)


def division_of(disk: Sectors) -> Division:
    """Never raises for what stands on the disk."""
    length = disk.length or 0
    span = disk.read(0, 1)
    start = b"" if span.missing else span.data[:512]
    primary = copy_at(disk, 1)
    places = [length - 1, *([primary.alternate] if primary.header and 1 < primary.alternate < length - 1 else [])]
    backup = next(
        (c for c in (copy_at(disk, lba) for lba in places if lba > 1) if c.state != ABSENT),
        TableCopy(ABSENT, max(length - 1, 0)),
    )
    records = records_of(start, 0, 0)
    real = [r for r in records if r.type != f"{PROTECTIVE:02X}h"]
    best = next((c for c in (primary, backup) if c.state == SOUND), None) or next(
        (c for c in (primary, backup) if c.entries_fit), None
    )
    if best is not None and not (
        real
        and start[510:512] == _SIGNED
        and not any(r.type == f"{PROTECTIVE:02X}h" for r in records)
        and best.state != SOUND
    ):
        return Division("gpt", entries_of(best), primary, backup, records, start)
    if start[510:512] == _SIGNED and real and all(r.last < length for r in real[:1]):
        return Division("mbr", tuple(records) + tuple(_logical(disk, records)), primary, backup, records, start)
    return Division("none" if start else "unreadable", (), primary, backup, records, start)


def copy_at(disk: Sectors, lba: int) -> TableCopy:
    """One copy of the GPT, whose header stands there."""
    span = disk.read(lba, 1)
    if span.missing:
        return TableCopy(UNREADABLE if lba < (disk.length or 1 << 62) else ABSENT, lba)
    size = int.from_bytes(span.data[12:16], "little")
    size = size if HEADER <= size <= disk.sector else HEADER
    header = span.data[:size]
    if header[:8] != SIGNATURE:
        return TableCopy(ABSENT, lba)
    found = TableCopy(BROKEN, lba, header)
    entries = b""
    if (
        0 < found.count <= MOST_ENTRIES
        and 128 <= found.entry_size <= 4096
        and found.entry_size % 128 == 0
        and 0 < found.entries_lba < (disk.length or 1 << 62)
    ):
        rest = disk.read(found.entries_lba, -(-found.count * found.entry_size // disk.sector))
        entries = b"" if rest.missing else rest.data[: found.count * found.entry_size]
    fits = bool(entries) and zlib.crc32(entries) == int.from_bytes(header[88:92], "little")
    blank = header[:16] + bytes(4) + header[20:]
    sound = (
        fits
        and zlib.crc32(blank) == int.from_bytes(header[16:20], "little")
        and int.from_bytes(header[24:32], "little") == lba
    )
    return replace(found, state=SOUND if sound else BROKEN, entries=entries, entries_fit=fits)


def entries_of(copy: TableCopy) -> tuple[Piece, ...]:
    """The partitions that a copy's entries name."""
    found = []
    for number in range(len(copy.entries) // copy.entry_size if copy.entry_size else 0):
        raw = copy.entries[number * copy.entry_size :][:128]
        if any(raw[:16]):
            own = read_fields(GPT_ENTRY, raw, "GPT entry", size=128)
            name = bytes(raw[56:128]).decode("utf-16-le", "replace").split("\0")[0]
            found.append(
                Piece(
                    number + 1,
                    int(own["first_lba"]),
                    int(own["last_lba"]),
                    guid_text(raw[:16]),
                    guid_text(raw[16:32]),
                    name,
                    bool(int(own["attributes"]) & 4),
                    int(own["attributes"]),
                    copy.lba,
                )
            )
    return tuple(found)


def records_of(sector: bytes, base: int, table: int) -> tuple[Piece, ...]:
    """The records of a master or extended boot record, their starts counted from `base`."""
    found = []
    for number in range(RECORDS if len(sector) >= 512 else 0):
        raw = sector[RECORDS_AT + RECORD * number :][:RECORD]
        first, size = int.from_bytes(raw[8:12], "little"), int.from_bytes(raw[12:16], "little")
        if raw[4] and size:
            found.append(
                Piece(
                    number + 1,
                    base + first,
                    base + first + size - 1,
                    f"{raw[4]:02X}h",
                    active=bool(raw[0] & ACTIVE),
                    table=table,
                )
            )
    return tuple(found)


def _logical(disk: Sectors, records: tuple[Piece, ...]) -> list[Piece]:
    """The chain of extended boot records: each names one partition, from itself, and the next record, from the first
    (de facto standard of extended partitions). Ends at a record that is none, leads outside, or was seen."""
    found: list[Piece] = []
    for outer in records:
        if not outer.is_extended:
            continue
        at, seen = outer.first, set[int]()
        while at not in seen and len(seen) < MOST_LOGICAL and outer.first <= at < (disk.length or 1 << 62):
            seen.add(at)
            span = disk.read(at, 1)
            if span.missing or span.data[510:512] != _SIGNED:
                break
            own = records_of(span.data, at, at)
            found += [replace(p, number=5 + len(found)) for p in own[:1] if not p.is_extended]
            link = next((p for p in records_of(span.data, outer.first, at) if p.is_extended), None)
            if link is None:
                break
            at = link.first
    return found
