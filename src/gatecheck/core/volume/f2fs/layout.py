"""The records of F2FS: superblock, checkpoint, node address table, nodes, entries of folders.

Linux, Documentation/filesystems/f2fs.rst and include/linux/f2fs_fs.h (on-disk format). Numbers are little-endian,
blocks have 4096 bytes.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError

MAGIC, BLOCK, SUPERS = 0xF2F52010, 4096, (1024, 4096 + 1024)
SUMMED, FLEXIBLE, SUPER_SUMMED, ANY_CASE = 0x20, 0x40, 0x800, 0x1000
UNMOUNTED, ORPHANS, COMPACT, ERROR, WANTS_CHECK, LARGE_MAP = 0x1, 0x2, 0x4, 0x8, 0x10, 0x400
"""flags of a checkpoint"""
NOWHERE, RESERVED, PACKED = 0, 0xFFFFFFFF, 0xFFFFFFFE
"""addresses of blocks that are none"""
IN_INODE, ENTRIES_IN_INODE, HAS_EXTRA, ATTRIBUTES_IN_INODE = 0x2, 0x4, 0x20, 0x1
ENCRYPTED = 0x4
FOLDER, REGULAR, LINK = 0o040000, 0o100000, 0o120000
NAT_ENTRIES, NODE_ADDRESSES, INODE_ADDRESSES = 455, 1018, 923
_ADDRESSES_AT, _NODES_AT, FOOTER = 360, 4052, 4072
_ENTRY, _SLOT, _JOURNAL_ENTRY = 11, 8, 13
_SUMMARIES, _JOURNAL = 3584, 507
_TYPES = {1: REGULAR, 2: FOLDER, 7: LINK}


@dataclass(frozen=True, slots=True)
class FlashSuper:
    """Block addresses of the volume's areas. `segment`: blocks of one; `payload`: blocks of a checkpoint's head beyond
    the first."""

    segment: int
    blocks: int
    checkpoint: int
    nat: int
    nat_segments: int
    main: int
    root: int
    node: int
    meta: int
    payload: int
    features: int
    drives: int
    uuid: bytes
    label: str


def raw_sum(seed: int, data: bytes) -> int:
    """CRC-32 as the volume uses it: seeded, without inversion before or after."""
    return zlib.crc32(data, seed ^ 0xFFFFFFFF) ^ 0xFFFFFFFF


def read_super(raw: bytes) -> FlashSuper:
    """Of 3072 bytes. Raises DecodeError."""
    what = "F2FS superblock"
    if len(raw) < 3072 or int.from_bytes(raw[:4], "little") != MAGIC:
        raise DecodeError(what, at=0, expected=f"{MAGIC:#x}", got=raw[:4].hex() or "nothing")
    features = int.from_bytes(raw[2180:2184], "little")
    at = int.from_bytes(raw[32:36], "little")
    if (
        features & SUPER_SUMMED
        and at == 3068
        and raw_sum(MAGIC, raw[:at]) != int.from_bytes(raw[at : at + 4], "little")
    ):
        raise DecodeError(what, at=at, expected="its checksum", got="another")
    block_bits, segment_bits = struct.unpack_from("<2I", raw, 16)
    (blocks,) = struct.unpack_from("<Q", raw, 36)
    segments = struct.unpack_from("<6I", raw, 48)
    areas = struct.unpack_from("<6I", raw, 72)
    root, node, meta = struct.unpack_from("<3I", raw, 96)
    payload = int.from_bytes(raw[1664:1668], "little")
    ordered = areas[0] <= areas[1] < areas[2] < areas[3] < areas[4] < areas[5] < blocks
    if block_bits != 12 or segment_bits != 9 or not ordered or payload > 64:
        got = f"{1 << min(block_bits, 40)} bytes a block, areas at {areas}"
        raise DecodeError(what, at=16, expected="blocks of 4096 bytes, areas in their order", got=got)
    label = raw[124:1148].decode("utf-16-le", "replace").split("\0")[0]
    drives = sum(raw[place] != 0 for place in range(2201, 2201 + 8 * 68, 68))
    return FlashSuper(
        1 << segment_bits, blocks, areas[1], areas[3], segments[3], areas[5], root, node, meta, payload, features,
        drives, raw[108:124], "".join(c if c.isprintable() else "?" for c in label),
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Checkpoint:
    """`at`: its first block; `bitmap`: which of the two copies of each block of the node address table counts."""

    at: int
    version: int
    flags: int
    total: int
    summaries: int
    nodes: int
    inodes: int
    blocks: int
    bitmap: bytes


def read_checkpoint(raw: bytes, at: int, payload: int) -> Checkpoint:
    """Of a pack's first block. Raises DecodeError."""
    what, sum_at = "F2FS checkpoint", int.from_bytes(raw[164:168], "little")
    if not 192 <= sum_at <= BLOCK - 4 or raw_sum(MAGIC, raw[:sum_at]) != int.from_bytes(
        raw[sum_at : sum_at + 4], "little"
    ):
        raise DecodeError(what, at=at * BLOCK, expected="its checksum", got="another")
    version, _, blocks = struct.unpack_from("<3Q", raw, 0)
    flags, total, summaries, nodes, inodes, _, sit, nat = struct.unpack_from("<8I", raw, 132)
    start = 192 + (4 if flags & LARGE_MAP else 0 if payload else sit)
    if start + nat > BLOCK and not flags & LARGE_MAP:
        raise DecodeError(what, at=160, expected="a bitmap inside it", got=nat)
    return Checkpoint(at, version, flags, total, summaries, nodes, inodes, blocks, raw[start : start + nat])


def journal_of(raw: bytes, *, is_compact: bool) -> dict[int, tuple[int, int]]:
    """Number -> (inode, block) of nodes that were moved since the table was written, of the block that holds them."""
    own = raw[:_JOURNAL] if is_compact else raw[_SUMMARIES : _SUMMARIES + _JOURNAL]
    count = min(int.from_bytes(own[:2], "little"), (_JOURNAL - 2) // _JOURNAL_ENTRY)
    found = {}
    for n in range(count):
        number, _, inode, block = struct.unpack_from("<IBII", own, 2 + n * _JOURNAL_ENTRY)
        found[number] = (inode, block)
    return found


@dataclass(frozen=True, slots=True)
class FlashInode:
    """`inner`: what stands in it in the place of addresses; `addresses`, `nodes`: blocks, and nodes of more of them."""

    mode: int
    flags: int
    advice: int
    links: int
    size: int
    blocks: int
    modified: float
    attributes: int
    inner: bytes
    addresses: tuple[int, ...]
    nodes: tuple[int, ...]
    compression: int
    cluster: int

    @property
    def kind(self) -> int:
        return self.mode & 0o170000


def read_inode(raw: bytes, features: int, number: int) -> FlashInode:
    """A node that is an inode. Raises DecodeError."""
    mode, advice, flags = struct.unpack_from("<HBB", raw, 0)
    links, size, blocks = struct.unpack_from("<IQQ", raw, 12)
    extra = int.from_bytes(raw[360:362], "little") // 4 if flags & HAS_EXTRA else 0
    attributes = 0
    if flags & HAS_EXTRA and features & FLEXIBLE:
        attributes = int.from_bytes(raw[362:364], "little")
    elif flags & (ATTRIBUTES_IN_INODE | ENTRIES_IN_INODE):
        attributes = 50
    count = INODE_ADDRESSES - extra - attributes
    if mode >> 12 not in (1, 2, 4, 6, 8, 10, 12) or extra > 64 or count <= 1:
        raise DecodeError(
            f"F2FS inode {number}", at=0, expected="a known kind of file", got=f"{mode:o}, {count} addresses"
        )
    start = _ADDRESSES_AT + extra * 4
    compression, cluster = 0, 0
    if extra >= 9 and features & 0x2000 and int.from_bytes(raw[80:84], "little") & 0x4:
        compression, cluster = raw[392] + 1, 1 << min(raw[393], 8)
        count -= count % cluster
    return FlashInode(
        mode, flags, advice, links, size, blocks,
        int.from_bytes(raw[48:56], "little", signed=True) + int.from_bytes(raw[64:68], "little") / 1e9,
        int.from_bytes(raw[76:80], "little"), raw[start + 4 : _NODES_AT - attributes * 4],
        struct.unpack_from(f"<{count}I", raw, start), struct.unpack_from("<5I", raw, _NODES_AT), compression, cluster,
    )  # fmt: skip


def sum_fits(raw: bytes, own: FlashSuper, number: int) -> bool:
    """An inode's checksum, where the volume has them."""
    if not own.features & SUMMED:
        return True
    if not raw[3] & HAS_EXTRA or int.from_bytes(raw[360:362], "little") < 12:
        return False  # all of them have room for it where the volume has sums
    seed = raw_sum(raw_sum(raw_sum(0xFFFFFFFF, own.uuid), number.to_bytes(4, "little")), raw[68:72])
    made = raw_sum(seed, raw[:368] + bytes(4) + raw[372:BLOCK])
    return made == int.from_bytes(raw[368:372], "little")


_WORD, _DELTA = 0xFFFFFFFF, 0x9E3779B9


def name_hash(name: bytes) -> int:
    """Of a name in a folder: TEA in 16 rounds over pieces of 16 bytes (fs/f2fs/hash.c)."""
    first, second = 0x67452301, 0xEFCDAB89
    for at in range(0, max(1, len(name)), 16):
        rest = len(name) - at
        pad = (rest | rest << 8) & _WORD
        pad = (pad | pad << 16) & _WORD
        words = []
        for place in range(0, 16, 4):
            value = pad
            for byte in name[at + place : at + min(place + 4, 16)]:
                value = (value << 8) + byte & _WORD
            words.append(value)
        one, two, total = first, second, 0
        for _ in range(16):
            total = total + _DELTA & _WORD
            one = one + ((two << 4) + words[0] ^ two + total ^ (two >> 5) + words[1]) & _WORD
            two = two + ((one << 4) + words[2] ^ one + total ^ (one >> 5) + words[3]) & _WORD
        first, second = first + one & _WORD, second + two & _WORD
    return first


@dataclass(frozen=True, slots=True)
class FlashEntry:
    name: bytes
    inode: int
    kind: int
    hash: int


def entries_of(raw: bytes) -> Iterator[FlashEntry]:
    """Of a block of a folder, or of what stands in its inode: bitmap, entries, names in slots of 8 bytes. Raises
    DecodeError, after those that stand before the fault."""
    count = len(raw) * 8 // ((_ENTRY + _SLOT) * 8 + 1)
    names = len(raw) - count * _SLOT
    start = names - count * _ENTRY
    at = 0
    while at < count:
        if not raw[at >> 3] >> (at & 7) & 1:
            at += 1
            continue
        hash_, inode, length, kind = struct.unpack_from("<IIHB", raw, start + at * _ENTRY)
        slots = -(-length // _SLOT)
        if not 0 < length <= 255 or at + slots > count or not inode:
            raise DecodeError("F2FS folder", at=start + at * _ENTRY, expected="an entry inside it", got=length)
        name = raw[names + at * _SLOT : names + at * _SLOT + length]
        if name not in (b".", b".."):
            yield FlashEntry(name, inode, _TYPES.get(kind, 0), hash_)
        at += slots
