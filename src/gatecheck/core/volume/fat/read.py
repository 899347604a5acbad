"""A FAT volume as every other: its files and folders with their bytes, what was deleted and still stands, what lives at
a sector.

Microsoft, "FAT: General Overview of On-Disk Format", 1.03. The table is held as numbers; a file's chain is followed in
it, and for the question whose a cluster is it is turned round once."""

from __future__ import annotations

import calendar
from collections.abc import Iterator, Sequence

import numpy as np

from gatecheck.core.disk.sectors import Sectors, Span
from gatecheck.core.errors import DecodeError
from gatecheck.core.fields import text_of
from gatecheck.core.volume.fat.layout import read_fat
from gatecheck.core.volume.names import name_of_utf16
from gatecheck.core.volume.place import BOOT, CATALOGUE, FILE, NOTHING, Place
from gatecheck.core.volume.tree import HOLES, LOST, WHOLE, Bytes, Hole, Node, Run, limited
from gatecheck.core.words.said import Said, say

ENTRY, LONG, VOLUME, FOLDER = 32, 0x0F, 0x08, 0x10
_DELETED, _DEEPEST, _MOST_FOLDER = 0xE5, 64, 1 << 16
_LARGEST_TABLE, _MOST_PIECES = 512 << 20, 20


class FolderSlot:
    """An entry of a folder. `at`: byte of the volume at which its last 32 bytes stand, `long_at`: where its long name
    begins."""

    __slots__ = ("at", "deleted", "long_at", "name", "raw", "whole_name")

    def __init__(self, at: int, raw: bytes, name: str, deleted: bool, long_at: int, whole_name: bool) -> None:
        self.at, self.raw, self.name, self.deleted, self.long_at, self.whole_name = (
            at,
            raw,
            name,
            deleted,
            long_at,
            whole_name,
        )

    @property
    def is_folder(self) -> bool:
        return bool(self.raw[11] & FOLDER)

    @property
    def size(self) -> int:
        return int.from_bytes(self.raw[28:32], "little")

    def cluster(self, wide: int) -> int:
        high = int.from_bytes(self.raw[20:22], "little") << 16 if wide == 32 else 0
        return high | int.from_bytes(self.raw[26:28], "little")


class Fat:
    """Raises DecodeError where the boot sector cannot be worked with."""

    def __init__(self, disk: Sectors, first: int, last: int) -> None:
        self.volume = read_fat(disk, first)
        self.disk, self.first, self.last = disk, first, last
        self.bytes = Bytes(disk, first)
        self.kind, self.label, self.size = self.volume.kind, self.volume.label, self.volume.size
        self.cluster = self.volume.cluster_sectors * self.volume.sector
        self.clusters, self.wide = self.volume.clusters, self.volume.wide
        self.end_mark = 0x0FFFFFF8 if self.wide == 32 else (1 << self.wide) - 8
        self.bad_mark = 0x0FFFFFF7 if self.wide == 32 else (1 << self.wide) - 9
        self._table: np.ndarray | None = None

    @property
    def root(self) -> int:
        """Its cluster; 0 for the fixed one of FAT12 and FAT16."""
        return self.volume.root_cluster if self.wide == 32 else 0

    def raw_copy(self, number: int) -> bytes:
        """One copy of the table as it stands. Raises DecodeError where it cannot be read."""
        own = self.volume
        if own.fat_sectors * own.sector > _LARGEST_TABLE:
            raise DecodeError(
                "FAT",
                at=0,
                expected=f"at most {_LARGEST_TABLE >> 20} MiB",
                got=f"{own.fat_sectors * own.sector >> 20} MiB",
            )
        return own.read(own.reserved + number * own.fat_sectors, own.fat_sectors, f"FAT, copy {number + 1}")

    def numbers(self, raw: bytes) -> np.ndarray:
        need = self.clusters + 2
        if self.wide == 32:
            return np.frombuffer(raw, "<u4", count=min(need, len(raw) // 4)) & 0x0FFFFFFF
        if self.wide == 16:
            return np.frombuffer(raw, "<u2", count=min(need, len(raw) // 2)).astype(np.uint32)
        three = np.frombuffer(raw[: len(raw) // 3 * 3], np.uint8).reshape(-1, 3).astype(np.uint32)
        return np.stack([three[:, 0] | (three[:, 1] & 15) << 8, three[:, 1] >> 4 | three[:, 2] << 4], axis=1).reshape(
            -1
        )[:need]

    @property
    def table(self) -> np.ndarray:
        """The first FAT; of the second the sectors that are missing in it, or emptied in it and not in the other; zeros
        where neither is there."""
        if self._table is None:
            own = self.volume
            step, size = own.sector // self.disk.sector, own.fat_sectors * own.sector
            if size > _LARGEST_TABLE:
                raise DecodeError("FAT", at=0, expected=f"at most {_LARGEST_TABLE >> 20} MiB", got=f"{size >> 20} MiB")
            span = self.disk.read(self.first + own.reserved * step, own.fat_sectors * step)
            raw = bytearray(span.data)
            if own.fats > 1:
                self._fill_from_second(raw, span, own.fat_sectors * step)
            found = self.numbers(bytes(raw))
            self._table = np.pad(found, (0, max(0, self.clusters + 2 - len(found))))
        return self._table

    def _fill_from_second(self, raw: bytearray, span: Span, sectors: int) -> None:
        size = self.disk.sector
        rows = np.frombuffer(span.data, np.uint8).reshape(-1, size)
        is_lost = np.asarray(np.logical_not(rows.any(axis=1)))
        is_lost[[lba - span.lba for lba in span.missing]] = True
        if not is_lost.any():
            return
        lost = np.flatnonzero(is_lost)
        first, count = int(lost[0]), int(lost[-1]) - int(lost[0]) + 1
        other = self.disk.read(span.lba + sectors + first, count)
        for place in lost.tolist():
            at = (place - first) * size
            if span.lba + sectors + place not in other.missing:
                raw[place * size : place * size + size] = other.data[at : at + size]

    def label_in_root(self) -> str:
        """The volume's name as an entry of its root says it. Raises DecodeError where that was not read."""
        for start, length in self.stretches(self.root):
            raw = self.bytes.read(start, length, "root folder")
            for at in range(0, length - ENTRY + 1, ENTRY):
                own = raw[at : at + ENTRY]
                if not own[0]:
                    return ""
                if own[0] != _DELETED and own[11] & VOLUME and not is_piece(own):
                    return text_of(own[:11]).rstrip()
        return ""

    def chain(self, cluster: int, most: int) -> list[int]:
        """Clusters of a chain as far as it hangs together, at most so many."""
        table = self.table
        found: list[int] = []
        seen: set[int] = set()
        while 2 <= cluster < self.clusters + 2 and len(found) < most and cluster not in seen:
            found.append(cluster)
            seen.add(cluster)
            cluster = int(table[cluster])
        return found

    def at(self, cluster: int) -> int:
        """Byte of the volume at which a cluster begins."""
        return (self.volume.data_at + (cluster - 2) * self.volume.cluster_sectors) * self.volume.sector

    # --- folders

    def stretches(self, cluster: int) -> Iterator[tuple[int, int]]:
        """(byte of the volume, bytes) of a folder's room."""
        own = self.volume
        if cluster == 0 and self.wide != 32:
            yield own.root_at * own.sector, own.root_entries * ENTRY
            return
        for number in self.chain(cluster or own.root_cluster, _MOST_FOLDER):
            yield self.at(number), self.cluster

    def slots(self, cluster: int) -> Iterator[FolderSlot]:
        """All entries of a folder, deleted ones too; what cannot be read is passed over."""
        parts: list[tuple[int, int, bytes, int]] = []
        for start, length in self.stretches(cluster):
            span, skip = self.bytes.span(start, length)
            for place in range(0, length - ENTRY + 1, ENTRY):
                if span.missing and span.lba + (skip + place) // span.sector in span.missing:
                    parts = []
                    continue
                raw = span.data[skip + place : skip + place + ENTRY]
                if raw[0] == 0:
                    return
                if is_piece(raw):
                    parts.append((raw[0], raw[13], raw[1:11] + raw[14:26] + raw[28:32], start + place))
                elif raw[11] & VOLUME:
                    parts = []
                else:
                    yield self._slot(start + place, raw, parts)
                    parts = []

    @staticmethod
    def _slot(at: int, raw: bytes, parts: list[tuple[int, int, bytes, int]]) -> FolderSlot:
        deleted = raw[0] == _DELETED
        total = 0
        for byte in raw[:11]:
            total = ((total & 1) << 7 | total >> 1) + byte & 0xFF
        numbers = [n & 0x1F for n, _, _, _ in parts]
        fits = bool(parts) and (
            (deleted and all(n == _DELETED for n, _, _, _ in parts))
            or (numbers == list(range(len(parts), 0, -1)) and all(c == total for _, c, _, _ in parts))
        )
        if fits:
            name = name_of_utf16(_ended(b"".join(t for _, _, t, _ in reversed(parts))))
        else:
            first = b"?" if deleted else b"\xe5" if raw[0] == 0x05 else raw[:1]
            base, extension = text_of(first + raw[1:8]).rstrip(), text_of(raw[8:11]).rstrip()
            base = base.lower() if raw[12] & 0x08 else base
            extension = extension.lower() if raw[12] & 0x10 else extension
            name = (f"{base}.{extension}" if extension else base).replace("/", "\\x2f")
        return FolderSlot(at, raw, name, deleted, parts[0][3] if fits else at, fits or not parts)

    def _node(self, slot: FolderSlot, path: str) -> Node:
        return Node(
            slot.cluster(self.wide) or -slot.at,
            path,
            slot.is_folder,
            0 if slot.is_folder else slot.size,
            _seconds(slot.raw),
            slot.deleted,
        )

    def nodes(self, *, deleted: bool = False) -> Iterator[Node]:
        waiting, seen = [(self.root, "", 0)], {self.root}
        while waiting:
            cluster, path, depth = waiting.pop()
            for slot in self.slots(cluster):
                if slot.name in (".", ".."):
                    continue
                own = f"{path}/{slot.name}" if path else slot.name
                if slot.deleted:
                    if deleted:
                        yield self._node(slot, own)
                    continue
                if not deleted:
                    yield self._node(slot, own)
                inner = slot.cluster(self.wide)
                if slot.is_folder and inner not in seen and 2 <= inner < self.clusters + 2 and depth < _DEEPEST:
                    seen.add(inner)
                    waiting.append((inner, own, depth + 1))

    def find(self, path: str) -> Node | None:
        """By path, whatever its case."""
        cluster, node, done = self.root, Node(0, "", True, 0), ""
        for part in [p for p in path.replace("\\", "/").split("/") if p]:
            if not node.is_folder:
                return None
            slot = next(
                (
                    s
                    for s in self.slots(cluster)
                    if not s.deleted and part.lower() in (s.name.lower(), _short(s.raw).lower())
                ),
                None,
            )
            if slot is None:
                return None
            done = f"{done}/{slot.name}" if done else slot.name
            cluster, node = slot.cluster(self.wide), self._node(slot, done)
        return node

    def content(self, node: Node) -> Iterator[bytes | Hole]:
        yield from limited(self._pieces(node), node.size)

    def _pieces(self, node: Node) -> Iterator[bytes | Hole]:
        at = 0
        for run in self.runs(node):
            take = min(run.length, node.size - at)
            assert run.at is not None
            yield from self.bytes.pieces(run.at - self.bytes.base, take)
            at += take
        if at < node.size:
            yield Hole(node.size - at, "its chain ends before its size")

    def shape(self, node: Node) -> str:
        """whole, holes or lost, by where its bytes are said to lie."""
        held = sum(r.length for r in self.runs(node)) if node.size else 0
        return WHOLE if held >= node.size else HOLES if held else LOST

    def runs(self, node: Node) -> Sequence[Run]:
        if node.id < 2:
            return ()
        need = -(-node.size // self.cluster) if not node.is_folder else _MOST_FOLDER
        if node.deleted:  # its chain is gone; it most likely lay in one piece
            clusters: list[int] = []
            for number in range(node.id, min(node.id + need, self.clusters + 2)):
                if self.table[number]:
                    break
                clusters.append(number)
        else:
            clusters = self.chain(node.id, need)
        found: list[Run] = []
        for number in clusters:
            place = self.bytes.base + self.at(number)
            if found and (found[-1].at or 0) + found[-1].length == place:
                found[-1] = Run(found[-1].at, found[-1].length + self.cluster)
            else:
                found.append(Run(place, self.cluster))
        return found

    # --- what lives where

    def places(self, lbas: Sequence[int]) -> list[Place]:
        own, table = self.volume, self.table
        step = own.sector // self.disk.sector
        before = np.zeros(self.clusters + 2, np.uint32)
        pointing = np.nonzero((table >= 2) & (table < self.clusters + 2))[0]
        before[table[pointing]] = pointing
        names: dict[int, tuple[str, bool]] | None = None
        found = []
        for lba in lbas:
            sector = (lba - self.first) // step
            fixed = self._structure(sector)
            cluster = (sector - own.data_at) // own.cluster_sectors + 2
            if fixed is not None:
                found.append(fixed)
            elif cluster >= self.clusters + 2:
                found.append(Place(say("where.after-volume"), None, NOTHING))
            elif table[cluster] == 0:
                found.append(Place(say("where.free"), None, NOTHING))
            else:
                first, steps = cluster, 0
                while before[first] and steps <= self.clusters:
                    first, steps = int(before[first]), steps + 1
                if names is None:
                    names = {n.id: (n.path, n.is_folder) for n in self.nodes() if n.id > 1}
                    names |= {self.root: ("/", True)} if self.wide == 32 else {}
                found.append(self._owned(names.get(first), int(table[cluster])))
        return found

    def _owned(self, owner: tuple[str, bool] | None, value: int) -> Place:
        if owner is not None:
            return Place(
                say("where.folder") if owner[1] else say("where.file"), owner[0], CATALOGUE if owner[1] else FILE
            )
        if value == self.bad_mark:
            return Place(say("where.bad-cluster"), None, NOTHING)
        return Place(say("where.lost-cluster"), None, FILE)

    def _structure(self, sector: int) -> Place | None:
        own = self.volume
        if sector == 0:
            return Place(Said("where.boot-sector", {"kind": own.kind}), None, BOOT)
        if sector < own.reserved:
            if own.wide == 32 and sector == 6:
                return Place(Said("where.boot-sector-copy", {"kind": own.kind}), None, BOOT)
            return Place(Said("where.reserved", {"kind": own.kind}), None, BOOT if sector < 16 else NOTHING)
        if sector < own.root_at:
            return Place(Said("where.fat", {"number": (sector - own.reserved) // own.fat_sectors + 1}), None, CATALOGUE)
        if sector < own.data_at:
            return Place(say("where.root-folder"), "/", CATALOGUE)
        return None


def _short(raw: bytes) -> str:
    base, extension = text_of(raw[:8]).rstrip(), text_of(raw[8:11]).rstrip()
    return f"{base}.{extension}" if extension else base


def is_piece(raw: bytes) -> bool:
    """A piece of a long name: by its attributes, or, where those are hurt, by zeros where each piece has them and
    letters that no short name holds."""
    if raw[11] & 0x3F == LONG:
        return True
    return (
        not raw[0] & 0xA0
        and 1 <= raw[0] & 0x1F <= _MOST_PIECES
        and raw[12] == 0
        and raw[26:28] == b"\0\0"
        and any(byte < 0x20 for byte in raw[1:11])
    )


def _seconds(raw: bytes) -> float | None:
    """Date and time of the last change (local, of two seconds)."""
    time, date = int.from_bytes(raw[22:24], "little"), int.from_bytes(raw[24:26], "little")
    month, day = date >> 5 & 15, date & 31
    if not 1 <= month <= 12 or not day:
        return None
    return float(calendar.timegm((1980 + (date >> 9), month, day, time >> 11, time >> 5 & 63, (time & 31) * 2)))


def _ended(letters: bytes) -> bytes:
    """Letters of a long name up to the zero that ends it, or to the padding behind it."""
    units = [letters[at : at + 2] for at in range(0, len(letters), 2)]
    own = units[: units.index(b"\0\0")] if b"\0\0" in units else units
    while own and own[-1] == b"\xff\xff":
        own.pop()
    return b"".join(own)
