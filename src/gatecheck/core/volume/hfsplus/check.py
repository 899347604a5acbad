"""HFS Plus: every node and record of the catalogue, names against threads, counts, who holds which blocks against the
bitmap, a journal that was not carried out. The format has no checksums."""

from __future__ import annotations

import struct
from collections.abc import Callable
from dataclasses import dataclass, field

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.hfsplus import layout as h
from gatecheck.core.volume.hfsplus.read import HfsPlus
from gatecheck.core.volume.inode_tree import id_of
from gatecheck.core.volume.tree import DAMAGE, SIGN, VolumeFinding

Add = Callable[[VolumeFinding], None]
_JOURNAL_MARK = (b"\x4a\x4e\x4c\x78", b"\x78\x4c\x4e\x4a")


@dataclass(slots=True)
class _Catalogue:
    """`threads`: number -> (parent, name) by its thread; `found`: by its record; `counts`: folder -> names in it."""

    threads: dict[int, tuple[int, str]] = field(default_factory=dict)
    found: dict[int, tuple[int, str, h.CatalogRecord]] = field(default_factory=dict)
    counts: dict[int, int] = field(default_factory=dict)
    whole: bool = True


def check_hfsplus(volume: HfsPlus, add: Add) -> tuple[int | None, int | None]:
    """(files, bytes used)."""
    own = volume.header
    pending = _journal(volume, add)
    if own.attributes & h.INCONSISTENT:
        add(VolumeFinding("errors-noted", SIGN))
    if not own.attributes & h.UNMOUNTED and not pending:
        add(VolumeFinding("dirty", SIGN))
    seen = _walked(volume, add)
    if seen.whole and not pending:
        _names(volume, seen, add)
        _blocks(volume, seen, add)
    return sum(not r.is_folder for _, _, r in seen.found.values()), (own.blocks - own.free) * own.block


def _journal(volume: HfsPlus, add: Add) -> bool:
    own = volume.header
    if not own.attributes & h.JOURNALED or not own.journal:
        return False
    try:
        info = volume.bytes.read(own.journal * own.block, 512, "HFS Plus journal")
        flags, at = int.from_bytes(info[:4], "big"), int.from_bytes(info[36:44], "big")
        if not flags & 1 or flags & 4:
            return False  # on another device, or never begun
        head = volume.bytes.read(at, 512, "HFS Plus journal")
    except DecodeError as error:
        add(VolumeFinding("journal-broken", DAMAGE, str(error)))
        return True
    if head[:4] not in _JOURNAL_MARK:
        add(VolumeFinding("journal-broken", DAMAGE, f"byte {at}"))
        return True
    start, end = struct.unpack_from(">2Q" if head[:4] == _JOURNAL_MARK[0] else "<2Q", head, 8)
    if start != end:
        add(VolumeFinding("journal-pending", SIGN))
    return bool(start != end)


def _walked(volume: HfsPlus, add: Add) -> _Catalogue:
    """Every leaf of the catalogue, in the order of its chain."""
    seen, number, met, last = _Catalogue(), volume.catalog.head.first_leaf, set[int](), b""
    records = 0
    while number:
        if number in met:
            add(VolumeFinding("record", DAMAGE, f"node {number}"))
            seen.whole = False
            break
        met.add(number)
        try:
            node = volume.catalog.node(number)
        except DecodeError as error:
            add(VolumeFinding(id_of(error, "record"), DAMAGE, str(error)))
            seen.whole = False
            break
        for key, raw in node.records:
            records += 1
            try:
                _record(key, raw, seen)
            except DecodeError as error:
                add(VolumeFinding("record", DAMAGE, f"node {number}: {error}"))
                seen.whole = False
            if key[:4] < last:
                add(VolumeFinding("folder-order", DAMAGE, f"node {number}", values={"name": key[:4].hex()}))
            last = key[:4]
        number = node.following
    told = volume.catalog.head.records
    if seen.whole and records != told:
        add(VolumeFinding("counter", DAMAGE, "catalog records", values={"told": told, "real": records}))
    return seen


def _record(key: bytes, raw: bytes, seen: _Catalogue) -> None:
    parent, name = h.catalog_key(key)
    kind = int.from_bytes(raw[:2], "big")
    if kind in (h.FOLDER_THREAD, h.FILE_THREAD):
        length = int.from_bytes(raw[8:10], "big")
        text = raw[10 : 10 + 2 * length].decode("utf-16-be", "surrogatepass")
        seen.threads[parent] = (int.from_bytes(raw[4:8], "big"), text)
        return
    own = h.read_record(raw)
    if own.number in seen.found:
        raise DecodeError(f"HFS Plus file {own.number}", at=8, expected="one record of it", got="two")
    seen.found[own.number] = (parent, name, own)
    seen.counts[parent] = seen.counts.get(parent, 0) + 1


def _names(volume: HfsPlus, seen: _Catalogue, add: Add) -> None:
    own = volume.header
    values: dict[str, object]
    for number, (parent, name, record) in seen.found.items():
        shown = name or f"file {number}"
        if number in seen.threads and seen.threads[number] != (parent, name):
            add(
                VolumeFinding("listed-otherwise", DAMAGE, shown, values={"folder": f"folder {seen.threads[number][0]}"})
            )
        elif number not in seen.threads and (record.is_folder or number == h.ROOT):
            add(VolumeFinding("nameless", DAMAGE, shown))
        if parent != h.ROOT_PARENT and parent not in seen.found:
            add(VolumeFinding("orphan", DAMAGE, shown))
        if record.is_folder and record.count != seen.counts.get(number, 0):
            values = {"told": record.count, "real": seen.counts.get(number, 0)}
            add(VolumeFinding("folder-count", DAMAGE, shown, values=values))
    for number, (_, name) in seen.threads.items():
        if number not in seen.found:
            add(VolumeFinding("dangling", DAMAGE, name))
    folders = sum(r.is_folder for _, _, r in seen.found.values()) - 1
    files = len(seen.found) - folders - 1
    for where, told, real in (("files", own.files, files), ("folders", own.folders, folders)):
        if told != real:
            add(VolumeFinding("counter", DAMAGE, where, values={"told": told, "real": real}))


def _blocks(volume: HfsPlus, seen: _Catalogue, add: Add) -> None:
    """Who holds which blocks, against each other and against the bitmap."""
    own, held = volume.header, list[tuple[int, int, str]]()
    forks = [(6, h.DATA_FORK, own.allocation, "bitmap"), (3, h.DATA_FORK, own.extents, "extents")]
    forks += [(4, h.DATA_FORK, own.catalog, "catalog"), (8, h.DATA_FORK, own.attributes_file, "attributes")]
    for number, (_, name, record) in seen.found.items():
        forks += [(number, h.DATA_FORK, record.data, name), (number, h.RESOURCE_FORK, record.resource, name)]
    for number, kind, fork, name in forks:
        try:
            blocks = list(volume.blocks(number, kind, fork))
        except DecodeError as error:
            add(VolumeFinding(id_of(error, "extents"), DAMAGE, f"{name}: {error}"))
            continue
        if any(first + count > own.blocks for first, count in blocks):
            add(VolumeFinding("beyond", DAMAGE, name))
            continue
        if fork.size > fork.blocks * own.block:
            add(VolumeFinding("chain-short", DAMAGE, name, values={"size": fork.size, "held": fork.blocks * own.block}))
        held += [(first, count, name) for first, count in blocks]
    end, owner = 0, ""
    for first, count, name in sorted(held):
        if first < end:
            both = min(end, first + count) - first
            add(VolumeFinding("crossed", DAMAGE, name, count=both, values={"other": owner}))
        if first + count > end:
            end, owner = first + count, name
    try:
        bitmap = volume.fork_bytes(6, h.DATA_FORK, own.allocation)
    except DecodeError as error:
        add(VolumeFinding("map-unread", DAMAGE, str(error)))
        return
    marked = {place for place in h.bits_of(bitmap) if place < own.blocks}
    for first, count, name in held:
        free = sum(block not in marked for block in range(first, first + count))
        if free:
            add(VolumeFinding("unmarked", DAMAGE, name, count=free))
    if own.blocks - len(marked) != own.free:
        values: dict[str, object] = {"told": own.free, "real": own.blocks - len(marked)}
        add(VolumeFinding("free-count", DAMAGE, "volume", values=values))
