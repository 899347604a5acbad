"""Makes HFS Plus volumes, for practice machines and tests: files and folders by path, without journal.

Technical Note TN1150, "HFS Plus Volume Format". Names are ASCII: their order in the catalogue is then that of their
small letters.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Mapping, Sequence

from gatecheck.core.volume.hfsplus import layout as h
from gatecheck.core.volume.tree import nested

SECTOR, BLOCK = 512, 4096
_DATE = 3_850_000_000
"""of everything: in the year 2026"""
_EXTENTS_NODES = _ATTRIBUTES_NODES = 16
_INDEX_ROOM = 64
"""nodes of the catalogue beyond those that it needs now"""
_MODE_FOLDER, _MODE_FILE = 0o40755, 0o100644
_NODE_HEAD, _MAP_AT, _SPARE = 14, 248, 128


def hfsplus_volume(
    files: Mapping[str, bytes], *, sectors: int, label: str = "Volume", is_sensitive: bool = False
) -> dict[int, bytes]:
    """Sector of the volume -> bytes from there; all else is zeros. Raises ValueError where it is too small for its
    files."""
    return _Builder(sectors * SECTOR // BLOCK, label, is_sensitive).built(files)


class _Builder:
    def __init__(self, blocks: int, label: str, is_sensitive: bool) -> None:
        self.blocks, self.label, self.is_sensitive = blocks, label, is_sensitive
        self.content: dict[int, bytes] = {0: bytes(h.HEADER_AT)}
        self.following, self.number = 1, h.FIRST_USER
        self.records: list[tuple[tuple[int, str], bytes, bytes]] = []
        self.files = self.folders = 0

    def _take(self, data: bytes) -> tuple[int, int]:
        """(first, count) of blocks that hold these bytes."""
        first, count = self.following, -(-len(data) // BLOCK)
        self.following += count
        if self.following >= self.blocks:
            raise ValueError(f"HFS Plus volume: expected room for {self.following} blocks, got {self.blocks}")
        if count:
            self.content[first * BLOCK // SECTOR] = data.ljust(count * BLOCK, b"\0")
        return first, count

    def built(self, files: Mapping[str, bytes]) -> dict[int, bytes]:
        bitmap_blocks = -(-self.blocks // 8 // BLOCK) or 1
        bitmap = (self.following, bitmap_blocks)
        self.following += bitmap_blocks
        self._folder(h.ROOT_PARENT, self.label, h.ROOT, nested(files))
        kind = 0xBC if self.is_sensitive else 0xCF
        forks = [bitmap, self._take(_tree([], _EXTENTS_NODES, 10, 2, 0xCF))]
        rows = [(key, data) for _, key, data in sorted(self.records, key=lambda r: r[0])]
        forks.append(self._take(_tree(rows, 0, 516, 6, kind)))
        forks.append(self._take(_tree([], _ATTRIBUTES_NODES, 266, 6, 0xCF)))
        marks = bytearray(bitmap_blocks * BLOCK)
        for block in (*range(self.following), self.blocks - 1):
            marks[block // 8] |= 0x80 >> block % 8
        self.content[bitmap[0] * BLOCK // SECTOR] = bytes(marks)
        head = self._header(forks)
        self.content[h.HEADER_AT // SECTOR] = head
        self.content[(self.blocks * BLOCK - h.HEADER_AT) // SECTOR] = head
        return self.content

    def _header(self, forks: Sequence[tuple[int, int]]) -> bytes:
        raw = bytearray(h.HEADER_SIZE)
        mark, version = (b"HX", 5) if self.is_sensitive else (b"H+", 4)
        struct.pack_into(">2sHI4sI", raw, 0, mark, version, h.UNMOUNTED, b"10.0", 0)
        struct.pack_into(">4I2I", raw, 16, _DATE, _DATE, 0, _DATE, self.files, self.folders)
        free = self.blocks - self.following - 1
        counts = (BLOCK, self.blocks, free, self.following, 65536, 65536, self.number, 1)
        struct.pack_into(">8IQ", raw, 40, *counts, 1)
        for at, (first, count) in zip((112, 192, 272, 352), forks, strict=True):
            struct.pack_into(">QIIII", raw, at, count * BLOCK, BLOCK, count, first, count)
        return bytes(raw)

    def _add(self, parent: int, name: str, data: bytes) -> None:
        order = name if self.is_sensitive else name.lower()
        self.records.append(((parent, order), _key(parent, name), data))

    def _folder(self, parent: int, name: str, number: int, below: Mapping[str, object]) -> None:
        mode = struct.pack(">IIBBHI", 0, 0, 0, 0, _MODE_FOLDER, 0)
        data = struct.pack(">HHII4II", h.FOLDER_RECORD, 0, len(below), number, *[_DATE] * 4, 0) + mode + bytes(40)
        self._add(parent, name, data)
        self._add(number, "", _thread(h.FOLDER_THREAD, parent, name))
        for own, inner in below.items():
            self.number += 1
            if isinstance(inner, bytes):
                self._file(number, own, self.number - 1, inner)
            elif isinstance(inner, Mapping):
                self.folders += 1
                self._folder(number, own, self.number - 1, inner)

    def _file(self, parent: int, name: str, number: int, data: bytes) -> None:
        self.files += 1
        first, count = self._take(data)
        mode = struct.pack(">IIBBHI", 0, 0, 0, 0, _MODE_FILE, 1)
        fork = struct.pack(">QII", len(data), BLOCK, count) + (struct.pack(">2I", first, count) if count else bytes(8))
        raw = struct.pack(">HHII4II", h.FILE_RECORD, 2, 0, number, *[_DATE] * 4, 0) + mode + bytes(40)
        self._add(parent, name, raw + fork.ljust(80, b"\0") + bytes(80))
        self._add(number, "", _thread(h.FILE_THREAD, parent, name))


def _key(parent: int, name: str) -> bytes:
    return struct.pack(">HIH", 6 + 2 * len(name), parent, len(name)) + name.encode("utf-16-be")


def _thread(kind: int, parent: int, name: str) -> bytes:
    return struct.pack(">HHIH", kind, 0, parent, len(name)) + name.encode("utf-16-be")


def _tree(rows: Sequence[tuple[bytes, bytes]], nodes: int, longest: int, attributes: int, compares: int) -> bytes:
    """A tree's file: header node, leaves in their order, indexes above them."""
    made = [b""]
    level, height, root, first = list(rows), 1, 0, 0
    last_leaf = 0
    while level:
        start = len(made)
        groups = list(_grouped(level))
        is_leaf = height == 1
        for place, group in enumerate(groups):
            at = start + place
            following = at + 1 if place + 1 < len(groups) else 0
            before = at - 1 if place else 0
            made.append(_node(group, h.LEAF if is_leaf else h.INDEX, height, following, before))
        if is_leaf:
            first, last_leaf = start, len(made) - 1
        root = start
        level = [(g[0][0], struct.pack(">I", start + n)) for n, g in enumerate(groups)] if len(groups) > 1 else []
        height += 1
    total = nodes or len(made) + _INDEX_ROOM
    depth = height - 1
    raw = bytearray(BLOCK)
    struct.pack_into(">IIbBHH", raw, 0, 0, 0, h.HEAD, 0, 3, 0)
    numbers = (depth, root, len(rows), first, last_leaf, BLOCK, longest, total, total - len(made))
    struct.pack_into(">HIIIIHHII", raw, _NODE_HEAD, *numbers)
    struct.pack_into(">HIBBI", raw, 44, 0, total * BLOCK, 0, compares, attributes)
    for node in range(len(made)):
        raw[_MAP_AT + node // 8] |= 0x80 >> node % 8
    struct.pack_into(">4H", raw, BLOCK - 8, BLOCK - 8, _MAP_AT, _MAP_AT - _SPARE, _NODE_HEAD)
    return b"".join([bytes(raw), *made[1:]]).ljust(total * BLOCK, b"\0")


def _grouped(rows: Sequence[tuple[bytes, bytes]]) -> Iterator[list[tuple[bytes, bytes]]]:
    """Rows as they fit into nodes, a place for each beside them."""
    group, used = list[tuple[bytes, bytes]](), _NODE_HEAD + 2
    for key, data in rows:
        size = len(key) + len(data) + 2
        if group and used + size > BLOCK:
            yield group
            group, used = [], _NODE_HEAD + 2
        group.append((key, data))
        used += size
    if group:
        yield group


def _node(rows: Sequence[tuple[bytes, bytes]], kind: int, height: int, following: int, before: int) -> bytes:
    raw, at = bytearray(BLOCK), _NODE_HEAD
    struct.pack_into(">IIbBHH", raw, 0, following, before, kind, height, len(rows), 0)
    places = []
    for key, data in rows:
        places.append(at)
        raw[at : at + len(key) + len(data)] = key + data
        at += len(key) + len(data)
    for n, place in enumerate([*places, at], 1):
        struct.pack_into(">H", raw, BLOCK - 2 * n, place)
    return bytes(raw)
