"""Maps and counts of ext: who holds which blocks and inodes against what the groups' maps and counts say."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.claims import Claims
from gatecheck.core.volume.crc32c import crc32c
from gatecheck.core.volume.ext import layout as e
from gatecheck.core.volume.ext.groups import Group, folders_told, unused_told
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.tree import DAMAGE, SIGN, VolumeFinding


class Maps:
    """`taken`: inodes in use, `folders`: those that are one; `unread`: groups of whose inodes some could not be read;
    `is_pending`: a mount that replays the journal counts the whole anew."""

    def __init__(
        self,
        volume: Ext,
        add: Callable[[VolumeFinding], None],
        claims: Claims,
        *,
        name: Callable[[int], str],
        taken: Sequence[int],
        folders: Sequence[int],
        unread: set[int],
        is_pending: bool,
        seed: int,
    ) -> None:
        self.volume, self.super, self.add, self.claims, self.name = volume, volume.super, add, claims, name
        self.taken, self.unread, self.is_pending, self.seed = taken, unread, is_pending, seed
        self.folders = np.array(folders, np.int64)
        self.sums = volume.super.has_checksums

    def whole(self) -> int | None:
        """Bytes in use. Finds what does not fit."""
        own, volume = self.super, self.volume
        used = None
        if not own.ro_compat & e.BIGALLOC:
            try:
                used = self._block_map()
            except DecodeError as error:
                self.add(VolumeFinding("map-unread", DAMAGE, str(error)))
        self._inode_maps()
        return used * own.block if used is not None else (own.blocks - own.free_blocks) * volume.block

    def _block_map(self) -> int:
        own = self.super
        marked = self.volume.bitmap()
        for number, each in enumerate(self.volume.groups):
            if each.flags & 2 and own.ro_compat & (e.GDT_CSUM | e.CHECKSUMS):
                low = own.first_block + number * own.per_group
                self._own_blocks(marked, low, min(low + own.per_group, own.blocks))
        self.claims.add(0, 0, own.first_block)
        found = self.claims.against(marked)
        for owner in found.unmarked:
            self.add(VolumeFinding("unmarked", DAMAGE, self.name(owner), count=found.unmarked[owner], repairable=True))
        if found.lost and not self.unread:
            self.add(
                VolumeFinding(
                    "lost",
                    DAMAGE,
                    count=found.lost,
                    repairable=True,
                    values={"chains": 1, "bytes": found.lost * own.block},
                )
            )
        free = own.blocks - int(np.count_nonzero(marked))
        if free != own.free_blocks and not found.lost and not found.unmarked and not self.is_pending:
            self.add(VolumeFinding("free-count", SIGN, repairable=True, values={"told": own.free_blocks, "real": free}))
        for number, each in enumerate(self.volume.groups):
            told = each.free_blocks
            low = own.first_block + number * own.per_group
            real = int(np.count_nonzero(marked[low : min(low + own.per_group, own.blocks)] == 0))
            if real != told and not found.lost and not found.unmarked:
                self.add(
                    VolumeFinding(
                        "free-count", SIGN, f"group {number}", repairable=True, values={"told": told, "real": real}
                    )
                )
            if not (each.flags & 2 and own.ro_compat & (e.GDT_CSUM | e.CHECKSUMS)):
                self._padding(f"block map of group {number}", each.block_map, min(own.per_group, own.blocks - low))
        return int(np.count_nonzero(marked))

    def _padding(self, name: str, place: int, bits: int) -> None:
        """What lies behind a map in its block stands as if it were in use, so that nobody takes it."""
        try:
            raw = self.volume.bytes.read(place * self.super.block, self.super.block, name)
        except DecodeError:
            return  # said where the map is read
        if raw[-(-bits // 8) :].strip(b"\xff") or (bits % 8 and raw[bits // 8] >> bits % 8 != 0xFF >> bits % 8):
            self.add(VolumeFinding("map-padding", DAMAGE, name))

    def _own_blocks(self, marked: np.ndarray, low: int, high: int) -> None:
        """A group whose map was never written holds only what is fixed in it."""
        for first, count, _ in self.volume.fixed_blocks():
            start, end = max(first, low), min(first + count, high)
            if start < end:
                marked[start:end] = 1

    def _inode_maps(self) -> None:
        own, volume = self.super, self.volume
        taken = np.zeros(own.inodes + 1, bool)
        taken[self.taken] = True
        taken[1 : own.first_inode] = True
        free_total = 0
        for number, each in enumerate(volume.groups):
            place, told_free, flags = each.inode_map, each.free_inodes, each.flags
            self._counts_of_group(number, each, taken)
            low = number * own.inodes_per_group
            mine = taken[low + 1 : low + 1 + own.inodes_per_group]
            real_free = int(own.inodes_per_group - np.count_nonzero(mine))
            free_total += real_free
            if flags & 1 and own.ro_compat & (e.GDT_CSUM | e.CHECKSUMS):
                if told_free != real_free:
                    self.add(
                        VolumeFinding(
                            "free-count",
                            SIGN,
                            f"group {number}",
                            repairable=True,
                            values={"told": told_free, "real": real_free},
                        )
                    )
                continue
            try:
                raw = volume.bytes.read(
                    place * own.block, -(-own.inodes_per_group // 8), f"inode map of group {number}"
                )
            except DecodeError as error:
                self.add(VolumeFinding("map-unread", DAMAGE, str(error)))
                continue
            bits = np.unpackbits(np.frombuffer(raw, np.uint8), bitorder="little")[: own.inodes_per_group].astype(bool)
            wrong = np.nonzero(bits != mine)[0]
            if len(wrong) and number not in self.unread:
                self.add(VolumeFinding("inode-map", DAMAGE, f"group {number}", count=len(wrong), repairable=True))
            elif told_free != real_free:
                self.add(
                    VolumeFinding(
                        "free-count",
                        SIGN,
                        f"group {number}",
                        repairable=True,
                        values={"told": told_free, "real": real_free},
                    )
                )
            if self.sums:
                self._map_sum(number, raw, 0x1A, 0x3A, "inode map")
            self._padding(f"inode map of group {number}", place, own.inodes_per_group)
        if free_total != own.free_inodes and not self.is_pending:
            self.add(
                VolumeFinding(
                    "free-count", SIGN, "inodes", repairable=True, values={"told": own.free_inodes, "real": free_total}
                )
            )
        if self.sums:
            for number, each in enumerate(volume.groups):
                if not each.flags & 2:
                    try:
                        self._map_sum(
                            number,
                            volume.bytes.read(each.block_map * own.block, self._per_group() // 8, "block map"),
                            0x18,
                            0x38,
                            "block map",
                        )
                    except DecodeError as error:
                        self.add(VolumeFinding("map-unread", DAMAGE, str(error)))

    def _counts_of_group(self, number: int, each: Group, taken: np.ndarray) -> None:
        """Its folders, and the inodes at the table's end that were never used: the system passes over them."""
        own = self.super
        if not each.raw or number in self.unread:
            return
        low = number * own.inodes_per_group
        folders = int(np.count_nonzero((self.folders > low) & (self.folders <= low + own.inodes_per_group)))
        if folders != folders_told(own, each.raw):
            told = folders_told(own, each.raw)
            self.add(
                VolumeFinding(
                    "folder-count", SIGN, f"group {number}", repairable=True, values={"told": told, "real": folders}
                )
            )
        if not own.ro_compat & (e.GDT_CSUM | e.CHECKSUMS) or each.flags & 1:
            return
        mine = taken[low + 1 : low + 1 + own.inodes_per_group]
        last = int(np.flatnonzero(mine)[-1]) + 1 if mine.any() else 0
        if unused_told(own, each.raw) > own.inodes_per_group - last:
            self.add(VolumeFinding("unused-inodes", DAMAGE, f"group {number}", repairable=True))

    def _per_group(self) -> int:
        """Bits of a group's map: one a block, or one a cluster."""
        own = self.super
        return int.from_bytes(own.raw[36:40], "little") if own.ro_compat & e.BIGALLOC else own.per_group

    def _map_sum(self, number: int, raw: bytes, low_at: int, high_at: int, name: str) -> None:
        own = self.super
        each = self.volume.groups[number].raw
        if not each:
            return
        told = int.from_bytes(each[low_at : low_at + 2], "little")
        value = crc32c(self.seed, raw)
        if own.group_size >= 64:
            told |= int.from_bytes(each[high_at : high_at + 2], "little") << 16
        else:
            value &= 0xFFFF
        if told != value:
            self.add(VolumeFinding("sum", DAMAGE, f"{name} of group {number}", repairable=True))
