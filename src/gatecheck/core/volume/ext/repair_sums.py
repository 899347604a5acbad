"""Repairs of ext by its checksums. Where one byte of an inode, a folder's block or a block of extents was changed, its
sum tells which and what it was: it is put back as it was. Where something is right by everything else, its sum is
made anew.

Linux, Documentation/filesystems/ext4: checksums (CRC-32C). Sums of 16 bits tell too little for the first."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from contextlib import suppress

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.crc32c import crc32c, one_byte_off
from gatecheck.core.volume.ext import layout as e
from gatecheck.core.volume.ext.folder_blocks import TAIL, TAIL_SIZE, has_tail, packed, parsed
from gatecheck.core.volume.ext.layout import Inode
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.ext.repair_folders import summed_leaf
from gatecheck.core.volume.ext.repair_inodes import KnownVolume, summed_node
from gatecheck.core.volume.ext.repair_names import folder_blocks, place_of
from gatecheck.core.volume.repair_group import RepairGroup

_SUM_LOW, _SUM_HIGH = slice(124, 126), slice(130, 132)
_MOST_LINKS = 65_000
_MOST = 256
"""folders and files whose blocks are tried byte for byte"""


def byte_group(volume: Ext, ids: set[str]) -> RepairGroup | None:
    """Single bytes that the sums over them prove to have been changed, as they were."""
    if "sum" not in ids or not volume.super.has_checksums:
        return None
    known = KnownVolume(volume)
    base = volume.bytes.base
    for number in sorted(known.own.broken):
        inode = volume.inode(number)
        made = _record_before(known, inode)
        if made is not None:
            known.writes.append((base + place_of(volume, number), made))
            known.names.append(known.name(number))
    for inode in [i for i in known.inodes() if "sum" in known.of(i.number) and i.number not in known.own.broken][
        :_MOST
    ]:
        with suppress(DecodeError):  # what cannot be read takes nothing else away
            for block, made in _blocks_before(known, inode):
                known.put_block(block, made)
                known.names.append(known.name(inode.number))
    return known.group("bytes")


def _record_before(known: KnownVolume, inode: Inode) -> bytes | None:
    raw = inode.raw
    if len(raw) <= 128 or int.from_bytes(raw[128:130], "little") < 4:
        return None  # half a sum proves nothing
    told = int.from_bytes(raw[_SUM_LOW], "little") | int.from_bytes(raw[_SUM_HIGH], "little") << 16
    blank = bytearray(raw)
    blank[_SUM_LOW], blank[_SUM_HIGH] = bytes(2), bytes(2)
    seed = crc32c(crc32c(known.own.seed, struct.pack("<I", inode.number)), raw[100:104])
    made = next((own for own in _usual(known, inode, bytes(blank)) if crc32c(seed, own) == told), None)
    if made is None:
        made = _before(bytes(blank), seed, told, free=(*range(124, 126), *range(130, 132), *range(100, 104)))
    if made is None:
        return None
    out = bytearray(made)
    out[_SUM_LOW], out[_SUM_HIGH] = raw[_SUM_LOW], raw[_SUM_HIGH]
    return bytes(out)


def _usual(known: KnownVolume, inode: Inode, raw: bytes) -> Iterator[bytes]:
    """The record with one of its fields as it nearly always is: no time of deletion, as many links as it has names, no
    blocks where it has none, no fragments, and the head of its tree as it has to be."""
    links = known.own.found_links.get(inode.number, 0) & 0xFFFF
    fields: list[tuple[int, bytes]] = [(20, bytes(4)), (26, struct.pack("<H", links)), (28, bytes(4)), (112, bytes(4))]
    fields += [(4, bytes(4)), (108, bytes(4)), (104, bytes(4))]
    if inode.flags & e.EXTENTS:
        fields += [(40, b"\x0a\xf3"), (44, b"\4\0"), (46, bytes(2)), (48, bytes(4)), (40, b"\x0a\xf3\1\0\4\0\0\0")]
        fields += [(42, struct.pack("<H", entries)) for entries in range(5)]
    for at, value in fields:
        yield raw[:at] + value + raw[at + len(value) :]


def _before(data: bytes, seed: int, told: int, free: tuple[int, ...] = ()) -> bytes | None:
    """The data as its sum says that it was, where that is one byte away and nothing else is; a sum of which one byte
    alone is wrong proves nothing. `free`: places that the sum does not cover in this way."""
    computed = crc32c(seed, data)
    wrong = computed ^ told
    if sum(bool(wrong >> shift & 0xFF) for shift in (0, 8, 16, 24)) == 1:
        return None
    found = [(place, bits) for place, bits in one_byte_off(data, computed, told) if place not in free]
    if len(found) != 1:
        return None
    place, bits = found[0]
    return data[:place] + bytes((data[place] ^ bits,)) + data[place + 1 :]


def _blocks_before(known: KnownVolume, inode: Inode) -> Iterator[tuple[int, bytes]]:
    """(block, as it was) of a folder's leaves and of a tree's nodes."""
    volume, seed = known.volume, known.own.inode_seed(inode)
    if inode.is_folder and not inode.flags & e.INLINE:
        for place, block in enumerate(folder_blocks(volume, inode)):
            raw = volume.bytes.read(block * volume.block, volume.block, "folder")
            is_node = raw[:8] == struct.pack("<IHH", 0, volume.block & 0xFFFF, 0)
            if raw[-TAIL_SIZE:-4] != TAIL or (inode.flags & e.INDEXED and (place == 0 or is_node)):
                continue
            made = _before(raw[:-TAIL_SIZE], seed, int.from_bytes(raw[-4:], "little"))
            if made is not None:
                yield block, made + raw[-TAIL_SIZE:]
    if inode.flags & e.EXTENTS:
        for block in volume.tree_blocks(inode):
            raw = volume.bytes.read(block * volume.block, volume.block, "extents")
            end = 12 + 12 * ((volume.block - 12) // 12)
            if end + 4 <= len(raw):
                made = _before(raw[:end], seed, int.from_bytes(raw[end : end + 4], "little"))
                if made is not None:
                    yield block, made + raw[end:]


def sum_group(volume: Ext, ids: set[str]) -> RepairGroup | None:
    """Checksums of inodes, folders and nodes that are right by everything else: what they sum may still differ from
    what was written, in what nothing else can tell of."""
    if "sum" not in ids or "unreadable" in ids or not volume.super.has_checksums:
        return None
    known = KnownVolume(volume)
    for inode in known.inodes():
        number = inode.number
        if "sum" not in known.of(number) or known.of(number) - {"sum", "link-count"}:
            continue
        if number in known.own.broken:
            raw = bytearray(inode.raw)
            if "link-count" in known.of(number) and known.own.found_links.get(number, 0) < _MOST_LINKS:
                raw[26:28] = struct.pack("<H", known.own.found_links.get(number, 0))
            known.put_inode(inode, bytes(raw))
        elif inode.is_folder and not inode.flags & e.INLINE:
            _sum_folder(known, inode)
        if inode.flags & e.EXTENTS:
            _sum_nodes(known, inode)
    return known.group("sums", "letter-or-time")


def _sum_folder(known: KnownVolume, inode: Inode) -> None:
    volume = known.volume
    for place, block in enumerate(folder_blocks(volume, inode)):
        raw = volume.bytes.read(block * volume.block, volume.block, "folder")
        if inode.flags & e.INDEXED and (place == 0 or raw[:8] == struct.pack("<IHH", 0, volume.block & 0xFFFF, 0)):
            continue
        entries, end = parsed(raw)
        made = summed_leaf(known.own, inode, raw)
        if not has_tail(raw) and end == len(raw):
            again = packed(entries, volume.block, tailed=True)
            made = summed_leaf(known.own, inode, again) if again is not None else raw
        if made != raw:
            known.put_block(block, made)
            known.names.append(known.name(inode.number))


def _sum_nodes(known: KnownVolume, inode: Inode) -> None:
    volume = known.volume
    for block in volume.tree_blocks(inode):
        raw = volume.bytes.read(block * volume.block, volume.block, "extents")
        made = summed_node(known.own, inode, raw)
        if made != raw:
            known.put_block(block, made)
            known.names.append(known.name(inode.number))
