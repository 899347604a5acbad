"""Where the descriptors of block groups stand, their copies, and superblocks that stand in for a broken first one.

Linux, Documentation/filesystems/ext4: block group descriptors, "Meta Block Groups". A copy's counts and flags are as
old as the copy: only its places are taken from it.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.crc32c import crc16, crc32c
from gatecheck.core.volume.ext.layout import GDT_CSUM, META_BG, SPARSE_SUPER, Super, read_super

Read = Callable[[int, int, str], bytes]
_MOST_GROUPS, _COPIES, _SEARCHED = 1 << 22, 8, 64 << 20
_USUAL = ((1024, 8192), (4096, 32768), (2048, 16384))
"""block size and blocks a group, as they are made where nobody asks for others"""


@dataclass(frozen=True, slots=True)
class Group:
    """A group's descriptor. `at`: byte of the volume; `raw`: as it stands there, empty where it could not be read;
    `from_copy`: its places come from a copy."""

    at: int
    raw: bytes
    block_map: int
    inode_map: int
    inode_table: int
    free_blocks: int
    free_inodes: int
    flags: int
    from_copy: bool = False


def has_super(own: Super, group: int) -> bool:
    """Does a copy of the superblock stand in this group."""
    if own.compat & 0x200:  # sparse_super2
        return group in (0, *struct.unpack_from("<2I", own.raw, 0x24C))
    if group < 2 or not own.ro_compat & SPARSE_SUPER:
        return True
    return any(_is_power(group, base) for base in (3, 5, 7))


def places(own: Super, number: int, first_table: int) -> Iterator[int]:
    """Bytes of the volume where a group's descriptor stands, the one in use first. `first_table`: block of the table
    behind the superblock that is used."""
    per_block = own.block // own.group_size
    step, rest = number // per_block, number % per_block * own.group_size
    if own.incompat & META_BG and step >= int.from_bytes(own.raw[0x104:0x108], "little"):
        first = step * per_block
        for group in (first, first + 1, first + per_block - 1):
            if group < own.groups:
                yield (_own_block(own, group) + has_super(own, group)) * own.block + rest
        return
    yield (first_table + step) * own.block + rest
    copies = (g for g in range(own.groups) if has_super(own, g))
    for _, group in zip(range(_COPIES), copies, strict=False):
        if own.super_at(group) + 1 != first_table:
            yield (own.super_at(group) + 1 + step) * own.block + rest


def table_blocks(own: Super) -> int:
    """Blocks of the table of groups that stands behind each copy of the superblock."""
    whole = -(-own.groups * own.group_size // own.block)
    return min(whole, int.from_bytes(own.raw[0x104:0x108], "little")) if own.incompat & META_BG else whole


def read_groups(own: Super, first_table: int, read: Read) -> list[Group]:
    """Raises DecodeError where a descriptor can be read neither in its place nor in a copy."""
    if own.groups > _MOST_GROUPS:
        raise DecodeError("ext groups", at=0, expected="up to 4 million", got=own.groups)
    return [_read(own, number, first_table, read) for number in range(own.groups)]


def impossible_fields(own: Super) -> Iterator[str]:
    """Values of the superblock that no volume has: the first group of groups that keeps its own table, and the room of
    inodes for further fields."""
    whole = -(-own.groups * own.group_size // own.block)
    if own.incompat & META_BG and int.from_bytes(own.raw[0x104:0x108], "little") > whole:
        yield "first_meta_bg"
    for name, at in (("min_extra_isize", 0x15C), ("want_extra_isize", 0x15E)):
        extra = int.from_bytes(own.raw[at : at + 2], "little")
        if own.inode_size > 128 and extra and (extra < 4 or extra > own.inode_size - 128 or extra & 3):
            yield name


def is_possible(own: Super, group: Group) -> bool:
    """Its maps and its inode table lie on the volume, beside each other."""
    table = -(-own.inodes_per_group * own.inode_size // own.block)
    low = own.first_block
    return (
        all(low < place < own.blocks for place in (group.block_map, group.inode_map, group.inode_table))
        and group.inode_table + table <= own.blocks
        and group.block_map != group.inode_map
        and not any(
            group.inode_table <= place < group.inode_table + table for place in (group.block_map, group.inode_map)
        )
    )


def summed_descriptor(own: Super, seed: int, number: int, raw: bytes) -> bytes:
    """A descriptor with the checksum that it ought to have; as it is where its volume has none. `seed`: of the volume's
    checksums."""
    if own.has_checksums:
        blank = raw[:0x1E] + b"\0\0" + raw[0x20:]
        own_sum = crc32c(crc32c(seed, struct.pack("<I", number)), blank) & 0xFFFF
    elif own.ro_compat & GDT_CSUM:
        own_sum = crc16(crc16(crc16(0xFFFF, own.uuid), struct.pack("<I", number)), raw[:0x1E] + raw[0x20:])
    else:
        return raw
    return raw[:0x1E] + struct.pack("<H", own_sum) + raw[0x20:]


def folders_told(own: Super, raw: bytes) -> int:
    return _halves(own, raw, 16, 48)


def unused_told(own: Super, raw: bytes) -> int:
    """Inodes at the end of the group's table that were never used."""
    return _halves(own, raw, 0x1C, 0x32)


def with_counts(own: Super, raw: bytes, *, blocks: int, inodes: int, folders: int, unused: int) -> bytes:
    """A descriptor with these counts: free blocks, free inodes, folders, inodes never used."""
    out = bytearray(raw)
    for low, high, count in ((12, 44, blocks), (14, 46, inodes), (16, 48, folders), (0x1C, 0x32, unused)):
        out[low : low + 2] = struct.pack("<H", count & 0xFFFF)
        if own.group_size >= 64:
            out[high : high + 2] = struct.pack("<H", count >> 16)
    return bytes(out)


def _halves(own: Super, raw: bytes, low: int, high: int) -> int:
    count = int.from_bytes(raw[low : low + 2], "little")
    return count | (int.from_bytes(raw[high : high + 2], "little") << 16 if own.group_size >= 64 else 0)


def _read(own: Super, number: int, first_table: int, read: Read) -> Group:
    first: Group | None = None
    problem: DecodeError | None = None
    at = 0
    for place, at in enumerate(places(own, number, first_table)):
        try:
            found = _parse(own, at, read(at, own.group_size, "ext group descriptor"))
        except DecodeError as error:
            problem = problem or error
            continue
        if is_possible(own, found):
            if not place:
                return found
            stale = first or Group(at, b"", 0, 0, 0, 0, 0, 0)
            return Group(
                stale.at,
                stale.raw,
                found.block_map,
                found.inode_map,
                found.inode_table,
                stale.free_blocks,
                stale.free_inodes,
                0,
                from_copy=True,
            )
        if not place:
            first = found
    if first is None:
        raise problem or DecodeError("ext group descriptor", at=at, expected="a readable one", got="none")
    return first


def _parse(own: Super, at: int, raw: bytes) -> Group:
    blocks, inodes, table, free_blocks, free_inodes, _, flags = struct.unpack_from("<3I4H", raw, 0)
    if own.group_size >= 64:
        high = struct.unpack_from("<3I4H", raw, 32)
        blocks, inodes, table = blocks | high[0] << 32, inodes | high[1] << 32, table | high[2] << 32
        free_blocks, free_inodes = free_blocks | high[3] << 16, free_inodes | high[4] << 16
    return Group(at, raw, blocks, inodes, table, free_blocks, free_inodes, flags)


def find_copy(read: Read, length: int) -> tuple[Super, int] | None:
    """A copy of the superblock and the byte it stands at: first where copies usually are, then by its mark, unless the
    usual places were not read either. `length`: bytes of the volume that are there."""
    was_read = False
    for block, per_group in _USUAL:
        at = (per_group + (1 if block == 1024 else 0)) * block
        if at + 1024 > length:
            continue
        try:
            raw = read(at, 1024, "ext superblock, backup")
        except DecodeError:
            continue
        was_read = True
        found = _parsed(raw)
        if found is not None and found.block == block:
            return found, at
    if not was_read:
        return None
    for start in range(1 << 16, min(length, _SEARCHED), 1 << 20):
        try:
            raw = read(start, min(1 << 20, length - start), "ext superblock, searched")
        except DecodeError:
            continue
        for at in range(0, len(raw) - 1023, 1024):
            if raw[at + 56 : at + 58] == b"\x53\xef":
                found = _parsed(raw[at : at + 1024])
                if found is not None and _stands_right(found, start + at):
                    return found, start + at
    return None


def _parsed(raw: bytes) -> Super | None:
    try:
        return read_super(raw)
    except DecodeError:
        return None


def _stands_right(own: Super, at: int) -> bool:
    group = int.from_bytes(own.raw[0x5A:0x5C], "little")
    return group > 0 and _own_block(own, group) * own.block == at


def _own_block(own: Super, group: int) -> int:
    """First block of a group; that of the first holds the superblock 1024 bytes in."""
    return own.super_at(0) if group == 0 else own.first_block + group * own.per_group


def _is_power(number: int, base: int) -> bool:
    while number % base == 0:
        number //= base
    return number == 1
