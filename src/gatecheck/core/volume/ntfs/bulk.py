"""Records and folders of an NTFS volume by the thousand: what a check keeps of those with which nothing is wrong.

The layouts are those of `ntfs_record`, which reads one after the other and says what is wrong with one. Here all that
lie side by side are walked in step, attribute by attribute and entry by entry, in NumPy; whatever does not hold to all
of it is left to `ntfs_record`, so that nothing is told of it here."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from gatecheck.core.volume.ntfs import record as rec
from gatecheck.core.volume.ntfs.read import EXTEND, ROOT

Ints = NDArray[np.int64]
_STRIDE, _SMALLEST, _WIDEST = 512, 66, 6
_NUMBER, _LOW = np.int64((1 << 48) - 1), np.int64((1 << 32) - 1)
_PRIME, _MASK = 0x9E3779B97F4A7C15, (1 << 64) - 1
_LONGEST = 255
_EMPTY = np.zeros(0, np.int64)


def name_mark(raw: bytes, space: int) -> int:
    """A number for a name (UTF-16) in its name space, as `marks` gives it: four letters at a time, each multiplied in
    and spread."""
    letters = len(raw) // 2
    told = letters
    for at in range(0, 2 * letters, 8):
        told = (told ^ int.from_bytes(raw[at : min(at + 8, 2 * letters)], "little")) * _PRIME & _MASK
        told ^= told >> 32
    return told >> 3 << 2 | space


def _words(units: NDArray[np.uint16]) -> NDArray[np.uint64]:
    """Four letters in one number, from every letter on that has three behind it."""
    return np.ndarray((max(0, len(units) - 3),), np.uint64, units, strides=(2,))


def marks(units: NDArray[np.uint16], at: Ints, letters: Ints, space: Ints) -> Ints:
    """The same for names that stand in `units` from `at` on, shape (n,)."""
    found = np.empty(len(at), np.uint64)
    inside = at + (letters + 3 & ~3) <= len(units)
    order = np.argsort((_LONGEST - letters).astype(np.uint8), kind="stable")
    rows = order[inside[order]]
    place, length, words = at[rows], letters[rows], _words(units)
    falling, told = -length, length.astype(np.uint64)
    for n in range(-(-int(length[0]) // 4) if len(rows) else 0):
        live = int(np.searchsorted(falling, -4 * n, side="left"))  # longer names stand first
        whole = int(np.searchsorted(falling, -4 * n - 4, side="right"))
        word = words[place[:live] + 4 * n]
        word[whole:] &= _PARTS[length[whole:live] - 4 * n]
        word ^= told[:live]
        word *= np.uint64(_PRIME)
        np.bitwise_xor(word, word >> np.uint64(32), out=told[:live])
    found[rows] = told
    for row in np.flatnonzero(~inside).tolist():  # at the very end of what was read
        found[row] = name_mark(units[at[row] : at[row] + letters[row]].tobytes(), 0) >> 2 << 3
    return (found >> np.uint64(3) << np.uint64(2)).astype(np.int64) | space


_PARTS = np.array([0, (1 << 16) - 1, (1 << 32) - 1, (1 << 48) - 1, _MASK], np.uint64)
"""of a word of four letters, so many"""


@dataclass(frozen=True, slots=True)
class PlainRecords:
    """Of n records those that are plain, `plain` of shape (n,): in use, whole in themselves, nothing wrong with them.
    `row`: which record something belongs to.

    names: parent and mark of each, in the order they stand in; claims: first cluster and how many."""

    plain: NDArray[np.bool_]
    sequence: Ints
    is_folder: NDArray[np.bool_]
    name_row: Ints
    parent: Ints
    mark: Ints
    claim_row: Ints
    lcn: Ints
    count: Ints


class _Walk:
    """Records side by side, walked attribute by attribute."""

    def __init__(self, raw: bytes, size: int) -> None:
        own = np.frombuffer(raw, np.uint8)
        self.n, self.size = len(own) // size, size
        self.flat = own[: self.n * size].copy()
        self.u16, self.u32, self.i64 = (self.flat.view(kind) for kind in ("<u2", "<u4", "<i8"))
        self.base = np.arange(self.n, dtype=np.int64) * size
        self.good = np.ones(self.n, bool)
        self.names: list[tuple[Ints, Ints, Ints, Ints]] = []
        self.runs: list[tuple[Ints, Ints, Ints, Ints]] = []

    def head(self) -> Ints:
        """Fixups put back; place of the first attribute of each. What is not plain by its head is no good."""
        u16, u32 = self.u16.reshape(self.n, -1), self.u32.reshape(self.n, -1)
        fix, count, first, flags = (u16[:, n].astype(np.int64) for n in (2, 3, 10, 11))
        used, allocated = u32[:, 6], u32[:, 7]
        strides = self.size // _STRIDE
        self.good = (
            (u32[:, 0] == 0x454C4946)
            & (count == strides + 1)
            & (fix & 1 == 0)
            & (fix + 2 * count <= _STRIDE - 2)
            & ((flags == rec.IN_USE) | (flags == rec.IN_USE | rec.IS_FOLDER))
            & (self.i64.reshape(self.n, -1)[:, 4] == 0)
            & (used <= self.size)
            & (allocated <= self.size)
            & (first & 7 == 0)
            & (first >= 42)
            & (first <= self.size - 4)
        )
        listed = (self.base + np.where(self.good, fix, 0)) >> 1
        mark = self.u16[listed]
        for n in range(1, strides + 1):
            end = u16[:, (n * _STRIDE >> 1) - 1]
            self.good &= end == mark
            end[:] = self.u16[listed + n]
        places: Ints = self.base + first
        return places

    def walk(self, at: Ints) -> None:
        """All attributes; names and runs are gathered, and what is not plain is no good."""
        rows = np.flatnonzero(self.good)
        at = at[rows]
        while len(rows):
            room = self.base[rows] + self.size - at
            fits = room >= 32
            if not fits.all():  # nothing but an end may stand there
                late = np.flatnonzero(~fits)
                ends = (room[late] >= 4) & (self.u32[np.minimum(at[late], len(self.flat) - 4) >> 2] == rec.END)
                self.good[rows[late[~ends]]] = False
                rows, at, room = rows[fits], at[fits], room[fits]
            head = self.i64[at >> 3]
            kind = head & _LOW
            open_ = kind != rec.END
            if not open_.all():
                rows, at, room, kind, head = rows[open_], at[open_], room[open_], kind[open_], head[open_]
            length, foreign = head >> 32 & _LOW, self.flat[at + 8] != 0
            sound = (
                (length >= 24)
                & (length & 7 == 0)
                & (length <= room)
                & (kind >= 0x10)
                & (kind <= 0x1000)
                & (kind != rec.LIST)
                & (~foreign | (length >= 64))
            )
            told = self.i64[np.minimum((at >> 3) + 2, len(self.i64) - 1)]
            size, value = told & _LOW, told >> 32 & 0xFFFF
            sound &= foreign | (value + size <= length)
            is_name = ~foreign & (kind == rec.NAME)
            sound &= ~is_name | ((size >= _SMALLEST) & (value & 7 == 0))
            self.good[rows[~sound]] = False
            self._names(rows, at + value, size, sound & is_name)
            self._runs(rows, at, length, sound & foreign)
            going = self.good[rows]
            rows, at = rows[going], (at + length)[going]

    def _names(self, rows: Ints, start: Ints, size: Ints, which: NDArray[np.bool_]) -> None:
        rows, start, size = rows[which], start[which], size[which]
        letters = self.flat[start + 64].astype(np.int64)
        parent = self.i64[start >> 3] & _NUMBER
        wrong = (size < _SMALLEST + 2 * letters) | (parent == EXTEND)
        self.good[rows[wrong]] = False
        self.names.append((rows[~wrong], start[~wrong], letters[~wrong], parent[~wrong]))

    def _runs(self, rows: Ints, at: Ints, length: Ints, which: NDArray[np.bool_]) -> None:
        rows, at, length = rows[which], at[which], length[which]
        long = at >> 3
        room, real, initialised = (self.i64[long + n] for n in (5, 6, 7))
        runs_at = self.u16[(at >> 1) + 16].astype(np.int64)
        wrong = (
            (self.i64[long + 2] != 0)
            | (runs_at > length)
            | (real > room)
            | (initialised > real)
            | (room < 0)
            | (real < 0)
            | (initialised < 0)
        )
        self.good[rows[wrong]] = False
        self.runs.append((rows[~wrong], (at + runs_at)[~wrong], (at + length)[~wrong], room[~wrong]))


def plain_records(raw: bytes, size: int, cluster: int, among: NDArray[np.bool_]) -> PlainRecords:
    """Of records of `size` bytes side by side, those that `among` has, shape (n,). What is not among them has to be
    read by `ntfs_record`."""
    own = _Walk(raw, size)
    first = own.head()
    own.good &= among
    own.walk(first)
    name_row, start, letters, parent = _joined(own.names, 4)
    claim_row, lcn, count = _decoded(own, cluster)
    mark = marks(own.u16, (start + _SMALLEST) >> 1, letters, own.flat[start + 65].astype(np.int64))
    links = own.u16[(own.base >> 1) + 9]
    own.good &= np.bincount(name_row, minlength=own.n) == links
    twice = np.flatnonzero(np.bincount(name_row, minlength=own.n) > 1)
    if len(twice):  # the same name in the same folder counts once, and is not plain
        several = np.isin(name_row, twice)
        keys = np.stack([name_row[several], parent[several], mark[several]], axis=1)
        _, counts = np.unique(keys, axis=0, return_counts=True)
        own.good[np.unique(keys, axis=0)[counts > 1, 0]] = False
    own.good &= links > 0
    named, claimed = own.good[name_row], own.good[claim_row]
    half = own.base >> 1
    return PlainRecords(
        own.good,
        own.u16[half + 8].astype(np.int64),
        own.u16[half + 11] == rec.IN_USE | rec.IS_FOLDER,
        name_row[named],
        parent[named],
        mark[named],
        claim_row[claimed],
        lcn[claimed],
        count[claimed],
    )


def _joined(parts: Sequence[tuple[Ints, ...]], wide: int) -> tuple[Ints, ...]:
    return tuple(np.concatenate([p[n] for p in parts]) if parts else _EMPTY for n in range(wide))


def _decoded(own: _Walk, cluster: int) -> tuple[Ints, Ints, Ints]:
    """(row, first cluster, clusters) of every run that lies somewhere. A row whose runs are none, or do not add up to
    what is told, is no good."""
    row, at, end, room = _joined(own.runs, 4)
    lcn, held = np.zeros(len(row), np.int64), np.zeros(len(row), np.int64)
    live, found = np.arange(len(row)), []
    last = len(own.flat) - 1
    while len(live):
        going = (at[live] < end[live]) & (own.flat[np.minimum(at[live], last)] != 0)
        live = live[going]
        place = at[live]
        sizes = own.flat[place].astype(np.int64)
        wide, far = sizes & 15, sizes >> 4
        sound = (wide >= 1) & (wide <= _WIDEST) & (far <= _WIDEST) & (place + 1 + wide + far <= end[live])
        count, off = _number(own.flat, place + 1, wide), _number(own.flat, place + 1 + wide, far)
        bits = 8 * np.minimum(far, _WIDEST)
        off -= np.where((far > 0) & (off >> np.maximum(bits - 1, 0) & 1 == 1), np.int64(1) << bits, 0)
        now = lcn[live] + off
        sound &= (count > 0) & (count < 1 << 48) & (now >= 0) & (now < 1 << 48)
        own.good[row[live[~sound]]] = False
        live, now, count, far, wide = live[sound], now[sound], count[sound], far[sound], wide[sound]
        lcn[live], held[live] = now, held[live] + count
        at[live] += 1 + wide + far
        lies = far > 0
        found.append((row[live[lies]], now[lies], count[lies]))
    own.good[row[held * cluster != room]] = False
    rows, firsts, counts = _joined(found, 3)
    return rows, firsts, counts


def _number(flat: NDArray[np.uint8], at: Ints, size: Ints) -> Ints:
    """Little-endian numbers of so many bytes, at most six of each."""
    told, last = np.zeros(len(at), np.int64), len(flat) - 1
    for n in range(_WIDEST):
        told |= np.where(size > n, flat[np.minimum(at + n, last)].astype(np.int64) << 8 * n, 0)
    return told


# --- folders


@dataclass(frozen=True, slots=True)
class _Folder:
    """Its record; node: its root, followed by `blocks` blocks of `size` bytes; `unit`: bytes of a VCN there."""

    number: int
    node: int
    blocks: int
    size: int
    unit: int


class Folders:
    """Indexes of many folders, taken in until there are enough of them, then walked together. `wrong`: folders that
    `ntfs_record` has to read."""

    MOST = 2 << 20
    """bytes that are walked together: what stays near the processor"""

    def __init__(self, upcase_table: Sequence[int]) -> None:
        self.upcase_table = np.array(upcase_table, np.uint32)
        self.is_usual = all(ord(chr(n).upper()) == upcase_table[n] for n in range(128))
        self._anew()

    def _anew(self) -> None:
        self.parts: list[bytes] = []
        self.nodes: list[tuple[int, int, int]] = []
        """(place, bytes, where its head of entries stands): of a root its end as well, of blocks side by side 0"""
        self.folders: list[_Folder] = []
        self.length, self.count = 0, 0
        self.wrong: list[int] = []

    @property
    def is_full(self) -> bool:
        return self.length >= self.MOST

    def add(self, number: int, root: bytes, blocks: bytes, cluster: int) -> None:
        """A folder by the value of its $INDEX_ROOT and its $INDEX_ALLOCATION."""
        size = int.from_bytes(root[8:12], "little")
        if len(root) < 32 or not self.is_usual or (blocks and (size < _STRIDE or size & 7)):
            self.wrong.append(number)
            return
        many = len(blocks) // size if blocks else 0
        self.folders.append(_Folder(number, self.count, many, size, cluster if cluster <= size else _STRIDE))
        self.count += 1 + many
        for raw in (root, blocks[: many * size]):
            self.nodes.append((self.length, len(raw), size))
            self.parts += (raw, bytes(-len(raw) % 8))
            self.length += len(raw) + -len(raw) % 8

    def _spans(self, flat: NDArray[np.uint8]) -> tuple[Ints, NDArray[np.bool_]]:
        """First byte and end of every node's entries, shape (nodes, 2), the ends of strides put back in `flat`; and
        which of them are there at all, shape (nodes,)."""
        u32 = flat.view("<u4")
        spans, there = np.zeros((self.count, 2), np.int64), np.ones(self.count, bool)
        roots = np.array(self.nodes[::2], np.int64).reshape(-1, 3)
        node = np.array([own.node for own in self.folders], np.int64)
        spans[node] = roots[:, :1] + 16 + np.stack([u32[(roots[:, 0] >> 2) + n] for n in (4, 5)], axis=1)
        spans[node, 1] = np.minimum(spans[node, 1], roots[:, 0] + roots[:, 1])
        for size in {own.size for own in self.folders if own.blocks}:
            own = [
                (folder, place[0])
                for folder, place in zip(self.folders, self.nodes[1::2], strict=True)
                if folder.blocks and folder.size == size
            ]
            each = np.concatenate([np.arange(f.blocks) for f, _ in own])
            counts = np.array([f.blocks for f, _ in own])
            node = np.repeat([f.node + 1 for f, _ in own], counts) + each
            at = np.repeat([place for _, place in own], counts) + each * size
            there[node] = _restored(flat, at, size, 0x58444E49)
            heads = u32[(at >> 2)[:, None] + [6, 7]].astype(np.int64)
            spans[node] = at[:, None] + 24 + heads
            spans[node, 1] = np.minimum(spans[node, 1], at + size)
        spans[spans[:, 0] & 7 != 0, 1] = 0
        spans[spans[:, 1] == 0, 0] = 0
        return spans, there

    def taken(
        self, used: NDArray[np.uint8], sequence: NDArray[np.uint16], unread: set[int]
    ) -> tuple[Ints, Ints, Ints, list[int]]:
        """(folder, record, mark of the name) of every entry of the folders with which nothing is wrong, and the others.
        Begins anew."""
        flat = np.frombuffer(b"".join([*self.parts, bytes(32)]), np.uint8).copy()
        spans, there = self._spans(flat)
        node, at, wide, child, broken = _entries(flat, spans)
        begins = np.searchsorted(node, np.arange(self.count + 1)).tolist()
        inner = np.flatnonzero(child != -1)
        inner_from = np.searchsorted(inner, begins).tolist()
        usable, inner_of, below = (there & ~broken).tolist(), inner.tolist(), child[inner].tolist()
        ranges: list[tuple[int, int, int]] = []
        wrong = list(self.wrong)
        for own in self.folders:
            order = _in_order(own, begins, inner_of, inner_from, below, usable)
            if order is None:
                wrong.append(own.number)
            else:
                ranges += [(own.number, low, high) for low, high in order]
        told = np.array(ranges, np.int64).reshape(-1, 3)
        many = told[:, 2] - told[:, 1]
        folder = np.repeat(told[:, 0], many)
        entry = np.repeat(told[:, 1] - (np.cumsum(many) - many), many) + np.arange(int(many.sum()))
        self._anew()
        return self._sound(flat, folder, at[entry], wide[entry], used, sequence, unread, wrong)

    def _sound(
        self,
        flat: NDArray[np.uint8],
        folder: Ints,
        at: Ints,
        wide: Ints,
        used: NDArray[np.uint8],
        sequence: NDArray[np.uint16],
        unread: set[int],
        wrong: list[int],
    ) -> tuple[Ints, Ints, Ints, list[int]]:
        u16, i64 = flat.view("<u2"), flat[: len(flat) & ~7].view("<i8")
        reference = i64[at >> 3]
        number, told = reference & _NUMBER, reference >> 48 & 0xFFFF
        short = wide < _SMALLEST
        letters = np.where(short, 0, flat[np.minimum(at + 80, len(flat) - 1)]).astype(np.int64)
        space, parent = (
            flat[np.minimum(at + 81, len(flat) - 1)].astype(np.int64),
            i64[np.minimum((at >> 3) + 2, len(i64) - 1)] & _NUMBER,
        )
        short |= wide < _SMALLEST + 2 * letters
        letters = np.where(short, 0, letters)
        inside = number < len(used)
        known = np.where(inside, number, 0)
        bad = short | ~inside | (used[known] == 0) | ((told != 0) & (sequence[known] != told)) | (parent != folder)
        if unread:
            bad |= np.isin(number, np.fromiter(unread, np.int64))
        units = (at + 16 + _SMALLEST) >> 1
        bad[1:] |= self._before(u16, units, letters) & (folder[1:] == folder[:-1])
        hurt = np.unique(folder[bad])
        keep = ~np.isin(folder, hurt) & (number != ROOT)
        return (
            folder[keep],
            number[keep],
            marks(u16, units[keep], letters[keep], space[keep]),
            sorted({*wrong, *hurt.tolist()}),
        )

    def _before(self, u16: NDArray[np.uint16], at: Ints, letters: Ints) -> NDArray[np.bool_]:
        """Shape (n - 1,): a name stands after one that it should stand before, by the volume's own capitals."""
        found = letters[1:] < letters[:-1]  # where the one begins with the other
        live, words, n = np.arange(len(found)), _words(u16), 0
        while len(live):
            one, other = (self._four(words, at[rows] + n, letters[rows] - n) for rows in (live, live + 1))
            unlike = np.flatnonzero(one != other)
            one, other = self._raised(one[unlike]), self._raised(other[unlike])
            apart = one != other
            found[live[unlike[apart]]] = other[apart] < one[apart]
            alike = np.ones(len(live), bool)
            alike[unlike[apart]] = False
            live, n = live[alike], n + 4
            live = live[np.minimum(letters[live], letters[live + 1]) > n]
        return found

    @staticmethod
    def _four(words: NDArray[np.uint64], at: Ints, left: Ints) -> NDArray[np.uint64]:
        """Four letters of names that have so many left, zeros behind their ends."""
        word = words[np.minimum(at, len(words) - 1)]
        ends = np.flatnonzero(left < 4)
        word[ends] &= _PARTS[np.maximum(left[ends], 0)]
        return word

    def _raised(self, word: NDArray[np.uint64]) -> NDArray[np.uint64]:
        """Four letters as capitals, the first of them weighing most."""
        letters = [
            self.upcase_table[(word >> np.uint64(16 * n) & np.uint64(0xFFFF)).astype(np.intp)].astype(np.uint64)
            for n in range(4)
        ]
        return np.asarray(
            letters[0] << np.uint64(48) | letters[1] << np.uint64(32) | letters[2] << np.uint64(16) | letters[3]
        )


def _restored(flat: NDArray[np.uint8], at: Ints, size: int, magic: int) -> NDArray[np.bool_]:
    """The ends of strides put back in blocks of one size; which of them are whole, shape (n,). As `ntfs_record.fixed`
    does it for one, but that the list of ends has to stand before the first of them."""
    u16 = flat.view("<u2")
    half = at >> 1
    fix, count = u16[half + 2].astype(np.int64), u16[half + 3].astype(np.int64)
    good = (
        (flat.view("<u4")[at >> 2] == magic)
        & (count >= 2)
        & (fix + 2 * count <= _STRIDE - 2)
        & ((count - 1) * _STRIDE <= size)
        & (fix & 1 == 0)
    )
    fix = np.where(good, fix, 0)
    mark = u16[half + (fix >> 1)]
    for n in range(1, size // _STRIDE + 1):
        rows = np.flatnonzero(good & (count > n))
        ends = half[rows] + (n * _STRIDE >> 1) - 1
        fits = u16[ends] == mark[rows]
        good[rows[~fits]] = False
        u16[ends[fits]] = u16[half[rows[fits]] + (fix[rows[fits]] >> 1) + n]
    return np.asarray(good)


def _entries(flat: NDArray[np.uint8], spans: Ints) -> tuple[Ints, Ints, Ints, Ints, NDArray[np.bool_]]:
    """Every entry of every node, in their order: (node, place, bytes of its key, VCN of the block below or -1), and
    whether a node is broken, shape (nodes,). The last entry of a node names nothing."""
    u16, i64 = flat.view("<u2"), flat[: len(flat) & ~7].view("<i8")
    broken = np.zeros(len(spans), bool)
    node, at, end = np.arange(len(spans)), spans[:, 0], spans[:, 1]
    found = []
    while len(node):
        fits = at + 16 <= end
        broken[node[~fits]] = True  # no last entry
        node, at, end = node[fits], at[fits], end[fits]
        length, wide, flags = (u16[(at >> 1) + n].astype(np.int64) for n in (4, 5, 6))
        sound = (length >= 16) & (length & 7 == 0) & (at + length <= end) & (16 + wide <= length)
        broken[node[~sound]] = True
        node, at, end, length, wide, flags = (own[sound] for own in (node, at, end, length, wide, flags))
        below = i64[(at + length - 8) >> 3]
        child = np.where((flags & 1 == 1) & (length >= 24), np.where(below < 0, np.int64(1) << 50, below), -1)
        last = flags & 2 == 2
        found.append((node, at, wide, child))
        node, at, end = node[~last], (at + length)[~last], end[~last]
    node, at, wide, child = (np.concatenate([f[n] for f in found]) if found else _EMPTY for n in range(4))
    order = np.argsort(node, kind="stable")
    return node[order], at[order], wide[order], child[order], broken


def _in_order(
    own: _Folder, begins: list[int], inner: list[int], inner_from: list[int], below: list[int], usable: list[bool]
) -> list[tuple[int, int]] | None:
    """The folder's entries as its index has them, in runs [low, high); None where it cannot be walked. `inner`: entries
    with a block below, `inner_from` where those of a node begin, `below` their VCNs."""
    if not usable[own.node]:
        return None
    found: list[tuple[int, int]] = []
    seen: set[int] = set()
    stack = [(own.node, begins[own.node], inner_from[own.node])]
    while stack:
        node, at, place = stack.pop()
        last = begins[node + 1] - 1  # it names nothing, but may lead on
        if place == inner_from[node + 1]:
            found.append((at, last))
            continue
        here = inner[place]
        found.append((at, here))
        if not own.blocks:
            return None
        block, rest = divmod(below[place] * own.unit, own.size)
        lower = own.node + 1 + block
        if rest or block >= own.blocks or lower in seen or not usable[lower]:
            return None
        seen.add(lower)
        if here != last:
            stack.append((node, here, place + 1))
        stack.append((lower, begins[lower], inner_from[lower]))
    return found


# --- names of records against entries of folders


def _mixed(columns: Ints) -> NDArray[np.uint64]:
    """One number for each column, the same for the same ones."""
    parts = columns.astype(np.uint64) * np.array(
        [[0x9E3779B97F4A7C15], [0xC2B2AE3D27D4EB4F], [0x165667B19E3779F9]], np.uint64
    )
    return np.asarray((parts ^ parts >> np.uint64(29)).sum(axis=0))


def without(one: Ints, other: Ints) -> Ints:
    """Columns of `one` that `other` has not; both int64 of shape (3, n)."""
    if not one.shape[1] or np.array_equal(np.sort(_mixed(one)), np.sort(_mixed(other))):
        return one[:, :0]
    keys = [
        np.ascontiguousarray(part.T).view([("p", np.int64), ("r", np.int64), ("n", np.int64)]).ravel()
        for part in (one, other)
    ]
    return one[:, ~np.isin(keys[0], keys[1])] if other.shape[1] else one
