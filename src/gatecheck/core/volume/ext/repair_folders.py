"""Repairs of a folder of ext: blocks whose entries are broken, its links to itself and to the one above, names that
cannot be or are there twice, and an index that does not hold.

Linux, Documentation/filesystems/ext4: directory entries, "Hash tree directories". A folder whose index is given up is
one that is searched from its beginning: slower, and as right. What a broken block held behind its break, and what it
named, is found by the inodes and named in lost+found."""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.crc32c import crc32c
from gatecheck.core.volume.ext import layout as e
from gatecheck.core.volume.ext.check import ExtCheck
from gatecheck.core.volume.ext.folder_blocks import HEAD, TAIL_SIZE, FolderEntry, has_tail, packed, parsed, placed
from gatecheck.core.volume.ext.layout import Inode
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.ext.repair_names import folder_blocks, place_of, summed_inode
from gatecheck.core.volume.repair_group import RepairGroup, group
from gatecheck.core.volume.tree import VolumeFinding

_LONGEST = 255
_DOTS = (b".", b"..")
_FOLDER_KIND = 2
_UNSURE = {"unreadable", "group", "superblock-field"}
"""findings under which it is not known which folder leads where"""


def summed_leaf(own: ExtCheck, inode: Inode, raw: bytes) -> bytes:
    """A block with the sum that it ought to have, where its end is kept for one."""
    if not own.sums or not has_tail(raw):
        return raw
    return raw[:-4] + struct.pack("<I", crc32c(own.inode_seed(inode), raw[:-TAIL_SIZE]))


def folder_groups(volume: Ext, ids: set[str]) -> list[Callable[[], RepairGroup | None]]:
    """In their order: each rests on the one before it."""
    return [
        lambda: _index_group(volume, ids),
        lambda: _salvage_group(volume, ids),
        lambda: _twice_group(volume, ids),
        lambda: _dots_group(volume, ids),
        lambda: _spelling_group(volume, ids),
    ]


class _Folders:
    """The folders of a volume, and which of them a finding means."""

    def __init__(self, volume: Ext, *wanted: str) -> None:
        self.volume, self.base = volume, volume.bytes.base
        places: set[str] = set()

        def hear(found: VolumeFinding) -> None:
            if found.id in wanted:
                places.add(found.where)

        self.own = ExtCheck(volume, hear, lambda _stage, _done, _of: None)
        self.own.whole()
        self.places = places
        self.writes: list[tuple[int, bytes]] = []
        self.names: list[str] = []
        self.count = 0

    def meant(self, *, with_entries: bool = False) -> Iterator[Inode]:
        """Folders that the findings name, or whose entries they name."""
        for number in sorted(self.own.reached & self.own.folders.keys()):
            name = self.own.names.get(number, "/") or "/"
            inside = name.rstrip("/") + "/" if name != "/" else ""
            is_one = name in self.places or (with_entries and any(p.startswith(inside) for p in self.places))
            if is_one and number not in self.own.broken and not self.own.folders[number].flags & e.INLINE:
                yield self.own.folders[number]

    def blocks(self, inode: Inode) -> Iterator[tuple[int, bytes]]:
        for block in folder_blocks(self.volume, inode):
            if 0 < block < self.volume.super.blocks:
                try:
                    yield block, self.volume.bytes.read(block * self.volume.block, self.volume.block, "folder")
                except DecodeError:
                    continue

    def put(self, inode: Inode, block: int, raw: bytes) -> None:
        self.writes.append((self.base + block * self.volume.block, summed_leaf(self.own, inode, raw)))

    def named(self, inode: Inode, count: int = 1) -> None:
        self.names.append(self.own.names.get(inode.number, "/") or "/")
        self.count += count

    def group(self, name: str, *doubts: str) -> RepairGroup | None:
        if not self.writes:
            return None
        return group(
            name, self.writes, "folder", doubts=doubts, touches=tuple(dict.fromkeys(self.names)), count=self.count
        )

    def is_possible(self, entry: FolderEntry) -> bool:
        return (
            0 < len(entry.name) <= _LONGEST
            and not (b"\0" in entry.name or b"/" in entry.name)
            and self.own.leads(entry.inode)
        )


def _index_group(volume: Ext, ids: set[str]) -> RepairGroup | None:
    """Folders whose index does not hold are made plain ones; no entry is touched."""
    if "index" not in ids:
        return None
    folders = _Folders(volume, "index")
    if "name-twice" in ids:
        return None  # which of two equal names is the wrong one only the index tells
    for inode in folders.meant():
        made = _without_index(folders, inode)
        if made is None:
            continue
        for block, raw in made:
            folders.put(inode, block, raw)
        _put_plain(folders, inode)
        folders.named(inode)
    return folders.group("unindexed")


def _put_plain(folders: _Folders, inode: Inode) -> None:
    """Its record without the note that it has an index."""
    record = bytearray(inode.raw)
    record[32:36] = struct.pack("<I", inode.flags & ~e.INDEXED)
    summed = summed_inode(folders.own, inode.number, bytes(record))
    folders.writes.append((folders.base + place_of(folders.volume, inode.number), summed))


def _without_index(folders: _Folders, inode: Inode) -> list[tuple[int, bytes]] | None:
    """(block, as it is to be) of those that hold the index; None where its first block is not one that begins with a
    folder's own two links."""
    size = folders.volume.block
    made = []
    for place, (block, raw) in enumerate(folders.blocks(inode)):
        if place == 0:
            entries, _ = parsed(raw)
            if [own.name for own in entries[:2]] != [*_DOTS]:
                return None
            if int.from_bytes(raw[16:18], "little") != size - 12 & 0xFFFF:
                continue  # the flag alone is wrong: names stand in it
            first = packed(entries[:2], size, tailed=folders.own.sums)
            assert first is not None
            made.append((block, first))
        elif raw[:8] == struct.pack("<IHH", 0, size & 0xFFFF, 0):
            empty = packed((), size, tailed=folders.own.sums)
            assert empty is not None
            made.append((block, empty))
    return made


def _salvage_group(volume: Ext, ids: set[str]) -> RepairGroup | None:
    """Broken blocks: their entries up to the break, and behind it from where they lead to the block's end again."""
    if "folder-broken" not in ids or ids & _UNSURE:
        return None
    folders = _Folders(volume, "folder-broken")
    for inode in folders.meant():
        if inode.flags & e.ENCRYPTED:
            continue
        for place, (block, raw) in enumerate(folders.blocks(inode)):
            entries, end = parsed(raw)
            if end == len(raw) or (inode.flags & e.INDEXED and place == 0):
                continue
            kept = [own for own in entries if own.name in _DOTS or folders.is_possible(own)]
            kept += [own for own in _behind(folders, raw, end) if own.name not in {k.name for k in kept}]
            made = packed(kept, volume.block, tailed=folders.own.sums)
            while made is None and kept:  # its end is needed for the sum
                kept.pop()
                made = packed(kept, volume.block, tailed=folders.own.sums)
            assert made is not None
            folders.put(inode, block, made)
            folders.named(inode)
    return folders.group("salvaged", "nameless")


def _behind(folders: _Folders, raw: bytes, end: int) -> list[FolderEntry]:
    """Entries of the first place behind `end` from which all of them are possible, up to the block's end."""
    for start in range(end + 4, len(raw) - HEAD, 4):
        entries, stop = parsed(raw[start:])
        if stop == len(raw) - start and entries and all(folders.is_possible(own) for own in entries):
            return entries
    return []


def _twice_group(volume: Ext, ids: set[str]) -> RepairGroup | None:
    """A folder is in one folder only: of several entries that lead to it the one stays that it names as above it."""
    if "folder-twice" not in ids or ids & _UNSURE or "folder-broken" in ids:
        return None
    folders = _Folders(volume, "folder-twice")
    holders: dict[int, set[int]] = {}
    for number in folders.own.reached & folders.own.folders.keys():
        for _, raw in folders.blocks(folders.own.folders[number]):
            for entry in parsed(raw)[0]:
                if entry.name not in _DOTS and entry.inode in folders.own.folders:
                    holders.setdefault(entry.inode, set()).add(number)
    for inode in folders.meant(with_entries=True):
        if inode.flags & e.INDEXED:
            continue
        for block, raw in folders.blocks(inode):
            out, count = bytearray(raw), 0
            for at, entry in placed(raw):
                if entry.inode in folders.own.folders and entry.name not in _DOTS:
                    above = _told_above(folders, entry.inode)
                    if above != inode.number and (above in holders[entry.inode] or entry.inode == e.ROOT):
                        struct.pack_into("<I", out, at, 0)
                        count += 1
            if count:
                folders.put(inode, block, bytes(out))
                folders.named(inode, count)
    return folders.group("folder-twice")


def _told_above(folders: _Folders, number: int) -> int:
    """The folder that one names as above it; 0 where it does not."""
    first = next(folders.blocks(folders.own.folders[number]), None)
    entries = parsed(first[1])[0] if first else []
    return next((own.inode for own in entries if own.name == b".."), 0)


def _dots_group(volume: Ext, ids: set[str]) -> RepairGroup | None:
    """A folder's links to itself and to the one above, which stand first in its first block."""
    if "folder-links" not in ids or ids & _UNSURE or "folder-broken" in ids:
        return None
    folders = _Folders(volume, "folder-links")
    above = _above(folders)
    typed = bool(volume.super.incompat & e.FILETYPE)
    for inode in folders.meant():
        first = next(folders.blocks(inode), None)
        if inode.flags & e.INDEXED or first is None or inode.number not in above:
            continue
        block, raw = first
        entries, end = parsed(raw)
        if end != len(raw):
            continue
        kind = _FOLDER_KIND if typed else 0
        dots = [FolderEntry(inode.number, b".", kind), FolderEntry(above[inode.number], b"..", kind)]
        rest = [own for own in entries if own.name not in _DOTS]
        made = packed(dots + rest, volume.block, tailed=folders.own.sums)
        if made is not None:
            folders.put(inode, block, made)
            folders.named(inode)
    return folders.group("folder-links")


def _above(folders: _Folders) -> dict[int, int]:
    """Folder -> the one that names it; the root is above itself. Those that two name are left out."""
    found: dict[int, int] = {e.ROOT: e.ROOT}
    several: set[int] = set()
    own = folders.own
    for number in own.reached & own.folders.keys():
        for _, raw in folders.blocks(own.folders[number]):
            for entry in parsed(raw)[0]:
                if entry.name in _DOTS or entry.inode not in own.folders:
                    continue
                if found.get(entry.inode, number) != number:
                    several.add(entry.inode)
                found[entry.inode] = number
    return {inner: outer for inner, outer in found.items() if inner not in several}


def _spelling_group(volume: Ext, ids: set[str]) -> RepairGroup | None:
    """Names with letters that no name can have get others; of two that are the same in one folder the second one is
    told apart."""
    if not ids & {"name-broken", "name-twice"} or ids & _UNSURE or ids & {"folder-broken", "index"}:
        return None
    folders = _Folders(volume, "name-broken", "name-twice")
    for inode in folders.meant(with_entries=True):
        if inode.flags & (e.ENCRYPTED | e.CASEFOLDED):
            continue
        plain = _without_index(folders, inode) if inode.flags & e.INDEXED else []
        if plain is None:
            continue
        as_plain = dict(plain)
        blocks = [(block, as_plain.get(block, raw)) for block, raw in folders.blocks(inode)]
        before = folders.count
        taken = {own.name for _, raw in blocks for own in parsed(raw)[0]}
        seen: set[bytes] = set()
        for block, raw in blocks:
            entries, end = parsed(raw)
            if end != len(raw):
                break
            renamed = [_spelled(own, seen, taken) for own in entries]
            made = packed(renamed, volume.block, tailed=folders.own.sums) if renamed != entries else None
            if made is not None:
                folders.put(inode, block, made)
                folders.named(inode, sum(a != b for a, b in zip(entries, renamed, strict=True)))
        if plain and folders.count > before:  # the index told of the names as they were
            for block, raw in plain:
                folders.put(inode, block, raw)
            _put_plain(folders, inode)
    return folders.group("renamed", "letter-or-time")


def _spelled(own: FolderEntry, seen: set[bytes], taken: set[bytes]) -> FolderEntry:
    """With a name that can be, and that no earlier entry of the folder has. `taken`: names of the folder as it is."""
    name = own.name
    if name in _DOTS:
        return own
    name = name.replace(b"\0", b".").replace(b"/", b".") or b"#%d" % own.inode
    if name != own.name or name in seen:
        number = 0
        while name in seen or (name != own.name and name in taken) or name in _DOTS:
            name, number = name[: _LONGEST - 8].rstrip(b"~0123456789") + b"~%d" % number, number + 1
    seen.add(name)
    taken.add(name)
    return FolderEntry(own.inode, name, own.kind)
