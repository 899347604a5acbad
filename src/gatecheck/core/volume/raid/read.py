"""A member's superblock: which set it belongs to, at which place, and how fresh it is.

Source: include/uapi/linux/raid/md_p.h (struct mdp_superblock_s of 0.90, struct mdp_superblock_1 of 1.0, 1.1, 1.2)."""

from __future__ import annotations

import struct
from dataclasses import dataclass

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError

MAGIC = 0xA92B4EFC
LINEAR = -1
LEVELS = (LINEAR, 0, 1, 4, 5, 6, 10)
_UNIT = 512
_BITMAP, _REBUILT, _RESHAPE, _BAD, _RAID0_LAYOUT = 1, 2, 4, 8, 4096
_NO_ROLE = 0xFF00
"""from here on a role is none: spare FFFFh, faulty FFFEh, journal FFFDh"""
_MOST_MEMBERS, _MOST_CHUNK = 384, 1 << 30
_ACTIVE_IN_SYNC = 0b110


@dataclass(frozen=True, slots=True)
class Member:
    """`level`: -1 is linear; `chunk`: bytes; `of`: members the set has; `size`: bytes of each that are used, 0 where
    each gives what it has; `data_at`, `data_size`: bytes of this member; `role`: its place, None for a spare or one
    that was thrown out; `roles`: by a member's number, what this one knows; `events`: how often the set's state was
    written; `rebuilt_to`: byte up to which it was rebuilt, None where it is whole; `bad`: (first byte, bytes) it knows
    as bad, from `data_at`; `is_dirty`: redundancy was being written."""

    version: str
    set_id: bytes
    name: str
    level: int
    layout: int
    chunk: int
    of: int
    size: int
    data_at: int
    data_size: int
    number: int
    role: int | None
    roles: tuple[int | None, ...]
    events: int
    rebuilt_to: int | None
    bad: tuple[tuple[int, int], ...]
    is_dirty: bool
    is_reshaped: bool


def _bytes(disk: Sectors, at: int, size: int) -> bytes:
    """Empty where one of them was not read."""
    low, high = at // disk.sector, -(-(at + size) // disk.sector)
    if at < 0 or (disk.length is not None and high > disk.length):
        return b""
    span = disk.read(low, high - low)
    return b"" if span.missing else span.data[at - low * disk.sector :][:size]


def read_member(disk: Sectors, first: int, last: int) -> Member | None:
    """The member that these sectors are; None where no superblock stands in any of its places. Raises DecodeError for
    one whose checksum or values cannot be."""
    start, size = first * disk.sector, (last - first + 1) * disk.sector
    places = ((4096, "1.2"), (0, "1.1"), (((size >> 9) - 16 & ~7) << 9, "1.0"))
    problem: DecodeError | None = None
    for at, version in places:
        raw = _bytes(disk, start + at, 4096) if 0 <= at <= size - 4096 else b""
        if raw[:8] == struct.pack("<II", MAGIC, 1) and struct.unpack_from("<Q", raw, 144)[0] * _UNIT == at:
            try:
                return _version_1(disk, start, at, version, raw)
            except DecodeError as error:
                problem = error
    at = (size & ~0xFFFF) - 0x10000
    raw = _bytes(disk, start + at, 4096) if at >= 0 else b""
    for order in "<>":
        if raw[:4] == struct.pack(order + "I", MAGIC):
            return _version_0(raw, order, at)
    if problem is not None:
        raise problem
    return None


def _checked(level: int, chunk: int, of: int, at: int) -> None:
    """Raises DecodeError."""
    if level not in LEVELS:
        raise DecodeError("RAID level", at=at, expected="linear, 0, 1, 4, 5, 6 or 10", got=str(level))
    if not 0 < of <= _MOST_MEMBERS:
        raise DecodeError("RAID members", at=at, expected=f"1 to {_MOST_MEMBERS}", got=str(of))
    if level not in (LINEAR, 1) and (not 0 < chunk <= _MOST_CHUNK or chunk % _UNIT):
        raise DecodeError("RAID chunk", at=at, expected=f"512 bytes to {_MOST_CHUNK >> 20} MiB", got=f"{chunk} bytes")


def _version_1(disk: Sectors, start: int, at: int, version: str, raw: bytes) -> Member:
    features = struct.unpack_from("<I", raw, 8)[0]
    level, layout, size, chunk, of = struct.unpack_from("<iIQII", raw, 72)
    data_at, data_size, _, rebuilt, number = struct.unpack_from("<QQQQI", raw, 128)
    shift, bad_size, bad_at = struct.unpack_from("<BHi", raw, 185)
    events, clean_to, told, most = struct.unpack_from("<QQII", raw, 200)
    if not most <= (4096 - 256) // 2:
        raise DecodeError("RAID roles", at=at, expected="at most 1920", got=str(most))
    body = raw[:216] + bytes(4) + raw[220 : 256 + 2 * most]
    words = struct.unpack(f"<{len(body) // 4}I", body[: len(body) // 4 * 4])
    total = sum(words) + (struct.unpack_from("<H", body, len(body) - 2)[0] if len(body) % 4 else 0)
    total = (total & 0xFFFFFFFF) + (total >> 32) & 0xFFFFFFFF
    if total != told:
        raise DecodeError("RAID superblock", at=at, expected=f"checksum {told:08x}h", got=f"{total:08x}h")
    _checked(level, chunk * _UNIT, of, at)
    known = struct.unpack_from(f"<{most}H", raw, 256)
    roles = tuple(r if r < _NO_ROLE else None for r in known)
    bad = _bad_blocks(disk, start + at + bad_at * _UNIT, bad_size * _UNIT, shift) if features & _BAD else ()
    return Member(
        version,
        raw[16:32],
        raw[32:64].split(b"\0")[0].decode("utf-8", "replace"),
        level,
        layout if level != 0 or features & _RAID0_LAYOUT else 0,
        chunk * _UNIT,
        of,
        size * _UNIT,
        data_at * _UNIT,
        data_size * _UNIT,
        number,
        roles[number] if number < len(roles) else None,
        roles,
        events,
        rebuilt * _UNIT if features & _REBUILT else None,
        bad,
        clean_to != (1 << 64) - 1 and level in (1, 4, 5, 6, 10),
        bool(features & _RESHAPE),
    )


def _bad_blocks(disk: Sectors, at: int, size: int, shift: int) -> tuple[tuple[int, int], ...]:
    found = []
    raw = _bytes(disk, at, min(size, 1 << 16))
    for (own,) in struct.iter_unpack("<Q", raw[: len(raw) // 8 * 8]):
        if own == (1 << 64) - 1:
            break
        found.append(((own >> 10 << shift) * _UNIT, ((own & 0x3FF) << shift) * _UNIT))
    return tuple(found)


def _version_0(raw: bytes, order: str, at: int) -> Member:
    words = struct.unpack(f"{order}1024I", raw)
    low, high = (39, 40) if order == "<" else (40, 39)
    level = words[7] - (1 << 32) if words[7] >> 31 else words[7]
    _checked(level, words[65], words[10], at)
    own = words[992:1024]

    def role(entry: tuple[int, ...]) -> int | None:
        return entry[3] if entry[4] & 0b1111 == _ACTIVE_IN_SYNC and entry[3] < words[10] else None

    return Member(
        "0.90",
        struct.pack(">4I", words[5], *words[13:16]),
        "",
        level,
        words[64],
        words[65],
        words[10],
        words[8] * 1024 if level not in (LINEAR, 0) else 0,
        0,
        at,
        own[0],
        role(own),
        tuple(role(words[128 + n * 32 : 160 + n * 32]) for n in range(27)),
        words[high] << 32 | words[low],
        None,
        (),
        not words[33] & 1 and level in (1, 4, 5, 6, 10),
        words[2] > 90 and (words[45] << 32 | words[44]) not in (0, (1 << 64) - 1),
    )
