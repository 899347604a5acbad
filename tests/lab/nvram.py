"""Variables in an emulated UEFI firmware's own store, written from outside: what a capture says of boot entries is then
what this firmware has.

Layout: firmware volume header (PI 1.8, volume 3), the variable store behind it, authenticated variables one after the
other (UEFI 2.10, 8.2; the store's format is the reference firmware's)."""

from __future__ import annotations

import struct
import uuid
from collections.abc import Mapping
from pathlib import Path

_STORE = uuid.UUID("aaf32c78-947b-439a-a180-2e144ec37792").bytes_le
_HEAD = struct.Struct("<HBBIQ16sIII16s")
_START, _ADDED = 0x55AA, 0x3F


def write_variables(store: Path, pages: Mapping[str, bytes]) -> None:
    """`pages`: `efivars/NAME-GUID` -> attributes and data, as Linux shows them. Raises ValueError where this is no
    store that is known."""
    raw = bytearray(store.read_bytes())
    begin = int.from_bytes(raw[48:50], "little")
    if raw[40:44] != b"_FVH" or raw[begin : begin + 16] != _STORE:
        raise ValueError(f"{store}: expected a volume of authenticated variables")
    at, end = begin + 28, begin + int.from_bytes(raw[begin + 16 : begin + 20], "little")
    while int.from_bytes(raw[at : at + 2], "little") == _START:
        _, _, _, _, _, _, _, name, data, _ = _HEAD.unpack_from(raw, at)
        at = _aligned(at + _HEAD.size + name + data)
    for path, page in pages.items():
        name, _, guid = path.removeprefix("efivars/").partition("-")
        text = f"{name}\0".encode("utf-16-le")
        own = (
            _HEAD.pack(
                _START,
                _ADDED,
                0,
                int.from_bytes(page[:4], "little"),
                0,
                bytes(16),
                0,
                len(text),
                len(page) - 4,
                uuid.UUID(guid).bytes_le,
            )
            + text
            + page[4:]
        )
        if at + len(own) > end:
            raise ValueError(f"{store}: no room for {name}")
        raw[at : at + len(own)] = own
        at = _aligned(at + len(own))
    store.write_bytes(raw)


def _aligned(at: int) -> int:
    return -(-at // 4) * 4
