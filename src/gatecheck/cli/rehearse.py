"""`gatecheck rehearse`: reads worlds from disk and spreads machines over cores; the rehearsal itself is in core/."""

from __future__ import annotations

import os
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np

from gatecheck.adapters.shipped_tables import shipped_model, shipped_texts, shipped_worlds, world_texts
from gatecheck.core.belief.compile import compile_model
from gatecheck.core.belief.model import Model
from gatecheck.core.errors import InputError
from gatecheck.core.knowledge.loader import FILES, load
from gatecheck.core.rehearsal.perturb import perturbed
from gatecheck.core.rehearsal.policies import POLICIES
from gatecheck.core.rehearsal.run import RehearsalRun, Summary, rehearse_one, summarise, summary_document

_MOST_MACHINES, _MOST_JITTER = 100_000, 2.0
_COLUMNS = (
    ("right calls", "right_calls", "{:.1%}"),
    ("hands-on", "hands_on_mean", "{:.0f} min"),
    ("p90", "hands_on_p90", "{:.0f}"),
    ("total", "total_mean", "{:.0f} min"),
    ("p90", "total_p90", "{:.0f}"),
    ("needless drives", "needless_drives", "{:.1%}"),
    ("data lost", "data_lost", "{:.1%}"),
    ("data left", "data_left", "{:.1%}"),
    ("comebacks", "comebacks", "{:.1%}"),
    ("calibration", "calibration", "{:.3f}"),
    ("moves", "moves_mean", "{:.1f}"),
    ("steps to the verdict", "steps_to_call", "{:.0f}"),
)


def rehearse(
    *,
    machines: int,
    seed: int,
    world: str | None,
    policies: Sequence[str] | None,
    jobs: int | None,
    jitter: float = 0.0,
    cluster: str | None = None,
) -> dict[str, object]:
    """Run every policy over the same machines. Raises InputError for unusable arguments, KnowledgeError for a broken
    world."""
    by_policy = rehearse_runs(
        machines=machines, seed=seed, world=world, policies=policies, jobs=jobs, jitter=jitter, cluster=cluster
    )
    summaries = [summarise(name, runs) for name, runs in by_policy.items()]
    return {
        "machines": machines,
        "seed": seed,
        "world": world,
        "jitter": jitter,
        "policies": [summary_document(s) for s in summaries],
        "wrong": {name: _reasons(runs) for name, runs in by_policy.items()},
        "table": table(summaries),
    }


def rehearse_runs(
    *,
    machines: int,
    seed: int,
    world: str | None,
    policies: Sequence[str] | None,
    jobs: int | None,
    jitter: float = 0.0,
    cluster: str | None = None,
) -> dict[str, list[RehearsalRun]]:
    """The same, every run by itself: policy -> runs in the order of the machines. `cluster`: the address of a scheduler
    whose workers share the machines, instead of processes here."""
    names = list(policies or ("planner", "fixed", "clairvoyant"))
    for name in names:
        if name not in POLICIES:
            raise InputError(f"--policy: expected one of {', '.join(POLICIES)}, got {name!r}")
    if not 1 <= machines <= _MOST_MACHINES:
        raise InputError(f"--machines: expected 1 to {_MOST_MACHINES}, got {machines}")
    if jobs is not None and jobs < 1:
        raise InputError(f"--jobs: expected at least 1, got {jobs}")
    if not 0.0 <= jitter <= _MOST_JITTER:
        raise InputError(f"--jitter: expected 0 to {_MOST_JITTER:g}, got {jitter:g}")
    place = (tuple(sorted(_overlay(world).items())) if world else None, jitter, seed)
    _world(*place)  # a broken world is said once, before any process starts
    seeds = [seed * 1_000_003 + number for number in range(machines)]
    workers = max(1, jobs or os.cpu_count() or 1)
    size = _CLUSTER_PART if cluster else max(1, -(-machines // (workers * 8)))
    parts = [(place, name, seeds[start : start + size]) for name in names for start in range(0, machines, size)]
    if cluster:
        done = _on_cluster(cluster, parts)
    elif workers == 1:
        done = [_part(part) for part in parts]
    else:
        with ProcessPoolExecutor(workers) as pool:
            done = list(pool.map(_part, parts))
    by_policy: dict[str, list[RehearsalRun]] = {name: [] for name in names}
    for (_, name, _), runs in zip(parts, done, strict=True):
        by_policy[name] += runs
    return by_policy


_Texts = tuple[tuple[str, str], ...]
_Part = tuple[tuple[_Texts | None, float, int], str, list[int]]
_CLUSTER_PART = 20
"""machines that a worker of a cluster takes at once: what a worker that dies has to be done again"""


def _on_cluster(address: str, parts: Sequence[_Part]) -> list[list[RehearsalRun]]:
    """The parts done by the workers of a scheduler (Dask's `distributed`), in their order; what a worker that was lost
    had taken, another one does again. Raises InputError where there is no such library or no such scheduler."""
    try:
        from distributed import Client as DaskClient
    except ImportError as error:
        raise InputError("--cluster: expected the extra gatecheck[cluster] to be installed, got none") from error
    try:
        make: Any = DaskClient  # untyped
        client = make(address, timeout=_CLUSTER_WAIT)
    except (OSError, ValueError) as error:
        raise InputError(f"--cluster {address}: expected a scheduler that answers, got {error}") from error
    with client:
        done: list[list[RehearsalRun]] = client.gather(client.map(_part, parts, retries=_CLUSTER_RETRIES, pure=False))
    return done


_CLUSTER_WAIT, _CLUSTER_RETRIES = 20, 3
"""seconds until a scheduler has answered; how often a part is tried again"""


def _part(part: _Part) -> list[RehearsalRun]:
    place, policy, seeds = part
    return [rehearse_one(shipped_model(), _world(*place), policy, seed) for seed in seeds]


@cache
def _world(overlay: _Texts | None, jitter: float, seed: int) -> Model:
    """The world's model: the shipped one, or a world's files laid over it, every row moved by `jitter`."""
    if overlay is None and jitter == 0:
        return shipped_model()
    knowledge = load(shipped_texts(), dict(overlay) if overlay else None)
    return compile_model(perturbed(knowledge, jitter, np.random.default_rng(seed)))


def _overlay(place: str) -> dict[str, str]:
    if place in shipped_worlds():
        return world_texts(place)
    folder = Path(place)
    if not folder.is_dir():
        known = ", ".join(shipped_worlds())
        raise InputError(
            f"--world {place}: expected a shipped world ({known}) or a folder of knowledge files "
            f"({', '.join(FILES)}), "
            f"got none"
        )
    overlay = {file.name: file.read_text(encoding="utf-8") for file in sorted(folder.glob("*.toml"))}
    if not overlay:
        raise InputError(f"--world {place}: expected at least one of {', '.join(FILES)}, got no TOML file")
    return overlay


def wrong_call(runs: Sequence[RehearsalRun], number: int) -> RehearsalRun:
    """The wrong call of this number, counted from one. Raises InputError where there are fewer."""
    wrong = [run for run in runs if not run.right]
    if not wrong:
        raise InputError("--wrong: expected a rehearsal with wrong calls, got none: every call was right")
    if not 1 <= number <= len(wrong):
        raise InputError(f"--wrong: expected 1 to {len(wrong)}, the wrong calls of this rehearsal, got {number}")
    return wrong[number - 1]


def case_of(run: RehearsalRun) -> dict[str, object]:
    """The machine as a case for `triage`: what was known of it, and its tape."""
    return {"facts": dict(run.facts), "entries": list(run.tape)}


def told(run: RehearsalRun) -> str:
    """What was wrong with the machine, what was made of it, and step by step how."""
    facts = ", ".join(f"{name} {value}" for name, value in run.facts.items())
    steps = [
        f"{number:3}  "
        + (
            f"{entry['move']}: {entry['outcome']}"
            if "move" in entry
            else ", ".join(f"{key} {value}" for key, value in entry.items())
        )
        for number, entry in enumerate(run.tape, 1)
    ]
    faults = ", ".join(run.faults) or "nothing"
    sure = "no call" if run.confidence is None else f"first call {run.confidence:.0%}"
    return "\n".join([f"{run.wrong_call}; in it: {faults}; {sure}", facts, *steps])


def _reasons(runs: Sequence[RehearsalRun]) -> dict[str, int]:
    counts: dict[str, int] = {}
    for run in runs:
        if not run.right:
            counts[run.wrong_call] = counts.get(run.wrong_call, 0) + 1
    return dict(sorted(counts.items(), key=lambda item: -item[1])[:12])


def table(summaries: Sequence[Summary]) -> str:
    head = ["policy", *(title for title, _, _ in _COLUMNS)]
    rows = [
        [
            s.policy,
            *("-" if getattr(s, name) is None else shape.format(getattr(s, name)) for _, name, shape in _COLUMNS),
        ]
        for s in summaries
    ]
    widths = [max(len(row[i]) for row in [head, *rows]) for i in range(len(head))]
    return "\n".join(
        "  ".join(cell.rjust(w) if i else cell.ljust(w) for i, (cell, w) in enumerate(zip(row, widths, strict=True)))
        for row in [head, *rows]
    )
