"""Extended attributes of ext: in the inode behind its fields, and in a block that several inodes may share.

Linux, Documentation/filesystems/ext4: extended attributes. An attribute whose value has an inode of its own names it.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise

from gatecheck.core.volume.crc32c import crc32c
from gatecheck.core.volume.ext.layout import Inode, Super

MAGIC, HEAD, ENTRY = 0xEA020000, 32, 16
ATTRIBUTES, VALUE_INODES = 0x8, 0x400
"""of the superblock's features: attributes at all (compatible), values in inodes of their own (incompatible)"""
VALUE_INODE = 0x200000
"""flag of an inode that holds a value"""
DATA, POLICY = (7, b"data"), (9, b"c")
"""index and name: the rest of a file that is kept in its inode; the policy of one that is encrypted"""


@dataclass(frozen=True, slots=True)
class ExtendedAttribute:
    """`at`: byte of its entry in the inode or block; `value_at`: byte of its value there; `inode`: of its value,
    or 0; `told`: its hash. An index may stand for a whole name: `name` is empty then."""

    at: int
    index: int
    name: bytes
    value_at: int
    size: int
    inode: int
    told: int


def flaw_in_inode(own: Super, inode: Inode) -> str:
    """What is wrong with the attributes in an inode's record, or nothing."""
    start, end = in_inode(inode)
    if not start:
        return ""
    has_values = bool(own.incompat & VALUE_INODES)
    return flaw_of(inode.raw, start + 4, start + 4, end, has_zero_hash=True, has_values=has_values)


def in_inode(inode: Inode) -> tuple[int, int]:
    """(first byte of the attributes in the inode's record, its end); both 0 where it has none."""
    raw = inode.raw
    if len(raw) < 136:
        return 0, 0
    start = 128 + int.from_bytes(raw[128:130], "little")
    if start + 4 > len(raw) or int.from_bytes(raw[start : start + 4], "little") != MAGIC:
        return 0, 0
    return start, len(raw)


def listed(raw: bytes, first: int, base: int, end: int) -> Iterator[ExtendedAttribute | None]:
    """Entries from byte `first`; offsets of values count from `base`. None, and no more, where one leaves its room."""
    at = first
    while at + 4 <= end and raw[at : at + 4] != bytes(4):
        length = raw[at]
        if at + ENTRY > end or at + ENTRY + length > end:
            yield None
            return
        index = raw[at + 1]
        offset, inode, size, told = struct.unpack_from("<HIII", raw, at + 2)
        yield ExtendedAttribute(at, index, raw[at + ENTRY : at + ENTRY + length], base + offset, size, inode, told)
        at += ENTRY + (length + 3 & ~3)
    if at + 4 > end:
        yield None


def hashes(own: ExtendedAttribute, value: bytes) -> tuple[int, int]:
    """Of name and value, with letters unsigned and signed: systems of both kinds have written them."""
    found = []
    for is_signed in (False, True):
        mixed = 0
        for letter in own.name:
            number = letter - 256 if is_signed and letter > 127 else letter
            mixed = (mixed << 5 ^ mixed >> 27 ^ number) & 0xFFFFFFFF
        padded = value + bytes(-len(value) % 4)
        for (word,) in struct.iter_unpack("<I", padded):
            mixed = (mixed << 16 ^ mixed >> 16 ^ word) & 0xFFFFFFFF
        found.append(mixed)
    return found[0], found[1]


def flaw_of(raw: bytes, first: int, base: int, end: int, *, has_zero_hash: bool, has_values: bool) -> str:
    """What is wrong with a list of attributes, or nothing: `entry`, `value`, `name`, `overlap`, `hash`. Values with
    inodes of their own are looked at elsewhere. `has_zero_hash`: one that is 0 was never computed; `has_values`: values
    may have inodes of their own on this volume."""
    taken: list[tuple[int, int]] = []
    stop = first
    for own in listed(raw, first, base, end):
        if own is None:
            return "entry"
        stop = own.at + ENTRY + (len(own.name) + 3 & ~3)
        if not own.index:
            return "name"
        if own.inode and not has_values:
            return "value"
        if own.inode or not own.size:
            continue
        if own.size > end or own.value_at < base or own.value_at + own.size > end:
            return "value"
        taken.append((own.value_at, own.value_at + (own.size + 3 & ~3)))
        if (own.told or not has_zero_hash) and own.told not in hashes(own, raw[own.value_at :][: own.size]):
            return "hash"
    taken.sort()
    if taken and taken[0][0] < stop + 4:
        return "overlap"
    return "overlap" if any(a[1] > b[0] for a, b in pairwise(taken)) else ""


def block_flaw(own: Super, seed: int, number: int, raw: bytes) -> str:
    """What is wrong with a block of attributes: `mark`, `sum`, or as for a list."""
    magic, _, blocks, _, told = struct.unpack_from("<5I", raw, 0)
    if magic != MAGIC or blocks != 1:
        return "mark"
    found = flaw_of(raw, HEAD, 0, len(raw), has_zero_hash=False, has_values=bool(own.incompat & VALUE_INODES))
    if found or not own.has_checksums:
        return found
    value = crc32c(crc32c(seed, struct.pack("<Q", number)), raw[:16] + bytes(4) + raw[20:])
    return "" if value == told else "sum"


def block_of(own: Super, inode: Inode, *, is_wide: bool) -> int:
    """Block of an inode's attributes, 0 where it has none."""
    return int.from_bytes(inode.raw[104:108], "little") | (
        int.from_bytes(inode.raw[118:120], "little") << 32 if is_wide else 0
    )


def values_elsewhere(inode: Inode, block: bytes) -> list[ExtendedAttribute]:
    """Attributes of an inode whose values have inodes of their own. `block`: of its attributes, empty where none."""
    start, end = in_inode(inode)
    found = [a for a in listed(inode.raw, start + 4, start + 4, end) if a is not None and a.inode] if start else []
    if block:
        found += [a for a in listed(block, HEAD, 0, len(block)) if a is not None and a.inode]
    return found


def has_named(inode: Inode, block: bytes, index: int, name: bytes) -> bool:
    """Has an inode the attribute of this name. `block`: of its attributes, empty where none."""
    start, end = in_inode(inode)
    found = list(listed(inode.raw, start + 4, start + 4, end)) if start else []
    if block:
        found += list(listed(block, HEAD, 0, len(block)))
    return any(a is not None and a.index == index and a.name == name for a in found)
