"""Read maps of imagined drives: zones, heads in serpentine bands, retries in revolutions, other load. Not what the
judge assumes, but what drives do."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gatecheck.core.scan.read import LEFT, READ, UNREADABLE, ReadMap

KINDS = ("clean", "slow-patches", "isolated-unreadable", "spreading", "one-head", "stalled")


@dataclass
class Drawn:
    """A map with what it was drawn from."""

    map: ReadMap
    kind: str
    disk_sectors: int
    bad_sectors: int
    seconds_left: float
    share: float


def drawn(
    kind: str,
    seed: int,
    *,
    blocks: int = 20_000,
    flash: bool = False,
    noise: float = 0.004,
    budget: float = 1.0,
    largest_gb: float = 4_000,
    serpentine: bool = False,
) -> Drawn:
    """One map. `noise`: share of blocks made late by something else on the machine; `budget`: share of the disk that
    was read; `serpentine`: heads are passed to and fro."""
    rng = np.random.default_rng(seed)
    gb = float(np.exp(rng.uniform(np.log(100), np.log(largest_gb))))
    disk = int(gb * 1e9 / 512)
    per = disk // blocks
    lba = np.arange(blocks, dtype=np.int64) * per
    sectors = np.full(blocks, per, dtype=np.int64)
    outer = rng.uniform(420, 560) if flash else rng.uniform(110, 270)
    zones = np.floor(np.linspace(0, rng.integers(12, 30), blocks)) / 29
    rate = outer * (np.ones(blocks) if flash else 1.0 - rng.uniform(0.42, 0.56) * zones / zones.max())
    usual = per * 512 / rate / 1000.0
    ms = usual * rng.normal(1.0, 0.02, blocks).clip(0.8) + (0 if flash else rng.exponential(0.3, blocks))
    state = np.full(blocks, READ, dtype=np.int8)
    other = rng.random(blocks) < noise
    ms[other] += rng.exponential(60.0, int(other.sum()))
    if flash:
        dips = np.convolve(rng.random(blocks) < 0.002, np.ones(6), mode="same") > 0
        ms[dips] *= rng.uniform(1.5, 2.5)
    revolution = 8.33 if not flash else 2.0
    share, slowed = 0.0, np.zeros(blocks, dtype=bool)
    if kind == "slow-patches":
        for _ in range(int(rng.integers(1, 5))):
            at, wide = int(rng.integers(0, blocks - 80)), int(rng.integers(8, 60))
            hit = rng.random(wide) < 0.75
            slowed[at : at + wide] = True
            ms[at : at + wide][hit] += revolution * rng.integers(4, 60, int(hit.sum())) + usual[at] * 2.5
    elif kind == "isolated-unreadable":
        for at in rng.choice(blocks - 2, int(rng.integers(1, 9)), replace=False):
            ms[at] += rng.uniform(300, 1200)
            state[at] = UNREADABLE
    elif kind == "spreading":
        at = int(rng.integers(200, blocks - 400))
        wide = int(rng.integers(40, 220))
        inner = np.exp(-(((np.arange(wide) - wide / 2) / (wide / 4)) ** 2))
        dead = rng.random(wide) < inner * rng.uniform(0.5, 0.95)
        ms[at : at + wide] += revolution * rng.integers(3, 60, wide) * inner + usual[at] * 3 * inner
        state[at : at + wide][dead] = UNREADABLE
        ms[at : at + wide][dead] += rng.uniform(300, 1100, int(dead.sum()))
    elif kind == "one-head":
        heads = int(rng.integers(2, 9))
        band = rng.uniform(14, 60)  # blocks from one stripe to the next at the outer edge
        phase = rng.uniform(0, 1)
        turns = np.cumsum(1.0 / (band * (1.0 - 0.45 * np.arange(blocks) / blocks))) + phase
        each = np.diff(turns, prepend=phase)  # a block does not read where any of it lies on the dead surface
        dead = (turns % 1.0) < 1.0 / heads + each
        if serpentine and heads > 2:
            own, dead = int(rng.integers(0, heads)), np.zeros(blocks, dtype=bool)
            for at in (turns, turns - each * 0.999):
                cycle, turn = np.floor(at), np.floor((at % 1.0) * heads)
                dead |= np.where(cycle % 2 == 0, turn == own, turn == heads - 1 - own)
        dead &= rng.random(blocks) < rng.uniform(0.85, 1.0)
        state[dead] = UNREADABLE
        ms[dead] += rng.uniform(250, 900, int(dead.sum()))
        share = 1.0 / heads
    elif kind == "stalled":
        at = int(rng.integers(30, blocks // 3))
        tail = int(rng.integers(20, 60))
        state[at : at + tail] = np.where(rng.random(tail) < 0.8, UNREADABLE, READ)
        ms[at : at + tail] += rng.uniform(4000, 31_000, tail)
        state[at + tail :] = LEFT
    bad = state == UNREADABLE
    if budget < 1.0 and kind != "stalled":
        state[int(blocks * budget) :] = LEFT
    left = state == LEFT
    if not (bad | slowed)[~left].any() and kind != "stalled":
        kind = "clean"  # what is bad was not reached
    if kind == "one-head" and int((np.diff((bad & ~left).astype(int)) == 1).sum()) < 12:
        kind = "spreading"
    ms[left] = 0.0
    return Drawn(
        ReadMap(lba, sectors, ms, state),
        kind,
        disk,
        int(sectors[bad & ~left].sum()),
        float(usual[left].sum() / 1000.0),
        share,
    )


def as_csv(found: ReadMap) -> bytes:
    names = {READ: "read", UNREADABLE: "unreadable", LEFT: "left"}
    rows = [
        f"{a},{b},{c:.3f},{names[int(s)]}"
        for a, b, c, s in zip(found.lba, found.sectors, found.ms, found.state, strict=True)
    ]
    return ("lba,sectors,ms,state\n" + "\n".join(rows) + "\n").encode()
