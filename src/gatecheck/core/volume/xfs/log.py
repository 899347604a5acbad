"""The log of XFS: whether it ends with the record of an unmount, or holds what was not carried out."""

from __future__ import annotations

import struct

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.xfs.read import Xfs

_MARK, _BLOCK, _UNMOUNT = 0xFEEDBABE, 512, 0x20
_HEAD_HOLDS, _FURTHEST = 32768, 1100
"""bytes of a record that one block of a head speaks for; blocks back from the end in which the last record begins"""


def is_pending(volume: Xfs) -> bool | None:
    """None where the log is on another device. Raises DecodeError where its end cannot be found.

    XFS Algorithms & Data Structures, 3rd edition, chapter 12 (journaling log): every basic block begins with the number
    of its round; the end is where the number falls."""
    own = volume.super
    if not own.log:
        return None
    start, blocks = own.address(own.log), own.log_blocks * own.size // _BLOCK
    end = _end(volume, start, blocks)
    for back in range(1, min(_FURTHEST, blocks)):
        at = (end - back) % blocks
        head = volume.bytes.read(start + at * _BLOCK, _BLOCK, "XFS log")
        if int.from_bytes(head[:4], "big") == _MARK:
            return not _is_unmount(volume, start, blocks, at, head, back)
    raise DecodeError("XFS log", at=start, expected="a record before its end", got="none")


def _round(volume: Xfs, start: int, block: int) -> int:
    first, second = struct.unpack(">2I", volume.bytes.read(start + block * _BLOCK, 8, "XFS log"))
    return int(second if first == _MARK else first)


def _end(volume: Xfs, start: int, blocks: int) -> int:
    """The first block behind the last one written: rounds fall there, once."""
    first, last = _round(volume, start, 0), _round(volume, start, blocks - 1)
    if first == last:
        return 0
    low, high = 0, blocks - 1
    while high - low > 1:
        middle = (low + high) // 2
        if _round(volume, start, middle) == first:
            low = middle
        else:
            high = middle
    return high


def _is_unmount(volume: Xfs, start: int, blocks: int, at: int, head: bytes, back: int) -> bool:
    """The record that begins there holds nothing but the word that all is carried out, and nothing follows it."""
    version, length = struct.unpack_from(">2I", head, 8)
    held = int.from_bytes(head[320:324], "big") if version & 2 else _HEAD_HOLDS
    heads = max(1, -(-held // _HEAD_HOLDS)) if version & 2 else 1
    operations = int.from_bytes(head[40:44], "big")
    if operations != 1 or back != heads + -(-length // _BLOCK):
        return False
    raw = volume.bytes.read(start + (at + heads) % blocks * _BLOCK, _BLOCK, "XFS log")
    return bool(raw[9] & _UNMOUNT)
