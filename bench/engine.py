"""Engine speed on one core, as ratios against a baseline measured in the same run.

Baseline: the same posterior by a plain Python loop over all hypotheses (dictionaries, no matrices), which also checks
the numbers. Wanted: folding and planning a 300-entry ticket under 6 ms.
"""

from __future__ import annotations

import os

os.environ["OPENBLAS_NUM_THREADS"] = "1"

import gc
import random
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from gatecheck.adapters.shipped_tables import shipped_model
from gatecheck.core.belief.facts import all_odds
from gatecheck.core.belief.model import Model
from gatecheck.core.decide.assess import assess
from gatecheck.core.tape.fold import fold
from gatecheck.core.tape.parse import parse_entries, parse_facts

FACTS = {"platform": "pc", "form": "laptop", "drive_kind": "hdd", "data": "backed-up"}


def best_of(act: Callable[[], object], times: int = 25) -> tuple[float, float]:
    """(best, median) in milliseconds."""
    act()
    taken = []
    for _ in range(times):
        start = time.perf_counter()
        act()
        taken.append((time.perf_counter() - start) * 1e3)
    return min(taken), sorted(taken)[times // 2]


def long_tape(model: Model, length: int) -> list[dict[str, Any]]:
    """A long ticket: mostly checks, now and then a fix, notes and facts in between; every outcome drawn by the
    model."""
    rng, knowledge = random.Random(7), model.knowledge
    tape: list[dict[str, Any]] = []
    while len(tape) < length:
        kind = rng.random()
        if kind < 0.60:
            check = rng.choice(list(knowledge.checks))
            tape.append({"move": check, "outcome": rng.choice(knowledge.checks[check].outcomes)})
        elif kind < 0.75:
            fix = rng.choice(list(knowledge.fixes))
            tape.append({"move": fix, "outcome": rng.choice(knowledge.fixes[fix].outcomes)})
        else:
            tape.append({"note": "looked again"} if kind < 0.9 else {"fact": {"mains": "connected"}})
    return tape


def by_loops(model: Model, tape: list[tuple[str, str]]) -> dict[int, float]:
    """The baseline: every hypothesis visited in Python, every likelihood looked up one by one."""
    odds = all_odds(model.knowledge, FACTS)
    weights = {}
    for index, faults in enumerate(model.space.order):
        weight = float(model.base[index])
        for fault in faults:
            if fault >= 0:
                weight *= odds[model.space.fault_ids[fault]]
        for check, outcome in tape:
            weight *= float(model.sight.looks[check][model.knowledge.checks[check].outcomes.index(outcome)][index])
        weights[index] = weight
    total = sum(weights.values())
    return {index: weight / total for index, weight in weights.items()}


def main() -> None:
    model = shipped_model()
    gc.freeze()  # as the server does once it is up
    facts = parse_facts(FACTS, model.knowledge)
    short = [
        ("screen", "no-boot-device"),
        ("seen-setup", "absent"),
        ("sound", "steady"),
        ("clock", "right"),
        ("port", "on"),
    ]
    entries = parse_entries([{"move": m, "outcome": o} for m, o in short], model.knowledge)
    loops = by_loops(model, short)
    ours = fold(model, facts, entries).belief
    worst = max(abs(loops[i] - ours[i]) for i in loops)
    loop_time, _ = best_of(lambda: by_loops(model, short), 5)
    fold_time, _ = best_of(lambda: fold(model, facts, entries))
    print(
        f"5 checks, {model.space.size} hypotheses: loops {loop_time:.1f} ms, engine {fold_time:.2f} ms, ratio "
        f"{loop_time / fold_time:.0f}"
    )
    print(f"largest difference between the two: {worst:.1e}")

    raw = long_tape(model, 300)
    tape = parse_entries(raw, model.knowledge)
    state = fold(model, facts, tape)
    folding, planning = best_of(lambda: fold(model, facts, tape)), best_of(lambda: assess(model, state))
    both = best_of(lambda: assess(model, fold(model, facts, tape)))
    print(
        f"300 entries ({len(state.steps)} weigh): fold {folding[0]:.1f} ms, gates + plan + held + call "
        f"{planning[0]:.1f} ms"
    )
    print(f"both together: best {both[0]:.1f} ms, median {both[1]:.1f} ms (wanted: under 6)")
    one = parse_entries([*raw, {"move": "seat", "outcome": "firm"}], model.knowledge)[-1]
    likelihood = model.look("seat", "firm")
    append, _ = best_of(lambda: state.belief * likelihood / float((state.belief * likelihood).sum()))
    print(f"one more check on a kept belief: {append * 1000:.0f} us ({type(one).__name__})")
    first = fold(model, facts, [])
    print(f"empty ticket, every move legal: {best_of(lambda: assess(model, first))[0]:.1f} ms (wanted: under 8)")
    script, taken = Path(sys.executable).with_name("gatecheck"), []
    bare: list[float] = []
    case = Path("/tmp/gatecheck-bench-case.json")
    case.write_text('{"facts": {}, "entries": []}')
    for _ in range(8):
        start = time.perf_counter()
        subprocess.run([script, "triage", case], stdout=subprocess.DEVNULL, check=True)
        taken.append(time.perf_counter() - start)
        start = time.perf_counter()
        subprocess.run([sys.executable, "-c", "import numpy"], check=True)
        bare.append(time.perf_counter() - start)
    print(
        f"cold start of `gatecheck triage`: best {min(taken):.2f} s, `import numpy` {min(bare):.2f} s, ratio "
        f"{min(taken) / min(bare):.2f} (wanted: under 2.5)"
    )


if __name__ == "__main__":
    main()
