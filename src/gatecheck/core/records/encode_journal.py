"""Journal files for tests and practice machines, as systemd's reader takes them: plain or packed objects, wide or
compact offsets. Layout as in journal.py."""

from __future__ import annotations

import lzma
import struct
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import lz4.block
import zstandard

from gatecheck.core.records.journal import MAGIC, ONLINE

_HEADER = 272
_DATA, _FIELD, _ENTRY, _DATA_TABLE, _FIELD_TABLE, _ARRAY = 1, 2, 3, 4, 5, 6
_PACKERS = {"xz": 1, "lz4": 2, "zstd": 4}
_INCOMPATIBLE = {"": 0, "xz": 1, "lz4": 2, "zstd": 8}
_PER_ARRAY = 64


@dataclass(slots=True)
class _File:
    raw: bytearray
    compact: bool
    packed: str
    known: dict[bytes, int] = field(default_factory=dict)
    objects: int = 0

    def put(self, kind: int, body: bytes, flags: int = 0) -> int:
        self.raw += bytes(-len(self.raw) % 8)
        at = len(self.raw)
        self.raw += struct.pack("<BB6xQ", kind, flags, 16 + len(body)) + body
        self.objects += 1
        return at

    def data(self, payload: bytes, entry: int) -> int:
        """A field's object, once for all entries that have it."""
        at = self.known.get(payload)
        if at is not None:
            count = struct.unpack_from("<Q", self.raw, at + 56)[0]
            struct.pack_into("<Q", self.raw, at + 56, count + 1)
            return at
        flags, own = 0, payload
        if self.packed and len(payload) > 80:
            flags = _PACKERS[self.packed]
            own = _packed(payload, self.packed)
        head = struct.pack("<6Q", hash_of(payload), 0, 0, entry, 0, 1) + (bytes(8) if self.compact else b"")
        self.known[payload] = at = self.put(_DATA, head + own, flags)
        return at


def hash_of(payload: bytes) -> int:
    """A number for a payload; readers of a file compare it with nothing else."""
    out = 0xCBF29CE484222325
    for byte in payload:
        out = (out ^ byte) * 0x100000001B3 & 0xFFFFFFFFFFFFFFFF
    return out


def _packed(payload: bytes, how: str) -> bytes:
    if how == "xz":
        return lzma.compress(payload, check=lzma.CHECK_NONE)
    if how == "lz4":
        return len(payload).to_bytes(8, "little") + bytes(lz4.block.compress(payload, store_size=False))
    return zstandard.ZstdCompressor().compress(payload)


def journal(
    entries: Sequence[tuple[float, str, Mapping[str, str]]],
    *,
    packed: str = "",
    compact: bool = False,
    is_open: bool = False,
) -> bytes:
    """entries: (seconds since 1970, the run's id as 32 hex digits, fields). packed: xz, lz4, zstd, or none."""
    own = _File(bytearray(_HEADER), compact, packed)
    tables = [own.put(kind, bytes(16 * 8)) for kind in (_DATA_TABLE, _FIELD_TABLE)]
    placed: list[int] = []
    arrays: list[int] = []
    width = "I" if compact else "Q"
    for number, (at, run, fields) in enumerate(entries, 1):
        if number % _PER_ARRAY == 1:
            arrays.append(own.put(_ARRAY, bytes(8 + _PER_ARRAY * struct.calcsize(width))))
            if len(arrays) > 1:
                struct.pack_into("<Q", own.raw, arrays[-2] + 16, arrays[-1])
        places = sorted({own.data(f"{name}={value}".encode(), 0) for name, value in fields.items()})
        hashes = [struct.unpack_from("<Q", own.raw, place + 16)[0] for place in places]
        mixed = 0
        for one in hashes:
            mixed ^= one
        items = (
            struct.pack(f"<{len(places)}I", *places)
            if compact
            else b"".join(struct.pack("<2Q", *pair) for pair in zip(places, hashes, strict=True))
        )
        micros = int(at * 1e6)
        body = struct.pack("<3Q", number, micros, number * 1000) + bytes.fromhex(run) + struct.pack("<Q", mixed) + items
        entry = own.put(_ENTRY, body)
        for place in places:
            if not struct.unpack_from("<Q", own.raw, place + 40)[0]:
                struct.pack_into("<Q", own.raw, place + 40, entry)
        placed.append(entry)
        slot = arrays[-1] + 24 + (number - 1) % _PER_ARRAY * struct.calcsize(width)
        struct.pack_into(f"<{width}", own.raw, slot, entry)
    own.raw += bytes(-len(own.raw) % 8)
    own.raw[:8] = MAGIC
    struct.pack_into("<2IB", own.raw, 8, 0, _INCOMPATIBLE[packed] | (16 if compact else 0), ONLINE if is_open else 0)
    for at, byte in ((24, 1), (40, 2), (72, 3)):
        own.raw[at : at + 16] = bytes([byte]) * 16
    times = [int(at * 1e6) for at, _, _ in entries] or [0]
    tail = max(tables[1], *placed, *arrays, *own.known.values())
    struct.pack_into(
        "<16Q", own.raw, 88,
        _HEADER, len(own.raw) - _HEADER, tables[0] + 16, 16 * 8, tables[1] + 16, 16 * 8, tail, own.objects,
        len(entries), len(entries), 1 if entries else 0, arrays[0] if arrays else 0, times[0], times[-1],
        len(entries) * 1000, len(own.known),
    )  # fmt: skip
    if entries:
        own.raw[56:72] = bytes.fromhex(entries[-1][1])
    return bytes(own.raw)
