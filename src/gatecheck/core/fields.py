"""Declarative binary layouts and the one generic function that reads them.

A layout is a tuple of `Field`; offsets, formats and names are the standard's own. Nothing here knows any page.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError

Value = int | str | bytes


@dataclass(frozen=True, slots=True)
class Field:
    """One field: byte offset and `struct` format, or `ascii:N` (text), `swapped:N` (ATA text, bytes swapped in each
    word), `raw:N` (bytes), `le:N` (little-endian integer of N bytes)."""

    name: str
    at: int
    format: str
    unit: str = ""

    @property
    def size(self) -> int:
        kind, _, count = self.format.partition(":")
        return int(count) if count else struct.calcsize(kind)


def read_fields(layout: Sequence[Field], page: bytes, what: str, *, size: int) -> dict[str, Value]:
    """Every field of the layout by name. Raises DecodeError where the page is shorter than `size` bytes."""
    if len(page) < size:
        raise DecodeError(what, at=len(page), expected=f"{size} bytes", got=f"{len(page)} bytes")
    return {field.name: read_field(field, page) for field in layout}


def read_field(field: Field, page: bytes) -> Value:
    """The value of one field; the page must be long enough."""
    kind, _, count = field.format.partition(":")
    if not count:
        value: Value = struct.unpack_from(kind, page, field.at)[0]
        return value
    raw = page[field.at : field.at + int(count)]
    if kind == "ascii":
        return clean_text(raw)
    if kind == "swapped":
        return clean_text(swap_words(raw))
    if kind == "le":
        return int.from_bytes(raw, "little")
    return raw


def clean_text(raw: bytes) -> str:
    """Printable ASCII without padding; anything else becomes `?`, so that a garbled name is seen as garbled."""
    text = "".join(chr(b) if 0x20 <= b < 0x7F else "?" for b in raw.rstrip(b"\x00"))
    return text.strip()


def text_of(raw: bytes) -> str:
    """Text of which nobody says how it is coded: UTF-8 where it is valid, else Latin-1."""
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError:
        return raw.decode("latin-1")


def swap_words(raw: bytes) -> bytes:
    """Bytes swapped within each 16-bit word, as ATA stores text (ACS-4, 3.4.9)."""
    even = raw[: len(raw) // 2 * 2]
    return bytes(b for pair in zip(even[1::2], even[0::2], strict=True) for b in pair)


def write_fields(layout: Sequence[Field], values: dict[str, Value], *, size: int) -> bytearray:
    """The reverse of `read_fields`, for practice drives and round-trip tests. Fields not named stay zero."""
    page = bytearray(size)
    for field in layout:
        if field.name in values:
            page[field.at : field.at + field.size] = _packed(field, values[field.name])
    return page


def _packed(field: Field, value: Value) -> bytes:
    kind, _, count = field.format.partition(":")
    if not count:
        return struct.pack(kind, value)
    if kind == "le" and isinstance(value, int):
        return value.to_bytes(int(count), "little")
    raw = value.encode("ascii") if isinstance(value, str) else bytes(value) if isinstance(value, bytes) else b""
    if kind == "swapped":
        return swap_words(raw.ljust(int(count), b" ")[: int(count)])
    return raw.ljust(int(count), b" " if kind == "ascii" else b"\x00")[: int(count)]
