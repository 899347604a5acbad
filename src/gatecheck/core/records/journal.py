"""systemd's journal: entries of a journal file, compressed or not, of a file that was closed, left open by a power
cut, or torn.

Source: Journal File Format (systemd's own description): header, objects aligned to eight bytes, entry arrays chained
from the header; compact files with offsets of four bytes; payloads packed by XZ, LZ4 or Zstandard."""

from __future__ import annotations

import lzma
import struct
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import lz4.block
import zstandard

from gatecheck.core.errors import DecodeError
from gatecheck.core.records.evtx import Log
from gatecheck.core.records.moments import of_unix

MAGIC = b"LPKSHHRH"
_DATA, _ENTRY, _ENTRY_ARRAY = 1, 3, 6
_XZ, _LZ4, _ZSTD = 1, 2, 4
_KNOWN, _COMPACT = 0x1F, 0x10
ONLINE = 1
_LARGEST_FIELD = 64 << 10
"""bytes of a field that are read; longer ones are cut"""
_MOST_ENTRIES = 2_000_000


@dataclass(frozen=True, slots=True)
class JournalHead:
    """Whether the file was closed, and the times of its first and last entry by its own header."""

    is_open: bool
    first: float | None
    last: float | None
    entries: int


@dataclass(frozen=True, slots=True)
class JournalEntry:
    """at: seconds since 1970; boot: the run's id; fields: those asked for."""

    at: float
    boot: str
    number: int
    fields: Mapping[str, str]


def journal_head(raw: bytes) -> JournalHead:
    """Of its first 256 bytes. Raises DecodeError for what is no journal, or one with features that are not known."""
    if raw[:8] != MAGIC or len(raw) < 208:
        raise DecodeError("journal", at=0, expected="LPKSHHRH", got=raw[:8].hex() or "nothing")
    incompatible = struct.unpack_from("<I", raw, 12)[0]
    if incompatible & ~_KNOWN:
        raise DecodeError("journal", at=12, expected="features that are known", got=f"{incompatible:#x}")
    first, last = struct.unpack_from("<2Q", raw, 184)
    return JournalHead(
        raw[16] == ONLINE, of_unix(first / 1e6), of_unix(last / 1e6), struct.unpack_from("<Q", raw, 152)[0]
    )


def read_journal(raw: bytes, log: Log, wanted: frozenset[str]) -> Iterator[JournalEntry]:
    """Its entries, as the arrays list them; those that no array lists any more from where they stand. wanted: names of
    the fields that are kept. Raises DecodeError for what is no journal."""
    journal_head(raw)
    reader = _Reader(raw, wanted)
    seen: set[int] = set()
    problem = ""
    for at in reader.listed():
        if at < 0:
            problem = "its list of entries is torn"
            break
        if at not in seen and len(seen) < _MOST_ENTRIES:
            seen.add(at)
    told = struct.unpack_from("<Q", raw, 152)[0]
    if problem or len(seen) < told:
        more = [at for at in reader.standing() if at not in seen]
        seen.update(more)
        log.note(problem or f"{told - len(seen) + len(more)} entries are listed nowhere", lost=len(seen) < told)
    lost = 0
    for at in sorted(seen):
        entry = reader.entry(at)
        if entry is None:
            lost += 1
            continue
        log.records += 1
        log.first = entry.at if log.first is None else min(log.first, entry.at)
        log.last = entry.at if log.last is None else max(log.last, entry.at)
        yield entry
    if lost:
        log.note(f"{lost} entries could not be read", lost=True)
    if reader.lost_fields:
        log.note(f"{reader.lost_fields} fields could not be read", lost=True)


class _Reader:
    def __init__(self, raw: bytes, wanted: frozenset[str]) -> None:
        self.raw, self.wanted = raw, wanted
        self.compact = bool(struct.unpack_from("<I", raw, 12)[0] & _COMPACT)
        self.header = struct.unpack_from("<Q", raw, 88)[0]
        self.array_at = struct.unpack_from("<Q", raw, 176)[0]
        self.known: dict[int, tuple[str, str] | None] = {}
        self.lost_fields = 0

    def _object(self, at: int, kind: int) -> tuple[int, int] | None:
        """(flags, size) of an object of a kind; None where there is none."""
        if at < self.header or at % 8 or at + 16 > len(self.raw):
            return None
        own, flags, size = struct.unpack_from("<BB6xQ", self.raw, at)
        return (flags, size) if own == kind and 16 <= size <= len(self.raw) - at else None

    def listed(self) -> Iterator[int]:
        """Where the entries stand, by the arrays; -1 where their chain is torn."""
        at, passed = self.array_at, set[int]()
        while at:
            own = self._object(at, _ENTRY_ARRAY)
            if own is None or at in passed:
                yield -1
                return
            passed.add(at)
            width = "I" if self.compact else "Q"
            count = (own[1] - 24) // struct.calcsize(width)
            for entry in struct.unpack_from(f"<{count}{width}", self.raw, at + 24):
                if not entry:
                    return
                yield entry
            at = struct.unpack_from("<Q", self.raw, at + 16)[0]

    def standing(self) -> Iterator[int]:
        """Entries from object to object, whatever lists them; over what is no object to the next one that is."""
        at, end = self.header, len(self.raw)
        while at + 16 <= end:
            kind, _, size = struct.unpack_from("<BB6xQ", self.raw, at)
            if not 1 <= kind <= 7 or not 16 <= size <= end - at:
                at += 8
                continue
            if kind == _ENTRY and self.entry(at) is not None:
                yield at
            at += -(-size // 8) * 8

    def entry(self, at: int) -> JournalEntry | None:
        own = self._object(at, _ENTRY)
        if own is None or own[1] < 64:
            return None
        number, when = struct.unpack_from("<2Q", self.raw, at + 16)
        moment = of_unix(when / 1e6)
        if moment is None:
            return None
        if self.compact:
            items = struct.unpack_from(f"<{(own[1] - 64) // 4}I", self.raw, at + 64)
        else:
            items = struct.unpack_from(f"<{(own[1] - 64) // 16 * 2}Q", self.raw, at + 64)[::2]
        known = self.known
        fields: dict[str, str] = {}
        for place in items:
            if place not in known:
                known[place] = self._field(place)
            field = known[place]
            if field is not None:
                fields.setdefault(*field)
        return JournalEntry(moment, self.raw[at + 40 : at + 56].hex(), number, fields)

    def _field(self, at: int) -> tuple[str, str] | None:
        """Name and value of a field that is wanted."""
        own = self._object(at, _DATA)
        if own is None:
            self.lost_fields += at != 0
            return None
        flags, size = own
        start = at + (72 if self.compact else 64)
        packed = flags & (_XZ | _LZ4 | _ZSTD)
        if not packed:
            name, mark, _ = self.raw[start : min(start + 65, at + size)].partition(b"=")
            if not mark or name.decode("ascii", "replace") not in self.wanted:
                return None
        try:
            payload = _unpacked(self.raw[start : at + size], packed)
        except (lzma.LZMAError, zstandard.ZstdError, lz4.block.LZ4BlockError, ValueError, MemoryError):
            self.lost_fields += 1
            return None
        name, mark, value = payload.partition(b"=")
        text = name.decode("ascii", "replace")
        return (text, value.decode("utf-8", "replace")) if mark and text in self.wanted else None


def _unpacked(payload: bytes, packed: int) -> bytes:
    """At most so much as is read of a field."""
    if packed & _XZ:
        return lzma.LZMADecompressor(memlimit=64 << 20).decompress(payload, _LARGEST_FIELD)
    if packed & _LZ4:
        whole = int.from_bytes(payload[:8], "little")
        if whole > 16 << 20:
            raise ValueError("larger than any field")
        return bytes(lz4.block.decompress(payload[8:], uncompressed_size=whole))[:_LARGEST_FIELD]
    if packed & _ZSTD:
        with zstandard.ZstdDecompressor(max_window_size=64 << 20).stream_reader(payload) as reader:
            return reader.read(_LARGEST_FIELD)
    return payload[:_LARGEST_FIELD]
