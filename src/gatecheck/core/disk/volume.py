"""What lives in a partition, by its first sectors: the file system's own marks, and whether it is encrypted.

NTFS and FAT: the OEM name and type texts of the boot sector (ECMA-107 for FAT); ext: superblock magic EF53h at byte
1080; APFS: container magic NXSB at byte 32; HFS+: signature at byte 1024; LUKS: magic at byte 0 (LUKS2 on-disk format,
2)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.fields import text_of


@dataclass(frozen=True, slots=True)
class Volume:
    """`kind`: ntfs, exfat, fat, ext, xfs, f2fs, refs, apfs, hfs+, squashfs, swap, lvm, encrypted. `at`: byte where its
    mark stands. `label` and `size` (bytes) as its first sectors tell them, empty and None where they do not."""

    kind: str
    name: str
    at: int
    label: str = ""
    size: int | None = None

    @property
    def is_locked(self) -> bool:
        return self.kind == "encrypted"


_MARKS = (
    (3, b"-FVE-FS-", "encrypted", "encrypted Windows volume"),
    (424, bytes.fromhex("3bd66749292ed84a8399f6a339e3d001"), "encrypted", "encrypted Windows volume"),
    (0, b"LUKS\xba\xbe", "encrypted", "encrypted Linux volume"),
    (3, b"NTFS    ", "ntfs", "NTFS"),
    (3, b"EXFAT   ", "exfat", "exFAT"),
    (82, b"FAT32", "fat", "FAT32"),
    (54, b"FAT1", "fat", "FAT"),
    (1080, b"\x53\xef", "ext", "ext"),
    (32, b"NXSB", "apfs", "APFS"),
    (1024, b"H+", "hfs+", "HFS+"),
    (1024, b"HX", "hfs+", "HFS+"),
    (0, b"XFSB", "xfs", "XFS"),
    (1024, b"\x10\x20\xf5\xf2", "f2fs", "F2FS"),
    (3, b"ReFS\0\0\0\0", "refs", "ReFS"),
    (0, b"hsqs", "squashfs", "SquashFS"),
    (4086, b"SWAPSPACE2", "swap", "Linux swap"),
    (512, b"LABELONE", "lvm", "LVM physical volume"),
    (0, b"LABELONE", "lvm", "LVM physical volume"),
    (1024, b"LABELONE", "lvm", "LVM physical volume"),
)


_MARKED = 4096
"""bytes from the start in which all marks stand"""


def volume_at(disk: Sectors, first: int) -> Volume | None:
    """The volume that begins at this LBA; None where no mark is known. Raises MissingSectorError where its first sector
    was not read."""
    span = disk.read(first, -(-_MARKED // disk.sector))
    if first in span.missing:
        span.whole("volume")
    return volume_of(span.data)


def volume_of(start: bytes) -> Volume | None:
    """The volume whose first bytes these are; None where no mark is known."""
    for at, mark, kind, name in _MARKS:
        if start[at : at + len(mark)] == mark:
            label, size = _parse_details(kind, start.ljust(_MARKED, b"\0"))
            return Volume(kind, name, at, label, size)
    return None


def label_text(raw: bytes) -> str:
    """A label of an unknown code page: UTF-8 where it is valid, else Latin-1; up to its first zero, without padding."""
    return "".join(c if c.isprintable() else "?" for c in text_of(raw.split(b"\0")[0])).strip()


def _parse_details(kind: str, start: bytes) -> tuple[str, int | None]:
    """(label, bytes) as the first sectors tell them. FAT: ECMA-107, 9; exFAT: 3.1.5; NTFS: BPB 28h; ext:
    fs/ext4/ext4.h, superblock; XFS: xfs_sb, big-endian; HFS+: TN1150, volume header; APFS: nx_superblock_t; LUKS2:
    on-disk format 2."""

    def number(at: int, size: int, order: Literal["little", "big"] = "little") -> int:
        return int.from_bytes(start[at : at + size], order)

    if kind == "fat":
        wide = start[82:87] == b"FAT32"
        label = label_text(start[71:82] if wide else start[43:54])
        return "" if label == "NO NAME" else label, (number(19, 2) or number(32, 4)) * number(11, 2) or None
    if kind == "exfat":
        return "", number(72, 8) << start[108] if start[108] <= 12 and number(72, 8) < 1 << 52 else None
    if kind == "ntfs":
        size = number(40, 8) * number(11, 2)
        return "", size if 0 < size < 1 << 63 else None
    if kind == "ext":
        wide_count = number(1024 + 0x150, 4) << 32 if number(1024 + 0x60, 4) & 0x80 else 0
        return label_text(start[1024 + 120 : 1024 + 136]), (number(1024 + 4, 4) | wide_count) * (
            1024 << (number(1024 + 24, 4) & 7)
        ) or None
    if kind == "xfs":
        return label_text(start[108:120]), number(8, 8, "big") * number(4, 4, "big") or None
    if kind == "hfs+":
        return "", number(1024 + 40, 4, "big") * number(1024 + 44, 4, "big") or None
    if kind == "apfs":
        return "", number(40, 8) * number(36, 4) or None
    if kind == "encrypted" and start[:4] == b"LUKS":
        return label_text(start[24:72]) if number(6, 2, "big") == 2 else "", None
    return "", None


def volume_start(kind: str, *, size: int = 4096) -> bytes:
    """First sectors with that kind's mark, for practice disks (`luks`: the Linux kind of an encrypted one). Raises
    KeyError for a kind there is not."""
    raw = bytearray(size)
    at, mark = next(
        ((at, mark) for at, mark, known, _ in _MARKS if known == kind or (kind == "luks" and mark[:4] == b"LUKS")),
        (None, None),
    )
    if at is None or mark is None:
        raise KeyError(kind)
    raw[at : at + len(mark)] = mark
    raw[510:512] = b"\x55\xaa"
    return bytes(raw)
