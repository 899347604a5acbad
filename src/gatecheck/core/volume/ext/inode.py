"""What an inode of ext says of itself against what it holds: size, kind, extra room, links, and the inode that keeps
room for growing.

Linux, Documentation/filesystems/ext4: inodes, "Special inodes"; the bounds are those that the kernel and the system's
own checker hold a file to."""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.ext import layout as e
from gatecheck.core.volume.ext.layout import Inode, Mapped
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.tree import Hole

KINDS = (e.REGULAR, e.FOLDER, e.SYMLINK, 0x1000, 0x2000, 0x6000, 0xC000)
"""of a file: regular, folder, link, pipe, character and block device, socket"""
SPECIAL = (0x1000, 0x2000, 0x6000, 0xC000)
NOT_OF_SPECIAL = e.INDEXED | e.EXTENTS | e.INLINE | 0x30
"""flags that no pipe, device or socket has; the last two are immutable and append only"""
_VERITY = 0x100000
_NEEDS = ((e.EXTENTS, 0x40), (e.INLINE, e.INLINE_DATA), (e.ENCRYPTED, e.ENCRYPT), (e.CASEFOLDED, e.CASEFOLD))
"""flags of an inode, and the superblock's feature without which they mean nothing"""
_SHORTEST_EXTRA = 4
_DOUBLE, HUGE_FILES = 13, 0x8
_RESIZES = 0x10


def right_size(volume: Ext, inode: Inode, runs: Sequence[Mapped], held: int) -> int | None:
    """The size that a file ought to have where its own cannot be; None where it can. `held`: blocks up to its last one,
    those not written yet too."""
    block = volume.block
    if inode.flags & e.INLINE or inode.is_link:
        return None
    if inode.is_folder:
        return None if inode.size % block == 0 and inode.size // block == held else held * block
    if not inode.is_regular:
        return None
    written = max((r.first + r.count for r in runs if r.block is not None), default=0)
    per = block // 4
    most = ((1 << 32) * block - 1) if inode.flags & e.EXTENTS else (12 + per + per**2 + per**3) * block
    too_short = written > 0 and inode.size < (written - 1) * block and not inode.flags & _VERITY
    return written * block if too_short or inode.size > most else None


def flaws(volume: Ext, inode: Inode, *, is_orphan: bool) -> Iterator[str]:
    """What is wrong with an inode in use, by the ids of findings."""
    own = volume.super
    is_file = inode.number >= own.first_inode or inode.number == e.ROOT
    if inode.deleted_at and not is_orphan and is_file:
        yield "deleted-noted"
    if inode.mode & 0xF000 not in KINDS and inode.number >= own.first_inode:
        yield "inode"
    extra, room = int.from_bytes(inode.raw[128:130], "little"), own.inode_size - 128
    if room >= _SHORTEST_EXTRA and extra and (extra < _SHORTEST_EXTRA or extra > room or extra & 3):
        yield "inode"
    if any(inode.raw[112:116]) and not own.has_other_fields:  # an address of fragments, which nobody ever wrote
        yield "inode"
    if any(inode.raw[116:118]) and not own.ro_compat & HUGE_FILES and not own.has_other_fields:
        yield "inode"
    if any(inode.flags & flag and not own.incompat & feature for flag, feature in _NEEDS):
        yield "inode"
    if inode.flags & e.INDEXED and inode.is_regular and inode.number >= own.first_inode:
        yield "inode"
    if inode.mode & 0xF000 in SPECIAL and (inode.flags & NOT_OF_SPECIAL or any(inode.body[16:]) or inode.size):
        yield "inode"
    if inode.is_link and not inode.flags & (e.INLINE | e.ENCRYPTED) and not _leads_somewhere(volume, inode):
        yield "inode"


def _leads_somewhere(volume: Ext, inode: Inode) -> bool:
    """A link holds as many letters as its size says, with none in between that ends them."""
    if not 0 < inode.size < (60 if inode.size < 60 else volume.block):
        return False
    try:
        raw = b"".join(p for p in volume.pieces(inode) if not isinstance(p, Hole))
    except DecodeError:
        return False
    return len(raw[: inode.size].split(b"\0")[0]) == inode.size


def resize_problem(volume: Ext, inode: Inode) -> bool:
    """The inode that keeps the room behind the groups' table for more groups does not hold exactly that room, in every
    copy. Raises DecodeError where it cannot be read."""
    own = volume.super
    reserved = int.from_bytes(own.raw[206:208], "little")
    numbers = struct.unpack("<15I", inode.body)
    if not own.compat & _RESIZES or own.incompat & e.META_BG:
        return False
    if (
        inode.mode & 0xF000 != e.REGULAR
        or not inode.links
        or any(n for place, n in enumerate(numbers) if place != _DOUBLE)
    ):
        return True
    if not reserved:
        return False
    if not 0 < numbers[_DOUBLE] < own.blocks:
        return True
    lists, blocks = resize_lists(volume, numbers[_DOUBLE])
    if not own.ro_compat & e.BIGALLOC and inode.blocks * 512 != blocks * own.block:
        return True
    return any(_words(volume, block) != words for block, words in lists.items())


def resize_lists(volume: Ext, double: int) -> tuple[dict[int, tuple[int, ...]], int]:
    """What the inode that keeps room for more groups has to hold: block -> the numbers in it, and how many blocks it
    counts. `double`: its block of blocks."""
    own = volume.super
    reserved = int.from_bytes(own.raw[206:208], "little")
    per, kept = own.block // 4, -(-own.groups * own.group_size // own.block)
    first = own.super_at(0) + 1 + kept
    copies = [own.super_at(group) - own.super_at(0) for group in range(1, own.groups) if volume.has_super(group)][:per]
    tops, lists = [0] * per, dict[int, tuple[int, ...]]()
    for n in range(reserved):
        tops[(kept + n) % per] = first + n
        lists[first + n] = (*(first + n + more for more in copies), *[0] * (per - len(copies)))
    lists[double] = tuple(tops)
    return lists, 1 + reserved * (1 + len(copies))


def _words(volume: Ext, block: int) -> tuple[int, ...]:
    return struct.unpack(f"<{volume.block // 4}I", volume.bytes.read(block * volume.block, volume.block, "inode 7"))
