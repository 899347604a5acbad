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

from gatecheck.core.scan.heads import Heads, find_heads
from gatecheck.core.scan.read import LEFT, READ, UNREADABLE, Floats, Ints, ReadMap
from gatecheck.core.scan.stall import GONE, stall_score

OUTCOMES = ("clean", "slow-patches", "isolated-unreadable", "spreading", "one-head", "stalled")
_BINS = 256
_SLOW, _SLOW_MS = 3.0, 25.0
"""a block is slow when it takes this many times what its place takes, and at least so much longer: three revolutions
and more"""
_WORST_MS, _OFTEN_MS = 100.0, 60.0
"""so late is the worst of a bad place, and a quarter of it"""
_COMPANY = 9
"""so many of sixteen neighbours are company in any case"""
_SLOWER = 8.0
_ALIKE, _LATER, _SLOWEST_ALIKE = 0.6, 1.8, 4.5
"""blocks of a slow head take alike many times what their places take: the middle deviation of the logarithms; from
where on a block is not as usual; and the least that they take in the middle"""
_FEW_LOST = 0.1
"""a place with retries stays one where no more than this share of what is bad in it is lost"""
_SLOWEST = 0.5
"""milliseconds a sector: no place is that slow by nature, a megabyte a second"""
_FLASH_MB_S, _INNER_SHARE = 280.0, 0.52
"""no disk reads faster; and what is left of a disk's pace at its inner end"""
_LITTLE_READ, _ENOUGH_READ = 0.08, 0.35
"""shares of the disk: below the first nothing of its slope is known, with the second on top of it everything"""
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
    pace = _pace(lba, sectors, ms, state == READ, span, sector_size)
    usual = pace[np.minimum((lba * _BINS // max(span, 1)).astype(np.int64), _BINS - 1)]
    expected = usual * sectors
    bad = state == UNREADABLE
    lateness = (ms - expected) / many  # of each of the blocks that a row stands for
    late = (state == READ) & (ms > _SLOW * expected) & (lateness > _SLOW_MS)
    slow = _not_by_chance(late, bad, lateness, place, many)
    unreadable = int(sectors[bad].sum())
    heads = _one_head(lba, sectors, ms / np.maximum(expected, 1e-9), bad, slow, state != LEFT, many)
    stall = stall_score(found, usual[np.searchsorted(lba, found.lba)] * found.sectors)
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
        _seconds_left(lba, sectors, ms, state, usual, pace, span, disk_sectors),
    )


def _latest_by_place(found: ReadMap) -> Ints:
    """Indices of the blocks by place; of several at one place the last that was tried, a left one only where nothing
    else is known."""
    order = np.lexsort((np.arange(len(found)), found.state != LEFT, found.lba))
    last = np.ones(len(order), dtype=bool)
    last[:-1] = found.lba[order][1:] != found.lba[order][:-1]
    return np.asarray(order[last])


def _pace(lba: Ints, sectors: Ints, ms: Floats, good: Flags, span: int, sector_size: int) -> Floats:
    """Milliseconds a sector usually takes in each of so many equal parts of the disk, shape (_BINS,): the lower third
    of what was read near it, for what is worse is no property of the place; smoothed, and beyond what was read as a
    disk or flash goes on."""
    if not good.any():
        return np.full(_BINS, 1e-3)
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
        known = np.array([int(np.median(own))])
        bins[known] = float(np.median(each))
    filled = np.interp(np.arange(_BINS), known, bins[known])
    in_a_row = len(lba) > 1 and float((lba[1:] == lba[:-1] + sectors[:-1]).mean()) > 0.5
    filled[known[-1] + 1 :] = _further_in(known, bins[known], sector_size, falls=in_a_row)
    # a patch wider than a bin must not become usual: the median over a wide window, twice
    for _ in range(2):
        padded = np.pad(filled, 20, mode="edge")
        filled = np.minimum(filled, np.median(np.lib.stride_tricks.sliding_window_view(padded, 41), axis=1) * 1.35)
    return np.asarray(np.maximum(filled, 1e-6))


def _further_in(known: Ints, each: Floats, sector_size: int, *, falls: bool) -> Floats:
    """What lies inside of everything that was read: a disk gets slower in a straight line down to about half of its
    outer pace, as far as what was read does not say otherwise; flash does not, nor what is read in single blocks, each
    of which costs a seek."""
    beyond = np.arange(int(known[-1]) + 1, _BINS)
    if not len(beyond):
        return np.zeros(0)
    pace = 1.0 / each
    reach = float(known[-1] - known[0]) / _BINS
    is_flash = float(np.median(pace)) * sector_size / 1000.0 > _FLASH_MB_S
    usual = 1.0 if is_flash or not falls else _INNER_SHARE
    trust = float(np.clip((reach - _LITTLE_READ) / _ENOUGH_READ, 0.0, 1.0)) if len(known) >= 8 else 0.0
    if trust:
        slope, start = np.polyfit(known, pace, 1)
        outer = max(start, 1e-12)
        seen = float(np.clip((start + slope * (_BINS - 1)) / outer, 0.35, 1.0))
        share = trust * seen + (1.0 - trust) * usual
    else:
        middle = float(np.mean(known)) / _BINS
        outer, share = float(np.median(pace)) / (1.0 - (1.0 - usual) * middle), usual
    return np.asarray(1.0 / (outer * (1.0 - (1.0 - share) * beyond / _BINS)))


def _not_by_chance(late: Flags, bad: Flags, lateness: Floats, place: Ints, many: Ints) -> Flags:
    """Late blocks that have company: another load on the machine makes one late here and one there, or many a little; a
    bad place makes neighbours late, some of them by a dozen revolutions."""
    if not late.any():
        return late
    total = np.concatenate([[0], np.cumsum(np.where(late | bad, many, 0))])
    low, high = np.searchsorted(place, place - 8), np.searchsorted(place, place + many + 8)
    company = total[high] - total[low] - 1
    kept = late & (company >= min(2 + 40 * float(many[late].sum()) / float(many.sum()), _COMPANY))
    first, last = _runs(kept | bad, place, many, _NEAR)
    for a, b in zip(first.tolist(), last.tolist(), strict=True):
        own = lateness[a : b + 1][kept[a : b + 1]]
        if not bad[a : b + 1].any() and (own.max() < _WORST_MS or np.percentile(own, 75) < _OFTEN_MS):
            kept[a : b + 1] = False
    return np.asarray(kept)


def _one_head(
    lba: Ints, sectors: Ints, times: Floats, bad: Flags, slow: Flags, tried: Flags, many: Ints
) -> Heads | None:
    """What reads badly, and what only takes several times as long as its place does: a head that reads slowly costs no
    revolutions, so that its small blocks are late by little. times: of what is usual at its place."""
    found = []
    for marks in (bad | (times > _SLOW), bad | (times > _SLOWER), bad | slow):
        if int((marks & ~bad).sum()) <= 4 * int(bad.sum()) or _is_apart(times[tried & ~bad], times[marks & ~bad]):
            found.append(find_heads(lba, sectors, marks, tried, many))
    return max((one for one in found if one), key=lambda one: (one.confidence, one.period is not None), default=None)


def _is_apart(every: Floats, slow: Floats) -> bool:
    """Do the slow blocks take alike many times what their places take, with few between them and the others? Another
    load makes some a little late and some much; a head that reads slowly makes all of its own alike slow."""
    if not len(slow):
        return False
    logs = np.log(np.maximum(slow, 1e-6))
    usual = float(np.median(slow))
    between = int(((every > _LATER) & (every < 0.5 * usual)).sum())
    return bool(
        np.median(np.abs(logs - np.log(usual))) < _ALIKE and usual > _SLOWEST_ALIKE and between < 0.6 * len(slow)
    )


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
    if stall:
        scores["stalled"] = stall if heads is None or heads.confidence < 0.5 or stall >= GONE else 0.3 * stall
    if heads is not None:
        scores["one-head"] = 0.4 + 2.2 * heads.confidence
    share = float(many[slow].sum()) / count
    if in_patch and _mostly_slow(bad, slow, place, many):
        scores["slow-patches"] = 1.2
        scores["isolated-unreadable"], scores["spreading"] = 0.3, 0.4
    elif in_patch:
        crowded = max(in_patch) >= _SPOT_BLOCKS or len(in_patch) > _FEW_SPOTS or _grows(bad, slow, place, many)
        scores["spreading"] = 1.2 if crowded else 0.15
        scores["isolated-unreadable"] = 0.25 if crowded else 1.2
        if heads is not None and heads.confidence >= 0.4:
            scores["spreading"] *= 0.4
    elif slow.any():
        scores["slow-patches"] = 0.9 + min(share * 20, 0.5)
        scores["clean"] = 0.25 if share < 0.0005 else 0.05
    else:
        scores["clean"] = 1.2
        scores["slow-patches"] = 0.03 + min(0.25, float(many[late].sum()) / count * 5)
    return scores


def _mostly_slow(bad: Flags, slow: Flags, place: Ints, many: Ints) -> bool:
    """Places with retries in which a few blocks are lost, and hardly any lost elsewhere."""
    first, last = _runs(bad | slow, place, many, _NEAR)
    inside = 0
    for a, b in zip(first.tolist(), last.tolist(), strict=True):
        lost, late = int(bad[a : b + 1].sum()), int(slow[a : b + 1].sum())
        if lost and late >= _SPOT_BLOCKS and lost <= max(_FEW_LOST * (lost + late), 1):
            inside += lost
    return inside > 0.5 * int(bad.sum())


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
    lba: Ints,
    sectors: Ints,
    ms: Floats,
    state: NDArray[np.int8],
    usual: Floats,
    pace: Floats,
    span: int,
    disk_sectors: int | None,
) -> float | None:
    """What is still to be read at the pace of its places; what was left beside bad blocks at the pace of those. None
    where nothing says that more is to come. Rows by place."""
    left = state == LEFT
    covered = int(sectors[~left].sum())
    rest = max(int(disk_sectors) - covered - int(sectors[left].sum()), 0) if disk_sectors else 0
    if not left.any() and not rest:
        return 0.0 if disk_sectors else None
    if left.all():
        return None
    read = state == READ
    # what comes on top: seeks, other load
    drag = float(ms[read].sum() / max(float((usual[read] * sectors[read]).sum()), 1e-9)) if read.any() else 1.0
    edges = np.linspace(0.0, float(span), _BINS + 1)
    until = np.concatenate([[0.0], np.cumsum(pace * np.diff(edges))])
    took = np.interp(lba + sectors, edges, until) - np.interp(lba, edges, until)  # a row may be as long as the disk
    seconds = float(took[left].sum()) / 1000.0 * min(drag, 2.0)
    if left.any() and (state == UNREADABLE).any():
        # "same" is as long as the longer of the two
        near = np.convolve((state == UNREADABLE).astype(np.float64), np.ones(9))[4 : 4 + len(state)] > 0
        cost = float(np.median(ms[state == UNREADABLE]))
        seconds += float((left & near).sum()) * cost / 1000.0 * 0.5
    if rest:
        seconds += max(float(until[-1] - took.sum()), 0.0) / 1000.0 * min(drag, 2.0)
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
