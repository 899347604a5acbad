"""What a UEFI firmware does with a disk: which partitions it sees, which volumes it opens, which program it starts.

UEFI 2.10: 5.3 (GPT), 5.2 (MBR), 13.3 (FAT), 3.5.1.1 (the fallback file), 2.1.1 and Microsoft "PE Format" (images).
Where the specification leaves room, it is what the reference firmware does, as tried on it: a table whose first copy is
broken is taken from the second, a table without its protective record is none, every FAT volume is asked for the
fallback file whatever its partition's type."""

from __future__ import annotations

import zlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from gatecheck.core.disk.division import MOST_LOGICAL
from gatecheck.core.disk.gpt import EFI_SYSTEM, GPT_ENTRY, GPT_HEADER, HEADER, SIGNATURE
from gatecheck.core.disk.grub import grub_stop
from gatecheck.core.disk.grub_image import grub_image
from gatecheck.core.disk.second_stage import OpenVolumes, csv_stop, systemd_stop, windows_stop
from gatecheck.core.disk.sectors import MissingSectorError, Sectors
from gatecheck.core.disk.walk import Stop, Walk
from gatecheck.core.errors import DecodeError
from gatecheck.core.fields import read_fields
from gatecheck.core.firmware.pe import FALLBACK, machine_of
from gatecheck.core.guid import guid_text
from gatecheck.core.volume.fat.layout import FAT32_FROM, FatFile, FatListing, FatVolume, listing, read_fat
from gatecheck.core.volume.tree import whole_content

_MOST_ENTRIES = 1024
_NO_BLOCK_IO, _FAT32_BITS = 2, 32
_CHAINED = (0x05, 0x0F)
_EMPTY_CODE, _EMPTY = 16, ({0x00}, {0xFF})
"""bytes at a program's entry point that are never all of these"""
_NEVER_EMPTY = (b".text", b"mods", b".linux", b".initrd", b".sbat")
_LARGEST_PROGRAM = 64 << 20
_EFI_APPLICATION, _NT_HEADERS, _MOST_DIRECTORIES = 10, 264, 16
_NARROW, _WIDE = 0x10B, 0x20B
_MOST_STAGES = 4
_WINDOWS = ("bootmgfw.efi", "\\BCD")
_AGAIN_NAME = {"x64": "fbx64.efi", "ia32": "fbia32.efi", "aa64": "fbaa64.efi", "arm": "fbarm.efi"}
_SHIM_NAME = {"x64": "grubx64.efi", "ia32": "grubia32.efi", "aa64": "grubaa64.efi", "arm": "grubarm.efi"}


@dataclass(frozen=True, slots=True)
class Slice:
    """A partition as firmware sees it; number 0: the whole disk, which carries no table."""

    number: int
    first: int
    last: int
    type: str
    guid: str


@dataclass(frozen=True, slots=True)
class _Header:
    entries_lba: int
    count: int
    size: int
    crc: int
    first_usable: int
    last_usable: int
    alternate: int


def slices(disk: Sectors, walk: Walk) -> list[Slice]:
    """The partitions that firmware makes of the disk's tables."""
    start = disk.read(0, 1)
    if start.missing:
        walk.find("start-unreadable", "layout", "LBA 0")
        return []  # neither table can be looked for: that is another thing than that there is none
    found = _gpt_slices(disk, start.data, walk)
    if found is not None:
        return found
    return _mbr_slices(disk, start.data, walk)


def _gpt_slices(disk: Sectors, start: bytes, walk: Walk) -> list[Slice] | None:
    """None where firmware sees no GPT."""
    last = (disk.length or 0) - 1
    primary = _header(disk, 1)
    backup = _header(disk, primary.alternate if primary and 0 < primary.alternate <= last else last)
    if primary is None and backup is None:
        if disk.read(1, 1).data[:8] == SIGNATURE:
            walk.find("gpt-both-broken", "layout", f"LBA 1 and {last}")
        return None
    records = [start[446 + 16 * n : 462 + 16 * n] for n in range(4)] if len(start) >= 512 else []
    guarded = any(r[4] == 0xEE and r[8:12] == b"\1\0\0\0" for r in records)
    if not guarded:
        walk.find("gpt-unguarded", "layout", "LBA 0")
        return None
    if primary is None:
        walk.find("gpt-primary-broken", "layout", "LBA 1")
    elif backup is None:
        walk.find("gpt-backup-broken", "layout", f"LBA {last}")
    header = primary or backup
    assert header is not None
    span = disk.read(header.entries_lba, -(-header.count * header.size // disk.sector))
    entries = []
    for number in range(header.count):
        raw = span.data[number * header.size : number * header.size + 128]
        if len(raw) == 128 and any(raw[:16]):
            own = read_fields(GPT_ENTRY, raw, "GPT entry", size=128)
            entries.append(
                (
                    Slice(
                        number + 1,
                        int(own["first_lba"]),
                        int(own["last_lba"]),
                        guid_text(bytes(raw[:16])),
                        guid_text(bytes(raw[16:32])),
                    ),
                    int.from_bytes(raw[48:56], "little"),
                )
            )
    found = []
    for own_slice, attributes in entries:
        where = f"partition {own_slice.number}"
        overlaps = any(
            o is not own_slice and o.first <= own_slice.last and own_slice.first <= o.last for o, _ in entries
        )
        if (
            own_slice.first > own_slice.last
            or own_slice.first < header.first_usable
            or own_slice.last > header.last_usable
        ):
            walk.find("partition-outside", "layout", where)
        elif overlaps:
            walk.find("partition-overlaps", "layout", where)
        elif not attributes & _NO_BLOCK_IO:
            found.append(own_slice)
    walk.step("gpt" if primary else "gpt-second", count=len(found))
    return found


def _header(disk: Sectors, lba: int) -> _Header | None:
    """A header whose sums fit, with entries whose sum fits; None for any other."""
    span = disk.read(lba, 1)
    if lba < 1 or span.missing or span.data[:8] != SIGNATURE:
        return None
    own = read_fields(GPT_HEADER, span.data[:HEADER], "GPT header", size=HEADER)
    size = int(own["header_size"])
    if not HEADER <= size <= disk.sector or int(own["my_lba"]) != lba:
        return None
    raw = bytearray(span.data[:size])
    raw[16:20] = bytes(4)
    if zlib.crc32(raw) != int(own["header_crc"]):
        return None
    count, each, first = int(own["entry_count"]), int(own["entry_size"]), int(own["entries_lba"])
    if (
        not 0 < count <= _MOST_ENTRIES
        or not 128 <= each <= 4096
        or each % 128
        or not 0 < first < (disk.length or 1 << 62)
    ):
        return None
    entries = disk.read(first, -(-count * each // disk.sector))
    crc = int.from_bytes(span.data[88:92], "little")
    if entries.missing or zlib.crc32(entries.data[: count * each]) != crc:
        return None
    return _Header(
        first,
        count,
        each,
        crc,
        int.from_bytes(span.data[40:48], "little"),
        int.from_bytes(span.data[48:56], "little"),
        int(own["alternate_lba"]),
    )


def _mbr_slices(disk: Sectors, start: bytes, walk: Walk) -> list[Slice]:
    """Records that firmware takes: all within the disk, none over another; else the whole disk is asked for a
    volume."""
    whole = [Slice(0, 0, (disk.length or 1) - 1, "", "")]
    if len(start) < 512 or start[510:512] != b"\x55\xaa":
        walk.step("whole-disk")
        return whole
    records = []
    for number in range(4):
        raw = start[446 + 16 * number : 462 + 16 * number]
        kind, first, size = raw[4], int.from_bytes(raw[8:12], "little"), int.from_bytes(raw[12:16], "little")
        if kind and size:
            records.append(Slice(number + 1, first, first + size - 1, f"{kind:02X}h", ""))
    valid = bool(records)
    for own in records:
        if own.last >= (disk.length or 1 << 62):
            walk.find("partition-outside", "layout", f"partition {own.number}")
            valid = False
        elif any(o is not own and o.first <= own.last and own.first <= o.last for o in records):
            walk.find("partition-overlaps", "layout", f"partition {own.number}")
            valid = False
    if not valid:
        walk.step("whole-disk")
        return whole
    found = [r for r in records if r.type != "EEh"]
    for outer in list(found):
        found += _logical_slices(disk, outer, 5 + sum(s.number > 4 for s in found))
    walk.step("mbr", count=len(found))
    return found


def _logical_slices(disk: Sectors, outer: Slice, number: int) -> list[Slice]:
    """The chain of records in a partition, whatever its type: its first sector has to be a record that firmware takes,
    and each names one partition from itself and the next record from the first (as the reference firmware follows
    it)."""
    found: list[Slice] = []
    at, seen = 0, set[int]()
    while at <= outer.last - outer.first and at not in seen and len(seen) < MOST_LOGICAL:
        seen.add(at)
        span = disk.read(outer.first + at, 1)
        if span.missing or (not at and not _is_record(span.data, outer.last - outer.first)):
            break
        own, link = (span.data[446 + 16 * n : 462 + 16 * n] for n in range(2))
        kind, first, size = own[4], int.from_bytes(own[8:12], "little"), int.from_bytes(own[12:16], "little")
        goal = int.from_bytes(link[8:12], "little")
        if not size:
            break
        if kind in _CHAINED:
            at = first
            continue
        start = outer.first + at + first
        found.append(Slice(number + len(found), start, start + size - 1, f"{kind:02X}h", ""))
        if link[4] not in _CHAINED or not goal:
            break
        at = goal
    return found


def _is_record(sector: bytes, last: int) -> bool:
    """Signed, with entries that lie within and over none of each other."""
    if len(sector) < 512 or sector[510:512] != b"\x55\xaa":
        return False
    spans = []
    for number in range(4):
        raw = sector[446 + 16 * number : 462 + 16 * number]
        first, size = int.from_bytes(raw[8:12], "little"), int.from_bytes(raw[12:16], "little")
        if raw[4] and size:
            spans.append((first, first + size - 1))
    return (
        bool(spans)
        and all(end <= last for _, end in spans)
        and not any(a is not b and a[0] <= b[1] and b[0] <= a[1] for a in spans for b in spans)
    )


def volumes(disk: Sectors, found: list[Slice], walk: Walk) -> Iterator[tuple[Slice, FatVolume, FatListing]]:
    """The FAT volumes that firmware opens, in its order."""
    for own in found:
        try:
            boot = disk.read(own.first, 1).whole("boot sector")
            volume = read_fat(disk, own.first)
        except DecodeError as error:
            if own.type == EFI_SYSTEM:
                walk.find("system-partition-broken", "layout", f"partition {own.number}: {error}")
            continue
        if boot[21] <= 0xF7 and boot[21] not in (0xF0, 0x00, 0x01):
            walk.find("system-partition-broken", "layout", f"partition {own.number}: no media byte")
            continue
        if volume.wide == _FAT32_BITS and volume.clusters < FAT32_FROM:
            few = f"partition {own.number}: FAT32 of {volume.clusters} clusters"
            walk.find("system-partition-broken", "layout", few)
            continue  # systems open it, the reference firmware does not
        if own.number and volume.sectors * volume.sector > (own.last - own.first + 1) * disk.sector:
            walk.find("volume-too-large", "layout", f"partition {own.number}")
        yield own, volume, listing(volume)


@dataclass(frozen=True, slots=True)
class FirmwareEntry:
    """A boot entry in the order that firmware tries it. `partition`: GUID, empty where its path leads through none;
    `file`: empty for the fallback; `leads_to`: partition, disk, usb, optical, network, firmware, other."""

    name: str
    partition: str
    file: str
    leads_to: str


def start_entries(
    disk: Sectors, walk: Walk, entries: Sequence[FirmwareEntry], machine: str, *, secure: bool = False
) -> bool:
    """Firmware that has boot entries: each in its order, and after all of them the fallback file."""
    found = slices(disk, walk)
    opened = list(volumes(disk, found, walk))
    for entry in entries:
        if entry.leads_to in ("network", "usb", "optical", "firmware"):
            walk.step("entry-elsewhere", entry=entry.name, to=entry.leads_to)
            continue
        own = [v for v in opened if not entry.partition or v[0].guid == entry.partition]
        if entry.partition and not own:
            known = any(s.guid == entry.partition for s in found)
            walk.find("entry-partition-broken" if known else "entry-stale", "firmware", entry.name)
            walk.step("entry-nowhere", entry=entry.name)
            continue
        path = (entry.file or FALLBACK[machine]).replace("\\", "/").strip("/")
        for piece, volume, files in own:
            stop = try_program(
                walk, volume, files, path, machine, f"{entry.name}, partition {piece.number}", secure=secure
            )
            if stop is None:
                return True
            walk.find(stop.id, stop.gate, stop.where)
    walk.step("fallback")
    return start_fallback(disk, walk, machine, found, secure=secure)


def start_fallback(
    disk: Sectors, walk: Walk, machine: str, known: list[Slice] | None = None, *, secure: bool = False
) -> bool:
    """Firmware that knows no entries: the fallback file of each volume, until one starts."""
    found = slices(disk, walk) if known is None else known
    wanted = FALLBACK[machine]
    opened = 0
    stop: Stop | None = None
    for own, volume, files in volumes(disk, found, walk):
        opened += 1
        where = f"partition {own.number}" if own.number else "the whole disk"
        stop = try_program(walk, volume, files, wanted, machine, where, secure=secure)
        if stop is None:
            return True
        if is_chosen(volume, files, wanted):
            break
    if stop is None:
        if any(f.id == "start-unreadable" for f in walk.findings):
            walk.ended = "layout"
            return False
        has_esp = any(s.type == EFI_SYSTEM for s in found)
        walk.stop(
            "loader" if opened else "layout",
            "no-fallback" if opened else "system-partition-missing" if not has_esp else "system-partition-broken",
            wanted,
        )
    else:
        walk.stop(stop.gate, stop.id, stop.where)
    return False


def try_program(
    walk: Walk, volume: FatVolume, files: FatListing, path: str, machine: str, where: str, *, secure: bool = False
) -> Stop | None:
    """None where the program is loaded and finds what it needs; else where it stops. `secure`: firmware starts only
    what is signed; by whom is not looked into."""
    file = files.find(path)
    walk.step("tries", where=where, file=path)
    if file is None:
        unread = any(path.lower().startswith(folder.lower().strip("/")) for folder in files.missing)
        return Stop("loader", "loader-unread" if unread else "loader-missing", f"{where}: {path}")
    if file.is_directory:
        return Stop("loader", "loader-no-file", f"{where}: {path}")
    try:
        data = content(volume, file)
    except MissingSectorError as error:
        return Stop("loader", "loader-unread", f"{where}: {path}: {error}")
    except DecodeError as error:
        return Stop("loader", "loader-chain-broken", f"{where}: {path}: {error}")
    fault = image_fault(data, machine)
    if fault:
        return Stop("loader", fault, f"{where}: {path}")
    if secure and not carries_signature(data):
        return Stop("firmware", "loader-unsigned", f"{where}: {path}")
    walk.step("starts", where=where, file=path)
    return second_stage_loader(walk, data, volume, path, machine)


def content(volume: FatVolume, file: FatFile) -> bytes:
    """All bytes of a file. Raises DecodeError where its chain is shorter than its size, leads outside, or cannot be
    read."""
    if file.size > _LARGEST_PROGRAM:
        raise DecodeError(file.path, at=0, expected=f"at most {_LARGEST_PROGRAM >> 20} MiB", got=f"{file.size} bytes")
    if not file.size:
        return b""
    each = volume.cluster_sectors * volume.sector
    need = -(-file.size // each)
    parts = []
    for cluster in volume.chain(file.cluster, need):
        parts.append(volume.cluster(cluster, file.path))
    if len(parts) < need:
        raise DecodeError(file.path, at=len(parts) * each, expected=f"{need} clusters", got=f"{len(parts)}")
    return b"".join(parts)[: file.size]


def image_fault(data: bytes, machine: str) -> str:
    """Why firmware does not load this as a program; empty where it does. Headers and sections must lie within the
    file."""
    own = machine_of(data)
    if own is None:
        return "loader-no-program"
    if own != machine:
        return "loader-other-machine"
    at = int.from_bytes(data[0x3C:0x40], "little")
    count, optional = int.from_bytes(data[at + 6 : at + 8], "little"), int.from_bytes(data[at + 20 : at + 22], "little")
    head = data[at + 24 : at + 24 + optional]
    magic = int.from_bytes(head[:2], "little")
    if len(head) < 72 or magic not in (_NARROW, _WIDE):
        return "loader-no-program"
    if int.from_bytes(head[68:70], "little") != _EFI_APPLICATION:
        return "loader-no-application"
    if int.from_bytes(head[60:64], "little") > len(data):
        return "loader-cut-short"
    directories = 92 + 16 * (magic == _WIDE)
    if int.from_bytes(head[directories : directories + 4], "little") > _MOST_DIRECTORIES:
        return "loader-no-program"
    sections = [data[at + 24 + optional + 40 * number :][:40] for number in range(count)]
    enters = False
    for raw in sections:
        size, place = int.from_bytes(raw[16:20], "little"), int.from_bytes(raw[20:24], "little")
        if len(raw) < 40 or (size and place + size > len(data)):
            return "loader-cut-short"
        entry = int.from_bytes(head[16:20], "little") - int.from_bytes(raw[12:16], "little")
        enters |= 0 <= entry < size and set(data[place + entry : place + entry + _EMPTY_CODE]) not in _EMPTY
        if size and raw[:8].rstrip(b"\0") in _NEVER_EMPTY and set(data[place : place + size]) in _EMPTY:
            return "loader-hollow"
    if not enters or not _relocates(data, head, sections):
        return "loader-hollow"
    return "" if _within(data, head) else "loader-cut-short"


def _within(data: bytes, head: bytes) -> bool:
    """Its certificates (the fifth directory: bytes of the file) end within it."""
    place = (112 if head[:2] == b"\x0b\x02" else 96) + 4 * 8
    first, size = (int.from_bytes(head[place + n : place + n + 4], "little") for n in (0, 4))
    return not size or first + size <= len(data)


def _relocates(data: bytes, head: bytes, sections: Sequence[bytes]) -> bool:
    """The blocks of base relocations (the sixth directory) follow each other to its end, none of no length: else
    firmware does not move the program to where it has room."""
    place = (112 if head[:2] == b"\x0b\x02" else 96) + 5 * 8
    first, size = (int.from_bytes(head[place + n : place + n + 4], "little") for n in (0, 4))
    own = next(
        (
            int.from_bytes(raw[20:24], "little") + first - int.from_bytes(raw[12:16], "little")
            for raw in sections
            if 0 <= first - int.from_bytes(raw[12:16], "little") < int.from_bytes(raw[16:20], "little")
        ),
        None,
    )
    if not size or own is None or len(head) < place + 8:
        return True
    table, at = data[own : own + size], 0
    while at + 8 <= len(table):
        length = int.from_bytes(table[at + 4 : at + 8], "little")
        if not 8 <= length <= size:
            return False
        at += length
    return True


def is_chosen(volume: FatVolume, files: FatListing, path: str) -> bool:
    """Firmware takes the first file whose head is an application's, for whatever machine, and where that fails looks at
    no other volume of the disk (as the reference firmware does, tried on it)."""
    file = files.find(path)
    if file is None or file.is_directory:
        return False
    try:
        data = content(volume, file)
    except DecodeError:
        return False
    at = int.from_bytes(data[0x3C:0x40], "little")
    head = data[at + 24 : at + _NT_HEADERS]
    return (
        machine_of(data) is not None
        and len(head) == _NT_HEADERS - 24
        and int.from_bytes(head[:2], "little") in (_NARROW, _WIDE)
        and int.from_bytes(head[68:70], "little") == _EFI_APPLICATION
    )


def carries_signature(data: bytes) -> bool:
    """Is there a certificate table in it (Microsoft "PE Format", optional header data directories: the fifth)."""
    at = int.from_bytes(data[0x3C:0x40], "little") + 24
    wide = data[at : at + 2] == b"\x0b\x02"
    place = at + (112 if wide else 96) + 4 * 8
    first, size = (
        int.from_bytes(data[place : place + 4], "little"),
        int.from_bytes(data[place + 4 : place + 8], "little"),
    )
    return size > 8 and first > 0 and first + size <= len(data)


def second_stage_loader(
    walk: Walk, data: bytes, volume: FatVolume, path: str, machine: str, depth: int = 0
) -> Stop | None:
    """What a program that is known does next; None where it finds what it needs, or where it is not known."""
    if depth > _MOST_STAGES:
        return None
    found = OpenVolumes(volume.disk)
    number = found.number_at(volume.first)
    folder = path.rpartition("/")[0]

    def start(where: int, file: str) -> Stop | None:
        return _started(walk, found, where, file, machine, depth + 1)

    grub = grub_image(data)
    if grub is not None and not grub.whole:
        return Stop("loader", "loader-hollow", f"partition {number}: {path}")
    if grub is not None:
        return grub_stop(grub, found, number, walk, start, folder)
    if _SHIM_NAME[machine].encode("utf-16-le") in data:
        again = f"{folder}/{_AGAIN_NAME[machine]}"
        if folder.lower() == "efi/boot" and found.find(number, again) is not None:
            walk.step("tries", where=f"partition {number}", file=again)
            return csv_stop(found, number, machine, start)
        beside = f"{folder}/{_SHIM_NAME[machine]}"
        if found.find(number, beside) is None:
            return Stop("loader", "second-program-missing", f"partition {number}: {beside}")
        return start(number, beside)
    if b"systemd-boot" in data and b"loader" in data:
        return systemd_stop(found, number, walk, start)
    if any(mark.encode("utf-16-le") in data for mark in _WINDOWS):  # by what it is, not by where it stands
        return windows_stop(found, number, walk, store="EFI/Microsoft/Boot/BCD", loader="winload.efi")
    return None


def _started(walk: Walk, found: OpenVolumes, number: int, file: str, machine: str, depth: int) -> Stop | None:
    """A program started by another one, from any volume that can be read."""
    where = f"partition {number}: {file}"
    walk.step("tries", where=f"partition {number}", file=file)
    own = found.find(number, file)
    if own is None:
        return Stop("loader", "loader-missing", where)
    try:
        data = whole_content(*own, _LARGEST_PROGRAM)
    except DecodeError as error:
        return Stop("loader", "loader-chain-broken", f"{where}: {error}")
    fault = image_fault(data, machine)
    if fault:
        return Stop("loader", fault, where)
    piece = next((p for p in found.pieces if p.number == number), None)
    try:
        volume = read_fat(found.disk, piece.first) if piece else None
    except DecodeError:
        volume = None
    return second_stage_loader(walk, data, volume, file, machine, depth) if volume is not None else None
