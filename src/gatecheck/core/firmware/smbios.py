"""SMBIOS tables (DMTF DSP0134, 3.7): who made the machine, its firmware, board, chassis and memory."""

from __future__ import annotations

import struct
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.fields import text_of
from gatecheck.core.guid import guid_text

_MOST_STRUCTURES = 4096
# 7.4.1, table 17: chassis types a bench meets
CHASSIS = {
    1: "other",
    3: "desktop",
    4: "low-profile desktop",
    6: "mini tower",
    7: "tower",
    8: "portable",
    9: "laptop",
    10: "notebook",
    13: "all-in-one",
    14: "sub notebook",
    17: "main server chassis",
    30: "tablet",
    31: "convertible",
    35: "mini PC",
    36: "stick PC",
}
LAPTOPS = ("portable", "laptop", "notebook", "sub notebook", "tablet", "convertible")
# 7.18.2, table 79
MEMORY_TYPES = {
    2: "unknown",
    3: "DRAM",
    7: "RAM",
    18: "DDR",
    19: "DDR2",
    24: "DDR3",
    26: "DDR4",
    30: "LPDDR4",
    34: "DDR5",
    35: "LPDDR5",
}


@dataclass(frozen=True, slots=True)
class EntryPoint:
    major: int
    minor: int
    checksum_ok: bool


@dataclass(frozen=True, slots=True)
class Module:
    """A memory slot; size in bytes, 0 where it is empty, None where the firmware does not know."""

    slot: str
    size: int | None
    kind: str
    maker: str
    part: str


@dataclass(frozen=True, slots=True)
class Smbios:
    """Texts are empty where the table has none; `cut_off` where it ends in the middle of a structure."""

    firmware_vendor: str
    firmware_version: str
    firmware_date: str
    maker: str
    product: str
    version: str
    serial: str
    uuid: str
    board_maker: str
    board_product: str
    chassis: str
    modules: tuple[Module, ...]
    structures: int
    cut_off: bool

    @property
    def form(self) -> str | None:
        """The ticket's word for its shape, where the chassis says so."""
        if self.chassis in LAPTOPS:
            return "laptop"
        return (
            "all-in-one"
            if self.chassis == "all-in-one"
            else "desktop"
            if "desktop" in self.chassis or "tower" in self.chassis
            else None
        )


@dataclass(frozen=True, slots=True)
class _Structure:
    type: int
    data: bytes
    strings: tuple[str, ...]

    def text(self, at: int) -> str:
        if at >= len(self.data):
            return ""
        number = self.data[at]
        return self.strings[number - 1].strip() if 0 < number <= len(self.strings) else ""

    def number(self, at: int, form: str, default: int = 0) -> int:
        if at + struct.calcsize(form) > len(self.data):
            return default
        return int(struct.unpack_from(form, self.data, at)[0])


def read_entry_point(raw: bytes) -> EntryPoint:
    """5.2.1 and 5.2.2: the 32-bit or 64-bit entry point. Raises DecodeError where it is neither."""
    if raw[:5] == b"_SM3_":
        size, at = 24, 7
    elif raw[:4] == b"_SM_":
        size, at = 31, 6
    else:
        raise DecodeError("SMBIOS anchor", at=0, expected="_SM_ or _SM3_", got=raw[:5].hex() or "nothing")
    if len(raw) < size:
        raise DecodeError("SMBIOS entry point", at=len(raw), expected=f"{size} bytes", got=f"{len(raw)} bytes")
    return EntryPoint(raw[at], raw[at + 1], sum(raw[:size]) & 0xFF == 0)


def read_smbios(table: bytes) -> Smbios:
    """Walk the structure table (6.1.2). Raises DecodeError where not one structure can be read."""
    structures, cut_off = _structures(table)
    if not structures:
        raise DecodeError(
            "SMBIOS table", at=0, expected="at least one structure", got=f"{len(table)} bytes without one"
        )
    empty = _Structure(127, b"", ())
    first: dict[int, _Structure] = {}
    for s in structures:
        first.setdefault(s.type, s)
    bios, system, board, case = (first.get(t, empty) for t in (0, 1, 2, 3))
    uuid = guid_text(system.data[8:24]) if len(system.data) >= 24 else ""
    kind = case.number(5, "<B") & 0x7F
    return Smbios(
        bios.text(4),
        bios.text(5),
        bios.text(8),
        system.text(4),
        system.text(5),
        system.text(6),
        system.text(7),
        uuid,
        board.text(4),
        board.text(5),
        CHASSIS.get(kind, f"type {kind}" if kind else ""),
        tuple(_module(s) for s in structures if s.type == 17),
        len(structures),
        cut_off,
    )


def _module(s: _Structure) -> Module:
    short = s.number(0x0C, "<H")
    size: int | None = short * 1024 if short & 0x8000 else short << 20
    if short & 0x8000:
        size = (short & 0x7FFF) << 10
    if short == 0x7FFF:
        size = (s.number(0x1C, "<I") & 0x7FFFFFFF) << 20
    if short == 0xFFFF:
        size = None
    kind = s.number(0x12, "<B")
    return Module(
        s.text(0x10) or s.text(0x11), size, MEMORY_TYPES.get(kind, f"type {kind}"), s.text(0x17), s.text(0x1A)
    )


def _structures(table: bytes) -> tuple[list[_Structure], bool]:
    found: list[_Structure] = []
    at = 0
    while at + 4 <= len(table) and len(found) < _MOST_STRUCTURES:
        kind, length = table[at], table[at + 1]
        if length < 4 or at + length > len(table):
            return found, True
        end = table.find(b"\0\0", at + length)
        if end < 0:
            return found, True
        strings = table[at + length : end].split(b"\0")
        found.append(_Structure(kind, table[at : at + length], tuple(text_of(s) for s in strings if s)))
        if kind == 127:  # end of table
            return found, False
        at = end + 2
    return found, at < len(table)
