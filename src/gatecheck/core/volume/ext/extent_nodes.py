"""Nodes of extent trees of ext, against each other."""

from __future__ import annotations

import struct

from gatecheck.core.volume.ext.layout import Inode
from gatecheck.core.volume.ext.read import Ext


def has_bad_node(volume: Ext, inode: Inode) -> bool:
    """Has its tree an extent of no length, or a node that begins elsewhere than the one above it says. Raises
    DecodeError."""
    waiting: list[tuple[bytes, int | None]] = [(inode.body, None)]
    seen: set[int] = set()
    while waiting:
        node, start = waiting.pop()
        _, entries, _, level = struct.unpack_from("<4H", node, 0)
        for n in range(min(entries, (len(node) - 12) // 12)):
            first, length = struct.unpack_from("<IH", node, 12 + 12 * n)
            if n == 0 and start is not None and first != start:
                return True
            if not level:
                if not length:
                    return True
                continue
            low, high = struct.unpack_from("<IH", node, 16 + 12 * n)
            child = high << 32 | low
            if 0 < child < volume.super.blocks and child not in seen:
                seen.add(child)
                waiting.append((volume.bytes.read(child * volume.block, volume.block, "extents"), first))
    return False


def unwritten(volume: Ext, inode: Inode) -> list[tuple[int, int]]:
    """(block, blocks) of extents that are taken and not written yet."""
    found: list[tuple[int, int]] = []
    waiting = [inode.body]
    for block in volume.tree_blocks(inode):
        waiting.append(volume.bytes.read(block * volume.block, volume.block, "extents"))
    for node in waiting:
        magic, entries, _, level = struct.unpack_from("<4H", node, 0)
        if magic != 0xF30A or level:
            continue
        for n in range(min(entries, (len(node) - 12) // 12)):
            _, length, high, low = struct.unpack_from("<IHHI", node, 12 + 12 * n)
            if length > 0x8000:
                found.append((high << 32 | low, length - 0x8000))
    return found
