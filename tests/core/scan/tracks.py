"""Read maps of drives drawn track by track: some surfaces, zones of tracks with fewer sectors on the way in, runs
of tracks on one head and then on the next, in order or to and fro. What a reader meets is worked out from where its
blocks lie on those tracks, in whatever way it reads: all of it, blocks far apart, windows, or until its time ends.

Not the generator of maps.py, which draws stripes of blocks: neither knows the other."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from gatecheck.core.scan.read import LEFT, READ, UNREADABLE, ReadMap

Rng = np.random.Generator


@dataclass
class Disk:
    """Where each run of tracks begins (sectors, shape (runs + 1,)), which head reads it (shape (runs,)), and what the
    medium gives there (bytes a second, shape (runs,))."""

    begins: NDArray[np.int64]
    head: NDArray[np.int64]
    rate: NDArray[np.float64]
    heads: int
    sector: int
    turn_ms: float
    sectors: int

    def run_of(self, lba: NDArray[np.int64]) -> NDArray[np.int64]:
        return np.clip(np.searchsorted(self.begins, lba, side="right") - 1, 0, len(self.head) - 1)

    def period(self, at: float) -> float:
        """Sectors once through all heads, at this share of the disk."""
        run = int(self.run_of(np.array([int(at * self.sectors)]))[0])
        return float((self.begins[run + 1] - self.begins[run]) * self.heads)


def disk(rng: Rng, *, smallest_gb: float = 80, largest_gb: float = 22_000) -> Disk:
    gb = float(np.exp(rng.uniform(np.log(smallest_gb), np.log(largest_gb))))
    sector = 4096 if gb > 4000 and rng.random() < 0.6 else 512
    heads = int(rng.integers(2, 5)) if gb < 2000 else int(rng.integers(2, 21))
    rpm = float(rng.choice([5400, 5900, 7200]))
    outer = rng.uniform(0.5, 1.0) * (0.9e6 if gb < 300 else 2.2e6)  # bytes of the outermost track
    zones = int(rng.integers(10, 40))
    track = outer * np.linspace(1.0, rng.uniform(0.42, 0.6), zones)
    total = gb * 1e9
    tracks_per_run = float(np.exp(rng.uniform(np.log(30), np.log(420))))
    each = track * tracks_per_run
    zone_bytes = track / track.sum() * total
    runs_per_zone = np.maximum((zone_bytes / each).astype(int), 1)
    length = np.repeat((each // sector).astype(np.int64), runs_per_zone)
    rate = np.repeat(track * rpm / 60.0, runs_per_zone)
    order = np.arange(len(length))
    head = order % heads
    if rng.random() < 0.5:
        head = np.where((order // heads) % 2 == 0, head, heads - 1 - head)
    begins = np.concatenate([[0], np.cumsum(length)])
    return Disk(begins, head.astype(np.int64), rate, heads, sector, 60_000 / rpm, int(begins[-1]))


@dataclass
class Tracked:
    """A map and its truth. period: sectors once through all heads in the middle of what was read, None where blocks
    stood too far apart to see it."""

    map: ReadMap
    kind: str
    way: str
    disk: Disk
    unreadable: int
    share: float | None = None
    period: float | None = None
    heads: int = 0
    more: dict[str, float] = field(default_factory=dict)


def blocks_read(rng: Rng, own: Disk, way: str) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """First sector and sectors of each block in the order read."""
    run = int(np.median(np.diff(own.begins)))
    if way == "whole":
        per = max(own.sectors // int(rng.integers(8_000, 60_000)), 8)
        per = min(per, max(run // 3, 8))
        count = own.sectors // per
        if count > 250_000:
            return blocks_read(rng, own, "windows")
        return np.arange(count, dtype=np.int64) * per, np.full(count, per, dtype=np.int64)
    small = int(rng.choice([128, 256, 512, 1024, 2048])) * 512 // own.sector
    if way == "sampled":
        count = min(int(rng.integers(400, 12_000)), own.sectors // (small * 2))
        return (np.arange(count, dtype=np.int64) * (own.sectors // count)), np.full(count, small, dtype=np.int64)
    per = max(run // int(rng.integers(4, 30)), 8)
    if way == "budget":
        reach = int(run * own.heads * rng.uniform(5.2, 9.0))
        count = min(reach, own.sectors) // per
        return np.arange(count, dtype=np.int64) * per, np.full(count, per, dtype=np.int64)
    windows, wide = int(rng.integers(6, 20)), int(run * own.heads * rng.uniform(2.2, 6.0))
    wide = min(wide, own.sectors // (windows * 2))
    begins = np.linspace(0, own.sectors - wide, windows).astype(np.int64)
    each = np.arange(max(wide // per, 1), dtype=np.int64) * per
    return (begins[:, None] + each[None, :]).ravel(), np.full(windows * len(each), per, dtype=np.int64)


def timed(rng: Rng, own: Disk, lba: NDArray[np.int64], sectors: NDArray[np.int64], load: float) -> NDArray[np.float64]:
    """Milliseconds of each block where nothing is wrong: transfer, seeks, and another process's reads in between."""
    ms = sectors * own.sector / own.rate[own.run_of(lba)] * 1000.0
    ms *= rng.normal(1.0, 0.015, len(lba)).clip(0.9)
    jumps = np.concatenate([[True], lba[1:] != lba[:-1] + sectors[:-1]])
    ms[jumps] += rng.uniform(3, 14, int(jumps.sum())) + own.turn_ms * rng.random(int(jumps.sum()))
    if load:
        busy = np.repeat(rng.random(len(lba) // 50 + 1) < min(load * 8, 1.0), 50)[: len(lba)]
        hit = busy & (rng.random(len(lba)) < 0.125 + load)
        times = rng.poisson(1.3, len(lba)) + 1
        ms[hit] += times[hit] * rng.uniform(6, 22, int(hit.sum()))
    return ms


WAYS = ("whole", "sampled", "windows", "budget")


def one_head(rng: Rng, way: str) -> Tracked:
    own = disk(rng)
    lba, sectors = blocks_read(rng, own, way)
    ms = timed(rng, own, lba, sectors, float(rng.choice([0.0, 0.0, 0.01, 0.05])))
    state = np.full(len(lba), READ, dtype=np.int8)
    hurt = int(rng.integers(0, own.heads))
    first, last = own.run_of(lba), own.run_of(lba + sectors - 1)
    on_it = (own.head[first] == hurt) | (own.head[last] == hurt)
    inner = np.where(own.head[first] == hurt, 1.0, 0.0) + np.where(own.head[last] == hurt, 1.0, 0.0)
    for run in range(1, int((last - first).max()) if len(lba) else 0):
        on_it |= (own.head[np.minimum(first + run, len(own.head) - 1)] == hurt) & (first + run < last)
    how = str(rng.choice(["dead", "failing", "slow"]))
    if how == "dead":
        fails = on_it & (rng.random(len(lba)) < rng.uniform(0.97, 1.0))
    elif how == "failing":
        fails = on_it & (rng.random(len(lba)) < rng.uniform(0.25, 0.8))
        late = on_it & ~fails & (rng.random(len(lba)) < 0.5)
        ms[late] += own.turn_ms * rng.integers(4, 60, int(late.sum()))
    else:
        fails = np.zeros(len(lba), dtype=bool)
        ms[on_it] *= 1.0 + 19.0 * np.minimum(inner[on_it] / 2.0 + 0.02, 1.0)
    state[fails] = UNREADABLE
    ms[fails] += rng.uniform(80, 9000) * rng.uniform(0.7, 1.3, int(fails.sum()))
    step = float(np.median(np.diff(lba))) if len(lba) > 1 else 0.0
    middle = float(lba[len(lba) // 2]) / own.sectors
    turns = (
        own.head[own.heads] == own.heads - 1
    )  # to and fro: the outermost heads are met twice in a row, half as often
    twice = 2.0 if turns and hurt in (0, own.heads - 1) else 1.0
    seen = step * 2.5 < twice * own.period(middle)
    return Tracked(
        ReadMap(lba, sectors, ms, state), "one-head", way, own, int(sectors[fails].sum()), 1 / own.heads,
        twice * own.period(middle) if seen else None, own.heads,
        {"failing": float(how == "failing"), "slow": float(how == "slow")},
    )  # fmt: skip


def _spread(rng: Rng, way: str) -> Tracked:
    """A scratch or two: places where much does not read, with slow ones around, on one surface or on all."""
    own = disk(rng)
    lba, sectors = blocks_read(rng, own, way if way != "sampled" else "whole")
    ms = timed(rng, own, lba, sectors, float(rng.choice([0.0, 0.01, 0.03])))
    state = np.full(len(lba), READ, dtype=np.int8)
    count = len(lba)
    for _ in range(int(rng.integers(1, 4))):
        at, wide = int(rng.integers(count // 20, count - count // 20)), float(rng.uniform(15, max(count * 0.02, 40)))
        near = np.exp(-0.5 * ((np.arange(count) - at) / wide) ** 2)
        near[near < 0.02] = 0
        if rng.random() < 0.4:
            near = near * (own.head[own.run_of(lba)] == int(rng.integers(0, own.heads)))
        fails = rng.random(count) < near * rng.uniform(0.4, 0.95)
        late = ~fails & (rng.random(count) < near)
        ms[late] += own.turn_ms * rng.integers(3, 50, int(late.sum())) + 20
        ms[fails] += rng.uniform(200, 3000, int(fails.sum()))
        state[fails] = UNREADABLE
    if (state == UNREADABLE).sum() < 12:
        return _spread(rng, way)
    return Tracked(ReadMap(lba, sectors, ms, state), "spreading", way, own, int(sectors[state == UNREADABLE].sum()))


def _isolated(rng: Rng, way: str) -> Tracked:
    own = disk(rng)
    lba, sectors = blocks_read(rng, own, way)
    ms = timed(rng, own, lba, sectors, float(rng.choice([0.0, 0.01, 0.05])))
    state = np.full(len(lba), READ, dtype=np.int8)
    for at in rng.choice(len(lba) - 3, int(rng.integers(1, 12)), replace=False):
        wide = 1 if rng.random() < 0.8 else 2
        state[at : at + wide] = UNREADABLE
        ms[at : at + wide] += rng.uniform(200, 8000)
    return Tracked(
        ReadMap(lba, sectors, ms, state), "isolated-unreadable", way, own, int(sectors[state == UNREADABLE].sum())
    )


def _slow(rng: Rng, way: str) -> Tracked:
    """Places with retries; in half of them a block or three of hundreds are lost."""
    own = disk(rng)
    lba, sectors = blocks_read(rng, own, way if way != "sampled" else "whole")
    ms = timed(rng, own, lba, sectors, float(rng.choice([0.0, 0.01, 0.03])))
    state = np.full(len(lba), READ, dtype=np.int8)
    usual = np.median(ms)
    for _ in range(int(rng.integers(1, 6))):
        wide = int(rng.integers(min(40, len(lba) // 8), min(400, len(lba) // 6)))
        at = int(rng.integers(0, max(len(lba) - wide, 1)))
        hit = rng.random(len(state[at : at + wide])) < rng.uniform(0.5, 0.95)
        ms[at : at + wide][hit] += own.turn_ms * rng.integers(5, 80, int(hit.sum())) + 2.5 * usual
        if rng.random() < 0.5:
            lost = at + rng.choice(max(min(wide, len(lba) - at), 1), int(rng.integers(1, 4)))
            state[np.minimum(lost, len(lba) - 1)] = UNREADABLE
            ms[np.minimum(lost, len(lba) - 1)] += 900
    return Tracked(ReadMap(lba, sectors, ms, state), "slow-patches", way, own, int(sectors[state == UNREADABLE].sum()))


def _clean(rng: Rng, way: str) -> Tracked:
    own = disk(rng)
    lba, sectors = blocks_read(rng, own, way)
    ms = timed(rng, own, lba, sectors, float(rng.choice([0.0, 0.01, 0.05, 0.12, 0.3])))
    return Tracked(ReadMap(lba, sectors, ms, np.full(len(lba), READ, dtype=np.int8)), "clean", way, own, 0)


def _stalled(rng: Rng, way: str) -> Tracked:
    own = disk(rng)
    lba, sectors = blocks_read(rng, own, way)
    ms = timed(rng, own, lba, sectors, float(rng.choice([0.0, 0.01])))
    count = len(lba)
    state = np.full(count, READ, dtype=np.int8)
    at = int(rng.integers(max(count // 30, 20), count * 2 // 3))
    how = int(rng.integers(0, 5))
    if how == 0:  # gone: every command ends at once
        state[at:] = UNREADABLE
        ms[at:] = rng.uniform(0.02, 3.0) * rng.uniform(0.7, 1.4, count - at)
        ms[at] = rng.uniform(500, 31_000)
    elif how == 1:  # resets every few blocks, from some place on
        tail = int(rng.integers(20, 200))
        hung = np.arange(tail) % int(rng.integers(2, 6)) == 0
        end = min(at + tail, count)
        hung = hung[: end - at]
        ms[at:end][hung] += rng.uniform(4000, 32_000, int(hung.sum()))
        state[at:end][hung & (rng.random(len(hung)) < 0.5)] = UNREADABLE
        state[end:] = LEFT
    elif how == 2:  # hangs of 20 to 90 s between good reads
        tail = int(rng.integers(30, 300))
        end = min(at + tail, count)
        hung = rng.random(end - at) < 0.12
        hung[-1] = True
        ms[at:end][hung] += rng.uniform(20_000, 90_000, int(hung.sum()))
        state[end:] = LEFT
    elif how == 3:  # the last block waited for minutes
        ms[at] = rng.uniform(120_000, 600_000)
        state[at] = UNREADABLE if rng.random() < 0.6 else READ
        state[at + 1 :] = LEFT
    else:  # blocks of 9 to 25 s that read all the same
        tail = int(rng.integers(12, 80))
        end = min(at + tail, count)
        ms[at:end] += rng.uniform(9000, 25_000, end - at)
        state[end:] = LEFT
    ms[state == LEFT] = 0.0
    return Tracked(
        ReadMap(lba, sectors, ms, state),
        "stalled",
        way,
        own,
        int(sectors[state == UNREADABLE].sum()),
        more={"how": float(how)},
    )


DRAWN: dict[str, Callable[[Rng, str], Tracked]] = {
    "clean": _clean, "slow-patches": _slow, "isolated-unreadable": _isolated, "spreading": _spread,
    "one-head": one_head, "stalled": _stalled,
}  # fmt: skip


def tracked(kind: str, way: str, seed: int) -> Tracked:
    """One map. kind: an outcome of read-scan; way: one of WAYS; the same seed gives the same map."""
    return DRAWN[kind](np.random.default_rng([seed, list(DRAWN).index(kind), WAYS.index(way)]), way)
