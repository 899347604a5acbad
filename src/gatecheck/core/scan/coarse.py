"""Fewer rows for the same map: neighbours that read well and alike become one block, everything else stays as it is."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from gatecheck.core.scan.read import READ, ReadMap, merge_maps

_TOGETHER, _FEW = 16, 4
"""rows that become one; and around one that stays as it is. Powers of two"""
_ALIKE, _ALIKE_MS = 2.0, 5.0
"""a group stays apart where one of it takes this many times the group's median and so many milliseconds more"""


MOST_ROWS = 500_000
"""rows of a map that are judged: good neighbours are joined beyond"""


def compact(parts: Iterable[ReadMap], most: int = MOST_ROWS) -> ReadMap:
    """A map that comes in parts, in about `most` rows as soon as there are more: one of a hundred million blocks never
    stands in memory. Shapes as in ReadMap."""
    kept: list[ReadMap] = []
    rows, limit, is_long = 0, most, False
    for part in parts:
        kept.append(_joined(_joined(part), _FEW) if is_long else part)
        rows += len(kept[-1])
        if rows > limit:
            kept, is_long = [coarser(_taken(kept), most // 2)], True
            rows = len(kept[0])
            limit = max(most, rows + most // 2)  # what joins no further is not tried again and again
    return coarser(_taken(kept), most)


def _taken(parts: list[ReadMap]) -> ReadMap:
    """All of them as one, and none of them any more: both at once would be twice the memory."""
    whole = merge_maps(parts)
    parts.clear()
    return whole


def coarser(found: ReadMap, most: int) -> ReadMap:
    """The map in at most about `most` rows, as far as joining good neighbours gets there. Order, places and times are
    kept; shapes as in ReadMap."""
    while len(found) > most:
        smaller = _joined(found)
        if len(smaller) > 0.9 * len(found):
            return _joined(smaller, _FEW)
        found = smaller
    return found


def _joined(found: ReadMap, together: int = _TOGETHER) -> ReadMap:
    """So many rows at a time, where they are good, equal, alike, and follow each other."""
    whole = len(found) // together * together
    if not whole:
        return found
    lba, sectors, ms = found.lba[:whole], found.sectors[:whole], found.ms[:whole]
    follows = lba[1:] - lba[:-1] == sectors[:-1]
    follows &= sectors[1:] == sectors[:-1]
    follows[together - 1 :: together] = True  # from one group to the next
    good = found.state[:whole] == READ
    good[:-1] &= follows
    good = _folded(np.logical_and, good, together)
    highest, lowest = _folded(np.maximum, ms, together), _folded(np.minimum, ms, together)
    joins = good & (highest <= _ALIKE_MS + _ALIKE * lowest)
    unsure = np.flatnonzero(good & ~joins)  # the lowest is at most the median
    if len(unsure):
        joins[unsure] = highest[unsure] <= _ALIKE * np.median(ms.reshape(-1, together)[unsure], axis=1) + _ALIKE_MS
    at = np.flatnonzero(joins) * together
    chosen = np.ones(len(found), dtype=bool)
    chosen[:whole] = np.repeat(~joins, together)
    chosen[at] = True
    if not len(at):
        return found
    place = np.cumsum(chosen)[at] - 1
    new_sectors, new_ms, many = found.sectors[chosen], found.ms[chosen], found.blocks[chosen]
    new_sectors[place] *= together
    new_ms[place] = _folded(np.add, ms, together)[joins]
    many[place] = _folded(np.add, found.blocks[:whole], together)[joins]
    return ReadMap(found.lba[chosen], new_sectors, new_ms, found.state[chosen], many)


def _folded(of: np.ufunc, values: NDArray[Any], together: int) -> NDArray[Any]:
    """The ufunc over so many at a time, shape (together * n,) -> (n,), pairs first: much faster than along a short
    axis."""
    for _ in range(together.bit_length() - 1):
        values = of(values[::2], values[1::2])
    return values
