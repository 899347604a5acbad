"""Members of a set of Linux RAID: the reader's mirror, for practice disks and round-trip tests."""

from __future__ import annotations

import struct
from math import ceil

import numpy as np

from gatecheck.core.volume.raid import fields
from gatecheck.core.volume.raid.layout import copies_of, stripe_of, zones_of
from gatecheck.core.volume.raid.read import LINEAR, MAGIC

DATA_AT = 1 << 20
"""byte of a member at which its data begins"""
_AT = 4096


def raid_members(
    data: bytes,
    level: int,
    of: int,
    *,
    layout: int = 0,
    chunk: int = 65536,
    set_id: bytes = b"Gullhaven Repair",
    name: str = "bench:store",
    events: int = 40,
) -> list[bytes]:
    """One for each role, superblocks of version 1.2 in them; the data is padded to whole rows. Raises DecodeError for a
    layout that there is not."""
    held = _spread(data, level, of, layout, chunk)
    size = len(held[0]) if level not in (LINEAR, 0) else 0
    return [
        _member(own, role, level, of, layout, chunk, size, set_id, name, events).ljust(DATA_AT, b"\0") + bytes(own)
        for role, own in enumerate(held)
    ]


def _spread(data: bytes, level: int, of: int, layout: int, chunk: int) -> list[bytearray]:
    if level == 1:
        return [bytearray(data) for _ in range(of)]
    count = {LINEAR: of, 0: of, 10: of}.get(level, of - (2 if level == 6 else 1))
    rows = -(-len(data) // (chunk * count))
    if level == 10:
        copies = copies_of(layout, of, 1 << 20)
        rows = ceil(ceil(len(data) / chunk) * copies.near * copies.far / of)
        rows = ceil(rows / copies.far) * copies.far
    held = [bytearray(rows * chunk) for _ in range(of)]
    pieces = [data[at : at + chunk].ljust(chunk, b"\0") for at in range(0, len(data), chunk)]
    if level == LINEAR:
        for number, piece in enumerate(pieces):
            held[number // rows][number % rows * chunk : (number % rows + 1) * chunk] = piece
    elif level == 0:
        zone = zones_of((rows,) * of)[0]
        for number, piece in enumerate(pieces):
            row = number // of
            held[zone.members[number % of]][row * chunk : (row + 1) * chunk] = piece
    elif level == 10:
        copies = copies_of(layout, of, rows)
        for number, piece in enumerate(pieces):
            for role, row in copies.places(number):
                held[role][row * chunk : (row + 1) * chunk] = piece
    else:
        for number, piece in enumerate(pieces):
            row, place = divmod(number, count)
            stripe = stripe_of(level, layout, of, row, place)
            at = slice(row * chunk, (row + 1) * chunk)
            held[stripe.data][at] = piece
            own = np.frombuffer(piece, np.uint8)
            _add(held[stripe.p], at, own)
            if stripe.q is not None:
                rank = stripe.order.index(stripe.data)
                _add(held[stripe.q], at, fields.times(own, fields.power(rank)))
    return held


def _add(held: bytearray, at: slice, more: np.ndarray) -> None:
    held[at] = (np.frombuffer(bytes(held[at]), np.uint8) ^ more).tobytes()


def _member(
    held: bytearray, role: int, level: int, of: int, layout: int, chunk: int, size: int, set_id: bytes, name: str,
    events: int,
) -> bytes:  # fmt: skip
    raw = bytearray(256 + 2 * of)
    struct.pack_into("<IIII16s32s", raw, 0, MAGIC, 1, 0, 0, set_id, name.encode())
    struct.pack_into("<QiIQII", raw, 64, 0, level, layout, size // 512, chunk // 512, of)
    struct.pack_into("<QQQQI", raw, 128, DATA_AT // 512, len(held) // 512, _AT // 512, 0, role)
    struct.pack_into("<QQQ", raw, 192, 0, events, (1 << 64) - 1)
    struct.pack_into("<I", raw, 220, of)
    struct.pack_into(f"<{of}H", raw, 256, *range(of))
    body = bytes(raw) + bytes(-len(raw) % 4)
    total = sum(struct.unpack(f"<{len(body) // 4}I", body))
    struct.pack_into("<I", raw, 216, (total & 0xFFFFFFFF) + (total >> 32) & 0xFFFFFFFF)
    return bytes(_AT) + bytes(raw)
