"""Who claims which clusters: runs gathered from every file, then laid side by side and against the volume's own map.

Runs are kept as numbers, not as a mark for each cluster, so that a large volume with few files costs little; the map is compared in slices.
"""

from __future__ import annotations

from array import array
from dataclasses import dataclass

import numpy as np

_SLICE = 1 << 24


@dataclass(frozen=True, slots=True)
class Crossed:
    """Two owners of the same clusters."""

    first: int
    count: int
    one: int
    other: int


@dataclass(frozen=True, slots=True)
class Against:
    """Compared with the map: clusters in use by nobody, the first of them (-1: none); owner -> its clusters that are free by the map."""

    lost: int
    first_lost: int
    unmarked: dict[int, int]


class Claims:
    def __init__(self, clusters: int) -> None:
        self.clusters = clusters
        self.start, self.count, self.owner = array("q"), array("q"), array("q")
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
            self.start.append(start)
            self.count.append(count)
            self.owner.append(owner)

    def add_all(self, owner: np.ndarray, start: np.ndarray, count: np.ndarray) -> None:
        """The same for many runs, int64 of shape (n,) each."""
        inside = (start >= 0) & (count > 0) & (start + count <= self.clusters)
        for into, values in ((self.start, start), (self.count, count), (self.owner, owner)):
            into.frombytes(np.ascontiguousarray(values[inside], np.int64).tobytes())
        for one in np.flatnonzero(~inside).tolist():
            self.add(int(owner[one]), int(start[one]), int(count[one]))

    def sorted(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        start, count, owner = (np.frombuffer(a, np.int64) if len(a) else np.zeros(0, np.int64) for a in (self.start, self.count, self.owner))
        order = np.argsort(start, kind="stable")
        return start[order], count[order], owner[order]

    def crossed(self, most: int = 200) -> list[Crossed]:
        """Pairs of runs that lie over each other."""
        start, count, owner = self.sorted()
        if len(start) < 2:
            return []
        end = start + count
        reach = np.maximum.accumulate(end)
        places = np.nonzero(start[1:] < reach[:-1])[0] + 1
        found: list[Crossed] = []
        for place in places[:most]:
            holder = place - 1
            while holder >= 0 and end[holder] <= start[place]:
                holder -= 1
            if holder >= 0:
                found.append(Crossed(int(start[place]), int(min(end[place], end[holder]) - start[place]), int(owner[holder]), int(owner[place])))
        return found

    def against(self, used: np.ndarray) -> Against:
        """`used`: one byte a cluster, 1 where the map says so."""
        start, count, owner = self.sorted()
        end = start + count
        lost, first_lost = 0, -1
        unmarked: dict[int, int] = {}
        for low in range(0, self.clusters, _SLICE):
            high = min(low + _SLICE, self.clusters)
            edges = np.zeros(high - low + 1, np.int32)
            inside = np.nonzero((start < high) & (end > low))[0]
            begins, ends = np.maximum(start[inside], low) - low, np.minimum(end[inside], high) - low
            np.add.at(edges, begins, 1)
            np.add.at(edges, ends, -1)
            claimed = np.cumsum(edges[:-1]) > 0
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
                    own = int(owner[inside[place]])
                    unmarked[own] = unmarked.get(own, 0) + int(each[place])
        return Against(lost, first_lost, unmarked)
