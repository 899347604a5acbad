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
_UNIT, _MOST_TEXT, _MOST_VOLUMES, _MOST_DISKS = 512, 1 << 20, 256, 64


@dataclass(frozen=True, slots=True)
class Segment:
    """Bytes `first` to `first + size` of a logical volume. `kind`: lvm2's own name (striped, mirror, raid5_ls);
    `on`: (physical or logical volume, byte from the start of its extents) of each stripe or copy; `chunk`: bytes of a
    stripe that stand together."""

    first: int
    size: int
    kind: str
    on: tuple[tuple[str, int], ...]
    chunk: int


@dataclass(frozen=True, slots=True)
class LogicalVolume:
    """`at`: byte from the start of the physical volume that was read, None where its first extent lies on another one;
    `is_shown`: it is one that people made, not a part of one."""

    name: str
    at: int | None
    size: int
    segments: tuple[Segment, ...] = ()
    is_shown: bool = True


@dataclass(frozen=True, slots=True)
class PhysicalVolume:
    """`id` as the label has it, without dashes; `data_at`: byte of its first extent."""

    name: str
    id: str
    data_at: int


@dataclass(frozen=True, slots=True)
class VolumeGroup:
    """`own`: the physical volume that was read, None where its description does not name it; `revision`: how often the
    description was written."""

    name: str
    volumes: tuple[LogicalVolume, ...]
    id: str = ""
    revision: int = 0
    disks: tuple[PhysicalVolume, ...] = ()
    own: PhysicalVolume | None = None


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
            return _group(text, head[label + 32 : label + 64].decode("ascii", "replace"))
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
_MOST_TOKENS, _DEEPEST = 200_000, 8
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


def _pairs(own: Section, name: str) -> list[tuple[str, str]]:
    """`[name, number, name, number ...]`, or the names of pairs of volumes."""
    values = own.get(name)
    held = values if isinstance(values, list) else []
    return list(zip(held[::2], held[1::2], strict=False))


def _segment(own: Section, extent: int) -> Segment:
    """A stripe of one is a stretch in a row."""
    kind = str(own.get("type") or "")
    on = [
        (disk, int(place) * extent)
        for disk, place in _pairs(own, "stripes") or _pairs(own, "mirrors")
        if place.isdigit() and len(place) < 16
    ]
    if kind.startswith("raid"):
        on = [(image, 0) for _, image in _pairs(own, "raids")]
        if kind == "raid0" and not on:
            held = own.get("raid0_lvs")
            on = [(image, 0) for image in held] if isinstance(held, list) else []
    return Segment(
        _count(own, "start_extent") * extent,
        _count(own, "extent_count") * extent,
        kind,
        tuple(on[:_MOST_DISKS]),
        _count(own, "stripe_size") * _UNIT,
    )


def _group(text: str, own_id: str) -> VolumeGroup:
    name, own = next(
        ((name, value) for name, value in _parsed(text).items() if isinstance(value, dict)), ("", Section())
    )
    extent = _count(own, "extent_size") * _UNIT
    disks = tuple(
        PhysicalVolume(disk, str(value.get("id") or "").replace("-", ""), _count(value, "pe_start") * _UNIT)
        for disk, value in list(_section(own, "physical_volumes").items())[:_MOST_DISKS]
        if isinstance(value, dict)
    )
    this = next((d for d in disks if d.id == own_id), disks[0] if len(disks) == 1 else None)
    volumes: list[LogicalVolume] = []
    for title, volume in list(_section(own, "logical_volumes").items())[:_MOST_VOLUMES]:
        if isinstance(volume, dict):
            found = [s for key, s in volume.items() if key.startswith("segment") and isinstance(s, dict)]
            segments = tuple(sorted((_segment(s, extent) for s in found), key=lambda s: s.first))
            first = segments[0].on[0] if segments and segments[0].on and extent else None
            at = this.data_at + first[1] if this and first and first[0] == this.name else None
            status = volume.get("status")
            shown = not isinstance(status, list) or "VISIBLE" in status
            volumes.append(LogicalVolume(title, at, sum(s.size for s in segments), segments, shown))
    revision = _count(own, "seqno")
    return VolumeGroup(name, tuple(volumes), str(own.get("id") or ""), revision, disks, this)
