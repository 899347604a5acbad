"""Random walks through triage, looking for states without a next step: nothing is proposed while nothing can be signed,
or what the verdict asks for is blocked and nothing that unblocks it is proposed.

    python bench/dead_ends.py --walks 10000 --seed 1 [--jobs N]

Prints how many walks ended where, and the first dead ends as cases for `gatecheck triage`."""

from __future__ import annotations

import argparse
import json
import random
from concurrent.futures import ProcessPoolExecutor
from typing import Any

from gatecheck.adapters.shipped_tables import shipped_model, shipped_words
from gatecheck.core.decide.report import triage

FACTS: dict[str, list[Any]] = {
    "platform": ["pc", "pc", "pc", "mac", None],
    "form": ["laptop", "desktop", "all-in-one", None],
    "installed_os": ["windows-11", "windows-10", "windows-7", "linux", "unknown", None],
    "drive_kind": ["hdd", "hdd", "sata-ssd", "nvme", "emmc", "unknown", None],
    "data": ["unknown", "irreplaceable", "irreplaceable", "backed-up", "none", None],
    "consent": ["not-asked", "given", "refused", None],
    "recovery_key": ["unknown", "on-ticket", "lost", None],
    "mains": ["unknown", "connected", "battery", None],
}
_MOST = 24


def dead_end(found: dict[str, Any]) -> str | None:
    """Why there is nothing to be done in this state, or None."""
    call = found["call"]
    if call["choice"] == "release":
        return None  # it can be signed
    if not found["next"]:
        return "nothing is proposed" if call["choice"] is None or call["fix"] is None else None
    negative = [m["move"] for m in found["next"] if m["why"].startswith("…")]
    return f"a gap in {negative[0]}" if negative else None


def walk(seed: int) -> dict[str, Any] | None:
    """The first dead end of a walk as a case, or None."""
    model, words, dice = shipped_model(), shipped_words(), random.Random(seed)
    knowledge = model.knowledge
    facts = {name: value for name, values in FACTS.items() if (value := dice.choice(values)) is not None}
    entries: list[dict[str, Any]] = []
    all_moves = [*knowledge.checks, *knowledge.fixes]
    for _ in range(dice.randint(4, _MOST)):
        case = {"facts": facts, "entries": entries}
        found = triage(model, words, case, as_of_year=2026)
        why = dead_end(found)
        if why:
            return {"seed": seed, "why": why, **case}
        chance = dice.random()
        held = {h["move"] for h in found["held"]}
        if chance < 0.08:
            name = dice.choice(["data", "consent", "recovery_key", "mains"])
            entries.append({"fact": {name: dice.choice([v for v in FACTS[name] if v])}})
            continue
        if chance < 0.14:
            fixes = [
                e["move"]
                for e in entries
                if e.get("move") in knowledge.fixes and knowledge.fixes[e["move"]].trial and e["outcome"] != "could-not"
            ]
            open_ones = [f for f in fixes if fixes.count(f) > sum(e.get("put_back") == f for e in entries)]
            if open_ones:
                entries.append({"put_back": dice.choice(open_ones)})
            continue
        moves = [m["move"] for m in found["next"]]
        if not moves or chance > 0.80:
            moves = [m for m in dice.sample(all_moves, 8) if m not in held and m in all_moves] or moves
        if not moves:
            continue
        move = moves[0] if dice.random() < 0.6 else dice.choice(moves)
        outcomes = list(knowledge.move(move).outcomes)
        if dice.random() < 0.9:
            outcomes = [o for o in outcomes if o != "boots"]
        entries.append({"move": move, "outcome": dice.choice(outcomes)})
    return None


def main() -> None:
    given = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    given.add_argument("--walks", type=int, default=10000)
    given.add_argument("--seed", type=int, default=1)
    given.add_argument("--jobs", type=int, default=None)
    given.add_argument("--show", type=int, default=5)
    asked = given.parse_args()
    with ProcessPoolExecutor(asked.jobs) as pool:
        found = [f for f in pool.map(walk, range(asked.seed, asked.seed + asked.walks), chunksize=20) if f]
    print(f"{asked.walks} walks, {len(found)} dead ends")
    for case in found[: asked.show]:
        print(json.dumps(case))


if __name__ == "__main__":
    main()
