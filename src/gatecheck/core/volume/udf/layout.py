"""The records of UDF: tags, volume and partition descriptors, file entries, names.

ECMA-167 (3rd edition) and OSTA's Universal Disk Format 2.60. Numbers are little-endian.
"""

from __future__ import annotations

import binascii
import struct
from collections.abc import Iterator
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.calendar_days import days_of

ANCHOR, PRIMARY, PARTITION, LOGICAL, TERMINATOR, FILE_SET = 2, 1, 5, 6, 8, 256
NAME, FILE, WIDE_FILE, POINTER = 257, 261, 266, 3
FOLDER, LINK = 4, 12
SHORT, LONG, INSIDE = 0, 1, 3
"""how a file entry says where its bytes lie"""


def tag_of(raw: bytes, what: str, at: int = 0) -> int:
    """Kind of a descriptor, its tag's sum and its CRC checked. Raises DecodeError."""
    if len(raw) < 16:
        raise DecodeError(what, at=at, expected="a tag", got=f"{len(raw)} bytes")
    kind, _, told, _, _, crc, length, _ = struct.unpack_from("<HHBBHHHI", raw, 0)
    if sum(raw[:4], sum(raw[5:16])) & 0xFF != told or not kind:
        raise DecodeError(what, at=at, expected="a tag with its checksum", got=raw[:16].hex())
    if 16 + length > len(raw) or binascii.crc_hqx(raw[16 : 16 + length], 0) != crc:
        raise DecodeError(what, at=at, expected="its CRC", got=f"{crc:#x} over {length} bytes")
    return int(kind)


def text_of_id(raw: bytes) -> str:
    """Compressed Unicode (OSTA, 2.1.1): 8 or 16 bits a letter, by the first byte."""
    if raw[:1] == b"\x08":
        return raw[1:].decode("latin-1")
    if raw[:1] == b"\x10":
        return raw[1 : len(raw) - (len(raw) - 1) % 2].decode("utf-16-be", "surrogatepass")
    return ""


def fixed_text(raw: bytes) -> str:
    """Of a field of fixed length, whose last byte says how much of it counts."""
    return text_of_id(raw[: raw[-1]]) if raw[-1] < len(raw) else ""


@dataclass(frozen=True, slots=True)
class Allocation:
    """`kind`: 0 recorded, 1 allocated and not recorded, 2 neither, 3 more of them; `block` in `partition`."""

    length: int
    kind: int
    block: int
    partition: int


def read_long(raw: bytes) -> Allocation:
    """Of 16 bytes."""
    length, block, partition = struct.unpack_from("<IIH", raw, 0)
    return Allocation(length & 0x3FFFFFFF, length >> 30, block, partition)


@dataclass(frozen=True, slots=True)
class FileEntry:
    """`inside`: its bytes, where they stand in it."""

    type: int
    links: int
    size: int
    modified: float | None
    form: int
    allocations: tuple[Allocation, ...]
    inside: bytes | None


def read_allocations(raw: bytes, form: int, partition: int) -> tuple[Allocation, ...]:
    """All up to the first without length."""
    found, size = [], 8 if form == SHORT else 16
    for at in range(0, len(raw) - size + 1, size):
        if form == SHORT:
            length, block = struct.unpack_from("<II", raw, at)
            own = Allocation(length & 0x3FFFFFFF, length >> 30, block, partition)
        else:
            own = read_long(raw[at : at + 16])
        if not own.length:
            break
        found.append(own)
    return tuple(found)


def read_entry(raw: bytes, partition: int, what: str) -> FileEntry:
    """Of one block. Raises DecodeError."""
    kind = tag_of(raw, what)
    if kind not in (FILE, WIDE_FILE):
        raise DecodeError(what, at=0, expected="a file entry", got=f"tag {kind}")
    is_wide = kind == WIDE_FILE
    size = int.from_bytes(raw[56:64], "little")
    more, listed = struct.unpack_from("<2I", raw, 208 if is_wide else 168)
    start = (216 if is_wide else 176) + more
    if start + listed > len(raw):
        raise DecodeError(what, at=start, expected="its allocations inside it", got=listed)
    form, own = raw[34] & 7, raw[start : start + listed]
    if form not in (SHORT, LONG, INSIDE):
        raise DecodeError(what, at=34, expected="short, long or inside", got=form)
    inside = own if form == INSIDE else None
    allocations = () if form == INSIDE else read_allocations(own, form, partition)
    return FileEntry(
        raw[27], int.from_bytes(raw[48:50], "little"), size, time_of(raw[92:104] if is_wide else raw[84:96]), form,
        allocations, inside,
    )  # fmt: skip


def time_of(raw: bytes) -> float | None:
    """Seconds since 1970 (ECMA-167, 1/7.3)."""
    from_utc, year, month, day, hour, minute, second = struct.unpack_from("<HhBBBBB", raw, 0)
    if not (1 <= month <= 12 and 1 <= day <= 31):
        return None
    zone = from_utc & 0xFFF
    zone = 0 if zone == 0x801 else zone - 4096 if zone & 0x800 else zone
    return float(days_of(year, month, day) * 86400 + hour * 3600 + minute * 60 + second - zone * 60)


@dataclass(frozen=True, slots=True)
class UdfName:
    name: str
    block: int
    partition: int
    flags: int

    @property
    def is_listed(self) -> bool:
        """Neither deleted nor the folder above."""
        return not self.flags & 0xC


def names_of(raw: bytes, what: str) -> Iterator[UdfName]:
    """Of a folder's bytes. Raises DecodeError, after those that stand before the fault."""
    at = 0
    while at + 38 <= len(raw):
        inner = int.from_bytes(raw[at + 36 : at + 38], "little")
        length = 38 + inner + raw[at + 19] + 3 & ~3
        if tag_of(raw[at : at + length], what, at) != NAME:
            raise DecodeError(what, at=at, expected="a name", got=raw[at : at + 2].hex())
        icb = read_long(raw[at + 20 : at + 36])
        name = text_of_id(raw[at + 38 + inner : at + 38 + inner + raw[at + 19]])
        yield UdfName(name, icb.block, icb.partition, raw[at + 18])
        at += length


def link_of(raw: bytes) -> str:
    """What a link's components lead to (ECMA-167, 4/14.16)."""
    parts, at = [], 0
    while at + 4 <= len(raw):
        kind, length = raw[at], raw[at + 1]
        own = {1: "", 2: "", 3: "..", 4: "."}.get(kind)
        parts.append(text_of_id(raw[at + 4 : at + 4 + length]) if own is None else own)
        at += 4 + length
    return "/".join(parts) or "/"
