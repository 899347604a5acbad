"""F2FS: the newer checkpoint whose checksum fits, nodes by their table, folders, files."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache

import lz4.block
import zstandard

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.f2fs import layout as f
from gatecheck.core.volume.f2fs.layout import Checkpoint, FlashEntry, FlashInode, FlashSuper
from gatecheck.core.volume.inode_tree import FileStretch, InodeTree
from gatecheck.core.volume.names import name_of_bytes
from gatecheck.core.volume.place import CATALOGUE, Place
from gatecheck.core.volume.tree import Node
from gatecheck.core.words.said import say

_LZ4, _ZSTD, _PACK_HEAD = 2, 3, 24
_MOST_LINK = 4096
_HOLE_RUN = 1018


class F2fs(InodeTree):
    """Raises DecodeError where no superblock or no checkpoint can be worked with."""

    kind = "F2FS"

    def __init__(self, disk: Sectors, first: int, last: int) -> None:
        super().__init__(disk, first, last)
        self.super, self.super_at = self._super()
        self.is_from_copy = self.super_at != f.SUPERS[0]
        self.label, self.size, self.top = self.super.label, self.super.blocks * f.BLOCK, self.super.root
        self.packs = self._packs()
        if not self.packs:
            raise DecodeError("F2FS checkpoint", at=self.super.checkpoint * f.BLOCK, expected="a whole one", got="none")
        self.now = max(self.packs, key=lambda pack: pack.version)
        self.moved = self._journal()
        self.node = lru_cache(2048)(self._node)
        self.nat_block = lru_cache(256)(self._nat_block)
        self.inode(self.top)

    def _super(self) -> tuple[FlashSuper, int]:
        problem: DecodeError | None = None
        for at in f.SUPERS:
            try:
                return f.read_super(self.bytes.read(at, 3072, "F2FS superblock")), at
            except DecodeError as error:
                problem = problem or error
        raise problem or DecodeError("F2FS superblock", at=0, expected="one", got="none")

    def block(self, address: int, what: str) -> bytes:
        """Raises DecodeError."""
        if not 0 < address < self.super.blocks:
            raise DecodeError(what, at=0, expected=f"a block below {self.super.blocks}", got=address)
        return self.bytes.read(address * f.BLOCK, f.BLOCK, what)

    def _packs(self) -> list[Checkpoint]:
        """Checkpoints whose first and last block are whole and alike."""
        found = []
        for at in (self.super.checkpoint, self.super.checkpoint + self.super.segment):
            try:
                own = f.read_checkpoint(self.block(at, "F2FS checkpoint"), at, self.super.payload)
                if not 0 < own.total <= self.super.segment:
                    continue
                last = f.read_checkpoint(self.block(at + own.total - 1, "F2FS checkpoint"), at, self.super.payload)
            except DecodeError:
                continue
            if last.version == own.version:
                found.append(own)
        return found

    def _journal(self) -> dict[int, tuple[int, int]]:
        own = self.now
        if own.flags & f.COMPACT:
            return f.journal_of(self.block(own.at + own.summaries, "F2FS summary"), is_compact=True)
        back = 7 if own.flags & f.UNMOUNTED else 4
        return f.journal_of(self.block(own.at + own.total - back, "F2FS summary"), is_compact=False)

    # --- nodes

    def _nat_block(self, number: int) -> bytes:
        own = self.super
        segment, inside = divmod(number, own.segment)
        address = own.nat + segment * 2 * own.segment + inside
        bitmap = self.now.bitmap
        if number >> 3 < len(bitmap) and bitmap[number >> 3] >> (7 - (number & 7)) & 1:
            address += own.segment
        return self.block(address, "F2FS node table")

    @property
    def most_nodes(self) -> int:
        return self.super.nat_segments // 2 * self.super.segment * f.NAT_ENTRIES

    def where_node(self, number: int) -> tuple[int, int]:
        """(inode, block) of a node by the table. Raises DecodeError."""
        if number in self.moved:
            return self.moved[number]
        if not 0 < number < self.most_nodes:
            raise DecodeError(f"F2FS node {number}", at=0, expected=f"below {self.most_nodes}", got=number)
        block, place = divmod(number, f.NAT_ENTRIES)
        raw = self.nat_block(block)[place * 9 : place * 9 + 9]
        return int.from_bytes(raw[1:5], "little"), int.from_bytes(raw[5:9], "little")

    def _node(self, number: int) -> bytes:
        inode, address = self.where_node(number)
        if address in (f.NOWHERE, f.RESERVED):
            raise DecodeError(f"F2FS node {number}", at=0, expected="a block for it", got="none")
        raw = self.block(address, f"F2FS node {number}")
        told = (
            int.from_bytes(raw[f.FOOTER : f.FOOTER + 4], "little"),
            int.from_bytes(raw[f.FOOTER + 4 : f.FOOTER + 8], "little"),
        )
        if told != (number, inode):
            raise DecodeError(f"F2FS node {number}", at=address * f.BLOCK, expected=f"that of {inode}", got=told)
        return raw

    def inode(self, number: int) -> FlashInode:
        """Raises DecodeError."""
        raw = self.node(number)
        if int.from_bytes(raw[f.FOOTER + 4 : f.FOOTER + 8], "little") != number:
            raise DecodeError(f"F2FS inode {number}", at=f.FOOTER, expected="an inode", got="another node")
        if not f.sum_fits(raw, self.super, number):
            raise DecodeError(f"F2FS inode {number}", at=368, expected="its checksum", got="another")
        return f.read_inode(raw, self.super.features, number)

    def addresses(self, inode: FlashInode) -> Iterator[tuple[int, int]]:
        """(block of the file, address) of all that the inode and its nodes list. Raises DecodeError."""
        yield from enumerate(inode.addresses)
        wide = f.NODE_ADDRESSES - (f.NODE_ADDRESSES % inode.cluster if inode.cluster else 0)
        at, blocks = len(inode.addresses), -(-inode.size // f.BLOCK)
        for depth, number in zip((1, 1, 2, 2, 3), inode.nodes, strict=True):
            if at >= blocks:
                return
            yield from self._addresses(number, depth, at, wide)
            at += wide * f.NODE_ADDRESSES ** (depth - 1)

    def _addresses(self, number: int, depth: int, at: int, wide: int) -> Iterator[tuple[int, int]]:
        if not number:
            return
        raw = self.node(number)
        for n in range(wide if depth == 1 else f.NODE_ADDRESSES):
            own = int.from_bytes(raw[n * 4 : n * 4 + 4], "little")
            if depth == 1:
                yield at + n, own
            else:
                step = wide * f.NODE_ADDRESSES ** (depth - 2)
                yield from self._addresses(own, depth - 1, at + n * step, wide)

    # --- files and folders

    def made(self, number: int, path: str) -> Node:
        inode = self.inode(number)
        is_folder = inode.kind == f.FOLDER
        opaque = "encrypted" if inode.advice & f.ENCRYPTED and not is_folder else ""
        link = self._target(number, inode) if inode.kind == f.LINK and not opaque else ""
        return Node(number, path, is_folder, 0 if is_folder else inode.size, inode.modified, link=link, opaque=opaque)

    def _target(self, number: int, inode: FlashInode) -> str:
        if inode.size > _MOST_LINK:
            raise DecodeError("F2FS link", at=0, expected=f"at most {_MOST_LINK} bytes", got=inode.size)
        if inode.flags & f.IN_INODE:
            return inode.inner[: inode.size].decode("utf-8", "replace")
        raw = self.block(inode.addresses[0], f"F2FS inode {number}")
        return raw[: inode.size].split(b"\0")[0].decode("utf-8", "replace")

    def listed(self, number: int) -> Iterator[FlashEntry]:
        """Entries of a folder. Raises DecodeError, after those that could be read."""
        inode = self.inode(number)
        if inode.kind != f.FOLDER or inode.advice & f.ENCRYPTED:
            return
        if inode.flags & f.ENTRIES_IN_INODE:
            yield from f.entries_of(inode.inner)
            return
        problem: DecodeError | None = None
        for at, address in self.addresses(inode):
            if at * f.BLOCK >= inode.size:
                break
            if address in (f.NOWHERE, f.RESERVED):
                continue
            try:
                yield from f.entries_of(self.block(address, "F2FS folder"))
            except DecodeError as error:
                problem = error
        if problem is not None:
            raise problem

    def entries(self, number: int) -> Iterator[tuple[str, int]]:
        for own in self.listed(number):
            yield name_of_bytes(own.name), own.inode

    def stretches(self, number: int) -> Iterator[FileStretch]:
        inode = self.inode(number)
        if inode.flags & (f.IN_INODE | f.ENTRIES_IN_INODE):
            yield FileStretch(0, len(inode.inner), None, inode.inner)
            return
        if inode.compression:
            yield from self._packed(inode)
            return
        at, place, count = 0, 0, 0
        for block, address in self.addresses(inode):
            if block * f.BLOCK >= inode.size:
                break
            own = 0 if address in (f.NOWHERE, f.RESERVED) else address
            if own >= self.super.blocks:
                raise DecodeError(f"F2FS inode {number}", at=0, expected=f"below {self.super.blocks}", got=own)
            if count and block == at + count and (own == place + count if place else own == 0):
                count += 1
                continue
            if count:
                yield _stretch(at, place, count)
            at, place, count = block, own, 1
        if count:
            yield _stretch(at, place, count)

    def _packed(self, inode: FlashInode) -> Iterator[FileStretch]:
        """A compressed file, cluster after cluster. Raises DecodeError."""
        size, group = inode.cluster * f.BLOCK, list[int]()
        for block, address in self.addresses(inode):
            if block * f.BLOCK >= inode.size and not block % inode.cluster:
                break
            group.append(address)
            if len(group) < inode.cluster:
                continue
            first = (block + 1 - inode.cluster) * f.BLOCK
            if group[0] == f.PACKED:
                held = [own for own in group[1:] if own not in (f.NOWHERE, f.RESERVED)]
                raw = b"".join(self.block(own, "F2FS cluster") for own in held)
                try:
                    inner = unpacked(raw, inode.compression, size)
                    yield FileStretch(first, size, None, inner)
                except (DecodeError, zstandard.ZstdError, lz4.block.LZ4BlockError) as error:
                    yield FileStretch(first, size, None, lost=f"compressed, and not to be unpacked: {error}")
            else:
                for n, own in enumerate(group):
                    yield _stretch(first // f.BLOCK + n, 0 if own in (f.NOWHERE, f.RESERVED) else own, 1)
            group = []

    def own_place(self, at: int) -> Place | None:
        block = at // f.BLOCK
        if block < 2:
            return Place(say("where.ext-superblock" if block == 0 else "where.ext-superblock-copy"), None, CATALOGUE)
        if block < self.super.main:
            return Place(say("where.own-file"), None, CATALOGUE)
        return None

    def rest_place(self, at: int) -> Place:
        """A node's block is the volume's own where the table says that it holds that node."""
        try:
            raw = self.block(at // f.BLOCK, "F2FS node")
            number = int.from_bytes(raw[f.FOOTER : f.FOOTER + 4], "little")
            if self.where_node(number)[1] == at // f.BLOCK:
                return Place(say("where.own-file"), None, CATALOGUE)
        except DecodeError:
            pass  # no node of the table
        return super().rest_place(at)


def unpacked(raw: bytes, kind: int, size: int) -> bytes:
    """A cluster as it was. Raises DecodeError for a kind that is not read, and what the unpackers raise."""
    inner = raw[_PACK_HEAD : _PACK_HEAD + int.from_bytes(raw[:4], "little")]
    if kind == _LZ4:
        return bytes(lz4.block.decompress(inner, uncompressed_size=size))
    if kind == _ZSTD:
        return zstandard.ZstdDecompressor().decompressobj().decompress(inner)
    raise DecodeError("F2FS cluster", at=0, expected="LZ4 or Zstandard", got=kind - 1)


def _stretch(at: int, place: int, count: int) -> FileStretch:
    return FileStretch(at * f.BLOCK, count * f.BLOCK, place * f.BLOCK if place else None)
