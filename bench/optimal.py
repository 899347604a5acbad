"""How near the planner comes to the optimal policy: random sub-models small enough for exhaustive search.

Prints the distribution of (planner's expected cost / optimal expected cost). The search is tests/optimal.py.
"""

from __future__ import annotations

import argparse
import os
import sys
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "tests"))
from optimal import ratio_of


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--problems", type=int, default=400)
    parser.add_argument("--first", type=int, default=0, help="seed of the first problem")
    arguments = parser.parse_args()
    seeds = range(arguments.first, arguments.first + arguments.problems)
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        ratios = np.array([r for r in pool.map(partial(ratio_of), seeds, chunksize=4) if r is not None])
    print(f"{len(ratios)} sub-models searched to the end, {len(seeds) - len(ratios)} too large")
    print(
        f"planner / optimum: mean {ratios.mean():.4f}; within 1 %: {(ratios <= 1.01).mean():.1%}, 5 %: "
        f"{(ratios <= 1.05).mean():.1%}"
    )
    for share in (50, 75, 90, 95, 99, 100):
        print(f"  {share:3d} % of them up to {np.percentile(ratios, share):.4f}")


if __name__ == "__main__":
    main()
