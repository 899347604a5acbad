"""Files -> an exFAT volume's bytes: the reader's mirror, for practice disks and round-trip tests.

Microsoft, "exFAT file system specification": 3 (boot regions), 4 (FAT), 6 and 7 (directory entries).
"""

from __future__ import annotations

import struct
from collections.abc import Mapping

from gatecheck.core.volume.exfat.read import (
    BITMAP,
    END,
    ENTRY,
    FILE_ENTRY,
    FOLDER,
    LABEL,
    NAME,
    NO_CHAIN,
    STREAM,
    UPCASE,
    USUAL_SUM,
    expanded,
    name_hash,
    region_sum,
    set_sum,
)
from gatecheck.core.volume.exfat.upcase import usual_capitals
from gatecheck.core.volume.tree import nested

SECTOR = 512
_FAT_AT, _ALIGNED = 128, 128
"""sectors before the table; what the heap begins at a multiple of"""
_WHEN = (44 << 25) | (3 << 21) | (9 << 16) | (10 << 11)
"""2024-03-09, ten o'clock"""


def exfat_volume(
    files: Mapping[str, bytes], *, sectors: int, label: str = "CARD", cluster_sectors: int = 8
) -> dict[int, bytes]:
    """Sector of the volume -> bytes from there; all else is zeros. Files of more than one cluster are told to lie in
    one piece, or are chained in the table, by turns. Raises ValueError where it is too small for its files."""
    return _Builder(sectors, label, cluster_sectors).built(files)


class _Builder:
    def __init__(self, sectors: int, label: str, per_cluster: int) -> None:
        self.sectors, self.label, self.per_cluster = sectors, label, per_cluster
        self.size = per_cluster * SECTOR
        self.fat_sectors = -(-(sectors // per_cluster + 2) * 4 // SECTOR)
        self.heap = -(-(_FAT_AT + self.fat_sectors) // _ALIGNED) * _ALIGNED
        self.clusters = (sectors - self.heap) // per_cluster
        self.following, self.turn = 2, 0
        self.fat: dict[int, int] = {0: 0xFFFFFFF8, 1: END}
        self.content: dict[int, bytes] = {}
        self.upcase_table = expanded(usual_capitals())

    def built(self, files: Mapping[str, bytes]) -> dict[int, bytes]:
        tree = nested(files)
        bits = -(-self.clusters // 8)
        bitmap = self._take(bits)
        self._chain(bitmap, bits)
        table = usual_capitals()
        upcase = self._put(table)
        self._chain(upcase, len(table))
        named = self.label[:11].encode("utf-16-le")
        head = bytes([LABEL, len(named) // 2]) + named.ljust(30, b"\0")
        head += struct.pack("<BB18xIQ", BITMAP, 0, bitmap, bits)
        head += struct.pack("<B3xI12xIQ", UPCASE, USUAL_SUM, upcase, len(table))
        entries = head + self._sets(tree)
        root = self._put(entries.ljust(-(-len(entries) // self.size) * self.size or self.size, b"\0"))
        self._chain(root, max(len(entries), 1))
        used = self.following - 2
        self.content[self._at(bitmap)] = (
            b"\xff" * (used // 8) + (bytes([(1 << used % 8) - 1]) if used % 8 else b"")
        ).ljust(SECTOR, b"\0")
        raw = b"".join(self.fat.get(n, 0).to_bytes(4, "little") for n in range(self.following))
        self.content[_FAT_AT] = raw
        region = self._region(root)
        self.content[0] = self.content[12] = region
        return {at: data.ljust(-(-len(data) // SECTOR) * SECTOR, b"\0") for at, data in self.content.items()}

    def _at(self, cluster: int) -> int:
        return self.heap + (cluster - 2) * self.per_cluster

    def _take(self, length: int) -> int:
        first, count = self.following, max(1, -(-length // self.size))
        if first - 2 + count > self.clusters:
            raise ValueError(f"{self.sectors} sectors: too small for its files")
        self.following += count
        return first

    def _put(self, data: bytes) -> int:
        first = self._take(len(data))
        if data:
            self.content[self._at(first)] = data
        return first

    def _chain(self, first: int, length: int) -> None:
        count = max(1, -(-length // self.size))
        for number in range(first, first + count):
            self.fat[number] = number + 1 if number + 1 < first + count else END

    def _sets(self, tree: Mapping[str, object]) -> bytes:
        out = b""
        for name, what in tree.items():
            if isinstance(what, Mapping):
                raw = self._sets(what)
                raw = raw.ljust(-(-len(raw) // self.size) * self.size or self.size, b"\0")
                first = self._put(raw)
                out += self._set(name, FOLDER, first, len(raw), contiguous=True)
            elif isinstance(what, bytes):
                first, self.turn = (self._put(what) if what else 0), self.turn + 1
                contiguous = bool(what) and (len(what) <= self.size or self.turn % 2 == 0)
                if what and not contiguous:
                    self._chain(first, len(what))
                out += self._set(name, 0x20, first, len(what), contiguous=contiguous)
        return out

    def _set(self, name: str, attributes: int, cluster: int, size: int, *, contiguous: bool) -> bytes:
        letters = name.encode("utf-16-le")
        units = len(letters) // 2
        parts = -(-units // 15)
        head = struct.pack(
            "<BBHHHIIIBBBBB7x", FILE_ENTRY, 1 + parts, 0, attributes, 0, _WHEN, _WHEN, _WHEN, 0, 0, 0x80, 0x80, 0x80
        )
        stream = struct.pack(
            "<BBBBHHQ4xIQ",
            STREAM,
            1 | (NO_CHAIN if contiguous else 0),
            0,
            units,
            name_hash(letters, self.upcase_table),
            0,
            size,
            cluster,
            size,
        )
        raw = bytearray(
            head
            + stream
            + b"".join(bytes([NAME, 0]) + letters[n : n + 30].ljust(30, b"\0") for n in range(0, len(letters), 30))
        )
        raw[2:4] = set_sum(bytes(raw)).to_bytes(2, "little")
        assert len(raw) == ENTRY * (2 + parts)
        return bytes(raw)

    def _region(self, root: int) -> bytes:
        used = (self.following - 2) * 100 // self.clusters
        boot = bytearray(SECTOR)
        boot[:11] = b"\xeb\x76\x90EXFAT   "
        struct.pack_into(
            "<QQIIIIIIHHBBBBB",
            boot,
            64,
            0,
            self.sectors,
            _FAT_AT,
            self.fat_sectors,
            self.heap,
            self.clusters,
            root,
            0x4C0F7A21,
            0x100,
            0,
            9,
            self.per_cluster.bit_length() - 1,
            1,
            0x80,
            used,
        )
        boot[510:512] = b"\x55\xaa"
        body = bytes(boot) + (bytes(SECTOR - 4) + b"\0\0\x55\xaa") * 8 + bytes(2 * SECTOR)
        return body + region_sum(body, SECTOR).to_bytes(4, "little") * (SECTOR // 4)
