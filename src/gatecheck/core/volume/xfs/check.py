"""XFS: every block of its trees, every inode and folder by its checksum; names against inodes, blocks against who holds
them, free blocks against their count."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

import numpy as np

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.crc32c import crc32c_rows
from gatecheck.core.volume.inode_tree import id_of
from gatecheck.core.volume.names import name_of_bytes
from gatecheck.core.volume.tree import DAMAGE, NOTE, SIGN, VolumeFinding
from gatecheck.core.volume.xfs import layout as x
from gatecheck.core.volume.xfs.log import is_pending
from gatecheck.core.volume.xfs.read import Xfs

Add = Callable[[VolumeFinding], None]
_CHUNK, _AT_ONCE, _BUCKETS = 64, 32, 64
"""inodes of a chunk; chunks whose sums are looked at together; lists of files that were deleted while open"""


@dataclass(slots=True)
class _Seen:
    """`inodes`: number -> (kind, links); `named`: number -> names that lead to it; `held`: (first, count, inode) in
    blocks of the volume."""

    inodes: dict[int, tuple[int, int]] = field(default_factory=dict)
    named: dict[int, int] = field(default_factory=dict)
    name: dict[int, str] = field(default_factory=dict)
    kinds: dict[int, int] = field(default_factory=dict)
    held: list[tuple[int, int, int]] = field(default_factory=list)
    unlinked: int = 0
    there: int = 0
    used: int = 0
    whole: bool = True


def check_xfs(volume: Xfs, add: Add) -> tuple[int | None, int | None]:
    """(files, bytes used)."""
    own, seen = volume.super, _Seen()
    _superblocks(volume, add)
    pending = _log(volume, add)
    free = _free(volume, add, counts=not pending)
    _trees(volume, add)
    for group in range(own.groups):
        _inodes(volume, group, seen, add)
    for number, (kind, _) in list(seen.inodes.items()):
        if kind == x.FOLDER:
            _folder(volume, number, seen, add)
    if not pending:
        _counts(volume, seen, add)
        if seen.whole:
            _names(volume, seen, add)
        _blocks(volume, seen, free, add)
    if seen.unlinked and not pending:
        add(VolumeFinding("unfinished", SIGN, count=seen.unlinked))
    files = sum(kind != x.FOLDER and links > 0 for n, (kind, links) in seen.inodes.items() if n not in own.own)
    return files, None if free is None else volume.size - sum(c for _, c in free) * own.size


def _counts(volume: Xfs, seen: _Seen, add: Add) -> None:
    """Inodes, as the superblock counts them."""
    own = volume.super
    told = (own.inodes, own.free_inodes)
    if seen.whole and told != (seen.there, seen.there - seen.used):
        values: dict[str, object] = {"told": told[1], "real": seen.there - seen.used}
        add(VolumeFinding("counter", DAMAGE, "free inodes", values=values))


def _unread(error: DecodeError, where: str) -> VolumeFinding:
    return VolumeFinding(id_of(error, "sum"), DAMAGE, f"{where}: {error}")


def _superblocks(volume: Xfs, add: Add) -> None:
    own = volume.super
    for group in range(1, own.groups):
        try:
            found = x.read_super(volume.bytes.read(group * own.group * own.size, 4096, "XFS superblock"))
            same = (found.size, found.blocks, found.group) == (own.size, own.blocks, own.group)
        except DecodeError:
            same = False
        if not same:
            add(VolumeFinding("superblock-copy", SIGN, f"group {group}"))


def _log(volume: Xfs, add: Add) -> bool:
    try:
        pending = is_pending(volume)
    except DecodeError as error:
        add(VolumeFinding("journal-broken", DAMAGE, str(error)))
        return True
    if pending is None:
        add(VolumeFinding("journal-elsewhere", NOTE))
    elif pending:
        add(VolumeFinding("journal-pending", SIGN))
    return pending is not False


def _free(volume: Xfs, add: Add, *, counts: bool) -> list[tuple[int, int]] | None:
    """(first, count) of free blocks of the volume; None where not all of them are known."""
    own, found, whole = volume.super, list[tuple[int, int]](), True
    for group in range(own.groups):
        room = min(own.group, own.blocks - group * own.group)
        try:
            told = int.from_bytes(volume.group_head(group, 1)[52:56], "big")
            here = list(volume.free_blocks(group))
        except DecodeError as error:
            add(_unread(error, f"group {group}"))
            whole = False
            continue
        real = sum(count for _, count in here)
        if counts and real != told:
            add(VolumeFinding("free-count", DAMAGE, f"group {group}", values={"told": told, "real": real}))
        if any(first + count > room for first, count in here):
            add(VolumeFinding("beyond", DAMAGE, f"group {group}"))
        found += [(group * own.group + first, count) for first, count in here]
    return found if whole else None


def _trees(volume: Xfs, add: Add) -> None:
    """Every block of the trees that are not read for something else, and the groups' lists of blocks for them."""
    own = volume.super
    for group in range(own.groups):
        where = f"group {group}"
        for tree in x.TREES:
            if tree.shape in (x.FREE_BY_PLACE, x.INODES) or (
                tree.feature and not own.read_only_features & tree.feature
            ):
                continue
            try:
                head = volume.group_head(group, tree.head)
            except DecodeError:
                continue  # named already
            root, levels = (int.from_bytes(head[at : at + 4], "big") for at in (tree.root_at, tree.level_at))
            try:
                for _ in volume.group_tree(group, tree.shape, root, levels):
                    pass
            except DecodeError as error:
                add(_unread(error, where))
        if own.is_v5:
            try:
                volume.group_head(group, 3)
            except DecodeError as error:
                add(_unread(error, where))


def _inodes(volume: Xfs, group: int, seen: _Seen, add: Add) -> None:
    own = volume.super
    try:
        head = volume.group_head(group, 2)
        buckets = np.frombuffer(head, ">u4", _BUCKETS, 40)
        seen.unlinked += int(np.count_nonzero(buckets != x.NONE_32))
        chunks = list(volume.inode_chunks(group))
    except DecodeError as error:
        add(_unread(error, f"group {group}"))
        seen.whole = False
        return
    for place in range(0, len(chunks), _AT_ONCE):
        _inodes_of(volume, chunks[place : place + _AT_ONCE], seen, add)
    for first, there, _ in chunks:
        bits = (first & (1 << own.group_bits + own.inode_bits) - 1) >> own.inode_bits
        step = own.inodes_in_block
        for n in range(0, _CHUNK, step):
            if there >> n & 1:
                seen.held.append((group * own.group + bits + n // step, 1, first))


def _inodes_of(volume: Xfs, chunks: list[tuple[int, int, int]], seen: _Seen, add: Add) -> None:
    own, numbers, rows, unused = volume.super, list[int](), list[bytes](), set[int]()
    for first, there, free in chunks:
        unused |= {first + n for n in range(_CHUNK) if free >> n & 1}
        for number, raw in _raw_inodes(volume, first, there, seen, add):
            numbers.append(number)
            rows.append(raw)
    if not rows:
        return
    table = np.frombuffer(b"".join(rows), np.uint8).reshape(len(rows), own.inode)
    right = np.ones(len(rows), bool)
    if own.is_v5:
        told = table[:, 100:104].copy().view("<u4")[:, 0]
        blank = table.copy()
        blank[:, 100:104] = 0
        right = (crc32c_rows(np.full(len(rows), 0xFFFFFFFF, np.uint32), blank) ^ np.uint32(0xFFFFFFFF)) == told
    for number, raw, fits in zip(numbers, rows, right.tolist(), strict=True):
        try:
            if not fits:
                raise DecodeError(f"XFS inode {number}", at=100, expected="its checksum", got="another")
            inode = x.read_inode(raw, own, number)
            if bool(inode.mode) is (number in unused):
                got = "the other by its mode"
                raise DecodeError(f"XFS inode {number}", at=2, expected="free or in use as its map has it", got=got)
            seen.there += 1
            if number in unused:
                continue
            seen.used += 1
            seen.inodes[number] = (inode.kind, inode.links)
        except DecodeError as error:
            seen.whole = False
            add(VolumeFinding("inode" if fits else "sum", DAMAGE, str(error)))
            continue
        _holdings(volume, number, inode, seen, add)


def _holdings(volume: Xfs, number: int, inode: x.XfsInode, seen: _Seen, add: Add) -> None:
    """What an inode holds, against what it says that it holds."""
    before = len(seen.held)
    try:
        _extents(volume, number, inode, seen)
    except DecodeError as error:
        add(VolumeFinding("extents", DAMAGE, f"inode {number}: {error}"))
        return
    try:
        _attributes(volume, number, inode, seen)
    except DecodeError:
        add(VolumeFinding("attributes", DAMAGE, f"inode {number}", values={"why": "sum"}))
        return
    held, size = sum(count for _, count, _ in seen.held[before:]), volume.super.size
    if held != inode.blocks and not inode.flags & x.ON_REALTIME:
        values: dict[str, object] = {"size": inode.blocks * size, "held": held * size}
        add(VolumeFinding("size-differs", DAMAGE, f"inode {number}", values=values))


def _raw_inodes(volume: Xfs, first: int, there: int, seen: _Seen, add: Add) -> Iterator[tuple[int, bytes]]:
    """(number, bytes) of the inodes of a chunk."""
    own = volume.super
    for start in range(0, _CHUNK, own.inodes_in_block):
        used = [n for n in range(start, min(start + own.inodes_in_block, _CHUNK)) if there >> n & 1]
        if not used:
            continue
        try:
            at = volume.inode_place(first + start)
            raw = volume.bytes.read(at, own.size, "XFS inodes")
        except DecodeError as error:
            add(_unread(error, f"inode {first + start}"))
            seen.whole = False
            continue
        for n in used:
            yield first + n, raw[(n - start) * own.inode :][: own.inode]


def _extents(volume: Xfs, number: int, inode: x.XfsInode, seen: _Seen) -> None:
    """Blocks that an inode holds. Raises DecodeError where they cannot be told."""
    own, past, total = volume.super, 0, 0
    if inode.kind not in (x.FOLDER, x.REGULAR, x.LINK) or inode.flags & x.ON_REALTIME:
        return
    if inode.format == x.BTREE:
        for block, _ in volume.map_blocks(inode.fork):
            seen.held.append((_linear(own, block), 1, number))
    for extent in volume.extents(inode):
        total += 1
        if extent.at < past or not extent.count:
            raise DecodeError("XFS extents", at=extent.at, expected=f"from block {past}", got=extent.at)
        past = extent.at + extent.count
        first = _linear(own, extent.block)
        if _linear(own, extent.block + extent.count - 1) != first + extent.count - 1:
            raise DecodeError("XFS extents", at=extent.at, expected="within a group", got=extent.block)
        seen.held.append((first, extent.count, number))
    if inode.format != x.LOCAL and total != inode.extents:
        raise DecodeError("XFS extents", at=76, expected=f"{inode.extents} of them", got=total)


def _attributes(volume: Xfs, number: int, inode: x.XfsInode, seen: _Seen) -> None:
    """Blocks of an inode's attributes, by their sums. Raises DecodeError."""
    own = volume.super
    if inode.attributes is None:
        return
    form, _, fork = inode.attributes
    if form == x.LOCAL and not 4 <= int.from_bytes(fork[:2], "big") <= len(fork):
        raise DecodeError(f"XFS inode {number}", at=0, expected="attributes inside it", got=fork[:2].hex())
    if form == x.BTREE:
        for block, _ in volume.map_blocks(fork):
            seen.held.append((_linear(own, block), 1, number))
    for extent in volume.fork_extents(*inode.attributes):
        first = _linear(own, extent.block)
        seen.held.append((first, extent.count, number))
        for n in range(extent.count if own.is_v5 else 0):
            raw = volume.block(extent.block + n, "XFS attributes")
            is_kept = raw[8:10] in _INDEXES or raw[:4] == b"XARM"
            if is_kept and not x.has_sum(raw, 12):
                raise DecodeError(f"XFS inode {number}", at=12, expected="its checksum", got="another")


_INDEXES = (b"\x3b\xee", b"\x3e\xbe", b"\x3d\xf1", b"\x3d\xff")
"""marks of blocks of an index, at byte 8, of version 5"""


def _linear(own: x.XfsSuper, block: int) -> int:
    place = own.address(block) // own.size
    if place >= own.blocks:
        raise DecodeError("XFS block", at=0, expected=f"below {own.blocks}", got=place)
    return place


def _folder(volume: Xfs, number: int, seen: _Seen, add: Add) -> None:
    where = seen.name.get(number, f"inode {number}")
    hashes = list[int]()
    try:
        for entry in volume.listed(number):
            name = name_of_bytes(entry.name)
            hashes.append(x.name_hash(entry.name))
            seen.named[entry.inode] = seen.named.get(entry.inode, 0) + 1
            seen.name.setdefault(entry.inode, name)
            if entry.kind:
                seen.kinds[entry.inode] = entry.kind
    except DecodeError as error:
        seen.whole = False
        add(VolumeFinding(id_of(error, "folder-broken"), DAMAGE, f"{where}: {error}"))
        return
    try:
        if not _index_fits(volume, number, hashes):
            add(VolumeFinding("index", DAMAGE, where))
    except DecodeError as error:
        add(VolumeFinding(id_of(error, "index"), DAMAGE, where))


def _index_fits(volume: Xfs, number: int, hashes: list[int]) -> bool:
    """A folder's index has the hash of each of its names, in order. Raises DecodeError."""
    own, inode, told = volume.super, volume.inode(number), list[int]()
    if inode.format == x.LOCAL:
        return True
    for _, raw in volume.folder_blocks(inode):
        told += x.index_hashes(raw, own) if isinstance(raw, bytes) else []
    for raw in volume.index_blocks(number):
        if own.is_v5 and not x.has_sum(raw, 4 if raw[:4] == b"XDF3" else 12):
            return False
        told += x.index_hashes(raw, own)
    return sorted(told) == sorted([*hashes, x.name_hash(b"."), x.name_hash(b"..")])


def _names(volume: Xfs, seen: _Seen, add: Add) -> None:
    own = volume.super
    for number in seen.named.keys() - seen.inodes.keys():
        add(VolumeFinding("dangling", DAMAGE, seen.name[number]))
    for number, (kind, links) in seen.inodes.items():
        names = seen.named.get(number, 0)
        where = seen.name.get(number, f"inode {number}")
        if number in seen.kinds and seen.kinds[number] != kind:
            add(VolumeFinding("kind-differs", DAMAGE, where))
        if number == own.root or number in own.own or not links:
            continue
        if not names:
            add(VolumeFinding("orphan", DAMAGE, where))
        elif kind != x.FOLDER and names != links:
            add(VolumeFinding("link-count", DAMAGE, where, values={"told": links, "real": names}))


def _blocks(volume: Xfs, seen: _Seen, free: list[tuple[int, int]] | None, add: Add) -> None:
    """Who holds the same blocks, and what is held and said to be free."""
    rows = sorted(seen.held)
    shares = bool(volume.super.read_only_features & x.SHARED)
    end, owner = 0, 0
    for first, count, number in rows:
        if first < end and not shares:
            names = [seen.name.get(n, f"inode {n}") for n in (number, owner)]
            both = min(end, first + count) - first
            add(VolumeFinding("crossed", DAMAGE, names[0], count=both, values={"other": names[1]}))
        if first + count > end:
            end, owner = first + count, number
    if not free or not rows:
        return
    starts = np.array([r[0] for r in rows])
    ends = np.maximum.accumulate(np.array([r[0] + r[1] for r in rows]))
    for first, count in sorted(free):
        place = int(np.searchsorted(starts, first + count, side="left")) - 1
        if place >= 0 and ends[place] > first:
            number = max((r for r in rows[max(0, place - 64) : place + 1]), key=lambda r: r[0] + r[1])[2]
            add(VolumeFinding("unmarked", DAMAGE, seen.name.get(number, f"inode {number}"), count=1))
