"""The engine's belief against a general Bayesian-network library (pgmpy, exact variable elimination), in one run.

The same model for both: a variable for the hypothesis (which faults are there) with the engine's prior, and one for
each check with the engine's table; every fault is a variable that the hypothesis decides. Once with every single fault
and the sound machine, once with all sets of up to three. A tape of checks is the evidence; posterior and fault
probabilities must agree to 1e-9. Timed are one more check at the end of the tape (the library has no belief to update:
it is asked anew), and the whole tape; both give the probability of every fault."""

from __future__ import annotations

import logging
import time
import warnings
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from gatecheck.adapters.shipped_tables import shipped_model
from gatecheck.core.belief.model import Model
from gatecheck.core.tape.fold import fold
from gatecheck.core.tape.parse import parse_entries, parse_facts

warnings.filterwarnings("ignore")
logging.disable(logging.WARNING)
from pgmpy.factors.discrete import TabularCPD  # noqa: E402
from pgmpy.inference import VariableElimination  # noqa: E402
from pgmpy.models import DiscreteBayesianNetwork  # noqa: E402

FACTS = {"platform": "pc", "form": "laptop", "installed_os": "windows-10", "drive_kind": "hdd", "data": "backed-up"}
TAPES = {
    "3 checks": [("screen", "no-boot-device"), ("seen-setup", "absent"), ("sound", "steady")],
    "8 checks": [
        ("story", "power-cut"),
        ("screen", "volume-stop"),
        ("seen-setup", "right"),
        ("clock", "right"),
        ("storage-mode", "fits"),
        ("health-pages", "early-signs"),
        ("volume-look", "damaged"),
        ("error-log", "recent"),
    ],
}
Floats = NDArray[np.float64]


def library(
    model: Model, states: NDArray[np.intp], prior: Floats, tape: list[tuple[str, str]]
) -> tuple[Floats, Floats, float]:
    """Posterior over `states`, probability of every fault, and the milliseconds of the queries (not of building)."""
    faults = list(model.space.fault_ids)
    network = DiscreteBayesianNetwork([("h", node) for node in (*(check for check, _ in tape), *faults)])
    network.add_cpds(TabularCPD("h", len(states), prior[:, None]))
    for check, _ in tape:
        rows = model.sight.looks[check][:, states]
        network.add_cpds(TabularCPD(check, len(rows), rows, evidence=["h"], evidence_card=[len(states)]))
    for column, fault in enumerate(faults):
        there = model.space.member[states, column]
        network.add_cpds(
            TabularCPD(fault, 2, np.array([1 - there, there]), evidence=["h"], evidence_card=[len(states)])
        )
    query = VariableElimination(network)
    evidence = {check: model.knowledge.move(check).outcomes.index(outcome) for check, outcome in tape}
    taken = []
    for _ in range(3):
        start = time.perf_counter()
        found = query.query(["h"], evidence=evidence, show_progress=False)
        each = [query.query([f], evidence=evidence, show_progress=False).values[1] for f in faults]
        taken.append((time.perf_counter() - start) * 1e3)
    return np.asarray(found.values), np.array(each), min(taken)


def best(act: Callable[[], object], rounds: int = 50) -> float:
    """Milliseconds of the fastest of some rounds."""
    taken = []
    for _ in range(rounds):
        start = time.perf_counter()
        act()
        taken.append((time.perf_counter() - start) * 1e3)
    return min(taken)


def main() -> None:
    model = shipped_model()
    every = np.arange(model.space.size)
    single = np.flatnonzero(model.space.member.sum(axis=1) <= 1)
    print(
        f"{'model':38} {'tape':9} {'library':>10} {'fold':>9} {'ratio':>6} {'update':>9} {'ratio':>7}  largest "
        f"difference"
    )
    for title, states in (("single faults", single), ("up to three faults", every)):
        prior = model.prior(FACTS)[states]
        for name, tape in TAPES.items():
            theirs, each, slow = library(model, states, prior / prior.sum(), tape)
            facts = parse_facts(FACTS, model.knowledge)
            entries = parse_entries([{"move": m, "outcome": o} for m, o in tape], model.knowledge)
            fast = best(lambda: fold(model, facts, entries).belief @ model.space.member)  # noqa: B023
            kept, likelihood = fold(model, facts, entries[:-1]).belief, model.look(*tape[-1])

            def update() -> Floats:
                after = kept * likelihood  # noqa: B023
                return np.asarray((after / after.sum()) @ model.space.member)

            one = best(update)
            belief = fold(model, facts, entries).belief
            ours = belief[states] / belief[states].sum()
            worst = max(
                float(np.abs(theirs - ours).max()), float(np.abs(each - ours @ model.space.member[states]).max())
            )
            print(
                f"{f'{title} ({len(states)} hypotheses)':38} {name:9} {slow:7.1f} ms {fast:6.2f} ms {slow / fast:6.0f} "
                f"{one:6.3f} ms {slow / one:7.0f}  {worst:.1e}"
            )
            assert worst < 1e-9, "the engine and the library disagree"
            assert slow / fast > 10, "the engine is wanted at least 10 times as fast"
    print("the engine always carries all hypotheses")


if __name__ == "__main__":
    main()
