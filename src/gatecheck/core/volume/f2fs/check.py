"""F2FS: superblocks, checkpoints, every node by the table, inodes by their checksums; names against inodes, blocks
against who holds them, counts."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.f2fs import layout as f
from gatecheck.core.volume.f2fs.read import F2fs
from gatecheck.core.volume.inode_tree import id_of
from gatecheck.core.volume.names import name_of_bytes
from gatecheck.core.volume.tree import DAMAGE, NOTE, SIGN, VolumeFinding

Add = Callable[[VolumeFinding], None]


@dataclass(slots=True)
class _Met:
    """`inodes`: number -> (kind, links); `holders`: block -> inode; `nodes`: those that some inode names."""

    inodes: dict[int, tuple[int, int]] = field(default_factory=dict)
    named: dict[int, int] = field(default_factory=dict)
    name: dict[int, str] = field(default_factory=dict)
    holders: dict[int, int] = field(default_factory=dict)
    nodes: set[int] = field(default_factory=set)
    whole: bool = True


def check_f2fs(volume: F2fs, add: Add) -> tuple[int | None, int | None]:
    """(files, bytes used)."""
    own, met = volume.super, _Met()
    try:
        f.read_super(volume.bytes.read(f.SUPERS[1], 3072, "F2FS superblock"))
    except DecodeError:
        add(VolumeFinding("superblock-copy", SIGN, "block 1"))
    if own.drives > 1:
        add(VolumeFinding("one-of-set", NOTE, values={"drives": own.drives}))
    if volume.now.flags & (f.ERROR | f.WANTS_CHECK):
        add(VolumeFinding("errors-noted", SIGN))
    if not volume.now.flags & f.UNMOUNTED:
        add(VolumeFinding("dirty", SIGN))
    for number in _nodes(volume, met, add):
        _inode(volume, number, met, add)
    if met.whole:
        _names(volume, met, add)
        _counts(volume, met, add)
    files = sum(kind != f.FOLDER for kind, _ in met.inodes.values())
    return files, volume.now.blocks * f.BLOCK


def _nodes(volume: F2fs, met: _Met, add: Add) -> list[int]:
    """Numbers of all inodes that the table knows."""
    found = []
    blocks = -(-volume.most_nodes // f.NAT_ENTRIES)
    numbers = set(volume.moved)
    for block in range(blocks):
        try:
            raw = volume.nat_block(block)
        except DecodeError as error:
            met.whole = False
            add(VolumeFinding("unreadable", DAMAGE, str(error)))
            continue
        if not any(raw):
            continue
        for n in range(f.NAT_ENTRIES):
            if any(raw[n * 9 + 5 : n * 9 + 9]):
                numbers.add(block * f.NAT_ENTRIES + n)
    for number in sorted(numbers):
        inode, address = volume.where_node(number)
        if number in (0, volume.super.node, volume.super.meta) or address in (f.NOWHERE, f.RESERVED):
            continue
        if inode == number:
            found.append(number)
    return found


def _inode(volume: F2fs, number: int, met: _Met, add: Add) -> None:
    try:
        inode = volume.inode(number)
        met.inodes[number] = (inode.kind, inode.links)
    except DecodeError as error:
        met.whole = False
        add(
            VolumeFinding(
                id_of(error, "sum" if "checksum" in str(error) else "inode"),
                DAMAGE,
                str(error),
            )
        )
        return
    where = met.name.get(number, f"inode {number}")
    try:
        _held(volume, number, inode, met, add)
    except DecodeError as error:
        met.whole = False
        add(VolumeFinding(id_of(error, "extents"), DAMAGE, f"{where}: {error}"))
    if inode.kind == f.FOLDER and not inode.advice & f.ENCRYPTED:
        try:
            for entry in volume.listed(number):
                met.named[entry.inode] = met.named.get(entry.inode, 0) + 1
                met.name.setdefault(entry.inode, name_of_bytes(entry.name))
                if not volume.super.features & f.ANY_CASE and entry.hash != f.name_hash(entry.name):
                    add(VolumeFinding("name-broken", DAMAGE, name_of_bytes(entry.name)))
        except DecodeError as error:
            met.whole = False
            add(VolumeFinding(id_of(error, "folder-broken"), DAMAGE, f"{where}: {error}"))


def _held(volume: F2fs, number: int, inode: f.FlashInode, met: _Met, add: Add) -> None:
    """Blocks and nodes of an inode. Raises DecodeError."""
    waiting = [(own, depth) for own, depth in zip(inode.nodes, (1, 1, 2, 2, 3), strict=True) if own]
    if inode.attributes:
        waiting.append((inode.attributes, 0))
    met.nodes.add(number)
    _hold(volume, volume.where_node(number)[1], number, met, add)
    addresses = [] if inode.flags & (f.IN_INODE | f.ENTRIES_IN_INODE) else list(inode.addresses)
    while waiting:
        own, depth = waiting.pop()
        raw = volume.node(own)
        if int.from_bytes(raw[f.FOOTER + 4 : f.FOOTER + 8], "little") != number or own in met.nodes:
            raise DecodeError(f"F2FS node {own}", at=f.FOOTER, expected=f"a node of {number}", got="another's")
        met.nodes.add(own)
        _hold(volume, volume.where_node(own)[1], number, met, add)
        inside = [int.from_bytes(raw[n * 4 : n * 4 + 4], "little") for n in range(f.NODE_ADDRESSES if depth else 0)]
        if depth == 1:
            addresses += inside
        else:
            waiting += [(n, depth - 1) for n in inside if n]
    for address in addresses:
        if address not in (f.NOWHERE, f.RESERVED, f.PACKED):
            _hold(volume, address, number, met, add)


def _hold(volume: F2fs, address: int, number: int, met: _Met, add: Add) -> None:
    if not volume.super.main <= address < volume.super.blocks:
        raise DecodeError(f"F2FS inode {number}", at=0, expected="a block of the main area", got=address)
    other = met.holders.setdefault(address, number)
    if other != number:
        names = [met.name.get(n, f"inode {n}") for n in (number, other)]
        add(VolumeFinding("crossed", DAMAGE, names[0], values={"other": names[1]}))


def _names(volume: F2fs, met: _Met, add: Add) -> None:
    for number in met.named.keys() - met.inodes.keys():
        add(VolumeFinding("dangling", DAMAGE, met.name[number]))
    for number, (kind, links) in met.inodes.items():
        names = met.named.get(number, 0)
        if number == volume.top or not names:
            continue  # files that nobody lists: quotas, and those that were being deleted
        if kind != f.FOLDER and names != links:
            where = met.name.get(number, f"inode {number}")
            add(VolumeFinding("link-count", DAMAGE, where, values={"told": links, "real": names}))


def _counts(volume: F2fs, met: _Met, add: Add) -> None:
    now = volume.now
    for where, told, real in (
        ("inodes", now.inodes, len(met.inodes)),
        ("nodes", now.nodes, len(met.nodes)),
    ):
        if told != real:
            add(VolumeFinding("counter", DAMAGE, where, values={"told": told, "real": real}))
