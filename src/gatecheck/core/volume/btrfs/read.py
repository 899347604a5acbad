"""Btrfs: chunks, trees, subvolumes, files. Every node is held to its sum, and every byte of a file to its own where it
has one; where a second copy is on the same drive, it is used in its place.

Linux, Documentation/filesystems/btrfs (on-disk format). Of a set of several drives what lies whole on this one is read.
"""

from __future__ import annotations

import struct
import zlib
from bisect import bisect_right
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np
import zstandard

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.btrfs import layout as b
from gatecheck.core.volume.btrfs.layout import Chunk, Extent, TreeInode, TreeKey
from gatecheck.core.volume.crc32c import crc32c_rows
from gatecheck.core.volume.names import name_of_bytes
from gatecheck.core.volume.place import CATALOGUE, FILE, NOTHING, Place
from gatecheck.core.volume.tree import HOLES, LOST, WHOLE, Bytes, Hole, Node, Run, limited
from gatecheck.core.words.said import say

_DEEPEST, _MOST_ITEMS, _MOST_UNPACKED, _PIECE = 8, 4096, 1 << 20, 1 << 20
_SUBVOLUME = 40
"""bits of a node's number that are its inode's; the others are its subvolume's"""
_ROOTS = ("", "@", "@rootfs", "root")
"""where a system is looked for: as the volume's own top, or in a subvolume of a usual name"""
_LARGEST = (1 << 64) - 1
_SHORT = 254
"""levels of subvolumes in subvolumes"""


@dataclass(frozen=True, slots=True)
class Root:
    """A tree: its first node, and of a subvolume whether it is a snapshot of another."""

    address: int
    level: int
    generation: int
    is_snapshot: bool


class Btrfs:
    """Raises DecodeError where no superblock can be worked with."""

    kind = "Btrfs"

    def __init__(self, disk: Sectors, first: int, last: int) -> None:
        self.disk, self.first, self.last = disk, first, last
        self.bytes = Bytes(disk, first)
        self.super, self.super_at = self._super()
        self.label, self.size = self.super.label, self.super.size
        self.chunks = sorted(b.system_chunks(self.super), key=lambda c: c.first)
        self.node = lru_cache(1024)(self._node)
        level = self.super.raw[199]
        more = [
            b.read_chunk(key.offset, raw, self.super.device)
            for key, raw in self.items(
                Root(self.super.chunk_root, level, self.super.generation, False), type_=b.CHUNK_ITEM
            )
        ]
        self.chunks = sorted({c.first: c for c in [*self.chunks, *more]}.values(), key=lambda c: c.first)
        self.roots = self._roots()
        if b.FS_TREE not in self.roots:
            raise DecodeError("Btrfs trees", at=0, expected="a tree of files", got="none")

    def _super(self) -> tuple[b.TreeSuper, int]:
        problem: DecodeError | None = None
        room = (self.last - self.first + 1) * self.disk.sector
        for at in b.COPIES:
            if at + b.SUPER_SIZE > room:
                break
            try:
                return b.read_super(self.bytes.read(at, b.SUPER_SIZE, "Btrfs superblock")), at
            except DecodeError as error:
                problem = problem or error
        raise problem or DecodeError("Btrfs superblock", at=b.SUPER_AT, expected="room for one", got=f"{room} bytes")

    # --- addresses

    def chunk_of(self, address: int) -> Chunk | None:
        place = bisect_right(self.chunks, address, key=lambda c: c.first) - 1
        if place < 0 or address >= self.chunks[place].first + self.chunks[place].length:
            return None
        return self.chunks[place]

    def places_of(self, address: int) -> tuple[int, ...]:
        """Bytes of the volume at which a copy of what has this address stands."""
        chunk = self.chunk_of(address)
        if chunk is None or chunk.is_spread:
            return ()
        return tuple(place + address - chunk.first for place in chunk.places)

    # --- trees

    def _node(self, address: int, level: int, newest: int) -> bytes:
        """A node of a tree by the first of its copies whose sum fits. Raises DecodeError."""
        own, problem = self.super, DecodeError("Btrfs node", at=address, expected="a copy on this drive", got="none")
        for place in self.places_of(address):
            try:
                raw = self.bytes.read(place, own.node, "Btrfs node")
                if not b.has_sum(own.sum_kind, raw[:32], raw[32:]):
                    raise DecodeError("Btrfs node", at=place, expected="its checksum", got=raw[:4].hex())
                at, generation = int.from_bytes(raw[48:56], "little"), int.from_bytes(raw[80:88], "little")
                if at != address or raw[100] != level or generation > newest:
                    raise DecodeError("Btrfs node", at=place, expected=f"the node of {address}", got=f"that of {at}")
                return raw
            except DecodeError as error:
                problem = error
        raise problem

    def items(
        self, root: Root, object_: int | None = None, type_: int | None = None
    ) -> Iterator[tuple[TreeKey, bytes]]:
        """Items of a tree in their order: all, those of an object, or of a type. Raises DecodeError where a node of it
        cannot be read."""
        low = TreeKey(object_ or 0, (type_ or 0) if object_ is not None else 0, 0)
        high = TreeKey(
            object_ if object_ is not None else _LARGEST, type_ if object_ is not None and type_ else 255, _LARGEST
        )
        for key, raw in self._between(root, low, high):
            if type_ is None or key.type == type_:
                yield key, raw

    def _between(self, root: Root, low: TreeKey, high: TreeKey) -> Iterator[tuple[TreeKey, bytes]]:
        if root.level >= _DEEPEST:
            raise DecodeError("Btrfs tree", at=root.address, expected=f"below {_DEEPEST} levels", got=root.level)
        waiting = [(root.address, root.level, root.generation)]
        while waiting:
            address, level, newest = waiting.pop()
            raw = self.node(address, level, newest)
            count = min(int.from_bytes(raw[96:100], "little"), _MOST_ITEMS)
            if level == 0:
                yield from _leaf(raw, count, low, high)
                continue
            keys = [_ordered(b.read_key(raw, b.HEADER + n * b.POINTER)) for n in range(count)]
            first = max(0, bisect_right(keys, _ordered(low)) - 1)
            past = bisect_right(keys, _ordered(high))
            for n in range(past - 1, first - 1, -1):
                below, generation = struct.unpack_from("<2Q", raw, b.HEADER + n * b.POINTER + b.KEY)
                waiting.append((below, level - 1, generation))

    def _roots(self) -> dict[int, Root]:
        own, found = self.super, dict[int, Root]()
        self.tree = Root(own.root, own.raw[198], own.generation, False)
        for key, raw in self.items(self.tree, type_=b.ROOT_ITEM):
            if len(raw) >= 239:
                generation, _, address = struct.unpack_from("<3Q", raw, 160)
                found[key.object] = Root(address, raw[238], generation, any(raw[263:279]))
        return found

    @cached_property
    def default(self) -> int:
        """The subvolume that is mounted where nobody asks for another."""
        for _, raw in self.items(self.tree, self.super.default_folder, b.DIR_ITEM):
            for entry in b.read_entries(raw):
                if entry.name == b"default" and entry.where.object in self.roots:
                    return entry.where.object
        return b.FS_TREE

    # --- files and folders

    def inode(self, tree: int, number: int) -> TreeInode:
        """Raises DecodeError where there is none."""
        for _, raw in self.items(self.roots[tree], number, b.INODE_ITEM):
            return b.read_inode(raw)
        raise DecodeError(f"Btrfs inode {number}", at=0, expected=f"one in tree {tree}", got="none")

    def entries(self, tree: int, number: int) -> Iterator[tuple[str, int, int]]:
        """(name, tree, inode) of a folder; of another subvolume its root."""
        for _, raw in self.items(self.roots[tree], number, b.DIR_INDEX):
            for entry in b.read_entries(raw):
                name = name_of_bytes(entry.name)
                if entry.where.type == b.ROOT_ITEM:
                    if entry.where.object in self.roots:
                        yield name, entry.where.object, b.ROOT_FOLDER
                elif entry.where.type == b.INODE_ITEM:
                    yield name, tree, entry.where.object

    def _made(self, tree: int, number: int, path: str) -> Node:
        inode = self.inode(tree, number)
        link = ""
        if inode.is_link:
            extents = list(self.extents(tree, number))
            link = (extents[0].inline or b"").split(b"\0")[0].decode("utf-8", "replace") if extents else ""
        return Node(
            tree << _SUBVOLUME | number, path, inode.is_folder, 0 if inode.is_folder else inode.size, inode.modified,
            link=link,
        )  # fmt: skip

    def nodes(self, *, deleted: bool = False) -> Iterator[Node]:
        """Everything that the folders lead to; of snapshots, which hold again what others hold, only the folder. What
        was deleted leaves no trace that could be followed."""
        if deleted:
            return
        waiting, seen = [(b.FS_TREE, b.ROOT_FOLDER, "")], {(b.FS_TREE, b.ROOT_FOLDER)}
        while waiting:
            tree, number, path = waiting.pop()
            try:
                found = list(self.entries(tree, number))
            except DecodeError:
                continue  # the check names it; what stands beside it is there
            for name, where, target in found:
                place = f"{path}/{name}" if path else name
                try:
                    node = self._made(where, target, place)
                except DecodeError:
                    continue
                yield node
                is_copy = where != tree and self.roots[where].is_snapshot and where != self.default
                if node.is_folder and (where, target) not in seen and not is_copy and path.count("/") < _SHORT:
                    seen.add((where, target))
                    waiting.append((where, target, place))

    def find(self, path: str) -> Node | None:
        """By path from the volume's top, from the subvolume that is mounted by default, or from one that holds a system
        by its usual name; links are followed."""
        starts = [(b.FS_TREE, b.ROOT_FOLDER, "")]
        if self.default != b.FS_TREE:
            starts.append((self.default, b.ROOT_FOLDER, ""))
        for name in _ROOTS[1:]:
            top = self._below(b.FS_TREE, b.ROOT_FOLDER, name)
            if top is not None:
                starts.append((*top, name))
        for start in starts:
            node = self._find(start, path, 0)
            if node is not None:
                return node
        return None

    def _below(self, tree: int, number: int, name: str) -> tuple[int, int] | None:
        try:
            return next(((t, n) for own, t, n in self.entries(tree, number) if own == name), None)
        except DecodeError:
            return None

    def _find(self, start: tuple[int, int, str], path: str, depth: int) -> Node | None:
        tree, number, done = start
        parts = [p for p in path.split("/") if p]
        try:
            node = self._made(tree, number, done)
            for place, part in enumerate(parts):
                below = self._below(tree, number, part) if node.is_folder else None
                if below is None:
                    return None
                tree, number = below
                done = f"{done}/{part}" if done else part
                node = self._made(tree, number, done)
                if node.link and depth < 16:
                    rest = "/".join(parts[place + 1 :])
                    before = [] if node.link.startswith("/") else parts[:place]
                    steps: list[str] = []
                    for step in [*before, *node.link.split("/")]:
                        steps = steps[:-1] if step == ".." else [*steps, step] if step not in ("", ".") else steps
                    return self._find(start, "/".join([*steps, rest]), depth + 1)
        except DecodeError:
            return None
        return node

    @staticmethod
    def _id(node: Node) -> tuple[int, int]:
        return node.id >> _SUBVOLUME, node.id & (1 << _SUBVOLUME) - 1

    def extents(self, tree: int, number: int) -> Iterator[Extent]:
        for key, raw in self.items(self.roots[tree], number, b.EXTENT_DATA):
            yield b.read_extent(key.offset, raw)

    def content(self, node: Node) -> Iterator[bytes | Hole]:
        yield from limited(self._pieces(node), node.size)

    def _pieces(self, node: Node) -> Iterator[bytes | Hole]:
        at = 0
        try:
            for own in self.extents(*self._id(node)):
                if own.at > at:
                    yield from _zeros(min(own.at, node.size) - at)
                    at = own.at
                if at >= node.size:
                    return
                length = min(own.length, node.size - at)
                yield from limited(self._stored(own), length)
                at += length
        except DecodeError as error:
            if node.size > at:
                yield Hole(node.size - at, str(error))

    def _stored(self, own: Extent) -> Iterator[bytes | Hole]:
        """The bytes of one stretch."""
        if own.inline is not None:
            yield own.inline if not own.packed else self._unpacked(own, own.inline)
        elif not own.address or not own.is_written:
            yield from _zeros(own.length)
        elif not own.packed:
            yield from self._data(own.address + own.skip, own.length)
        else:
            parts = list(self._data(own.address, own.stored))
            why = next((p.why for p in parts if isinstance(p, Hole)), "")
            if why or own.unpacked > _MOST_UNPACKED:
                yield Hole(own.length, why or "more than a stretch can hold")
                return
            made = self._unpacked(own, b"".join(p for p in parts if isinstance(p, bytes)))
            yield made if isinstance(made, Hole) else made[own.skip : own.skip + own.length]

    @staticmethod
    def _unpacked(own: Extent, raw: bytes) -> bytes | Hole:
        try:
            if own.packed == 1:
                return zlib.decompressobj().decompress(raw, own.unpacked)
            if own.packed == 3:
                return zstandard.ZstdDecompressor().decompressobj().decompress(raw)[: own.unpacked]
        except (zlib.error, zstandard.ZstdError) as error:
            return Hole(own.length, f"compressed, and not to be unpacked: {error}")
        return Hole(own.length, "compressed with LZO, which is not read")

    def _data(self, address: int, length: int) -> Iterator[bytes | Hole]:
        """Bytes of files, each sector held to its sum."""
        done = 0
        while done < length:
            chunk = self.chunk_of(address + done)
            if chunk is None or chunk.is_spread or not chunk.places:
                yield Hole(length - done, "on another drive of the same set" if chunk else "no chunk has this address")
                return
            count = min(_PIECE, length - done, chunk.first + chunk.length - address - done)
            yield from self._summed(address + done, count)
            done += count

    def _summed(self, address: int, count: int) -> Iterator[bytes | Hole]:
        size, places = self.super.sector, self.places_of(address)
        if self.super.sum_kind or b.SUM_TREE not in self.roots or address % size:
            yield from self.bytes.pieces(places[0], count)
            return
        whole = -(-count // size) * size
        told = self._sums(address, whole // size)
        good = np.zeros(whole // size, bool)
        made: list[bytes] = [b""] * len(good)
        for place in places:
            span, skip = self.bytes.span(place, whole)
            rows = np.frombuffer(span.data, np.uint8, count=whole, offset=skip).reshape(-1, size)
            sums = crc32c_rows(np.full(len(rows), 0xFFFFFFFF, np.uint32), rows) ^ np.uint32(0xFFFFFFFF)
            gone = {n for lba in span.missing for n in [((lba - span.lba) * span.sector - skip) // size]}
            for n in np.flatnonzero(~good).tolist():
                if n not in gone and (told[n] is None or told[n] == int(sums[n])):
                    made[n], good[n] = rows[n].tobytes(), True
            if good.all():
                break
        left = count
        for n, is_good in enumerate(good.tolist()):
            take = min(size, left)
            yield made[n][:take] if is_good else Hole(take, "unreadable, or another checksum than its own")
            left -= take

    def _sums(self, address: int, count: int) -> list[int | None]:
        """Of sectors from this address on; None where there is none."""
        size, sums = self.super.sector, list[int | None]([None] * count)
        end = address + count * size
        low = TreeKey(b.SUMS, b.EXTENT_CSUM, max(0, address - (self.super.node // 4) * size))
        for key, raw in self._between(self.roots[b.SUM_TREE], low, TreeKey(b.SUMS, b.EXTENT_CSUM, end - 1)):
            values = np.frombuffer(raw, "<u4", count=len(raw) // 4)
            skip = (address - key.offset) // size
            for n in range(max(0, -skip), min(count, len(values) - skip)):
                sums[n] = int(values[n + skip])
        return sums

    def shape(self, node: Node) -> str:
        """whole, holes or lost, by where its bytes are said to lie."""
        try:
            found = [self._is_here(own) for own in self.extents(*self._id(node))]
        except DecodeError:
            return LOST
        return WHOLE if all(found) else HOLES if any(found) else LOST

    def _is_here(self, own: Extent) -> bool:
        return own.inline is not None or not own.address or (bool(self.places_of(own.address)) and own.packed != 2)

    def runs(self, node: Node) -> Sequence[Run]:
        found = []
        for own in self.extents(*self._id(node)):
            if own.inline is not None:
                continue
            places = self.places_of(own.address) if own.address and own.is_written else ()
            length = own.stored if own.packed else own.length
            at = places[0] + (0 if own.packed else own.skip) if places else None
            found.append(Run(self.bytes.base + at if at is not None else None, length))
        return found

    # --- what lives where

    def places(self, lbas: Sequence[int]) -> list[Place]:
        size = self.disk.sector
        wanted = {lba: (lba - self.first) * size for lba in lbas}
        found: dict[int, Place] = {}
        inside: dict[int, int] = {}
        for lba, at in wanted.items():
            if any(copy <= at < copy + b.SUPER_SIZE for copy in b.COPIES):
                found[lba] = Place(
                    say("where.ext-superblock" if at < 1 << 20 else "where.ext-superblock-copy"), None, CATALOGUE
                )
                continue
            chunk = next((c for c in self.chunks for p in c.places if p <= at < p + c.length), None)
            if chunk is None:
                found[lba] = Place(say("where.free"), None, NOTHING)
            elif chunk.kind & (b.SYSTEM | b.METADATA) and not chunk.kind & b.DATA:
                found[lba] = Place(say("where.own-file"), None, CATALOGUE)
            else:
                start = next(p for p in chunk.places if p <= at < p + chunk.length)
                inside[lba] = chunk.first + at - start
        if inside:
            self._owned(inside, found)
        for lba in lbas:
            found.setdefault(lba, Place(say("where.free"), None, NOTHING))
        return [found[lba] for lba in lbas]

    def _owned(self, inside: dict[int, int], found: dict[int, Place]) -> None:
        for node in self.nodes():
            if node.is_folder:
                continue
            try:
                own = [(e.address, e.stored) for e in self.extents(*self._id(node)) if e.address]
            except DecodeError:
                continue
            for lba, address in inside.items():
                if lba not in found and any(at <= address < at + count for at, count in own):
                    found[lba] = Place(say("where.file"), node.path, FILE)


def _ordered(key: TreeKey) -> tuple[int, int, int]:
    return key.object, key.type, key.offset


def _leaf(raw: bytes, count: int, low: TreeKey, high: TreeKey) -> Iterator[tuple[TreeKey, bytes]]:
    """Items of a leaf from one key to another. Raises DecodeError where one lies outside of it."""
    least, most = _ordered(low), _ordered(high)
    for n in range(count):
        at = b.HEADER + n * b.ITEM
        key = b.read_key(raw, at)
        if _ordered(key) < least:
            continue
        if _ordered(key) > most:
            return
        place, size = struct.unpack_from("<2I", raw, at + b.KEY)
        start = b.HEADER + place
        if start + size > len(raw):
            raise DecodeError("Btrfs item", at=at, expected="within its node", got=f"{place} and {size} bytes")
        yield key, raw[start : start + size]


def _zeros(count: int) -> Iterator[bytes]:
    while count > 0:
        yield bytes(min(count, _PIECE))
        count -= _PIECE
