"""The records of Btrfs: superblock, keys, chunks, items.

Linux, Documentation/filesystems/btrfs and include/uapi/linux/btrfs_tree.h (on-disk format). Numbers are little-endian.
"""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.crc32c import crc32c

MAGIC, SUPER_AT, SUPER_SIZE = b"_BHRfS_M", 0x10000, 4096
COPIES = (SUPER_AT, 64 << 20, 256 << 30)
"""bytes at which a superblock stands"""
KEY, HEADER, ITEM, POINTER = 17, 101, 25, 33
"""sizes: a key; a node's head; an item's place in a leaf; a pointer in a node"""
INODE_ITEM, DIR_ITEM, DIR_INDEX, EXTENT_DATA, EXTENT_CSUM, ROOT_ITEM, CHUNK_ITEM = 1, 84, 96, 108, 128, 132, 228
FS_TREE, SUM_TREE, ROOT_FOLDER, FIRST_FREE = 5, 7, 256, 256
SUMS = (1 << 64) - 10
"""object that all sums of data belong to"""
DATA, SYSTEM, METADATA = 1, 2, 4
_SPREAD = 0x8 | 0x40 | 0x80 | 0x100
"""profiles of a chunk by which its bytes lie on several drives in turn"""
_HASHES: Mapping[int, tuple[int, Callable[[bytes], bytes]]] = {
    0: (4, lambda data: (crc32c(0xFFFFFFFF, data) ^ 0xFFFFFFFF).to_bytes(4, "little")),
    2: (32, lambda data: hashlib.sha256(data).digest()),
    3: (32, lambda data: hashlib.blake2b(data, digest_size=32).digest()),
}
"""kind of sum -> bytes that count of the 32, and how they are made. Kind 1 has no maker here: it is not looked at"""


@dataclass(frozen=True, slots=True)
class TreeKey:
    object: int
    type: int
    offset: int


@dataclass(frozen=True, slots=True)
class TreeSuper:
    """Fields of the superblock that a reader needs. `chunks`: the system's chunks, raw."""

    raw: bytes
    generation: int
    root: int
    chunk_root: int
    log_root: int
    size: int
    used: int
    default_folder: int
    drives: int
    sector: int
    node: int
    sum_kind: int
    device: int
    label: str
    chunks: bytes

    @property
    def id(self) -> bytes:
        return self.raw[32:48]


@dataclass(frozen=True, slots=True)
class Chunk:
    """Where a stretch of addresses lies. `places`: bytes of this drive at which a copy of it begins."""

    first: int
    length: int
    kind: int
    places: tuple[int, ...]

    @property
    def is_spread(self) -> bool:
        return bool(self.kind & _SPREAD)


def read_super(raw: bytes) -> TreeSuper:
    """From its 4096 bytes. Raises DecodeError where they are none that can be worked with."""
    if len(raw) < SUPER_SIZE or raw[64:72] != MAGIC:
        raise DecodeError("Btrfs superblock", at=64, expected=MAGIC.decode(), got=raw[64:72].hex())
    kind = int.from_bytes(raw[196:198], "little")
    if not has_sum(kind, raw[:32], raw[32:SUPER_SIZE]):
        raise DecodeError("Btrfs superblock", at=0, expected="its checksum", got=raw[:4].hex())
    generation, root, chunk_root, log_root = struct.unpack_from("<4Q", raw, 72)
    size, used, folder, drives = struct.unpack_from("<4Q", raw, 112)
    sector, node, _, _, chunks = struct.unpack_from("<5I", raw, 144)
    device = int.from_bytes(raw[201:209], "little")
    if not (512 <= sector <= 65536 and not sector & (sector - 1)) or not (4096 <= node <= 65536) or chunks > 2048:
        raise DecodeError("Btrfs superblock sizes", at=144, expected="sectors and nodes", got=f"{sector}, {node}")
    label = raw[299:555].split(b"\0")[0].decode("utf-8", "replace")
    return TreeSuper(
        raw, generation, root, chunk_root, log_root, size, used, folder, drives, sector, node, kind, device, label,
        raw[811 : 811 + chunks],
    )  # fmt: skip


def has_sum(kind: int, told: bytes, data: bytes) -> bool:
    """The sum fits; true where sums of this kind cannot be made here."""
    if kind not in _HASHES:
        return True
    length, made = _HASHES[kind]
    return made(data) == told[:length]


def read_key(raw: bytes, at: int) -> TreeKey:
    return TreeKey(*struct.unpack_from("<QBQ", raw, at))


def read_chunk(first: int, raw: bytes, device: int) -> Chunk:
    """Raises DecodeError where it is cut."""
    if len(raw) < 48:
        raise DecodeError("Btrfs chunk", at=0, expected="48 bytes and its stripes", got=f"{len(raw)} bytes")
    length, _, _, kind = struct.unpack_from("<4Q", raw, 0)
    stripes = int.from_bytes(raw[44:46], "little")
    places = []
    for n in range(min(stripes, (len(raw) - 48) // 32)):
        whose, at = struct.unpack_from("<2Q", raw, 48 + 32 * n)
        if whose == device:
            places.append(at)
    return Chunk(first, length, kind, tuple(places))


def system_chunks(own: TreeSuper) -> Iterator[Chunk]:
    """Those that the superblock itself tells."""
    at = 0
    while at + KEY + 48 <= len(own.chunks):
        key = read_key(own.chunks, at)
        stripes = int.from_bytes(own.chunks[at + KEY + 44 : at + KEY + 46], "little")
        end = at + KEY + 48 + 32 * stripes
        if key.type != CHUNK_ITEM:
            return
        yield read_chunk(key.offset, own.chunks[at + KEY : end], own.device)
        at = end


@dataclass(frozen=True, slots=True)
class TreeInode:
    size: int
    links: int
    mode: int
    modified: float

    @property
    def is_folder(self) -> bool:
        return self.mode & 0xF000 == 0x4000

    @property
    def is_link(self) -> bool:
        return self.mode & 0xF000 == 0xA000


def read_inode(raw: bytes) -> TreeInode:
    """Raises DecodeError where it is cut."""
    if len(raw) < 160:
        raise DecodeError("Btrfs inode", at=0, expected="160 bytes", got=f"{len(raw)} bytes")
    links, _, _, mode = struct.unpack_from("<4I", raw, 40)
    return TreeInode(int.from_bytes(raw[16:24], "little"), links, mode, float(int.from_bytes(raw[136:144], "little")))


@dataclass(frozen=True, slots=True)
class TreeEntry:
    """`where`: the inode it leads to, or the tree of another subvolume."""

    where: TreeKey
    name: bytes
    kind: int


def read_entries(raw: bytes) -> Iterator[TreeEntry]:
    """Of one item: several where their names have one sum."""
    at = 0
    while at + 30 <= len(raw):
        data, letters = struct.unpack_from("<2H", raw, at + 25)
        end = at + 30 + letters + data
        if end > len(raw):
            return
        yield TreeEntry(read_key(raw, at), raw[at + 30 : at + 30 + letters], raw[at + 29])
        at = end


@dataclass(frozen=True, slots=True)
class Extent:
    """A stretch of a file. `at`: its byte in the file; `inline`: its bytes where they stand in the item; else `address`
    and `stored` bytes there, of which from `skip` on `length` belong to the file once they are unpacked; address 0 is a
    hole. `packed`: 0 not, 1 zlib, 2 LZO, 3 Zstandard."""

    at: int
    length: int
    inline: bytes | None
    address: int
    stored: int
    skip: int
    unpacked: int
    packed: int
    is_written: bool


def read_extent(at: int, raw: bytes) -> Extent:
    """Raises DecodeError where it is cut."""
    if len(raw) < 21:
        raise DecodeError("Btrfs extent", at=0, expected="at least 21 bytes", got=f"{len(raw)} bytes")
    unpacked, packed, kind = int.from_bytes(raw[8:16], "little"), raw[16], raw[20]
    if kind == 0:
        return Extent(at, unpacked, raw[21:], 0, 0, 0, unpacked, packed, True)
    if len(raw) < 53:
        raise DecodeError("Btrfs extent", at=0, expected="53 bytes", got=f"{len(raw)} bytes")
    address, stored, skip, length = struct.unpack_from("<4Q", raw, 21)
    return Extent(at, length, None, address, stored, skip, unpacked, packed, kind == 1)
