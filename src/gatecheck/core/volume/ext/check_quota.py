"""Quotas of ext that live in inodes of the volume: who uses how much, against what their trees say.

Linux, quota file format 1 with 64-bit fields (`vfsv1`): a header, then a tree of blocks of 1024 bytes over the four
bytes of an id, whose last level leads to blocks with entries of 72 bytes.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Mapping

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.ext.layout import Inode
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.tree import DAMAGE, SIGN, VolumeFinding

QUOTAS, PROJECTS = 0x100, 0x2000
"""of the superblock's features that do not keep it from being read"""
KINDS = (("user", 0x240, 0xD9C01F11), ("group", 0x244, 0xD9C01927), ("project", 0x26C, 0xD9C03F14))
_BLOCK, _DEPTH, _ENTRY, _HEAD = 1024, 4, 72, 16
_LARGEST = 1 << 28
Usage = Mapping[int, tuple[int, int]]


def quota_inodes(volume: Ext) -> dict[str, int]:
    """Kind of quota -> inode; only those that the superblock has."""
    own = volume.super
    if not own.ro_compat & QUOTAS:
        return {}
    found = {kind: int.from_bytes(own.raw[at : at + 4], "little") for kind, at, _ in KINDS}
    return {kind: number for kind, number in found.items() if number}


def quota_findings(volume: Ext, used: Mapping[str, Usage], *, is_whole: bool) -> Iterator[VolumeFinding]:
    """`used`: kind -> id -> (bytes, inodes) as counted; `is_whole`: nothing else is damaged, so that they can be
    compared."""
    magics = {kind: magic for kind, _, magic in KINDS}
    for kind, number in quota_inodes(volume).items():
        try:
            inode = volume.inode(number)
            if not inode.is_regular or not inode.links:
                raise DecodeError(f"inode {number}", at=0, expected="a file", got=f"mode {inode.mode:o}")
            told = _usage(volume, inode, magics[kind])
        except DecodeError:
            yield VolumeFinding("quota", DAMAGE, values={"kind": kind})
            continue
        counted = {own: each for own, each in used.get(kind, {}).items() if any(each)}
        if is_whole and told != counted:
            yield VolumeFinding("quota-count", SIGN, values={"kind": kind})


def _usage(volume: Ext, inode: Inode, magic: int) -> dict[int, tuple[int, int]]:
    if inode.size > _LARGEST:
        raise DecodeError("quota", at=0, expected="at most 256 MiB", got=inode.size)
    raw = b"".join(p if isinstance(p, bytes) else bytes(p.length) for p in volume.pieces(inode))
    if len(raw) < 2 * _BLOCK or struct.unpack_from("<2I", raw, 0) != (magic, 1):
        raise DecodeError("quota", at=0, expected=f"{magic:08X}, version 1", got=raw[:8].hex())
    leaves, level = [1], [1]
    for _ in range(_DEPTH):
        leaves = sorted({n for at in level for n in struct.unpack_from("<256I", _block(raw, at), 0) if n})
        level = leaves
    found = {}
    for at in leaves:
        block = _block(raw, at)
        for place in range(_HEAD, _BLOCK - _ENTRY + 1, _ENTRY):
            own, _, _, _, inodes, _, _, space = struct.unpack_from("<2I6Q", block, place)
            if any(block[place : place + _ENTRY]) and (space or inodes):
                found[own] = (space, inodes)
    return found


def _block(raw: bytes, number: int) -> bytes:
    if number * _BLOCK + _BLOCK > len(raw):
        raise DecodeError("quota", at=0, expected=f"blocks below {len(raw) // _BLOCK}", got=number)
    return raw[number * _BLOCK : (number + 1) * _BLOCK]
