"""Registry hives made up, for practice machines and tests: keys and values as given, and logs of both kinds."""

from __future__ import annotations

import struct
from collections.abc import Iterable, Mapping
from typing import Any

from gatecheck.core.records.hive import (
    BASE,
    BINARY,
    DWORD,
    MULTI,
    QWORD,
    SZ,
    base_sum,
    marvin32,
)

Tree = Mapping[str, Any]
"""name -> a Tree (a key), or a value: text, number, bytes, list of texts, or (kind, bytes)"""
_SEGMENT = 16344
_NONE = 0xFFFFFFFF


def hive(tree: Tree, *, modified: int = 0, list_kind: bytes = b"lh", sequence: int = 7) -> bytes:
    """`modified`: FILETIME of each key; `list_kind`: lf, lh, li, or ri over lists of 100."""
    own = _Builder(modified, list_kind)
    root = own.key("ROOT", tree, _NONE, root=True)
    body = own.bins()
    return base_block(root, len(body), sequence, sequence) + body


def base_block(root: int, size: int, first: int, second: int, kind: int = 0) -> bytes:
    head = bytearray(BASE)
    struct.pack_into("<4sIIQIIIIIII", head, 0, b"regf", first, second, 0, 1, 5, kind, 1, root, size, 1)
    struct.pack_into("<I", head, 508, base_sum(bytes(head)))
    return bytes(head)


class _Builder:
    def __init__(self, modified: int, list_kind: bytes) -> None:
        self.out, self.modified, self.list_kind = bytearray(32), modified, list_kind
        self.bin_starts = [0]
        self.security = -1

    def cell(self, data: bytes) -> int:
        size = -(-(4 + len(data)) // 8) * 8
        start = self.bin_starts[-1]
        room = -(-(len(self.out) - start) // 4096) * 4096 - (len(self.out) - start)
        if size > room and not (len(self.out) - start == 32 and room == 4064):
            if room:
                self.out += struct.pack("<i", room) + bytes(room - 4)
            self._close()
        at = len(self.out)
        self.out += struct.pack("<i", -size) + data + bytes(size - 4 - len(data))
        return at

    def _close(self) -> None:
        start = self.bin_starts[-1]
        room = -(len(self.out) - start) % 4096
        if room:
            self.out += struct.pack("<i", room) + bytes(room - 4)
        struct.pack_into("<4sIIQQI", self.out, start, b"hbin", start, len(self.out) - start, 0, 0, 0)
        self.bin_starts.append(len(self.out))
        self.out += bytes(32)

    def bins(self) -> bytes:
        self._close()
        return bytes(self.out[: self.bin_starts[-1]])

    def key(self, name: str, tree: Tree, parent: int, *, root: bool = False) -> int:
        keys = {n: v for n, v in tree.items() if isinstance(v, Mapping)}
        values = {n: v for n, v in tree.items() if not isinstance(v, Mapping)}
        if self.security < 0:
            self.security = self.cell(struct.pack("<2sHIIII", b"sk", 0, 0, 0, 1, 20) + bytes(20))
            struct.pack_into("<2I", self.out, self.security + 8, self.security, self.security)
        raw, ascii_only = _named(name)
        flags = (0x20 if ascii_only else 0) | (0x2C if root else 0)
        at = self.cell(bytes(76) + raw)
        below = [self.key(n, v, at) for n, v in sorted(keys.items(), key=lambda pair: pair[0].upper())]
        own = [self.value(n, v) for n, v in values.items()]
        listed = self.list_of(below, sorted(keys, key=str.upper)) if below else _NONE
        value_list = self.cell(b"".join(struct.pack("<I", p) for p in own)) if own else _NONE
        struct.pack_into(
            "<2sHQIIIIIIIIII", self.out, at + 4, b"nk", flags, self.modified, 0, parent, len(below), 0, listed, _NONE,
            len(own), value_list, self.security, _NONE,
        )  # fmt: skip
        widest = max((len(n.encode("utf-16-le")) for n in keys), default=0)
        struct.pack_into("<5IHH", self.out, at + 4 + 52, widest, 0, 64, 1 << 16, 0, len(raw), 0)
        return at

    def list_of(self, places: list[int], names: list[str]) -> int:
        if self.list_kind == b"ri":
            parts = [self._flat(b"li", places[n : n + 100], names) for n in range(0, len(places), 100)]
            return self.cell(b"ri" + struct.pack("<H", len(parts)) + b"".join(struct.pack("<I", p) for p in parts))
        return self._flat(self.list_kind, places, names)

    def _flat(self, kind: bytes, places: list[int], names: list[str]) -> int:
        body = kind + struct.pack("<H", len(places))
        for place, name in zip(places, names, strict=False):
            body += struct.pack("<I", place)
            if kind == b"lf":
                body += name[:4].encode("latin-1", "replace").ljust(4, b"\0")
            elif kind == b"lh":
                mix = 0
                for letter in name.upper():
                    mix = (mix * 37 + ord(letter)) & _NONE
                body += struct.pack("<I", mix)
        return self.cell(body)

    def value(self, name: str, value: Any) -> int:
        kind, data = _value(value)
        raw, plain = _named(name)
        if len(data) <= 4:
            size, place = len(data) | 0x80000000, int.from_bytes(data.ljust(4, b"\0"), "little")
        elif len(data) > _SEGMENT:
            parts = [self.cell(data[n : n + _SEGMENT] + bytes(4)) for n in range(0, len(data), _SEGMENT)]
            listed = self.cell(b"".join(struct.pack("<I", p) for p in parts))
            size, place = len(data), self.cell(b"db" + struct.pack("<HII", len(parts), listed, 0))
        else:
            size, place = len(data), self.cell(data)
        return self.cell(struct.pack("<2sHIIIHH", b"vk", len(raw), size, place, kind, int(plain), 0) + raw)


def _named(name: str) -> tuple[bytes, bool]:
    try:
        return name.encode("ascii"), True
    except UnicodeEncodeError:
        return name.encode("utf-16-le"), False


def _value(value: Any) -> tuple[int, bytes]:
    if isinstance(value, tuple):
        return value
    if isinstance(value, str):
        return SZ, (value + "\0").encode("utf-16-le")
    if isinstance(value, list):
        return MULTI, ("\0".join([*value, ""]) + "\0").encode("utf-16-le")
    if isinstance(value, int):
        return (DWORD, struct.pack("<I", value)) if value < 1 << 32 else (QWORD, struct.pack("<Q", value))
    return BINARY, bytes(value)


def differences(old: bytes, new: bytes) -> list[tuple[int, bytes]]:
    """Pages of 512 bytes of the bins in which two hives differ: (place, bytes of the new)."""
    a, b = old[BASE:], new[BASE:]
    return [(at, b[at : at + 512]) for at in range(0, len(b), 512) if a[at : at + 512] != b[at : at + 512]]


def new_log(base: bytes, entries: Iterable[tuple[int, int, list[tuple[int, bytes]]]], sequence: int) -> bytes:
    """A log with entries (sequence, size of the bins, pages)."""
    head = bytearray(base[:512])
    struct.pack_into("<2I", head, 4, sequence, sequence)
    struct.pack_into("<I", head, 28, 6)
    struct.pack_into("<I", head, 508, base_sum(bytes(head)))
    out = bytes(head)
    for number, size, pages in entries:
        body = b"".join(struct.pack("<2I", at, len(data)) for at, data in pages) + b"".join(d for _, d in pages)
        body += bytes(-(40 + len(body)) % 512)
        lead = struct.pack("<4s5I", b"HvLE", 40 + len(body), 0, number, size, len(pages))
        lead += struct.pack("<Q", marvin32(body))
        out += lead + struct.pack("<Q", marvin32(lead)) + body
    return out


def old_log(base: bytes, size: int, pages: list[tuple[int, bytes]]) -> bytes:
    """A log with a bitmap of dirty pages."""
    head = bytearray(base[:512])
    struct.pack_into("<I", head, 28, 1)
    struct.pack_into("<I", head, 40, size)
    struct.pack_into("<I", head, 508, base_sum(bytes(head)))
    bitmap = bytearray((size // 512 + 7) // 8)
    for at, _ in pages:
        bitmap[at // 512 // 8] |= 1 << at // 512 % 8
    out = bytes(head) + b"DIRT" + bytes(bitmap)
    return out + bytes(-len(out) % 512) + b"".join(data for _, data in pages)
