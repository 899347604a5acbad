"""How well drives are heard: a confusion matrix over made sounds, by signal-to-noise ratio, and over made supply
traces.

python bench/ear.py --sounds 700 --seed 5
"""

from __future__ import annotations

import argparse
import sys
import time
from collections import Counter, defaultdict
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent))
sys.path.insert(0, str(Path(__file__).parents[1] / "tests" / "core" / "signal"))
import rooms
from currents import current

from calibration import Calibration
from gatecheck.core.signal.sound import judge_sound
from gatecheck.core.signal.supply import judge_supply
from gatecheck.practice.sounds import KINDS, SPEEDS, Scene, Trace, sound, trace


def scene_of(rng: np.random.Generator, kind: str, snr: float) -> Scene:
    return Scene(
        kind,
        int(rng.choice(SPEEDS)),
        float(rng.uniform(6, 20)),
        int(rng.choice([16_000, 44_100, 48_000])),
        snr,
        bool(rng.random() < 0.3) and kind != "restarting",
        fan=float(rng.choice([0, 0, 0.5, 1.0])),
        hum=int(rng.choice([0, 0, 50, 60])),
        voices=float(rng.choice([0, 0, 0, 0.5])),
        seeks=float(rng.choice([0, 1, 4])) if kind == "steady" else 0.0,
        keys=float(rng.choice([0, 0, 0.5])),
    )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sounds", type=int, default=240)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--wrong", action="store_true", help="print what was heard wrongly")
    arguments = parser.parse_args()
    rng = np.random.default_rng(arguments.seed)
    table: Counter[tuple[str, str]] = Counter()
    by_snr: dict[float, Counter[str]] = {}
    speeds: Counter[str] = Counter()
    surely: defaultdict[str, Calibration] = defaultdict(Calibration)
    spent, heard_seconds = 0.0, 0.0
    for number in range(arguments.sounds):
        kind, snr = KINDS[number % len(KINDS)], float(rng.choice([30, 20, 15, 10, 5, 0]))
        scene = scene_of(rng, kind, snr)
        samples = sound(scene, arguments.seed * 100_000 + number)
        start = time.perf_counter()
        found = judge_sound(samples, scene.rate)
        spent, heard_seconds = spent + time.perf_counter() - start, heard_seconds + scene.seconds
        said = found.outcome or "cannot tell"
        table[kind, said] += 1
        if found.outcome is not None:
            surely["sound, own generator"].add(found.weights, is_right=said == kind)
        by_snr.setdefault(snr, Counter())[
            "right" if said == kind else "cannot tell" if found.outcome is None else "wrong"
        ] += 1
        if kind == "steady":
            speeds["right" if found.rpm == scene.rpm else "none" if found.rpm is None else "wrong"] += 1
        if arguments.wrong and said not in (kind, "cannot tell"):
            print(
                scene,
                "->",
                said,
                {k: round(v, 2) for k, v in found.weights.items() if v > 0.05},
                found.rhythm,
                [w.id for w in found.why],
            )
    columns = [*KINDS, "cannot tell"]
    print(f"{'':<12}" + "".join(f"{c:>12}" for c in columns))
    for kind in KINDS:
        print(f"{kind:<12}" + "".join(f"{table[kind, c]:>12}" for c in columns))
    for snr in sorted(by_snr, reverse=True):
        print(f"{snr:>4.0f} dB  {dict(by_snr[snr])}")
    print(f"speed of steady ones: {dict(speeds)}; {spent / heard_seconds * 60:.2f} s for a minute of sound")
    traces: Counter[tuple[str, str]] = Counter()
    forms: Counter[str] = Counter()
    for number in range(arguments.sounds // 2):
        own = Trace(
            ("normal", "no-spin", "restarting", "flat")[number % 4],
            str(rng.choice(["2.5", "3.5"])),
            float(rng.uniform(8, 25)),
            float(rng.choice([10, 50, 200, 1000])),
            float(rng.choice([0.002, 0.01, 0.03])),
        )
        seen = judge_supply(*trace(own, arguments.seed * 100_000 + number))
        traces[own.kind, seen.outcome or "cannot tell"] += 1
        if seen.outcome is not None:
            surely["supply, own generator"].add(seen.weights, is_right=seen.outcome == own.kind)
        if own.kind in ("normal", "restarting"):
            forms["right" if seen.form_factor == own.form else "wrong"] += 1
        if arguments.wrong and seen.outcome != own.kind:
            print(own, "->", seen.outcome, seen.events, [w.id for w in seen.why])
    print({f"{a} -> {b}": n for (a, b), n in sorted(traces.items())}, dict(forms))
    in_rooms: Counter[tuple[str, str]] = Counter()
    rates: Counter[str] = Counter()
    for number in range(arguments.sounds // 2):
        kind = rooms.KINDS[number % len(rooms.KINDS)]
        own_sound = rooms.heard(kind, arguments.seed * 100_000 + number)
        found = judge_sound(own_sound.samples, own_sound.rate)
        in_rooms[kind, found.outcome or "cannot tell"] += 1
        if found.outcome is not None:
            surely["sound, rooms"].add(found.weights, is_right=found.outcome == kind)
        if found.outcome == kind and kind in ("ticking", "clunking"):
            rates["rate right" if abs(found.rhythm.rate / own_sound.beat - 1) < 0.06 else "rate wrong"] += 1
    print("struck and heard in a room:")
    print(f"{'':<12}" + "".join(f"{c:>12}" for c in columns))
    for kind in rooms.KINDS:
        print(f"{kind:<12}" + "".join(f"{in_rooms[kind, c]:>12}" for c in columns))
    print(dict(rates))
    told: Counter[str] = Counter()
    for number in range(arguments.sounds // 2):
        made = current(("normal", "no-spin", "restarting", "flat")[number % 4], arguments.seed * 100_000 + number)
        seen = judge_supply(made.times, made.rails)
        told["right" if seen.outcome == made.kind else "cannot tell" if seen.outcome is None else "wrong"] += 1
        if seen.outcome is not None:
            surely["supply, worked out from a motor"].add(seen.weights, is_right=seen.outcome == made.kind)
        told["form right" if seen.form_factor == made.form else "form wrong"] += 1
    print("worked out from a motor:", dict(told))
    for name, own_pairs in surely.items():
        print("\n".join(own_pairs.lines(name)))


if __name__ == "__main__":
    main()
