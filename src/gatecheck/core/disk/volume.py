"""What lives in a partition, by its first sectors: the file system's own marks, and whether it is encrypted.

NTFS and FAT: the OEM name and type texts of the boot sector (ECMA-107 for FAT); ext: superblock magic EF53h at byte 1080;
APFS: container magic NXSB at byte 32; HFS+: signature at byte 1024; LUKS: magic at byte 0 (LUKS2 on-disk format, 2).
"""

from __future__ import annotations

from dataclasses import dataclass

from gatecheck.core.disk.sectors import Sectors


@dataclass(frozen=True, slots=True)
class Volume:
    """`kind`: ntfs, exfat, fat, ext, apfs, hfs+, encrypted. `at`: byte where its mark stands."""

    kind: str
    name: str
    at: int

    @property
    def is_locked(self) -> bool:
        return self.kind == "encrypted"


_MARKS = (
    (3, b"-FVE-FS-", "encrypted", "encrypted Windows volume"),
    (0, b"LUKS\xba\xbe", "encrypted", "encrypted Linux volume"),
    (3, b"NTFS    ", "ntfs", "NTFS"),
    (3, b"EXFAT   ", "exfat", "exFAT"),
    (82, b"FAT32", "fat", "FAT32"),
    (54, b"FAT1", "fat", "FAT"),
    (1080, b"\x53\xef", "ext", "ext"),
    (32, b"NXSB", "apfs", "APFS"),
    (1024, b"H+", "hfs+", "HFS+"),
    (1024, b"HX", "hfs+", "HFS+"),
)


_MARKED = 4096
"""bytes from the start in which all marks stand"""


def volume_at(disk: Sectors, first: int) -> Volume | None:
    """The volume that begins at this LBA; None where no mark is known. Raises MissingSectorError where its first sector was not read."""
    span = disk.read(first, -(-_MARKED // disk.sector))
    if first in span.missing:
        span.whole("volume")
    return volume_of(span.data)


def volume_of(start: bytes) -> Volume | None:
    """The volume whose first bytes these are; None where no mark is known."""
    return next((Volume(kind, name, at) for at, mark, kind, name in _MARKS if start[at : at + len(mark)] == mark), None)


def volume_start(kind: str, *, size: int = 4096) -> bytes:
    """First sectors with that kind's mark, for practice disks. Raises KeyError for a kind there is not."""
    raw = bytearray(size)
    at, mark = next(((at, mark) for at, mark, known, _ in _MARKS if known == kind), (None, None))
    if at is None or mark is None:
        raise KeyError(kind)
    raw[at : at + len(mark)] = mark
    raw[510:512] = b"\x55\xaa"
    return bytes(raw)
