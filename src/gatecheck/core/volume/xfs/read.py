"""XFS: allocation groups, inodes, folders, files. Every block of a tree and of a folder is held to its checksum
where it has one."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.inode_tree import FileStretch, InodeTree
from gatecheck.core.volume.names import name_of_bytes
from gatecheck.core.volume.place import CATALOGUE, Place
from gatecheck.core.volume.tree import Node
from gatecheck.core.volume.xfs import layout as x
from gatecheck.core.volume.xfs.layout import XfsEntry, XfsExtent, XfsInode
from gatecheck.core.words.said import say

_FOLDER_END = 1 << 35
"""bytes of a folder behind which its indexes stand, no entries"""
_DEEPEST, _MOST_BLOCKS, _MOST_LINK = 9, 1 << 20, 1024
_GROUPS = (*range(2, 33), 48, 64, 96, 128, 256)
"""into how many groups a volume is likely divided: where copies of the superblock are looked for"""
_SYMLINK_HEAD = 56


NONE_FREE = (1 << 64) - 1


class Xfs(InodeTree):
    """Raises DecodeError where no superblock can be worked with."""

    kind = "XFS"

    def __init__(self, disk: Sectors, first: int, last: int) -> None:
        super().__init__(disk, first, last)
        self.super, self.super_at = self._super()
        self.is_from_copy = self.super_at != 0
        self.label, self.size, self.top = self.super.label, self.super.blocks * self.super.size, self.super.root
        self.raw_inode = lru_cache(4096)(self._raw_inode)
        self.inode(self.top)

    def _super(self) -> tuple[x.XfsSuper, int]:
        try:
            return x.read_super(self.bytes.read(0, 4096, "XFS superblock")), 0
        except DecodeError as error:
            problem = error
        for at in self._copies():
            try:
                own = x.read_super(self.bytes.read(at, 4096, "XFS superblock"))
            except DecodeError:
                continue
            if at % (own.group * own.size) == 0 and own.root != x.NONE_64:
                return own, at
        raise problem

    def _copies(self) -> Iterator[int]:
        room = (self.last - self.first + 1) * self.disk.sector
        for size in (4096, 1024, 512, 2048):
            for groups in _GROUPS:
                blocks = room // size
                for group in dict.fromkeys((blocks // groups, -(-blocks // groups))):
                    if 0 < group * size <= room - 4096 and group >= 64:
                        yield group * size

    # --- blocks, inodes

    def block(self, number: int, what: str, count: int = 1) -> bytes:
        """Raises DecodeError."""
        return self.bytes.read(self.super.address(number), self.super.size * count, what)

    def inode_place(self, number: int) -> int:
        """Byte of the volume of an inode. Raises DecodeError."""
        own = self.super
        bits = own.group_bits + own.inode_bits
        group, inside = number >> bits, number & (1 << bits) - 1
        block = group << own.group_bits | inside >> own.inode_bits
        return own.address(block) + (inside & own.inodes_in_block - 1) * own.inode

    def _raw_inode(self, number: int) -> bytes:
        raw = self.bytes.read(self.inode_place(number), self.super.inode, f"XFS inode {number}")
        if self.super.is_v5 and not x.has_sum(raw, 100):
            raise DecodeError(f"XFS inode {number}", at=100, expected="its checksum", got="another")
        return raw

    def inode(self, number: int) -> XfsInode:
        """Raises DecodeError."""
        return x.read_inode(self.raw_inode(number), self.super, number)

    def extents(self, inode: XfsInode) -> Iterator[XfsExtent]:
        """In their order. Raises DecodeError, after those that could be read."""
        yield from self.fork_extents(inode.format, inode.extents, inode.fork)

    def fork_extents(self, form: int, count: int, fork: bytes) -> Iterator[XfsExtent]:
        """Of what stands in an inode for its data or its attributes. Raises DecodeError."""
        if form == x.EXTENTS:
            yield from x.read_extents(fork, count)
        elif form == x.BTREE:
            for _, raw in self.map_blocks(fork):
                yield from x.read_extents(b"".join(raw), len(raw))

    def map_blocks(self, fork: bytes) -> Iterator[tuple[int, list[bytes]]]:
        """(block, extents in it) of the tree that maps a file's blocks. Raises DecodeError."""
        level, count = int.from_bytes(fork[:2], "big"), int.from_bytes(fork[2:4], "big")
        most = (len(fork) - 4) // 16
        if not 0 < level < _DEEPEST or count > most:
            raise DecodeError("XFS block map", at=0, expected=f"at most {most}", got=f"level {level}, {count}")
        start = 4 + most * 8
        roots = [int.from_bytes(fork[start + n * 8 : start + n * 8 + 8], "big") for n in range(count)]
        waiting, seen = [(block, level - 1) for block in reversed(roots)], 0
        while waiting:
            block, depth = waiting.pop()
            seen += 1
            if seen > _MOST_BLOCKS:
                raise DecodeError("XFS block map", at=0, expected=f"at most {_MOST_BLOCKS} blocks", got="more")
            records, below = x.read_tree_block(self.block(block, "XFS block map"), x.BLOCK_MAP, self.super, depth)
            yield block, list(records)
            waiting += [(own, depth - 1) for own in reversed(below)]

    # --- files and folders

    def made(self, number: int, path: str) -> Node:
        inode = self.inode(number)
        if not inode.mode:
            raise DecodeError(f"XFS inode {number}", at=2, expected="one in use", got="a free one")
        is_folder = inode.kind == x.FOLDER
        link = self._target(inode) if inode.kind == x.LINK else ""
        return Node(number, path, is_folder, 0 if is_folder else inode.size, inode.modified, link=link)

    def _target(self, inode: XfsInode) -> str:
        if inode.size > _MOST_LINK:
            raise DecodeError("XFS link", at=0, expected=f"at most {_MOST_LINK} bytes", got=inode.size)
        if inode.format == x.LOCAL:
            return inode.fork[: inode.size].decode("utf-8", "replace")
        parts = []
        for own in self.extents(inode):
            raw = self.block(own.block, "XFS link", own.count)
            for at in range(0, len(raw), self.super.size):
                parts.append(raw[at + _SYMLINK_HEAD * self.super.is_v5 : at + self.super.size])
        return b"".join(parts)[: inode.size].decode("utf-8", "replace")

    def folder_blocks(self, inode: XfsInode) -> Iterator[tuple[int, bytes | DecodeError]]:
        """(byte of the volume, block of entries) of a folder; what cannot be read in its place."""
        size = self.super.folder // self.super.size
        for own in self.extents(inode):
            if own.at * self.super.size >= _FOLDER_END:
                return
            for n in range(0, own.count - own.count % size, size):
                at = self.super.address(own.block + n)
                try:
                    raw = self.bytes.read(at, self.super.folder, "XFS folder")
                    if self.super.is_v5 and not x.has_sum(raw, 4):
                        raise DecodeError("XFS folder", at=at, expected="its checksum", got="another")
                    yield at, raw
                except DecodeError as error:
                    yield at, error

    def index_blocks(self, number: int) -> Iterator[bytes]:
        """Blocks of a folder's indexes. Raises DecodeError."""
        inode, size = self.inode(number), self.super.folder // self.super.size
        if inode.format == x.LOCAL:
            return
        for own in self.extents(inode):
            for n in range(0, own.count - own.count % size, size):
                if (own.at + n) * self.super.size >= _FOLDER_END:
                    yield self.block(own.block + n, "XFS folder", size)

    def listed(self, number: int) -> Iterator[XfsEntry]:
        """Entries of a folder. Raises DecodeError, after those that could be read."""
        inode = self.inode(number)
        if inode.kind != x.FOLDER:
            return
        if inode.format == x.LOCAL:
            yield from x.short_entries(inode.fork[: inode.size], has_type=self.super.has_type)
            return
        problem: DecodeError | None = None
        for _, raw in self.folder_blocks(inode):
            if isinstance(raw, DecodeError):
                problem = raw
                continue
            try:
                yield from x.block_entries(raw, self.super)
            except DecodeError as error:
                problem = error
        if problem is not None:
            raise problem

    def entries(self, number: int) -> Iterator[tuple[str, int]]:
        for own in self.listed(number):
            yield name_of_bytes(own.name), own.inode

    def stretches(self, number: int) -> Iterator[FileStretch]:
        inode, size = self.inode(number), self.super.size
        if inode.format == x.LOCAL:
            yield FileStretch(0, len(inode.fork), None, inode.fork)
            return
        if inode.flags & x.ON_REALTIME:
            yield FileStretch(0, inode.size, None, lost="its bytes are on another drive (real-time section)")
            return
        for own in self.extents(inode):
            place = self.super.address(own.block) if own.is_written else None
            if own.is_written:
                self.super.address(own.block + own.count - 1)
            yield FileStretch(own.at * size, own.count * size, place)

    def own_place(self, at: int) -> Place | None:
        own = self.super
        group, inside = divmod(at, own.group * own.size)
        if inside < own.sector:
            return Place(say("where.ext-superblock" if group == 0 else "where.ext-superblock-copy"), None, CATALOGUE)
        if inside < 4 * own.sector:
            return Place(say("where.own-file"), None, CATALOGUE)
        start = own.address(own.log) if own.log else -1
        if start <= at < start + own.log_blocks * own.size:
            return Place(say("where.journal"), None, CATALOGUE)
        return None

    def rest_place(self, at: int) -> Place:
        """Free where the map of free blocks says so; else the volume's own."""
        own = self.super
        group, inside = divmod(at // own.size, own.group)
        try:
            if any(first <= inside < first + count for first, count in self.free_blocks(group)):
                return super().rest_place(at)
        except DecodeError:
            pass  # what is not known to be free is not called free
        return Place(say("where.own-file"), None, CATALOGUE)

    # --- allocation groups

    def group_head(self, group: int, what: int) -> bytes:
        """A group's head of free blocks (1), of inodes (2), or of blocks for its trees (3). Raises DecodeError."""
        own, mark, sum_at = self.super, (b"", b"XAGF", b"XAGI", b"XAFL")[what], (0, 216, 312, 32)[what]
        raw = self.bytes.read(group * own.group * own.size + what * own.sector, own.sector, f"XFS group {group}")
        at = 4 if what == 3 else 8
        if raw[:4] != mark or int.from_bytes(raw[at : at + 4], "big") != group:
            raise DecodeError(f"XFS group {group}", at=0, expected=mark.decode(), got=raw[:4].hex())
        if own.is_v5 and not x.has_sum(raw, sum_at):
            raise DecodeError(f"XFS group {group}", at=sum_at, expected="its checksum", got="another")
        return raw

    def group_tree(self, group: int, shape: x.TreeShape, root: int, levels: int) -> Iterator[bytes]:
        """Records of a tree of a group. Raises DecodeError."""
        waiting, seen = [(root, levels - 1)], 0
        while waiting:
            block, depth = waiting.pop()
            seen += 1
            if not 0 <= depth < _DEEPEST or block >= self.super.group or seen > _MOST_BLOCKS:
                raise DecodeError(f"XFS group {group}", at=0, expected="a block of its tree", got=block)
            raw = self.block(group << self.super.group_bits | block, f"XFS group {group}")
            records, below = x.read_tree_block(raw, shape, self.super, depth)
            yield from records
            waiting += [(own, depth - 1) for own in reversed(below)]

    def free_blocks(self, group: int) -> Iterator[tuple[int, int]]:
        """(first, count) of free blocks within a group. Raises DecodeError."""
        head = self.group_head(group, 1)
        root, levels = int.from_bytes(head[16:20], "big"), int.from_bytes(head[28:32], "big")
        for raw in self.group_tree(group, x.FREE_BY_PLACE, root, levels):
            yield int.from_bytes(raw[:4], "big"), int.from_bytes(raw[4:], "big")

    def inode_chunks(self, group: int) -> Iterator[tuple[int, int, int]]:
        """(first inode, those that are there, those of them that are free), the two as bits of 64. Raises
        DecodeError."""
        head = self.group_head(group, 2)
        root, levels = int.from_bytes(head[20:24], "big"), int.from_bytes(head[24:28], "big")
        for raw in self.group_tree(group, x.INODES, root, levels):
            first, free = int.from_bytes(raw[:4], "big"), int.from_bytes(raw[8:], "big")
            there = NONE_FREE
            if self.super.features & x.SPARSE:
                holes = int.from_bytes(raw[4:6], "big")
                there = sum(0xF << 4 * bit for bit in range(16) if not holes >> bit & 1)
            yield group << self.super.group_bits + self.super.inode_bits | first, there, free & there
