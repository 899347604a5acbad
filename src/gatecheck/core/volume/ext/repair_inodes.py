"""Repairs of inodes of ext: trees that lead where no block can be, extended attributes that contradict themselves,
times of deletion, flags that no file of a kind has.

Each does what the system's own checker does: what is cut off or taken away is named as lost, what a file still holds is
not written."""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field

import numpy as np

from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.crc32c import crc32c
from gatecheck.core.volume.ext import attributes
from gatecheck.core.volume.ext import layout as e
from gatecheck.core.volume.ext.check import ExtCheck
from gatecheck.core.volume.ext.folder_blocks import begins_with_dots
from gatecheck.core.volume.ext.inode import HUGE_FILES, NOT_OF_SPECIAL, SPECIAL, flaws
from gatecheck.core.volume.ext.layout import Inode, parse_inode
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.ext.repair_names import place_of, summed_inode, with_blocks
from gatecheck.core.volume.repair_group import RepairGroup, group
from gatecheck.core.volume.tree import VolumeFinding

_MARK, _DEEPEST = 0xF30A, 5
_ENTRY, _HEAD = 12, 12
_UNWRITTEN, _USUAL_EXTRA = 0x8000, 32
_MOST_WRONG = 12
"""numbers of a list that lead off the volume"""
_MADE_BY_COUNT = ("count", "sum")
"""what is wrong of a block of attributes of which no attribute is"""
_NEEDED = ("data", "policy")
"""attributes that are not there and that only the system could make"""
_WRITTEN_AT = slice(0x30, 0x34)
"""of the superblock: when it was last written"""
Planner = Callable[[], RepairGroup | None]


def inode_groups(volume: Ext, ids: set[str]) -> list[Planner]:
    """In their order, before anything that rests on inodes."""
    return [
        lambda: _deletion_group(volume, ids),
        lambda: _flag_group(volume, ids),
        lambda: _attribute_group(volume, ids),
        lambda: _tree_group(volume, ids),
    ]


@dataclass
class KnownVolume:
    """A volume as its check sees it: findings by place, and writes that are gathered for one group."""

    volume: Ext
    wrong: dict[str, set[str]] = field(default_factory=dict)
    why: dict[str, str] = field(default_factory=dict)
    """place -> what is wrong of its attributes"""
    writes: list[tuple[int, bytes]] = field(default_factory=list)
    names: list[str] = field(default_factory=list)

    def __post_init__(self) -> None:
        def hear(found: VolumeFinding) -> None:
            self.wrong.setdefault(found.where.partition(":")[0], set()).add(found.id)
            if found.id == "attributes":
                self.why.setdefault(found.where, str(found.values.get("why", "")))

        self.own = ExtCheck(self.volume, hear, lambda _stage, _done, _of: None)
        self.own.whole()
        self.runs = self.own.claims.sorted()
        self.longest = int(self.runs[1].max(initial=0))

    def name(self, number: int) -> str:
        return self.own.names.get(number) or f"inode {number}"

    def of(self, number: int) -> set[str]:
        """Ids of what is wrong with an inode, by its number or its name."""
        return self.wrong.get(f"inode {number}", set()) | self.wrong.get(self.name(number), set())

    def is_anothers(self, block: int, number: int) -> bool:
        """Somebody else than this inode holds the block too: what stands in it is not this one's to write."""
        start, count, owner = self.runs
        for place in range(int(np.searchsorted(start, block, side="right")) - 1, -1, -1):
            if start[place] + self.longest <= block:
                return False
            if block < start[place] + count[place] and owner[place] != number:
                return True
        return False

    def inodes(self) -> Iterator[Inode]:
        for number in sorted(self.own.kinds):
            try:
                yield self.volume.inode(number)
            except DecodeError:
                continue

    def put_inode(self, inode: Inode, raw: bytes) -> None:
        at = self.volume.bytes.base + place_of(self.volume, inode.number)
        self.writes.append((at, summed_inode(self.own, inode.number, raw)))
        self.names.append(self.name(inode.number))

    def put_block(self, block: int, raw: bytes) -> None:
        self.writes.append((self.volume.bytes.base + block * self.volume.block, raw))

    def group(self, name: str, *doubts: str) -> RepairGroup | None:
        touched = tuple(dict.fromkeys(self.names))
        if not self.writes:
            return None
        return group(name, self.writes, "record", doubts=doubts, touches=touched, count=len(touched))


def _deletion_group(volume: Ext, ids: set[str]) -> RepairGroup | None:
    """An inode in use has no time of deletion, one that is not has one. Left where an entry leads to one that says it
    is deleted, for then either may be right."""
    if "deleted-noted" not in ids or "dangling" in ids:
        return None
    known, own = KnownVolume(volume), volume.super
    for inode in volume.inodes():
        number = inode.number
        if "deleted-noted" not in known.of(number) or number in known.own.broken:
            continue
        raw = bytearray(inode.raw)
        if inode.links or number == e.ROOT:
            if inode.deleted_at <= own.inodes and number not in known.own.reached:
                continue  # it may be a link of the list of files being deleted
            raw[20:24] = bytes(4)
        else:
            written = own.raw[_WRITTEN_AT]
            raw[20:24] = written if int.from_bytes(written, "little") > own.inodes else struct.pack("<I", 0xFFFFFFFF)
        known.put_inode(inode, bytes(raw))
    return known.group("deletion-time")


def _flag_group(volume: Ext, ids: set[str]) -> RepairGroup | None:
    """Flags and sizes that files of a kind cannot have, and the length of an inode's further fields."""
    if "inode" not in ids:
        return None
    known = KnownVolume(volume)
    for inode in known.inodes():
        number = inode.number
        if "inode" not in known.of(number) or known.of(number) & {"sum", "deleted-noted"}:
            continue
        raw = bytearray(inode.raw)
        if inode.mode & 0xF000 not in (e.FOLDER, e.REGULAR, e.SYMLINK) and _is_folder(volume, inode):
            raw[:2] = struct.pack("<H", e.FOLDER | inode.mode & 0xFFF)
        elif inode.mode & 0xF000 in SPECIAL and not any(inode.body[16:]):
            raw[32:36] = struct.pack("<I", inode.flags & ~NOT_OF_SPECIAL)
            raw[4:8] = bytes(4)
        elif inode.is_regular:
            raw[32:36] = struct.pack("<I", inode.flags & ~e.INDEXED)
        if not volume.super.has_other_fields:
            raw[112:116] = bytes(4)
            if not volume.super.ro_compat & HUGE_FILES:
                raw[116:118] = bytes(2)
        extra = int.from_bytes(raw[128:130], "little")
        if len(raw) > 128 and (extra < 4 or extra > len(raw) - 128 or extra & 3):
            raw[128:130] = struct.pack("<H", _extra_of(volume, bytes(raw)))
        made = parse_inode(bytes(raw), number)
        if bytes(raw) != inode.raw and not list(flaws(volume, made, is_orphan=number in known.own.orphans)):
            known.put_inode(inode, bytes(raw))
    return known.group("inode-flags")


def _is_folder(volume: Ext, inode: Inode) -> bool:
    """Its first block begins with a folder's link to itself, by its own number, and one to the folder above."""
    runs = volume.mapped(inode)
    try:
        block = next((run.block for run in runs if run.first == 0 and run.block), 0)
        if not 0 < block < volume.super.blocks:
            return False
        raw = volume.bytes.read(block * volume.block, volume.block, "folder")
    except DecodeError:
        return False
    return begins_with_dots(raw) and int.from_bytes(raw[:4], "little") == inode.number


def _extra_of(volume: Ext, raw: bytes) -> int:
    """Bytes of an inode's further fields: up to its attributes where it has some, else as the volume's others."""
    for extra in range(4, len(raw) - 128 - 4, 4):
        if int.from_bytes(raw[128 + extra :][:4], "little") == attributes.MAGIC:
            return extra
    wanted = int.from_bytes(volume.super.raw[0x15E:0x160], "little")
    return wanted if 4 <= wanted <= len(raw) - 128 and not wanted & 3 else min(_USUAL_EXTRA, len(raw) - 128)


# --- extended attributes ---------------------------------------------------------------------------------------------


def _attribute_group(volume: Ext, ids: set[str]) -> RepairGroup | None:
    """Attributes that contradict themselves are taken away; a block of them whose sum or count of holders alone is
    wrong gets the right one."""
    if "attributes" not in ids or volume.super.incompat & attributes.VALUE_INODES:
        return None
    known, loses = KnownVolume(volume), False
    for inode in known.inodes():
        why = known.why.get(f"inode {inode.number}") or known.why.get(known.name(inode.number), "")
        if not why or why in _NEEDED or inode.number in known.own.broken:
            continue
        block = attributes.block_of(volume.super, inode, is_wide=bool(volume.super.incompat & e.WIDE))
        if why in _MADE_BY_COUNT and block in known.own.attribute_blocks:
            raw, holders = known.own.attribute_blocks[block]
            known.put_block(block, _summed_block(known.own, block, raw, len(holders)))
            known.names.append(known.name(inode.number))
            continue
        loses = _without_attributes(known, inode, block) or loses
    return known.group("attributes", *(("attributes",) if loses else ()))


def _summed_block(own: ExtCheck, block: int, raw: bytes, holders: int) -> bytes:
    out = bytearray(raw)
    out[4:8] = struct.pack("<I", holders)
    if own.sums:
        out[16:20] = bytes(4)
        out[16:20] = struct.pack("<I", crc32c(crc32c(own.seed, struct.pack("<Q", block)), bytes(out)))
    return bytes(out)


def _without_attributes(known: KnownVolume, inode: Inode, block: int) -> bool:
    """Take away what is broken of them: those in the inode, or the block; true where something was."""
    own, raw = known.own, bytearray(inode.raw)
    start, end = attributes.in_inode(inode)
    in_record = bool(attributes.flaw_in_inode(own.super, inode))
    if in_record and not inode.flags & e.INLINE:
        raw[start:end] = bytes(end - start)
    kept = own.attribute_blocks.get(block, (b"", []))[0]
    is_broken = bool(block) and (
        not kept
        or not own.super.compat & attributes.ATTRIBUTES
        or bool(attributes.block_flaw(own.super, own.seed, block, kept))
        or block >= own.super.blocks
    )
    if is_broken:
        raw[104:108] = bytes(4)
        if not own.super.has_other_fields:
            raw[118:120] = bytes(2)
    elif not in_record and raw[118:120] != b"\0\0" and not own.super.incompat & e.WIDE:
        raw[118:120] = bytes(2)  # a place that no block of this volume can have
    if bytes(raw) == inode.raw:
        return False
    known.put_inode(inode, bytes(raw))
    return in_record or is_broken


# --- trees of extents and lists of blocks ----------------------------------------------------------------------------


def _tree_group(volume: Ext, ids: set[str]) -> RepairGroup | None:
    """What leads to no block of the volume is taken out of a file's tree; the rest of it stays as it is."""
    if not ids & {"extents", "beyond"} or volume.super.ro_compat & e.BIGALLOC:
        return None
    known, records = KnownVolume(volume), dict[int, bytes]()
    for inode in known.inodes():
        number = inode.number
        if not known.of(number) & {"extents", "beyond"} or number in known.own.broken or inode.flags & e.INLINE:
            continue
        if number < volume.super.first_inode and number != e.ROOT:
            continue  # the volume's own files are no longer what they are with a block less
        if inode.is_link and inode.size < 60 and not inode.flags & e.EXTENTS:
            continue
        made: list[tuple[int, bytes]] = []
        if inode.flags & e.EXTENTS:
            body = _cut_node(known, inode, inode.body, None, 0, {0}, made) or _empty_node()
        else:
            body = _cut_lists(known, inode, made)
        if body != inode.body or made:
            for block, raw in made:
                known.put_block(block, raw)
            records[number] = inode.raw[:40] + body + inode.raw[100:]
    for number, raw in _counted(known, records).items():
        known.put_inode(volume.inode(number), raw)
    return known.group("cut", "shortened")


def _counted(known: KnownVolume, records: Mapping[int, bytes]) -> dict[int, bytes]:
    """The inodes' records with the number of blocks that they hold by now."""
    volume = known.volume
    base = volume.bytes.base
    cut = [(base + place_of(volume, n), summed_inode(known.own, n, raw)) for n, raw in records.items()]
    after = KnownVolume(Ext(Overlay(volume.disk, known.writes + cut), volume.first, volume.last)).own
    counted = dict(records)
    for number, raw in records.items():
        if number in after.right_bytes:
            counted[number] = with_blocks(volume, raw, after.right_bytes[number]) or raw
    return counted


def _empty_node() -> bytes:
    return struct.pack("<4HI", _MARK, 0, 4, 0, 0) + bytes(48)


def _cut_node(
    known: KnownVolume,
    inode: Inode,
    raw: bytes,
    level: int | None,
    expected: int,
    seen: set[int],
    made: list[tuple[int, bytes]],
) -> bytes | None:
    """A node with those of its entries that can be, None where none is left or it is none. `level`: what it has to be;
    `expected`: the file's block from which its entries may begin. Changed nodes below it are put into `made`."""
    mark, entries, most, depth = struct.unpack_from("<4H", raw, 0)
    room = (len(raw) - _HEAD) // _ENTRY
    if mark != _MARK or depth > _DEEPEST or (level is not None and depth != level):
        return None
    kept: list[bytes] = []
    for place in range(min(entries, room)):
        entry = raw[_HEAD + _ENTRY * place :][:_ENTRY]
        found = (
            _cut_child(known, inode, entry, depth - 1, expected, seen, made)
            if depth
            else _possible(known, entry, expected)
        )
        if found is not None:
            kept.append(found[0])
            expected = found[1]
    if not kept and level is not None:
        return None
    head = struct.pack("<4H", _MARK, len(kept), room, depth if kept else 0) + raw[8:12]
    body = b"".join(kept)
    is_whole = len(kept) == entries and most == room
    return head + body + (raw[_HEAD + len(body) :] if is_whole else bytes(len(raw) - _HEAD - len(body)))


def _possible(known: KnownVolume, entry: bytes, expected: int) -> tuple[bytes, int] | None:
    first, length, high, low = struct.unpack("<IHHI", entry)
    count, block = length if length <= _UNWRITTEN else length - _UNWRITTEN, high << 32 | low
    own = known.volume.super
    if not length or first < expected or not own.first_block < block <= own.blocks - count or first + count > 1 << 32:
        return None
    return entry, first + count


def _cut_child(
    known: KnownVolume,
    inode: Inode,
    entry: bytes,
    level: int,
    expected: int,
    seen: set[int],
    made: list[tuple[int, bytes]],
) -> tuple[bytes, int] | None:
    volume = known.volume
    _, low, high = struct.unpack_from("<IIH", entry)
    block = high << 32 | low
    if (
        block in seen
        or not volume.super.first_block < block < volume.super.blocks
        or known.is_anothers(block, inode.number)
    ):
        return None
    seen.add(block)
    try:
        raw = volume.bytes.read(block * volume.block, volume.block, "extents")
    except DecodeError:
        return None
    cut = _cut_node(known, inode, raw, level, expected, seen, made)
    if cut is None:
        return None
    if cut != raw:
        made.append((block, summed_node(known.own, inode, cut)))
    entries = struct.unpack_from("<H", cut, 2)[0]
    first, length = struct.unpack_from("<IH", cut, _HEAD + _ENTRY * (entries - 1))
    end = first + (length if length <= _UNWRITTEN else length - _UNWRITTEN) if not level else first + 1
    return cut[_HEAD : _HEAD + 4] + entry[4:], end


def summed_node(own: ExtCheck, inode: Inode, raw: bytes) -> bytes:
    """A block of a file's tree with the sum that it ought to have."""
    end = _HEAD + _ENTRY * int.from_bytes(raw[4:6], "little")
    if not own.sums or end + 4 > len(raw):
        return raw
    return raw[:end] + struct.pack("<I", crc32c(own.inode_seed(inode), raw[:end])) + raw[end + 4 :]


def _cut_lists(known: KnownVolume, inode: Inode, made: list[tuple[int, bytes]]) -> bytes:
    """The fifteen numbers of an inode without those that lead off the volume; lists below them into `made`."""
    own, seen = known.volume.super, set[int]()

    def possible(block: int) -> bool:
        return own.first_block < block < own.blocks or (block == 0)

    def below(block: int, level: int) -> bool:
        """Whether it can be one; its own list is cut too."""
        if not block or not possible(block) or block in seen:
            return not block
        seen.add(block)
        if not level:
            return True
        if known.is_anothers(block, inode.number):
            return False
        try:
            raw = known.volume.bytes.read(block * own.block, own.block, "blocks")
        except DecodeError:
            return True
        numbers = list(struct.unpack(f"<{own.block // 4}I", raw))
        if sum(not possible(n) for n in numbers) > _MOST_WRONG:
            return False  # that is no list
        cut = [n if (possible(n) if level == 1 else below(n, level - 1)) else 0 for n in numbers]
        if cut != numbers:
            made.append((block, struct.pack(f"<{own.block // 4}I", *cut)))
        return True

    numbers = struct.unpack("<15I", inode.body)
    cut = [n if possible(n) else 0 for n in numbers[:12]]
    cut += [n if below(n, level) else 0 for level, n in enumerate(numbers[12:], 1)]
    return struct.pack("<15I", *cut)
