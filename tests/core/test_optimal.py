"""The planner against the optimal policy of small sub-models, found by exhaustive search; and the search by hand."""

from __future__ import annotations

import os
from concurrent.futures import ProcessPoolExecutor

import numpy as np
import pytest

from gatecheck.core.belief.model import Model
from optimal import Search, ratio_of, small_problem


def test_the_planner_is_within_five_percent_of_the_optimal_policy() -> None:
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        ratios = np.array([r for r in pool.map(ratio_of, range(5000, 5040), chunksize=4) if r is not None])
    shown = np.percentile(ratios, [50, 75, 90, 95, 99, 100]).round(4).tolist()
    print(f"{len(ratios)} sub-models; planner / optimum at 50, 75, 90, 95, 99, 100 %: {shown}")
    assert (ratios <= 1.05).sum() >= 30, shown  # hundreds of them: `make bench`
    assert (ratios <= 1.05).mean() >= 0.95, shown
    assert ratios.min() >= 1.0 - 1e-6, "nothing can be cheaper than the optimum"


@pytest.mark.parametrize("seed", range(3))
def test_one_fault_and_one_fix_cost_what_they_cost_by_hand(model: Model, seed: int) -> None:
    search = Search(small_problem(model.knowledge, seed, faults=1, checks=0, fixes=1))
    belief, at = search.start
    fix = search.fixes[0]
    outcomes = search.after(fix, belief, at)
    now = search.cost(fix, belief, at)
    # after the fix: hand it back, give it up, or look at the screen once more, whichever is cheapest
    screen = search.knowledge.checks["screen"]
    after = 0.0
    for _, p, post, there in outcomes:
        looked = search.cost(screen, post, there) + sum(
            q * search.stopping(b, t) for _, q, b, t in search.after(screen, post, there)
        )
        after += p * min(search.stopping(post, there), looked if "screen" not in there.current else np.inf)
    assert search.best(belief, at) == pytest.approx(min(search.give_up, now + after), rel=0.02)
