"""How many keys a triage takes: rehearsed machines, answered step by step as the engine asks, until its first verdict.

    python bench/keys.py --machines 300 --seed 4100 [--world NAME]

A result, an answer to a question and a test change that is undone are a key each; signing takes two (S, then Y). The
story is entered at check-in. One line for all machines, and one for each fault of five or more."""

from __future__ import annotations

import argparse
from collections import defaultdict

from gatecheck.adapters.shipped_tables import shipped_model, shipped_worlds
from gatecheck.core.rehearsal.run import rehearse_one

SIGNING, _LEAST = 2, 5


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0] if __doc__ else "")
    parser.add_argument("--machines", type=int, default=300)
    parser.add_argument("--seed", type=int, default=4100)
    parser.add_argument("--world", default="", choices=["", *shipped_worlds()])
    asked = parser.parse_args()
    model = shipped_model()
    world = shipped_worlds()[asked.world] if asked.world else model
    found: dict[str, list[int | None]] = defaultdict(list)
    for seed in range(asked.seed, asked.seed + asked.machines):
        run = rehearse_one(model, world, "planner", seed)
        faults = "+".join(run.faults) or "sound"
        keys = None if run.called_at is None else run.called_at - 1 + SIGNING
        found[faults].append(keys)
        found["all"].append(keys)
    print("fault | machines | no verdict | median | 80 % | 95 % | at most 15")
    for name, own in sorted(found.items(), key=lambda item: -len(item[1])):
        made = sorted(k for k in own if k is not None)
        if len(own) < _LEAST or not made:
            continue
        at = [made[min(len(made) - 1, int(share * len(made)))] for share in (0.5, 0.8, 0.95)]
        short = sum(k <= 15 for k in made) / len(own)
        print(f"{name} | {len(own)} | {len(own) - len(made)} | {at[0]} | {at[1]} | {at[2]} | {short:.0%}")


if __name__ == "__main__":
    main()
