"""The records of HFS Plus: volume header, forks, nodes and records of its trees.

Technical Note TN1150, "HFS Plus Volume Format". Numbers are big-endian.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise

from gatecheck.core.errors import DecodeError

HEADER_AT, HEADER_SIZE = 1024, 512
UNMOUNTED, INCONSISTENT, JOURNALED = 1 << 8, 1 << 11, 1 << 13
"""attributes of a volume"""
ROOT_PARENT, ROOT, EXTENTS_FILE, CATALOG_FILE, ALLOCATION_FILE, FIRST_USER = 1, 2, 3, 4, 6, 16
FOLDER_RECORD, FILE_RECORD, FOLDER_THREAD, FILE_THREAD = 1, 2, 3, 4
LEAF, INDEX, HEAD = -1, 0, 1
DATA_FORK, RESOURCE_FORK = 0, 0xFF
LINK_MODE, PACKED_FLAG = 0o120000, 0x20
PRIVATE = ("\0\0\0\0HFS+ Private Data", ".HFS+ Private Directory Data\r")
"""folders of the volume's own, with what several names lead to"""
_EPOCH = 2_082_844_800
"""seconds from 1904 to 1970"""


@dataclass(frozen=True, slots=True)
class Fork:
    """`extents`: (first, count) in allocation blocks, those that stand in the record."""

    size: int
    blocks: int
    extents: tuple[tuple[int, int], ...]


def read_fork(raw: bytes) -> Fork:
    """Of 80 bytes."""
    size, _, blocks = struct.unpack_from(">QII", raw, 0)
    return Fork(size, blocks, tuple((first, count) for first, count in struct.iter_unpack(">2I", raw[16:80]) if count))


@dataclass(frozen=True, slots=True)
class VolumeHeader:
    """`block`: bytes of an allocation block."""

    attributes: int
    journal: int
    files: int
    folders: int
    block: int
    blocks: int
    free: int
    is_sensitive: bool
    allocation: Fork
    extents: Fork
    catalog: Fork
    attributes_file: Fork


def read_header(raw: bytes) -> VolumeHeader:
    """Of 512 bytes. Raises DecodeError."""
    if len(raw) < HEADER_SIZE or raw[:2] not in (b"H+", b"HX"):
        raise DecodeError("HFS Plus volume header", at=0, expected="H+ or HX", got=raw[:2].hex() or "nothing")
    version = int.from_bytes(raw[2:4], "big")
    files, folders, block, blocks, free = struct.unpack_from(">5I", raw, 32)
    if version not in (4, 5) or block < 512 or block & (block - 1) or free > blocks or not blocks:
        got = f"version {version}, {blocks} blocks of {block} bytes, {free} free"
        raise DecodeError("HFS Plus volume header", at=2, expected="version 4 or 5 and sizes that fit", got=got)
    return VolumeHeader(
        int.from_bytes(raw[4:8], "big"), int.from_bytes(raw[12:16], "big"), files, folders, block, blocks, free,
        raw[:2] == b"HX", *(read_fork(raw[at : at + 80]) for at in (112, 192, 272, 352)),
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class TreeHead:
    depth: int
    root: int
    records: int
    first_leaf: int
    node: int
    nodes: int
    compares_bytes: bool


def read_head(raw: bytes) -> TreeHead:
    """Of a tree's first node. Raises DecodeError."""
    if len(raw) < 256 or raw[8] != HEAD:
        raise DecodeError("HFS Plus tree", at=8, expected="a header node", got=raw[8:9].hex() or "nothing")
    depth, root, records, first, _, node, _, nodes, _ = struct.unpack_from(">HIIIIHHII", raw, 14)
    if node < 512 or node & (node - 1) or depth > 16 or root >= max(nodes, 1):
        raise DecodeError("HFS Plus tree", at=14, expected="sizes that fit", got=f"nodes of {node}, depth {depth}")
    return TreeHead(depth, root, records, first, node, nodes, raw[51] == 0xBC)


@dataclass(frozen=True, slots=True)
class TreeNode:
    """`records`: (key without its length, data)."""

    kind: int
    height: int
    following: int
    records: tuple[tuple[bytes, bytes], ...]


def read_node(raw: bytes, number: int) -> TreeNode:
    """Raises DecodeError."""
    following, _, kind, height, count, _ = struct.unpack_from(">IIbBHH", raw, 0)
    what = f"HFS Plus node {number}"
    if kind not in (LEAF, INDEX) or count * 2 + 16 > len(raw):
        raise DecodeError(what, at=8, expected="a leaf or an index", got=f"kind {kind}, {count} records")
    starts = struct.unpack_from(f">{count + 1}H", raw, len(raw) - 2 * (count + 1))[::-1]
    records = []
    for start, end in pairwise(starts):
        length = int.from_bytes(raw[start : start + 2], "big")
        data = start + 2 + length + (length & 1)
        if not 14 <= start < end <= len(raw) - 2 * (count + 1) or data > end:
            raise DecodeError(what, at=start, expected="a record inside it", got=f"{start} to {end}")
        records.append((raw[start + 2 : start + 2 + length], raw[data:end]))
    return TreeNode(kind, height, following, tuple(records))


def catalog_key(key: bytes) -> tuple[int, str]:
    """(parent, name). Raises DecodeError."""
    length = int.from_bytes(key[4:6], "big")
    if len(key) < 6 + 2 * length or length > 255:
        raise DecodeError("HFS Plus catalog key", at=4, expected="a name inside it", got=length)
    return int.from_bytes(key[:4], "big"), key[6 : 6 + 2 * length].decode("utf-16-be", "surrogatepass")


@dataclass(frozen=True, slots=True)
class CatalogRecord:
    """A file or a folder. `link`: number of what the name leads to, where several do; `is_folder_link`: that is a
    folder."""

    number: int
    is_folder: bool
    count: int
    modified: float
    mode: int
    is_packed: bool
    link: int
    is_folder_link: bool
    data: Fork
    resource: Fork


def read_record(raw: bytes) -> CatalogRecord:
    """Raises DecodeError where it is neither."""
    kind = int.from_bytes(raw[:2], "big")
    is_folder = kind == FOLDER_RECORD
    if kind not in (FOLDER_RECORD, FILE_RECORD) or len(raw) < (88 if is_folder else 248):
        raise DecodeError("HFS Plus catalog record", at=0, expected="a file or folder", got=f"kind {kind}, {len(raw)}")
    count, number, _, modified = struct.unpack_from(">4I", raw, 4)
    mode, special = struct.unpack_from(">HI", raw, 42)
    none = Fork(0, 0, ())
    kinds = raw[48:56]
    return CatalogRecord(
        number, is_folder, count, modified - _EPOCH, mode, bool(raw[41] & PACKED_FLAG) and not is_folder,
        special if kinds in (b"hlnkhfs+", b"fdrpMACS") and not is_folder else 0, kinds == b"fdrpMACS",
        none if is_folder else read_fork(raw[88:168]), none if is_folder else read_fork(raw[168:248]),
    )  # fmt: skip


def bits_of(raw: bytes) -> Iterator[int]:
    """Places of all bits that are set, the highest of a byte first."""
    for at, byte in enumerate(raw):
        if byte:
            yield from (at * 8 + n for n in range(8) if byte >> (7 - n) & 1)
