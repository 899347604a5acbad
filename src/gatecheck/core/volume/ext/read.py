"""ext2, ext3, ext4: superblock, groups, inodes, extents and block lists, folders, inline data.

Linux, Documentation/filesystems/ext4 (on-disk layout). Reads over `Sectors`; the journal is not replayed: what a
journal still holds is named by the check."""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from functools import lru_cache

import numpy as np

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.ext.groups import find_copy, has_super, read_groups, table_blocks
from gatecheck.core.volume.ext.layout import (
    BIGALLOC,
    CHECKSUMS,
    ENCRYPTED,
    EXTENTS,
    FILETYPE,
    FLEX,
    GDT_CSUM,
    GUARDED,
    HAS_JOURNAL,
    INLINE,
    JOURNAL,
    META_BG,
    ROOT,
    WIDE,
    DirectoryEntry,
    Inode,
    Mapped,
    Super,
    parse_inode,
    read_super,
)
from gatecheck.core.volume.names import name_of_bytes
from gatecheck.core.volume.place import BOOT, CATALOGUE, FILE, NOTHING, Place
from gatecheck.core.volume.tree import HOLES, LOST, WHOLE, Bytes, Hole, Node, Run, limited
from gatecheck.core.words.said import Said, say

_EXTENT = 0xF30A
_MOST_DEPTH, _MOST_FOLDER, _MOST_RUNS, _MOST_BROKEN = 16, 1 << 30, 1 << 20, 1024
_DEEPEST = 255
_VALUE_INODE = 0x200000
_ENTRY_KINDS = (*range(8), 0xDE)
"""of an entry; the last leads the checksum at a block's end"""


class Ext:
    """Raises DecodeError where the superblock cannot be worked with; the first backup is tried where the first is
    broken."""

    def __init__(self, disk: Sectors, first: int, last: int) -> None:
        self.disk, self.first, self.last = disk, first, last
        self.bytes = Bytes(disk, first)
        self.from_backup = 0
        try:
            self.super = read_super(self.bytes.read(1024, 1024, "ext superblock"))
        except DecodeError as error:
            self.super = self._backup(error)
        own = self.super
        self.kind = (
            "ext4"
            if own.incompat & (0x40 | FLEX | WIDE) or own.ro_compat & (CHECKSUMS | GDT_CSUM | 0x8 | 0x20)
            else "ext3"
            if own.compat & HAS_JOURNAL
            else "ext2"
        )
        self.label, self.size, self.block = own.label, own.blocks * own.block, own.block
        self.groups = read_groups(own, self.table_at // self.block, self.bytes.read)
        self.inode = lru_cache(8192)(self._inode)
        self._paths: dict[int, tuple[int, str]] | None = None

    def _backup(self, error: DecodeError) -> Super:
        length = (self.disk.length or 0) * self.disk.sector - self.bytes.base
        length = min(length, (self.last - self.first + 1) * self.disk.sector)
        found = find_copy(self.bytes.read, length)
        if found is None:
            raise error
        self.from_backup = found[1]
        return found[0]

    @property
    def table_at(self) -> int:
        """Byte of the table of groups."""
        return (
            self.from_backup // self.block if self.from_backup else self.super.super_at(0)
        ) * self.block + self.block

    def has_super(self, group: int) -> bool:
        """Does a copy of the superblock stand in this group."""
        return has_super(self.super, group)

    # --- inodes

    def _inode(self, number: int) -> Inode:
        """Raises DecodeError where there is none, or it was not read."""
        own = self.super
        if not 1 <= number <= own.inodes:
            raise DecodeError("inode", at=0, expected=f"1 to {own.inodes}", got=number)
        group, place = divmod(number - 1, own.inodes_per_group)
        if group >= len(self.groups) or not 0 < self.groups[group].inode_table < own.blocks:
            raise DecodeError(f"inode {number}", at=0, expected="a table on the volume", got=f"group {group}")
        raw = self.bytes.read(
            self.groups[group].inode_table * own.block + place * own.inode_size, own.inode_size, f"inode {number}"
        )
        return parse_inode(raw, number)

    def inodes(self) -> Iterator[Inode]:
        """Every inode that is or was in use, group by group; what cannot be read is left out."""
        own, chunk = self.super, 1 << 18
        for group, each in enumerate(self.groups):
            table = each.inode_table
            if each.flags & 1 or not 0 < table < own.blocks:  # never initialised
                continue
            total = own.inodes_per_group * own.inode_size
            for at in range(0, total, chunk):
                span, skip = self.bytes.span(table * own.block + at, min(chunk, total - at))
                for place in range(0, min(chunk, total - at), own.inode_size):
                    raw = span.data[skip + place : skip + place + own.inode_size]
                    if not (raw[0] or raw[1]):
                        continue
                    if span.missing and span.lba + (skip + place) // span.sector in span.missing:
                        continue
                    number = group * own.inodes_per_group + (at + place) // own.inode_size + 1
                    yield parse_inode(raw, number)

    # --- where a file's bytes lie

    def mapped(self, inode: Inode, *, whole: bool = False) -> Iterator[Mapped]:
        """`whole`: what lies past its size too. Raises DecodeError where its tree cannot be followed."""
        if inode.flags & INLINE or (inode.is_link and inode.size < 60 and not inode.flags & EXTENTS):
            return
        if inode.flags & EXTENTS:
            yield from self._extents(inode.body, inode.number, 0, set())
        else:
            yield from self._listed(inode, whole)

    def _extents(self, node: bytes, number: int, depth: int, seen: set[int]) -> Iterator[Mapped]:
        magic, entries, most, level = struct.unpack_from("<4H", node, 0)
        if (
            magic != _EXTENT
            or entries > most
            or 12 + 12 * entries > len(node)
            or depth > _MOST_DEPTH
            or level > _MOST_DEPTH
        ):
            raise DecodeError(
                f"inode {number} extents",
                at=0,
                expected="F30A and entries within the node",
                got=f"{magic:04X}, {entries} of {most}",
            )
        for n in range(entries):
            at = 12 + 12 * n
            if level == 0:
                first, length, high, low = struct.unpack_from("<IHHI", node, at)
                block = high << 32 | low
                yield Mapped(
                    first, block if length <= 0x8000 else None, length if length <= 0x8000 else length - 0x8000
                )
            else:
                _, low, high = struct.unpack_from("<IIH", node, at)
                child = high << 32 | low
                if child in seen or not 0 < child < self.super.blocks:
                    raise DecodeError(
                        f"inode {number} extents", at=at, expected="a block on the volume, once", got=child
                    )
                seen.add(child)
                yield from self._extents(
                    self.bytes.read(child * self.block, self.block, f"inode {number} extents"), number, depth + 1, seen
                )

    def _listed(self, inode: Inode, whole: bool) -> Iterator[Mapped]:
        """The block lists of ext2 and ext3: twelve direct, then one, two and three steps."""
        numbers = struct.unpack("<15I", inode.body)
        per = self.block // 4
        need = 12 + per + per**2 + per**3 if whole else -(-inode.size // self.block)
        seen: set[int] = set()

        def lists() -> Iterator[tuple[int, Sequence[int]]]:
            yield 0, numbers[:12]
            first = 12
            for level, top in enumerate(numbers[12:], 1):
                yield from self._below(top, level, first, need, seen, inode.number)
                first += per**level

        run: list[int] = []
        for place, own in lists():
            for block in own[: max(0, need - place)]:
                if block and run and run[1] + run[2] == block and run[0] + run[2] == place:
                    run[2] += 1
                else:
                    if run:
                        yield Mapped(*run)
                    run = [place, block, 1] if block else []
                place += 1
        if run:
            yield Mapped(*run)

    def _below(
        self, block: int, level: int, first: int, need: int, seen: set[int], number: int
    ) -> Iterator[tuple[int, Sequence[int]]]:
        """(place in the file of the first, blocks) of the lists below this block, as far as the file needs them.
        `first`: the place that the first of them has."""
        if not block or first >= need:
            return
        if block >= self.super.blocks or block in seen:
            raise DecodeError(f"inode {number} blocks", at=0, expected=f"below {self.super.blocks}, once", got=block)
        seen.add(block)
        per = self.block // 4
        own = struct.unpack(f"<{per}I", self.bytes.read(block * self.block, self.block, f"inode {number} blocks"))
        if level == 1:
            yield first, own
            return
        for place, child in enumerate(own):
            yield from self._below(child, level - 1, first + place * per ** (level - 1), need, seen, number)

    def tree_blocks(self, inode: Inode) -> list[int]:
        """The blocks that only tell where others are."""
        found: list[int] = []
        if inode.flags & EXTENTS:
            waiting, seen = [inode.body], set[int]()
            while waiting and len(found) < _MOST_RUNS:
                node = waiting.pop()
                magic, entries, _, level = struct.unpack_from("<4H", node, 0)
                if magic != _EXTENT or not level:
                    continue
                for n in range(min(entries, (len(node) - 12) // 12)):
                    _, low, high = struct.unpack_from("<IIH", node, 12 + 12 * n)
                    child = high << 32 | low
                    if 0 < child < self.super.blocks and child not in seen:
                        seen.add(child)
                        found.append(child)
                        waiting.append(self.bytes.read(child * self.block, self.block, "extents"))
            return found
        if inode.flags & INLINE or (inode.is_link and inode.size < 60):
            return found
        per = self.block // 4
        for level, top in enumerate(struct.unpack("<15I", inode.body)[12:], 1):
            line = [top] if top else []
            for step in range(level):
                found += line
                if step + 1 < level:
                    line = [
                        c
                        for b in line
                        if 0 < b < self.super.blocks
                        for c in struct.unpack(f"<{per}I", self.bytes.read(b * self.block, self.block, "blocks"))
                        if c
                    ]
        return found

    def pieces(self, inode: Inode) -> Iterator[bytes | Hole]:
        yield from limited(self._pieces(inode), inode.size)

    def _pieces(self, inode: Inode) -> Iterator[bytes | Hole]:
        if inode.flags & INLINE:
            yield inode.body + self._inline_rest(inode)
            return
        if inode.is_link and inode.size < 60 and not inode.flags & EXTENTS:
            yield inode.body
            return
        at = 0
        try:
            for run in sorted(self.mapped(inode), key=lambda r: r.first):
                start = run.first * self.block
                if start > at:
                    yield from _zeros(min(start, inode.size) - at)
                    at = start
                length = min(run.count * self.block, max(0, inode.size - at))
                if run.block is None:
                    yield from _zeros(length)
                elif run.block + run.count > self.super.blocks:
                    yield Hole(length, "beyond the volume's end")
                else:
                    yield from self.bytes.pieces(run.block * self.block, length)
                at += run.count * self.block
        except DecodeError as error:
            if inode.size > at:
                yield Hole(inode.size - at, str(error))

    def _inline_rest(self, inode: Inode) -> bytes:
        """The part of an inline file that stands among the inode's extended attributes, under the name `data` of the
        system's space."""
        extra = int.from_bytes(inode.raw[128:130], "little") if len(inode.raw) > 130 else 0
        start = 128 + extra
        if inode.raw[start : start + 4] != b"\0\0\x02\xea":
            return b""
        at, base = start + 4, start + 4
        while at + 16 <= len(inode.raw) and inode.raw[at : at + 4] != bytes(4):
            length, index, value_at, _, size = struct.unpack_from("<BBHII", inode.raw, at)
            if index == 7 and inode.raw[at + 16 : at + 16 + length] == b"data":
                return inode.raw[base + value_at : base + value_at + size]
            at += 16 + (length + 3 & ~3)
        return b""

    # --- folders

    def inline_parts(self, inode: Inode) -> tuple[bytes, bytes]:
        """The two lists of entries of a folder that lies in its inode: behind the number of the one above, and among
        the attributes."""
        return inode.body[4:], self._inline_rest(inode)

    def entries(self, inode: Inode, *, tolerant: bool = False) -> Iterator[DirectoryEntry]:
        """Entries of a folder, in the order of its blocks. Raises DecodeError where a block is broken or was not read;
        `tolerant`: such a block takes only itself away, as long as there are not very many."""
        if inode.size > min(_MOST_FOLDER, self.super.blocks * self.block):
            raise DecodeError(
                f"folder inode {inode.number}",
                at=0,
                expected="at most 1 GiB, and no more than its volume",
                got=inode.size,
            )
        if inode.flags & INLINE:
            for raw in self.inline_parts(inode):
                yield from self._parsed(raw, inode.number)
            return
        broken = 0
        for at, raw, why in self._blocks(inode):
            try:
                if why:
                    raise DecodeError(f"folder inode {inode.number}", at=at, expected="bytes that were read", got=why)
                yield from self._parsed(raw, inode.number)
            except DecodeError:
                broken += 1
                if not tolerant or broken > _MOST_BROKEN:
                    raise
                if not why:
                    yield from self._behind_break(raw)

    def _blocks(self, inode: Inode) -> Iterator[tuple[int, bytes, str]]:
        """(byte of the folder, a block of it, why something of it is missing)."""
        at, raw, why = 0, b"", ""
        for piece in self.pieces(inode):
            place, end = 0, piece.length if isinstance(piece, Hole) else len(piece)
            while place < end:
                take = min(end - place, self.block - len(raw))
                if isinstance(piece, Hole):
                    raw, why = raw + bytes(take), piece.why or "nothing"
                else:
                    raw += piece[place : place + take]
                place += take
                if len(raw) == self.block:
                    yield at, raw, why
                    at, raw, why = at + self.block, b"", ""
        if raw:
            yield at, raw, why

    def _parsed(self, raw: bytes, number: int) -> Iterator[DirectoryEntry]:
        at = 0
        typed = self.super.incompat & FILETYPE
        while at + 8 <= len(raw):
            inode, length, letters, kind = struct.unpack_from("<IHBB", raw, at)
            if length == 0 and self.block == 65536:
                length = 65536
            if length < 8 or length & 3 or at + length > len(raw) or letters + 8 > length:
                raise DecodeError(
                    f"folder inode {number}",
                    at=at,
                    expected="an entry within its block",
                    got=f"{length} bytes, {letters} letters",
                )
            if inode and letters:
                name = raw[at + 8 : at + 8 + letters]
                if name not in (b".", b".."):
                    yield DirectoryEntry(inode, name_of_bytes(name), kind if typed else 0)
            at += length

    def _behind_break(self, raw: bytes) -> Iterator[DirectoryEntry]:
        """Entries of a folder's block behind its first broken one: from the first place whose entries lead exactly to
        the block's end."""
        at = 0
        while at + 8 <= len(raw) and self._step(raw, at):
            at += self._step(raw, at)
        typed = self.super.incompat & FILETYPE
        for start in range(at + 4, len(raw) - 8, 4):
            found, place = [], start
            while place + 8 <= len(raw) and (step := self._step(raw, place)):
                inode, _, letters, kind = struct.unpack_from("<IHBB", raw, place)
                if inode and letters:
                    found.append((inode, raw[place + 8 : place + 8 + letters], kind if typed else 0))
                place += step
            if place == len(raw) and found:
                yield from (DirectoryEntry(i, name_of_bytes(n), k) for i, n, k in found if n not in (b".", b".."))
                return

    def _step(self, raw: bytes, at: int) -> int:
        """Length of an entry that can be one, or 0."""
        inode, length, letters, kind = struct.unpack_from("<IHBB", raw, at)
        name = raw[at + 8 : at + 8 + letters]
        is_one = (
            length >= 8 + letters
            and not length & 3
            and at + length <= len(raw)
            and inode <= self.super.inodes
            and (letters or not inode)
            and kind in _ENTRY_KINDS
            and not (b"\0" in name or b"/" in name)
        )
        return length if is_one else 0

    def nodes(self, *, deleted: bool = False) -> Iterator[Node]:
        """Every file and folder that the folders lead to; what was deleted, where its inode still tells of it, on
        request."""
        if deleted:
            for inode in self.inodes():
                if (
                    inode.deleted_at
                    and not inode.links
                    and inode.size
                    and inode.is_regular
                    and inode.number >= self.super.first_inode
                ):
                    yield Node(inode.number, f"?/inode {inode.number}", False, inode.size, float(inode.modified), True)
            return
        seen = {ROOT}
        yield from self._below_folder(ROOT, "", seen)
        own = self.super
        if len(seen) < own.inodes - own.free_inodes - (own.first_inode - 2):  # more are in use than the folders lead to
            yield from self._nameless(seen)

    def _below_folder(self, top: int, top_path: str, seen: set[int]) -> Iterator[Node]:
        waiting, walked = [(top, top_path, 0)], {top}
        while waiting:
            number, path, depth = waiting.pop()
            try:
                for entry in self.entries(self.inode(number), tolerant=True):
                    seen.add(entry.inode)
                    node = self._node(entry, f"{path}/{entry.name}" if path else entry.name)
                    if node is None:
                        continue
                    yield node
                    if node.is_folder and entry.inode not in walked and depth < _DEEPEST:
                        walked.add(entry.inode)
                        waiting.append((entry.inode, node.path, depth + 1))
            except DecodeError:
                continue

    def _nameless(self, seen: set[int]) -> Iterator[Node]:
        """Files and folders in use that no folder leads to, under their numbers; what such a folder leads to has its
        names."""
        kept = {int.from_bytes(self.super.raw[at : at + 4], "little") for at in (0x240, 0x244, 0x26C, 0x280)}
        alone = {
            i.number: i.is_folder
            for i in self.inodes()
            if i.links
            and not i.deleted_at
            and i.number not in seen
            and i.number not in kept
            and i.number >= self.super.first_inode
            and not i.flags & _VALUE_INODE
        }
        led: set[int] = set()
        for number in [n for n, is_folder in alone.items() if is_folder]:
            try:
                led |= {e.inode for e in self.entries(self.inode(number), tolerant=True) if e.inode != number}
            except DecodeError:
                continue
        for number, is_folder in alone.items():
            if number in led:
                continue
            node = self._node(DirectoryEntry(number, f"inode {number}", 0), f"?/inode {number}")
            if node is not None:
                yield node
                if is_folder:
                    yield from self._below_folder(number, node.path, seen)

    def _node(self, entry: DirectoryEntry, path: str) -> Node | None:
        try:
            inode = self.inode(entry.inode)
        except DecodeError:
            return None
        if not (inode.is_folder or inode.is_regular or inode.is_link):
            return None
        link = ""
        if inode.is_link:
            link = (
                b"".join(p for p in self.pieces(inode) if isinstance(p, bytes))
                .split(b"\0")[0]
                .decode("utf-8", "backslashreplace")
                if inode.size <= 4096
                else "?"
            )
        return Node(
            inode.number,
            path,
            inode.is_folder,
            0 if inode.is_folder or inode.is_link else inode.size,
            float(inode.modified),
            False,
            link,
            "encrypted by the system" if inode.flags & ENCRYPTED else "",
        )

    def find(self, path: str) -> Node | None:
        """By path, heeding case."""
        number = ROOT
        parts = [p for p in path.split("/") if p]
        node: Node | None = Node(ROOT, "", True, 0)
        for place, part in enumerate(parts):
            try:
                entry = next((e for e in self.entries(self.inode(number)) if e.name == part), None)
            except DecodeError:
                return None
            if entry is None:
                return None
            number = entry.inode
            node = self._node(entry, "/".join(parts[: place + 1]))
            if node is not None and node.link and place + 1 < len(parts):
                target = node.link if node.link.startswith("/") else "/".join([*parts[:place], node.link])
                return self.find("/".join([target.strip("/"), *parts[place + 1 :]])) if len(parts) < 64 else None
        return node

    def content(self, node: Node) -> Iterator[bytes | Hole]:
        yield from self.pieces(self.inode(node.id))

    def shape(self, node: Node) -> str:
        """whole, holes or lost, by where its bytes are said to lie."""
        try:
            inode = self.inode(node.id)
            runs = list(self.mapped(inode))
        except DecodeError:
            return LOST
        beyond = any(r.block is not None and r.block + r.count > self.super.blocks for r in runs)
        return HOLES if beyond else LOST if node.deleted and not runs and not inode.flags & INLINE else WHOLE

    def runs(self, node: Node) -> Sequence[Run]:
        inode = self.inode(node.id)
        return [
            Run(self.bytes.base + m.block * self.block if m.block is not None else None, m.count * self.block)
            for m in self.mapped(inode)
        ]

    # --- what lives where

    def fixed_blocks(self) -> Iterator[tuple[int, int, str]]:
        """(first block, blocks, what) of superblocks, group descriptors, maps and inode tables."""
        own = self.super
        reserved = int.from_bytes(own.raw[206:208], "little")
        gdt = table_blocks(own)
        table = -(-own.inodes_per_group * own.inode_size // own.block)
        guard = int.from_bytes(own.raw[0x168:0x170], "little")
        if own.incompat & GUARDED and 0 < guard < own.blocks:
            yield guard, 1, "groups"
        per, first_meta = own.block // own.group_size, table_blocks(own)
        for number, each in enumerate(self.groups):
            first = own.first_block + number * own.per_group
            if self.has_super(number):
                copy = own.super_at(number)
                yield copy, 1, "superblock" if number == 0 else "superblock-copy"
                yield copy + 1, gdt + reserved, "groups"
            if own.incompat & META_BG and number // per >= first_meta and number % per in (0, 1, per - 1):
                yield (own.super_at(number) + 1 if self.has_super(number) else first), 1, "groups"
            for place, count, name in (
                (each.block_map, 1, "block-map"),
                (each.inode_map, 1, "inode-map"),
                (each.inode_table, table, "inodes"),
            ):
                if 0 < place < own.blocks:
                    yield place, count, name

    def bitmap(self) -> np.ndarray:
        """One byte a block, 1 where the volume's own map says that it is used; blocks before the first are used. Raises
        DecodeError."""
        own = self.super
        out = np.zeros(own.blocks, np.uint8)
        out[: own.first_block] = 1
        for number, each in enumerate(self.groups):
            first = own.first_block + number * own.per_group
            count = min(own.per_group, own.blocks - first)
            if each.flags & 2 and own.ro_compat & (GDT_CSUM | CHECKSUMS):
                continue  # never initialised: only its own structures, which the caller knows
            raw = self.bytes.read(each.block_map * own.block, -(-count // 8), f"block map of group {number}")
            out[first : first + count] = np.unpackbits(np.frombuffer(raw, np.uint8), bitorder="little")[:count]
        return out

    def places(self, lbas: Sequence[int]) -> list[Place]:
        wanted = {lba: (lba - self.first) * self.disk.sector // self.block for lba in lbas}
        found: dict[int, Place] = {}
        blocks = set(wanted.values())
        for start, count, name in self.fixed_blocks():
            for block in [b for b in blocks if start <= b < start + count]:
                found[block] = Place(Said(f"where.ext-{name}"), None, CATALOGUE)
        left = blocks - set(found)
        if left and any(not 0 <= b < self.super.blocks for b in left):
            for block in [b for b in left if b >= self.super.blocks]:
                found[block] = Place(say("where.after-volume"), None, NOTHING)
        try:
            used = self.bitmap() if not self.super.ro_compat & BIGALLOC else np.ones(self.super.blocks, np.uint8)
            for block in left - set(found):
                if not used[block]:
                    found[block] = Place(say("where.free"), None, NOTHING)
        except DecodeError:
            pass
        left -= set(found)
        if left:
            self._owned(left, found)
        first_sectors = 1024 // self.disk.sector
        out = []
        for lba in lbas:
            if lba - self.first < first_sectors and self.block >= 1024 and wanted[lba] == 0:
                out.append(Place(Said("where.boot-sector", {"kind": self.kind}), None, BOOT))
            else:
                out.append(found.get(wanted[lba], Place(say("where.lost-cluster"), None, FILE)))
        return out

    def _owned(self, left: set[int], found: dict[int, Place]) -> None:
        holders: dict[int, tuple[int, bool]] = {}
        waiting = np.array(sorted(left))
        for inode in self.inodes():
            if not inode.links and inode.number not in (JOURNAL,):
                continue
            try:
                runs = [(m.block, m.count) for m in self.mapped(inode) if m.block is not None] + [
                    (b, 1) for b in self.tree_blocks(inode)
                ]
            except DecodeError:
                continue
            for start, count in runs:
                low, high = np.searchsorted(waiting, start), np.searchsorted(waiting, start + count)
                for block in waiting[low:high]:
                    holders[int(block)] = (inode.number, inode.is_folder)
        names = {}
        wanted = {number for number, _ in holders.values()}
        if wanted:
            names = {n.id: n.path for n in self.nodes() if n.id in wanted}
        for block, (number, is_folder) in holders.items():
            if number == JOURNAL:
                found[block] = Place(say("where.journal"), None, CATALOGUE)
            elif number == ROOT:
                found[block] = Place(say("where.root-folder"), "/", CATALOGUE)
            elif number in names:
                found[block] = Place(
                    say("where.folder") if is_folder else say("where.file"),
                    names[number],
                    CATALOGUE if is_folder else FILE,
                )
            elif number < self.super.first_inode:
                found[block] = Place(say("where.own-file"), None, CATALOGUE)


def _zeros(count: int) -> Iterator[bytes]:
    while count > 0:
        yield bytes(min(count, 1 << 20))
        count -= 1 << 20
