"""Btrfs: every node of every tree by its sum, its place and its age; folders against inodes. The sums of files' own
bytes are looked at when they are copied."""

from __future__ import annotations

import struct
from collections.abc import Callable

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.btrfs import layout as b
from gatecheck.core.volume.btrfs.read import Btrfs, Root
from gatecheck.core.volume.tree import DAMAGE, NOTE, SIGN, VolumeFinding

Add = Callable[[VolumeFinding], None]
_MOST_NODES = 1 << 22


def check_btrfs(volume: Btrfs, add: Add) -> tuple[int | None, int | None]:
    """(files, bytes used)."""
    own = volume.super
    if volume.super_at != b.SUPER_AT:
        add(VolumeFinding("superblock-copy", SIGN, "0"))
    if own.log_root:
        add(VolumeFinding("journal-pending", SIGN))
    if own.drives > 1:
        add(VolumeFinding("one-of-set", NOTE, values={"drives": own.drives}))
    whole = _nodes(volume, "trees", volume.tree, add)
    whole = _nodes(volume, "chunks", Root(own.chunk_root, own.raw[199], own.generation, False), add) and whole
    for number, root in sorted(volume.roots.items()):
        whole = _nodes(volume, f"tree {number}", root, add) and whole
    files = 0
    for number, root in sorted(volume.roots.items()):
        if number == b.FS_TREE or b.FIRST_FREE <= number < 1 << 63:
            files += _files(volume, number, root, add, is_whole=whole)
    return files, own.used


def _nodes(volume: Btrfs, name: str, root: Root, add: Add) -> bool:
    """Every node from here on; false where one cannot be read."""
    waiting, whole, seen = [(root.address, root.level, root.generation)], True, 0
    while waiting and seen < _MOST_NODES:
        address, level, newest = waiting.pop()
        seen += 1
        try:
            raw = volume.node(address, level, newest)
        except DecodeError as error:
            add(VolumeFinding("unreadable" if "LBA" in str(error) else "sum", DAMAGE, f"{name}: {error}"))
            whole = False
            continue
        if level:
            count = min(int.from_bytes(raw[96:100], "little"), (len(raw) - b.HEADER) // b.POINTER)
            for n in range(count):
                below, generation = struct.unpack_from("<2Q", raw, b.HEADER + n * b.POINTER + b.KEY)
                waiting.append((below, level - 1, generation))
    return whole


def _files(volume: Btrfs, number: int, root: Root, add: Add, *, is_whole: bool) -> int:
    """Files of a subvolume, once for each; entries that lead nowhere, and how many lead to each."""
    inodes: dict[int, tuple[int, bool]] = {}
    entries: dict[int, int] = {}
    names: dict[int, str] = {}
    try:
        for key, raw in volume.items(root):
            if key.type == b.INODE_ITEM:
                inode = b.read_inode(raw)
                inodes[key.object] = (inode.links, inode.is_folder)
            elif key.type == b.DIR_INDEX:
                for entry in b.read_entries(raw):
                    if entry.where.type == b.INODE_ITEM:
                        entries[entry.where.object] = entries.get(entry.where.object, 0) + 1
                        names.setdefault(entry.where.object, entry.name.decode("utf-8", "replace"))
    except DecodeError:
        return len(inodes)
    if is_whole:
        for target in entries.keys() - inodes.keys():
            add(VolumeFinding("dangling", DAMAGE, names[target]))
        for target, (links, is_folder) in inodes.items():
            if target >= b.FIRST_FREE and not is_folder and links and links != entries.get(target, 0):
                values: dict[str, object] = {"told": links, "real": entries.get(target, 0)}
                add(VolumeFinding("link-count", DAMAGE, names.get(target, f"inode {target}"), values=values))
    return sum(not is_folder for _, is_folder in inodes.values())
