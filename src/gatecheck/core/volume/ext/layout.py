"""The records of ext2, ext3 and ext4: what a superblock and an inode say, and the marks they are known by.

Linux, Documentation/filesystems/ext4: super block, index nodes.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError

MAGIC, ROOT, JOURNAL = 0xEF53, 2, 8
FOLDER, REGULAR, SYMLINK = 0x4000, 0x8000, 0xA000
EXTENTS, INLINE, ENCRYPTED, INDEXED, CASEFOLDED = 0x80000, 0x10000000, 0x800, 0x1000, 0x40000000
HAS_JOURNAL, GUARDED = 0x4, 0x100
"""the latter: a block tells who has it mounted"""
FILETYPE, RECOVER, META_BG, WIDE, FLEX, ENCRYPT, INLINE_DATA, CASEFOLD = (
    0x2,
    0x4,
    0x10,
    0x80,
    0x200,
    0x10000,
    0x8000,
    0x20000,
)
SPARSE_SUPER, CHECKSUMS, BIGALLOC, GDT_CSUM = 0x1, 0x400, 0x200, 0x10


@dataclass(frozen=True, slots=True)
class Super:
    """Fields of the superblock that a reader needs; sizes in bytes, counts of blocks and inodes."""

    raw: bytes
    inodes: int
    blocks: int
    free_blocks: int
    free_inodes: int
    first_block: int
    block: int
    per_group: int
    inodes_per_group: int
    state: int
    inode_size: int
    compat: int
    incompat: int
    ro_compat: int
    uuid: bytes
    label: str
    group_size: int
    first_inode: int

    @property
    def groups(self) -> int:
        return -(-(self.blocks - self.first_block) // self.per_group)

    def super_at(self, group: int) -> int:
        """Block of the superblock's copy in a group that has one; behind it stands the table of groups. The first
        superblock is always 1024 bytes in."""
        own = self.first_block + group * self.per_group
        return own or 1024 // self.block

    @property
    def has_other_fields(self) -> bool:
        """Another system made it, where inodes have other fields at their end."""
        return self.raw[72:76] == b"\1\0\0\0"

    @property
    def has_checksums(self) -> bool:
        return bool(self.ro_compat & CHECKSUMS)


def read_super(raw: bytes) -> Super:
    """From its 1024 bytes. Raises DecodeError where they are none that can be worked with."""
    if len(raw) < 1024 or int.from_bytes(raw[56:58], "little") != MAGIC:
        raise DecodeError("ext superblock", at=56, expected="53 EF", got=raw[56:58].hex())
    inodes, blocks, _, free_blocks, free_inodes, first_block, log = struct.unpack_from("<7I", raw, 0)
    per_group, clusters, inodes_per_group = struct.unpack_from("<3I", raw, 32)
    clusters = clusters if int.from_bytes(raw[100:104], "little") & BIGALLOC else per_group
    state, _, _ = struct.unpack_from("<3H", raw, 58)
    revision = int.from_bytes(raw[76:80], "little")
    first_inode, inode_size = struct.unpack_from("<IH", raw, 84) if revision else (11, 128)
    compat, incompat, ro_compat = struct.unpack_from("<3I", raw, 92) if revision else (0, 0, 0)
    if incompat & WIDE:
        blocks |= int.from_bytes(raw[0x150:0x154], "little") << 32
        free_blocks |= int.from_bytes(raw[0x158:0x15C], "little") << 32
    group_size = max(32, int.from_bytes(raw[0xFE:0x100], "little")) if incompat & WIDE else 32
    if (
        log > 6
        or not per_group
        or clusters > 8 << (10 + log)
        or not 0 < inodes_per_group <= 8 << (10 + log)
        or not blocks
        or first_block >= blocks
    ):
        raise DecodeError(
            "ext superblock sizes",
            at=24,
            expected="blocks of 1 to 64 KiB in groups",
            got=f"2^{10 + log & 63}, {per_group} a group, {blocks} in all",
        )
    if inode_size < 128 or inode_size > 1024 << log or inode_size & (inode_size - 1) or group_size > 1024:
        raise DecodeError("ext superblock inodes", at=88, expected="a power of two from 128", got=inode_size)
    if inodes != inodes_per_group * -(-(blocks - first_block) // per_group):
        raise DecodeError(
            "ext superblock inodes",
            at=0,
            expected="as many a group in every group",
            got=f"{inodes} in all, {inodes_per_group} a group",
        )
    label = raw[120:136].split(b"\0")[0].decode("utf-8", "replace")
    return Super(
        raw[:1024],
        inodes,
        blocks,
        free_blocks,
        free_inodes,
        first_block,
        1024 << log,
        per_group,
        inodes_per_group,
        state,
        inode_size,
        compat,
        incompat,
        ro_compat,
        raw[104:120],
        label,
        group_size,
        first_inode,
    )


@dataclass(frozen=True, slots=True)
class Inode:
    number: int
    raw: bytes
    mode: int
    size: int
    links: int
    flags: int
    blocks: int
    modified: int
    deleted_at: int

    @property
    def is_folder(self) -> bool:
        return self.mode & 0xF000 == FOLDER

    @property
    def is_regular(self) -> bool:
        return self.mode & 0xF000 == REGULAR

    @property
    def is_link(self) -> bool:
        return self.mode & 0xF000 == SYMLINK

    @property
    def body(self) -> bytes:
        return self.raw[40:100]


@dataclass(frozen=True, slots=True)
class Mapped:
    """Blocks of a file. `block`: None for a stretch that was taken but never written; `first`: the file's block."""

    first: int
    block: int | None
    count: int


@dataclass(frozen=True, slots=True)
class DirectoryEntry:
    inode: int
    name: str
    kind: int


def parse_inode(raw: bytes, number: int) -> Inode:
    mode, _, size, _, _, modified, deleted, _, links, blocks, flags = struct.unpack_from("<HHIIIIIHHII", raw, 0)
    if mode & 0xF000 in (REGULAR, FOLDER):
        size |= int.from_bytes(raw[108:112], "little") << 32
    return Inode(number, raw, mode, size, links, flags, blocks, modified, deleted)
