"""Repairs that are certain for ext: what the journal still holds, counts and flags. All else is handed to the system's
own checker, with the reason."""

from __future__ import annotations

import struct
from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.crc32c import crc32c
from gatecheck.core.volume.ext import layout as e
from gatecheck.core.volume.ext.journal import pending_blocks
from gatecheck.core.volume.ext.layout import JOURNAL
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.repair_group import RepairGroup, group

if TYPE_CHECKING:
    from gatecheck.core.volume.check import Report


def ext_groups(volume: Ext, report: Report) -> list[Callable[[], RepairGroup | None]]:
    ids = {f.id for f in report.findings}
    base = volume.bytes.base

    def journal() -> RepairGroup | None:
        """The blocks that a mount would write, then the journal marked empty, then the superblock's note that there is
        something to do taken off."""
        if "journal-pending" not in ids:
            return None
        blocks = pending_blocks(volume)
        writes = [(base + number * volume.block, data) for number, data in sorted(blocks.items())]
        first = next(
            (
                m.block
                for m in sorted(volume.mapped(volume.inode(JOURNAL)), key=lambda m: m.first)
                if m.block is not None
            ),
            None,
        )
        if first is None:
            raise DecodeError("journal", at=0, expected="a first block", got="none")
        head = bytearray(volume.bytes.read(first * volume.block, 1024, "journal superblock"))
        head[28:32] = bytes(4)
        if struct.unpack_from(">I", head, 40)[0] & 0x18:
            head[0xFC:0x100] = bytes(4)
            head[0xFC:0x100] = struct.pack(">I", crc32c(0xFFFFFFFF, bytes(head)))
        writes.append((base + first * volume.block, bytes(head)))
        inside = 0 if volume.block > 1024 else 1
        raw = bytearray(
            blocks[inside][1024 if volume.block > 1024 else 0 :][:1024] if inside in blocks else volume.super.raw
        )
        incompat = int.from_bytes(raw[96:100], "little") & ~e.RECOVER
        raw[96:100] = struct.pack("<I", incompat)
        writes.append((base + 1024, _summed(volume, raw)))
        return group("journal", writes, "journal", count=len(blocks))

    def counts() -> RepairGroup | None:
        """Counts of free blocks and inodes, of groups and of the whole, by the maps; only where the maps themselves are
        right."""
        own = volume.super
        if (
            "free-count" not in ids
            or ids & {"lost", "unmarked", "inode-map", "map-unread", "crossed"}
            or own.incompat & e.META_BG
            or own.ro_compat & e.BIGALLOC
        ):
            return None
        return group("counts", _counted(volume), "count")

    def flags() -> RepairGroup | None:
        if not ids or not ids <= {"dirty", "errors-noted"}:
            return None
        raw = bytearray(volume.super.raw)
        raw[58:60] = struct.pack("<H", 1)
        return group("flags", [(base + 1024, _summed(volume, raw))], "superblock")

    return [journal, counts, flags]


def _summed(volume: Ext, raw: bytearray) -> bytes:
    if volume.super.has_checksums:
        raw[1020:1024] = crc32c(0xFFFFFFFF, bytes(raw[:1020])).to_bytes(4, "little")
    return bytes(raw)


def _counted(volume: Ext) -> list[tuple[int, bytes]]:
    own, base = volume.super, volume.bytes.base
    marked = volume.bitmap()
    writes, blocks_free, inodes_free = [], 0, 0
    seed = int.from_bytes(own.raw[0x270:0x274], "little") if own.incompat & 0x2000 else crc32c(0xFFFFFFFF, own.uuid)
    for number, (_, inode_map, _, _, free_inodes, group_flags) in enumerate(volume.groups):
        low = own.first_block + number * own.per_group
        at = (own.super_at(0) + 1) * own.block + number * own.group_size
        raw = bytearray(volume.bytes.read(at, own.group_size, "group descriptor"))
        fresh = group_flags & 2 and own.ro_compat & (e.GDT_CSUM | e.CHECKSUMS)
        free = (
            int(np.count_nonzero(marked[low : min(low + own.per_group, own.blocks)] == 0))
            if not fresh
            else int.from_bytes(raw[12:14], "little")
        )
        if not (group_flags & 1 and own.ro_compat & (e.GDT_CSUM | e.CHECKSUMS)):
            bits = np.unpackbits(
                np.frombuffer(
                    volume.bytes.read(inode_map * own.block, -(-own.inodes_per_group // 8), "inode map"), np.uint8
                ),
                bitorder="little",
            )[: own.inodes_per_group]
            free_inodes = int(np.count_nonzero(bits == 0))
        raw[12:14], raw[14:16] = struct.pack("<H", free & 0xFFFF), struct.pack("<H", free_inodes & 0xFFFF)
        if own.group_size >= 64:
            raw[44:46], raw[46:48] = struct.pack("<H", free >> 16), struct.pack("<H", free_inodes >> 16)
        if own.has_checksums:
            raw[0x1E:0x20] = b"\0\0"
            raw[0x1E:0x20] = struct.pack("<H", crc32c(crc32c(seed, struct.pack("<I", number)), bytes(raw)) & 0xFFFF)
        elif own.ro_compat & e.GDT_CSUM:
            from gatecheck.core.volume.crc32c import crc16

            raw[0x1E:0x20] = struct.pack(
                "<H", crc16(crc16(crc16(0xFFFF, own.uuid), struct.pack("<I", number)), bytes(raw[:0x1E] + raw[0x20:]))
            )
        blocks_free, inodes_free = blocks_free + free, inodes_free + free_inodes
        writes.append((base + at, bytes(raw)))
    head = bytearray(own.raw)
    head[12:16], head[16:20] = struct.pack("<I", blocks_free & 0xFFFFFFFF), struct.pack("<I", inodes_free)
    if own.incompat & e.WIDE:
        head[0x158:0x15C] = struct.pack("<I", blocks_free >> 32)
    return [*writes, (base + 1024, _summed(volume, head))]
