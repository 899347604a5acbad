"""Mending plans for tables: the record that guards a GPT, either of its copies from the other, both from their entries,
records and partitions that were lost.

UEFI 2.10, 5.2 and 5.3. What stands on the disk decides; where two truths compete, there is no plan.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator, Sequence

from gatecheck.core.disk.boot_legacy import boot_sector_starts
from gatecheck.core.disk.division import ABSENT, BROKEN, SOUND, UNREADABLE, Division, Piece, TableCopy, entries_of
from gatecheck.core.disk.find import FoundVolume, kind_of_partition, lost_volumes, made_guid, probe_volume_at
from gatecheck.core.disk.gpt import HEADER, SIGNATURE
from gatecheck.core.disk.mbr import PROTECTIVE, RECORDS_AT
from gatecheck.core.disk.plan import RepairPlan, Write, doubt, what, why, write
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.disk.volume import volume_at
from gatecheck.core.errors import DecodeError
from gatecheck.core.guid import guid_bytes

_ENTRIES, _ENTRY = 128, 128
_SIGNED = b"\x55\xaa"
_LARGEST_MBR = 0xFFFFFFFF


def table_plans(disk: Sectors, division: Division, mode: str) -> Iterator[RepairPlan]:
    """All that can be mended of the tables. Nothing where the first sector or what a plan would overwrite cannot be
    read."""
    sound = next((c for c in (division.primary, division.backup) if c.state == SOUND), None)
    if sound is not None:
        if division.primary.state in (BROKEN, ABSENT):
            yield _copied(disk, division, sound, primary=True)
        if division.backup.state in (BROKEN, ABSENT):
            yield from _second(disk, division)
        if not division.is_guarded and division.start and not _divided_otherwise(disk, division):
            yield _guard(disk, division)
        yield from _added(disk, division, sound)
        return
    if UNREADABLE in (division.primary.state, division.backup.state) and not division.start:
        return
    rebuilt = _headers_anew(disk, division)
    if rebuilt is not None:
        yield rebuilt
        if not division.is_guarded and division.start and not _divided_otherwise(disk, division):
            yield _guard(disk, division)
        return
    if not division.start or _is_a_volume(disk):
        return
    if division.records and not division.is_signed and _plausible(disk, division.records):
        yield RepairPlan(
            "mbr-signature",
            what("mbr-signature"),
            why("mbr-signature", count=len(division.records)),
            (write(510, _SIGNED, "signature"),),
        )
        return
    if division.scheme == "mbr":
        yield from _shortened(disk, division)
        yield from _recorded(
            disk, division, lost_volumes(disk, [(p.first, p.last) for p in division.pieces if not p.is_extended])
        )
        return
    yield from _from_volumes(disk, division, mode)


def _is_a_volume(disk: Sectors) -> bool:
    """The whole disk is a volume, or one of a set: what lies in it is no partition that was lost."""
    try:
        return volume_at(disk, 0) is not None
    except DecodeError:
        return False


def _divided_otherwise(disk: Sectors, division: Division) -> bool:
    """The first sector divides the disk in its own way, and a volume stands where it says so that the GPT does not
    know."""
    known = {p.first for p in division.pieces}
    return any(
        p.first not in known and p.type != f"{PROTECTIVE:02X}h" and probe_volume_at(disk, p.first) is not None
        for p in division.records
    )


def guard_record(length: int) -> bytes:
    """The protective record (UEFI 2.10, 5.2.3), the other three empty."""
    return struct.pack(
        "<B3sB3sII", 0, b"\x00\x02\x00", PROTECTIVE, b"\xff\xff\xff", 1, min(length - 1, _LARGEST_MBR)
    ) + bytes(48)


def _guard(disk: Sectors, division: Division) -> RepairPlan:
    real = [p for p in division.records if p.type != f"{PROTECTIVE:02X}h"]
    doubts = (doubt("records-replaced", count=len(real)),) if real else ()
    data = guard_record(disk.length or 0) + _SIGNED
    return RepairPlan(
        "protective-mbr",
        what("protective-mbr"),
        why("protective-mbr", count=len(division.pieces)),
        (write(RECORDS_AT, data, "guard"),),
        doubts,
    )


def header_bytes(
    old: bytes,
    *,
    sector: int,
    my: int,
    alternate: int,
    entries_lba: int,
    entries: bytes,
    changes: dict[int, bytes] | None = None,
) -> bytes:
    """A header from another one: places changed, sums made anew, padded to its sector."""
    head = bytearray(old)
    head[24:32], head[32:40], head[72:80] = (
        struct.pack("<Q", my),
        struct.pack("<Q", alternate),
        struct.pack("<Q", entries_lba),
    )
    for at, data in (changes or {}).items():
        head[at : at + len(data)] = data
    head[88:92], head[16:20] = struct.pack("<I", zlib.crc32(entries)), bytes(4)
    head[16:20] = struct.pack("<I", zlib.crc32(head))
    return bytes(head).ljust(sector, b"\0")


def _copied(disk: Sectors, division: Division, sound: TableCopy, *, primary: bool) -> RepairPlan:
    """The first copy anew from the second."""
    size = disk.sector
    need = -(-len(sound.entries) // size)
    own = division.primary
    at = own.entries_lba if own.header and own.entries_lba >= 2 and own.entries_lba + need <= sound.first_usable else 2
    head = header_bytes(sound.header, sector=size, my=1, alternate=sound.lba, entries_lba=at, entries=sound.entries)
    writes = (write(at * size, sound.entries, "entries"), write(size, head, "header", lba=1))
    return RepairPlan(
        "gpt-primary", what("gpt-primary"), why("gpt-primary", lba=sound.lba, count=len(entries_of(sound))), writes
    )


def _second(disk: Sectors, division: Division) -> Iterator[RepairPlan]:
    """The second copy anew from the first: where the first says that it stands, or at the disk's end where that lies
    elsewhere."""
    first, size, length = division.primary, disk.sector, disk.length or 0
    if first.state != SOUND:
        return
    need = -(-len(first.entries) // size)
    told = first.alternate
    place = told if told < length and told > first.last_usable else length - 1
    at = place - need
    pieces = entries_of(first)
    if division.backup.state == ABSENT and _is_others(disk, at, place, first.entries):
        return  # something else keeps its own there: a set of drives, for example
    if at <= max((p.last for p in pieces), default=first.first_usable):
        return  # no room: the disk ends before its partitions do
    writes = [
        write(at * size, first.entries, "entries"),
        write(
            place * size,
            header_bytes(first.header, sector=size, my=place, alternate=1, entries_lba=at, entries=first.entries),
            "header",
            lba=place,
        ),
    ]
    doubts = []
    if place != told or first.last_usable >= at:
        changes = {48: struct.pack("<Q", min(first.last_usable, at - 1))}
        writes[1] = write(
            place * size,
            header_bytes(
                first.header, sector=size, my=place, alternate=1, entries_lba=at, entries=first.entries, changes=changes
            ),
            "header",
            lba=place,
        )
        writes.append(
            write(
                size,
                header_bytes(
                    first.header,
                    sector=size,
                    my=1,
                    alternate=place,
                    entries_lba=first.entries_lba,
                    entries=first.entries,
                    changes=changes,
                ),
                "header",
                lba=1,
            )
        )
        doubts.append(doubt("end-elsewhere", told=told, end=length - 1))
    yield RepairPlan("gpt-backup", what("gpt-backup"), why("gpt-backup", lba=place), tuple(writes), tuple(doubts))


def _is_others(disk: Sectors, at: int, place: int, entries: bytes) -> bool:
    """Does what is neither zeros nor a rest of this table stand where its second copy would?"""
    span = disk.read(at, place + 1 - at)
    size = span.sector
    for n in range(place + 1 - at):
        own = span.data[n * size : (n + 1) * size]
        if (
            at + n not in span.missing
            and any(own)
            and own[:8] != SIGNATURE
            and not (n < place - at and own == entries[n * size : (n + 1) * size])
        ):
            return True
    return False


def _headers_anew(disk: Sectors, division: Division) -> RepairPlan | None:
    """Both copies from entries that still stand, though neither header is whole."""
    size, length = disk.sector, disk.length or 0
    need = -(-_ENTRIES * _ENTRY // size)
    both = [c for c in (division.primary, division.backup) if c.header]
    source = next((c for c in both if c.entries_fit), None)
    entries, first_usable, last_usable = b"", 2 + need, length - need - 2
    doubts = []
    guid = b""
    if source is not None:
        entries, first_usable, last_usable = source.entries, source.first_usable, source.last_usable
    else:
        for lba in (2, length - 1 - need):
            span = disk.read(lba, need) if lba > 0 else None
            if (
                span is not None
                and not span.missing
                and _entries_plausible(disk, span.data[: _ENTRIES * _ENTRY], first_usable, last_usable)
            ):
                entries = span.data[: _ENTRIES * _ENTRY]
                doubts.append(doubt("entries-unchecked", lba=lba))
                break
    if not entries or len(entries) != _ENTRIES * _ENTRY:
        return None
    copies = {c.header[56:72] for c in both if any(c.header[56:72])}
    if len(copies) == 1:
        guid = copies.pop()
    else:
        guid = made_guid(disk, 0, "disk")
        doubts.append(doubt("new-identifier"))
    pieces = entries_of(TableCopy(SOUND, 1, _plain_header(first_usable, last_usable, guid), entries))
    if not pieces:
        return None
    low, high = min(p.first for p in pieces), max(p.last for p in pieces)
    if not 2 + need <= first_usable <= low or not high <= last_usable < length - 1 - need + 1:
        first_usable, last_usable = 2 + need, length - need - 2
        if low < first_usable or high > last_usable:
            return None
    head = _plain_header(first_usable, last_usable, guid)
    return RepairPlan(
        "gpt-both",
        what("gpt-both"),
        why("gpt-both", count=len(pieces)),
        tuple(_both_copies(disk, head, entries)),
        tuple(doubts),
    )


def _both_copies(disk: Sectors, head: bytes, entries: bytes) -> Iterator[Write]:
    size, last = disk.sector, (disk.length or 0) - 1
    need = -(-len(entries) // size)
    yield write((last - need) * size, entries, "entries")
    yield write(
        last * size,
        header_bytes(head, sector=size, my=last, alternate=1, entries_lba=last - need, entries=entries),
        "header",
        lba=last,
    )
    yield write(2 * size, entries, "entries")
    yield write(
        size, header_bytes(head, sector=size, my=1, alternate=last, entries_lba=2, entries=entries), "header", lba=1
    )


def _plain_header(first_usable: int, last_usable: int, guid: bytes) -> bytes:
    return struct.pack(
        "<8sIIIIQQQQ16sQIII",
        SIGNATURE,
        0x10000,
        HEADER,
        0,
        0,
        1,
        0,
        first_usable,
        last_usable,
        guid,
        2,
        _ENTRIES,
        _ENTRY,
        0,
    )


def _entries_plausible(disk: Sectors, raw: bytes, low: int, high: int) -> bool:
    """Entries without a sum: every one within the disk, none over another, one at least with a volume where it begins,
    none that is no entry."""
    found: list[tuple[int, int]] = []
    for at in range(0, len(raw), _ENTRY):
        own = raw[at : at + _ENTRY]
        if not any(own[:16]):
            if any(own):
                return False
            continue
        first, last = struct.unpack_from("<QQ", own, 32)
        if not (low <= first <= last <= high) or any(f <= last and first <= e for f, e in found):
            return False
        found.append((first, last))
    return any(probe_volume_at(disk, first) is not None for first, _ in found)


def _plausible(disk: Sectors, records: Sequence[Piece]) -> bool:
    length = disk.length or 1 << 62
    apart = all(a is b or a.last < b.first or b.last < a.first for a in records for b in records)
    return apart and all(0 < p.first <= p.last < length for p in records)


def _shortened(disk: Sectors, division: Division) -> Iterator[RepairPlan]:
    """A record of the first sector that ends past the disk, while its volume says where it really ends."""
    length = disk.length or 0
    for own in division.records:
        if own.last < length or own.first >= length:
            continue
        there = probe_volume_at(disk, own.first)
        told = there.last if there is not None else None
        last = told if told is not None else length - 1
        if any(p is not own and p.first <= last and own.first <= p.last for p in division.records):
            continue
        reason = why(
            "record" if told is not None else "record-end", number=own.number, told=own.last, end=length - 1, last=last
        )
        size = struct.pack("<I", last - own.first + 1)
        yield RepairPlan(
            f"record-{own.number}",
            what("record", number=own.number),
            reason,
            (write(RECORDS_AT + 16 * (own.number - 1) + 12, size, "record-size", number=own.number),),
            () if told is not None else (doubt("nothing-there"),),
        )


def _spoken(found: Sequence[FoundVolume]) -> list[str]:
    return [f"LBA {v.first}: {v.volume.name}{f' {v.volume.label!r}' if v.volume.label else ''}" for v in found]


def _added(disk: Sectors, division: Division, sound: TableCopy) -> Iterator[RepairPlan]:
    """Volumes in what the GPT calls free, put back into it."""
    taken = [(p.first, p.last) for p in division.pieces]
    found = [
        v
        for v in lost_volumes(disk, taken)
        if v.last is not None and sound.first_usable <= v.first and v.last <= sound.last_usable
    ]
    free = [
        n for n in range(len(sound.entries) // sound.entry_size) if not any(sound.entries[n * sound.entry_size :][:16])
    ]
    if not found or len(free) < len(found) or division.primary.state != SOUND or division.backup.state != SOUND:
        return
    entries = bytearray(sound.entries)
    for own, place in zip(found, free, strict=False):
        entries[place * sound.entry_size : place * sound.entry_size + 128] = _entry(disk, own, own.last or own.first)
    size = disk.sector
    writes = []
    for copy in (division.backup, division.primary):
        writes += [
            write(copy.entries_lba * size, bytes(entries), "entries"),
            write(
                copy.lba * size,
                header_bytes(
                    copy.header,
                    sector=size,
                    my=copy.lba,
                    alternate=copy.alternate,
                    entries_lba=copy.entries_lba,
                    entries=bytes(entries),
                ),
                "header",
                lba=copy.lba,
            ),
        ]
    yield RepairPlan(
        "lost-partitions",
        what("lost-partitions", count=len(found)),
        why("lost-partitions", found=_spoken(found)),
        tuple(writes),
        (doubt("may-be-deleted"), doubt("new-guids")),
    )


def _entry(disk: Sectors, own: FoundVolume, last: int) -> bytes:
    kind = kind_of_partition(own)[0]
    name = "EFI system" if own.system else own.volume.label
    return (
        guid_bytes(kind)
        + made_guid(disk, own.first, "partition")
        + struct.pack("<QQQ", own.first, last, 0)
        + name.encode("utf-16-le")[:70].ljust(72, b"\0")
    )


def _recorded(disk: Sectors, division: Division, found: Sequence[FoundVolume]) -> Iterator[RepairPlan]:
    """Volumes that the first sector's records do not name, where records are free."""
    inside = [p for p in division.records if p.is_extended]
    new = [v for v in found if v.last is not None and not any(p.first <= v.first <= p.last for p in inside)]
    free = [n for n in range(4) if n + 1 not in {p.number for p in division.records}]
    if not new or len(new) > len(free):
        return
    writes = tuple(
        write(RECORDS_AT + 16 * n, _record(v, active=False), "record", number=n + 1)
        for v, n in zip(new, free, strict=False)
    )
    yield RepairPlan(
        "lost-partitions",
        what("lost-partitions", count=len(new)),
        why("lost-partitions", found=_spoken(new)),
        writes,
        (doubt("may-be-deleted"),),
    )


def _record(own: FoundVolume, *, active: bool) -> bytes:
    return struct.pack(
        "<B3sB3sII",
        0x80 if active else 0,
        b"\xfe\xff\xff",
        kind_of_partition(own)[1],
        b"\xfe\xff\xff",
        own.first,
        (own.last or own.first) - own.first + 1,
    )


def _from_volumes(disk: Sectors, division: Division, mode: str) -> Iterator[RepairPlan]:
    """A disk without any table: one made from the volumes that are found on it. Nothing where they lie over each other
    or do not say where they end."""
    size, length = disk.sector, disk.length or 0
    need = -(-_ENTRIES * _ENTRY // size)
    if probe_volume_at(disk, 0) is not None:
        return  # the whole disk is one volume
    found = lost_volumes(disk)
    ends = (
        [
            v.last if v.last is not None else following.first - 1
            for v, following in zip(
                found, [*found[1:], FoundVolume(length - need - 1, None, found[0].volume, ())], strict=True
            )
        ]
        if found
        else []
    )
    if (
        not found
        or any(end < v.first for v, end in zip(found, ends, strict=True))
        or any(end >= w.first for end, w in zip(ends, found[1:], strict=False))
    ):
        return
    doubts = [doubt("new-guids"), *([doubt("end-not-told")] if any(v.last is None for v in found) else [])]
    remains = division.is_guarded or SIGNATURE in (division.primary.header[:8], division.backup.header[:8])
    fits_gpt = found[0].first >= 2 + need and ends[-1] <= length - need - 2
    if fits_gpt and (remains or mode == "uefi"):
        entries = b"".join(_entry(disk, v, end) for v, end in zip(found, ends, strict=True)).ljust(
            _ENTRIES * _ENTRY, b"\0"
        )
        head = _plain_header(2 + need, length - need - 2, made_guid(disk, 0, "disk"))
        writes = [*_both_copies(disk, head, entries), write(RECORDS_AT, guard_record(length) + _SIGNED, "guard")]
        yield RepairPlan(
            "lost-table",
            what("lost-table-gpt", count=len(found)),
            why("lost-partitions", found=_spoken(found)),
            tuple(writes),
            tuple(doubts),
        )
    elif len(found) <= 4 and ends[-1] <= _LARGEST_MBR and not remains:
        starting = [v for v in found if boot_sector_starts(disk, v.first)]
        records = b"".join(_record(v, active=len(starting) == 1 and v is starting[0]) for v in found).ljust(64, b"\0")
        yield RepairPlan(
            "lost-table",
            what("lost-table-mbr", count=len(found)),
            why("lost-partitions", found=_spoken(found)),
            (write(RECORDS_AT, records + _SIGNED, "records"),),
            tuple(doubts[1:]),
        )
