"""ext2, ext3, ext4: superblocks and groups, inodes with their sums, who holds which blocks, folders, link counts.

Linux, Documentation/filesystems/ext4: checksums, dynamic structures. Where the journal holds something, the volume is looked at as it will be after it.
"""

from __future__ import annotations

import struct
from collections.abc import Callable

import numpy as np

from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume import ext as e
from gatecheck.core.volume.claims import Claims
from gatecheck.core.volume.crc32c import crc16, crc32c, crc32c_rows
from gatecheck.core.volume.ext import Ext, Inode
from gatecheck.core.volume.ext_journal import pending_blocks
from gatecheck.core.volume.tree import DAMAGE, SIGN, Found

_VALID, _ERROR = 1, 2
_SEED = 0x2000
_GEOMETRY = "<2I12x4I4xI"
"""inodes, blocks, first block, sizes, blocks and inodes a group"""
_BAD, _RESIZE = 1, 7
_ORPHAN_PRESENT = 0x10000
_KINDS = {1: 0x8000, 2: 0x4000, 3: 0x2000, 4: 0x6000, 5: 0x1000, 6: 0xC000, 7: 0xA000}
_MOST_ORPHANS, _MOST_BROKEN = 1 << 20, 64
Add = Callable[[Found], None]
Progress = Callable[[str, int, int], None]


def check_ext(volume: Ext, add: Add, progress: Progress) -> tuple[int | None, int | None]:
    """(files, bytes used)."""
    own = volume.super
    if own.incompat & e.RECOVER:
        add(Found("journal-pending", SIGN, repairable=True))
        try:
            blocks = pending_blocks(volume)
        except DecodeError as error:
            add(Found("journal-broken", DAMAGE, str(error)))
            blocks = {}
        if blocks:
            base = volume.bytes.base
            volume = Ext(Overlay(volume.disk, [(base + number * volume.block, data) for number, data in blocks.items()]), volume.first, volume.last)
            own = volume.super
    elif not own.state & _VALID and not volume.from_backup:  # copies are not told of every mount
        add(Found("dirty", SIGN, repairable=True))
    if own.state & _ERROR:
        add(Found("errors-noted", SIGN, repairable=True))
    return _Check(volume, add, progress).whole()


class _Check:
    def __init__(self, volume: Ext, add: Add, progress: Progress) -> None:
        self.volume, self.super, self.add, self.progress = volume, volume.super, add, progress
        self.sums = self.super.has_checksums
        self.seed = int.from_bytes(self.super.raw[0x270:0x274], "little") if self.super.incompat & _SEED else crc32c(0xFFFFFFFF, self.super.uuid)
        self.claims = Claims(self.super.blocks)
        self.kinds: dict[int, int] = {}
        self.links: dict[int, int] = {}
        self.broken: set[int] = set()
        self.folders: dict[int, Inode] = {}
        self.names: dict[int, str] = {}
        self.orphans = self._orphans()
        self.is_pending = bool(self.super.incompat & e.RECOVER)
        """a mount that replays the journal counts the whole anew"""
        self.taken_inodes: list[int] = []
        self.unread: set[int] = set()
        """groups of whose inodes some could not be read"""
        self._shared: set[int] = set()

    def whole(self) -> tuple[int | None, int | None]:
        self._supers()
        self._groups()
        for first, count, _ in self.volume.fixed_blocks():
            self.claims.add(0, first, count)
        self._inodes()
        files = self._tree()
        self._links()
        used = self._maps()
        for own in self.claims.crossed():
            self.add(Found("crossed", DAMAGE, self._name(own.other), count=own.count, repairable=False, values={"other": self._name(own.one)}))
        for owner in self.claims.beyond:
            self.add(Found("beyond", DAMAGE, self._name(owner)))
        return files, used

    def _name(self, inode: int) -> str:
        return self.names.get(inode) or (f"inode {inode}" if inode else "the volume's own structures")

    def _orphans(self) -> set[int]:
        """Inodes that were being deleted: the list that begins in the superblock."""
        found: set[int] = set()
        number = int.from_bytes(self.super.raw[0xE8:0xEC], "little")
        while number and number not in found and len(found) < _MOST_ORPHANS:
            found.add(number)
            try:
                number = self.volume.inode(number).deleted_at
            except DecodeError:
                break
        return found

    # --- superblock, groups

    def _supers(self) -> None:
        own = self.super
        if self.sums and crc32c(0xFFFFFFFF, own.raw[:1020]) != int.from_bytes(own.raw[1020:1024], "little") and not self.volume.from_backup:
            self.add(Found("sum", DAMAGE, "superblock", repairable=True))
        if self.orphans or own.ro_compat & _ORPHAN_PRESENT:
            self.add(Found("unfinished", SIGN, count=max(1, len(self.orphans)), repairable=True))
        geometry = struct.unpack_from(_GEOMETRY, own.raw, 0)
        for group in [g for g in range(1, own.groups) if self.volume.has_super(g)][:8]:
            at = (own.first_block + group * own.per_group) * own.block
            try:
                raw = self.volume.bytes.read(at, 1024, "superblock, backup copy")
            except DecodeError as error:
                self.add(Found("unreadable", SIGN, str(error)))
                continue
            if raw[56:58] != b"\x53\xef" or struct.unpack_from(_GEOMETRY, raw, 0) != geometry or raw[104:120] != own.uuid:
                self.add(Found("superblock-copy", SIGN, f"group {group}", repairable=True))

    def _groups(self) -> None:
        own, volume = self.super, self.volume
        if own.incompat & e.META_BG:
            return
        start = (own.first_block + 1 if not volume.from_backup else volume.from_backup // own.block + 1) * own.block
        raw = volume.bytes.read(start, own.groups * own.group_size, "group descriptors")
        for number in range(own.groups):
            each = raw[number * own.group_size : (number + 1) * own.group_size]
            blocks, inodes, table, *_ = volume.groups[number]
            if not all(0 < place < own.blocks for place in (blocks, inodes, table)):
                self.add(Found("group", DAMAGE, f"group {number}"))
                continue
            blank = each[:0x1E] + b"\0\0" + each[0x20:]
            told = int.from_bytes(each[0x1E:0x20], "little")
            if self.sums:
                real = crc32c(crc32c(self.seed, struct.pack("<I", number)), blank) & 0xFFFF
            elif own.ro_compat & e.GDT_CSUM:
                real = crc16(crc16(crc16(0xFFFF, own.uuid), struct.pack("<I", number)), each[:0x1E] + each[0x20:])
            else:
                continue
            if told != real:
                self.add(Found("sum", DAMAGE, f"group {number}", repairable=True))

    # --- inodes

    def _inodes(self) -> None:
        own, volume = self.super, self.volume
        for group, (_, _, table, _, _, flags) in enumerate(volume.groups):
            self.progress("inodes", group, own.groups)
            if flags & 1 or not 0 < table < own.blocks:
                continue
            for piece in range(0, own.inodes_per_group, 4096):
                count = min(4096, own.inodes_per_group - piece)
                span, skip = volume.bytes.span(table * own.block + piece * own.inode_size, count * own.inode_size)
                if span.missing:
                    self.unread.add(group)
                    self.add(Found("unreadable", DAMAGE, f"group {group}", count=len(span.missing)))
                raw = np.frombuffer(span.data, np.uint8, count=count * own.inode_size, offset=skip).reshape(count, own.inode_size)
                live = np.nonzero(raw[:, :2].any(axis=1) | raw[:, 26:28].any(axis=1))[0]
                if not len(live):
                    continue
                numbers = (live + group * own.inodes_per_group + piece + 1).astype(np.uint32)
                if self.sums:
                    for number in numbers[~self._sums_fit(raw[live], numbers)]:
                        self.broken.add(int(number))
                for place, number in zip(live, numbers, strict=True):
                    self._inode(e.parse_inode(raw[place].tobytes(), int(number)))

    def _sums_fit(self, rows: np.ndarray, numbers: np.ndarray) -> np.ndarray:
        size = self.super.inode_size
        low = rows[:, 124].astype(np.uint32) | rows[:, 125].astype(np.uint32) << 8
        wide = size > 128
        has_high = (rows[:, 128].astype(np.uint32) | rows[:, 129].astype(np.uint32) << 8) >= 4 if wide else np.zeros(len(rows), bool)
        blank = rows.copy()
        blank[:, 124:126] = 0
        told = low
        if wide:
            high = rows[:, 130].astype(np.uint32) | rows[:, 131].astype(np.uint32) << 8
            blank[has_high, 130:132] = 0
            told = np.where(has_high, low | high << 16, low)
        value = crc32c_rows(np.full(len(rows), self.seed, np.uint32), numbers.view(np.uint8).reshape(-1, 4))
        value = crc32c_rows(crc32c_rows(value, rows[:, 100:104]), blank)
        fits: np.ndarray = np.where(has_high, value, value & 0xFFFF) == told
        return fits

    def _inode(self, inode: Inode) -> None:
        number = inode.number
        live = bool(inode.links) or number in self.orphans or number < self.super.first_inode
        if not live:
            return
        if number in self.broken:
            self.kinds[number] = inode.mode & 0xF000
            self.links[number] = inode.links
        if not inode.mode and number >= self.super.first_inode:
            self.add(Found("inode", DAMAGE, f"inode {number}"))
            return
        self.taken_inodes.append(number)
        self.kinds[number], self.links[number] = inode.mode & 0xF000, inode.links
        if inode.is_folder:
            self.folders[number] = inode
        if number == _RESIZE:
            double = struct.unpack_from("<I", inode.body, 13 * 4)[0]
            self.claims.add(number, double or -1, 1)
            return
        if inode.mode & 0xF000 not in (e.FOLDER, e.REGULAR, e.SYMLINK) and number not in (_BAD,):
            return
        held = 0
        try:
            expected = 0
            for run in self.volume.mapped(inode):
                if inode.flags & e.EXTENTS and run.first < expected:
                    self.add(Found("extents", DAMAGE, f"inode {number}"))
                    break
                expected = run.first + run.count
                if run.block is not None or inode.flags & e.EXTENTS:
                    held += run.count
                if run.block is not None:
                    self.claims.add(number, run.block, run.count)
            if inode.flags & e.EXTENTS:
                self._unwritten(inode)
            for block in self.volume.tree_blocks(inode):
                self.claims.add(number, block, 1)
                held += 1
                if self.sums and inode.flags & e.EXTENTS:
                    self._extent_sum(inode, block)
        except DecodeError as error:
            self.add(Found("unreadable" if "LBA" in str(error) else "extents", DAMAGE, f"inode {number}: {error}"))
            return
        acl = int.from_bytes(inode.raw[104:108], "little") | int.from_bytes(inode.raw[118:120], "little") << 32
        if acl and acl not in self._shared:
            self._shared.add(acl)
            self.claims.add(number, acl, 1)
        held += bool(acl)
        self._counted(inode, held)

    def _unwritten(self, inode: Inode) -> None:
        """Stretches that were taken but not written belong to the file all the same."""
        for first, count in unwritten(self.volume, inode):
            self.claims.add(inode.number, first, count)

    def _extent_sum(self, inode: Inode, block: int) -> None:
        raw = self.volume.bytes.read(block * self.volume.block, self.volume.block, "extents")
        end = 12 + 12 * int.from_bytes(raw[4:6], "little")
        if end + 4 <= len(raw) and crc32c(self._inode_seed(inode), raw[:end]) != int.from_bytes(raw[end : end + 4], "little"):
            self.add(Found("sum", DAMAGE, f"inode {inode.number}", values={}))

    def _inode_seed(self, inode: Inode) -> int:
        return crc32c(crc32c(self.seed, struct.pack("<I", inode.number)), inode.raw[100:104])

    def _counted(self, inode: Inode, held: int) -> None:
        """i_blocks counts all blocks of a file in units of 512 bytes, or of blocks where a flag says so."""
        if self.super.ro_compat & e.BIGALLOC or inode.flags & e.INLINE:
            return
        told = inode.blocks | int.from_bytes(inode.raw[116:118], "little") << 32
        real = held if inode.flags & 0x40000 else held * (self.volume.block // 512)
        if told != real:
            self.add(Found("size-differs", DAMAGE, f"inode {inode.number}", repairable=True, values={"size": told, "held": real}))

    # --- folders

    def _tree(self) -> int:
        own, files = self.super, 0
        self.found_links: dict[int, int] = {e.ROOT: 2}
        self.reached = {e.ROOT}
        waiting: list[tuple[int, str, int]] = [(e.ROOT, "", e.ROOT)]
        self.names[e.ROOT] = "/"
        while waiting:
            number, path, parent = waiting.pop()
            inode = self.folders.get(number)
            if inode is None:
                self.add(Found("folder-nowhere", DAMAGE, path or "/"))
                continue
            for name, target, kind in self._entries(inode, path, parent):
                place = f"{path}/{name}" if path else name
                if not 1 <= target <= own.inodes or (target < own.first_inode and target != e.ROOT):
                    self.add(Found("dangling", DAMAGE, place, repairable=True))
                    continue
                if target not in self.kinds and (target - 1) // own.inodes_per_group in self.unread:
                    continue
                if target not in self.kinds or (not self.links.get(target) and target not in self.orphans):
                    self.add(Found("dangling", DAMAGE, place, repairable=True))
                    continue
                if own.incompat & e.FILETYPE and kind and _KINDS.get(kind) != self.kinds[target]:
                    self.add(Found("kind-differs", DAMAGE, place, repairable=True))
                files += self.kinds[target] != e.FOLDER and target not in self.reached
                self.names.setdefault(target, place)
                self.found_links[target] = self.found_links.get(target, 0) + 1
                if self.kinds[target] == e.FOLDER:
                    if target in self.reached:
                        self.add(Found("folder-twice", DAMAGE, place))
                        continue
                    self.found_links[target] = self.found_links.get(target, 0) + 1
                    self.found_links[number] = self.found_links.get(number, 0) + 1
                    waiting.append((target, place, number))
                self.reached.add(target)
        return files

    def _entries(self, inode: Inode, path: str, parent: int) -> list[tuple[str, int, int]]:
        """(name, inode, kind), `.` and `..` looked at and left out; a broken block ends only itself."""
        found: list[tuple[str, int, int]] = []
        where = path or "/"
        if inode.flags & e.INLINE:
            try:
                return [(x.name, x.inode, x.kind) for x in self.volume.entries(inode)]
            except DecodeError:
                self.add(Found("folder-broken", DAMAGE, where))
                return found
        at, block, broken = 0, self.volume.block, 0
        dots: dict[str, int] = {}
        if inode.size > self.super.blocks * block:  # no folder is larger than its volume: what stands there is no size
            self.add(Found("size-differs", DAMAGE, where, values={"size": inode.size, "held": block}))
            return found
        for piece in self.volume.pieces(inode):
            if broken > _MOST_BROKEN:
                break
            if not isinstance(piece, bytes):
                self.add(Found("unreadable", DAMAGE, where))
                at += piece.length
                continue
            for start in range(0, len(piece), block):
                raw = piece[start : start + block]
                is_node = bool(inode.flags & e.INDEXED) and (at + start == 0 or raw[:8] == struct.pack("<IHH", 0, block & 0xFFFF, 0))
                if not is_node:
                    self._leaf_sum(inode, raw, where)
                try:
                    self._leaf(raw, found, dots)
                except DecodeError:
                    broken += 1
                    self.add(Found("folder-broken", DAMAGE, where))
                    if broken > _MOST_BROKEN:
                        break
            at += len(piece)
        if not inode.size or inode.size % block:
            self.add(Found("size-differs", DAMAGE, where, values={"size": inode.size, "held": block}))
        if dots.get(".") != inode.number or dots.get("..") != parent:
            self.add(Found("folder-links", DAMAGE, where, repairable=True, values={"name": "." if dots.get(".") != inode.number else ".."}))
        seen: set[str] = set()
        for name, _, _ in found:
            if name in seen:
                self.add(Found("name-twice", DAMAGE, f"{path}/{name}" if path else name))
            seen.add(name)
        return found

    def _leaf(self, raw: bytes, found: list[tuple[str, int, int]], dots: dict[str, int]) -> None:
        at = 0
        while at + 8 <= len(raw):
            inode, length, letters, kind = struct.unpack_from("<IHBB", raw, at)
            length = 65536 if length in (0, 65535) and len(raw) == 65536 else length
            if length < 8 or length & 3 or at + length > len(raw) or letters + 8 > length:
                raise DecodeError("folder block", at=at, expected="an entry within its block", got=f"{length} bytes, {letters} letters")
            if inode:
                name = raw[at + 8 : at + 8 + letters].decode("utf-8", "replace")
                if name in (".", ".."):
                    dots[name] = inode
                elif letters:
                    found.append((name, inode, kind))
            at += length

    def _leaf_sum(self, inode: Inode, raw: bytes, where: str) -> None:
        if self.sums and raw[-12:-4] == b"\0\0\0\0\x0c\0\0\xde" and crc32c(self._inode_seed(inode), raw[:-12]) != int.from_bytes(raw[-4:], "little"):
            self.add(Found("sum", DAMAGE, where, repairable=False))

    def _links(self) -> None:
        own = self.super
        kept = {int.from_bytes(own.raw[at : at + 4], "little") for at in (0x240, 0x244, 0x26C, 0x280)}
        for number in sorted(self.broken):
            self.add(Found("sum", DAMAGE, self._name(number), repairable=False))
        for number in self.taken_inodes:
            if (number < own.first_inode and number != e.ROOT) or number in kept or number in self.orphans:
                continue
            links, real = self.links[number], self.found_links.get(number, 0)
            if number not in self.reached:
                self.add(Found("orphan", DAMAGE, f"inode {number}", repairable=True))
            elif links != real and not (self.kinds[number] == e.FOLDER and links == 1):
                self.add(Found("link-count", DAMAGE, self._name(number), repairable=True, values={"told": links, "real": real}))

    # --- maps and counts

    def _maps(self) -> int | None:
        own, volume = self.super, self.volume
        used = None
        if not own.ro_compat & e.BIGALLOC:
            try:
                used = self._block_map()
            except DecodeError as error:
                self.add(Found("map-unread", DAMAGE, str(error)))
        self._inode_maps()
        return used * own.block if used is not None else (own.blocks - own.free_blocks) * volume.block

    def _block_map(self) -> int:
        own = self.super
        marked = self.volume.bitmap()
        for number, (*_, flags) in enumerate(self.volume.groups):
            if flags & 2 and own.ro_compat & (e.GDT_CSUM | e.CHECKSUMS):
                low = own.first_block + number * own.per_group
                self._own_blocks(marked, low, min(low + own.per_group, own.blocks))
        self.claims.add(0, 0, own.first_block)
        found = self.claims.against(marked)
        for owner in found.unmarked:
            self.add(Found("unmarked", DAMAGE, self._name(owner), count=found.unmarked[owner], repairable=True))
        if found.lost and not self.unread:
            self.add(Found("lost", DAMAGE, count=found.lost, repairable=True, values={"chains": 1, "bytes": found.lost * own.block}))
        free = own.blocks - int(np.count_nonzero(marked))
        if free != own.free_blocks and not found.lost and not found.unmarked and not self.is_pending:
            self.add(Found("free-count", SIGN, repairable=True, values={"told": own.free_blocks, "real": free}))
        for number, (_, _, _, told, _, _) in enumerate(self.volume.groups):
            low = own.first_block + number * own.per_group
            real = int(np.count_nonzero(marked[low : min(low + own.per_group, own.blocks)] == 0))
            if real != told and not found.lost and not found.unmarked:
                self.add(Found("free-count", SIGN, f"group {number}", repairable=True, values={"told": told, "real": real}))
        return int(np.count_nonzero(marked))

    def _own_blocks(self, marked: np.ndarray, low: int, high: int) -> None:
        """A group whose map was never written holds only what is fixed in it."""
        for first, count, _ in self.volume.fixed_blocks():
            start, end = max(first, low), min(first + count, high)
            if start < end:
                marked[start:end] = 1

    def _inode_maps(self) -> None:
        own, volume = self.super, self.volume
        taken = np.zeros(own.inodes + 1, bool)
        taken[self.taken_inodes] = True
        taken[1 : own.first_inode] = True
        free_total = 0
        for number, (_, place, _, _, told_free, flags) in enumerate(volume.groups):
            low = number * own.inodes_per_group
            mine = taken[low + 1 : low + 1 + own.inodes_per_group]
            real_free = int(own.inodes_per_group - np.count_nonzero(mine))
            free_total += real_free
            if flags & 1 and own.ro_compat & (e.GDT_CSUM | e.CHECKSUMS):
                if told_free != real_free:
                    self.add(Found("free-count", SIGN, f"group {number}", repairable=True, values={"told": told_free, "real": real_free}))
                continue
            try:
                raw = volume.bytes.read(place * own.block, -(-own.inodes_per_group // 8), f"inode map of group {number}")
            except DecodeError as error:
                self.add(Found("map-unread", DAMAGE, str(error)))
                continue
            bits = np.unpackbits(np.frombuffer(raw, np.uint8), bitorder="little")[: own.inodes_per_group].astype(bool)
            wrong = np.nonzero(bits != mine)[0]
            if len(wrong) and number not in self.unread:
                self.add(Found("inode-map", DAMAGE, f"group {number}", count=len(wrong), repairable=True))
            elif told_free != real_free:
                self.add(Found("free-count", SIGN, f"group {number}", repairable=True, values={"told": told_free, "real": real_free}))
            if self.sums:
                self._map_sum(number, raw, 0x1A, 0x3A, "inode map")
        if free_total != own.free_inodes and not self.is_pending:
            self.add(Found("free-count", SIGN, "inodes", repairable=True, values={"told": own.free_inodes, "real": free_total}))
        if self.sums and not own.incompat & e.META_BG:
            for number, (place, *_, flags) in enumerate(volume.groups):
                if not flags & 2:
                    try:
                        self._map_sum(number, volume.bytes.read(place * own.block, self._per_group() // 8, "block map"), 0x18, 0x38, "block map")
                    except DecodeError as error:
                        self.add(Found("map-unread", DAMAGE, str(error)))

    def _per_group(self) -> int:
        """Bits of a group's map: one a block, or one a cluster."""
        own = self.super
        return int.from_bytes(own.raw[36:40], "little") if own.ro_compat & e.BIGALLOC else own.per_group

    def _map_sum(self, number: int, raw: bytes, low_at: int, high_at: int, name: str) -> None:
        own = self.super
        if own.incompat & e.META_BG:
            return
        start = (own.first_block + 1 if not self.volume.from_backup else self.volume.from_backup // own.block + 1) * own.block
        each = self.volume.bytes.read(start + number * own.group_size, own.group_size, "group descriptor")
        told = int.from_bytes(each[low_at : low_at + 2], "little")
        value = crc32c(self.seed, raw)
        if own.group_size >= 64:
            told |= int.from_bytes(each[high_at : high_at + 2], "little") << 16
        else:
            value &= 0xFFFF
        if told != value:
            self.add(Found("sum", DAMAGE, f"{name} of group {number}", repairable=True))


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

