"""What every volume reader hands up: its files and folders, where their bytes lie, and what a check finds.

Readers of a kind are `Filesystem`s; nothing outside of `core/volume` knows one kind from another.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Protocol

from gatecheck.core.disk.sectors import Sectors, Span
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.place import Place
from gatecheck.core.words.said import Said

CLEAN, DIRTY, DAMAGED, LOCKED, UNREADABLE = "clean", "dirty", "damaged", "locked", "unreadable"
WHOLE, HOLES, LOST, GONE = "whole", "holes", "lost", "deleted"
"""how much of a file is there"""
NOTE, SIGN, DAMAGE = "note", "sign", "damage"
"""severities: only worth knowing; the volume asks to be checked; something contradicts something"""


@dataclass(frozen=True, slots=True)
class Run:
    """`at`: byte on the disk, None where nothing is stored and zeros are meant; `length` in bytes."""

    at: int | None
    length: int


@dataclass(frozen=True, slots=True)
class Hole:
    """Bytes of a file that could not be read."""

    length: int
    why: str


@dataclass(frozen=True, slots=True)
class Node:
    """A file or folder. `id`: its record, inode or first cluster; `path` from the root, parts joined by `/`;
    `modified`: seconds since 1970, None where not told; `link`: what it points to, where it only points; `opaque`: its
    bytes cannot be read as they are (encrypted, deduplicated …): what they are."""

    id: int
    path: str
    is_folder: bool
    size: int
    modified: float | None = None
    deleted: bool = False
    link: str = ""
    opaque: str = ""


@dataclass(frozen=True, slots=True)
class VolumeFinding:
    """One finding of a check. `where`: file, folder or structure it touches; `count`: how many alike; `repairable`:
    with certainty."""

    id: str
    severity: str
    where: str = ""
    count: int = 1
    repairable: bool = False
    values: dict[str, object] = field(default_factory=dict)

    @property
    def text(self) -> Said:
        return Said(f"volume.{self.id}", {"where": self.where, "count": self.count, **self.values})


@dataclass(frozen=True, slots=True)
class System:
    """An installed system. `root`: its folder."""

    name: str
    version: str
    root: str


class Filesystem(Protocol):
    """An opened volume. `size`, `used` in bytes, `used` None where it is not told."""

    kind: str
    label: str
    size: int

    def nodes(self, *, deleted: bool = False) -> Iterator[Node]:
        """Every file and folder but the root."""
        ...

    def find(self, path: str) -> Node | None: ...

    def content(self, node: Node) -> Iterator[bytes | Hole]:
        """A file's bytes in their order, with holes where they could not be read; together as long as its size."""
        ...

    def shape(self, node: Node) -> str:
        """whole, holes or lost, by where its bytes are said to lie; nothing of them is read."""
        ...

    def runs(self, node: Node) -> Sequence[Run]:
        """Where a file's bytes lie; empty where they lie within its record."""
        ...

    def places(self, lbas: Sequence[int]) -> list[Place]: ...


class Bytes:
    """Bytes of a volume over its disk's sectors."""

    def __init__(self, disk: Sectors, first: int) -> None:
        self.disk, self.base = disk, first * disk.sector

    def span(self, at: int, count: int) -> tuple[Span, int]:
        """(sectors that hold them, byte in there at which they begin). `at`: byte of the volume."""
        place, size = self.base + at, self.disk.sector
        lba = place // size
        return self.disk.read(lba, -(-(place + count) // size) - lba), place - lba * size

    def read(self, at: int, count: int, what: str) -> bytes:
        """Raises MissingSectorError where a sector of them was not read."""
        span, skip = self.span(at, count)
        return span.whole(what)[skip : skip + count]

    def pieces(self, at: int, count: int) -> Iterator[bytes | Hole]:
        """What could be read of them, holes by sector."""
        while count > 0:
            now = min(count, 1 << 20)
            span, skip = self.span(at, now)
            if not span.missing:
                yield span.data[skip : skip + now]
            else:
                yield from self._broken(span, skip, now)
            at, count = at + now, count - now

    @staticmethod
    def _broken(span: Span, skip: int, count: int) -> Iterator[bytes | Hole]:
        place, end = skip, skip + count
        while place < end:
            lba = span.lba + place // span.sector
            why = span.missing.get(lba)
            stop = place
            while stop < end and span.missing.get(span.lba + stop // span.sector) == why:
                stop = min(end, (stop // span.sector + 1) * span.sector)
            yield span.data[place:stop] if why is None else Hole(stop - place, why)
            place = stop


def whole_content(volume: Filesystem, node: Node, most: int) -> bytes:
    """All bytes of a file. Raises DecodeError where some could not be read, or there are more than `most`."""
    if node.size > most:
        raise DecodeError(node.path, at=0, expected=f"at most {most} bytes", got=f"{node.size} bytes")
    parts: list[bytes] = []
    for piece in volume.content(node):
        if isinstance(piece, Hole):
            raise DecodeError(node.path, at=sum(map(len, parts)), expected="bytes that were read", got=piece.why)
        parts.append(piece)
    return b"".join(parts)


def limited(pieces: Iterator[bytes | Hole], size: int) -> Iterator[bytes | Hole]:
    """The same, no longer than `size`; zeros where they end before it."""
    left = size
    for piece in pieces:
        length = piece.length if isinstance(piece, Hole) else len(piece)
        if length > left:
            piece, length = (Hole(left, piece.why) if isinstance(piece, Hole) else piece[:left]), left
        if length:
            yield piece
        left -= length
        if left <= 0:
            return
    while left > 0:
        yield bytes(min(left, 1 << 20))
        left -= min(left, 1 << 20)


def nested(files: Mapping[str, bytes]) -> dict[str, object]:
    """Files by their paths as folders in folders: name -> bytes, or what is below it. For encoders."""
    found: dict[str, object] = {}
    for path, data in files.items():
        *folders, name = path.split("/")
        place = found
        for folder in folders:
            place = place.setdefault(folder, {})  # type: ignore[assignment]
        place[name] = data
    return found


def capital_of(unit: int) -> int:
    """The capital of a unit of UTF-16, as the language has it: what a volume's table of capitals says where it is the
    usual one."""
    own = chr(unit).upper()
    return ord(own) if len(own) == 1 and ord(own) < 1 << 16 else unit
