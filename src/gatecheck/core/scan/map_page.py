"""A read map as the probe keeps it: runs of blocks with a byte of time each, in packed pieces that stand one after the
other.

A piece: the magic, the bytes of a sector (u32), the sectors of the disk (u64), the size of what follows (u32), and that
many bytes of zlib. Inside: rows of kind (u8: 1 read, 2 unreadable, 3 left), first LBA (u64), sectors of a block (u32),
blocks (u32), and a byte for each block: its time in eighths of a power of two above 0.01 ms, from 1 on. All
little-endian. Described in docs/capture-format.md."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from gatecheck.core.errors import DecodeError
from gatecheck.core.scan.coarse import compact
from gatecheck.core.scan.read import LEFT, READ, UNREADABLE, ReadMap, merge_maps

MAGIC = b"GCMAP1\n\0"
_HEAD = struct.Struct("<8sIQI")
_ROW = struct.Struct("<BQII")
_STATES = {1: READ, 2: UNREADABLE, 3: LEFT}
_MOST_BLOCKS, _AT_ONCE = 200_000_000, 100_000
"""of a map; and how many of them are unpacked before good ones are joined"""
_LARGEST_PIECE = 256 << 20
_LARGEST_LBA = 1 << 48
_TIMES = 0.01 * 2.0 ** ((np.arange(256) - 1) / 8)


@dataclass(frozen=True, slots=True)
class MapPage:
    """A map with what it is a map of: bytes of a sector, sectors of the disk."""

    blocks: ReadMap
    sector: int
    sectors: int


def read_map_page(data: bytes) -> MapPage:
    """All pieces as one map; of a very long one good neighbours are joined as they come. Raises DecodeError for what is
    no such map."""
    told: list[tuple[int, int]] = []
    blocks = compact(_parts(data, told))
    return MapPage(blocks, *told[0])


def _parts(data: bytes, told: list[tuple[int, int]]) -> Iterator[ReadMap]:
    """The blocks in order, so many at a time; `told` gets (bytes of a sector, sectors of the disk)."""
    waiting: list[ReadMap] = []
    sector = disk = total = rows = at = 0
    while at < len(data) or not at:
        if len(data) - at < _HEAD.size:
            raise DecodeError("read map", at=at, expected=f"{_HEAD.size} bytes of a head", got=f"{len(data) - at}")
        magic, own_sector, own_disk, size = _HEAD.unpack_from(data, at)
        if magic != MAGIC or own_sector not in (512, 1024, 2048, 4096) or not 0 < own_disk < _LARGEST_LBA:
            raise DecodeError("read map", at=at, expected="the head of a map", got=repr(data[at : at + 12]))
        if (sector, disk) not in ((0, 0), (own_sector, own_disk)):
            raise DecodeError(
                "read map",
                at=at,
                expected=f"pieces of one disk ({disk} sectors of {sector})",
                got=f"{own_disk} of {own_sector}",
            )
        sector, disk = own_sector, own_disk
        told.append((sector, disk))
        for kind, first, each, times in _rows(data, at, size):
            total += len(times)
            if total > _MOST_BLOCKS:
                raise DecodeError("read map", at=at, expected=f"at most {_MOST_BLOCKS} blocks", got="more")
            for start in range(0, len(times), _AT_ONCE):
                some = times[start : start + _AT_ONCE]
                waiting.append(
                    ReadMap(
                        first + each * np.arange(start, start + len(some), dtype=np.int64),
                        np.full(len(some), each, dtype=np.int64),
                        _TIMES[some] if kind != 3 else np.zeros(len(some)),
                        np.full(len(some), _STATES[kind], dtype=np.int8),
                    )
                )
                rows += len(some)
                if rows >= _AT_ONCE:
                    yield merge_maps(waiting)
                    waiting, rows = [], 0
        at += _HEAD.size + size
    if waiting:
        yield merge_maps(waiting)
    if not total:
        raise DecodeError("read map", at=0, expected="at least one block", got="none")


def repacked(data: bytes) -> bytes:
    """The same pieces as one, which takes less room; as they are where they cannot be read."""
    bodies, at = [], 0
    while at < len(data):
        if len(data) - at < _HEAD.size or data[at : at + 8] != MAGIC:
            return data
        *_, size = _HEAD.unpack_from(data, at)
        try:
            bodies.append(
                zlib.decompressobj().decompress(data[at + _HEAD.size : at + _HEAD.size + size], _LARGEST_PIECE)
            )
        except zlib.error:
            return data
        if sum(map(len, bodies)) >= _LARGEST_PIECE:
            return data
        at += _HEAD.size + size
    packed = zlib.compress(b"".join(bodies), 9)
    magic, sector, disk, _ = _HEAD.unpack_from(data, 0)
    return _HEAD.pack(magic, sector, disk, len(packed)) + packed


def _rows(data: bytes, at: int, size: int) -> Iterator[tuple[int, int, int, np.ndarray]]:
    start = at + _HEAD.size
    unpacker = zlib.decompressobj()
    try:
        body = unpacker.decompress(data[start : start + size], _LARGEST_PIECE)
    except zlib.error as error:
        raise DecodeError("read map", at=start, expected="packed rows", got=str(error)) from error
    if not unpacker.eof or unpacker.unconsumed_tail:
        raise DecodeError(
            "read map", at=start, expected=f"{size} bytes of packed rows", got="a piece that is cut short, or too large"
        )
    place = 0
    while place < len(body):
        if len(body) - place < _ROW.size:
            raise DecodeError("read map", at=start, expected="a whole row", got="a part of one")
        kind, first, each, count = _ROW.unpack_from(body, place)
        place += _ROW.size
        if (
            kind not in _STATES
            or not 1 <= each <= 1 << 24
            or first + each * count > _LARGEST_LBA
            or place + count > len(body)
        ):
            raise DecodeError(
                "read map", at=start, expected="a run of blocks", got=f"kind {kind}, LBA {first}, {count} of {each}"
            )
        yield kind, first, each, np.frombuffer(body, dtype=np.uint8, count=count, offset=place)
        place += count
