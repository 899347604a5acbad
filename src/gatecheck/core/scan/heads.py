"""Is it one head of several? Its tracks lie all over the disk: in stripes, once or twice through all heads, which get
narrower on the way in with the tracks; and, where blocks were read further apart than a stripe is wide, as the same
share of blocks that fail wherever one looks.

Told by a likelihood, not by a measure: what is bad as stripes with a period of their place (Normal about it), against
the same runs where they fall by chance (exponential distances, widths of any size: a scratch, spots, another load).
Serpentine order and zones: Gim, Won, "Extract and infer quickly: obtaining sector geometry of modern hard disk
drives", ACM TOS 6(2), 2010."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Flags = NDArray[np.bool_]
Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

_CLOSE = (1, 2, 4, 8, 16, 32, 64)
"""good blocks that a stripe may have inside: a head that fails only now and then"""
_FEWEST_GAPS = 2
_WIDEST_LEFT = 1 / 64
"""of the disk: what was passed over in one piece may be so wide and still belong to a stripe"""
_FILLED = 0.18
"""so many of a stripe's blocks are bad, at least"""
_LEAST_SHARE, _MOST_SHARE = 0.035, 0.62
_SURE = 6.0
"""nats by which stripes must explain the map better than chance"""
_REGULAR = (0.45, 0.22)
"""how far off a period distances may be, as a share of it; where two are taken together chance itself is more even"""
_GROUPS = 24
_EVEN = 5.0
"""how many times the scatter of single blocks the scatter of the groups may be, where stripes cannot be seen"""
_FEWEST_MARKS, _FEW_EMPTY = 24, 2
_MOST_SURE_UNSEEN = 0.75
"""stripes that were not seen may be something else that fails evenly: transfers, for one"""


@dataclass(frozen=True, slots=True)
class Heads:
    """One bad head. period: sectors once through all heads, in the middle of what was read, None where blocks stood too
    far apart to see it; share: of the surface; confidence: 0 to 1."""

    period: int | None
    share: float
    confidence: float


@dataclass(frozen=True, slots=True)
class _Read:
    """What was tried, by place, shapes (n,): first sector and sectors of each row, whether it is bad or slow, which
    stretch read without a leap it lies in, and how many blocks it stands for. step: sectors from one block to the
    next."""

    lba: Ints
    sectors: Ints
    marked: Flags
    window: Ints
    weight: Floats
    step: float
    is_gappy: bool


def find_heads(lba: Ints, sectors: Ints, marked: Flags, tried: Flags, many: Ints) -> Heads | None:
    """By place, shapes (n,): first sector and length of each row, whether it is bad or slow, whether it was tried, and
    how many blocks it stands for. None where stripes explain nothing better than chance does."""
    left = np.diff(np.cumsum(~tried)[tried]) > 0
    lba, sectors, marked, many = lba[tried], sectors[tried], marked[tried], many[tried]
    share = float(sectors[marked].sum()) / max(float(sectors.sum()), 1.0)
    if len(lba) < 24 or not 0.01 <= share <= 0.97:
        return None
    apart = np.diff(lba).astype(np.float64)
    step = _middle(apart / many[:-1], sectors[:-1].astype(np.float64))
    # what was passed over beside a bad place was passed over because of it: no leap to somewhere else
    near = (left | marked[1:] | marked[:-1]) & (apart < _WIDEST_LEFT * float(lba[-1] - lba[0]))
    leaps = (lba[1:] - lba[:-1] - sectors[:-1] > 3.0 * step) & ~near
    both = marked[1:] & marked[:-1] & ~leaps
    window = np.concatenate([[0], np.cumsum(leaps)]).astype(np.int64)
    weight = np.minimum(np.append(apart, step), np.maximum(step, sectors)) / step
    weight[:-1][both] = (apart / step)[both]
    gappy = step > 2.0 * _middle(sectors / many, sectors.astype(np.float64))
    read = _Read(lba, sectors, marked, window, weight, step, gappy)
    return _striped(read) or _even(read)


def _middle(values: Floats, weights: Floats) -> float:
    """The median by weight."""
    order = np.argsort(values)
    total = np.cumsum(weights[order])
    return float(values[order][np.searchsorted(total, total[-1] / 2)])


@dataclass(frozen=True, slots=True)
class _Runs:
    """Runs of bad blocks: where each begins and ends (sectors), whether its beginning and its end lie in a window,
    its window, how many of its blocks are bad, and of how many; shapes (k,)."""

    start: Floats
    end: Floats
    opens: Flags
    closes: Flags
    window: Ints
    bad: Floats
    blocks: Floats


def _runs(read: _Read, close: int) -> _Runs:
    lba, sectors, window = read.lba, read.sectors, read.window
    at = np.flatnonzero(read.marked)
    own = lba[at] + np.maximum(sectors[at] - read.step, 0.0)
    apart = (lba[at[1:]] - own[:-1] > (close + 1.5) * read.step) & ~(np.diff(at) == 1)
    apart |= np.diff(window[at]) > 0
    first, last = at[np.concatenate([[True], apart])], at[np.concatenate([apart, [True]])]
    total = np.concatenate([[0.0], np.cumsum(np.where(read.marked, read.weight, 0.0))])
    bad = total[last + 1] - total[first]
    kept = bad >= 0.25 * np.median(np.sort(bad)[-max(len(bad) // 2, 1) :])
    first, last, bad = first[kept], last[kept], bad[kept]
    before, after = np.maximum(first - 1, 0), np.minimum(last + 1, len(lba) - 1)
    opens = (first > 0) & (window[before] == window[first])
    closes = (last < len(lba) - 1) & (window[after] == window[last])
    # it begins somewhere between the end of the last good block and the end of the first bad one; and so at its end
    begins_after = np.where(opens, lba[before] + sectors[before], lba[first])
    ends_before = np.where(closes, lba[after], lba[last] + sectors[last])
    start = (begins_after + lba[first] + sectors[first]) / 2
    end = (lba[last] + ends_before) / 2
    blocks = np.maximum((lba[last] + sectors[last] - lba[first]) / read.step, bad)
    return _Runs(start, end, opens, closes, window[first], bad, blocks)


def _striped(read: _Read) -> Heads | None:
    best: tuple[float, Heads] | None = None
    before = -1
    for close in _CLOSE:
        if close > len(read.lba) // 8:
            break
        runs = _runs(read, close)
        if len(runs.start) < _FEWEST_GAPS + 1:
            break
        if len(runs.start) == before:
            continue
        before = len(runs.start)
        for stride in (1, 2):
            found = _as_stripes(runs, read, stride)
            if found and (best is None or found[0] > best[0] + 2.0):
                best = found
    return best[1] if best and best[0] >= _SURE else None


def _edge_gaps(runs: _Runs, stride: int) -> tuple[Floats, Floats]:
    """Distances between beginnings, and between ends, of runs so many apart in one window; and where each lies."""
    gaps, places = [], []
    for edge, is_known in ((runs.start, runs.opens), (runs.end, runs.closes)):
        both = (runs.window[stride:] == runs.window[:-stride]) & is_known[stride:] & is_known[:-stride]
        gaps.append((edge[stride:] - edge[:-stride])[both] / stride)
        places.append(((edge[stride:] + edge[:-stride]) / 2)[both])
    return np.concatenate(gaps), np.concatenate(places)


def _as_stripes(runs: _Runs, read: _Read, stride: int) -> tuple[float, Heads] | None:
    """(nats better than chance, what it says). stride 2: heads are passed to and fro, so that only every other distance
    is the same."""
    lba, step = read.lba, read.step
    gaps, places = _edge_gaps(runs, stride)
    if len(gaps) < 2 * _FEWEST_GAPS - 1:
        return None
    local = _local_period(gaps, places)
    steps = gaps / local
    single = np.abs(steps - 1.0) < 0.5
    if single.mean() < 0.6 or np.median(local) < 2.2 * step:
        return None
    off = (steps - 1.0)[single]
    # a place is known to within a block; what a zone changes in the middle of a distance
    sigma = max(1.25 * float(np.mean(np.abs(off))), 0.03, 0.3 * step / float(np.median(local)))
    if sigma > _REGULAR[stride - 1]:
        return None
    # two edges of one run tell the same
    nats = 0.5 * (float(single.sum()) * (-np.log(sigma) - 0.42) - 1.5 * float((~single).sum()))
    inside = runs.opens & runs.closes
    if float(runs.bad.sum()) < _FILLED * float(runs.blocks.sum()):
        return None
    if inside.sum() < 2:
        return None
    width = _true_widths(runs, step)[inside]
    middle = ((runs.start + runs.end) / 2)[inside]
    order = np.argsort(places)
    here = np.interp(middle, places[order], local[order])
    ratio = width / here
    usual = float(np.median(ratio))
    blocks = float(np.median(runs.blocks[inside]))
    scatter = max(1.25 * float(np.mean(np.abs(ratio / max(usual, 1e-9) - 1.0))), 0.06, 0.6 / blocks)
    nats += 0.5 * float(inside.sum()) * (-np.log(min(scatter, 2.0)) - 0.2)
    nats -= 3.0 + (2.5 if stride == 2 else 0.0)
    reach = _reached(read, places, local, order)
    found = len(runs.start) / max(reach, 1e-9)
    if not 0.5 <= found <= 1.9 or (read.is_gappy and (sigma > 0.2 or len(gaps) < 24)):
        return None
    share = _share(runs, ratio, usual)
    if not _LEAST_SHARE <= share <= _MOST_SHARE:
        return None
    at_middle = float(np.interp((lba[0] + lba[-1]) / 2, places[order], local[order]))
    confidence = float(np.clip(1.0 - np.exp(-(nats - 2.0) / 8.0), 0.0, 0.99)) * min(1.0, found / 0.8)
    return float(nats), Heads(round(at_middle), round(share, 3), round(confidence, 3))


def _local_period(gaps: Floats, places: Floats) -> Floats:
    """What the distance is at each place, shape (n,): falling in a straight line with the place, found without what
    is far off it."""
    kept = np.abs(gaps / np.median(gaps) - 1.0) < 0.75
    line = np.full(len(gaps), float(np.median(gaps)))
    for _ in range(3):
        if kept.sum() < 10 or np.ptp(places[kept]) <= 0:
            return np.full(len(gaps), float(np.median(gaps[kept])) if kept.any() else float(np.median(gaps)))
        slope, base = np.polyfit(places[kept] - places.mean(), gaps[kept], 1)
        line = np.maximum(slope * (places - places.mean()) + base, 0.2 * float(np.median(gaps)))
        kept = np.abs(gaps / line - 1.0) < 0.4
        if not kept.any():
            return np.full(len(gaps), float(np.median(gaps)))
    return np.asarray(line * float(np.median((gaps / line)[kept])))


def _true_widths(runs: _Runs, step: float) -> Floats:
    """Sectors of each stripe: a head that fails only now and then leaves good blocks at both its ends too, as wide as
    those between."""
    width = np.maximum(runs.end - runs.start, step / 4)
    holes = runs.blocks - runs.bad
    inner = np.where(runs.bad > 1, holes / np.maximum(runs.bad - 1, 1), 0.0)
    return np.asarray(width + 2.0 * inner * step)


def _share(runs: _Runs, ratio: Floats, usual: float) -> float:
    near = ratio[np.abs(ratio / max(usual, 1e-9) - 1.0) < 0.6]
    return float(np.mean(near)) if len(near) else usual


def _reached(read: _Read, places: Floats, local: Floats, order: Ints) -> float:
    """How many periods lie in what was read."""
    lba, sectors = read.lba, read.sectors
    starts = np.flatnonzero(np.diff(read.window, prepend=-1))
    ends = np.concatenate([starts[1:] - 1, [len(lba) - 1]])
    parts = 1 + 63 * (len(starts) == 1)
    total = 0.0
    for a, b in zip(starts.tolist(), ends.tolist(), strict=True):
        edges = np.linspace(lba[a], lba[b] + sectors[b], parts + 1)
        middle = (edges[1:] + edges[:-1]) / 2
        total += float((np.diff(edges) / np.interp(middle, places[order], local[order])).sum())
    return total


def _even(read: _Read) -> Heads | None:
    """The same share wherever one looks, and no neighbour more likely than another: a head whose stripes lie between
    the blocks that were read."""
    marked = read.marked
    many, count = int(marked.sum()), len(marked)
    share = many / count
    if many < _FEWEST_MARKS or not _LEAST_SHARE <= share <= _MOST_SHARE or count < 8 * _GROUPS:
        return None
    if read.window[-1] > 0 or not read.is_gappy:
        return None  # read without gaps: its stripes would be seen
    parts = np.array_split(marked, _GROUPS)
    each = np.array([len(part) for part in parts])
    got = np.array([int(part.sum()) for part in parts])
    scatter = float((((got - each * share) ** 2) / (each * share * (1.0 - share))).mean())
    if scatter > _EVEN or int((got < 0.25 * share * each).sum()) > _FEW_EMPTY:
        return None
    after = float(marked[1:][marked[:-1]].mean())
    clumped = max(after - share, 0.0) / max(1.0 - share, 1e-9)
    confidence = float(
        np.clip(
            (1.0 - 0.12 * max(scatter - 1.0, 0.0)) * min(1.0, many / 60) * (1.0 - 0.7 * clumped), 0.0, _MOST_SURE_UNSEEN
        )
    )
    return Heads(None, round(share, 3), round(confidence, 3))
