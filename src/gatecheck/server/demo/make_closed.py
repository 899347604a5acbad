"""Writes closed.json, the demo's closed tickets: `python -m gatecheck.server.demo.make_closed`.

Machines of a rehearsal, worked on by the planner to the end; the proven faults are the ones the machine was drawn with.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from gatecheck.adapters.shipped_tables import shipped_model
from gatecheck.core.belief.model import Model
from gatecheck.core.decide.assess import assess
from gatecheck.core.rehearsal.run import RehearsalRun, rehearse_one
from gatecheck.core.tape.fold import fold
from gatecheck.core.tape.parse import parse_entries, parse_facts

COUNT, SEED = 64, 41
_CUSTOMERS = (
    "Harbour office",
    "Choir office",
    "Bakery on Quay Street",
    "School lab 1",
    "School lab 3",
    "Larsund boatyard",
    "Tide library",
    "Net loft co-operative",
    "Lighthouse trust",
    "Ferry kiosk",
    "Salt Lane surgery",
    "Gull & Anchor inn",
    "Pilot station",
)
_MACHINES = {
    "laptop": ("Ferrow Lathe-14", "Ostler Bracken-15"),
    "desktop": ("Ferrow Adze-22", "Ostler Tarn Mini"),
    "all-in-one": ("Ferrow Adze-22",),
}
_NAMED = 0.02
CODE = "{maker}-2031-7"
"""what the machines' own test prints where it finds the drive failing"""


def record(model: Model, run: RehearsalRun, number: int) -> dict[str, Any]:
    """One closed ticket: the run's tape, signed with the odds at that moment, and what it turned out to be."""
    facts = {k: v for k, v in run.facts.items() if k != "as_of_year"}
    tape = [dict(e) for e in run.tape]
    sign_at = _verdict_place(model, tape)
    state = fold(model, parse_facts(run.facts, model.knowledge), parse_entries(tape[:sign_at], model.knowledge))
    result = assess(model, state)
    choice = result.call.choice or result.call.leans
    option = result.call.option
    signed = {
        "signed": choice,
        "fix": option.main_fix if option and option.choice == choice else None,
        "odds": {
            "confidence": round(result.call.balance[choice], 4),
            "suspects": {s.fault: round(s.p, 4) for s in result.suspects if s.p >= _NAMED and s.fault != "sound"},
        },
    }
    machines = _MACHINES[str(facts.get("form", "laptop"))]
    machine = machines[number % len(machines)]
    for entry in tape:
        if entry.get("move") == "builtin-quick" and entry.get("outcome") == "failed":
            entry["code"] = CODE.format(maker=machine[:2].upper())
    tape = [*tape[:sign_at], signed, *tape[sign_at:], {"proven": list(run.faults)}]
    return {
        "customer": _CUSTOMERS[number * 5 % len(_CUSTOMERS)],
        "machine": machine,
        "facts": facts,
        "by": ("KT", "MO")[number % 2],
        "days_ago": 2 + number,
        "tape": tape,
    }


def _verdict_place(model: Model, tape: list[dict[str, Any]]) -> int:
    """Where the call was signed: before the fix that ended it, or at the end."""
    for place in range(len(tape) - 1, -1, -1):
        if tape[place].get("move") in model.knowledge.fixes and tape[place].get("outcome") in ("boots", "sent"):
            return place
    return len(tape)


def main() -> None:
    model = shipped_model()
    runs = [rehearse_one(model, model, "planner", SEED * 1_000_003 + i) for i in range(COUNT)]
    records = [record(model, run, number) for number, run in enumerate(runs)]
    Path(__file__).with_name("closed.json").write_text(
        json.dumps(records, separators=(",", ":")) + "\n", encoding="utf-8"
    )


if __name__ == "__main__":
    main()
