"""A physical volume of LVM with one group on it: the reader's mirror, for practice disks and round-trip tests."""

from __future__ import annotations

import struct
from collections.abc import Mapping

from gatecheck.core.volume.lvm.read import AREA, LABEL, TYPE

_START, _EXTENT, _AREA_AT, _AREA_SIZE = 2048, 8192, 4096, (1 << 20) - 4096
"""first data sector, sectors of an extent, where the descriptions stand; as lvm2 lays them out"""


def in_group(group: str, name: str, content: Mapping[int, bytes], sectors: int) -> dict[int, bytes]:
    """A physical volume of so many sectors of 512 bytes, whose one logical volume, in all whole extents of it, holds
    what `content` has: sector -> bytes."""
    extents = (sectors - _START) // _EXTENT
    own = physical_volume(group, {name: (extents, b"")})
    return {at: data for at, data in own.items() if data} | {_START + at: data for at, data in content.items()}


def logical_sectors(sectors: int) -> int:
    """Of the logical volume that `in_group` makes of so many."""
    return (sectors - _START) // _EXTENT * _EXTENT


def physical_volume(group: str, volumes: Mapping[str, tuple[int, bytes]], *, sector: int = 512) -> dict[int, bytes]:
    """The sectors of a physical volume that say so: sector -> bytes from there. Volumes: extents of 4 MiB, and their
    first bytes."""
    lists, contents, at = "", {}, 0
    for name, (extents, start) in volumes.items():
        lists += f"""{name} {{
status = ["READ", "WRITE", "VISIBLE"]
segment_count = 1
segment1 {{
start_extent = 0
extent_count = {extents}
type = "striped"
stripe_count = 1	# linear
stripes = [
"pv0", {at}
]
}}
}}
"""
        contents[(_START + at * _EXTENT) * 512 // sector] = start
        at += extents
    text = (
        f"""{group} {{
seqno = 2
extent_size = {_EXTENT}
physical_volumes {{
pv0 {{
status = ["ALLOCATABLE"]
pe_start = {_START}
pe_count = {at}
}}
}}
logical_volumes {{
{lists}}}
}}
# Written for a practice disk
contents = "Text Format Volume Group"
version = 1
""".encode()
        + b"\0"
    )
    label = (
        struct.pack("<8sQII8s", LABEL, 1, 0, 32, TYPE) + b"Qy" * 16 + struct.pack("<Q", (_START + at * _EXTENT) * 512)
    )
    label += struct.pack("<QQ", _START * 512, 0) + bytes(16) + struct.pack("<QQ", _AREA_AT, _AREA_SIZE) + bytes(16)
    area = struct.pack("<I16sIQQ", 0, AREA, 1, _AREA_AT, _AREA_SIZE) + struct.pack("<QQII", 512, len(text), 0, 0)
    raw = bytearray(-(-(_AREA_AT + 512 + len(text)) // sector) * sector)
    raw[512 : 512 + len(label)] = label
    raw[_AREA_AT : _AREA_AT + len(area)] = area
    raw[_AREA_AT + 512 : _AREA_AT + 512 + len(text)] = text
    return {0: bytes(raw), **contents}
