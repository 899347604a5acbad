"""HFS Plus: catalogue, extents, files with their hard links; files that are kept compressed."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable, Iterator
from functools import cached_property, lru_cache

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.hfsplus import layout as h
from gatecheck.core.volume.hfsplus.layout import CatalogRecord, Fork, TreeNode
from gatecheck.core.volume.inode_tree import FileStretch, InodeTree
from gatecheck.core.volume.names import name_of_utf16
from gatecheck.core.volume.place import CATALOGUE, Place
from gatecheck.core.volume.tree import Node
from gatecheck.core.words.said import say

_MOST_NODES, _MOST_LINK, _MOST_REMEMBERED = 1 << 22, 4096, 1 << 16
_PACKED_NAME = "com.apple.decmpfs"
_PIECE = 65536
"""bytes of a compressed file that are packed together"""


class Tree:
    """A B-tree that stands in a fork."""

    def __init__(self, volume: HfsPlus, number: int, fork: Fork) -> None:
        self.volume, self.number, self.fork = volume, number, fork
        self.head = h.read_head(self._read(0, 512))
        self.node = lru_cache(1024)(self._node)

    def _read(self, at: int, count: int) -> bytes:
        parts = []
        for first, length in self.volume.pieces(self.number, h.DATA_FORK, self.fork):
            if count and at < length:
                now = min(count, length - at)
                parts.append(self.volume.bytes.read(first + at, now, "HFS Plus tree"))
                at, count = 0, count - now
            else:
                at = max(0, at - length)
        if count:
            raise DecodeError("HFS Plus tree", at=at, expected=f"{count} bytes more", got="the end of its file")
        return b"".join(parts)

    def _node(self, number: int) -> TreeNode:
        if not 0 <= number < self.head.nodes:
            raise DecodeError("HFS Plus tree", at=0, expected=f"a node below {self.head.nodes}", got=number)
        return h.read_node(self._read(number * self.head.node, self.head.node), number)

    def since(self, is_before: Callable[[bytes], bool]) -> Iterator[tuple[bytes, bytes]]:
        """Leaf records from the first on whose key is not before what is looked for. Raises DecodeError."""
        if not self.head.depth:
            return
        number, seen = self.head.root, 0
        for _ in range(self.head.depth - 1):
            node = self.node(number)
            if node.kind != h.INDEX or not node.records:
                raise DecodeError(f"HFS Plus node {number}", at=8, expected="an index", got=node.kind)
            place = max(0, sum(1 for key, _ in node.records if is_before(key)) - 1)
            number = int.from_bytes(node.records[place][1][:4], "big")
        while number and seen < _MOST_NODES:
            node = self.node(number)
            if node.kind != h.LEAF:
                raise DecodeError(f"HFS Plus node {number}", at=8, expected="a leaf", got=node.kind)
            yield from (record for record in node.records if not is_before(record[0]))
            number, seen = node.following, seen + 1


class HfsPlus(InodeTree):
    """Raises DecodeError where no volume header can be worked with."""

    kind = "HFS+"
    label = ""
    top = h.ROOT

    def __init__(self, disk: Sectors, first: int, last: int) -> None:
        super().__init__(disk, first, last)
        self.header, self.header_at = self._header()
        self.is_from_copy = self.header_at != h.HEADER_AT
        self.size = self.header.block * self.header.blocks
        self.catalog = Tree(self, h.CATALOG_FILE, self.header.catalog)
        self.ignores_case = not (self.header.is_sensitive and self.catalog.head.compares_bytes)
        self._records: dict[int, CatalogRecord] = {}
        self.record(h.ROOT)
        self.label = next((catalog_name for _, catalog_name in self._threads(h.ROOT)), "")

    def _header(self) -> tuple[h.VolumeHeader, int]:
        problem: DecodeError | None = None
        end = (self.last - self.first + 1) * self.disk.sector - h.HEADER_AT
        for at in (h.HEADER_AT, end):
            try:
                return h.read_header(self.bytes.read(at, h.HEADER_SIZE, "HFS Plus volume header")), at
            except DecodeError as error:
                problem = problem or error
        raise problem or DecodeError("HFS Plus volume header", at=0, expected="one", got="none")

    # --- forks

    @cached_property
    def overflow(self) -> Tree | None:
        """The tree of extents that have no room in their records."""
        return Tree(self, h.EXTENTS_FILE, self.header.extents) if self.header.extents.blocks else None

    def blocks(self, number: int, kind: int, fork: Fork) -> Iterator[tuple[int, int]]:
        """(first, count) of a fork's allocation blocks, in their order. Raises DecodeError."""
        done = 0
        for first, count in fork.extents:
            yield first, count
            done += count
        if done >= fork.blocks:
            return
        if self.overflow is None or number == h.EXTENTS_FILE:
            raise DecodeError(f"HFS Plus file {number}", at=0, expected=f"{fork.blocks} blocks", got=done)
        wanted = (number, kind, done)
        for key, raw in self.overflow.since(lambda key: _extent_key(key) < wanted):
            if _extent_key(key)[:2] != wanted[:2] or done >= fork.blocks:
                break
            for first, count in struct.iter_unpack(">2I", raw[:64]):
                if count:
                    yield first, count
                    done += count
        if done < fork.blocks:
            raise DecodeError(f"HFS Plus file {number}", at=0, expected=f"{fork.blocks} blocks", got=done)

    def pieces(self, number: int, kind: int, fork: Fork) -> Iterator[tuple[int, int]]:
        """(byte of the volume, bytes) of a fork. Raises DecodeError."""
        size = self.header.block
        for first, count in self.blocks(number, kind, fork):
            if first + count > self.header.blocks:
                got = f"{first} to {first + count}"
                raise DecodeError(f"HFS Plus file {number}", at=0, expected=f"below {self.header.blocks}", got=got)
            yield first * size, count * size

    # --- catalogue

    def _children(self, number: int) -> Iterator[tuple[str, bytes]]:
        """(name, record) of everything whose parent this is, its own thread first. Raises DecodeError."""
        wanted = number.to_bytes(4, "big")
        for key, raw in self.catalog.since(lambda key: key[:4] < wanted or (key[:4] == wanted and len(key) < 6)):
            if key[:4] != wanted:
                return
            yield h.catalog_key(key)[1], raw

    def _threads(self, number: int) -> Iterator[tuple[int, str]]:
        """(parent, name) by a file's or folder's thread."""
        for name, raw in self._children(number):
            if name == "" and int.from_bytes(raw[:2], "big") in (h.FOLDER_THREAD, h.FILE_THREAD):
                length = int.from_bytes(raw[8:10], "big")
                yield int.from_bytes(raw[4:8], "big"), raw[10 : 10 + 2 * length].decode("utf-16-be", "surrogatepass")
            return

    def _records_of(self, number: int) -> Iterator[tuple[str, CatalogRecord]]:
        for name, raw in self._children(number):
            if int.from_bytes(raw[:2], "big") in (h.FOLDER_RECORD, h.FILE_RECORD):
                yield name, h.read_record(raw)

    def record(self, number: int) -> CatalogRecord:
        """Raises DecodeError where there is none."""
        if number in self._records:
            return self._records[number]
        for parent, name in self._threads(number):
            for own_name, own in self._records_of(parent):
                if own.number == number and own_name == name:
                    self._remember(own)
                    return own
        raise DecodeError(f"HFS Plus file {number}", at=0, expected="a record of it", got="none")

    def _remember(self, own: CatalogRecord) -> None:
        if len(self._records) >= _MOST_REMEMBERED:
            self._records.clear()
        self._records[own.number] = own

    @cached_property
    def _private(self) -> dict[bool, int]:
        """Folders with what several names lead to: those of folders, those of files."""
        found = {name: own.number for name, own in self._records_of(h.ROOT) if own.is_folder}
        return {is_folder: found[h.PRIVATE[is_folder]] for is_folder in (False, True) if h.PRIVATE[is_folder] in found}

    def _meant(self, own: CatalogRecord) -> CatalogRecord:
        """What a name leads to. Raises DecodeError."""
        if not own.link:
            return own
        parent = self._private.get(own.is_folder_link)
        wanted = f"{'dir_' if own.is_folder_link else 'iNode'}{own.link}"
        for name, record in self._records_of(parent) if parent is not None else ():
            if name == wanted:
                return record
        raise DecodeError(f"HFS Plus file {own.number}", at=0, expected=f"its {wanted}", got="none")

    # --- files and folders

    def made(self, number: int, path: str) -> Node:
        own = self._meant(self.record(number))
        if own.is_folder:
            return Node(number, path, True, 0, own.modified)
        link = ""
        if own.mode & 0o170000 == h.LINK_MODE:
            link = self._target(own)
        size = own.data.size
        if own.is_packed:
            size = self._packed_head(own)[1]
        return Node(number, path, False, size, own.modified, link=link)

    def _target(self, own: CatalogRecord) -> str:
        if own.data.size > _MOST_LINK:
            raise DecodeError("HFS Plus link", at=0, expected=f"at most {_MOST_LINK} bytes", got=own.data.size)
        return self.fork_bytes(own.number, h.DATA_FORK, own.data)[: own.data.size].decode("utf-8", "replace")

    def fork_bytes(self, number: int, kind: int, fork: Fork) -> bytes:
        """All bytes of a fork's blocks. Raises DecodeError."""
        return b"".join(self.bytes.read(at, n, "HFS Plus file") for at, n in self.pieces(number, kind, fork))

    def entries(self, number: int) -> Iterator[tuple[str, int]]:
        own = self._meant(self.record(number)) if number != self.top else None
        for name, record in self._records_of(own.number if own else number):
            if number == self.top and name in h.PRIVATE:
                continue
            self._remember(record)
            yield name_of_utf16(name.encode("utf-16-le", "surrogatepass")), record.number

    def stretches(self, number: int) -> Iterator[FileStretch]:
        own = self._meant(self.record(number))
        if own.is_packed:
            yield from self._unpacked(own)
            return
        at = 0
        for place, length in self.pieces(own.number, h.DATA_FORK, own.data):
            yield FileStretch(at, length, place)
            at += length

    # --- compressed files

    @cached_property
    def named(self) -> Tree | None:
        """The tree of attributes."""
        return Tree(self, 8, self.header.attributes_file) if self.header.attributes_file.blocks else None

    def _packed_head(self, own: CatalogRecord) -> tuple[int, int, bytes]:
        """(kind, size, what stands in the attribute) of a compressed file. Raises DecodeError."""
        if self.named is not None:
            wanted = own.number.to_bytes(4, "big")
            for key, raw in self.named.since(lambda key: key[2:6] < wanted):
                if key[2:6] != wanted:
                    break
                length = int.from_bytes(key[10:12], "big")
                name = key[12 : 12 + 2 * length].decode("utf-16-be", "replace")
                if name == _PACKED_NAME and raw[:4] == b"\0\0\0\x10" and raw[16:20] == b"fpmc":
                    kind, size = struct.unpack_from("<IQ", raw, 20)
                    return kind, size, raw[32 : 16 + int.from_bytes(raw[12:16], "big")]
        raise DecodeError(f"HFS Plus file {own.number}", at=0, expected="how it is compressed", got="nothing")

    def _unpacked(self, own: CatalogRecord) -> Iterator[FileStretch]:
        """zlib in the attribute (kind 3) or in the resource fork (kind 4); others are not read. Raises DecodeError."""
        kind, size, inner = self._packed_head(own)
        if kind not in (3, 4):
            yield FileStretch(0, size, None, lost=f"compressed in a way that is not read (kind {kind})")
            return
        try:
            if kind == 3:
                yield FileStretch(0, size, None, inflated(inner, size))
                return
            raw = self.fork_bytes(own.number, h.RESOURCE_FORK, own.resource)
            start = int.from_bytes(raw[:4], "big") + 4
            count = int.from_bytes(raw[start : start + 4], "little")
            for n in range(min(count, -(-size // _PIECE))):
                place, length = struct.unpack_from("<2I", raw, start + 4 + 8 * n)
                piece = raw[start + place : start + place + length]
                yield FileStretch(n * _PIECE, _PIECE, None, inflated(piece, min(_PIECE, size - n * _PIECE)))
        except (zlib.error, struct.error) as error:
            raise DecodeError(f"HFS Plus file {own.number}", at=0, expected="zlib", got=str(error)) from error

    # --- what lives where

    def own_place(self, at: int) -> Place | None:
        if h.HEADER_AT <= at < h.HEADER_AT + h.HEADER_SIZE:
            return Place(say("where.ext-superblock"), None, CATALOGUE)
        if self.size - h.HEADER_AT <= at < self.size - h.HEADER_AT + h.HEADER_SIZE:
            return Place(say("where.ext-superblock-copy"), None, CATALOGUE)
        own = self.header
        files = ((6, own.allocation), (3, own.extents), (4, own.catalog), (8, own.attributes_file))
        for number, fork in files:
            if any(place <= at < place + length for place, length in self.pieces(number, h.DATA_FORK, fork)):
                return Place(say("where.own-file"), None, CATALOGUE)
        return None

    @cached_property
    def _bitmap(self) -> bytes:
        """Bits of the blocks that are taken; empty where it cannot be read."""
        try:
            return self.fork_bytes(h.ALLOCATION_FILE, h.DATA_FORK, self.header.allocation)
        except DecodeError:
            return b""

    def rest_place(self, at: int) -> Place:
        """Free where the bitmap says so; else the volume's own, or a file's second fork."""
        block = at // self.header.block
        if block >> 3 < len(self._bitmap) and not self._bitmap[block >> 3] >> (7 - (block & 7)) & 1:
            return super().rest_place(at)
        return Place(say("where.own-file"), None, CATALOGUE)


def _extent_key(key: bytes) -> tuple[int, int, int]:
    """(file, fork, first block): the order of the tree of extents."""
    return int.from_bytes(key[2:6], "big"), key[0], int.from_bytes(key[6:10], "big")


def inflated(raw: bytes, size: int) -> bytes:
    """A piece as it was: packed, or behind a mark as it is."""
    if raw[:1] == b"\xff":
        return raw[1 : 1 + size]
    return zlib.decompressobj().decompress(raw, size)
