"""The records of XFS: superblock, allocation groups, inodes, extents, blocks of trees and of folders.

XFS Algorithms & Data Structures, 3rd edition (on-disk format); versions 4 and 5. Numbers are big-endian, checksums
(CRC-32C, version 5) little-endian.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.fields import text_of
from gatecheck.core.volume.crc32c import crc32c

MAGIC = b"XFSB"
HAS_TYPE, SPARSE, BIG_TIME = 0x1, 0x2, 0x8
KNOWN_INCOMPATIBLE = 0x1FF
FREE_INODE_MAP, BY_BLOCK_MAP, SHARED = 0x1, 0x2, 0x4
"""read-only features: a map of free inodes; a map of who holds each block; blocks that several files hold"""
LOCAL, EXTENTS, BTREE = 1, 2, 3
"""how an inode keeps what is in it"""
FOLDER, REGULAR, LINK = 0o040000, 0o100000, 0o120000
ON_REALTIME = 0x1
NONE_64, NONE_32 = (1 << 64) - 1, (1 << 32) - 1
_FORK_V4, _FORK_V5 = 100, 176
_KINDS = (1, 2, 4, 6, 8, 10, 12)
_TYPES = {1: REGULAR, 2: FOLDER, 7: LINK}


@dataclass(frozen=True, slots=True)
class XfsSuper:
    """`size` of a block, `blocks` in all, `group`: blocks of an allocation group."""

    size: int
    blocks: int
    root: int
    log: int
    log_blocks: int
    group: int
    groups: int
    sector: int
    inode: int
    inodes_in_block: int
    block_bits: int
    inode_bits: int
    group_bits: int
    folder: int
    version: int
    features: int
    read_only_features: int
    has_type: bool
    label: str
    inodes: int
    free_inodes: int
    own: frozenset[int]
    """inodes that no folder lists: quotas, the real-time volume's"""

    @property
    def is_v5(self) -> bool:
        return self.version == 5

    def address(self, block: int) -> int:
        """Byte of the volume of a block by its number, which is made of group and block in it. Raises DecodeError."""
        group, inside = block >> self.group_bits, block & (1 << self.group_bits) - 1
        if group >= self.groups or inside >= self.group:
            raise DecodeError("XFS block", at=0, expected=f"below group {self.groups}", got=f"{group}:{inside}")
        return (group * self.group + inside) * self.size


def read_super(raw: bytes) -> XfsSuper:
    """Raises DecodeError."""
    if len(raw) < 512 or raw[:4] != MAGIC:
        raise DecodeError("XFS superblock", at=0, expected="XFSB", got=raw[:4].hex() or "nothing")
    size, blocks = struct.unpack_from(">IQ", raw, 4)
    log, root, bitmap, summary = struct.unpack_from(">4Q", raw, 48)
    group, groups, _, log_blocks, flags, sector, inode, per_block = struct.unpack_from(">4I4H", raw, 84)
    block_bits, sector_bits, inode_bits, per_block_bits, group_bits = raw[120:125]
    inodes, free_inodes = struct.unpack_from(">2Q", raw, 128)
    quotas = struct.unpack_from(">2Q", raw, 160) + struct.unpack_from(">Q", raw, 232)
    features2, _, _, read_only, features = struct.unpack_from(">5I", raw, 200)
    version = flags & 0xF
    sane = (
        512 <= size <= 65536
        and size == 1 << block_bits
        and 512 <= sector <= 32768
        and sector == 1 << sector_bits
        and 256 <= inode <= 2048
        and inode == 1 << inode_bits
        and per_block == size // inode == 1 << per_block_bits
        and 0 < group <= 1 << group_bits
        and group_bits < 32
        and 0 < groups == -(-blocks // group)
        and raw[192] <= 16 - block_bits
    )
    if version not in (4, 5) or not sane:
        raise DecodeError(
            "XFS superblock", at=0, expected="version 4 or 5, its sizes", got=f"{version}, {size}, {inode}"
        )
    if version == 5 and not has_sum(raw[:sector], 224):
        raise DecodeError("XFS superblock", at=224, expected="its checksum", got="another")
    if version == 5 and features & ~KNOWN_INCOMPATIBLE:
        raise DecodeError("XFS superblock", at=216, expected="known features", got=f"{features:#x}")
    return XfsSuper(
        size, blocks, root, log, log_blocks, group, groups, sector, inode, per_block, block_bits, per_block_bits,
        group_bits, size << raw[192], version, features if version == 5 else 0, read_only if version == 5 else 0,
        bool(features & HAS_TYPE) if version == 5 else bool(flags & 0x8000 and features2 & 0x200),
        "".join(c if c.isprintable() else "?" for c in text_of(raw[108:120].split(b"\0")[0])).strip(),
        inodes, free_inodes,
        frozenset(n for n in (bitmap, summary, *quotas) if n not in (0, NONE_64)),
    )  # fmt: skip


def has_sum(raw: bytes, at: int) -> bool:
    """The little-endian CRC-32C there is that of all of it with zeros in its place."""
    made = crc32c(0xFFFFFFFF, raw[:at] + bytes(4) + raw[at + 4 :]) ^ 0xFFFFFFFF
    return made == int.from_bytes(raw[at : at + 4], "little")


@dataclass(frozen=True, slots=True)
class XfsInode:
    """`fork`: what stands in it for its data; `extents`: how many it says it has; `attributes`: the same
    of its attributes: (format, extents, what stands in it)."""

    mode: int
    format: int
    links: int
    size: int
    blocks: int
    modified: float
    extents: int
    flags: int
    fork: bytes
    attributes: tuple[int, int, bytes] | None

    @property
    def kind(self) -> int:
        return self.mode & 0o170000


def read_inode(raw: bytes, own: XfsSuper, number: int) -> XfsInode:
    """One inode's bytes. Raises DecodeError."""
    what = f"XFS inode {number}"
    if raw[:2] != b"IN":
        raise DecodeError(what, at=0, expected="IN", got=raw[:2].hex())
    mode, version, form, old_links = struct.unpack_from(">HBBH", raw, 2)
    if mode and (mode >> 12 not in _KINDS or form > BTREE):
        raise DecodeError(what, at=2, expected="a known kind of file", got=f"{mode:o}, {form}")
    start = _FORK_V5 if version >= 3 else _FORK_V4
    if own.is_v5 and (version != 3 or int.from_bytes(raw[152:160], "big") != number):
        raise DecodeError(what, at=152, expected="its own number", got=int.from_bytes(raw[152:160], "big"))
    end = start + raw[82] * 8 if raw[82] else len(raw)
    if end > len(raw):
        raise DecodeError(what, at=82, expected="a fork inside it", got=raw[82])
    more = int.from_bytes(raw[120:128], "big") if version >= 3 else 0
    seconds, parts = struct.unpack_from(">iI", raw, 40)
    modified = (
        int.from_bytes(raw[40:48], "big") / 1e9 - (1 << 31)
        if more & BIG_TIME
        else seconds + min(parts, 999_999_999) / 1e9
    )
    extents = int.from_bytes(raw[24:32], "big") if more & 0x10 else int.from_bytes(raw[76:80], "big")
    return XfsInode(
        mode, form, old_links if version == 1 else int.from_bytes(raw[16:20], "big"), int.from_bytes(raw[56:64], "big"),
        int.from_bytes(raw[64:72], "big"), modified, extents, int.from_bytes(raw[90:92], "big"), raw[start:end],
        (raw[83], int.from_bytes(raw[80:82] if not more & 0x10 else raw[76:80], "big"), raw[end:]) if raw[82] else None,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class XfsExtent:
    """In blocks: `at` of the file, `block` of the volume."""

    at: int
    block: int
    count: int
    is_written: bool


def read_extents(raw: bytes, count: int) -> list[XfsExtent]:
    """Raises DecodeError where there is no room for so many."""
    if count * 16 > len(raw):
        raise DecodeError("XFS extents", at=0, expected=f"room for {count}", got=f"{len(raw)} bytes")
    found = []
    for high, low in struct.iter_unpack(">2Q", raw[: count * 16]):
        own = XfsExtent((high & (1 << 63) - 1) >> 9, (high & 0x1FF) << 43 | low >> 21, low & 0x1FFFFF, not high >> 63)
        found.append(own)
    return found


@dataclass(frozen=True, slots=True)
class XfsEntry:
    """`kind`: of what it leads to, 0 where it does not say."""

    name: bytes
    inode: int
    kind: int


def short_entries(fork: bytes, *, has_type: bool) -> Iterator[XfsEntry]:
    """Of a folder that stands in its inode. Raises DecodeError."""
    if len(fork) < 6:
        raise DecodeError("XFS folder", at=0, expected="a header", got=f"{len(fork)} bytes")
    wide = 8 if fork[1] else 4
    at = 2 + wide
    for _ in range(fork[1] or fork[0]):
        end = at + 3 + fork[at] + has_type + wide if at + 3 < len(fork) else len(fork) + 1
        if end > len(fork) or not fork[at]:
            raise DecodeError("XFS folder", at=at, expected="an entry inside it", got=fork[at : at + 3].hex())
        name = fork[at + 3 : at + 3 + fork[at]]
        kind = _TYPES.get(fork[end - wide - 1], 0) if has_type else 0
        yield XfsEntry(name, int.from_bytes(fork[end - wide : end], "big"), kind)
        at = end


def block_entries(raw: bytes, own: XfsSuper) -> Iterator[XfsEntry]:
    """Of one block of a folder. Raises DecodeError, after those that stand before the fault."""
    magic, end = raw[:4], len(raw)
    if magic not in ((b"XDB3", b"XDD3") if own.is_v5 else (b"XD2B", b"XD2D")):
        raise DecodeError("XFS folder", at=0, expected="a block of entries", got=magic.hex())
    if magic in (b"XDB3", b"XD2B"):
        end -= 8 + 8 * int.from_bytes(raw[-8:-4], "big")
    at = 64 if own.is_v5 else 16
    while at < end:
        if raw[at : at + 2] == b"\xff\xff":
            length = int.from_bytes(raw[at + 2 : at + 4], "big")
        else:
            name = raw[at + 9 : at + 9 + raw[at + 8]]
            length = 11 + len(name) + own.has_type + 7 & ~7
            kind = _TYPES.get(raw[at + 9 + len(name)], 0) if own.has_type else 0
            if not name or at + length > end or int.from_bytes(raw[at + length - 2 : at + length], "big") != at:
                raise DecodeError("XFS folder", at=at, expected="an entry that ends with its place", got=name.hex())
            if name not in (b".", b".."):
                yield XfsEntry(name, int.from_bytes(raw[at : at + 8], "big"), kind)
        if length < 8 or length % 8 or at + length > end:
            raise DecodeError("XFS folder", at=at, expected="a length inside its block", got=length)
        at += length


def name_hash(name: bytes) -> int:
    """As a folder's index has it (chapter 15.2)."""
    value, whole = 0, len(name) // 4 * 4
    for at in range(0, whole, 4):
        own = name[at] << 21 ^ name[at + 1] << 14 ^ name[at + 2] << 7 ^ name[at + 3]
        value = own ^ (value << 28 & 0xFFFFFFFF | value >> 4)
    rest = name[whole:]
    if rest:
        own = 0
        for byte in rest:
            own = own << 7 ^ byte
        turn = 7 * len(rest)
        value = own ^ (value << turn & 0xFFFFFFFF | value >> 32 - turn)
    return value & 0xFFFFFFFF


def index_hashes(raw: bytes, own: XfsSuper) -> list[int]:
    """Hashes of names in a block of a folder's index, or at the end of its only block; none where it holds none."""
    if raw[:4] in (b"XDB3", b"XD2B"):
        count = int.from_bytes(raw[-8:-4], "big")
        start = len(raw) - 8 - 8 * count
    elif raw[8:10] in ((b"\x3d\xf1", b"\x3d\xff") if own.is_v5 else (b"\xd2\xf1", b"\xd2\xff")):
        start = 64 if own.is_v5 else 16
        count = int.from_bytes(raw[56:58] if own.is_v5 else raw[12:14], "big")
    else:
        return []
    if start < 0 or start + 8 * count > len(raw):
        return []
    return [hash_ for hash_, at in struct.iter_unpack(">2I", raw[start : start + 8 * count]) if at]


@dataclass(frozen=True, slots=True)
class TreeShape:
    """A kind of tree: its marks in version 4 and 5, size of a record, of a key, and whether blocks are named by the
    volume (8 bytes) or by the group (4)."""

    marks: tuple[bytes, bytes]
    record: int
    key: int
    is_long: bool

    def header(self, *, is_v5: bool) -> int:
        return (72 if is_v5 else 24) if self.is_long else (56 if is_v5 else 16)

    @property
    def sum_at(self) -> int:
        return 64 if self.is_long else 52

    @property
    def pointer(self) -> int:
        return 8 if self.is_long else 4


BLOCK_MAP = TreeShape((b"BMAP", b"BMA3"), 16, 8, is_long=True)
FREE_BY_PLACE = TreeShape((b"ABTB", b"AB3B"), 8, 8, is_long=False)
FREE_BY_SIZE = TreeShape((b"ABTC", b"AB3C"), 8, 8, is_long=False)
INODES = TreeShape((b"IABT", b"IAB3"), 16, 4, is_long=False)
FREE_INODES = TreeShape((b"FIBT", b"FIB3"), 16, 4, is_long=False)
HOLDERS = TreeShape((b"RMB3", b"RMB3"), 24, 40, is_long=False)
SHARES = TreeShape((b"R3FC", b"R3FC"), 12, 4, is_long=False)


@dataclass(frozen=True, slots=True)
class TreePlace:
    """Where a group's head says a tree begins. `head`: 1 of free blocks, 2 of inodes; `feature`: the read-only feature
    that it comes with, 0 for those that all have."""

    shape: TreeShape
    head: int
    root_at: int
    level_at: int
    feature: int


TREES = (
    TreePlace(FREE_BY_PLACE, 1, 16, 28, 0),
    TreePlace(FREE_BY_SIZE, 1, 20, 32, 0),
    TreePlace(HOLDERS, 1, 24, 36, BY_BLOCK_MAP),
    TreePlace(SHARES, 1, 88, 92, SHARED),
    TreePlace(INODES, 2, 20, 24, 0),
    TreePlace(FREE_INODES, 2, 328, 332, FREE_INODE_MAP),
)


def read_tree_block(raw: bytes, shape: TreeShape, own: XfsSuper, level: int) -> tuple[Sequence[bytes], Sequence[int]]:
    """(records, blocks below) of a block of a tree; one of the two is empty. Raises DecodeError."""
    what, head = "XFS tree", shape.header(is_v5=own.is_v5)
    if raw[:4] != shape.marks[own.is_v5]:
        raise DecodeError(what, at=0, expected=shape.marks[own.is_v5].decode(), got=raw[:4].hex())
    if own.is_v5 and not has_sum(raw, shape.sum_at):
        raise DecodeError(what, at=shape.sum_at, expected="its checksum", got="another")
    told, count = struct.unpack_from(">2H", raw, 4)
    most = (len(raw) - head) // (shape.record if level == 0 else shape.key + shape.pointer)
    if told != level or count > most:
        raise DecodeError(what, at=4, expected=f"level {level}, at most {most}", got=f"level {told}, {count}")
    if level == 0:
        return [raw[head + n * shape.record : head + (n + 1) * shape.record] for n in range(count)], ()
    start = head + most * shape.key
    return (), [int.from_bytes(raw[start + n * shape.pointer :][: shape.pointer], "big") for n in range(count)]
