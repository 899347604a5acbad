"""Repairs of ext that follow from what the folders and inodes say, where these themselves are whole: entries that lead
nowhere, their file types, link counts, and the maps of blocks and inodes with all that counts them.

Each is what the system's own checker does without asking; nothing that a file holds is written.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator

import numpy as np

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.crc32c import crc32c
from gatecheck.core.volume.ext import layout as e
from gatecheck.core.volume.ext.attributes import VALUE_INODES
from gatecheck.core.volume.ext.check import ExtCheck
from gatecheck.core.volume.ext.folder_blocks import TAIL
from gatecheck.core.volume.ext.groups import summed_descriptor, with_counts
from gatecheck.core.volume.ext.layout import Inode
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.repair_group import RepairGroup, group
from gatecheck.core.volume.tree import VolumeFinding

TYPES = {0x8000: 1, 0x4000: 2, 0x2000: 3, 0x6000: 4, 0x1000: 5, 0xC000: 6, 0xA000: 7}
_MOST_LINKS, _REGULAR = 65_000, 0x8000
_HUGE, _IN_BLOCKS = 0x8, 0x40000
"""the feature, and the flag of a file, by which its blocks are counted as blocks"""
_LARGE_FILES, _LARGEST_SMALL = 0x2, (1 << 31) - 1
"""the feature without which no file is larger"""
_OF_SIZES = {"size-differs", "orphan", "link-count"}
"""what may be wrong of a file whose sizes are put right"""
_UNSURE = {
    "crossed",
    "beyond",
    "extents",
    "unreadable",
    "inode",
    "group",
    "superblock-field",
    "folder-nowhere",
    "map-unread",
    "deleted-noted",
}
"""findings under which nobody knows whose a block is: the maps are left"""
Planner = Callable[[], RepairGroup | None]


def name_groups(volume: Ext, ids: set[str], *, has_wrong_maps: bool = False) -> list[Planner]:
    """In their order: each rests on the one before it. `has_wrong_maps`: the checksum of one is wrong."""
    base = volume.bytes.base

    def known() -> ExtCheck:
        own = ExtCheck(volume, unheard, lambda _stage, _done, _of: None)
        own.whole()
        return own

    def entries() -> RepairGroup | None:
        if "dangling" not in ids or "deleted-noted" in ids:
            return None  # where an inode contradicts itself, an entry that leads to it may be right
        own = known()
        return _entries(
            own, "broken", lambda target, kind: (0, kind) if not own.leads(target) else (target, kind), base
        )

    def kinds() -> RepairGroup | None:
        if "kind-differs" not in ids:
            return None
        own = known()

        def right(target: int, kind: int) -> tuple[int, int]:
            return target, TYPES.get(own.kinds[target], kind) if own.leads(target) else kind

        return _entries(own, "kinds", right, base)

    def links() -> RepairGroup | None:
        if "link-count" not in ids or "folder-broken" in ids or "unreadable" in ids:
            return None
        own, writes, names = known(), list[tuple[int, bytes]](), list[str]()
        for number in own.reached:
            real = own.found_links.get(number, 0)
            told = own.links.get(number, 0)
            is_counted = number == e.ROOT or number >= volume.super.first_inode
            if number in own.broken:
                continue  # its own sum is wrong: nobody knows what of it is right
            if is_counted and 0 < real <= _MOST_LINKS and told != real and not (told == 1 and number in own.folders):
                raw = bytearray(volume.inode(number).raw)
                raw[26:28] = struct.pack("<H", real)
                writes.append((base + place_of(volume, number), summed_inode(own, number, bytes(raw))))
                names.append(own.names.get(number, f"inode {number}"))
        return group("links", writes, "record", touches=tuple(names), count=len(writes)) if writes else None

    def maps() -> RepairGroup | None:
        wanted = {"lost", "unmarked", "inode-map", "map-padding"}
        if not (ids & wanted or has_wrong_maps) or ids & _UNSURE or volume.super.ro_compat & e.BIGALLOC:
            return None
        return group("map", _maps(known(), base), "map")

    return [entries, kinds, links, lambda: size_group(volume, ids), maps]


def size_group(volume: Ext, ids: set[str]) -> RepairGroup | None:
    """Sizes, or counts of blocks, that do not fit what a file holds. Only of files with nothing else wrong, whose
    blocks nobody else has and whose tree is whole; and only one of the two: where both contradict what it holds, that
    is what is wrong."""
    if "size-differs" not in ids or "crossed" in ids or volume.super.incompat & VALUE_INODES:
        return None  # what a value in an inode of its own adds to a count hangs on whether it is whole
    largest = _LARGEST_SMALL if not volume.super.ro_compat & _LARGE_FILES else 1 << 63
    wrong: dict[str, set[str]] = {}
    own = ExtCheck(volume, lambda f: wrong.setdefault(f.where, set()).add(f.id), lambda _stage, _done, _of: None)
    own.whole()
    writes, names, base = list[tuple[int, bytes]](), list[str](), volume.bytes.base
    for number in sorted(own.right_bytes.keys() ^ own.right_sizes.keys()):
        name = own.names.get(number, "")
        others = (wrong.get(f"inode {number}", set()) | wrong.get(name, set())) - _OF_SIZES
        if number in own.broken or others or not name or number < volume.super.first_inode:
            continue
        raw = bytearray(volume.inode(number).raw)
        if number in own.right_sizes:
            size = own.right_sizes[number]
            if size > largest or (size >> 32 and own.kinds.get(number) != _REGULAR):
                continue
            raw[4:8], raw[108:112] = struct.pack("<I", size & 0xFFFFFFFF), struct.pack("<I", size >> 32)
        if number in own.right_bytes:
            counted = with_blocks(volume, bytes(raw), own.right_bytes[number])
            if counted is None:
                continue
            raw = bytearray(counted)
        writes.append((base + place_of(volume, number), summed_inode(own, number, bytes(raw))))
        names.append(name)
    return group("sizes", writes, "record", touches=tuple(names), count=len(writes)) if writes else None


def with_blocks(volume: Ext, raw: bytes, held: int) -> bytes | None:
    """An inode's record with the count of blocks that `held` bytes make; None where no count is as large."""
    is_huge = bool(volume.super.ro_compat & _HUGE)
    in_blocks = is_huge and bool(int.from_bytes(raw[32:36], "little") & _IN_BLOCKS)
    units = held // (volume.block if in_blocks else 512)
    if units >> (48 if is_huge else 32):
        return None
    out = bytearray(raw)
    out[28:32] = struct.pack("<I", units & 0xFFFFFFFF)
    if is_huge:
        out[116:118] = struct.pack("<H", units >> 32)
    return bytes(out)


def unheard(_: VolumeFinding) -> None:
    """What is found is known already."""


def place_of(volume: Ext, number: int) -> int:
    """Byte of the volume where an inode's record stands."""
    own = volume.super
    which, index = divmod(number - 1, own.inodes_per_group)
    return volume.groups[which].inode_table * own.block + index * own.inode_size


def summed_inode(own: ExtCheck, number: int, raw: bytes) -> bytes:
    """An inode's record with the checksum that it ought to have."""
    if not own.sums:
        return raw
    out = bytearray(raw)
    has_high = len(out) > 128 and int.from_bytes(out[128:130], "little") >= 4
    out[124:126] = b"\0\0"
    if has_high:
        out[130:132] = b"\0\0"
    value = crc32c(crc32c(crc32c(own.seed, struct.pack("<I", number)), bytes(out[100:104])), bytes(out))
    out[124:126] = struct.pack("<H", value & 0xFFFF)
    if has_high:
        out[130:132] = struct.pack("<H", value >> 16)
    return bytes(out)


def folder_blocks(volume: Ext, inode: Inode) -> Iterator[int]:
    if inode.flags & e.INLINE:
        return
    try:
        for run in volume.mapped(inode):
            if run.block is not None:
                yield from range(run.block, run.block + run.count)
    except DecodeError:
        return


def _entries(own: ExtCheck, name: str, right: Callable[[int, int], tuple[int, int]], base: int) -> RepairGroup | None:
    """Entries of all folders with the inode and type that `right` says."""
    volume, writes, names, count = own.volume, list[tuple[int, bytes]](), list[str](), 0
    for number in sorted(own.reached & set(own.folders)):
        inode = own.folders[number]
        for block in folder_blocks(volume, inode):
            try:
                raw = volume.bytes.read(block * volume.block, volume.block, "folder")
            except DecodeError:
                continue
            changed = _changed(raw, right, typed=bool(volume.super.incompat & e.FILETYPE))
            if changed is None:
                continue
            made, several = changed
            if own.sums and made[-12:-4] == TAIL:
                value = crc32c(own.inode_seed(inode), made[:-12])
                made = made[:-4] + struct.pack("<I", value)
            writes.append((base + block * volume.block, made))
            names.append(own.names.get(number, "/"))
            count += several
    return group(name, writes, "entry", touches=tuple(names), count=count) if writes else None


def _changed(raw: bytes, right: Callable[[int, int], tuple[int, int]], *, typed: bool) -> tuple[bytes, int] | None:
    """A folder's block with its entries put right, and how many were wrong; None where none was, or it is broken."""
    out, at, wrong = bytearray(raw), 0, 0
    while at + 8 <= len(raw):
        target, length, letters, kind = struct.unpack_from("<IHBB", raw, at)
        if length < 8 or length & 3 or at + length > len(raw) or letters + 8 > length:
            return None
        name = raw[at + 8 : at + 8 + letters]
        if target and letters and name not in (b".", b".."):
            inode, type_ = right(target, kind if typed else 0)
            if (inode, type_ if typed else kind) != (target, kind):
                struct.pack_into("<I", out, at, inode)
                if typed:
                    out[at + 7] = type_ if inode else kind
                wrong += 1
        at += length
    return (bytes(out), wrong) if wrong else None


def _maps(own: ExtCheck, base: int) -> list[tuple[int, bytes]]:
    """Both maps of every group by who holds what, and the counts that go with them."""
    volume, head = own.volume, own.super
    held = np.zeros(head.blocks, np.uint8)
    held[: head.first_block] = 1
    start, count, _ = own.claims.sorted()
    for first, length in zip(start.tolist(), count.tolist(), strict=True):
        held[first : first + length] = 1
    taken = np.zeros(head.inodes + 1, np.uint8)
    taken[own.taken_inodes] = 1
    taken[1 : head.first_inode] = 1
    folders = np.array(sorted(own.folders), np.int64)
    has_flags = bool(head.ro_compat & (e.GDT_CSUM | e.CHECKSUMS))
    writes, free_blocks, free_inodes = list[tuple[int, bytes]](), 0, 0
    for number, each in enumerate(volume.groups):
        low = head.first_block + number * head.per_group
        blocks = held[low : min(low + head.per_group, head.blocks)]
        first = number * head.inodes_per_group
        inodes = taken[first + 1 : first + 1 + head.inodes_per_group]
        flags = each.flags
        if has_flags:  # a group that holds something has its maps written
            flags &= ~1 if inodes.any() else ~0
            flags &= ~2
        sums = []
        for place, bits, is_wanted in ((each.block_map, blocks, True), (each.inode_map, inodes, not flags & 1)):
            raw = _packed(bits, head.block)
            if is_wanted:
                writes.append((base + place * head.block, raw))
            sums.append(raw)
        own_blocks, own_inodes = int(np.count_nonzero(blocks == 0)), int(np.count_nonzero(inodes == 0))
        inside = int(np.count_nonzero((folders > first) & (folders <= first + head.inodes_per_group)))
        last = int(np.flatnonzero(inodes)[-1]) + 1 if inodes.any() else 0
        unused = head.inodes_per_group - last if has_flags else 0
        made = bytearray(
            with_counts(head, each.raw, blocks=own_blocks, inodes=own_inodes, folders=inside, unused=unused)
        )
        made[0x12:0x14] = struct.pack("<H", flags)
        if own.sums:
            _put_map_sums(own, made, sums)
        writes.append((base + each.at, summed_descriptor(head, own.seed, number, bytes(made))))
        free_blocks, free_inodes = free_blocks + own_blocks, free_inodes + own_inodes
    first_block = bytearray(head.raw)
    first_block[12:16], first_block[16:20] = struct.pack("<I", free_blocks & 0xFFFFFFFF), struct.pack("<I", free_inodes)
    if head.incompat & e.WIDE:
        first_block[0x158:0x15C] = struct.pack("<I", free_blocks >> 32)
    if own.sums:
        first_block[1020:1024] = struct.pack("<I", crc32c(0xFFFFFFFF, bytes(first_block[:1020])))
    return [*writes, (base + 1024, bytes(first_block))]


def _packed(bits: np.ndarray, size: int) -> bytes:
    """A map in its block; what lies behind it stands as in use."""
    whole = np.ones(8 * size, np.uint8)
    whole[: len(bits)] = bits
    return np.packbits(whole, bitorder="little").tobytes()


def _put_map_sums(own: ExtCheck, made: bytearray, maps: list[bytes]) -> None:
    head = own.super
    for raw, bits, low, high in (
        (maps[0], head.per_group, 0x18, 0x38),
        (maps[1], head.inodes_per_group, 0x1A, 0x3A),
    ):
        value = crc32c(own.seed, raw[: -(-bits // 8)])
        made[low : low + 2] = struct.pack("<H", value & 0xFFFF)
        if head.group_size >= 64:
            made[high : high + 2] = struct.pack("<H", value >> 16)
