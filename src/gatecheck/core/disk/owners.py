"""Who a disk or a partition belongs to besides a file system of its own: sets of drives, pools, containers, encryption,
swap. Known by marks at the start, at the end, and by the partition's type.

A mark says only that somebody else keeps records there: what lies in such a place is no damage, and nothing is written
to it. Linux RAID: include/uapi/linux/raid/md_p.h (0.90, 1.0, 1.1, 1.2); DDF: SNIA Common RAID Disk Data Format 2.0, 4;
LUKS2 on-disk format, 2.1; btrfs on-disk format, superblock; ZFS on-disk specification, 1.2.1; LDM: PRIVHEAD as the
kernel's block/partitions/ldm.h has it; GPT types: UEFI 2.10, table 5.7, and the systems' own; other marks: the first
field of each structure as the kernel's sources name it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from gatecheck.core.disk.sectors import NOT_CAPTURED, Sectors, untraced

SET, POOL, ENCRYPTED, CONTAINER, SWAP, OTHER = "raid", "pool", "encrypted", "container", "swap", "other"
"""of what kind: one of a set of drives, of a pool, encrypted, a container of volumes, swap, another file system"""


@dataclass(frozen=True, slots=True)
class Owner:
    """`kind`: one of the above; `name`: as people call it; `at`: byte of the mark, from the start of the disk; -1 where
    the partition's type alone says it."""

    kind: str
    name: str
    at: int


_START: tuple[tuple[int, bytes, str, str], ...] = (
    (0, b"LUKS\xba\xbe", ENCRYPTED, "encrypted Linux volume"),
    (3, b"-FVE-FS-", ENCRYPTED, "encrypted Windows volume"),
    (424, bytes.fromhex("3bd66749292ed84a8399f6a339e3d001"), ENCRYPTED, "encrypted Windows volume"),
    (0, b"\xfc\x4e\x2b\xa9", SET, "Linux RAID"),
    (4096, b"\xfc\x4e\x2b\xa9", SET, "Linux RAID"),
    (0, b"LABELONE", CONTAINER, "LVM physical volume"),
    (512, b"LABELONE", CONTAINER, "LVM physical volume"),
    (1024, b"LABELONE", CONTAINER, "LVM physical volume"),
    (1536, b"LABELONE", CONTAINER, "LVM physical volume"),
    (88, b"CS", CONTAINER, "Core Storage"),
    (32, b"NXSB", CONTAINER, "APFS"),
    (4120, bytes.fromhex("c68573f64e1a45ca8265f57f48ba6d81"), CONTAINER, "bcache"),
    (0, b"dmvdo001", CONTAINER, "VDO volume"),
    (0, b"UBI#", CONTAINER, "UBI"),
    (516, b"!Stra0tis\x86\xff\x02^\x41rh", POOL, "Stratis pool"),
    (0, b"SPACEDB ", POOL, "Windows storage pool"),
    (4096, b"SPACEDB ", POOL, "Windows storage pool"),
    (3072, b"PRIVHEAD", SET, "Windows dynamic disk"),
    (4086, b"SWAPSPACE2", SWAP, "Linux swap"),
    (4086, b"SWAP-SPACE", SWAP, "Linux swap"),
    (16374, b"SWAPSPACE2", SWAP, "Linux swap"),
    (65526, b"SWAPSPACE2", SWAP, "Linux swap"),
    (0, b"XFSB", OTHER, "XFS"),
    (0x10040, b"_BHRfS_M", OTHER, "btrfs"),
    (1024, b"\x10\x20\xf5\xf2", OTHER, "F2FS"),
    (1024, b"H+", OTHER, "HFS+"),
    (1024, b"HX", OTHER, "HFS+"),
    (1024, b"BD", OTHER, "HFS"),
    (3, b"ReFS\0\0\0\0", OTHER, "ReFS"),
    (0, b"hsqs", OTHER, "SquashFS"),
    (1024, b"\xe2\xe1\xf5\xe0", OTHER, "EROFS"),
    (0x8000, b"JFS1", OTHER, "JFS"),
    (0x10034, b"ReIsEr", OTHER, "ReiserFS"),
    (1030, b"\x34\x34", OTHER, "NILFS2"),
    (0x10000, b"\x01\x16\x19\x70", OTHER, "GFS2"),
    (0x8001, b"CD001", OTHER, "ISO 9660"),
    (0x100000, b"\x0d\xd0\x01\xc0", OTHER, "VMFS"),
    (0, b"-rom1fs-", OTHER, "romfs"),
)
_BCACHEFS = bytes.fromhex("f6733c689ce4f74b95f55cd83ed4d0ee"), bytes.fromhex("c68573f666ce90a9d96a60cf803df7ef")
_ZFS_AT, _ZFS = 0x20000, (bytes.fromhex("0cb1ba0000000000"), bytes.fromhex("0000000000bab10c"))
_MD = (b"\xfc\x4e\x2b\xa9", b"\xa9\x2b\x4e\xfc")

_PROMISE = (63, 255, 256, 16, 399, 591, 675, 735, 911, 974, 991, 951, 3087)
# sectors of 512 bytes from the end -> (byte in it, mark, name)
_END: tuple[tuple[int, int, bytes, str], ...] = (
    (2, 0, b"Intel Raid ISM Cfg Sig. ", "firmware RAID"),
    (1, 0, b"\xde\x11\xde\x11", "RAID (DDF)"),
    (257, 0, b"\xde\x11\xde\x11", "RAID (DDF)"),
    (1, 0, b"\x11\xde\x11\xde", "RAID (DDF)"),
    (2, 0, b"NVIDIA", "firmware RAID"),
    (1, 0, b"JM", "firmware RAID"),
    (1, 0, b"$XIDE$", "firmware RAID"),
    (1, 0x60, b"\x00\x00\x00\x2f", "firmware RAID"),
    (1, 0, b"DPTM", "firmware RAID"),
    (1, 0, b"\x55\xaa\x01", "firmware RAID"),
    (1, 0, b"\x55\xaa\x00", "firmware RAID"),
    (11, 0, b"\xf3\x16\x78\x5a", "firmware RAID"),
    (11, 0, b"\xf4\x16\x78\x5a", "firmware RAID"),
    *((n, 0, b"Promise Technology, Inc.", "firmware RAID") for n in _PROMISE),
    (1, 0, b"PRIVHEAD", "Windows dynamic disk"),
)  # fmt: skip
_TYPES: dict[str, tuple[str, str]] = {
    "5808C8AA-7E8F-42E0-85D2-E1E90434CFB3": (SET, "Windows dynamic disk"),
    "AF9B60A0-1431-4F62-BC68-3311714A69AD": (SET, "Windows dynamic disk"),
    "E75CAF8F-F680-4CEE-AFA3-B001E56EFC2D": (POOL, "Windows storage pool"),
    "A19D880F-05FC-4D3B-A006-743F0F84911E": (SET, "Linux RAID"),
    "E6D6D379-F507-44C2-A23C-238F2A3DF928": (CONTAINER, "LVM physical volume"),
    "0657FD6D-A4AB-43C4-84E5-0933C84B4F4F": (SWAP, "Linux swap"),
    "CA7D7CCB-63ED-4C53-861C-1742536059CC": (ENCRYPTED, "encrypted Linux volume"),
    "7FFEC5C9-2D00-49B7-8941-3EA10A5586B7": (ENCRYPTED, "encrypted Linux volume"),
    "53746F72-6167-11AA-AA11-00306543ECAC": (CONTAINER, "Core Storage"),
    "7C3457EF-0000-11AA-AA11-00306543ECAC": (CONTAINER, "APFS"),
    "52414944-0000-11AA-AA11-00306543ECAC": (SET, "macOS RAID"),
    "52414944-5F4F-11AA-AA11-00306543ECAC": (SET, "macOS RAID"),
    "6A898CC3-1DD2-11B2-99A6-080020736631": (POOL, "ZFS"),
    "516E7CBA-6ECF-11D6-8FF8-00022D09712B": (POOL, "ZFS"),
    "AA31E02A-400F-11DB-9590-000C2911D1B8": (OTHER, "VMFS"),
    "9D275380-40AD-11DB-BF97-000C2911D1B8": (OTHER, "VMFS"),
    "42H": (SET, "Windows dynamic disk"),
    "FDH": (SET, "Linux RAID"),
    "8EH": (CONTAINER, "LVM physical volume"),
    "82H": (SWAP, "Linux swap"),
    "BFH": (POOL, "ZFS"),
    "FBH": (OTHER, "VMFS"),
}  # fmt: skip


def owner_by_type(type_: str) -> Owner | None:
    """Whom a partition of this type (GUID, or hex code with an h) belongs to; None for what file systems live in."""
    found = _TYPES.get(type_.upper())
    return Owner(*found, -1) if found else None


def owners_of(disk: Sectors, first: int = 0, last: int | None = None) -> tuple[Owner, ...]:
    """Whose marks stand in the disk, or in its sectors from `first` to `last`, as far as they were read: what nobody
    read is not asked for. Never raises."""
    disk = untraced(disk)
    end = last if last is not None else (disk.length - 1 if disk.length else None)
    found = [*_at_start(disk, first), *([] if end is None else _at_end(disk, first, end))]
    return tuple({(o.kind, o.name): o for o in found}.values())


def unread_places(disk: Sectors) -> list[tuple[int, int]]:
    """(LBA, sectors) of places where the mark of a set may stand and that nobody has read."""
    size, length = disk.sector, disk.length
    places = {at // size for at, *_ in _START} | {_ZFS_AT // size}
    if length:
        total = length * size
        places |= {(total - back * 512) // size for back, *_ in _END} | {at // size for at in _md_places(total)}
    wanted = sorted(p for p in places if p >= 0 and (not length or p < length))
    return [(lba, 1) for lba in wanted if NOT_CAPTURED in disk.read(lba, 1).missing.values()]


def is_one_of_a_set(disk: Sectors) -> bool:
    """Somebody keeps records on the disk as a whole, and they say that it is not to be read alone: a RAID set, a pool,
    a container, encryption, swap, or a file system that our boot repairs know nothing of."""
    return bool(owners_of(disk))


def _bytes(disk: Sectors, at: int, size: int) -> bytes:
    """So many bytes from this one on; empty where one of them was not read."""
    if at < 0 or (disk.length is not None and at + size > disk.length * disk.sector):
        return b""
    lba = at // disk.sector
    span = disk.read(lba, -(-(at + size) // disk.sector) - lba)
    return b"" if span.missing else span.data[at - lba * disk.sector :][:size]


def _at_start(disk: Sectors, first: int) -> Iterator[Owner]:
    base = first * disk.sector
    for at, mark, kind, name in _START:
        if _bytes(disk, base + at, len(mark)) == mark and _is_meant(disk, base, name):
            yield Owner(kind, name, base + at)
    if _bytes(disk, base + 4120, 16) in _BCACHEFS:
        yield Owner(OTHER, "bcachefs", base + 4120)
    for place in range(0, 128 << 10, 1024):
        mark = _bytes(disk, base + _ZFS_AT + place, 8)
        if not mark:
            break
        if mark in _ZFS:
            yield Owner(POOL, "ZFS", base + _ZFS_AT + place)
            break


def _is_meant(disk: Sectors, base: int, name: str) -> bool:
    """Two letters occur anywhere: a short mark counts only with the fields next to it."""
    if name == "Core Storage":
        # a volume header of its own: version 1, block type 10h (the checksums before it are its own)
        return _bytes(disk, base + 8, 4) == b"\x01\0\x10\0"
    if name == "HFS+":
        return _bytes(disk, base + 1026, 2) in (b"\0\x04", b"\0\x05")
    if name == "HFS":
        return _bytes(disk, base + 1024 + 124, 2) in (b"\0\0", b"H+") and any(_bytes(disk, base + 1024 + 20, 4))
    if name == "NILFS2":
        return _bytes(disk, base + 1024, 4) == b"\x02\0\0\0"
    return True


def _at_end(disk: Sectors, first: int, last: int) -> Iterator[Owner]:
    start, size = first * disk.sector, (last - first + 1) * disk.sector
    for back, at, mark, name in _END:
        if back * 512 <= size:
            place = start + size - back * 512 + at
            if _bytes(disk, place, len(mark)) == mark and _is_raid(disk, place - at, mark):
                yield Owner(SET, name, place)
    for place in _md_places(size):
        if 0 <= place < size and _bytes(disk, start + place, 4) in _MD:
            yield Owner(SET, "Linux RAID", start + place)


def _is_raid(disk: Sectors, at: int, mark: bytes) -> bool:
    """A short mark counts only with the fields next to it."""
    if mark == b"JM":
        version = _bytes(disk, at + 2, 2)
        return version in (b"\x01\0", b"\0\x01", b"\x02\0", b"\x01\x02")
    if mark[:2] == b"\x55\xaa":  # its last byte sums up the fifty before it
        own = _bytes(disk, at, 51)
        return len(own) == 51 and sum(own[:50]) & 0xFF == own[50] and any(own[3:50])
    if mark == b"\x00\x00\x00\x2f":
        return _bytes(disk, at, 4) not in (b"", b"\0\0\0\0")
    return True


def _md_places(size: int) -> tuple[int, ...]:
    """Bytes at which a superblock stands that is kept at the end: 0.90 in the last whole 64 KiB, 1.0 eight to twelve
    KiB from the end, at a multiple of four."""
    return (size & ~0xFFFF) - 0x10000, ((size >> 9) - 16 & ~7) << 9
