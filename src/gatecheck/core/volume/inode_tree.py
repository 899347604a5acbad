"""What readers of volumes share whose folders name numbered files: walking, finding by path, reading, telling what
lives where. A reader of a kind says how a file, a folder and a file's stretches are found."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from gatecheck.core.disk.sectors import MissingSectorError, Sectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.place import CATALOGUE, FILE, NOTHING, Place
from gatecheck.core.volume.tree import HOLES, LOST, WHOLE, Bytes, Hole, Node, Run, limited
from gatecheck.core.words.said import say

_DEEPEST, _MOST_LINKS, _PIECE = 254, 16, 1 << 20


@dataclass(frozen=True, slots=True)
class FileStretch:
    """Bytes of a file in a row. `at`: byte of the file; `place`: byte of the volume, None where zeros are meant;
    `inline`: the bytes themselves, where they stand within the file's record; `lost`: why they cannot be read."""

    at: int
    length: int
    place: int | None
    inline: bytes | None = None
    lost: str = ""


class InodeTree:
    """A volume as a `Filesystem`. `top`: number of the root."""

    kind: str
    label: str
    size: int
    top: int
    ignores_case = False
    is_from_copy = False
    """its first structure is broken, and a copy was used"""

    def __init__(self, disk: Sectors, first: int, last: int) -> None:
        self.disk, self.first, self.last = disk, first, last
        self.bytes = Bytes(disk, first)

    # --- what a kind says

    def made(self, number: int, path: str) -> Node:
        """The file or folder of this number. Raises DecodeError."""
        raise NotImplementedError

    def entries(self, number: int) -> Iterator[tuple[str, int]]:
        """(name, number) of what a folder lists, but itself and the one above. Raises DecodeError, after what could be
        read."""
        raise NotImplementedError

    def stretches(self, number: int) -> Iterator[FileStretch]:
        """Where a file's bytes lie, in their order. Raises DecodeError."""
        raise NotImplementedError

    def own_place(self, at: int) -> Place | None:
        """What of the volume's own lives at this byte of it; None where that is not said by its place alone."""
        return None

    def rest_place(self, at: int) -> Place:
        """What lives at a byte of the volume that no file holds."""
        return Place(say("where.free"), None, NOTHING)

    # --- what all share

    def below(self, number: int) -> list[tuple[str, int]]:
        """What could be read of a folder."""
        found = []
        try:
            for entry in self.entries(number):
                found.append(entry)
        except DecodeError:
            pass  # the check names it; what stands before it is there
        return found

    def nodes(self, *, deleted: bool = False) -> Iterator[Node]:
        """Everything that the folders lead to. What was deleted leaves no trace here that could be followed."""
        if deleted:
            return
        waiting, seen = [(self.top, "")], {self.top}
        while waiting:
            number, path = waiting.pop()
            for name, target in self.below(number):
                place = f"{path}/{name}" if path else name
                try:
                    node = self.made(target, place)
                except DecodeError:
                    continue
                yield node
                if node.is_folder and target not in seen and place.count("/") < _DEEPEST:
                    seen.add(target)
                    waiting.append((target, place))

    def find(self, path: str) -> Node | None:
        """By path from the root; links are followed."""
        return self._find(path, 0)

    def _find(self, path: str, depth: int) -> Node | None:
        number, done = self.top, ""
        parts = [p for p in path.split("/") if p]
        try:
            node = self.made(number, "")
            for place, part in enumerate(parts):
                target = self._named(number, part) if node.is_folder else None
                if target is None:
                    return None
                number, done = target[1], f"{done}/{target[0]}" if done else target[0]
                node = self.made(number, done)
                if node.link and depth < _MOST_LINKS:
                    before = [] if node.link.startswith("/") else parts[:place]
                    steps: list[str] = []
                    for step in [*before, *node.link.split("/"), *parts[place + 1 :]]:
                        steps = steps[:-1] if step == ".." else [*steps, step] if step not in ("", ".") else steps
                    return self._find("/".join(steps), depth + 1)
        except DecodeError:
            return None
        return node

    def _named(self, number: int, name: str) -> tuple[str, int] | None:
        found = self.below(number)
        own = next((e for e in found if e[0] == name), None)
        if own is None and self.ignores_case:
            own = next((e for e in found if e[0].casefold() == name.casefold()), None)
        return own

    def content(self, node: Node) -> Iterator[bytes | Hole]:
        yield from limited(self._pieces(node), node.size)

    def _pieces(self, node: Node) -> Iterator[bytes | Hole]:
        at = 0
        try:
            for own in self.stretches(node.id):
                if own.at > at:
                    yield from zeros(min(own.at, node.size) - at)
                    at = own.at
                skip = at - own.at
                length = min(own.length - skip, node.size - at)
                if length <= 0:
                    continue
                yield from self._stored(own, skip, length)
                at += length
        except DecodeError as error:
            if node.size > at:
                yield Hole(node.size - at, str(error))

    def _stored(self, own: FileStretch, skip: int, length: int) -> Iterator[bytes | Hole]:
        if own.lost:
            yield Hole(length, own.lost)
        elif own.inline is not None:
            yield from limited(iter([own.inline[skip:]]), length)
        elif own.place is None:
            yield from zeros(length)
        else:
            yield from self.bytes.pieces(own.place + skip, length)

    def shape(self, node: Node) -> str:
        """whole, holes or lost, by where its bytes are said to lie."""
        try:
            found = [not own.lost for own in self.stretches(node.id) if own.at < node.size]
        except DecodeError:
            return LOST
        return WHOLE if all(found) else HOLES if any(found) else LOST

    def runs(self, node: Node) -> Sequence[Run]:
        return [
            Run(None if own.place is None else self.bytes.base + own.place, own.length)
            for own in self.stretches(node.id)
            if own.inline is None and not own.lost
        ]

    def places(self, lbas: Sequence[int]) -> list[Place]:
        wanted = {lba: (lba - self.first) * self.disk.sector for lba in lbas}
        found: dict[int, Place] = {}
        for lba, at in wanted.items():
            own = self.own_place(at)
            if own is not None:
                found[lba] = own
        inside = {lba: at for lba, at in wanted.items() if lba not in found}
        if inside:
            for number, path, is_folder in [(self.top, "", True), *((n.id, n.path, n.is_folder) for n in self.nodes())]:
                for lba, at in list(inside.items()):
                    if self._holds(number, at):
                        what = say("where.folder") if is_folder else say("where.file")
                        found[lba] = Place(what, path or "/", CATALOGUE if is_folder else FILE)
                        del inside[lba]
                if not inside:
                    break
        return [found.get(lba) or self.rest_place(wanted[lba]) for lba in lbas]

    def _holds(self, number: int, at: int) -> bool:
        try:
            return any(o.place is not None and o.place <= at < o.place + o.length for o in self.stretches(number))
        except DecodeError:
            return False


def id_of(error: DecodeError, otherwise: str) -> str:
    """Id of the finding: a place that was not read, or what else it is."""
    return "unreadable" if isinstance(error, MissingSectorError) else otherwise


def zeros(count: int) -> Iterator[bytes]:
    """So many zeros, in pieces."""
    while count > 0:
        yield bytes(min(count, _PIECE))
        count -= _PIECE
