"""What a read map says: how fast the surface is, where it is bad, and which pattern that is.

A disk is not uniformly fast: it has more sectors on its outer tracks, so that throughput falls in zones to about half
on the way in, while a head passes over one surface after the other in serpentine order (one surface's band of tracks,
then the next one's), so that a dead head shows as stripes all over, of a width that shrinks with the tracks. A retry
costs whole revolutions, a block that fails after its last retry seconds. Flash is flat, with dips where it collects
garbage, which come and go in time rather than in place."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from gatecheck.core.scan.read import LEFT, READ, UNREADABLE, Floats, Ints, ReadMap

OUTCOMES = ("clean", "slow-patches", "isolated-unreadable", "spreading", "one-head", "stalled")
_BINS = 256
_SLOW, _SLOW_MS = 3.0, 25.0
"""a block is slow when it takes this many times what its place takes, and at least so much longer: three revolutions
and more"""
_WORST_MS = 100.0
_STALL_MS = 1500.0
"""from here on a block was not read with retries but after resets"""
_SLOWEST = 0.5
"""milliseconds a sector: no place is that slow by nature, a megabyte a second"""
_NEAR = 24
"""blocks that belong to one patch may have so many good ones between them"""
_FEW_SPOTS, _SPOT_BLOCKS = 40, 8
"""so many places with unreadable blocks, and so many blocks in one of them, are still spots"""
_MOST_PATCHES = 500

Flags = NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class SlowPatch:
    """A bad place: first and last sector; kind: slow, unreadable, or mixed (unreadable with slow ones around it)."""

    first: int
    last: int
    kind: str


@dataclass(frozen=True, slots=True)
class Heads:
    """Stripes of one dead head: sectors from one stripe to the next (in the middle of the disk), share of the surface,
    and how sure that is."""

    period: int
    share: float
    confidence: float


@dataclass(frozen=True, slots=True)
class SurfaceVerdict:
    pattern: str
    weights: dict[str, float]
    unreadable_sectors: int
    patches: tuple[SlowPatch, ...]
    heads: Heads | None
    outer_mb_s: float | None
    inner_mb_s: float | None
    seconds_left: float | None


def judge_map(found: ReadMap, *, sector_size: int = 512, disk_sectors: int | None = None) -> SurfaceVerdict:
    """The verdict on a map of any order, with gaps and overlaps; the last read of a place counts."""
    tried = found.state != LEFT
    by_place = _latest_by_place(found)
    lba, sectors, ms, state, many = (
        found.lba[by_place],
        found.sectors[by_place],
        found.ms[by_place],
        found.state[by_place],
        found.blocks[by_place],
    )
    place = np.cumsum(many) - many
    span = max(int(disk_sectors or 0), int((found.lba + found.sectors).max()))
    usual = _usual(lba, sectors, ms, state == READ, span)
    expected = usual * sectors
    bad = state == UNREADABLE
    lateness = (ms - expected) / many  # of each of the blocks that a row stands for
    late = (state == READ) & (ms > _SLOW * expected) & (lateness > _SLOW_MS)
    slow = _not_by_chance(late, bad, lateness, place, many)
    unreadable = int(sectors[bad].sum())
    heads = _stripes(lba, sectors, bad | slow, state != LEFT, span, place, many)
    stall = _stall_share(found, tried, usual, by_place)
    scores = _scores(int(found.blocks[tried].sum()), bad, slow, late, heads, stall, place, many)
    pattern = max(scores, key=lambda name: scores[name])
    total = sum(scores.values())
    weights = {name: round(score / total, 4) for name, score in scores.items()}
    rate = _rates(lba, sectors, ms, (state == READ) & ~late, span, sector_size)
    return SurfaceVerdict(
        pattern,
        weights,
        unreadable,
        _patches(lba, sectors, bad, slow, place, many),
        heads if pattern == "one-head" else None,
        *rate,
        _seconds_left(found, lba, sectors, ms, state, usual, span, disk_sectors),
    )


def _latest_by_place(found: ReadMap) -> Ints:
    """Indices of the blocks by place; of several at one place the last that was tried, a left one only where nothing
    else is known."""
    order = np.lexsort((np.arange(len(found)), found.state != LEFT, found.lba))
    last = np.ones(len(order), dtype=bool)
    last[:-1] = found.lba[order][1:] != found.lba[order][:-1]
    return np.asarray(order[last])


def _usual(lba: Ints, sectors: Ints, ms: Floats, good: Flags, span: int) -> Floats:
    """Milliseconds a sector usually takes at each block's place: the lower quartile near it, for what is worse is no
    property of the place; smoothed."""
    if not good.any():
        return np.full(len(lba), 1e-3)
    place = np.minimum((lba * _BINS // max(span, 1)).astype(np.int64), _BINS - 1)
    each = ms[good] / sectors[good]
    each = np.minimum(each, min(6.0 * float(np.median(each)), _SLOWEST))  # nothing hangs because of where it lies
    bins = np.full(_BINS, np.nan)
    own = place[good]
    order = np.lexsort((each, own))
    sorted_place, sorted_each = own[order], each[order]
    starts = np.searchsorted(sorted_place, np.arange(_BINS))
    ends = np.searchsorted(sorted_place, np.arange(_BINS), side="right")
    for b in np.flatnonzero(ends - starts >= 3):
        part = sorted_each[starts[b] : ends[b]]
        bins[b] = part[len(part) // 3]
    known = np.flatnonzero(~np.isnan(bins))
    if not len(known):
        return np.full(len(lba), float(np.median(each)))
    filled = np.interp(np.arange(_BINS), known, bins[known])
    filled[known[-1] + 1 :] = _further_in(known, bins[known])
    # a patch wider than a bin must not become usual: the median over a wide window, twice
    for _ in range(2):
        padded = np.pad(filled, 20, mode="edge")
        filled = np.minimum(filled, np.median(np.lib.stride_tricks.sliding_window_view(padded, 41), axis=1) * 1.35)
    return np.asarray(np.maximum(filled, 1e-6)[place])


def _further_in(known: Ints, each: Floats) -> Floats:
    """What lies inside of everything that was read: a disk goes on getting slower as it did so far, down to two fifths
    of its outer speed; flash does not."""
    beyond = np.arange(int(known[-1]) + 1, _BINS)
    pace = 1.0 / each
    if len(known) < _BINS // 10 or known[-1] - known[0] < _BINS // 8:
        return np.full(len(beyond), float(each[-1]))
    slope, start = np.polyfit(known, pace, 1)
    if slope * (known[-1] - known[0]) > -0.04 * pace.max():
        return np.full(len(beyond), float(np.median(each)))
    return np.asarray(1.0 / np.maximum(slope * beyond + start, 0.4 * float(np.percentile(pace, 95))))


def _not_by_chance(late: Flags, bad: Flags, lateness: Floats, place: Ints, many: Ints) -> Flags:
    """Late blocks that have company: another load on the machine makes one late here and one there, or many a little; a
    bad place makes neighbours late, some of them by a dozen revolutions."""
    if not late.any():
        return late
    total = np.concatenate([[0], np.cumsum(np.where(late | bad, many, 0))])
    low, high = np.searchsorted(place, place - 8), np.searchsorted(place, place + many + 8)
    company = total[high] - total[low] - 1
    kept = late & (company >= 2 + 40 * float(many[late].sum()) / float(many.sum()))
    first, last = _runs(kept | bad, place, many, _NEAR)
    for a, b in zip(first.tolist(), last.tolist(), strict=True):
        if not bad[a : b + 1].any() and lateness[a : b + 1].max() < _WORST_MS:
            kept[a : b + 1] = False
    return np.asarray(kept)


def _runs(flags: Flags, place: Ints, many: Ints, gap: int) -> tuple[Ints, Ints]:
    """First and last index of runs of set flags, those with at most `gap` blocks between them joined. A row at `place`
    (blocks before it) stands for `many`."""
    at = np.flatnonzero(flags)
    if not len(at):
        return at, at
    breaks = np.flatnonzero(place[at[1:]] - (place[at[:-1]] + many[at[:-1]]) > gap)
    return at[np.concatenate([[0], breaks + 1])], at[np.concatenate([breaks, [len(at) - 1]])]


def _patches(lba: Ints, sectors: Ints, bad: Flags, slow: Flags, place: Ints, many: Ints) -> tuple[SlowPatch, ...]:
    first, last = _runs(bad | slow, place, many, _NEAR)
    found = []
    for a, b in zip(first[:_MOST_PATCHES].tolist(), last[:_MOST_PATCHES].tolist(), strict=True):
        has_bad, has_slow = bool(bad[a : b + 1].any()), bool(slow[a : b + 1].any())
        found.append(
            SlowPatch(
                int(lba[a]),
                int(lba[b] + sectors[b] - 1),
                "mixed" if has_bad and has_slow else "unreadable" if has_bad else "slow",
            )
        )
    return tuple(found)


def _stripes(lba: Ints, sectors: Ints, marked: Flags, tried: Flags, span: int, place: Ints, many: Ints) -> Heads | None:
    """Stripes all over the disk, alike and evenly apart, their width falling slowly: what one head of several reads."""
    first, last = _runs(marked & tried, place, many, 1)
    if len(first) < 8:
        return None
    start, end = lba[first].astype(np.float64), (lba[last] + sectors[last]).astype(np.float64)
    outer, inner = _good_beside(lba, sectors, tried, first, last, start, end)
    start, end = (start + outer) / 2, (end + inner) / 2  # it ends somewhere between what does not read and what does
    width, middle = end - start, (start + end) / 2
    wide = width >= 0.3 * np.median(np.sort(width)[-max(len(width) // 2, 4) :])
    start, end, width, middle = start[wide], end[wide], width[wide], middle[wide]
    if len(width) < 8:
        return None
    gap = np.diff(middle)
    twice = (
        middle[2:] - middle[:-2]
    ) / 2  # heads are passed to and fro: the way to the next stripe but one is always the same
    if np.abs(np.diff(twice) / twice[:-1]).mean() < 0.5 * np.abs(np.diff(gap) / gap[:-1]).mean():
        gap, middle, width = twice, middle[1:], width[1:]
    # where a part of the disk was left out, gaps are multiples; the usual one falls with the place
    trend = np.polyfit(middle[:-1], gap, 1) if len(gap) > 12 else np.array([0.0, float(np.median(gap))])
    local = np.maximum(np.polyval(trend, middle[:-1]), 0.2 * float(np.median(gap)))
    local = local * float(np.median(gap / local))
    steps = gap / local
    off = np.abs(steps - np.round(np.maximum(steps, 1.0)))
    regular = float(np.mean((off < 0.22) & (steps < 6.5)))
    even = float(
        np.std(width / np.interp(middle, middle[:-1], local))
        / max(float(np.mean(width / np.interp(middle, middle[:-1], local))), 1e-9)
    )
    covered = lba[tried]
    spread = (middle[-1] - middle[0]) / max(float(covered.max() - covered.min()), 1.0)
    share = float(np.median(width[:-1] / local))
    if not 0.04 <= share <= 0.62 or spread < 0.5 or regular < 0.6 or even > 0.7:
        return None
    confidence = float(
        np.clip(regular * (1.0 - 0.6 * even) * min(1.0, len(width) / 16) * min(1.0, spread / 0.8), 0.0, 0.99)
    )
    return Heads(int(np.median(local)), round(share, 3), round(confidence, 3))


def _good_beside(
    lba: Ints, sectors: Ints, tried: Flags, first: Ints, last: Ints, start: Floats, end: Floats
) -> tuple[Floats, Floats]:
    """Where the nearest blocks that were tried end before each run, and begin after it; its own edge where there is
    none."""
    at = np.flatnonzero(tried)
    before, after = np.searchsorted(at, first) - 1, np.searchsorted(at, last, side="right")
    outer = np.where(before >= 0, lba[at[np.maximum(before, 0)]] + sectors[at[np.maximum(before, 0)]], start)
    inner = np.where(after < len(at), lba[at[np.minimum(after, len(at) - 1)]], end)
    return np.minimum(outer, start).astype(np.float64), np.maximum(inner, end).astype(np.float64)


def _scores(
    tried: int, bad: Flags, slow: Flags, late: Flags, heads: Heads | None, stall: float, place: Ints, many: Ints
) -> dict[str, float]:
    """How well each pattern explains the map, above zero; the best one is the verdict. Where nothing was tried, none
    does better than another."""
    scores = dict.fromkeys(OUTCOMES, 0.02)
    if not tried:
        return scores
    count = max(tried, 1)
    first, last = _runs(bad, place, many, _NEAR)
    in_patch = [int(bad[a : b + 1].sum()) for a, b in zip(first.tolist(), last.tolist(), strict=True)]
    if stall >= 0.5:
        scores["stalled"] = 2.0 + stall
    elif stall >= 0.2:
        scores["stalled"] = 0.5 + stall
    if heads is not None:
        scores["one-head"] = 0.4 + 2.2 * heads.confidence
    if in_patch:
        crowded = max(in_patch) >= _SPOT_BLOCKS or len(in_patch) > _FEW_SPOTS or _grows(bad, slow, place, many)
        scores["spreading"] = 1.2 if crowded else 0.15
        scores["isolated-unreadable"] = 0.25 if crowded else 1.2
        if heads is not None and heads.confidence >= 0.4:
            scores["spreading"] *= 0.4
    elif slow.any():
        share = float(many[slow].sum()) / count
        scores["slow-patches"] = 0.9 + min(share * 20, 0.5)
        scores["clean"] = 0.25 if share < 0.0005 else 0.05
    else:
        scores["clean"] = 1.2
        scores["slow-patches"] = 0.03 + min(0.25, float(many[late].sum()) / count * 5)
    return scores


def _stall_share(found: ReadMap, tried: Flags, usual: Floats, by_place: Ints) -> float:
    """How much of what was tried last took as long as resets take, whatever its place usually takes; 0 to 1 and
    beyond."""
    expected = np.zeros(len(found))
    expected[by_place] = usual * found.sectors[by_place]
    # who goes back to what failed before meets what fails, not a stall
    fresh = found.lba >= np.maximum.accumulate(found.lba)
    counted = tried & (fresh | (found.state == READ))
    hung, many = (
        ((found.ms >= _STALL_MS) & (found.ms > expected + _STALL_MS) & (found.ms > 2.5 * expected))[counted],
        found.blocks[counted],
    )
    if len(hung) < 8:
        return 0.0
    tail = hung[-16:]
    return float(max(np.average(tail, weights=many[-16:]), 2.5 * np.average(hung, weights=many)))


def _grows(bad: Flags, slow: Flags, place: Ints, many: Ints) -> bool:
    """Unreadable blocks with a wide margin of slow ones: a scratch and what it has touched."""
    first, last = _runs(bad | slow, place, many, _NEAR)
    return any(
        bad[a : b + 1].sum() >= 3 and slow[a : b + 1].sum() >= 6
        for a, b in zip(first.tolist(), last.tolist(), strict=True)
    )


def _rates(
    lba: Ints, sectors: Ints, ms: Floats, good: Flags, span: int, sector_size: int
) -> tuple[float | None, float | None]:
    """Throughput in MB/s at the outer and at the inner end, of the tenth of what was read that lies nearest to each."""
    if good.sum() < 4:
        return None, None
    at, rate = lba[good], sectors[good] * sector_size / np.maximum(ms[good], 1e-3) / 1000.0
    tenth = max(len(at) // 10, 2)
    outer = float(np.median(rate[:tenth])) if at[0] <= 0.2 * span else None
    inner = float(np.median(rate[-tenth:])) if at[-1] >= 0.8 * span else None
    return (None if outer is None else round(outer, 1)), (None if inner is None else round(inner, 1))


def _seconds_left(
    found: ReadMap,
    lba: Ints,
    sectors: Ints,
    ms: Floats,
    state: NDArray[np.int8],
    usual: Floats,
    span: int,
    disk_sectors: int | None,
) -> float | None:
    """What is still to be read at the pace of its place; what was left beside bad blocks at the pace of those. None
    where nothing says that more is to come."""
    left = state == LEFT
    covered = int(sectors[~left].sum())
    rest = max(int(disk_sectors) - covered - int(sectors[left].sum()), 0) if disk_sectors else 0
    if not left.any() and not rest:
        return 0.0 if disk_sectors else None
    done = state != LEFT
    if not done.any():
        return None
    read = state == READ
    # what comes on top: seeks, other load
    drag = float(ms[read].sum() / max(float((usual[read] * sectors[read]).sum()), 1e-9)) if read.any() else 1.0
    seconds = float((usual[left] * sectors[left]).sum()) / 1000.0 * min(drag, 2.0)
    if left.any() and (state == UNREADABLE).any():
        # "same" is as long as the longer of the two
        near = np.convolve((state == UNREADABLE).astype(np.float64), np.ones(9))[4 : 4 + len(state)] > 0
        troubled = left & near
        cost = float(np.median(ms[state == UNREADABLE]))
        seconds += float(troubled.sum()) * cost / 1000.0 * 0.5
    if rest:
        known = np.flatnonzero(state == READ)
        pace = (
            float(np.median(ms[known[-max(len(known) // 10, 1) :]] / sectors[known[-max(len(known) // 10, 1) :]]))
            if len(known)
            else float(np.median(usual))
        )
        seconds += rest * pace / 1000.0 * 1.15
    return round(seconds, 1)


def surface_document(surface: SurfaceVerdict) -> dict[str, object]:
    """The contract's document."""
    heads = surface.heads
    return {
        "pattern": surface.pattern,
        "weights": surface.weights,
        "unreadable_sectors": surface.unreadable_sectors,
        "patches": [{"first": p.first, "last": p.last, "kind": p.kind} for p in surface.patches],
        "heads": {"period": heads.period, "share": heads.share, "confidence": heads.confidence} if heads else None,
        "speed": {"outer_mb_s": surface.outer_mb_s, "inner_mb_s": surface.inner_mb_s},
        "seconds_left": surface.seconds_left,
    }
