"""Volumes that no table names: found by their own boot sectors, with what speaks for each.

A mark alone is not enough: what it says of its size and of its own structures has to be true of this disk. Places
looked at: each whole MiB, the 63rd sector and whole tracks after it (where older systems began partitions), and what
follows a volume's end."""

from __future__ import annotations

import zlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.disk.volume import Volume, volume_of
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.exfat.read import region_sum
from gatecheck.core.volume.fat.layout import listing, read_fat

_MIB, _TRACK, _MOST_PLACES = 1 << 20, 63, 1 << 21
_MARKED = 4096


@dataclass(frozen=True, slots=True)
class FoundVolume:
    """A volume at `first`. `last` is where it says that it ends (None: it does not say). `speaks`: ids of what speaks
    for it; `system`: it holds a folder for loaders."""

    first: int
    last: int | None
    volume: Volume
    speaks: tuple[str, ...]
    system: bool = False


def lost_volumes(disk: Sectors, taken: Sequence[tuple[int, int]] = ()) -> list[FoundVolume]:
    """Volumes outside of the ranges that are taken (first, last LBA), in the order of the disk. Never raises."""
    found: list[FoundVolume] = []
    for lba in _places(disk, taken):
        if found and lba <= (found[-1].last or found[-1].first):
            continue
        own = probe_volume_at(disk, lba)
        if own is not None and not any(first <= (own.last or lba) and lba <= last for first, last in taken):
            found.append(own)
    return found


def _places(disk: Sectors, taken: Sequence[tuple[int, int]]) -> Iterator[int]:
    """Where a volume may begin, in the order of the disk: only gaps between what is taken are walked."""
    length, step = disk.length or 0, max(1, _MIB // disk.sector)
    edges = sorted({last + 1 for _, last in taken} | {_TRACK})
    most = step * _MOST_PLACES
    for first, end in _gaps(sorted(taken), length):
        own = [lba for lba in edges if first <= lba < end and lba]
        even = range(max(step, -(-first // step) * step), min(end, most), step)
        yield from sorted({*own, *even}) if len(even) < 1 << 17 else (*own, *even)


def _gaps(taken: Sequence[tuple[int, int]], length: int) -> Iterator[tuple[int, int]]:
    """(first, end) of each stretch that nothing takes."""
    at = 0
    for first, last in taken:
        if first > at:
            yield at, min(first, length)
        at = max(at, last + 1)
    if at < length:
        yield at, length


def probe_volume_at(disk: Sectors, lba: int) -> FoundVolume | None:
    """The volume that begins there, where enough speaks for it."""
    span = disk.read(lba, max(1, _MARKED // disk.sector))
    if lba in span.missing:
        return None
    volume = volume_of(span.data)
    if volume is None:
        return None
    last = lba + -(-volume.size // disk.sector) - 1 if volume.size else None
    if volume.kind == "ntfs" and last is not None and span.data[40:48] != bytes(8):
        last += 1  # the sector after its last one holds the copy of its boot sector
    if last is not None and last >= (disk.length or 1 << 62):
        return None
    speaks = tuple(evidence_for_volume(disk, lba, last, volume, span.data))
    if not speaks:
        return None
    return FoundVolume(lba, last, volume, speaks, "system-folder" in speaks)


def evidence_for_volume(disk: Sectors, lba: int, last: int | None, volume: Volume, start: bytes) -> Iterator[str]:
    if volume.kind == "fat":
        try:
            own = read_fat(disk, lba)
            if own.read(own.reserved, 1, "FAT")[0] != start[21]:
                return
            files = listing(own)
        except DecodeError:
            return
        yield "fat-table"
        if not files.missing:
            yield "folders"
        if files.find("EFI/BOOT") or files.find("EFI"):
            yield "system-folder"
        return
    if volume.kind == "ntfs":
        size = int.from_bytes(start[11:13], "little") * (start[13] if start[13] <= 0x80 else 1 << (256 - start[13]))
        at = lba * disk.sector + int.from_bytes(start[48:56], "little") * size
        if (
            size
            and at % disk.sector == 0
            and at // disk.sector < (disk.length or 1 << 62)
            and disk.read(at // disk.sector, 1).data[:4] == b"FILE"
        ):
            yield "catalogue"
        if last is not None and disk.read(last, 1).data[:84] == start[:84]:
            yield "boot-copy"
        return
    if volume.kind == "exfat":
        size = 1 << start[108] if 9 <= start[108] <= 12 else 0
        if size and exfat_sum(disk, lba, size):
            yield "sum"
        return
    if volume.kind == "ext":
        block = 1024 << (int.from_bytes(start[1048:1052], "little") & 7)
        per_group = int.from_bytes(start[1056:1060], "little")
        first_block = int.from_bytes(start[1044:1048], "little")
        at = lba * disk.sector + (first_block + per_group) * block
        copy = (
            disk.read(at // disk.sector, max(1, 1024 // disk.sector)).data[at % disk.sector :]
            if per_group and at // disk.sector < (disk.length or 0)
            else b""
        )
        if copy[56:58] == b"\x53\xef" and copy[104:120] == start[1024 + 104 : 1024 + 120]:
            yield "boot-copy"
        elif int.from_bytes(start[1024:1028], "little") and per_group == 8 * block:
            yield "own-sizes"
        return
    if volume.kind in ("xfs", "encrypted", "swap", "lvm", "f2fs", "squashfs"):
        yield "mark"


def exfat_sum(disk: Sectors, lba: int, size: int) -> bool:
    """The sum over the boot region's first eleven sectors stands in the twelfth (exFAT, 3.4)."""
    each = max(1, size // disk.sector)
    span = disk.read(lba, 12 * each)
    if span.missing:
        return False
    return span.data[11 * size : 12 * size] == region_sum(span.data, size).to_bytes(4, "little") * (size // 4)


def made_guid(disk: Sectors, lba: int, what: str) -> bytes:
    """16 bytes for a table that has lost its own identifiers: drawn from what stands on the disk, so that a plan made
    twice is the same plan."""
    raw = disk.read(lba, 1).data + what.encode() + lba.to_bytes(8, "little")
    parts = b"".join(zlib.crc32(bytes([n]) + raw).to_bytes(4, "little") for n in range(4))
    own = bytearray(parts)
    own[7], own[8] = own[7] & 0x0F | 0x40, own[8] & 0x3F | 0x80
    return bytes(own)


def kind_of_partition(lost: FoundVolume) -> tuple[str, int]:
    """(GPT type GUID, MBR type) for a found volume."""
    if lost.system:
        return "C12A7328-F81F-11D2-BA4B-00A0C93EC93B", 0x0C
    linux = "0FC63DAF-8483-4772-8E79-3D69D8477DE4"
    by_kind = {
        "ntfs": ("EBD0A0A2-B9E5-4433-87C0-68B6B72699C7", 0x07),
        "exfat": ("EBD0A0A2-B9E5-4433-87C0-68B6B72699C7", 0x07),
        "fat": ("EBD0A0A2-B9E5-4433-87C0-68B6B72699C7", 0x0C),
        "swap": ("0657FD6D-A4AB-43C4-84E5-0933C84B4F4F", 0x82),
        "lvm": ("E6D6D379-F507-44C2-A23C-238F2A3DF928", 0x8E),
    }
    if lost.volume.kind == "encrypted" and "Windows" in lost.volume.name:
        return by_kind["ntfs"]
    return by_kind.get(lost.volume.kind, (linux, 0x83))
