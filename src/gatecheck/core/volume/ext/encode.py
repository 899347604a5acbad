"""Files -> an ext4 volume's bytes: the reader's mirror, for practice disks and round-trip tests.

Linux, Documentation/filesystems/ext4 (on-disk layout): extents, file types in folders, copies of the superblock in the
groups that are powers of three, five and seven; no journal, no checksums."""

from __future__ import annotations

import struct
from collections.abc import Mapping
from dataclasses import dataclass, field

from gatecheck.core.volume.ext.layout import EXTENTS, FILETYPE, FOLDER, MAGIC, REGULAR, ROOT, SPARSE_SUPER
from gatecheck.core.volume.tree import nested

SECTOR, BLOCK, INODE = 512, 4096, 256
_PER_GROUP, _INODES = 8 * BLOCK, 2048
_FIRST_OWN, _LOST = 11, 11
_WHEN = 1_709_978_400
_LARGE_FILE, _FOLDER_TYPE, _FILE_TYPE = 0x2, 2, 1
_MOST_EXTENTS, _LONGEST_EXTENT = 4, 32768


def ext_volume(files: Mapping[str, bytes], *, sectors: int, label: str = "root") -> dict[int, bytes]:
    """Sector of the volume -> bytes from there; all else is zeros. Raises ValueError where it is too small for its
    files, or a file for four pieces."""
    return _Builder(sectors * SECTOR // BLOCK, label).built(files)


@dataclass(slots=True)
class _Thing:
    number: int
    mode: int
    size: int
    links: int
    runs: list[tuple[int, int]] = field(default_factory=list)


class _Builder:
    def __init__(self, blocks: int, label: str) -> None:
        self.label = label
        self.groups = -(-blocks // _PER_GROUP)
        self.tables = -(-self.groups * 32 // BLOCK)
        least = 1 + self.tables + 2 + _INODES * INODE // BLOCK + 50
        if self.groups > 1 and blocks - (self.groups - 1) * _PER_GROUP < least:  # a rest that its own tables would fill
            self.groups, blocks = self.groups - 1, (self.groups - 1) * _PER_GROUP
        self.blocks = blocks
        self.content: dict[int, bytes] = {}
        self.used: dict[int, int] = {}
        """group -> blocks from its start that are taken"""
        for group in range(self.groups):
            self.used[group] = self._own(group)
        self.group, self.following = 0, _FIRST_OWN
        self.things: list[_Thing] = []

    @staticmethod
    def _has_super(group: int) -> bool:
        return group < 2 or any(group == base**power for base in (3, 5, 7) for power in range(1, 12))

    def _own(self, group: int) -> int:
        """Blocks of a group that its own structures take: superblock and descriptors where they stand, both maps, its
        inodes."""
        return (1 + self.tables if self._has_super(group) else 0) + 2 + _INODES * INODE // BLOCK

    def _end(self, group: int) -> int:
        return min(_PER_GROUP, self.blocks - group * _PER_GROUP)

    def built(self, files: Mapping[str, bytes]) -> dict[int, bytes]:
        tree = {"lost+found": {}, **nested(files)}
        self._folder(tree, ROOT, ROOT)
        self._inodes()
        self._groups()
        return {at * (BLOCK // SECTOR): data for at, data in self.content.items()} | self._supers()

    def _take(self, count: int) -> list[tuple[int, int]]:
        runs: list[tuple[int, int]] = []
        while count:
            if self.group >= self.groups:
                raise ValueError(f"{self.blocks} blocks: too small for its files")
            free = self._end(self.group) - self.used[self.group]
            take = min(count, free, _LONGEST_EXTENT)
            if take > 0:
                runs.append((self.group * _PER_GROUP + self.used[self.group], take))
                self.used[self.group] += take
                count -= take
            if take == free:
                self.group += 1
        if len(runs) > _MOST_EXTENTS:
            raise ValueError(f"a file in {len(runs)} pieces: expected at most {_MOST_EXTENTS}")
        return runs

    def _put(self, number: int, mode: int, data: bytes, links: int) -> None:
        runs = self._take(-(-len(data) // BLOCK))
        done = 0
        for at, count in runs:
            self.content[at] = data[done : done + count * BLOCK].ljust(count * BLOCK, b"\0")
            done += count * BLOCK
        self.things.append(_Thing(number, mode, len(data), links, runs))

    def _next(self) -> int:
        self.following += 1
        if self.following - 1 > self.groups * _INODES:
            raise ValueError(f"{self.groups * _INODES} inodes: too few for its files")
        return self.following - 1

    def _folder(self, tree: Mapping[str, object], number: int, parent: int) -> None:
        entries = [(number, b".", _FOLDER_TYPE), (parent, b"..", _FOLDER_TYPE)]
        below = 0
        for name, what in tree.items():
            own = self._next()
            if isinstance(what, Mapping):
                self._folder(what, own, number)
                entries.append((own, name.encode(), _FOLDER_TYPE))
                below += 1
            elif isinstance(what, bytes):
                self._put(own, REGULAR | 0o644, what, 1)
                entries.append((own, name.encode(), _FILE_TYPE))
        out, block = b"", b""
        for place, (own, text, kind) in enumerate(entries):
            size = 8 + -(-len(text) // 4) * 4
            if len(block) + size > BLOCK:
                out, block = out + _to_the_end(block), b""
            block += struct.pack("<IHBB", own, size, len(text), kind) + text.ljust(size - 8, b"\0")
            if place == len(entries) - 1:
                out += _to_the_end(block)
        self._put(number, FOLDER | 0o755, out, 2 + below)

    def _inodes(self) -> None:
        tables: dict[int, bytearray] = {}
        for thing in self.things:
            group, place = divmod(thing.number - 1, _INODES)
            raw = struct.pack(
                "<HHIIIIIHHII",
                thing.mode,
                0,
                thing.size & 0xFFFFFFFF,
                _WHEN,
                _WHEN,
                _WHEN,
                0,
                0,
                thing.links,
                sum(c for _, c in thing.runs) * (BLOCK // SECTOR),
                EXTENTS,
            )
            extents = struct.pack("<HHHHI", 0xF30A, len(thing.runs), 4, 0, 0)
            first = 0
            for at, count in thing.runs:
                extents += struct.pack("<IHHI", first, count, 0, at)
                first += count
            body = bytearray(INODE)
            body[: len(raw)] = raw
            body[40 : 40 + len(extents)] = extents
            struct.pack_into("<I", body, 108, thing.size >> 32)
            struct.pack_into("<H", body, 128, 32)
            at = self._table(group) + place * INODE // BLOCK
            held = tables.setdefault(at, bytearray(BLOCK))
            held[place * INODE % BLOCK : place * INODE % BLOCK + INODE] = body
        self.content |= {at: bytes(raw) for at, raw in tables.items()}

    def _table(self, group: int) -> int:
        return group * _PER_GROUP + (1 + self.tables if self._has_super(group) else 0) + 2

    def _groups(self) -> None:
        taken = {thing.number for thing in self.things} | set(range(1, _FIRST_OWN))
        described = b""
        self.free_blocks = self.free_inodes = 0
        for group in range(self.groups):
            table = self._table(group)
            used, end = self.used[group], self._end(group)
            bits = (1 << used) - 1 | (((1 << _PER_GROUP) - 1) ^ ((1 << end) - 1))
            self.content[table - 2] = bits.to_bytes(BLOCK, "little")
            own = [n for n in range(_INODES) if group * _INODES + n + 1 in taken]
            inodes = sum(1 << n for n in own) | (((1 << 8 * BLOCK) - 1) ^ ((1 << _INODES) - 1))
            self.content[table - 1] = inodes.to_bytes(BLOCK, "little")
            folders = sum(t.mode & FOLDER == FOLDER and (t.number - 1) // _INODES == group for t in self.things)
            described += struct.pack(
                "<IIIHHHH12x", table - 2, table - 1, table, end - used, _INODES - len(own), folders, 0
            )
            self.free_blocks, self.free_inodes = self.free_blocks + end - used, self.free_inodes + _INODES - len(own)
        for group in range(self.groups):
            if self._has_super(group):
                for n in range(self.tables):
                    self.content[group * _PER_GROUP + 1 + n] = described[n * BLOCK : (n + 1) * BLOCK].ljust(
                        BLOCK, b"\0"
                    )

    def _supers(self) -> dict[int, bytes]:
        found = {}
        for group in range(self.groups):
            if not self._has_super(group):
                continue
            raw = bytearray(1024)
            struct.pack_into(
                "<13I",
                raw,
                0,
                self.groups * _INODES,
                self.blocks,
                0,
                self.free_blocks,
                self.free_inodes,
                0,
                2,
                2,
                _PER_GROUP,
                _PER_GROUP,
                _INODES,
                _WHEN,
                _WHEN,
            )
            struct.pack_into("<HHHHHHIIII", raw, 52, 3, 0xFFFF, MAGIC, 1, 1, 0, _WHEN, 0, 0, 1)
            struct.pack_into(
                "<IHHIII", raw, 84, _FIRST_OWN, INODE, group, 0, FILETYPE | 0x40, SPARSE_SUPER | _LARGE_FILE
            )
            raw[104:120] = bytes.fromhex("6b1f0a3d52c84e7790de41b7a3c90e15")
            raw[120:136] = self.label.encode()[:16].ljust(16, b"\0")
            struct.pack_into("<I", raw, 0x108, _WHEN)
            struct.pack_into("<HH", raw, 0x15C, 32, 32)
            found[group * _PER_GROUP * (BLOCK // SECTOR) + (2 if group == 0 else 0)] = bytes(raw)
        return found


def _to_the_end(block: bytes) -> bytes:
    """A block of a folder whose last entry reaches to its end."""
    at = 0
    while at + int.from_bytes(block[at + 4 : at + 6], "little") < len(block):
        at += int.from_bytes(block[at + 4 : at + 6], "little")
    raw = bytearray(block.ljust(BLOCK, b"\0"))
    raw[at + 4 : at + 6] = (BLOCK - at).to_bytes(2, "little")
    return bytes(raw)
