"""The small structures that a mount of ext looks at first: the journal's head, and the block that guards against two
mounts at once.

Linux, Documentation/filesystems/ext4: journal (jbd2), multiple mount protection. The system's own checker holds them to
the same bounds.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.crc32c import crc32c
from gatecheck.core.volume.ext import layout as e
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.tree import DAMAGE, SIGN, VolumeFinding

_MAGIC, _FIRST_KIND, _SECOND_KIND, _KNOWN = 0xC03B3998, 3, 4, 0x3F
_LEAST = 1024
"""blocks of a journal"""
_GUARD = 0x004D4D50
_ERRORS = 2
"""of the superblock's state: it says so itself"""


def journal_findings(volume: Ext) -> Iterator[VolumeFinding]:
    """What is wrong with the journal's place and head. Raises DecodeError where they cannot be read."""
    own = volume.super
    number, device = struct.unpack_from("<2I", own.raw, 0xE0)
    elsewhere = device or any(own.raw[0xD0:0xE0])
    if not own.compat & e.HAS_JOURNAL:
        if own.incompat & e.RECOVER or number or device:
            yield VolumeFinding("journal-head", DAMAGE, values={"why": "feature"})
        return
    if not number:
        if elsewhere:
            yield VolumeFinding("journal-elsewhere", SIGN)
        else:
            yield VolumeFinding("journal-head", DAMAGE, values={"why": "inode"})
        return
    if not 1 <= number <= own.inodes:
        yield VolumeFinding("journal-head", DAMAGE, values={"why": "inode"})
        return
    inode = volume.inode(number)
    blocks = [m for m in sorted(volume.mapped(inode), key=lambda m: m.first) if m.block is not None]
    count = sum(m.count for m in blocks)
    if not inode.is_regular or not inode.links or not blocks or blocks[0].first or inode.size < _LEAST * own.block:
        yield VolumeFinding("journal-head", DAMAGE, values={"why": "inode"})
        return
    raw = volume.bytes.read((blocks[0].block or 0) * own.block, 1024, "journal superblock")
    why = _head_problem(raw, own.block, count)
    if why:
        yield VolumeFinding("journal-head", DAMAGE, values={"why": why})
    elif struct.unpack_from(">I", raw, 32)[0] and not own.state & _ERRORS:
        yield VolumeFinding("errors-noted", SIGN, repairable=True)


def _head_problem(raw: bytes, block: int, count: int) -> str:
    magic, kind = struct.unpack_from(">2I", raw, 0)
    size, length, first = struct.unpack_from(">3I", raw, 12)
    compat, incompat, read_only = struct.unpack_from(">3I", raw, 36)
    users = struct.unpack_from(">I", raw, 64)[0]
    if magic != _MAGIC or kind not in (_FIRST_KIND, _SECOND_KIND):
        return "mark"
    if size != block or not 0 < first < length <= count:
        return "size"
    if kind == _FIRST_KIND:
        return "version" if compat or incompat or read_only or users else ""
    if users > 1:
        return "users"
    return "features" if incompat & ~_KNOWN or read_only else ""


def guard_findings(volume: Ext, seed: int) -> Iterator[VolumeFinding]:
    own = volume.super
    if not own.incompat & e.GUARDED:
        return
    number = int.from_bytes(own.raw[0x168:0x170], "little")
    if not own.first_block < number < own.blocks:
        yield VolumeFinding("mount-guard", DAMAGE)
        return
    try:
        raw = volume.bytes.read(number * own.block, 1024, "mount guard")
    except DecodeError as error:
        yield VolumeFinding("unreadable", SIGN, str(error))
        return
    summed = own.has_checksums and crc32c(seed, raw[:1020]) != int.from_bytes(raw[1020:1024], "little")
    if struct.unpack_from("<I", raw, 0)[0] != _GUARD or summed:
        yield VolumeFinding("mount-guard", DAMAGE)
