"""Event logs (EVTX): chunks, records, and the binary XML of each by its template.

The format as it is publicly documented; little-endian. A chunk or record that is torn takes no other away.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from uuid import UUID

from gatecheck.core.errors import DecodeError
from gatecheck.core.records.moments import iso, of_filetime

_HEAD, CHUNK = 4096, 65_536
_RECORD = 0x00002A2A
_MOST_VALUES, _DEEPEST, _MOST_PARTS = 4096, 64, 20_000
_SUBSTITUTIONS = (0x0D, 0x0E)


@dataclass(frozen=True, slots=True)
class Event:
    """`at`: seconds since 1970, of the record's own header; `data`: name (or place) -> text of what the event tells."""

    record: int
    at: float | None
    source: str
    id: int
    level: int | None
    computer: str
    data: dict[str, str] = field(default_factory=dict)


@dataclass(slots=True)
class Log:
    """`torn`: what is not as it should be, in words, the first ten; `lost`: records among it could not be read."""

    records: int = 0
    torn: list[str] = field(default_factory=list)
    first: float | None = None
    last: float | None = None
    lost: bool = False

    def note(self, said: str, *, lost: bool = False) -> None:
        self.lost = self.lost or lost
        if len(self.torn) < 10:
            self.torn.append(said)


def read_events(raw: bytes, log: Log) -> Iterator[Event]:
    """Every record that can be read, chunk by chunk; what cannot is noted. Raises DecodeError where it is no such
    log."""
    if raw[:8] != b"ElfFile\0" and b"ElfChnk\0" not in raw[: _HEAD + 8]:
        raise DecodeError("event log", at=0, expected="ElfFile", got=raw[:8].hex() or "nothing")
    start = int.from_bytes(raw[40:42], "little") if raw[:8] == b"ElfFile\0" else _HEAD
    for at in range(start if start in (4096, 65_536) else _HEAD, len(raw), CHUNK):
        chunk = raw[at : at + CHUNK]
        if chunk[:8] != b"ElfChnk\0":
            if any(chunk[:512]):
                log.note(f"no chunk at byte {at}", lost=True)
            continue
        if len(chunk) < CHUNK:
            log.note(f"the chunk at byte {at} is cut short", lost=True)
        yield from _Chunk(chunk, at, log).events()


@dataclass(slots=True)
class _Element:
    name: str
    attributes: list[tuple[str, list[object]]] = field(default_factory=list)
    content: list[object] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class _Substitution:
    index: int


class _Chunk:
    def __init__(self, raw: bytes, at: int, log: Log) -> None:
        self.raw, self.at, self.log = raw, at, log
        self.templates: dict[int, tuple[list[object], int]] = {}
        end = int.from_bytes(raw[48:52], "little")
        self.end = end if 512 <= end <= len(raw) else len(raw)
        if zlib.crc32(raw[128:512], zlib.crc32(raw[:120])) != int.from_bytes(raw[124:128], "little"):
            log.note(f"the head of the chunk at byte {at} has a wrong checksum")
        if zlib.crc32(raw[512 : self.end]) != int.from_bytes(raw[52:56], "little"):
            log.note(f"the chunk at byte {at} has a wrong checksum: it was being written, or is damaged")

    def events(self) -> Iterator[Event]:
        at, before = 512, 0
        while at + 28 <= len(self.raw):
            magic, size, number, when = struct.unpack_from("<IIQQ", self.raw, at)
            if at >= self.end and number != before + 1:
                return  # behind its end only what goes on is of this chunk: it was written, and its head was not yet
            if magic != _RECORD or not 28 <= size <= len(self.raw) - at:
                if at < self.end:
                    found = self.raw.find(struct.pack("<I", _RECORD), at + 4, self.end)
                    self.log.note(f"no record at byte {self.at + at}", lost=True)
                    if found >= 0:
                        at = found
                        continue
                return
            moment = of_filetime(when)
            try:
                yield self._event(at + 24, at + size - 4, number, moment)
                self.log.records += 1
                if moment is not None:
                    self.log.first = moment if self.log.first is None else min(self.log.first, moment)
                    self.log.last = moment if self.log.last is None else max(self.log.last, moment)
            except (DecodeError, struct.error, IndexError, ValueError, OverflowError) as error:
                self.log.note(f"record {number}: {error}", lost=True)
            at, before = at + size, number

    def _event(self, at: int, end: int, number: int, moment: float | None) -> Event:
        root = _elements(self._fragment(at, end, 0))
        event = next((e for e in root if e.name == "Event"), None)
        if event is None:
            raise DecodeError("event record", at=self.at + at, expected="Event", got="nothing")
        parts = {e.name: e for e in _elements(event.content)}
        system = {e.name: e for e in _elements(parts["System"].content)} if "System" in parts else {}
        data: dict[str, str] = {}
        for name in ("EventData", "UserData"):
            if name in parts:
                _told(parts[name], data)
        source = _attribute(system.get("Provider"), "Name") or _attribute(system.get("Provider"), "EventSourceName")
        identity = _text(system["EventID"].content) if "EventID" in system else ""
        level = _text(system["Level"].content) if "Level" in system else ""
        return Event(
            number,
            moment,
            source,
            int(identity) if identity.isdigit() else -1,
            int(level) if level.isdigit() else None,
            _text(system["Computer"].content) if "Computer" in system else "",
            data,
        )

    def _fragment(self, at: int, end: int, depth: int) -> list[object]:
        if depth > _DEEPEST:
            raise DecodeError("binary XML", at=self.at + at, expected=f"at most {_DEEPEST} levels", got="more")
        if self.raw[at] == 0x0F:
            at += 4
        if self.raw[at] != 0x0C:
            return self._parsed(at, end, depth, in_template=False)[0]
        where = int.from_bytes(self.raw[at + 6 : at + 10], "little")
        at += 10
        content, length = self._template(where, depth)
        if where == at:
            at += 24 + length
        count = int.from_bytes(self.raw[at : at + 4], "little")
        if count > _MOST_VALUES:
            raise DecodeError("binary XML", at=self.at + at, expected=f"at most {_MOST_VALUES} values", got=count)
        kinds = [struct.unpack_from("<HB", self.raw, at + 4 + 4 * n) for n in range(count)]
        at += 4 + 4 * count
        values: list[object] = []
        for size, kind in kinds:
            if at + size > end:
                raise DecodeError("binary XML", at=self.at + at, expected="a value inside its record", got=size)
            values.append(
                self._fragment(at, at + size, depth + 1)
                if kind == 0x21 and size
                else _shown(kind, self.raw[at : at + size])
            )
            at += size
        return _filled(content, values, 0, [_MOST_PARTS])

    def _template(self, at: int, depth: int) -> tuple[list[object], int]:
        if at not in self.templates:
            if not 512 <= at <= len(self.raw) - 24:
                raise DecodeError("binary XML", at=self.at + at, expected="a template in its chunk", got=at)
            length = int.from_bytes(self.raw[at + 20 : at + 24], "little")
            if at + 24 + length > len(self.raw):
                raise DecodeError("binary XML", at=self.at + at, expected="a template in its chunk", got=length)
            start = at + 24
            start += 4 if self.raw[start] == 0x0F else 0
            self.templates[at] = (self._parsed(start, at + 24 + length, depth, in_template=True)[0], length)
        return self.templates[at]

    def _named(self, at: int) -> tuple[str, int]:
        """(name, byte behind its offset, and behind the name where it stands here)."""
        where = int.from_bytes(self.raw[at : at + 4], "little")
        at += 4
        count = int.from_bytes(self.raw[where + 6 : where + 8], "little")
        if where + 8 + 2 * count > len(self.raw):
            raise DecodeError("binary XML", at=self.at + at, expected="a name in its chunk", got=where)
        name = self.raw[where + 8 : where + 8 + 2 * count].decode("utf-16-le", "replace")
        return name, at + 10 + 2 * count if where == at else at

    def _parsed(self, at: int, end: int, depth: int, *, in_template: bool) -> tuple[list[object], int]:
        """(what is there, byte behind it), until it ends or its element does."""
        out: list[object] = []
        if depth > _DEEPEST:
            raise DecodeError("binary XML", at=self.at + at, expected=f"at most {_DEEPEST} levels", got="more")
        while at < end:
            token = self.raw[at]
            at += 1
            kind = token & ~0x40
            if token in (0x00, 0x04):
                return out, at
            if kind == 0x01:
                at += 2 if in_template else 0
                name, at = self._named(at + 4)
                at += 4 if token & 0x40 else 0
                own = _Element(name)
                while self.raw[at] & ~0x40 == 0x06:
                    attribute, at = self._named(at + 1)
                    value, at = self._valued(at)
                    own.attributes.append((attribute, value))
                if self.raw[at] == 0x02:
                    own.content, at = self._parsed(at + 1, end, depth + 1, in_template=in_template)
                elif self.raw[at] == 0x03:
                    at += 1
                else:
                    raise DecodeError("binary XML", at=self.at + at, expected="the end of a tag", got=self.raw[at])
                out.append(own)
            else:
                value, after = self._valued(at - 1)
                if after < at:
                    raise DecodeError("binary XML", at=self.at + at, expected="a token that may stand here", got=token)
                out, at = out + value, after
        return out, at

    def _valued(self, at: int) -> tuple[list[object], int]:
        """The text of an attribute or between tags."""
        out: list[object] = []
        while True:
            token = self.raw[at]
            kind = token & ~0x40
            if kind == 0x05:
                count = int.from_bytes(self.raw[at + 2 : at + 4], "little")
                out.append(self.raw[at + 4 : at + 4 + 2 * count].decode("utf-16-le", "replace"))
                at += 4 + 2 * count
            elif token in _SUBSTITUTIONS:
                out.append(_Substitution(int.from_bytes(self.raw[at + 1 : at + 3], "little")))
                at += 4
            elif kind == 0x07:
                count = int.from_bytes(self.raw[at + 1 : at + 3], "little")
                out.append(self.raw[at + 3 : at + 3 + 2 * count].decode("utf-16-le", "replace"))
                at += 3 + 2 * count
            elif kind == 0x08:
                out.append(chr(int.from_bytes(self.raw[at + 1 : at + 3], "little")))
                at += 3
            elif kind == 0x09:
                name, at = self._named(at + 1)
                out.append({"amp": "&", "lt": "<", "gt": ">", "quot": '"', "apos": "'"}.get(name, ""))
            elif out or kind in (0x06, 0x02, 0x03):
                return out, at
            else:
                raise DecodeError("binary XML", at=self.at + at, expected="a token that is known", got=token)
            if self.raw[at] & ~0x40 not in (0x05, 0x07, 0x08, 0x09) and self.raw[at] not in _SUBSTITUTIONS:
                return out, at


def _filled(content: Sequence[object], values: Sequence[object], depth: int, room: list[int]) -> list[object]:
    """A template with its values; `room`: how many parts there may be yet, for a value may be asked for again and
    again."""
    out: list[object] = []
    for item in content:
        if isinstance(item, _Substitution):
            value = values[item.index] if item.index < len(values) else ""
            out += value if isinstance(value, list) else [value]
            room[0] -= len(value) if isinstance(value, list) else 1
        elif isinstance(item, _Element) and depth < _DEEPEST:
            attributes = [(name, _filled(value, values, depth + 1, room)) for name, value in item.attributes]
            out.append(_Element(item.name, attributes, _filled(item.content, values, depth + 1, room)))
            room[0] -= 1
        else:
            out.append(item)
            room[0] -= 1
        if room[0] < 0:
            raise DecodeError("binary XML", at=0, expected=f"at most {_MOST_PARTS} parts", got="more")
    return out


def _elements(content: Sequence[object]) -> list[_Element]:
    return [e for e in content if isinstance(e, _Element)]


def _text(content: Sequence[object]) -> str:
    return "".join(str(part) for part in content if isinstance(part, str))


def _attribute(own: _Element | None, name: str) -> str:
    return next((_text(value) for key, value in own.attributes if key == name), "") if own else ""


def _told(own: _Element, data: dict[str, str], depth: int = 0) -> None:
    for part in _elements(own.content):
        below = _elements(part.content)
        if below and depth < 4:
            _told(part, data, depth + 1)
        else:
            data[_attribute(part, "Name") or (str(len(data)) if part.name == "Data" else part.name)] = _text(
                part.content
            )


_NUMBERS = {3: "<b", 4: "<B", 5: "<h", 6: "<H", 7: "<i", 8: "<I", 9: "<q", 10: "<Q", 11: "<f", 12: "<d"}


def _shown(kind: int, raw: bytes) -> str:
    """A value as text."""
    if kind == 1:
        return raw.decode("utf-16-le", "replace").rstrip("\0")
    if kind == 0x81:
        return "\n".join(part for part in raw.decode("utf-16-le", "replace").split("\0") if part)
    if kind == 2:
        return raw.decode("latin-1").rstrip("\0")
    if kind in _NUMBERS and len(raw) == struct.calcsize(_NUMBERS[kind]):
        return str(struct.unpack(_NUMBERS[kind], raw)[0])
    if kind == 13:
        return "true" if any(raw) else "false"
    if kind == 15 and len(raw) == 16:
        return "{" + str(UUID(bytes_le=raw)) + "}"
    if kind == 17 and len(raw) == 8:
        return iso(of_filetime(int.from_bytes(raw, "little"))) or ""
    if kind in (16, 20, 21):
        return f"0x{int.from_bytes(raw, 'little'):x}"
    return raw.hex() if kind == 14 else ""
