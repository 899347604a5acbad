"""What of a map can be drawn: a span of the disk in so many bins, and what grew since an earlier read."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gatecheck.core.scan.evidence import Scanned, union
from gatecheck.core.scan.judge import SlowPatch
from gatecheck.core.scan.read import READ, UNREADABLE, Floats


@dataclass(frozen=True, slots=True)
class Bins:
    """Equal parts of [first, end). All of shape (n,): mb_s: throughput of what was read, nan for none; slowest: of its
    slowest block, MB/s, nan for none; read, unreadable: sectors; the rest of a bin was not tried."""

    first: int
    end: int
    mb_s: Floats
    slowest: Floats
    read: Floats
    unreadable: Floats


def bins_of(scanned: Scanned, first: int, end: int, n: int) -> Bins:
    """A span of the map in n bins. A block that reaches over several bins counts in each by its share."""
    blocks, sector = scanned.page.blocks, scanned.page.sector
    low, high = np.maximum(blocks.lba, first), np.minimum(blocks.lba + blocks.sectors, end)
    within = np.flatnonzero((high > low) & (blocks.state != 2))
    low, high = low[within], high[within]
    state, sectors, ms = blocks.state[within], blocks.sectors[within].astype(np.float64), blocks.ms[within]
    width = (end - first) / n
    at, last = (
        ((low - first) / width).astype(np.int64).clip(0, n - 1),
        (np.ceil((high - first) / width).astype(np.int64) - 1).clip(0, n - 1),
    )
    last = np.maximum(last, at)
    count = last - at + 1
    of = np.repeat(np.arange(len(within)), count)
    place = np.repeat(at, count) + (np.arange(len(of)) - np.repeat(np.cumsum(count) - count, count))
    share = np.minimum(high[of], first + (place + 1) * width) - np.maximum(low[of], first + place * width)
    good, bad = state[of] == READ, state[of] == UNREADABLE
    each = ms[of] / sectors[of]
    read = np.bincount(place[good], share[good], n).astype(np.float64)
    time = np.bincount(place[good], (share * each)[good], n)
    slowest = np.full(n, np.nan)
    worst = np.zeros(n)
    np.maximum.at(worst, place[good], each[good])
    known = read > 0
    with np.errstate(divide="ignore", invalid="ignore"):
        mb_s = np.where(known, read * sector / np.maximum(time, 1e-9) / 1e3, np.nan)
        slowest[known] = sector / np.maximum(worst[known], 1e-9) / 1e3
    return Bins(first, end, mb_s, slowest, read, np.bincount(place[bad], share[bad], n).astype(np.float64))


def newly_bad(now: Scanned, before: Scanned) -> list[SlowPatch]:
    """Places that read well before and do not now; empty where the disks are not the same."""
    if (now.page.sector, now.page.sectors) != (before.page.sector, before.page.sectors):
        return []
    good = before.page.blocks.state == READ
    starts, ends = union(before.page.blocks.lba[good], before.page.blocks.sectors[good])
    bad = now.page.blocks.state == UNREADABLE
    found: list[SlowPatch] = []
    for lba, size in zip(now.page.blocks.lba[bad].tolist(), now.page.blocks.sectors[bad].tolist(), strict=True):
        at = int(np.searchsorted(starts, lba, side="right")) - 1
        if at >= 0 and ends[at] >= lba + size:
            if found and found[-1].last + 1 == lba:
                found[-1] = SlowPatch(found[-1].first, lba + size - 1, "unreadable")
            else:
                found.append(SlowPatch(lba, lba + size - 1, "unreadable"))
    return found
