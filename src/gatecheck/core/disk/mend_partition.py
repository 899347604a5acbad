"""Mending plans for single entries of sound tables: a flag by which firmware passes a partition by, a start that is a
few sectors off, the chain of logical partitions.

UEFI 2.10, 5.3.3 (attributes) and 5.2 (records); the chain of extended records as systems follow it. A start or a link
is set only to where a volume, or a record that names one, stands."""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator

from gatecheck.core.disk.division import MOST_LOGICAL, SOUND, Division, Piece
from gatecheck.core.disk.find import FoundVolume, kind_of_partition, probe_volume_at
from gatecheck.core.disk.gpt import EFI_SYSTEM
from gatecheck.core.disk.mbr import EXTENDED, RECORD, RECORDS_AT
from gatecheck.core.disk.mend_table import header_bytes
from gatecheck.core.disk.owners import owner_by_type, owners_of
from gatecheck.core.disk.plan import RepairPlan, Write, doubt, what, why, write
from gatecheck.core.disk.sectors import Sectors

_NO_BLOCK_IO, _ATTRIBUTES, _FIRST = 2, 48, 32
_NEAR, _WINDOW = 8, 4096
"""sectors around a told place, and after a partition, in which what belongs there is looked for"""
_SIGNED = b"\x55\xaa"


def partition_plans(disk: Sectors, division: Division, mode: str) -> Iterator[RepairPlan]:
    """Where the tables themselves are sound."""
    if division.scheme == "gpt" and SOUND == division.primary.state == division.backup.state:
        for own in division.pieces:
            if own.type == EFI_SYSTEM and own.attributes & _NO_BLOCK_IO and mode == "uefi":
                value = struct.pack("<Q", own.attributes & ~_NO_BLOCK_IO)
                yield RepairPlan(
                    f"partition-attribute-{own.number}",
                    what("partition-attribute", number=own.number),
                    why("partition-attribute"),
                    tuple(_entry_writes(disk, division, own, _ATTRIBUTES, value)),
                )
        yield from _shifted(
            disk, division, lambda p, at: _entry_writes(disk, division, p, _FIRST, struct.pack("<Q", at))
        )
    elif division.scheme == "mbr":
        yield from _shifted(disk, division, _record_start)
        yield from _chain(disk, division)


def _entry_writes(disk: Sectors, division: Division, own: Piece, at: int, data: bytes) -> Iterator[Write]:
    """This field of an entry in both copies, the second first."""
    for copy in (division.backup, division.primary):
        entries = bytearray(copy.entries)
        place = (own.number - 1) * copy.entry_size + at
        entries[place : place + len(data)] = data
        yield write(copy.entries_lba * disk.sector, bytes(entries), "entries")
        head = header_bytes(
            copy.header,
            sector=disk.sector,
            my=copy.lba,
            alternate=copy.alternate,
            entries_lba=copy.entries_lba,
            entries=bytes(entries),
        )
        yield write(copy.lba * disk.sector, head, "header", lba=copy.lba)


def _record_start(own: Piece, at: int) -> Iterator[Write]:
    place = RECORDS_AT + RECORD * (own.number - 1) + 8
    yield write(place, struct.pack("<II", at, own.last - at + 1), "record", number=own.number)


def _shifted(
    disk: Sectors, division: Division, writes: Callable[[Piece, int], Iterator[Write]]
) -> Iterator[RepairPlan]:
    """A partition at whose start nothing stands, and a few sectors beside it exactly one volume that fits into it."""
    for own in division.pieces:
        if own.is_extended or (own.number > 4 and division.scheme == "mbr") or not own.first:
            continue
        if owner_by_type(own.type) is not None or owners_of(disk, own.first, own.last):
            continue
        if own.first >= (disk.length or 0) or probe_volume_at(disk, own.first) is not None:
            continue
        found = [
            v
            for at in range(max(own.first - _NEAR, 1), own.first + _NEAR + 1)
            if at != own.first and _is_free(division, own, at) and (v := probe_volume_at(disk, at)) is not None
        ]
        if len(found) == 1 and found[0].last is not None and found[0].last <= own.last:
            yield RepairPlan(
                f"partition-start-{own.number}",
                what("partition-start", number=own.number),
                why("partition-start", told=own.first, lba=found[0].first, kind=found[0].volume.name),
                tuple(writes(own, found[0].first)),
            )


def _is_free(division: Division, own: Piece, at: int) -> bool:
    low = division.primary.first_usable if division.scheme == "gpt" else 1
    return at >= low and not any(p is not own and p.first <= at <= p.last for p in division.pieces)


# --- the chain of logical partitions --------------------


def _chain(disk: Sectors, division: Division) -> Iterator[RepairPlan]:
    """The first fault of each chain: what stands behind it is seen once that is put right."""
    for outer in (p for p in division.records if p.is_extended):
        at, before, seen = outer.first, None, set[int]()
        while at not in seen and len(seen) < MOST_LOGICAL and outer.first <= at < (disk.length or 0):
            seen.add(at)
            span = disk.read(at, 1)
            if span.missing:
                break
            sector = span.data
            volume = _named(disk, sector, at)
            if sector[510:512] != _SIGNED:
                if volume is not None:
                    yield RepairPlan(
                        f"logical-signature-{at}",
                        what("logical-signature", lba=at),
                        why("logical-signature", kind=volume.volume.name, lba=volume.first),
                        (write(at * disk.sector + 510, _SIGNED, "signature"),),
                    )
                elif before is not None:
                    yield from _link(disk, outer, before, at)
                break
            if volume is None:
                yield from _record(disk, outer, at, sector)
            before = at
            link = sector[RECORDS_AT + RECORD :][:RECORD]
            goal = outer.first + int.from_bytes(link[8:12], "little")
            if link[4] not in EXTENDED:
                if not any(link):
                    yield from _link(disk, outer, at, None)
                break
            if not outer.first < goal <= outer.last or goal in seen:
                yield from _link(disk, outer, at, goal)
                break
            at = goal


def _named(disk: Sectors, sector: bytes, at: int) -> FoundVolume | None:
    """The volume that a record's first entry names."""
    own = sector[RECORDS_AT:][:RECORD]
    first = int.from_bytes(own[8:12], "little")
    if not own[4] or own[4] in EXTENDED or not first or at + first >= (disk.length or 0):
        return None
    return probe_volume_at(disk, at + first)


def _link(disk: Sectors, outer: Piece, at: int, told: int | None) -> Iterator[RepairPlan]:
    """The next record: near where the link says, or behind the partition that this record names. Nothing where there is
    none, or more than one."""
    own = disk.read(at, 1).data[RECORDS_AT:][:RECORD]
    after = at + int.from_bytes(own[8:12], "little") + int.from_bytes(own[12:16], "little")
    places = [] if told is None else list(range(max(told - _NEAR, at + 1), told + _NEAR + 1))
    places += range(after, after + _WINDOW)
    wanted = sorted({p for p in places if at < p <= outer.last and p < (disk.length or 0)})
    found = [p for p in wanted if _is_chain_record(disk, p)]
    if len(found) != 1 or (told is None and not own[4]):
        return
    named = disk.read(found[0], 1).data[RECORDS_AT:][:RECORD]
    room = int.from_bytes(named[8:12], "little") + int.from_bytes(named[12:16], "little")
    data = struct.pack("<B3sB3sII", 0, b"\xfe\xff\xff", 0x05, b"\xfe\xff\xff", found[0] - outer.first, room)
    yield RepairPlan(
        f"logical-link-{at}",
        what("logical-link", lba=at),
        why("logical-link", lba=found[0]),
        (write(at * disk.sector + RECORDS_AT + RECORD, data, "record", number=2),),
        () if told is not None else (doubt("may-be-deleted"),),
    )


def _is_chain_record(disk: Sectors, lba: int) -> bool:
    span = disk.read(lba, 1)
    return not span.missing and span.data[510:512] == _SIGNED and _named(disk, span.data, lba) is not None


def _record(disk: Sectors, outer: Piece, at: int, sector: bytes) -> Iterator[RepairPlan]:
    """A record's own entry that names no volume, while exactly one begins behind it, before the next record. Nothing
    where what it names is somebody's: a member of a set holds a volume further in."""
    own, link = (sector[RECORDS_AT + RECORD * n :][:RECORD] for n in range(2))
    told = at + int.from_bytes(own[8:12], "little")
    told_end = min(told + int.from_bytes(own[12:16], "little"), disk.length or 0) - 1
    if own[4] and (
        owner_by_type(f"{own[4]:02X}h") is not None or (told < told_end and owners_of(disk, told, told_end))
    ):
        return
    end = outer.first + int.from_bytes(link[8:12], "little") if link[4] in EXTENDED else outer.last + 1
    last = min(end, at + _WINDOW + 1, disk.length or 0)
    found = [v for lba in range(at + 1, last) if (v := _volume_quickly(disk, lba)) is not None]
    if len(found) != 1 or found[0].last is None or found[0].last >= end:
        return
    room = int.from_bytes(own[12:16], "little")
    room = room if found[0].last - found[0].first < room <= end - found[0].first else found[0].last - found[0].first + 1
    kind = own[4] if own[4] and own[4] not in EXTENDED else kind_of_partition(found[0])[1]
    data = struct.pack("<B3sB3sII", own[0], b"\xfe\xff\xff", kind, b"\xfe\xff\xff", found[0].first - at, room)
    yield RepairPlan(
        f"logical-record-{at}",
        what("logical-record", lba=at),
        why("logical-record", lba=found[0].first, kind=found[0].volume.name),
        (write(at * disk.sector + RECORDS_AT, data, "record", number=1),),
        () if any(own) else (doubt("may-be-deleted"),),
    )


def _volume_quickly(disk: Sectors, lba: int) -> FoundVolume | None:
    """Most sectors are none: only those that are signed, or empty as the first of ext is, are looked into."""
    span = disk.read(lba, 1)
    if span.missing or (span.data[510:512] != _SIGNED and any(span.data)):
        return None
    return probe_volume_at(disk, lba)
