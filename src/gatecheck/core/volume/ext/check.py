"""ext2, ext3, ext4: superblocks and groups, inodes with their sums, who holds which blocks, folders, link counts.

Linux, Documentation/filesystems/ext4: checksums, dynamic structures. Where the journal holds something, the volume is
looked at as it will be after it."""

from __future__ import annotations

import struct
from collections import Counter
from collections.abc import Callable

import numpy as np

from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.claims import Claims
from gatecheck.core.volume.crc32c import crc32c, crc32c_rows
from gatecheck.core.volume.ext import attributes
from gatecheck.core.volume.ext import layout as e
from gatecheck.core.volume.ext.check_bitmaps import Maps
from gatecheck.core.volume.ext.check_heads import guard_findings, journal_findings
from gatecheck.core.volume.ext.check_quota import QUOTAS, quota_findings
from gatecheck.core.volume.ext.extent_nodes import has_bad_node, unwritten
from gatecheck.core.volume.ext.folder_blocks import SHORTEST_ENTRY, begins_with_dots, has_tail
from gatecheck.core.volume.ext.groups import impossible_fields, is_possible, summed_descriptor, unused_told
from gatecheck.core.volume.ext.htree import FolderIndex
from gatecheck.core.volume.ext.inode import flaws, resize_problem, right_size
from gatecheck.core.volume.ext.journal import pending_blocks
from gatecheck.core.volume.ext.layout import Inode
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.tree import DAMAGE, NOTE, SIGN, VolumeFinding

_VALID, _ERROR = 1, 2
_SEED = 0x2000
_GEOMETRY = "<2I12x4I4xI"
"""inodes, blocks, first block, sizes, blocks and inodes a group"""
_RESIZE, _HUGE, _WITH_INDEX, _DEEP, _UNSIGNED = 7, 0x8, 0x20, 0x4000, 0x2
_SHARED_BLOCKS = 0x4000
"""feature of a volume that is never written: files may share blocks"""
_SHORTEST_ENCRYPTED = 16
_FOLDER_KIND = 2
_STRICT = 1
"""flag of the superblock's encoding: names that are none in it are refused"""
_ORPHAN_PRESENT = 0x10000
_KINDS = {1: 0x8000, 2: 0x4000, 3: 0x2000, 4: 0x6000, 5: 0x1000, 6: 0xC000, 7: 0xA000}
_KNOWN, _KNOWN_TO_WRITE = 0x3F7DF, 0x1FFFB
"""of the superblock's incompatible and read-only compatible features those that Linux has given a meaning"""
_MOST_ORPHANS, _MOST_BROKEN = 1 << 20, 64
Add = Callable[[VolumeFinding], None]
Progress = Callable[[str, int, int], None]


def check_ext(volume: Ext, add: Add, progress: Progress) -> tuple[int | None, int | None]:
    """(files, bytes used)."""
    own = volume.super
    if own.incompat & e.RECOVER:
        add(VolumeFinding("journal-pending", SIGN, repairable=True))
        try:
            blocks = pending_blocks(volume)
        except DecodeError as error:
            add(VolumeFinding("journal-broken", DAMAGE, str(error)))
            blocks = {}
        if blocks:
            base = volume.bytes.base
            volume = Ext(
                Overlay(volume.disk, [(base + number * volume.block, data) for number, data in blocks.items()]),
                volume.first,
                volume.last,
            )
            own = volume.super
    elif not own.state & _VALID and not volume.from_backup:  # copies are not told of every mount
        add(VolumeFinding("dirty", SIGN, repairable=True))
    if own.state & _ERROR:
        add(VolumeFinding("errors-noted", SIGN, repairable=True))
    return ExtCheck(volume, add, progress).whole()


class ExtCheck:
    def __init__(self, volume: Ext, add: Add, progress: Progress) -> None:
        self.volume, self.super, self.progress = volume, volume.super, progress
        self._add = add
        self.sums = self.super.has_checksums
        self.seed = (
            int.from_bytes(self.super.raw[0x270:0x274], "little")
            if self.super.incompat & _SEED
            else crc32c(0xFFFFFFFF, self.super.uuid)
        )
        self.claims = Claims(self.super.blocks)
        self.kinds: dict[int, int] = {}
        self.links: dict[int, int] = {}
        self.broken: set[int] = set()
        self.right_bytes: dict[int, int] = {}
        """inodes whose count of blocks is wrong -> what they hold, in bytes"""
        self.right_sizes: dict[int, int] = {}
        """inodes whose size cannot be -> what it ought to be, in bytes"""
        self.folders: dict[int, Inode] = {}
        self.names: dict[int, str] = {}
        self.orphans = self._orphans()
        self.taken_inodes: list[int] = []
        self.unread: set[int] = set()
        """groups of whose inodes some could not be read"""
        self.kept = {int.from_bytes(self.super.raw[at : at + 4], "little") for at in (0x240, 0x244, 0x26C, 0x280)}
        """inodes of quotas and of the list of orphans"""
        self.value_inodes: set[int] = set()
        """inodes that hold values of attributes"""
        self.used: dict[str, dict[int, tuple[int, int]]] = {"user": {}, "group": {}, "project": {}}
        self.damaged = False
        self.attribute_blocks: dict[int, tuple[bytes, list[int]]] = {}
        """of blocks with attributes: their bytes, and who refers to them"""

    def add(self, finding: VolumeFinding) -> None:
        self.damaged = self.damaged or finding.severity == DAMAGE
        self._add(finding)

    def whole(self) -> tuple[int | None, int | None]:
        self._supers()
        self._groups()
        self._heads()
        for first, count, _ in self.volume.fixed_blocks():
            self.claims.add(0, first, count)
        self._inodes()
        files = self._tree()
        self._links()
        self._attribute_blocks()
        used = Maps(
            self.volume,
            self.add,
            self.claims,
            name=self._name,
            taken=self.taken_inodes,
            folders=sorted(self.folders),
            unread=self.unread,
            is_pending=bool(self.super.incompat & e.RECOVER),
            seed=self.seed,
        ).whole()
        shares = self.super.ro_compat & _SHARED_BLOCKS
        for own in () if shares else self.claims.cross_links():
            self.add(
                VolumeFinding(
                    "crossed",
                    DAMAGE,
                    self._name(own.other),
                    count=own.count,
                    repairable=False,
                    values={"other": self._name(own.one)},
                )
            )
        for owner in self.claims.beyond:
            self.add(VolumeFinding("beyond", DAMAGE, self._name(owner)))
        for found in quota_findings(self.volume, self.used, is_whole=not self.damaged and not self.unread):
            self.add(found)
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
        if (
            self.sums
            and crc32c(0xFFFFFFFF, own.raw[:1020]) != int.from_bytes(own.raw[1020:1024], "little")
            and not self.volume.from_backup
        ):
            self.add(VolumeFinding("sum", DAMAGE, "superblock", repairable=True))
        if self.orphans or own.ro_compat & _ORPHAN_PRESENT:
            self.add(VolumeFinding("unfinished", SIGN, count=max(1, len(self.orphans)), repairable=True))
        if own.incompat & ~_KNOWN or own.ro_compat & ~_KNOWN_TO_WRITE:
            self.add(
                VolumeFinding(
                    "features-unknown",
                    NOTE,
                    values={"features": f"{own.incompat & ~_KNOWN:X}h {own.ro_compat & ~_KNOWN_TO_WRITE:X}h"},
                )
            )
        for field in impossible_fields(own):
            self.add(VolumeFinding("superblock-field", DAMAGE, values={"field": field}))
        geometry = struct.unpack_from(_GEOMETRY, own.raw, 0)
        for group in [g for g in range(1, own.groups) if self.volume.has_super(g)][:8]:
            at = (own.first_block + group * own.per_group) * own.block
            try:
                raw = self.volume.bytes.read(at, 1024, "superblock, backup copy")
            except DecodeError as error:
                self.add(VolumeFinding("unreadable", SIGN, str(error)))
                continue
            if (
                raw[56:58] != b"\x53\xef"
                or struct.unpack_from(_GEOMETRY, raw, 0) != geometry
                or raw[104:120] != own.uuid
            ):
                self.add(VolumeFinding("superblock-copy", SIGN, f"group {group}", repairable=True))

    def _groups(self) -> None:
        own = self.super
        has_flags = bool(own.ro_compat & (e.GDT_CSUM | e.CHECKSUMS))
        for number, each in enumerate(self.volume.groups):
            if not has_flags and each.raw and (each.flags & 3 or unused_told(own, each.raw)):
                self.add(VolumeFinding("group-flags", DAMAGE, f"group {number}"))
            if each.from_copy or not is_possible(own, each):
                self.add(VolumeFinding("group", DAMAGE, f"group {number}"))
            elif each.raw != summed_descriptor(own, self.seed, number, each.raw):
                self.add(VolumeFinding("sum", DAMAGE, f"group {number}", repairable=True))

    def _heads(self) -> None:
        try:
            for found in journal_findings(self.volume):
                self.add(found)
        except DecodeError:
            self.add(VolumeFinding("journal-head", DAMAGE, values={"why": "inode"}))
        for found in guard_findings(self.volume, self.seed):
            self.add(found)

    # --- inodes

    def _inodes(self) -> None:
        own, volume = self.super, self.volume
        for group, each in enumerate(volume.groups):
            table = each.inode_table
            self.progress("inodes", group, own.groups)
            if not 0 < table < own.blocks:
                self.unread.add(group)  # its inodes are somewhere: what leads to them is not wrong for that
                continue
            if each.flags & 1:
                continue
            for piece in range(0, own.inodes_per_group, 4096):
                count = min(4096, own.inodes_per_group - piece)
                span, skip = volume.bytes.span(table * own.block + piece * own.inode_size, count * own.inode_size)
                if span.missing:
                    self.unread.add(group)
                    self.add(VolumeFinding("unreadable", DAMAGE, f"group {group}", count=len(span.missing)))
                raw = np.frombuffer(span.data, np.uint8, count=count * own.inode_size, offset=skip).reshape(
                    count, own.inode_size
                )
                live = np.nonzero(
                    raw[:, :2].any(axis=1)
                    | raw[:, 26:28].any(axis=1)
                    | self._are_own(group * own.inodes_per_group + piece, raw)
                )[0]
                if not len(live):
                    continue
                numbers = (live + group * own.inodes_per_group + piece + 1).astype(np.uint32)
                if self.sums:
                    for number in numbers[~self._sums_fit(raw[live], numbers)]:
                        self.broken.add(int(number))
                for place, number in zip(live, numbers, strict=True):
                    self._inode(e.parse_inode(raw[place].tobytes(), int(number)))

    def _are_own(self, before: int, raw: np.ndarray) -> np.ndarray:
        """Inodes of the volume itself that say anything at all, shape (n,)."""
        own: np.ndarray = np.arange(before + 1, before + 1 + len(raw)) < self.super.first_inode
        own[own] = raw[own].any(axis=1)
        return own

    def _sums_fit(self, rows: np.ndarray, numbers: np.ndarray) -> np.ndarray:
        size = self.super.inode_size
        low = rows[:, 124].astype(np.uint32) | rows[:, 125].astype(np.uint32) << 8
        wide = size > 128
        has_high = (
            (rows[:, 128].astype(np.uint32) | rows[:, 129].astype(np.uint32) << 8) >= 4
            if wide
            else np.zeros(len(rows), bool)
        )
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
        if not (inode.links or number in self.orphans or number < self.super.first_inode):
            is_of_a_list = bool(inode.deleted_at) and inode.deleted_at < self.super.inodes and self._has_real_times()
            if inode.mode and (not inode.deleted_at or is_of_a_list):
                self.add(VolumeFinding("deleted-noted", DAMAGE, f"inode {number}"))
            return
        if number in self.broken:
            self.kinds[number] = inode.mode & 0xF000
            self.links[number] = inode.links
        if not inode.mode and number >= self.super.first_inode:
            self.add(VolumeFinding("inode", DAMAGE, f"inode {number}"))
            return
        self.taken_inodes.append(number)
        self.kinds[number], self.links[number] = inode.mode & 0xF000, inode.links
        if inode.is_folder:
            self.folders[number] = inode
        for flaw in dict.fromkeys(flaws(self.volume, inode, is_orphan=number in self.orphans)):
            self.add(VolumeFinding(flaw, DAMAGE, f"inode {number}"))
        extra = self._attributes(inode)
        if number == _RESIZE:
            double = struct.unpack_from("<I", inode.body, 13 * 4)[0]
            self.claims.add(number, double or -1, 1)
            try:
                if resize_problem(self.volume, inode):
                    self.add(VolumeFinding("resize", DAMAGE))
            except DecodeError as error:
                self.add(VolumeFinding("unreadable", SIGN, str(error)))
            return
        if inode.mode & 0xF000 not in (e.FOLDER, e.REGULAR, e.SYMLINK) and number >= self.super.first_inode:
            if not (inode.flags & e.EXTENTS or any(inode.body[8:])):
                self._counted(inode, extra)
            self._use(inode, extra)
            return
        try:
            self._use(inode, self._held(inode, extra))
        except DecodeError as error:
            self.add(
                VolumeFinding("unreadable" if "LBA" in str(error) else "extents", DAMAGE, f"inode {number}: {error}")
            )

    def _has_real_times(self) -> bool:
        """No time of the superblock is as small as an inode's number, which a list of files being deleted keeps in the
        place of a time."""
        raw = self.super.raw
        times = [int.from_bytes(raw[at : at + 4], "little") for at in (0x2C, 0x30, 0x108)]
        return not any(0 < time < self.super.inodes for time in times)

    def _attributes(self, inode: Inode) -> int:
        """Blocks that its extended attributes hold, those in inodes of their own too, which count as its own."""
        own, number = self.super, inode.number
        is_wide = bool(own.incompat & e.WIDE)
        block = attributes.block_of(own, inode, is_wide=is_wide)
        why = ""
        if inode.raw[118:120] != b"\0\0" and not is_wide and not own.has_other_fields:
            why = "place"
        else:
            why = attributes.flaw_in_inode(own, inode)
        held, raw = 0, b""
        if block and not own.compat & attributes.ATTRIBUTES:
            why = "feature"
        elif block and not own.first_block < block < own.blocks:
            why = "place"
        elif block:
            known = self.attribute_blocks.get(block)
            if known is None:
                try:
                    raw = self.volume.bytes.read(block * own.block, own.block, "extended attributes")
                except DecodeError as error:
                    if 0 < block < own.blocks:
                        self.add(VolumeFinding("unreadable", DAMAGE, f"inode {number}: {error}"))
                self.attribute_blocks[block] = (raw, [number])
                self.claims.add(number, block, 1)
            else:
                raw = known[0]
                known[1].append(number)
            held = 1
        if not why and inode.flags & e.INLINE and not attributes.has_named(inode, b"", *attributes.DATA):
            why = "data"
        if (
            not why
            and inode.flags & e.ENCRYPTED
            and (inode.is_regular or inode.is_folder or inode.is_link)
            and not attributes.has_named(inode, raw, *attributes.POLICY)
        ):
            why = "policy"
        if own.incompat & attributes.VALUE_INODES:
            for each in attributes.values_elsewhere(inode, raw):
                self.value_inodes.add(each.inode)
                if each.told:
                    held += -(-each.size // own.block)
        if why:
            self.add(VolumeFinding("attributes", DAMAGE, f"inode {number}", values={"why": why}))
        return held

    def _attribute_blocks(self) -> None:
        for number, (raw, holders) in self.attribute_blocks.items():
            if not raw:
                continue
            why = attributes.block_flaw(self.super, self.seed, number, raw)
            if not why and int.from_bytes(raw[4:8], "little") != len(holders) and not self.unread:
                why = "count"
            if why:
                self.add(VolumeFinding("attributes", DAMAGE, self._name(holders[0]), values={"why": why}))

    def _use(self, inode: Inode, held: int) -> None:
        """Its blocks and itself count against its owner, its group and its project."""
        own = self.super
        if (
            not own.ro_compat & QUOTAS
            or inode.number in self.kept
            or inode.flags & attributes.VALUE_INODE
            or not (inode.number == e.ROOT or inode.number >= own.first_inode)
        ):
            return
        raw = inode.raw
        for kind, number in (
            ("user", int.from_bytes(raw[2:4] + raw[120:122], "little")),
            ("group", int.from_bytes(raw[24:26] + raw[122:124], "little")),
            ("project", int.from_bytes(raw[156:160], "little")),
        ):
            space, count = self.used[kind].get(number, (0, 0))
            self.used[kind][number] = (space + held * own.block, count + 1)

    def _held(self, inode: Inode, extra: int) -> int:
        """Its blocks, and whether its size and their count are what it says. `extra`: blocks of its attributes. Raises
        DecodeError."""
        number, held, expected = inode.number, extra, 0
        if inode.flags & e.EXTENTS and has_bad_node(self.volume, inode):
            self.add(VolumeFinding("extents", DAMAGE, f"inode {number}"))
        runs = []
        for run in self.volume.mapped(inode, whole=True):
            if inode.flags & e.EXTENTS and run.first < expected:
                self.add(VolumeFinding("extents", DAMAGE, f"inode {number}"))
                break
            runs.append(run)
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
        size = right_size(self.volume, inode, runs, expected)
        if size is not None:
            self.right_sizes[number] = size
            self.add(
                VolumeFinding("size-differs", DAMAGE, f"inode {number}", values={"size": inode.size, "held": size})
            )
        self._counted(inode, held)
        return held

    def _unwritten(self, inode: Inode) -> None:
        """Stretches that were taken but not written belong to the file all the same."""
        for first, count in unwritten(self.volume, inode):
            self.claims.add(inode.number, first, count)

    def _extent_sum(self, inode: Inode, block: int) -> None:
        raw = self.volume.bytes.read(block * self.volume.block, self.volume.block, "extents")
        end = 12 + 12 * int.from_bytes(raw[4:6], "little")
        if end + 4 <= len(raw) and crc32c(self.inode_seed(inode), raw[:end]) != int.from_bytes(
            raw[end : end + 4], "little"
        ):
            self.add(VolumeFinding("sum", DAMAGE, f"inode {inode.number}", values={}))

    def inode_seed(self, inode: Inode) -> int:
        return crc32c(crc32c(self.seed, struct.pack("<I", inode.number)), inode.raw[100:104])

    def _counted(self, inode: Inode, held: int) -> None:
        """i_blocks counts all blocks of a file in units of 512 bytes, or of blocks where a flag says so."""
        if self.super.ro_compat & e.BIGALLOC or inode.flags & e.INLINE:
            return
        is_huge = self.super.ro_compat & _HUGE
        told = inode.blocks | (int.from_bytes(inode.raw[116:118], "little") << 32 if is_huge else 0)
        told *= self.volume.block if is_huge and inode.flags & 0x40000 else 512
        if told != held * self.volume.block:
            self.right_bytes[inode.number] = held * self.volume.block
            self.add(
                VolumeFinding(
                    "size-differs",
                    DAMAGE,
                    f"inode {inode.number}",
                    values={"size": told, "held": held * self.volume.block},
                )
            )

    def leads(self, target: int) -> bool:
        """An entry with this inode leads to a file; also where nobody could read whether it does."""
        own = self.super
        if not 1 <= target <= own.inodes or (target < own.first_inode and target != e.ROOT):
            return False
        if target not in self.kinds and (target - 1) // own.inodes_per_group in self.unread:
            return True
        return target in self.kinds and bool(self.links.get(target) or target in self.orphans)

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
                self.add(VolumeFinding("folder-nowhere", DAMAGE, path or "/"))
                continue
            for name, target, kind in self._entries(inode, path, parent):
                place = f"{path}/{name}" if path else name
                if target not in self.kinds and (target - 1) // own.inodes_per_group in self.unread:
                    continue
                if not self.leads(target):
                    self.add(VolumeFinding("dangling", DAMAGE, place, repairable=True))
                    continue
                if own.incompat & e.FILETYPE and kind and _KINDS.get(kind) != self.kinds[target]:
                    self.add(VolumeFinding("kind-differs", DAMAGE, place, repairable=True))
                files += self.kinds[target] != e.FOLDER and target not in self.reached
                self.names.setdefault(target, place)
                self.found_links[target] = self.found_links.get(target, 0) + 1
                if self.kinds[target] == e.FOLDER:
                    if target in self.reached:
                        self.add(VolumeFinding("folder-twice", DAMAGE, place))
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
        dots: dict[str, int] = {}
        self.is_folded = bool(inode.flags & e.CASEFOLDED and self.super.raw[0x27E] & _STRICT)
        self.is_encrypted = bool(inode.flags & e.ENCRYPTED)
        if inode.flags & e.INLINE:
            for raw in filter(None, self.volume.inline_parts(inode)):
                try:
                    self._leaf(raw, found, dots, [], where)
                except DecodeError:
                    self.add(VolumeFinding("folder-broken", DAMAGE, where))
            if int.from_bytes(inode.body[:4], "little") != parent:
                self.add(
                    VolumeFinding("folder-links", DAMAGE, where, repairable=True, values={"name": ".."}),
                )
            return found
        at, block, broken = 0, self.volume.block, 0
        if inode.size > self.super.blocks * block:  # no folder is larger than its volume: what stands there is no size
            return found
        index = self._index(inode)
        letters, is_summed = list[bytes](), True
        for piece in self.volume.pieces(inode):
            if broken > _MOST_BROKEN:
                break
            if not isinstance(piece, bytes):
                self.add(VolumeFinding("unreadable", DAMAGE, where))
                at, index = at + piece.length, None
                continue
            for start in range(0, len(piece), block):
                raw = piece[start : start + block]
                is_node = bool(inode.flags & e.INDEXED) and (
                    at + start == 0 or raw[:8] == struct.pack("<IHH", 0, block & 0xFFFF, 0)
                )
                if not is_node:
                    self._leaf_sum(inode, raw, where)
                elif self.sums and not self._has_node_sum(inode, raw, is_root=at + start == 0):
                    is_summed = False
                if at + start == 0 and not begins_with_dots(raw):
                    dots["."] = dots[".."] = 0
                names: list[bytes] = []
                try:
                    self._leaf(raw, found, dots, names, where)
                except DecodeError:
                    broken, index = broken + 1, None
                    self.add(VolumeFinding("folder-broken", DAMAGE, where))
                    if broken > _MOST_BROKEN:
                        break
                letters += names
                if index is not None:
                    index.take(raw, names, is_node=is_node)
            at += len(piece)
        problem = (
            "feature"
            if inode.flags & e.INDEXED and not self.super.compat & _WITH_INDEX
            else index.problem() or ("" if is_summed else "sum")
            if index is not None
            else ""
        )
        if problem:
            self.add(VolumeFinding("index", DAMAGE, where, values={"why": problem}))
        if dots.get(".") != inode.number or dots.get("..") != parent:
            self.add(
                VolumeFinding(
                    "folder-links",
                    DAMAGE,
                    where,
                    repairable=True,
                    values={"name": "." if dots.get(".") != inode.number else ".."},
                )
            )
        for own in [own for own, count in Counter(letters).items() if count > 1]:
            name = own.decode("utf-8", "replace")
            self.add(VolumeFinding("name-twice", DAMAGE, f"{path}/{name}" if path else name))
        return found

    def _index(self, inode: Inode) -> FolderIndex | None:
        own = self.super
        if not inode.flags & e.INDEXED:
            return None
        return FolderIndex(
            block=self.volume.block,
            seed=own.raw[0xEC:0xFC],
            unsigned=bool(int.from_bytes(own.raw[0x160:0x164], "little") & _UNSIGNED),
            tailed=self.sums,
            has_deep=bool(own.incompat & _DEEP),
            is_plain=not inode.flags & (e.ENCRYPTED | e.CASEFOLDED),
        )

    def _leaf(
        self, raw: bytes, found: list[tuple[str, int, int]], dots: dict[str, int], names: list[bytes], where: str
    ) -> None:
        """Its entries, into `found` and, as they stand, `names`. Raises DecodeError where they leave it."""
        at = 0
        while at + 8 <= len(raw):
            inode, length, letters, kind = struct.unpack_from("<IHBB", raw, at)
            length = 65536 if length in (0, 65535) and len(raw) == 65536 else length
            if length < SHORTEST_ENTRY or length & 3 or at + length > len(raw) or letters + 8 > length:
                raise DecodeError(
                    "folder block",
                    at=at,
                    expected="an entry within its block",
                    got=f"{length} bytes, {letters} letters",
                )
            if inode:
                own = raw[at + 8 : at + 8 + letters]
                name = own.decode("utf-8", "replace")
                if name in (".", ".."):
                    is_ended = letters + 8 == length or not raw[at + 8 + letters]
                    is_right = is_ended and (kind in (0, _FOLDER_KIND) or not self.super.incompat & e.FILETYPE)
                    dots[name] = inode if name not in dots and is_right else 0
                elif letters:
                    found.append((name, inode, kind))
                    names.append(own)
                is_plain = not self.is_encrypted or name in (".", "..")
                if self.is_folded and "\ufffd" in name:
                    self.add(VolumeFinding("name-broken", DAMAGE, f"{where}/{name}" if where != "/" else name))
                if not letters or ((b"\0" in own or b"/" in own) if is_plain else letters < _SHORTEST_ENCRYPTED):
                    self.add(VolumeFinding("name-broken", DAMAGE, f"{where}/{name}" if where != "/" else name or "/"))
            at += length
        if at != len(raw):
            raise DecodeError(
                "folder block", at=at, expected="entries up to its end", got=f"{len(raw) - at} bytes more"
            )

    def _has_node_sum(self, inode: Inode, raw: bytes, *, is_root: bool) -> bool:
        """A block of the index has the sum that it ought to have, behind the room for its places. One that cannot have
        one is said to be broken elsewhere."""
        at = 32 if is_root else 8
        most, count = struct.unpack_from("<2H", raw, at)
        end = at + 8 * most
        if count > most or end + 8 > len(raw):
            return True
        value = crc32c(self.inode_seed(inode), raw[: at + 8 * count] + raw[end : end + 4] + bytes(4))
        return value == int.from_bytes(raw[end + 4 : end + 8], "little")

    def _leaf_sum(self, inode: Inode, raw: bytes, where: str) -> None:
        if self.sums and (
            not has_tail(raw) or crc32c(self.inode_seed(inode), raw[:-12]) != int.from_bytes(raw[-4:], "little")
        ):
            self.add(VolumeFinding("sum", DAMAGE, where, repairable=False))

    def _links(self) -> None:
        own = self.super
        for number in sorted(self.broken):
            self.add(VolumeFinding("sum", DAMAGE, self._name(number), repairable=False))
        for number in self.taken_inodes:
            if (number < own.first_inode and number != e.ROOT) or number in self.kept or number in self.orphans:
                continue
            links, real = self.links[number], self.found_links.get(number, 0)
            if number in self.value_inodes:
                continue
            if number not in self.reached:
                self.add(VolumeFinding("orphan", DAMAGE, f"inode {number}", repairable=True))
            elif links != real and not (self.kinds[number] == e.FOLDER and links == 1):
                self.add(
                    VolumeFinding(
                        "link-count", DAMAGE, self._name(number), repairable=True, values={"told": links, "real": real}
                    )
                )
