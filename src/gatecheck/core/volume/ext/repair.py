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
from gatecheck.core.volume.ext.groups import summed_descriptor, unused_told, with_counts
from gatecheck.core.volume.ext.journal import pending_blocks
from gatecheck.core.volume.ext.layout import JOURNAL
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.ext.repair_folders import folder_groups
from gatecheck.core.volume.ext.repair_inodes import inode_groups
from gatecheck.core.volume.ext.repair_names import name_groups
from gatecheck.core.volume.ext.repair_orphans import orphan_group
from gatecheck.core.volume.ext.repair_shared import gap_group, shared_groups
from gatecheck.core.volume.ext.repair_sums import byte_group, sum_group
from gatecheck.core.volume.repair_group import RepairGroup, group

if TYPE_CHECKING:
    from gatecheck.core.volume.check import Report


def ext_groups(volume: Ext, report: Report) -> list[Callable[[], RepairGroup | None]]:
    ids = {f.id for f in report.findings}
    base = volume.bytes.base
    is_sum_wrong = any(
        f.id == "sum" and (f.where.startswith("group ") or f.where == "superblock") for f in report.findings
    )

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
            not (ids & {"free-count", "folder-count", "unused-inodes"} or is_sum_wrong)
            or ids & {"lost", "unmarked", "inode-map", "map-unread", "crossed"}
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

    if "journal-pending" in ids:
        return [journal]  # whatever else were written, the journal would be carried out over it
    named = name_groups(
        volume, ids, has_wrong_maps=any(f.id == "sum" and " map of group" in f.where for f in report.findings)
    )
    return [
        journal,
        lambda: byte_group(volume, ids),
        lambda: gap_group(volume, ids),
        *inode_groups(volume, ids),
        *shared_groups(volume, ids),
        *folder_groups(volume, ids),
        *named[:2],
        lambda: orphan_group(volume, ids),
        *named[2:4],
        lambda: sum_group(volume, ids),
        *named[4:],
        counts,
        flags,
    ]


def _summed(volume: Ext, raw: bytearray) -> bytes:
    if volume.super.has_checksums:
        raw[1020:1024] = crc32c(0xFFFFFFFF, bytes(raw[:1020])).to_bytes(4, "little")
    return bytes(raw)


def _counted(volume: Ext) -> list[tuple[int, bytes]]:
    own, base = volume.super, volume.bytes.base
    marked = volume.bitmap()
    held = np.array([i.number for i in volume.inodes() if i.is_folder and i.links], np.int64)
    writes, blocks_free, inodes_free = [], 0, 0
    seed = int.from_bytes(own.raw[0x270:0x274], "little") if own.incompat & 0x2000 else crc32c(0xFFFFFFFF, own.uuid)
    for number, each in enumerate(volume.groups):
        free_inodes, group_flags = each.free_inodes, each.flags
        low = own.first_block + number * own.per_group
        low_inode, bits = number * own.inodes_per_group, np.zeros(0, np.uint8)
        fresh = group_flags & 2 and own.ro_compat & (e.GDT_CSUM | e.CHECKSUMS)
        free = (
            int(np.count_nonzero(marked[low : min(low + own.per_group, own.blocks)] == 0))
            if not fresh
            else each.free_blocks
        )
        if not (group_flags & 1 and own.ro_compat & (e.GDT_CSUM | e.CHECKSUMS)):
            bits = np.unpackbits(
                np.frombuffer(
                    volume.bytes.read(each.inode_map * own.block, -(-own.inodes_per_group // 8), "inode map"), np.uint8
                ),
                bitorder="little",
            )[: own.inodes_per_group]
            free_inodes = int(np.count_nonzero(bits == 0))
        folders = int(np.count_nonzero((held > low_inode) & (held <= low_inode + own.inodes_per_group)))
        unused = unused_told(own, each.raw)
        if own.ro_compat & (e.GDT_CSUM | e.CHECKSUMS) and not group_flags & 1:
            unused = min(unused, own.inodes_per_group - (int(np.flatnonzero(bits)[-1]) + 1 if bits.any() else 0))
        counted = with_counts(own, each.raw, blocks=free, inodes=free_inodes, folders=folders, unused=unused)
        blocks_free, inodes_free = blocks_free + free, inodes_free + free_inodes
        writes.append((base + each.at, summed_descriptor(own, seed, number, counted)))
    head = bytearray(own.raw)
    head[12:16], head[16:20] = struct.pack("<I", blocks_free & 0xFFFFFFFF), struct.pack("<I", inodes_free)
    if own.incompat & e.WIDE:
        head[0x158:0x15C] = struct.pack("<I", blocks_free >> 32)
    return [*writes, (base + 1024, _summed(volume, head))]
