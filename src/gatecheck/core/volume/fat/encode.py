"""Files -> a FAT volume's sectors: the reader's mirror, for practice disks and round-trip tests."""

from __future__ import annotations

import struct
from collections.abc import Mapping

from gatecheck.core.volume.tree import nested

_ENTRY = 32


def fat_volume(
    files: Mapping[str, bytes], *, sectors: int, sector: int = 512, cluster_sectors: int = 8, label: str = "SYSTEM"
) -> dict[int, bytes]:
    """A FAT32 (or, where it is small, FAT16) volume holding these files: sector of the volume -> bytes from there; all
    else is zeros.

    Paths are joined by `/`; names that are no 8.3 names get a long name. Raises ValueError where it is too small for
    its files."""
    return _Builder(sectors, sector, cluster_sectors, label).built(files)


class _Builder:
    def __init__(self, sectors: int, sector: int, per_cluster: int, label: str) -> None:
        self.sectors, self.sector, self.per_cluster, self.label = sectors, sector, per_cluster, label
        self.wide = 32 if (sectors - 64) // per_cluster > 66_000 else 16
        self.reserved = 32 if self.wide == 32 else 4
        self.roots = 0 if self.wide == 32 else 512
        self.fat_sectors = -(-((sectors // per_cluster + 2) * self.wide // 8) // sector)
        self.root_at = self.reserved + 2 * self.fat_sectors
        self.data_at = self.root_at + -(-self.roots * _ENTRY // sector)
        self.entries: dict[int, int] = {
            0: 0x0FFFFFF8 if self.wide == 32 else 0xFFF8,
            1: 0x0FFFFFFF if self.wide == 32 else 0xFFFF,
        }
        self.following = 2
        self.content: dict[int, bytes] = {}

    def built(self, files: Mapping[str, bytes]) -> dict[int, bytes]:
        tree = nested(files)
        root_cluster = self._directory(tree, is_root=True)
        self.content[0] = self._boot(root_cluster)
        if self.wide == 32:
            self.content[6] = self.content[0]
            self.content[1] = self._info()
        step = self.wide // 8
        fat = b"".join(self.entries.get(n, 0).to_bytes(step, "little") for n in range(self.following))
        self.content[self.reserved] = self.content[self.reserved + self.fat_sectors] = fat
        return {at: data.ljust(-(-len(data) // self.sector) * self.sector, b"\0") for at, data in self.content.items()}

    def _keep(self, data: bytes) -> int:
        """Give data its clusters, one after another; the first."""
        size = self.per_cluster * self.sector
        count = max(1, -(-len(data) // size))
        first = self.following
        if self.data_at + (first - 2 + count) * self.per_cluster > self.sectors:
            raise ValueError(f"{self.sectors} sectors: too small for its files")
        for number in range(first, first + count):
            self.entries[number] = (
                number + 1 if number + 1 < first + count else 0x0FFFFFFF if self.wide == 32 else 0xFFFF
            )
        self.following += count
        if data:
            self.content[self.data_at + (first - 2) * self.per_cluster] = data
        return first

    def _directory(self, tree: Mapping[str, object], *, is_root: bool = False) -> int:
        """Keep a directory after all that is in it; its cluster, 0 for the fixed root of FAT16."""
        raw, inner = b"", []
        for place, (name, what) in enumerate(tree.items(), 1):
            if isinstance(what, Mapping):
                inner.append(self._directory(what))
                raw += self._named(name, 0x10, inner[-1], 0, place)
            elif isinstance(what, bytes):
                raw += self._named(name, 0x20, self._keep(what) if what else 0, len(what), place)
        if is_root:
            raw = self._entry(self.label.upper().ljust(11)[:11].encode("latin-1"), 0x08, 0, 0) + raw
        else:
            raw = self._entry(b".          ", 0x10, self.following, 0) + self._entry(b"..         ", 0x10, 0, 0) + raw
        if is_root and self.wide != 32:
            self.content[self.root_at] = raw.ljust((self.data_at - self.root_at) * self.sector, b"\0")
            return 0
        size = self.per_cluster * self.sector
        own = self._keep(raw.ljust(-(-max(1, len(raw)) // size) * size, b"\0"))
        for child in inner if not is_root else ():  # the root is 0 to its children
            at = self.data_at + (child - 2) * self.per_cluster
            kept = self.content[at]
            self.content[at] = kept[:_ENTRY] + self._entry(b"..         ", 0x10, own, 0) + kept[2 * _ENTRY :]
        return own

    def _info(self) -> bytes:
        """FSInfo of FAT32: free clusters, and where to look for the next."""
        info = bytearray(self.sector)
        info[:4], info[484:488], info[508:512] = b"RRaA", b"rrAa", b"\x00\x00\x55\xaa"
        clusters = (self.sectors - self.data_at) // self.per_cluster
        struct.pack_into("<II", info, 488, clusters - (self.following - 2), self.following)
        return bytes(info)

    def _named(self, name: str, attributes: int, cluster: int, size: int, place: int) -> bytes:
        base, _, extension = name.upper().rpartition(".") if "." in name else (name.upper(), "", "")
        plain = len(base) <= 8 and len(extension) <= 3 and name == name.upper() and name.isascii() and " " not in name
        stem = base if plain else f"{''.join(c for c in base if c.isascii() and c.isalnum())[:5]}~{place}"
        short = stem.ljust(8)[:8].encode("ascii") + extension.ljust(3)[:3].encode("ascii", "replace")
        return (b"" if plain else self._long(name, short)) + self._entry(short, attributes, cluster, size)

    @staticmethod
    def _long(name: str, short: bytes) -> bytes:
        total = 0
        for byte in short:
            total = ((total & 1) << 7 | total >> 1) + byte & 0xFF
        raw = name.encode("utf-16-le") + b"\0\0"
        raw = raw[:-2] if len(raw) % 26 == 2 else raw
        pieces = [raw[at : at + 26].ljust(26, b"\xff") for at in range(0, len(raw), 26)]
        entries = [
            bytes([number | (0x40 if number == len(pieces) else 0)])
            + piece[:10]
            + bytes([0x0F, 0, total])
            + piece[10:22]
            + b"\0\0"
            + piece[22:26]
            for number, piece in enumerate(pieces, 1)
        ]
        return b"".join(reversed(entries))

    @staticmethod
    def _entry(short: bytes, attributes: int, cluster: int, size: int) -> bytes:
        return short + struct.pack(
            "<BBBHHHHHHHI", attributes, 0, 0, 0, 0x5A21, 0x5A21, cluster >> 16, 0, 0x5A21, cluster & 0xFFFF, size
        )

    def _boot(self, root_cluster: int) -> bytes:
        boot = bytearray(self.sector)
        boot[:3] = b"\xeb\x58\x90"
        small = self.sectors if self.sectors < 0x10000 and self.wide == 16 else 0
        struct.pack_into(
            "<8sHBHBHHBHHHII",
            boot,
            3,
            b"FATDISK ",
            self.sector,
            self.per_cluster,
            self.reserved,
            2,
            self.roots,
            small,
            0xF8,
            self.fat_sectors if self.wide == 16 else 0,
            63,
            255,
            2048,
            0 if small else self.sectors,
        )
        label, kind = self.label.upper().ljust(11)[:11].encode("latin-1"), f"FAT{self.wide}   ".encode()
        if self.wide == 32:
            struct.pack_into("<IHHIHH", boot, 36, self.fat_sectors, 0, 0, root_cluster, 1, 6)
            struct.pack_into("<BBBI11s8s", boot, 64, 0x80, 0, 0x29, 0x5A2100C4, label, kind)
        else:
            struct.pack_into("<BBBI11s8s", boot, 36, 0x80, 0, 0x29, 0x5A2100C4, label, kind)
        boot[510:512] = b"\x55\xaa"
        return bytes(boot)
