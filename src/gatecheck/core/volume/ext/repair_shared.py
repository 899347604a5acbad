"""Repairs of ext where a block has two holders, or a file holds more than its size says, and of the inode that keeps
room for more groups.

A file whose size and whose count of blocks agree, and that still leads to more, gets the rest of its list taken away:
two against one. Of two files that hold the same block one gets a copy of its own, so that neither can hurt the other;
which of them it belonged to nobody can tell, save where the numbers beside it and the map do. As the system's own
checker does it."""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator

import numpy as np

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.ext import layout as e
from gatecheck.core.volume.ext.inode import resize_lists
from gatecheck.core.volume.ext.layout import Inode
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.ext.repair_inodes import KnownVolume
from gatecheck.core.volume.repair_group import RepairGroup

RESIZE, _DOUBLE = 7, 13
_MOST_COPIED = 4096
"""blocks that are copied at most: more of them are two trees that have become one, and no accident of a number"""
_UNSURE = {"unreadable", "group", "map-unread", "superblock-field"}


def gap_group(volume: Ext, ids: set[str]) -> RepairGroup | None:
    """Numbers of a file's lists that lead off the volume or to another's block, while the one that its neighbours leave
    free between them is in use by the map and nobody's: it is put back."""
    if not ids & {"crossed", "beyond", "extents"} or "lost" not in ids or ids & _UNSURE:
        return None
    if volume.super.ro_compat & e.BIGALLOC:
        return None
    known = KnownVolume(volume)
    shared = _shared_blocks(known)
    lost = _lost_blocks(known)
    for inode in known.inodes():
        if inode.number in known.own.broken or inode.flags & (e.EXTENTS | e.INLINE) or inode.number == RESIZE:
            continue
        if not (inode.is_regular or inode.is_folder):
            continue
        _fill_gaps(known, inode, shared, lost)
    return known.group("gaps")


def _shared_blocks(known: KnownVolume) -> set[int]:
    links = known.own.claims.cross_links()
    if sum(link.count for link in links) > _MOST_COPIED:
        return set()
    return {block for link in links for block in range(link.first, link.first + link.count)}


def _lost_blocks(known: KnownVolume) -> set[int]:
    """Blocks that the map calls used and nobody holds."""
    used = known.volume.bitmap()
    start, count, _ = known.own.claims.sorted()
    for first, length in zip(start.tolist(), count.tolist(), strict=True):
        used[first : first + length] = 0
    used[: known.volume.super.first_block + 1] = 0
    return set(np.flatnonzero(used).tolist())


def _fill_gaps(known: KnownVolume, inode: Inode, shared: set[int], lost: set[int]) -> None:
    volume, per = known.volume, known.volume.block // 4
    numbers = list(struct.unpack("<15I", inode.body))
    direct = _filled(known, numbers[:12], shared, lost)
    if direct != numbers[:12]:
        known.put_inode(inode, inode.raw[:40] + struct.pack("<12I", *direct) + inode.raw[88:])
    waiting = [(number, level) for level, number in enumerate(numbers[12:], 1) if number]
    seen: set[int] = set()
    while waiting:
        block, level = waiting.pop()
        is_own = volume.super.first_block < block < volume.super.blocks and not known.is_anothers(block, inode.number)
        if block in seen or not is_own:
            continue
        seen.add(block)
        try:
            own = list(struct.unpack(f"<{per}I", volume.bytes.read(block * volume.block, volume.block, "blocks")))
        except DecodeError:
            continue
        if level > 1:
            waiting += [(number, level - 1) for number in own if number]
            continue
        made = _filled(known, own, shared, lost)
        if made != own:
            known.put_block(block, struct.pack(f"<{per}I", *made))
            known.names.append(known.name(inode.number))


def _filled(known: KnownVolume, numbers: list[int], shared: set[int], lost: set[int]) -> list[int]:
    """The list with what its neighbours and the map tell of its wrong numbers. Of the first and the last the two beside
    it have to be in a row."""
    own, made = known.volume.super, list(numbers)
    length = max((place + 1 for place, number in enumerate(numbers) if number), default=0)
    for place in range(length):
        number = numbers[place]
        if own.first_block < number < own.blocks and number not in shared:
            continue
        before, after = made[max(0, place - 2) : place], numbers[place + 1 : min(length, place + 3)]
        if before and after and before[-1] + 2 == after[0]:
            wanted = before[-1] + 1
        elif not before and len(after) == 2 and after[1] == after[0] + 1:
            wanted = after[0] - 1
        elif not after and len(before) == 2 and before[1] == before[0] + 1:
            wanted = before[1] + 1
        else:
            continue
        if number and wanted in lost:
            made[place] = wanted
            lost.discard(wanted)
    return made


def shared_groups(volume: Ext, ids: set[str]) -> list[Callable[[], RepairGroup | None]]:
    """In their order."""
    return [
        lambda: _resize_group(volume, ids),
        lambda: _surplus_group(volume, ids),
        lambda: _copy_group(volume, ids),
    ]


def _resize_group(volume: Ext, ids: set[str]) -> RepairGroup | None:
    """Everything that inode 7 holds follows from the superblock, but for its block of blocks."""
    own = volume.super
    if "resize" not in ids or ids & _UNSURE or own.ro_compat & e.BIGALLOC:
        return None
    inode = volume.inode(RESIZE)
    double = struct.unpack("<15I", inode.body)[_DOUBLE]
    known = KnownVolume(volume)
    if not own.first_block < double < own.blocks or known.own.claims.cross_links():
        return None  # where the block of blocks is nobody tells
    lists, blocks = resize_lists(volume, double)
    if any(not own.first_block < block < own.blocks for block in lists):
        return None
    raw = bytearray(inode.raw)
    raw[:2] = struct.pack("<H", e.REGULAR | 0o600)
    raw[26:28] = struct.pack("<H", 1)
    raw[20:24] = bytes(4)
    raw[28:32] = struct.pack("<I", blocks * own.block // 512)
    raw[32:36] = bytes(4)
    raw[40:100] = struct.pack("<15I", *(double if place == _DOUBLE else 0 for place in range(15)))
    for block, words in lists.items():
        known.put_block(block, struct.pack(f"<{own.block // 4}I", *words))
    known.put_inode(inode, bytes(raw))
    return known.group("resize")


# --- more than the size says -----------------------------------------------------------------------------------------


def _surplus_group(volume: Ext, ids: set[str]) -> RepairGroup | None:
    if "size-differs" not in ids or volume.super.ro_compat & e.BIGALLOC:
        return None
    known = KnownVolume(volume)
    for inode in known.inodes():
        if inode.number in known.own.broken or inode.flags & (e.EXTENTS | e.INLINE):
            continue
        if inode.number in known.own.right_bytes and (inode.is_regular or inode.is_folder):
            _cut_at_size(known, inode)
    return known.group("surplus")


def _cut_at_size(known: KnownVolume, inode: Inode) -> None:
    """Where what it holds up to its size is just what it counts, the rest of its list goes."""
    volume = known.volume
    need = -(-inode.size // volume.block)
    numbers = list(struct.unpack("<15I", inode.body))
    made: list[tuple[int, bytes]] = []
    held, first, per = sum(bool(n) for n in numbers[: min(12, need)]), 12, volume.block // 4
    for place in range(min(12, need), 12):
        numbers[place] = 0
    try:
        for level in (1, 2, 3):
            if first >= need:
                numbers[11 + level] = 0
            elif numbers[11 + level]:
                held += _held_below(known, inode, numbers[11 + level], level, first, need, made)
            first += per**level
    except DecodeError:
        return
    has_attributes = bool(int.from_bytes(inode.raw[104:108], "little"))
    if (held + has_attributes) * volume.block != inode.blocks * 512:
        return
    body = struct.pack("<15I", *numbers)
    if body == inode.body and not made:
        return
    for block, raw in made:
        known.put_block(block, raw)
    known.put_inode(inode, inode.raw[:40] + body + inode.raw[100:])


def _held_below(
    known: KnownVolume, inode: Inode, block: int, level: int, first: int, need: int, made: list[tuple[int, bytes]]
) -> int:
    """Blocks of a list up to the file's block `need`, itself too; what leads further is taken out, into `made`. Raises
    DecodeError where it leads off the volume, or somebody else holds a list."""
    volume = known.volume
    if not volume.super.first_block < block < volume.super.blocks or known.is_anothers(block, inode.number):
        raise DecodeError("blocks", at=0, expected="a block of the volume", got=block)
    per = volume.block // 4
    numbers = list(struct.unpack(f"<{per}I", volume.bytes.read(block * volume.block, volume.block, "blocks")))
    step, held, was = per ** (level - 1), 1, tuple(numbers)
    for place, number in enumerate(numbers):
        if first + place * step >= need:
            numbers[place] = 0
        elif number:
            held += 1 if level == 1 else _held_below(known, inode, number, level - 1, first + place * step, need, made)
    if tuple(numbers) != was:
        made.append((block, struct.pack(f"<{per}I", *numbers)))
    return held


# --- two holders -----------------------------------------------------------------------------------------------------


def _copy_group(volume: Ext, ids: set[str]) -> RepairGroup | None:
    if "crossed" not in ids or ids & _UNSURE or volume.super.ro_compat & e.BIGALLOC:
        return None
    known = KnownVolume(volume)
    shared = _shared_blocks(known)
    if not shared:
        return None
    free = _free_blocks(known)
    taken: set[int] = set()
    """shared blocks that somebody holds by now"""
    fixed = {b for b in shared if any(first <= b < first + count for first, count, _ in volume.fixed_blocks())}
    trees = {
        b
        for number in known.own.kinds
        if number >= volume.super.first_inode and number not in known.own.broken
        for b in _tree(known, number)
        if b in shared
    }
    taken |= fixed | trees
    for inode in known.inodes():
        if inode.number in known.own.broken or inode.flags & e.INLINE:
            continue
        if inode.number < volume.super.first_inode:
            taken |= {b for b in _data(known, inode) if b in shared}  # the volume's own files keep theirs
            continue
        if not _part(known, inode, shared, taken, free):
            return None
    return known.group("apart", "one-is-wrong")


def _free_blocks(known: KnownVolume) -> Iterator[int]:
    """Blocks that nobody holds and that the map calls free."""
    used = known.volume.bitmap()
    start, count, _ = known.own.claims.sorted()
    for first, length in zip(start.tolist(), count.tolist(), strict=True):
        used[first : first + length] = 1
    return iter(np.flatnonzero(used == 0).tolist())


def _tree(known: KnownVolume, number: int) -> list[int]:
    try:
        return known.volume.tree_blocks(known.volume.inode(number))
    except DecodeError:
        return []


def _data(known: KnownVolume, inode: Inode) -> Iterator[int]:
    try:
        for run in known.volume.mapped(inode, whole=True):
            if run.block is not None:
                yield from range(run.block, run.block + run.count)
    except DecodeError:
        return


def _part(known: KnownVolume, inode: Inode, shared: set[int], taken: set[int], free: Iterator[int]) -> bool:
    """Give the file a copy of each shared block that somebody else, or an earlier number of its own, holds by now; the
    others become its own. False where that cannot be done."""
    if not set(_data(known, inode)) & shared:
        return True
    if inode.flags & e.EXTENTS or set(_tree(known, inode.number)) & shared:
        return False
    volume = known.volume

    def own_copy(number: int) -> int:
        if number not in shared:
            return number
        if number not in taken:
            taken.add(number)
            return number
        place = next(free)
        known.put_block(place, volume.bytes.read(number * volume.block, volume.block, "shared block"))
        return place

    numbers = list(struct.unpack("<15I", inode.body))
    try:
        numbers[:12] = [own_copy(n) for n in numbers[:12]]
        for level, top in enumerate(numbers[12:], 1):
            _relead(known, top, level, own_copy)
    except StopIteration:
        return False  # no room
    body = struct.pack("<15I", *numbers)
    if body != inode.body:
        known.put_inode(inode, inode.raw[:40] + body + inode.raw[100:])
    elif known.writes:
        known.names.append(known.name(inode.number))
    return True


def _relead(known: KnownVolume, block: int, level: int, own_copy: Callable[[int], int]) -> None:
    volume = known.volume
    if not volume.super.first_block < block < volume.super.blocks:
        return
    form = f"<{volume.block // 4}I"
    numbers = struct.unpack(form, volume.bytes.read(block * volume.block, volume.block, "blocks"))
    if level > 1:
        for number in numbers:
            _relead(known, number, level - 1, own_copy)
        return
    made = tuple([own_copy(n) for n in numbers])  # a generator would hide that there is no room
    if made != numbers:
        known.put_block(block, struct.pack(form, *made))
