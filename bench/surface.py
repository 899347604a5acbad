"""What the judge of read maps is worth: told against drawn, over maps of many kinds, sizes, noises and budgets; and how fast it is.

`python bench/surface.py [MAPS] [SEED]` prints the tables of docs/surface.md. Baseline for the speed: parsing the same numbers with NumPy's own reader.
"""

from __future__ import annotations

import resource
import sys
import time
from collections import Counter
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1] / "tests" / "core" / "scan"))
from maps import KINDS, drawn

from gatecheck.core.scan.judge import judge_map
from gatecheck.core.scan.read import READ, ReadMap, read_map


def matrix(maps: int, seed: int) -> None:
    told: Counter[tuple[str, str]] = Counter()
    stated: Counter[str] = Counter()
    within, timed, invented, shares = 0, 0, 0, []
    rng = np.random.default_rng(seed)
    for number in range(maps):
        own = drawn(
            KINDS[number % len(KINDS)], seed * 100_000 + number, flash=bool(number % 5 == 4) and KINDS[number % len(KINDS)] != "one-head", noise=float(rng.choice([0.001, 0.004, 0.02])),
            budget=float(rng.choice([1.0, 1.0, 0.6, 0.25])), largest_gb=20_000, serpentine=bool(number % 2), blocks=int(rng.choice([8_000, 20_000, 60_000])),
        )  # fmt: skip
        found = judge_map(own.map, disk_sectors=own.disk_sectors)
        told[own.kind, found.pattern] += 1
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
        print(f"| {kind} | " + " | ".join(str(n or "") for n in row) + f" | {row[KINDS.index(kind)] / max(sum(row), 1):.1%} |")
    right = sum(n for (a, b), n in told.items() if a == b)
    print(f"\n{right} of {maps} rightly ({right / maps:.1%}); counts of unreadable sectors that differ: {invented}")
    print(f"time left within a tenth of the true one: {within} of {timed}")
    print(f"share of the dead head: median error {np.median(shares):.1%}, nine in ten within {np.quantile(shares, 0.9):.1%} ({len(shares)} maps)")


def speed(blocks: int) -> None:
    rng = np.random.default_rng(1)
    lba = np.arange(blocks, dtype=np.int64) * 256
    own = ReadMap(lba, np.full(blocks, 256, dtype=np.int64), rng.normal(0.7, 0.02, blocks).clip(0.1), np.full(blocks, READ, dtype=np.int8))
    began = time.perf_counter()
    found = judge_map(own, disk_sectors=blocks * 256)
    print(f"{blocks:.0e} blocks judged ({found.pattern}) in {time.perf_counter() - began:.1f} s, peak {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10} MiB with the map itself")


if __name__ == "__main__":
    matrix(int(sys.argv[1]) if len(sys.argv) > 1 else 700, int(sys.argv[2]) if len(sys.argv) > 2 else 1)
    text = b"lba,sectors,ms,state\n" + b"".join(b"%d,256,0.70,read\n" % (n * 256) for n in range(1_000_000))
    began = time.perf_counter()
    read_map(text)
    ours = time.perf_counter() - began
    began = time.perf_counter()
    np.loadtxt(text.decode().splitlines(), delimiter=",", skiprows=1, usecols=(0, 1, 2))
    print(f"a CSV of a million blocks: {ours:.2f} s, NumPy's own reader {time.perf_counter() - began:.2f} s")
    for blocks in (1_000_000, 10_000_000):
        speed(blocks)
