"""Fewer rows for the same map: neighbours that read well and alike become one block, everything else stays as it is."""

from __future__ import annotations

import numpy as np

from gatecheck.core.scan.read import READ, ReadMap

_TOGETHER = 16
_ALIKE, _ALIKE_MS = 2.0, 5.0
"""a group stays apart where one of it takes this many times the group's median and so many milliseconds more"""


def coarser(found: ReadMap, most: int) -> ReadMap:
    """The map in at most about `most` rows, as far as joining good neighbours gets there. Order, places and times are kept; shapes as in ReadMap."""
    while len(found) > most:
        smaller = _joined(found)
        if len(smaller) > 0.9 * len(found):
            return smaller
        found = smaller
    return found


def _joined(found: ReadMap) -> ReadMap:
    """Sixteen rows at a time, where they are good, equal, alike, and follow each other."""
    whole = len(found) // _TOGETHER * _TOGETHER
    lba, sectors = found.lba[:whole].reshape(-1, _TOGETHER), found.sectors[:whole].reshape(-1, _TOGETHER)
    ms, state = found.ms[:whole].reshape(-1, _TOGETHER), found.state[:whole].reshape(-1, _TOGETHER)
    follows = (lba[:, 1:] == lba[:, :-1] + sectors[:, :-1]).all(axis=1) & (sectors == sectors[:, :1]).all(axis=1) & (state == READ).all(axis=1)
    usual = np.median(ms, axis=1)
    joins = follows & (ms.max(axis=1) <= _ALIKE * usual + _ALIKE_MS)
    keep = np.concatenate([np.repeat(~joins, _TOGETHER), np.ones(len(found) - whole, dtype=bool)])
    first = np.concatenate([np.repeat(joins, _TOGETHER), np.zeros(len(found) - whole, dtype=bool)])
    first &= np.arange(len(found)) % _TOGETHER == 0
    chosen = keep | first
    new_sectors, new_ms = found.sectors.copy(), found.ms.copy()
    at = np.flatnonzero(joins) * _TOGETHER
    new_sectors[at], new_ms[at] = sectors[joins].sum(axis=1), ms[joins].sum(axis=1)
    return ReadMap(found.lba[chosen], new_sectors[chosen], new_ms[chosen], found.state[chosen])
