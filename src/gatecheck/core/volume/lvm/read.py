"""LVM: which logical volumes a physical volume holds, and where they begin on it.

The label stands in one of the first four sectors of 512 bytes; the description is text. Source: lvm2,
lib/format_text/layout.h and label.h."""

from __future__ import annotations

import re
import struct
from dataclasses import dataclass

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError

LABEL, TYPE, AREA = b"LABELONE", b"LVM2 001", b" LVM2 x[5A%r0N*>"
_UNIT, _MOST_TEXT, _MOST_VOLUMES = 512, 1 << 18, 64


@dataclass(frozen=True, slots=True)
class LogicalVolume:
    """`at`: byte from the start of the physical volume, None where its first extent lies on another one."""

    name: str
    at: int | None
    size: int


@dataclass(frozen=True, slots=True)
class VolumeGroup:
    name: str
    volumes: tuple[LogicalVolume, ...]


class _Bytes:
    """Bytes of a physical volume, counted from its start."""

    def __init__(self, disk: Sectors, first: int) -> None:
        self.disk, self.first = disk, first

    def read(self, at: int, size: int, what: str) -> bytes:
        sector = self.disk.sector
        low, high = at // sector, -(-(at + size) // sector)
        return self.disk.read(self.first + low, high - low).whole(what)[at - low * sector :][:size]


def is_physical_volume(start: bytes) -> bool:
    return any(start[at : at + 8] == LABEL and start[at + 24 : at + 32] == TYPE for at in range(0, 4 * _UNIT, _UNIT))


def read_group(disk: Sectors, first: int) -> VolumeGroup:
    """The group that the physical volume at this LBA belongs to. Raises DecodeError."""
    own = _Bytes(disk, first)
    head = own.read(0, max(4 * _UNIT, disk.sector), "LVM label")
    label = next((at for at in range(0, 4 * _UNIT, _UNIT) if head[at : at + 8] == LABEL), None)
    if label is None:
        raise DecodeError("LVM label", at=0, expected=LABEL.decode(), got="none in four sectors")
    offset = struct.unpack_from("<I", head, label + 20)[0]
    for at, size in _areas(head[label + offset :]):
        text = _text(own, at, size)
        if text:
            return _group(text)
    raise DecodeError("LVM description", at=label, expected="text of a volume group", got="none")


def _areas(header: bytes) -> list[tuple[int, int]]:
    """Areas of descriptions: after the list of data areas, each list ended by zeros."""
    found, place, lists = [], 40, 0
    while place + 16 <= len(header) and lists < 2:
        offset, size = struct.unpack_from("<QQ", header, place)
        place += 16
        if not offset and not size:
            lists += 1
        elif lists == 1:
            found.append((offset, size))
    return found[:4]


def _text(own: _Bytes, at: int, size: int) -> str:
    head = own.read(at, _UNIT, "LVM description")
    if head[4:20] != AREA:
        return ""
    place, length = struct.unpack_from("<QQ", head, 40)
    if not 0 < length <= _MOST_TEXT or not _UNIT <= place < size:
        return ""
    raw = own.read(at + place, min(length, size - place), "LVM description")
    # the text runs in a ring
    raw += own.read(at + _UNIT, length - len(raw), "LVM description") if len(raw) < length else b""
    return raw.rstrip(b"\0").decode("utf-8", "replace")


_TOKEN = re.compile(r'"(?:[^"\\]|\\.)*"|#[^\n]*|[\w.+-]+|[{}=\[\],]')
_MOST_TOKENS, _DEEPEST = 50_000, 8
Section = dict[str, "Section | str | list[str]"]


def _parsed(text: str) -> Section:
    """The description's sections and values by name: `name { ... }`, `name = value`, `name = [values]`. What is not so
    is left out."""
    root: Section = {}
    stack, name = [root], ""
    values: list[str] | None = None
    for count, found in enumerate(_TOKEN.finditer(text)):
        token = found[0]
        if count > _MOST_TOKENS or len(stack) > _DEEPEST:
            break
        if token[0] == "#" or token == ",":
            continue
        if token == "{":
            inner: Section = {}
            stack[-1][name] = inner
            stack.append(inner)
        elif token == "}":
            if len(stack) > 1:
                stack.pop()
        elif token == "[":
            values = []
        elif token == "]":
            stack[-1][name], values = values or [], None
        elif token == "=":
            stack[-1][name] = ""
        elif values is not None:
            values.append(token.strip('"'))
        elif stack[-1].get(name) == "":
            stack[-1][name] = token.strip('"')
        else:
            name = token
    return root


def _section(own: Section, name: str) -> Section:
    value = own.get(name)
    return value if isinstance(value, dict) else {}


def _count(own: Section, name: str) -> int:
    value = own.get(name)
    return int(value) if isinstance(value, str) and value.isdigit() and len(value) < 16 else 0


def _group(text: str) -> VolumeGroup:
    name, own = next(
        ((name, value) for name, value in _parsed(text).items() if isinstance(value, dict)), ("", Section())
    )
    extent = _count(own, "extent_size") * _UNIT
    disks = {
        disk: _count(value, "pe_start") * _UNIT
        for disk, value in _section(own, "physical_volumes").items()
        if isinstance(value, dict)
    }
    # with several, which of them this is does not stand in their description
    only = next(iter(disks)) if len(disks) == 1 else None
    volumes: list[LogicalVolume] = []
    for title, volume in list(_section(own, "logical_volumes").items())[:_MOST_VOLUMES]:
        if isinstance(volume, dict):
            segments = [s for key, s in volume.items() if key.startswith("segment") and isinstance(s, dict)]
            stripes = _section(volume, "segment1").get("stripes")
            place = stripes[1] if isinstance(stripes, list) and len(stripes) >= 2 and stripes[0] == only else ""
            at = disks[only] + int(place) * extent if only and extent and place.isdigit() and len(place) < 16 else None
            volumes.append(LogicalVolume(title, at, sum(_count(s, "extent_count") for s in segments) * extent))
    return VolumeGroup(name, tuple(volumes))
