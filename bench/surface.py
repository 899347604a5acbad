"""What the judge of read maps is worth: told against drawn, over maps of many kinds, sizes, noises and budgets; and how
fast it is.

`python bench/surface.py [MAPS] [SEED]` prints the tables of docs/surface.md. Baseline for the speed: parsing the same
numbers with NumPy's own reader."""

from __future__ import annotations

import resource
import sys
import time
import zlib
from collections import Counter
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent))
sys.path.insert(0, str(Path(__file__).parents[1] / "tests" / "core" / "scan"))
from maps import KINDS, drawn
from tracks import WAYS, tracked

from calibration import Calibration
from gatecheck.core.scan.evidence import scanned
from gatecheck.core.scan.judge import judge_map
from gatecheck.core.scan.map_page import _HEAD, _ROW, MAGIC, read_map_page
from gatecheck.core.scan.read import read_map


def matrix(maps: int, seed: int) -> None:
    told: Counter[tuple[str, str]] = Counter()
    stated: Counter[str] = Counter()
    within, timed, invented, shares = 0, 0, 0, []
    surely = Calibration()
    rng = np.random.default_rng(seed)
    for number in range(maps):
        own = drawn(
            KINDS[number % len(KINDS)],
            seed * 100_000 + number,
            flash=bool(number % 5 == 4) and KINDS[number % len(KINDS)] != "one-head",
            noise=float(rng.choice([0.001, 0.004, 0.02])),
            budget=float(rng.choice([1.0, 1.0, 0.6, 0.25])),
            largest_gb=20_000,
            serpentine=bool(number % 2),
            blocks=int(rng.choice([8_000, 20_000, 60_000])),
        )
        found = judge_map(own.map, disk_sectors=own.disk_sectors)
        told[own.kind, found.pattern] += 1
        surely.add(found.weights, is_right=found.pattern == own.kind)
        stated[f"{max(found.weights.values()):.1f}"] += 1
        invented += found.unreadable_sectors != own.bad_sectors
        if own.kind == "one-head" and found.heads:
            shares.append(abs(found.heads.share / own.share - 1.0))
        if own.seconds_left > 60 and found.seconds_left is not None and own.kind != "stalled":
            timed += 1
            within += 0.9 <= found.seconds_left / own.seconds_left <= 1.1
    print("| drawn \\ told | " + " | ".join(KINDS) + " | rightly |\n|---|" + "---|" * (len(KINDS) + 1))
    for kind in KINDS:
        row = [told[kind, other] for other in KINDS]
        print(
            f"| {kind} | "
            + " | ".join(str(n or "") for n in row)
            + f" | {row[KINDS.index(kind)] / max(sum(row), 1):.1%} |"
        )
    right = sum(n for (a, b), n in told.items() if a == b)
    print(f"\n{right} of {maps} rightly ({right / maps:.1%}); counts of unreadable sectors that differ: {invented}")
    print("\n".join(surely.lines("own generator")))
    print(f"time left within a tenth of the true one: {within} of {timed}")
    print(
        f"share of the dead head: median error {np.median(shares):.1%}, nine in ten within "
        f"{np.quantile(shares, 0.9):.1%} ({len(shares)} maps)"
    )


def by_tracks(each: int, seed: int) -> None:
    """The second generator: so many maps of each kind and way of reading."""
    told: Counter[tuple[str, str]] = Counter()
    ways: Counter[tuple[str, str]] = Counter()
    surely = Calibration()
    heads: dict[str, Counter[str]] = {way: Counter() for way in WAYS}
    for kind in KINDS:
        for way in WAYS:
            for number in range(each):
                own = tracked(kind, way, seed * 1000 + number)
                found = judge_map(own.map, sector_size=own.disk.sector, disk_sectors=own.disk.sectors)
                told[kind, found.pattern] += 1
                surely.add(found.weights, is_right=found.pattern == kind)
                ways[kind, way] += found.pattern == kind
                if kind == "one-head" and found.heads and own.share:
                    got = found.heads
                    heads[way]["told"] += 1
                    heads[way]["share within 0.03"] += abs(got.share - own.share) <= 0.03
                    heads[way]["period to be seen"] += own.period is not None
                    heads[way]["within a tenth"] += (
                        bool(own.period and got.period) and abs((got.period or 0) / (own.period or 1) - 1.0) <= 0.1
                    )
                    heads[way]["invented"] += own.period is None and got.period is not None
    print("\n| drawn \\ told | " + " | ".join(KINDS) + " | " + " | ".join(WAYS) + " |\n|---|" + "---|" * 10)
    for kind in KINDS:
        cells = [str(told[kind, other] or "") for other in KINDS] + [f"{ways[kind, way]} of {each}" for way in WAYS]
        print(f"| {kind} | " + " | ".join(cells) + " |")
    right = sum(n for (a, b), n in told.items() if a == b)
    print(f"\n{right} of {sum(told.values())} rightly ({right / max(sum(told.values()), 1):.1%})")
    print("\n".join(surely.lines("by tracks")))
    for way in WAYS:
        print(f"{way}: " + ", ".join(f"{name} {many}" for name, many in heads[way].items()))


def speed(blocks: int) -> None:
    """A map as the probe keeps it, one block in five thousand slow, read and judged."""
    rng, step = np.random.default_rng(1), 1_000_000
    pieces = []
    for first in range(0, blocks, step):
        times = rng.integers(48, 52, step).astype(np.uint8)
        times[rng.random(step) < 2e-4] = 100
        packed = zlib.compress(_ROW.pack(1, first * 256, 256, step) + times.tobytes())
        pieces.append(_HEAD.pack(MAGIC, 512, blocks * 256, len(packed)) + packed)
    data = b"".join(pieces)
    del pieces
    before, began = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10, time.perf_counter()
    found = scanned(read_map_page(data))
    now = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10
    print(
        f"{blocks:.0e} blocks ({len(data) >> 20} MiB packed) read and judged ({found.surface.pattern}) in "
        f"{time.perf_counter() - began:.1f} s, peak {now} MiB ({before} before)"
    )


def text_speed(blocks: int) -> None:
    text = b"lba,sectors,ms,state\n" + b"".join(b"%d,256,0.70,read\n" % (n * 256) for n in range(blocks))
    began = time.perf_counter()
    read_map(text)
    ours = time.perf_counter() - began
    began = time.perf_counter()
    np.loadtxt(text.decode().splitlines(), delimiter=",", skiprows=1, usecols=(0, 1, 2))
    print(f"a CSV of {blocks:.0e} blocks: {ours:.2f} s, NumPy's own reader {time.perf_counter() - began:.2f} s")


if __name__ == "__main__":
    speed(10_000_000)
    speed(100_000_000)
    text_speed(1_000_000)
    by_tracks(20, int(sys.argv[2]) if len(sys.argv) > 2 else 1)
    matrix(int(sys.argv[1]) if len(sys.argv) > 1 else 700, int(sys.argv[2]) if len(sys.argv) > 2 else 1)
