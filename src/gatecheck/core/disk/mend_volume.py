"""Mending plans for what a firmware reads of a volume: its boot sector from its copy, its first FAT from the second.

Copies: FAT32, sector 6 or as told at 32h (Microsoft FAT 1.03); NTFS, the sector after the volume's last; exFAT, sectors
12 to 23 (exFAT specification, 3.4)."""

from __future__ import annotations

from collections.abc import Iterator

from gatecheck.core.disk.boot_legacy import boot_sector_starts
from gatecheck.core.disk.division import Division, Piece
from gatecheck.core.disk.find import exfat_sum
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.disk.owners import owner_by_type, owners_of
from gatecheck.core.disk.plan import RepairPlan, doubt, what, why, write
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.disk.volume import volume_of
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.fat.layout import FatVolume, listing, read_fat

_SIGNED = b"\x55\xaa"
_NO_FILES = {
    "21686148-6449-6E6F-744E-656564454649",
    "E3C9E316-0B5C-4DB8-817D-F92DF00215AE",
    "DAH",
}
"""partition types of what is no file system with a boot sector (UEFI 2.10, table 5.7): a boot loader's own room,
reserved, data without a file system. Whom other types belong to: `owners.py`"""
_FAT_OR_NTFS = {f"{kind:02X}H" for kind in (0x01, 0x04, 0x06, 0x07, 0x0B, 0x0C, 0x0E)}
"""types of records whose partitions begin with a boot sector"""
_WITH_BOOT_SECTOR = ("fat", "ntfs", "exfat", "ext")
_MEDIA = (0xF0, *range(0xF8, 0x100))
_LARGEST_FAT, _MOST_STEPS = 64 << 20, 200_000
_COPY_PLACES = (6, *range(1, 6), *range(7, 16))


def volume_plans(disk: Sectors, division: Division, mode: str) -> Iterator[RepairPlan]:
    """For each partition, or the whole disk where nothing divides it."""
    whole = Piece(0, 0, (disk.length or 1) - 1, "")
    for own in [p for p in division.pieces if not p.is_extended] or ([whole] if division.scheme == "none" else []):
        if not 0 <= own.first <= own.last < (disk.length or 1 << 62) or own.type.upper() in _NO_FILES:
            continue
        if owner_by_type(own.type) is not None or owners_of(disk, own.first, own.last):
            continue
        restored = _boot_sector(disk, own, mode)
        if restored is not None:
            yield restored
            continue
        yield from _first_fat(disk, own)


def _is_whole(disk: Sectors, lba: int, own: Piece) -> bool:
    """A boot sector that a file system is opened with, and that fits its partition."""
    span = disk.read(lba, 1)
    return not span.missing and boot_sector_fits(span.data[:512], own.last - own.first + 1, disk.sector)


def boot_sector_fits(raw: bytes, room: int, sector: int) -> bool:
    """Its own fields are possible, and its volume fits into so many sectors of that size."""
    kind = volume_of(raw.ljust(4096, b"\0"))
    if kind is not None and kind.kind == "ntfs":
        size, cluster = int.from_bytes(raw[11:13], "little"), raw[13]
        total, catalogue = int.from_bytes(raw[40:48], "little"), int.from_bytes(raw[48:56], "little")
        return (
            size in (512, 1024, 2048, 4096)
            and bool(cluster)
            and 0 < total * size <= room * sector
            and 0 < catalogue < total
            and raw[510:512] == _SIGNED
        )
    if kind is not None and kind.kind == "exfat":
        return (
            9 <= raw[108] <= 12
            and 0 < int.from_bytes(raw[72:80], "little") << raw[108] <= room * sector
            and raw[510:512] == _SIGNED
        )
    size, per_cluster, reserved, fats = (
        int.from_bytes(raw[11:13], "little"),
        raw[13],
        int.from_bytes(raw[14:16], "little"),
        raw[16],
    )
    total = int.from_bytes(raw[19:21], "little") or int.from_bytes(raw[32:36], "little")
    fat = int.from_bytes(raw[22:24], "little") or int.from_bytes(raw[36:40], "little")
    if (
        size not in (512, 1024, 2048, 4096)
        or per_cluster not in (1, 2, 4, 8, 16, 32, 64, 128)
        or not reserved
        or fats not in (1, 2)
        or raw[21] not in _MEDIA
    ):
        return False
    return bool(fat) and reserved + fats * fat < total and total * size <= room * sector


def _boot_sector(disk: Sectors, own: Piece, mode: str) -> RepairPlan | None:
    span = disk.read(own.first, 1)
    broken = bool(span.missing) or not _is_whole(disk, own.first, own)
    now = span.data[:512]
    weak = not broken and mode == "bios" and not boot_sector_starts(disk, own.first)
    other = (
        broken
        and not span.missing
        and volume_of(disk.read(own.first, max(1, 4096 // disk.sector)).data) is not None
        and now[3:11] not in (b"NTFS    ", b"EXFAT   ")
        and not _looks_fat(now)
    )
    if not broken and not weak:
        return None
    for kind, lba, count in (
        () if other else _copies(disk, own)
    ):  # another kind of volume: no FAT, NTFS or exFAT ever stood there
        if not _is_whole(disk, lba, own):
            continue
        data = disk.read(lba, count).whole("copy")
        if kind == "exfat":
            size = 1 << data[108]
            if not exfat_sum(disk, lba, size):
                continue
        better = Overlay(disk, [(own.first * disk.sector, data)])
        if data[: len(now)] == now or (weak and not boot_sector_starts(better, own.first)):
            continue
        if kind == "fat" and not _opens(better, own.first):
            continue
        name = f"boot-sector-{own.number}"
        return RepairPlan(
            name,
            what("boot-sector", number=own.number),
            why("boot-sector", lba=lba, kind=kind.upper() if kind != "exfat" else "exFAT"),
            (write(own.first * disk.sector, data, "boot-sector", number=own.number),),
            (doubt("unreadable-before"),) if span.missing else (),
        )
    if broken and not span.missing and not other:
        media = _media_byte(disk, own, now)
        if media is not None:
            return media
    start = disk.read(own.first, max(1, 4096 // disk.sector))
    known = volume_of(start.data) if not start.missing else None
    fits = known.kind in _WITH_BOOT_SECTOR if known is not None else own.type.upper() in _FAT_OR_NTFS
    if mode == "bios" and fits and now[510:512] != _SIGNED:
        signed = Overlay(disk, [(own.first * disk.sector + 510, _SIGNED)])
        if boot_sector_starts(signed, own.first):
            return RepairPlan(
                f"boot-sector-{own.number}",
                what("boot-sector-signature", number=own.number),
                why("boot-sector-signature"),
                (write(own.first * disk.sector + 510, _SIGNED, "signature"),),
            )
    return None


def _looks_fat(raw: bytes) -> bool:
    return raw[54:57] == b"FAT" or raw[82:87] == b"FAT32"


def _copies(disk: Sectors, own: Piece) -> Iterator[tuple[str, int, int]]:
    """(kind, LBA, sectors) of where a copy of this partition's boot sector may stand."""
    for kind, lba, count in (
        *(("fat", own.first + n, 1) for n in _COPY_PLACES),
        ("ntfs", own.last, 1),
        ("exfat", own.first + 12, 12),
    ):
        if lba <= own.last:
            raw = disk.read(lba, 1)
            mark = raw.data[3:11]
            if (
                not raw.missing
                and (mark == b"NTFS    ") == (kind == "ntfs")
                and (mark == b"EXFAT   ") == (kind == "exfat")
            ):
                yield kind, lba, count
    # a volume that is smaller than its partition keeps its copy further in: only the volume itself could tell


def _opens(disk: Sectors, first: int) -> bool:
    try:
        return not listing(read_fat(disk, first)).missing
    except DecodeError:
        return False


def _media_byte(disk: Sectors, own: Piece, now: bytes) -> RepairPlan | None:
    """The media byte alone is impossible, and the FAT's first byte says what it was."""
    if now[21] in _MEDIA:
        return None
    reserved = int.from_bytes(now[14:16], "little")
    first = disk.read(own.first + reserved, 1)
    if first.missing or first.data[0] not in _MEDIA or first.data[1] != 0xFF:
        return None
    fixed = now[:21] + first.data[:1] + now[22:]
    if not boot_sector_fits(fixed, own.last - own.first + 1, disk.sector) or not _opens(
        Overlay(disk, [(own.first * disk.sector, fixed)]), own.first
    ):
        return None
    return RepairPlan(
        f"boot-sector-{own.number}",
        what("media-byte", number=own.number),
        why("media-byte"),
        (write(own.first * disk.sector + 21, first.data[:1], "media-byte"),),
    )


def _first_fat(disk: Sectors, own: Piece) -> Iterator[RepairPlan]:
    """The first FAT from the second, where files hang together by the second and not by the first."""
    try:
        volume = read_fat(disk, own.first)
    except DecodeError:
        return
    size = volume.fat_sectors * volume.sector
    if volume.fats < 2 or size > _LARGEST_FAT:
        return
    step, per = volume.sector // disk.sector, volume.fat_sectors
    first_lba = volume.first + volume.reserved * step
    one, two = disk.read(first_lba, per * step), disk.read(first_lba + per * step, per * step)
    if two.missing or (not one.missing and one.data == two.data):
        return
    with_second = Overlay(disk, [(first_lba * disk.sector, two.data)])
    before, after = troubles(volume), troubles(read_fat(with_second, own.first))
    if before is None or after is None or after >= before or after:
        return
    sector = disk.sector
    at = first_lba * sector
    wrong = [
        n
        for n in range(per * step)
        if first_lba + n in one.missing
        or one.data[n * sector : (n + 1) * sector] != two.data[n * sector : (n + 1) * sector]
    ]
    runs: list[list[int]] = []
    for n in wrong:
        if runs and runs[-1][-1] == n - 1:
            runs[-1].append(n)
        else:
            runs.append([n])
    writes = tuple(
        write(at + run[0] * sector, two.data[run[0] * sector : (run[-1] + 1) * sector], "fat", number=own.number)
        for run in runs
    )
    yield RepairPlan(
        f"fat-{own.number}",
        what("fat", number=own.number),
        why("fat", before=before, sectors=len(wrong)),
        writes,
        (doubt("unreadable-before"),) if one.missing else (),
    )


def troubles(volume: FatVolume) -> int | None:
    """How many files and folders do not hang together by the first FAT; None where the volume is too large to say."""
    try:
        media = volume.read(0, 1, "boot sector")[21]
        start = volume.read(volume.reserved, 1, "FAT")
    except DecodeError:
        return 1 << 20
    found = listing(volume)
    wrong = len(found.missing) + (start[0] != media or start[1] != 0xFF)
    steps, each = 0, volume.cluster_sectors * volume.sector
    for file in found.files.values():
        if file.is_directory or not file.size:
            continue
        need = -(-file.size // each)
        steps += need
        if steps > _MOST_STEPS:
            return None
        try:
            wrong += len(list(volume.chain(file.cluster, need + 1))) != need
        except DecodeError:
            wrong += 1
    return wrong
