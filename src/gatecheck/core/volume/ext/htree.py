"""The index of a large folder of ext (`dir_index`): sums of names, and whether every name lies in the block that the
index gives to its sum.

Linux, fs/ext4/hash.c and Documentation/filesystems/ext4, "Hash tree directories". Sums of many names are made at once.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

Words = NDArray[np.uint32]
LEGACY, HALF_MD4, TEA = 0, 1, 2
_UNSIGNED_FROM = 3
"""kinds 3 to 5 are the first three with letters as unsigned numbers"""
_START = (0x67452301, 0xEFCDAB89, 0x98BADCFE, 0x10325476)
_HEAD, _ROOM, _NODE_HEAD, _TAIL = 24, 8, 8, 8
_DEEPEST, _AT_ONCE = 3, 16384
_LAST = 0xFFFFFFFE
_ROUNDS = (
    (0x00000000, (0, 1, 2, 3, 4, 5, 6, 7), (3, 7, 11, 19)),
    (0x5A827999, (1, 3, 5, 7, 0, 2, 4, 6), (3, 5, 9, 13)),
    (0x6ED9EBA1, (3, 7, 2, 6, 1, 5, 0, 4), (3, 9, 11, 15)),
)


def name_sums(names: Sequence[bytes], kind: int, seed: bytes) -> Words:
    """The sum of each name, its last bit left out, shape (n,). `kind`: LEGACY, HALF_MD4, TEA, or three more for letters
    as unsigned numbers; `seed`: 16 bytes of the superblock."""
    is_signed = kind < _UNSIGNED_FROM
    kind -= 0 if is_signed else _UNSIGNED_FROM
    found = np.zeros(len(names), np.uint32)
    lengths = np.array([len(name) for name in names], np.int64)
    for length in {len(name) for name in names}:
        rows = np.flatnonzero(lengths == length)
        letters = np.frombuffer(b"".join(names[row] for row in rows.tolist()), np.uint8).reshape(len(rows), length)
        wide = letters.astype(np.int8).astype(np.int64) if is_signed else letters.astype(np.int64)
        found[rows] = _legacy(wide) if kind == LEGACY else _mixed(wide, kind, seed)
    found &= np.uint32(_LAST)
    found[found == _LAST] = _LAST - 2
    return found


def _legacy(letters: NDArray[np.int64]) -> NDArray[np.int64]:
    one, other = np.full(len(letters), 0x12A3FE2D, np.int64), np.full(len(letters), 0x37ABE8F9, np.int64)
    for n in range(letters.shape[1]):
        told = other + (one ^ (letters[:, n] * 7152373 & 0xFFFFFFFF)) & 0xFFFFFFFF
        told = np.where(told & 0x80000000, told - 0x7FFFFFFF, told) & 0xFFFFFFFF
        one, other = told, one
    return one << 1 & 0xFFFFFFFF


def _mixed(letters: NDArray[np.int64], kind: int, seed: bytes) -> Words:
    told = struct.unpack("<4I", seed)
    state = [np.full(len(letters), word, np.uint32) for word in (told if any(told) else _START)]
    step = 32 if kind == HALF_MD4 else 16
    for at in range(0, letters.shape[1], step):
        words = _packed(letters[:, at:], step // 4)
        _half_md4(state, words) if kind == HALF_MD4 else _tea(state, words)
    return state[1] if kind == HALF_MD4 else state[0]


def _packed(letters: NDArray[np.int64], most: int) -> list[Words]:
    """The first letters as words, the last filled up with how many there are."""
    left = letters.shape[1]
    pad = left | left << 8
    pad |= pad << 16
    found, value, used = [], np.full(len(letters), pad, np.int64), min(left, 4 * most)
    for n in range(used):
        value = letters[:, n] + (value << 8) & 0xFFFFFFFF
        if n % 4 == 3:
            found.append(value)
            value = np.full(len(letters), pad, np.int64)
    if len(found) < most:
        found.append(value)
    found += [np.full(len(letters), pad, np.int64)] * (most - len(found))
    return [(word & 0xFFFFFFFF).astype(np.uint32) for word in found]


def _half_md4(state: list[Words], words: Sequence[Words]) -> None:
    own = list(state)
    for number, (constant, order, turns) in enumerate(_ROUNDS):
        for place, word in enumerate(order):
            a, b, c, d = (own[(n - place) % 4] for n in range(4))
            mixed = d ^ (b & (c ^ d)) if number == 0 else (b & c) + ((b ^ c) & d) if number == 1 else b ^ c ^ d
            total, turn = a + mixed + words[word] + np.uint32(constant), turns[place % 4]
            own[-place % 4] = total << np.uint32(turn) | total >> np.uint32(32 - turn)
    for n in range(4):
        state[n] = state[n] + own[n]


def _tea(state: list[Words], words: Sequence[Words]) -> None:
    one, other, total = state[0], state[1], 0
    for _ in range(16):
        total = total + 0x9E3779B9 & 0xFFFFFFFF
        one = one + ((other << np.uint32(4)) + words[0] ^ other + np.uint32(total) ^ (other >> np.uint32(5)) + words[1])
        other = other + ((one << np.uint32(4)) + words[2] ^ one + np.uint32(total) ^ (one >> np.uint32(5)) + words[3])
    state[0], state[1] = state[0] + one, state[1] + other


class _Part(Struct):
    """A block of the folder by the index: between which sums its names lie, and how deep it stands (0: the names
    themselves)."""

    low: int
    high: int
    depth: int


class FolderIndex:
    """The index of one folder, block by block in their order; then what is wrong with it. Of names only the lowest and
    the highest sum of each block are kept.

    `tailed`: blocks end with a sum; `is_plain`: names are summed as they stand (not where they are encrypted, or
    capitals do not count)."""

    def __init__(
        self, *, block: int, seed: bytes, unsigned: bool, tailed: bool, has_deep: bool, is_plain: bool
    ) -> None:
        self.block, self.seed, self.unsigned, self.tailed, self.has_deep, self.is_plain = (
            block,
            seed,
            unsigned,
            tailed,
            has_deep,
            is_plain,
        )
        self.count, self.kind = 0, -1
        self.nodes: dict[int, bytes] = {}
        self.edges: dict[int, tuple[int, int]] = {}
        self.names: list[bytes] = []
        self.of: list[int] = []

    def take(self, raw: bytes, names: Sequence[bytes], *, is_node: bool) -> None:
        """The next block; `is_node`: by its first entry it may hold places instead of names."""
        if not self.count:
            self.kind = raw[_HEAD + 4] if len(raw) > _HEAD + _ROOM else -1
        if is_node:
            self.nodes[self.count] = raw
        elif self.is_plain and self.kind in (LEGACY, HALF_MD4, TEA):
            self.names += names
            self.of += [self.count] * len(names)
            if len(self.names) > _AT_ONCE:
                self._summed()
        self.count += 1

    def _summed(self) -> None:
        if not self.names:
            return
        sums, of = (
            name_sums(self.names, self.kind + (_UNSIGNED_FROM if self.unsigned else 0), self.seed).astype(np.int64),
            np.array(self.of),
        )
        first = np.flatnonzero(np.diff(of, prepend=-1))
        lows, highs = np.minimum.reduceat(sums, first), np.maximum.reduceat(sums, first)
        self.edges.update(zip(of[first].tolist(), zip(lows.tolist(), highs.tolist(), strict=True), strict=True))
        self.names, self.of = [], []

    def problem(self) -> str:
        """In a word; nothing where it holds."""
        self._summed()
        root = self.nodes.get(0, b"")
        if (
            len(root) < _HEAD + 2 * _ROOM
            or root[_HEAD : _HEAD + 4] != bytes(4)
            or root[_HEAD + 5] < _ROOM
            or root[_HEAD + 7] & 1
            or root[_HEAD + 4] > TEA
        ):
            return "root"
        if root[_HEAD + 6] >= (_DEEPEST if self.has_deep else _DEEPEST - 1):
            return "depth"
        parts: dict[int, _Part] = {}
        waiting = [(0, _HEAD + root[_HEAD + 5], root[_HEAD + 6], 0, _LAST)]
        while waiting:
            own = waiting.pop()
            problem = self._below(*own, parts)
            if problem:
                return problem
            if own[2]:
                waiting += [(n, _NODE_HEAD, own[2] - 1, parts[n].low, parts[n].high) for n in self._children(*own[:2])]
        if len(parts) + 1 != self.count:
            return "unreferenced"
        return "places" if any(self._is_misplaced(n, p) for n, p in parts.items()) else ""

    def _is_misplaced(self, number: int, part: _Part) -> bool:
        low, high = self.edges.get(number, (part.low, part.high))
        return part.depth == 0 and (low < part.low or high > part.high)

    def _children(self, number: int, at: int) -> list[int]:
        raw = self.nodes[number]
        count = int.from_bytes(raw[at + 2 : at + 4], "little")
        return [int(n) & 0x0FFFFFFF for n in np.frombuffer(raw, "<u4", 2 * count, at)[1::2]]

    def _below(self, number: int, at: int, level: int, low: int, high: int, parts: dict[int, _Part]) -> str:
        """The blocks that one names, into `parts`."""
        raw = self.nodes.get(number, b"")
        if len(raw) < self.block or at + 8 > self.block:
            return "blocks"
        most, count = struct.unpack_from("<2H", raw, at)
        if most != (self.block - at - (_TAIL if self.tailed else 0)) // 8 or not 0 < count <= most:
            return "count"
        own = np.frombuffer(raw, "<u4", 2 * count, at).astype(np.int64).reshape(count, 2)
        sums = own[:, 0] & ~np.int64(1)
        sums[0] = low
        if bool((np.diff(sums) < 0).any()) or int(sums[-1]) > high:
            return "order"
        for child, start, end in zip(
            (own[:, 1] & 0x0FFFFFFF).tolist(), sums.tolist(), [*sums[1:].tolist(), high], strict=True
        ):
            if not 0 < child < self.count or child in parts:
                return "blocks"
            parts[child] = _Part(start, end, level)
        return ""
