"""Event logs made up, for practice machines and tests: one template for each set of names, used again in its chunk."""

from __future__ import annotations

import hashlib
import struct
import zlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from gatecheck.core.records.evtx import CHUNK

_FROM_1601 = 11_644_473_600
_SYSTEM = ("EventID", "Level", "EventRecordID", "Channel", "Computer")


@dataclass(frozen=True, slots=True)
class Made:
    """`at`: seconds since 1970."""

    at: float
    source: str
    id: int
    data: Mapping[str, str] = field(default_factory=dict)
    level: int = 4


def event_log(events: Sequence[Made], *, computer: str = "BENCH-PC", channel: str = "System") -> bytes:
    chunks: list[bytes] = []
    waiting = list(enumerate(events, 1))
    while waiting:
        own = _Chunk(waiting[0][0], computer, channel)
        while waiting and own.add(*waiting[0]):
            waiting.pop(0)
        chunks.append(own.whole())
    head = struct.pack(
        "<8sQQQIHHHH", b"ElfFile\0", 0, max(0, len(chunks) - 1), len(events) + 1, 128, 1, 3, 4096, len(chunks)
    )
    head += bytes(120 - len(head))
    head += struct.pack("<II", 0, zlib.crc32(head))
    return head + bytes(4096 - len(head)) + b"".join(chunks)


class _Chunk:
    def __init__(self, first: int, computer: str, channel: str) -> None:
        self.out, self.first, self.last = bytearray(512), first, first - 1
        self.computer, self.channel = computer, channel
        self.names: dict[str, int] = {}
        self.templates: dict[tuple[str, ...], int] = {}
        self.last_at = 0

    def add(self, number: int, event: Made) -> bool:
        """False where it has no room here."""
        before, names, templates = len(self.out), dict(self.names), dict(self.templates)
        ticks = int((event.at + _FROM_1601) * 10_000_000)
        self.out += struct.pack("<IIQQ", 0x00002A2A, 0, number, ticks) + b"\x0f\x01\x01\0"
        shape = tuple(event.data)
        where = self.templates.get(shape)
        self.out += struct.pack("<BBII", 0x0C, 1, len(shape), where or len(self.out) + 10)
        if where is None:
            self.templates[shape] = len(self.out)
            self._template(shape)
        values: list[tuple[int, bytes]] = [
            (1, event.source.encode("utf-16-le")), (17, struct.pack("<Q", ticks)),
            (6, struct.pack("<H", event.id)), (4, bytes([event.level])), (10, struct.pack("<Q", number)),
            (1, self.channel.encode("utf-16-le")), (1, self.computer.encode("utf-16-le")),
            *((1, text.encode("utf-16-le")) for text in event.data.values()),
        ]  # fmt: skip
        self.out += struct.pack("<I", len(values))
        self.out += b"".join(struct.pack("<HBB", len(raw), kind, 0) for kind, raw in values)
        self.out += b"".join(raw for _, raw in values)
        self.out += bytes(-(len(self.out) - before + 4) % 8)
        size = len(self.out) - before + 4
        self.out += struct.pack("<I", size)
        if len(self.out) > CHUNK:
            del self.out[before:]
            self.names, self.templates = names, templates
            return False
        struct.pack_into("<I", self.out, before + 4, size)
        self.last, self.last_at = number, before
        return True

    def whole(self) -> bytes:
        end = len(self.out)
        struct.pack_into(
            "<8sQQQQIIII", self.out, 0, b"ElfChnk\0", self.first, self.last, self.first, self.last, 128, self.last_at,
            end, zlib.crc32(self.out[512:end]),
        )  # fmt: skip
        struct.pack_into("<I", self.out, 124, zlib.crc32(self.out[128:512], zlib.crc32(self.out[:120])))
        return bytes(self.out) + bytes(CHUNK - end)

    def _template(self, shape: tuple[str, ...]) -> None:
        start = len(self.out)
        self.out += bytes(4) + hashlib.md5("|".join(shape).encode(), usedforsecurity=False).digest() + bytes(4)
        self.out += b"\x0f\x01\x01\0"
        event = self._open("Event")
        system = self._open("System")
        self._empty("Provider", "Name", 0, 1)
        for place, name in enumerate(_SYSTEM):
            if name == "EventRecordID":
                self._empty("TimeCreated", "SystemTime", 1, 17)
            own = self._open(name)
            self._put_value(2 + place, (6, 4, 10, 1, 1)[place])
            self._close(own)
        self._close(system)
        data = self._open("EventData")
        for place, name in enumerate(shape):
            own = self._open("Data", ("Name", name))
            self._put_value(7 + place, 1)
            self._close(own)
        self._close(data)
        self._close(event)
        self.out += b"\0"
        struct.pack_into("<I", self.out, start + 20, len(self.out) - start - 24)

    def _name(self, name: str) -> None:
        where = self.names.get(name)
        if where is not None:
            self.out += struct.pack("<I", where)
            return
        self.names[name] = len(self.out) + 4
        mix = 0
        for letter in name:
            mix = (mix * 65_599 + ord(letter)) & 0xFFFFFFFF
        self.out += struct.pack("<IIHH", len(self.out) + 4, 0, mix & 0xFFFF, len(name))
        self.out += name.encode("utf-16-le") + bytes(2)

    def _open(self, name: str, attribute: tuple[str, str] | None = None) -> int:
        self.out += struct.pack("<BHI", 0x41 if attribute else 0x01, 0xFFFF, 0)
        start = len(self.out)
        self._name(name)
        if attribute:
            self.out += bytes(4)
            size_at = len(self.out)
            self.out += b"\x06"
            self._name(attribute[0])
            self.out += struct.pack("<BBH", 0x05, 1, len(attribute[1])) + attribute[1].encode("utf-16-le")
            struct.pack_into("<I", self.out, size_at - 4, len(self.out) - size_at)
        self.out += b"\x02"
        return start

    def _close(self, start: int) -> None:
        self.out += b"\x04"
        struct.pack_into("<I", self.out, start - 4, len(self.out) - start)

    def _empty(self, name: str, attribute: str, index: int, kind: int) -> None:
        self.out += struct.pack("<BHI", 0x41, 0xFFFF, 0)
        start = len(self.out)
        self._name(name)
        self.out += bytes(4)
        size_at = len(self.out)
        self.out += b"\x06"
        self._name(attribute)
        self._put_value(index, kind)
        struct.pack_into("<I", self.out, size_at - 4, len(self.out) - size_at)
        self.out += b"\x03"
        struct.pack_into("<I", self.out, start - 4, len(self.out) - start)

    def _put_value(self, index: int, kind: int) -> None:
        self.out += struct.pack("<BHB", 0x0D, index, kind)
