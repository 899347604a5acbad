"""Registry hives (regf): keys and values, with what their transaction logs still hold applied in memory.

The format as it is publicly documented: base block, bins, cells; little-endian. Logs of both kinds: dirty pages by a
bitmap (DIRT), and entries with sequence numbers and two Marvin32 hashes (HvLE).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from gatecheck.core.errors import DecodeError

BASE, _PAGE = 4096, 512
_LOOKS, _DEEPEST, _LARGEST_VALUE = 100_000, 512, 64 << 20
_ASCII_NAME, _ASCII_VALUE = 0x20, 1
_SEGMENT = 16344
SZ, EXPAND, BINARY, DWORD, MULTI, QWORD = 1, 2, 3, 4, 7, 11
_SEED = 0x82EF4D887A4E55C5
_MASK, _INLINE = 0xFFFFFFFF, 0x80000000


@dataclass(frozen=True, slots=True)
class Value:
    """`kind`: REG_* number; `raw`: its bytes, shorter than told where `torn`."""

    name: str
    kind: int
    raw: bytes = field(repr=False)
    torn: bool = False

    @property
    def text(self) -> str:
        """A string without its end; the first of several."""
        return self.raw.decode("utf-16-le", "replace").partition("\0")[0]

    @property
    def texts(self) -> list[str]:
        return [part for part in self.raw.decode("utf-16-le", "replace").split("\0") if part]

    @property
    def number(self) -> int | None:
        """A DWORD or QWORD; None for what is none."""
        if self.kind == DWORD and len(self.raw) >= 4:
            return int.from_bytes(self.raw[:4], "little")
        return int.from_bytes(self.raw[:8], "little") if self.kind == QWORD and len(self.raw) >= 8 else None


class HiveKey:
    """A key of a hive. Names are compared without regard to case."""

    def __init__(self, hive: Hive, at: int, depth: int) -> None:
        """Raises DecodeError where there is no key."""
        self._hive, self._depth = hive, depth
        raw = hive.cell(at)
        if raw[:2] != b"nk" or len(raw) < 76:
            raise DecodeError("registry key", at=at, expected="nk", got=raw[:2].hex())
        flags, self.modified = struct.unpack_from("<HQ", raw, 2)
        self._keys, self._list = struct.unpack_from("<I4xI", raw, 20)
        self._values, self._value_list = struct.unpack_from("<2I", raw, 36)
        size = int.from_bytes(raw[72:74], "little")
        self.name = _name(raw[76 : 76 + size], ascii_only=bool(flags & _ASCII_NAME))

    def below(self) -> Iterator[HiveKey]:
        """Those that can be read; what cannot is noted in the hive and left out."""
        if not self._keys or self._depth >= _DEEPEST:
            return
        for at in self._hive.listed(self._list):
            try:
                yield HiveKey(self._hive, at, self._depth + 1)
            except DecodeError as error:
                self._hive.note(error)

    def key(self, path: str) -> HiveKey | None:
        """A key below this one by its path, parts joined by a backslash."""
        own: HiveKey | None = self
        for part in filter(None, path.split("\\")):
            own = next((k for k in own.below() if k.name.lower() == part.lower()), None) if own else None
        return own

    def values(self) -> Iterator[Value]:
        if not self._values:
            return
        try:
            places = self._hive.cell(self._value_list)
        except DecodeError as error:
            self._hive.note(error)
            return
        for n in range(min(self._values, len(places) // 4)):
            try:
                yield self._hive.value(int.from_bytes(places[4 * n : 4 * n + 4], "little"))
            except DecodeError as error:
                self._hive.note(error)

    def value(self, name: str) -> Value | None:
        return next((v for v in self.values() if v.name.lower() == name.lower()), None)

    def number(self, name: str) -> int | None:
        own = self.value(name)
        return own.number if own else None

    def number_at(self, name: str) -> int | None:
        """Where the four bytes of a DWORD are in the bins; None where there is none, or it is not held in its value."""
        place = self._place(name)
        if place is None:
            return None
        size, _, kind = struct.unpack_from("<3I", self._hive.cell(place), 4)
        return place + 12 if kind == DWORD and size == 4 | _INLINE else None

    def shorter(self, name: str, data: bytes) -> list[tuple[int, bytes]]:
        """(place in the bins, bytes) that give a value other bytes, where they have room in its own cell; else
        nothing."""
        place = self._place(name)
        if place is None:
            return []
        size, at, _ = struct.unpack_from("<3I", self._hive.cell(place), 4)
        if size & _INLINE or not 4 < len(data) <= size <= _SEGMENT:
            return []
        return [(place + 8, struct.pack("<I", len(data))), (at + 4, data + bytes(size - len(data)))]

    def _place(self, name: str) -> int | None:
        """Of a value's cell."""
        try:
            places = self._hive.cell(self._value_list) if self._values else b""
        except DecodeError:
            return None
        for n in range(min(self._values, len(places) // 4)):
            at = int.from_bytes(places[4 * n : 4 * n + 4], "little")
            try:
                if self._hive.value(at).name.lower() == name.lower():
                    return at
            except DecodeError:
                continue
        return None

    def text(self, name: str) -> str | None:
        own = self.value(name)
        return own.text if own and own.kind in (SZ, EXPAND, MULTI) else None


def _name(raw: bytes, *, ascii_only: bool) -> str:
    return raw.decode("latin-1") if ascii_only else raw.decode("utf-16-le", "replace")


class Hive:
    """An opened hive. `torn`: what could not be read, in words, the first ten; `applied`: entries or pages of the logs
    that were applied; `dirty`: it asked for them."""

    def __init__(self, raw: bytes, logs: Sequence[bytes] = ()) -> None:
        """Raises DecodeError where there is no hive, nor a log that has its base block."""
        head = raw[:BASE]
        whole = _is_base(head)
        if not whole:
            head = next((log[:512] + bytes(BASE - 512) for log in logs if _is_base(log[:512])), head)
        if head[:4] != b"regf" or len(head) < 512:
            raise DecodeError("registry hive", at=0, expected="regf", got=head[:4].hex() or "nothing")
        first, second = struct.unpack_from("<2I", head, 4)
        self.torn: list[str] = []
        self._seen = 0
        self.root_at, self.size = struct.unpack_from("<2I", head, 36)
        self.dirty = first != second or not whole
        self.applied = 0
        self.sequence = max(first, second)
        self._bins = bytearray(raw[BASE:])
        if self.dirty:
            self._apply(logs, second, whole)
        if len(self._bins) < self.size:
            self.torn.append(f"expected {self.size} bytes, got {len(self._bins)}")
        self._root: HiveKey | None = None

    @property
    def root(self) -> HiveKey:
        """Raises DecodeError."""
        if self._root is None:
            self._root = HiveKey(self, self.root_at, 0)
        return self._root

    @property
    def bins(self) -> bytes:
        """All of them, with what the logs held."""
        return bytes(self._bins)

    def note(self, error: DecodeError) -> None:
        if len(self.torn) < 10:
            self.torn.append(str(error))

    def cell(self, at: int) -> bytes:
        if at == _MASK or at + 4 > len(self._bins) or at % 8:
            raise DecodeError("registry cell", at=at, expected=f"a place below {len(self._bins)}", got=at)
        self._seen += 1
        if self._seen > _LOOKS + len(self._bins) // 2:  # keys that hold each other
            raise DecodeError("registry hive", at=at, expected="keys that end", got="ones that do not")
        size = -struct.unpack_from("<i", self._bins, at)[0]
        if not 4 < size <= len(self._bins) - at:
            raise DecodeError("registry cell", at=at, expected="one that is in use", got=size)
        return bytes(self._bins[at + 4 : at + size])

    def listed(self, at: int, depth: int = 0) -> Iterator[int]:
        """Places of the keys of a list, of every kind of list."""
        try:
            raw = self.cell(at)
        except DecodeError as error:
            self.note(error)
            return
        kind, count = raw[:2], int.from_bytes(raw[2:4], "little")
        step = {b"lf": 8, b"lh": 8, b"li": 4, b"ri": 4}.get(kind)
        if step is None or depth > 4:
            self.note(DecodeError("registry list", at=at, expected="lf, lh, li or ri", got=kind.hex()))
            return
        for n in range(min(count, (len(raw) - 4) // step)):
            place = int.from_bytes(raw[4 + n * step : 8 + n * step], "little")
            if kind == b"ri":
                yield from self.listed(place, depth + 1)
            else:
                yield place

    def value(self, at: int) -> Value:
        raw = self.cell(at)
        if raw[:2] != b"vk" or len(raw) < 20:
            raise DecodeError("registry value", at=at, expected="vk", got=raw[:2].hex())
        length, size, place, kind, flags = struct.unpack_from("<HIIIH", raw, 2)
        name = _name(raw[20 : 20 + length], ascii_only=bool(flags & _ASCII_VALUE))
        if size & _INLINE:
            return Value(name, kind, raw[8 : 8 + min(4, size & ~_INLINE)])
        if not size:
            return Value(name, kind, b"")
        if size > _LARGEST_VALUE:
            raise DecodeError("registry value", at=at, expected=f"at most {_LARGEST_VALUE >> 20} MiB", got=size)
        own = self.cell(place)
        if size > _SEGMENT and own[:2] == b"db":
            own = self._big(own, size)
        return Value(name, kind, own[:size], torn=len(own) < size)

    def _big(self, head: bytes, size: int) -> bytes:
        if len(head) < 8:
            raise DecodeError("registry value", at=0, expected="a list of its parts", got=f"{len(head)} bytes")
        count, at = struct.unpack_from("<HI", head, 2)
        places, out = self.cell(at), b""
        for n in range(min(count, len(places) // 4)):
            out += self.cell(int.from_bytes(places[4 * n : 4 * n + 4], "little"))[:_SEGMENT]
        return out[:size]

    def _apply(self, logs: Sequence[bytes], sequence: int, whole: bool) -> None:
        entries: dict[int, list[tuple[int, bytes]]] = {}
        sizes: dict[int, int] = {}
        for log in logs:
            if log[:4] != b"regf":
                continue
            if log[512:516] == b"DIRT":
                self._old_log(log)
                return
            for number, size, pages in _entries(log):
                entries.setdefault(number, pages)
                sizes.setdefault(number, size)
        usable = sorted(n for n in entries if not whole or 0 <= (n - sequence) & _MASK < 1 << 31)
        for before, number in zip([None, *usable], usable, strict=False):
            if before is not None and number != (before + 1) & _MASK:
                break
            for at, data in entries[number]:
                self._put(at, data)
            self.size = sizes[number]
            self.sequence = max(self.sequence, number)
            self.applied += 1

    def _old_log(self, log: bytes) -> None:
        if not _is_base(log[:512]):
            return
        size = int.from_bytes(log[40:44], "little")
        count = size // _PAGE
        bitmap = log[516 : 516 + (count + 7) // 8]
        at = -(-(516 + (count + 7) // 8) // _PAGE) * _PAGE
        for page in range(count):
            if page // 8 < len(bitmap) and bitmap[page // 8] >> page % 8 & 1:
                data = log[at : at + _PAGE]
                if len(data) < _PAGE:
                    self.torn.append("its log ends too early")
                    return
                self._put(page * _PAGE, data)
                at, self.applied = at + _PAGE, self.applied + 1
        self.size = size

    def _put(self, at: int, data: bytes) -> None:
        if len(self._bins) < at + len(data):
            self._bins += bytes(at + len(data) - len(self._bins))
        self._bins[at : at + len(data)] = data


def settled(raw: bytes, hive: Hive, edits: Sequence[tuple[int, bytes]]) -> bytes:
    """The hive's file with its logs applied and these bytes changed: one that its loader takes as it is. `raw`: the
    file; `edits`: (place in the bins, bytes). Raises DecodeError where that would not be safe: a base block that is not
    right, logs that make it longer than its file or that could not be applied."""
    if not _is_base(raw[:BASE]):
        raise DecodeError("registry hive", at=0, expected="a base block with its checksum", got="another")
    if hive.torn or (hive.dirty and not hive.applied):
        raise DecodeError("registry hive", at=4, expected="logs that can be applied", got="none")
    bins = bytearray(hive.bins)
    if BASE + len(bins) > len(raw):
        raise DecodeError("registry hive", at=40, expected=f"at most {len(raw)} bytes", got=BASE + len(bins))
    for at, data in edits:
        bins[at : at + len(data)] = data
    head = bytearray(raw[:BASE])
    struct.pack_into("<2I", head, 4, *[hive.sequence + 1 & _MASK] * 2)
    struct.pack_into("<I", head, 40, hive.size)
    struct.pack_into("<I", head, 508, base_sum(bytes(head)))
    return bytes(head + bins) + raw[BASE + len(bins) :]


def _is_base(head: bytes) -> bool:
    if len(head) < 512 or head[:4] != b"regf":
        return False
    return base_sum(head) == int.from_bytes(head[508:512], "little")


def base_sum(head: bytes) -> int:
    own = 0
    for word in struct.unpack_from("<127I", head, 0):
        own ^= word
    return {0: 1, _MASK: _MASK - 1}.get(own, own)


def _entries(log: bytes) -> Iterator[tuple[int, int, list[tuple[int, bytes]]]]:
    """(sequence, size of the bins, pages) of the entries of a log whose hashes are right; ends at the first other."""
    at = 512
    while log[at : at + 4] == b"HvLE":
        if at + 40 > len(log):
            return
        size, _, sequence, bins, count = struct.unpack_from("<5I", log, at + 4)
        first, second = struct.unpack_from("<2Q", log, at + 24)
        if size < 40 or at + size > len(log) or size % _PAGE or count > size // 8:
            return
        if marvin32(log[at : at + 32]) != second or marvin32(log[at + 40 : at + size]) != first:
            return
        pages, place = [], at + 40 + 8 * count
        for n in range(count):
            where, length = struct.unpack_from("<2I", log, at + 40 + 8 * n)
            if place + length > at + size or where > 1 << 31:
                return
            pages.append((where, log[place : place + length]))
            place += length
        yield sequence, bins, pages
        at += size


def marvin32(data: bytes) -> int:
    """The hash of log entries, with its fixed seed."""
    low, high = _SEED & _MASK, _SEED >> 32
    whole = len(data) // 4
    tail = data[whole * 4 :] + b"\x80"
    words = [*struct.unpack_from(f"<{whole}I", data, 0), int.from_bytes(tail, "little"), 0]
    for word in words:
        low = (low + word) & _MASK
        high ^= low
        low = ((low << 20 | low >> 12) + high) & _MASK
        high = (high << 9 | high >> 23) & _MASK
        high ^= low
        low = ((low << 27 | low >> 5) + high) & _MASK
        high = (high << 19 | high >> 13) & _MASK
    return high << 32 | low
