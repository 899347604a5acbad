"""Who claims which clusters: runs gathered from every file, then laid side by side and against the volume's own map.

Runs are kept as numbers, not as a mark for each cluster, so that a large volume with few files costs little: sixteen
bytes a run, put in order where they lie. The map is compared in slices."""

from __future__ import annotations

from array import array
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Ints = NDArray[np.int64]
_SLICE = 1 << 21
"""clusters, or runs, that are looked at together"""


@dataclass(frozen=True, slots=True)
class CrossLink:
    """Two owners of the same clusters."""

    first: int
    count: int
    one: int
    other: int


@dataclass(frozen=True, slots=True)
class Against:
    """Compared with the map: clusters in use by nobody, the first of them (-1: none); owner -> its clusters that are
    free by the map."""

    lost: int
    first_lost: int
    unmarked: dict[int, int]


class Marks:
    """A map of clusters, a bit each, the lowest first: handed out in slices of a byte each."""

    def __init__(self, raw: bytes, clusters: int) -> None:
        self.raw, self.clusters = np.frombuffer(raw, np.uint8), clusters

    def __len__(self) -> int:
        """How many clusters it tells of."""
        return min(8 * len(self.raw), self.clusters)

    def __getitem__(self, part: slice) -> NDArray[np.uint8]:
        """What it does not tell of is free."""
        low, high = part.start, min(part.stop, self.clusters)
        bits = np.unpackbits(self.raw[low >> 3 : high + 7 >> 3], bitorder="little")[low & 7 : (low & 7) + high - low]
        return bits if len(bits) == high - low else np.pad(bits, (0, high - low - len(bits)))

    def used(self) -> int:
        return sum(int(np.count_nonzero(self[low : low + _SLICE])) for low in range(0, len(self), _SLICE))


class Claims:
    def __init__(self, clusters: int) -> None:
        self.clusters = clusters
        self.shift = 64 - max(clusters, 1).bit_length()
        """a key is where a run starts, and behind that its place in the order they came"""
        self.keys, self.count, self.owner = array("Q"), array("q" if clusters >> 32 else "I"), array("I")
        self.beyond: dict[int, int] = {}

    def add(self, owner: int, start: int, count: int) -> None:
        """What lies past the volume's end is kept apart."""
        if start < 0 or count <= 0:
            return
        over = max(0, start + count - self.clusters)
        if over:
            self.beyond[owner] = self.beyond.get(owner, 0) + min(over, count)
            count -= over
        if count > 0:
            self.keys.append(start << self.shift | len(self.keys))
            self.count.append(count)
            self.owner.append(owner)

    def add_all(self, owner: np.ndarray, start: np.ndarray, count: np.ndarray) -> None:
        """The same for many runs, int64 of shape (n,) each."""
        inside = (start >= 0) & (count > 0) & (start + count <= self.clusters)
        places = np.arange(len(self.keys), len(self.keys) + int(inside.sum()), dtype=np.uint64)
        self.keys.frombytes((start[inside].astype(np.uint64) << np.uint64(self.shift) | places).tobytes())
        self.count.frombytes(count[inside].astype(self.count.typecode).tobytes())
        self.owner.frombytes(owner[inside].astype(np.uint32).tobytes())
        for one in np.flatnonzero(~inside).tolist():
            self.add(int(owner[one]), int(start[one]), int(count[one]))

    def _parts(self) -> Iterator[tuple[Ints, Ints, Ints]]:
        """(start, count, owner) in the order of their starts, so many at a time."""
        if not len(self.keys):
            return
        keys = np.frombuffer(self.keys, np.uint64)
        keys.sort()
        count, owner = np.frombuffer(self.count, self.count.typecode), np.frombuffer(self.owner, np.uint32)
        mask = np.uint64((1 << self.shift) - 1)
        for low in range(0, len(keys), _SLICE):
            own = keys[low : low + _SLICE]
            places = (own & mask).astype(np.int64)
            yield (
                (own >> np.uint64(self.shift)).astype(np.int64),
                count[places].astype(np.int64),
                owner[places].astype(np.int64),
            )

    def sorted(self) -> tuple[Ints, Ints, Ints]:
        """All runs in the order of their starts."""
        parts = list(self._parts())
        if not parts:
            return np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros(0, np.int64)
        start, count, owner = (np.concatenate(own) for own in zip(*parts, strict=True))
        return start, count, owner

    def cross_links(self, most: int = 200) -> list[CrossLink]:
        """Pairs of runs that lie over each other."""
        found: list[CrossLink] = []
        reach = 0
        over: list[tuple[int, int, int]] = []
        """runs of earlier parts that reach further than where the last part ended: (end, owner, start)"""
        for start, count, owner in self._parts():
            end = start + count
            reaches = np.maximum(np.maximum.accumulate(end), reach)
            before = np.concatenate([[reach], reaches[:-1]])
            for place in np.flatnonzero(start < before).tolist():
                if len(found) == most:
                    return found
                holder = place - 1
                while holder >= 0 and end[holder] <= start[place]:
                    holder -= 1
                if holder >= 0:
                    other = (int(end[holder]), int(owner[holder]))
                else:
                    other = next(((e, o) for e, o, _ in reversed(over) if e > start[place]), (0, 0))
                if other[0]:
                    found.append(
                        CrossLink(
                            int(start[place]),
                            int(min(end[place], other[0]) - start[place]),
                            other[1],
                            int(owner[place]),
                        )
                    )
            reach = int(reaches[-1])
            last = int(start[-1])
            over = [own for own in over if own[0] > last]
            over += [(int(end[n]), int(owner[n]), int(start[n])) for n in np.flatnonzero(end > last).tolist()]
        return found

    def against(self, used: np.ndarray | Marks) -> Against:
        """`used`: one byte a cluster, 1 where the map says so; or the map itself. What it does not tell of is free,
        however large a hurt boot sector says that the volume is."""
        told = min(len(used), self.clusters)
        lost, first_lost = 0, -1
        unmarked: dict[int, int] = {}
        parts = self._parts()
        nothing = np.zeros(0, np.int64)
        start, end, owner, more = nothing, nothing, nothing, True
        for low in range(0, told, _SLICE):
            high = min(low + _SLICE, told)
            while more and (not len(start) or start[-1] < high):
                part = next(parts, None)
                more = part is not None
                if part is not None:
                    start, end, owner = (
                        np.concatenate([start, part[0]]),
                        np.concatenate([end, part[0] + part[1]]),
                        np.concatenate([owner, part[2]]),
                    )
            inside = int(np.searchsorted(start, high))
            edges = np.zeros(high - low + 1, np.int32)
            begins, ends = np.maximum(start[:inside], low) - low, np.minimum(end[:inside], high) - low
            np.add.at(edges, begins, 1)
            np.add.at(edges, ends, -1)
            claimed = np.cumsum(edges[:-1], dtype=np.int32) > 0
            marked = used[low:high] != 0
            alone = marked & ~claimed
            if alone.any():
                lost += int(alone.sum())
                first_lost = first_lost if first_lost >= 0 else low + int(np.argmax(alone))
            bare = claimed & ~marked
            if bare.any():
                sums = np.concatenate([[0], np.cumsum(bare)])
                each = sums[ends] - sums[begins]
                for place in np.nonzero(each)[0]:
                    own = int(owner[place])
                    unmarked[own] = unmarked.get(own, 0) + int(each[place])
            going = end > high
            start, end, owner = start[going], end[going], owner[going]
        for first, past, whose in ((start, end, owner), *((s, s + c, o) for s, c, o in parts)):
            for n in np.flatnonzero(past > told).tolist():
                key = int(whose[n])
                unmarked[key] = unmarked.get(key, 0) + int(past[n] - max(first[n], told))
        return Against(lost, first_lost, unmarked)
