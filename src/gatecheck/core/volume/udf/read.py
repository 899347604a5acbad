"""UDF: anchor, volume descriptors, partitions (plain, with spared sectors, of metadata), file entries, names."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.inode_tree import FileStretch, InodeTree
from gatecheck.core.volume.names import name_of_utf16
from gatecheck.core.volume.place import CATALOGUE, Place
from gatecheck.core.volume.tree import Hole, Node
from gatecheck.core.volume.udf import layout as u
from gatecheck.core.volume.udf.layout import Allocation, FileEntry, UdfName
from gatecheck.core.words.said import say

_ANCHOR, _MOST_DESCRIPTORS, _MOST_CHAIN, _MOST_FOLDER = 256, 512, 4096, 64 << 20
_PARTITION_BITS = 32
"""bits of a file's number that are its block's; the others are its partition's"""
_BITMAP_TAG = b"\x08\x01"
_MARKS = 0x8000
"""byte at which the recognition sequence begins"""


@dataclass(frozen=True, slots=True)
class PartitionMap:
    """`start`, `length` in blocks; `spared`: block -> where it went, in sectors of the volume; `metadata`: where its
    blocks lie, as allocations of the plain partition."""

    start: int
    length: int
    spared: dict[int, int]
    metadata: tuple[Allocation, ...] | None
    free: Allocation | None = None
    """where the bitmap of its free blocks stands"""


class Udf(InodeTree):
    """Raises DecodeError where no anchor or no set of files can be worked with."""

    kind = "UDF"

    def __init__(self, disk: Sectors, first: int, last: int) -> None:
        super().__init__(disk, first, last)
        self.sector, anchor = self._anchor()
        self.block, self.label, self.maps, root = self._volume(anchor)
        self.size = (last - first + 1) * disk.sector
        self.top = root.partition << _PARTITION_BITS | root.block
        self.entry(self.top)

    def _anchor(self) -> tuple[int, bytes]:
        room = (self.last - self.first + 1) * self.disk.sector
        problem: DecodeError | None = None
        for sector in (2048, 512, 4096):
            end = room // sector
            for place in (_ANCHOR, end - 1 - _ANCHOR, end - 1):
                try:
                    raw = self.bytes.read(place * sector, 512, "UDF anchor") if 0 < place < end else b""
                    is_anchor = u.tag_of(raw, "UDF anchor", place * sector) == u.ANCHOR
                    if is_anchor and int.from_bytes(raw[12:16], "little") == place:
                        return sector, raw
                except DecodeError as error:
                    problem = problem or error
        raise problem or DecodeError("UDF anchor", at=_ANCHOR * 2048, expected="one", got="none")

    def _volume(self, anchor: bytes) -> tuple[int, str, list[PartitionMap | None], Allocation]:
        problem: DecodeError | None = None
        for at in (16, 24):
            length, place = (int.from_bytes(anchor[n : n + 4], "little") for n in (at, at + 4))
            try:
                return self._sequence(place, length)
            except DecodeError as error:
                problem = problem or error
        raise problem or DecodeError("UDF volume descriptors", at=0, expected="some", got="none")

    def _sequence(self, place: int, length: int) -> tuple[int, str, list[PartitionMap | None], Allocation]:
        logical, partitions = b"", dict[int, bytes]()
        for n in range(min(length // self.sector, _MOST_DESCRIPTORS)):
            at = (place + n) * self.sector
            raw = self.bytes.read(at, self.sector, "UDF volume descriptor")
            if not any(raw[:16]):
                break
            kind = u.tag_of(raw, "UDF volume descriptor", at)
            if kind == u.LOGICAL:
                logical = raw
            elif kind == u.PARTITION:
                partitions[int.from_bytes(raw[22:24], "little")] = raw
            elif kind == u.TERMINATOR:
                break
        if not logical:
            raise DecodeError("UDF volume descriptors", at=place, expected="a logical volume", got="none")
        self.block = int.from_bytes(logical[212:216], "little")
        if self.block not in (512, 1024, 2048, 4096):
            raise DecodeError("UDF logical volume", at=212, expected="blocks of 512 to 4096", got=self.block)
        self.maps = []
        at = 440
        for _ in range(min(int.from_bytes(logical[268:272], "little"), 8)):
            size = logical[at + 1]
            self.maps.append(self._map(logical[at : at + size], partitions))
            at += max(size, 2)
        files = u.read_long(logical[248:264])
        raw = self.read_block(files.partition, files.block, "UDF file set")
        if u.tag_of(raw, "UDF file set") != u.FILE_SET:
            raise DecodeError("UDF file set", at=0, expected="its descriptor", got=raw[:2].hex())
        return self.block, u.fixed_text(logical[84:212]).strip(), self.maps, u.read_long(raw[400:416])

    def _map(self, raw: bytes, partitions: dict[int, bytes]) -> PartitionMap | None:
        """None for one that is not read: a disc that is written piece by piece."""
        number = int.from_bytes(raw[4:6] if raw[:1] == b"\x01" else raw[38:40], "little")
        own = partitions.get(number)
        if own is None:
            return None
        start, length = (int.from_bytes(own[n : n + 4], "little") for n in (188, 192))
        size, block = (int.from_bytes(own[n : n + 4], "little") for n in (64, 68))
        free = Allocation(size & 0x3FFFFFFF, 0, block, len(self.maps)) if size else None
        if raw[:1] == b"\x01":
            return PartitionMap(start, length, {}, None, free)
        if b"Sparable" in raw[5:28]:
            return PartitionMap(start, length, self._spared(raw, start), None, free)
        if b"Metadata" in raw[5:28]:
            plain = next((n for n, m in enumerate(self.maps) if m is not None and m.metadata is None), None)
            for at in (40, 44):
                block = int.from_bytes(raw[at : at + 4], "little")
                if plain is None:
                    return None
                try:
                    found = self._allocations(self.entry(plain << _PARTITION_BITS | block), plain)
                    return PartitionMap(start, length, {}, tuple(found))
                except DecodeError:
                    continue
        return None

    def _spared(self, raw: bytes, start: int) -> dict[int, int]:
        packet = int.from_bytes(raw[40:42], "little")
        for n in range(min(raw[42], 4)):
            place = int.from_bytes(raw[48 + 4 * n : 52 + 4 * n], "little")
            size = min(int.from_bytes(raw[44:48], "little"), 1 << 20)
            try:
                table = self.bytes.read(place * self.sector, max(size, 56), "UDF sparing table")
            except DecodeError:
                continue
            if b"Sparing" not in table[17:40]:
                continue
            found = dict[int, int]()
            for at in range(56, min(56 + 8 * int.from_bytes(table[48:50], "little"), len(table) - 7), 8):
                was, now = (int.from_bytes(table[place : place + 4], "little") for place in (at, at + 4))
                if was < 0xFFFFFFF0:
                    found |= {was + step: now + step for step in range(packet)}
            return found
        return {}

    # --- blocks, file entries

    def address(self, partition: int, block: int) -> int:
        """Byte of the volume of a block of a partition. Raises DecodeError."""
        own = self.maps[partition] if partition < len(self.maps) else None
        if own is None:
            raise DecodeError("UDF block", at=0, expected="a partition that is read", got=partition)
        if own.metadata is not None:
            left = block * self.block
            for part in own.metadata:
                if left < part.length:
                    return self.address(part.partition, part.block) + left
                left -= part.length
            raise DecodeError("UDF block", at=0, expected="inside the metadata", got=block)
        if block >= own.length:
            raise DecodeError("UDF block", at=0, expected=f"below {own.length}", got=block)
        if block in own.spared:
            return own.spared[block] * self.sector
        return own.start * self.sector + block * self.block

    def read_block(self, partition: int, block: int, what: str) -> bytes:
        """Raises DecodeError."""
        return self.bytes.read(self.address(partition, block), self.block, what)

    def entry(self, number: int) -> FileEntry:
        """Raises DecodeError."""
        partition, block = number >> _PARTITION_BITS, number & (1 << _PARTITION_BITS) - 1
        return u.read_entry(self.read_block(partition, block, "UDF file entry"), partition, f"UDF file entry {block}")

    def _allocations(self, own: FileEntry, partition: int) -> Iterator[Allocation]:
        """All of a file's, those in further blocks too. Raises DecodeError."""
        waiting, seen = list(own.allocations), 0
        while waiting:
            now = waiting.pop(0)
            if now.kind != u.POINTER:
                yield now
                continue
            raw = self.read_block(now.partition, now.block, "UDF allocations")
            u.tag_of(raw, "UDF allocations")
            seen += 1
            if seen > _MOST_CHAIN:
                raise DecodeError("UDF allocations", at=0, expected=f"at most {_MOST_CHAIN} blocks", got="more")
            length = int.from_bytes(raw[20:24], "little")
            waiting = list(u.read_allocations(raw[24 : 24 + length], own.form, partition))

    # --- files and folders

    def made(self, number: int, path: str) -> Node:
        own = self.entry(number)
        is_folder = own.type == u.FOLDER
        link = u.link_of(self._whole(number, own)) if own.type == u.LINK else ""
        return Node(number, path, is_folder, 0 if is_folder else own.size, own.modified, link=link)

    def _whole(self, number: int, own: FileEntry) -> bytes:
        """All bytes of a folder or a link. Raises DecodeError."""
        if own.size > _MOST_FOLDER:
            raise DecodeError("UDF folder", at=0, expected=f"at most {_MOST_FOLDER} bytes", got=own.size)
        parts = list[bytes]()
        for piece in self.content(Node(number, "", False, own.size)):
            if isinstance(piece, Hole):
                raise DecodeError("UDF folder", at=sum(map(len, parts)), expected="bytes that were read", got=piece.why)
            parts.append(piece)
        return b"".join(parts)

    def listed(self, number: int) -> Iterator[UdfName]:
        """Names of a folder. Raises DecodeError, after those that could be read."""
        own = self.entry(number)
        if own.type == u.FOLDER:
            yield from (n for n in u.names_of(self._whole(number, own), "UDF folder") if n.is_listed)

    def entries(self, number: int) -> Iterator[tuple[str, int]]:
        for own in self.listed(number):
            name = name_of_utf16(own.name.encode("utf-16-le", "surrogatepass"))
            yield name, own.partition << _PARTITION_BITS | own.block

    def stretches(self, number: int) -> Iterator[FileStretch]:
        own = self.entry(number)
        if own.inside is not None:
            yield FileStretch(0, len(own.inside), None, own.inside)
            return
        at = 0
        for part in self._allocations(own, number >> _PARTITION_BITS):
            length = part.length
            place = None
            if part.kind == 0:
                place = self.address(part.partition, part.block)
                self.address(part.partition, part.block + (length - 1) // self.block)
            yield FileStretch(at, length, place)
            at += length

    def own_place(self, at: int) -> Place | None:
        if _MARKS <= at < _MARKS + 16 * 2048 or at // self.sector == _ANCHOR:
            return Place(say("where.own-file"), None, CATALOGUE)
        return None

    @cached_property
    def _free(self) -> tuple[int, bytes]:
        """(first byte of the volume, bits of free blocks from there) of the plain partition; no bits where they are not
        known."""
        own = next((m for m in self.maps if m is not None and m.metadata is None and m.free is not None), None)
        if own is None or own.free is None or own.free.length > _MOST_FOLDER:
            return 0, b""
        try:
            at = self.address(own.free.partition, own.free.block)
            raw = self.bytes.read(at, own.free.length, "UDF space bitmap")
        except DecodeError:
            return 0, b""
        size = int.from_bytes(raw[20:24], "little")
        return own.start * self.sector, raw[24 : 24 + size] if raw[:2] == _BITMAP_TAG else b""

    def rest_place(self, at: int) -> Place:
        """Free where the bitmap says so; else the volume's own."""
        start, bits = self._free
        block = (at - start) // self.block
        if block >= 0 and block >> 3 < len(bits) and bits[block >> 3] >> (block & 7) & 1:
            return super().rest_place(at)
        return Place(say("where.own-file"), None, CATALOGUE)
