"""exFAT: boot sector, table, map of clusters, folders of entry sets, files.

Microsoft, "exFAT file system specification": 3.1 (boot sector), 4 (FAT), 6 and 7 (directory entries).
"""

from __future__ import annotations

import calendar
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise

import numpy as np

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.names import name_of_utf16
from gatecheck.core.volume.place import BOOT, CATALOGUE, FILE, NOTHING, Place
from gatecheck.core.volume.tree import HOLES, LOST, WHOLE, Bytes, Hole, Node, Run, capital_of, limited
from gatecheck.core.words.said import Said, say

ENTRY, FILE_ENTRY, STREAM, NAME, BITMAP, UPCASE, LABEL = 32, 0x85, 0xC0, 0xC1, 0x81, 0x82, 0x83
IN_USE, FOLDER, NO_CHAIN = 0x80, 0x10, 0x02
END, BAD = 0xFFFFFFFF, 0xFFFFFFF7
LETTERS, USUAL_SUM, USUAL_SIZE = 15, 0xE619D30D, 5836
"""of a name in one entry; of the table of capitals that the specification recommends"""
_DEEPEST, _MOST_FOLDER, _LARGEST_TABLE, _CAPITALS = 64, 256 << 20, 1 << 30, 1 << 20
_PRIMARY = (BITMAP, UPCASE, LABEL, FILE_ENTRY, 0xA0, 0xA1, 0xA2)
"""kinds of first entries; the last three: the volume's number, and what only old systems write"""
_FEWEST, _NAMELESS = 3, "?"
"""entries of a set; what a set is called whose name is gone"""


@dataclass(frozen=True, slots=True)
class Set:
    """An entry set: a file or folder as its folder tells of it. `at`: byte of the volume; `sound`: its sum fits and its
    parts are all there."""

    at: int
    count: int
    name: str
    attributes: int
    cluster: int
    size: int
    valid: int
    contiguous: bool
    modified: float | None
    deleted: bool
    sound: bool
    ats: tuple[int, ...]
    """bytes of the volume at which its entries stand: they may go on in another cluster"""
    raw: bytes

    @property
    def is_folder(self) -> bool:
        return bool(self.attributes & FOLDER)


class ExFat:
    """Raises DecodeError where the boot sector cannot be worked with."""

    kind = "exFAT"

    def __init__(self, disk: Sectors, first: int, last: int) -> None:
        self.disk, self.first, self.last = disk, first, last
        self.bytes = Bytes(disk, first)
        raw = self.bytes.read(0, 512, "exFAT boot sector")
        if raw[3:11] != b"EXFAT   ":
            raise DecodeError("exFAT boot sector", at=3, expected="EXFAT", got=raw[3:11].hex())
        if not 9 <= raw[108] <= 12 or raw[109] > 25 - raw[108] or raw[110] not in (1, 2):
            raise DecodeError(
                "exFAT boot sector sizes",
                at=108,
                expected="2^9 to 2^12, clusters of up to 32 MiB, one or two tables",
                got=raw[108:111].hex(),
            )
        self.sector, self.cluster = 1 << raw[108], 1 << (raw[108] + raw[109])
        self.size = int.from_bytes(raw[72:80], "little") * self.sector
        self.fat_at, self.fat_length, self.heap = (
            int.from_bytes(raw[n : n + 4], "little") * self.sector for n in (80, 84, 88)
        )
        self.clusters, self.root = int.from_bytes(raw[92:96], "little"), int.from_bytes(raw[96:100], "little")
        self.flags, self.percent = int.from_bytes(raw[106:108], "little"), raw[112]
        self.fats = raw[110]
        if (
            not self.clusters
            or self.heap + self.clusters * self.cluster > self.size
            or self.fat_length < 4 * (self.clusters + 2)
            or not 2 <= self.root < self.clusters + 2
            or self.fat_length > _LARGEST_TABLE
        ):
            raise DecodeError(
                "exFAT boot sector",
                at=80,
                expected="table and clusters within the volume",
                got=f"{self.clusters} clusters, table of {self.fat_length} bytes",
            )
        self._table: np.ndarray | None = None
        self.bitmap_cluster, self.bitmap_size, self.upcase = 0, 0, (0, 0, 0)
        self.label = ""
        self._root_entries()

    def _root_entries(self) -> None:
        for _, raw in self._entries(self.root, 0, contiguous=False):
            if raw[0] == LABEL:
                self.label = raw[2 : 2 + 2 * min(raw[1], 11)].decode("utf-16-le", "replace")
            elif raw[0] == BITMAP and not raw[1] & 1:
                self.bitmap_cluster, self.bitmap_size = (
                    int.from_bytes(raw[20:24], "little"),
                    int.from_bytes(raw[24:32], "little"),
                )
            elif raw[0] == UPCASE:
                self.upcase = (
                    int.from_bytes(raw[20:24], "little"),
                    int.from_bytes(raw[24:32], "little"),
                    int.from_bytes(raw[4:8], "little"),
                )

    @property
    def table(self) -> np.ndarray:
        """The entries of the active FAT; zeros where a sector of it is missing."""
        if self._table is None:
            active = self.fat_at + (self.fat_length if self.flags & 1 and self.fats == 2 else 0)
            span, skip = self.bytes.span(active, 4 * (self.clusters + 2))
            self._table = np.frombuffer(span.data, "<u4", count=self.clusters + 2, offset=skip)
        return self._table

    def at(self, cluster: int) -> int:
        return self.heap + (cluster - 2) * self.cluster

    def chain(self, cluster: int, size: int, *, contiguous: bool) -> list[int]:
        """Clusters of a file as far as they hang together; `size` 0: to the chain's end."""
        need = -(-size // self.cluster) if size else self.clusters
        if contiguous:
            return list(range(cluster, min(cluster + need, self.clusters + 2))) if cluster >= 2 else []
        found: list[int] = []
        seen: set[int] = set()
        while 2 <= cluster < self.clusters + 2 and len(found) < need and cluster not in seen:
            found.append(cluster)
            seen.add(cluster)
            cluster = int(self.table[cluster])
        return found

    def _entries(
        self, cluster: int, size: int, *, contiguous: bool, whole: bool = False
    ) -> Iterator[tuple[int, bytes]]:
        """(byte of the volume, entry) of a folder up to its end, or of all its room."""
        done = 0
        for number in self.chain(cluster, size, contiguous=contiguous):
            start = self.at(number)
            span, skip = self.bytes.span(start, self.cluster)
            for place in range(0, self.cluster, ENTRY):
                raw = span.data[skip + place : skip + place + ENTRY]
                if span.missing and span.lba + (skip + place) // span.sector in span.missing:
                    continue
                if raw[0] == 0 and not whole:
                    return
                yield start + place, raw
            done += self.cluster
            if done > _MOST_FOLDER:
                return

    def false_ends(self, cluster: int, size: int, *, contiguous: bool) -> list[int]:
        """Bytes of the volume at which a folder's list ends although a whole set in use, its sum and all, stands behind
        it."""
        if not self._has_more(cluster, size, contiguous=contiguous):
            return []
        entries = list(self._entries(cluster, size, contiguous=contiguous, whole=True))
        ends = [n for n, (_, raw) in enumerate(entries) if raw[0] == 0]
        behind = [
            own.at
            for own in self._sets(entry for entry in entries[ends[0] if ends else len(entries) :] if entry[1][0])
            if own.sound and not own.deleted
        ]
        places = {at: n for n, (at, _) in enumerate(entries)}
        return [entries[n][0] for n in ends if behind and n < places[behind[-1]]]

    def _has_more(self, cluster: int, size: int, *, contiguous: bool) -> bool:
        """Anything but zeros stands behind the end of a folder's list, in its room."""
        done = sum(1 for _ in self._entries(cluster, size, contiguous=contiguous)) * ENTRY
        for number in self.chain(cluster, size, contiguous=contiguous)[
            done // self.cluster : _MOST_FOLDER // self.cluster + 1
        ]:
            span, skip = self.bytes.span(self.at(number), self.cluster)
            if span.data[skip + done % self.cluster : skip + self.cluster].strip(b"\0"):
                return True
            done = 0
        return False

    def sets(self, cluster: int, size: int, *, contiguous: bool) -> Iterator[Set]:
        """All entry sets of a folder, deleted ones too."""
        return self._sets(self._entries(cluster, size, contiguous=contiguous))

    @staticmethod
    def _sets(entries: Iterable[tuple[int, bytes]]) -> Iterator[Set]:
        waiting: list[tuple[int, bytes]] = []
        need = 0
        for at, raw in entries:
            kind = raw[0] | IN_USE
            if kind == FILE_ENTRY:
                if waiting:
                    yield _set(waiting, need)
                waiting, need = [(at, raw)], max(_FEWEST, raw[1] + 1)
            elif (waiting and kind in (STREAM, NAME)) or (waiting and kind & 0x40):
                waiting.append((at, raw))
                if kind == STREAM and len(waiting) == 2:  # whichever says more: the count, or the letters of the name
                    need = max(need, 2 + -(-raw[3] // LETTERS))
            if waiting and len(waiting) >= need:
                yield _set(waiting, need)
                waiting = []
        if waiting:
            yield _set(waiting, need)

    def orphans(self, cluster: int, size: int, *, contiguous: bool) -> Iterator[int]:
        """Bytes of the volume of entries in use that go on a set which does not stand before them, or are of no kind
        that there is."""
        left = 0
        for at, raw in self._entries(cluster, size, contiguous=contiguous):
            if raw[0] | IN_USE == FILE_ENTRY:
                left = raw[1]
            elif raw[0] & (IN_USE | 0x40) == IN_USE | 0x40:
                if left == 0:
                    yield at
                left = max(0, left - 1)
            elif raw[0] & 0x40 and left:
                left -= 1
            elif raw[0] & IN_USE and raw[0] not in _PRIMARY:
                yield at
            else:
                left = 0

    def _node(self, own: Set, path: str) -> Node:
        return Node(-own.at, path, own.is_folder, 0 if own.is_folder else own.size, own.modified, own.deleted)

    def walk(self) -> Iterator[tuple[Set, str]]:
        """(entry set, path) of everything, deleted sets of live folders too."""
        waiting, seen = [(self.root, 0, False, "", 0)], {self.root}
        while waiting:
            cluster, size, contiguous, path, depth = waiting.pop()
            for own in self.sets(cluster, size, contiguous=contiguous):
                place = f"{path}/{own.name or _NAMELESS}" if path else own.name or _NAMELESS
                yield own, place
                if own.is_folder and not own.deleted and own.cluster not in seen and depth < _DEEPEST and own.size:
                    seen.add(own.cluster)
                    waiting.append((own.cluster, own.size, own.contiguous, place, depth + 1))

    def nodes(self, *, deleted: bool = False) -> Iterator[Node]:
        for own, path in self.walk():
            if own.deleted == deleted:
                yield self._node(own, path)

    def find(self, path: str) -> Node | None:
        """By path, whatever its case."""
        cluster, size, contiguous, node, done = self.root, 0, False, Node(0, "", True, 0), ""
        for part in [p for p in path.replace("\\", "/").split("/") if p]:
            own = (
                next(
                    (
                        s
                        for s in self.sets(cluster, size, contiguous=contiguous)
                        if not s.deleted and s.name.lower() == part.lower()
                    ),
                    None,
                )
                if node.is_folder
                else None
            )
            if own is None:
                return None
            done = f"{done}/{own.name}" if done else own.name
            cluster, size, contiguous, node = own.cluster, own.size, own.contiguous, self._node(own, done)
        return node

    def set_of(self, node: Node) -> Set:
        """Raises DecodeError where it cannot be read."""
        raw = self.bytes.read(-node.id, ENTRY, "entry set")
        count = raw[1] + 1
        # an entry set may go over the end of a cluster that another one does not follow: then it is looked for in its
        # folder
        if (-node.id - self.heap) % self.cluster + count * ENTRY <= self.cluster:
            whole = self.bytes.read(-node.id, ENTRY * count, "entry set")
            return _set([(n * ENTRY - node.id, whole[n * ENTRY : (n + 1) * ENTRY]) for n in range(count)], count)
        found = next((own for own, _ in self.walk() if own.at == -node.id), None)
        if found is None:
            raise DecodeError("entry set", at=-node.id, expected="one in a folder", got="none")
        return found

    def content(self, node: Node) -> Iterator[bytes | Hole]:
        own = self.set_of(node)
        yield from limited(self._pieces(own), own.size)

    def _pieces(self, own: Set) -> Iterator[bytes | Hole]:
        at = 0
        for number in self.chain(own.cluster, own.size, contiguous=own.contiguous or own.deleted):
            take = min(self.cluster, own.size - at)
            real = max(0, min(take, own.valid - at))
            yield from self.bytes.pieces(self.at(number), real)
            if take > real:
                yield bytes(take - real)
            at += take
        if at < own.size:
            yield Hole(own.size - at, "its chain ends before its size")

    def shape(self, node: Node) -> str:
        """whole, holes or lost, by where its bytes are said to lie."""
        try:
            held = sum(r.length for r in self.runs(node))
        except DecodeError:
            return LOST
        return WHOLE if held >= node.size else HOLES if held else LOST

    def runs(self, node: Node) -> Sequence[Run]:
        own = self.set_of(node)
        found: list[Run] = []
        for number in self.chain(own.cluster, own.size, contiguous=own.contiguous or own.deleted) if own.size else ():
            place = self.bytes.base + self.at(number)
            if found and (found[-1].at or 0) + found[-1].length == place:
                found[-1] = Run(found[-1].at, found[-1].length + self.cluster)
            else:
                found.append(Run(place, self.cluster))
        return found

    def bitmap(self) -> np.ndarray:
        """One byte a cluster from the second on, 1 where it is used. Raises DecodeError where the map cannot be
        read."""
        raw = b"".join(
            self.bytes.read(self.at(n), self.cluster, "map of clusters")
            for n in self.chain(self.bitmap_cluster, self.bitmap_size, contiguous=False)
        )
        if len(raw) * 8 < self.clusters:
            raise DecodeError("map of clusters", at=0, expected=f"{self.clusters} bits", got=f"{len(raw) * 8}")
        return np.unpackbits(np.frombuffer(raw, np.uint8), bitorder="little")[: self.clusters]

    @cached_property
    def upcase_table(self) -> list[int]:
        """Section 7.2.5: the capital of every unit, by the volume's own table; by the language where that cannot be
        read."""
        cluster, size, _ = self.upcase
        try:
            raw = (
                b"".join(
                    self.bytes.read(self.at(n), self.cluster, "table of capitals")
                    for n in self.chain(cluster, size, contiguous=False)
                )[:size]
                if 0 < size <= _CAPITALS
                else b""
            )
        except DecodeError:
            raw = b""
        return expanded(raw)

    @property
    def had_usual_capitals(self) -> bool:
        """By size and sum, as the table's entry tells them."""
        return self.upcase[1:] == (USUAL_SIZE, USUAL_SUM)

    def leads_nowhere(self, cluster: int) -> bool:
        """The last cluster of a chain names neither an end nor another one. (One that goes on past the file's size is
        let pass: some systems leave room.)"""
        following = int(self.table[cluster])
        return following != END and not 2 <= following < self.clusters + 2

    def looks_like_folder(self, own: Set) -> bool:
        """It has whole clusters and begins as a folder does; where that was not read, it is not said that it does
        not."""
        if not own.size or own.size % self.cluster or not 2 <= own.cluster < self.clusters + 2:
            return False
        span, skip = self.bytes.span(self.at(own.cluster), ENTRY)
        return bool(span.missing) or span.data[skip] in (0, FILE_ENTRY, FILE_ENTRY & ~IN_USE)

    def is_possible(self, own: Set) -> bool:
        """A set whose sum does not fit, but whose parts are all there and have a name; whether what it holds can be is
        another question."""
        kinds = [own.raw[at] | IN_USE for at in range(0, len(own.raw), ENTRY)]
        name = self.right_name(own) if len(own.raw) > 2 * ENTRY else b""
        if any(after - at != ENTRY and (after - self.heap) % self.cluster for at, after in pairwise(own.ats)):
            return False  # something stands between them
        return (
            bool(name)
            and kinds == [FILE_ENTRY, STREAM, *[NAME] * -(-len(name) // (2 * LETTERS))]
            and (own.size == 0 or 2 <= own.cluster < self.clusters + 2)
        )

    def right_name(self, own: Set) -> bytes:
        """The name of a set in UTF-16 whose sum does not fit: as long as it says, or up to its first empty unit,
        whichever fits its hash and its entries; empty where neither can be."""
        units = b"".join(own.raw[at + 2 : at + ENTRY] for at in range(2 * ENTRY, len(own.raw), ENTRY))
        told = units[: 2 * own.raw[ENTRY + 3]]
        ends = next((at for at in range(0, len(units), 2) if units[at : at + 2] == b"\0\0"), len(units))
        ways = [
            name
            for name in dict.fromkeys((told, units[:ends]))
            if name
            and -(-len(name) // 30) == own.count - 2
            and not any(name[at : at + 2] == b"\0\0" for at in range(0, len(name), 2))
        ]
        upcase_table = self.upcase_table
        hashed = int.from_bytes(own.raw[ENTRY + 4 : ENTRY + 6], "little")
        return next((name for name in ways if name_hash(name, upcase_table) == hashed), ways[0] if ways else b"")

    def own_clusters(self) -> Iterator[tuple[int, str]]:
        """(cluster, what) of the volume's own: root, map, letters."""
        for start, size, name in (
            (self.root, 0, "root"),
            (self.bitmap_cluster, self.bitmap_size, "map"),
            (self.upcase[0], self.upcase[1], "letters"),
        ):
            for number in self.chain(start, size, contiguous=False) if start else ():
                yield number, name

    def places(self, lbas: Sequence[int]) -> list[Place]:
        owners: dict[int, Place] = {
            n: Place(Said(f"where.exfat-{name}"), "/" if name == "root" else None, CATALOGUE)
            for n, name in self.own_clusters()
        }
        wanted = {((lba - self.first) * self.disk.sector - self.heap) // self.cluster + 2 for lba in lbas}
        for own, path in self.walk():
            if not own.deleted:
                for number in wanted & set(
                    self.chain(own.cluster, own.size, contiguous=own.contiguous) if own.size else ()
                ):
                    owners[number] = Place(
                        say("where.folder") if own.is_folder else say("where.file"),
                        path,
                        CATALOGUE if own.is_folder else FILE,
                    )
        try:
            used: np.ndarray | None = self.bitmap()
        except DecodeError:
            used = None
        found = []
        for lba in lbas:
            at = (lba - self.first) * self.disk.sector
            number = (at - self.heap) // self.cluster + 2
            if at < 24 * self.sector:
                name = "boot-sector" if at < 12 * self.sector else "boot-sector-copy"
                found.append(Place(Said(f"where.{name}", {"kind": "exFAT"}), None, BOOT))
            elif at < self.heap:
                inside = self.fat_at <= at < self.fat_at + self.fat_length * self.fats
                found.append(
                    Place(
                        Said("where.fat", {"number": (at - self.fat_at) // self.fat_length + 1})
                        if inside
                        else Said("where.reserved", {"kind": "exFAT"}),
                        None,
                        CATALOGUE if inside else NOTHING,
                    )
                )
            elif number in owners:
                found.append(owners[number])
            elif number >= self.clusters + 2:
                found.append(Place(say("where.after-volume"), None, NOTHING))
            elif used is not None and not used[number - 2]:
                found.append(Place(say("where.free"), None, NOTHING))
            else:
                found.append(Place(say("where.lost-cluster"), None, FILE))
        return found


def region_sum(raw: bytes, sector: int) -> int:
    """Over the first eleven sectors of a boot region, flags and percentage left out."""
    total = 0
    for at, byte in enumerate(raw[: 11 * sector]):
        if at not in (106, 107, 112):
            total = ((total & 1) << 31 | total >> 1) + byte & 0xFFFFFFFF
    return total


def set_sum(raw: bytes) -> int:
    """The sum over an entry set (6.3.3), its own two bytes left out."""
    total = 0
    for at, byte in enumerate(raw):
        if at not in (2, 3):
            total = ((total & 1) << 15 | total >> 1) + byte & 0xFFFF
    return total


def expanded(table: bytes) -> list[int]:
    """Section 7.2.5: the capital of every unit by a table, FFFFh and how many where they are their own; the language's
    where there is no table."""
    units = memoryview(table[: len(table) // 2 * 2]).cast("H").tolist()
    found: list[int] = []
    at = 0
    while at < len(units) and len(found) < 65536:
        if units[at] == 0xFFFF and at + 1 < len(units):
            found += range(len(found), min(len(found) + units[at + 1], 65536))
            at += 1
        else:
            found.append(units[at])
        at += 1
    return found + [n if found else capital_of(n) for n in range(len(found), 65536)]


def name_hash(letters: bytes, upcase_table: Sequence[int]) -> int:
    """Section 7.6.4: over the capitals of a name in UTF-16."""
    told = 0
    for unit in memoryview(letters).cast("H"):
        for byte in upcase_table[unit].to_bytes(2, "little"):
            told = ((told & 1) << 15 | told >> 1) + byte & 0xFFFF
    return told


def _set(entries: Sequence[tuple[int, bytes]], need: int) -> Set:
    parts = [raw for _, raw in entries]
    head, raw = parts[0], b"".join(parts)
    stream = next((p for p in parts[1:] if p[0] | IN_USE == STREAM), bytes(32))
    letters = stream[3]
    named = b"".join(p[2:32] for p in parts[1:] if p[0] | IN_USE == NAME)[: 2 * letters]
    name = name_of_utf16(named)
    # who deletes one takes all its parts out of use
    deleted = not head[0] & IN_USE and not (len(parts) > 1 and all(p[0] & IN_USE for p in parts[1:]))
    sound = (
        bool(head[0] & IN_USE)
        and len(parts) == need == head[1] + 1
        and stream[0] != 0
        and set_sum(raw) == int.from_bytes(head[2:4], "little")
    )
    return Set(
        entries[0][0],
        len(parts),
        name,
        int.from_bytes(head[4:6], "little"),
        int.from_bytes(stream[20:24], "little"),
        int.from_bytes(stream[24:32], "little"),
        int.from_bytes(stream[8:16], "little"),
        bool(stream[1] & NO_CHAIN),
        _seconds(head[12:16]),
        deleted,
        sound or deleted,
        tuple(at for at, _ in entries),
        raw,
    )


def _seconds(raw: bytes) -> float | None:
    stamp = int.from_bytes(raw, "little")
    month, day = stamp >> 21 & 15, stamp >> 16 & 31
    if not 1 <= month <= 12 or not day:
        return None
    return float(
        calendar.timegm((1980 + (stamp >> 25), month, day, stamp >> 11 & 31, stamp >> 5 & 63, (stamp & 31) * 2))
    )
