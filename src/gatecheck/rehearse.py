"""`gatecheck rehearse`: reads worlds from disk and spreads machines over cores; the rehearsal itself is in core/."""

from __future__ import annotations

import os
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from functools import cache
from pathlib import Path

from gatecheck.core.knowledge.loader import FILES, load
from gatecheck.core.rehearsal.policies import POLICIES
from gatecheck.core.rehearsal.run import Run, Summary, rehearse_one, summarise, summary_document
from gatecheck.core.triage.model import Model, compile_model
from gatecheck.files import InputError
from gatecheck.library import shipped_model, shipped_texts

_MOST_MACHINES = 100_000
_COLUMNS = (
    ("right calls", "right_calls", "{:.1%}"), ("hands-on", "hands_on_mean", "{:.0f} min"), ("p90", "hands_on_p90", "{:.0f}"),
    ("total", "total_mean", "{:.0f} min"), ("p90", "total_p90", "{:.0f}"), ("needless drives", "needless_drives", "{:.1%}"),
    ("data lost", "data_lost", "{:.1%}"), ("comebacks", "comebacks", "{:.1%}"), ("moves", "moves_mean", "{:.1f}"),
)  # fmt: skip


def rehearse(
    *, machines: int, seed: int, world: Path | None, policies: Sequence[str] | None, jobs: int | None
) -> dict[str, object]:  # fmt: skip
    """Run every policy over the same machines. Raises InputError for unusable arguments, KnowledgeError for a broken world."""
    names = list(policies or ("planner", "fixed", "clairvoyant"))
    for name in names:
        if name not in POLICIES:
            raise InputError(f"--policy: expected one of {', '.join(POLICIES)}, got {name!r}")
    if not 1 <= machines <= _MOST_MACHINES:
        raise InputError(f"--machines: expected 1 to {_MOST_MACHINES}, got {machines}")
    place = str(world) if world else None
    _world(place)  # a broken world is said once, before any process starts
    seeds = [seed * 1_000_003 + number for number in range(machines)]
    workers = max(1, jobs or os.cpu_count() or 1)
    size = -(-machines // (workers * 4))
    parts = [(place, name, seeds[start : start + size]) for name in names for start in range(0, machines, size)]
    if workers == 1:
        done = [_part(part) for part in parts]
    else:
        with ProcessPoolExecutor(workers) as pool:
            done = list(pool.map(_part, parts))
    by_policy: dict[str, list[Run]] = {name: [] for name in names}
    for (_, name, _), runs in zip(parts, done, strict=True):
        by_policy[name] += runs
    summaries = [summarise(name, runs) for name, runs in by_policy.items()]
    return {
        "machines": machines,
        "seed": seed,
        "world": place,
        "policies": [summary_document(s) for s in summaries],
        "wrong": {name: _reasons(runs) for name, runs in by_policy.items()},
        "table": _table(summaries),
    }


def _part(part: tuple[str | None, str, list[int]]) -> list[Run]:
    place, policy, seeds = part
    return [rehearse_one(shipped_model(), _world(place), policy, seed) for seed in seeds]


@cache
def _world(place: str | None) -> Model:
    """The world's model: the shipped one, or the shipped one with the folder's files laid over it."""
    if place is None:
        return shipped_model()
    folder = Path(place)
    if not folder.is_dir():
        raise InputError(f"--world {place}: expected a folder of knowledge files ({', '.join(FILES)}), got none")
    overlay = {file.name: file.read_text(encoding="utf-8") for file in sorted(folder.glob("*.toml"))}
    if not overlay:
        raise InputError(f"--world {place}: expected at least one of {', '.join(FILES)}, got no TOML file")
    return compile_model(load(shipped_texts(), overlay))


def _reasons(runs: Sequence[Run]) -> dict[str, int]:
    counts: dict[str, int] = {}
    for run in runs:
        if not run.right:
            counts[run.wrong_call] = counts.get(run.wrong_call, 0) + 1
    return dict(sorted(counts.items(), key=lambda item: -item[1])[:12])


def _table(summaries: Sequence[Summary]) -> str:
    head = ["policy", *(title for title, _, _ in _COLUMNS)]
    rows = [[s.policy, *(shape.format(getattr(s, name)) for _, name, shape in _COLUMNS)] for s in summaries]
    widths = [max(len(row[i]) for row in [head, *rows]) for i in range(len(head))]
    return "\n".join(
        "  ".join(cell.rjust(w) if i else cell.ljust(w) for i, (cell, w) in enumerate(zip(row, widths, strict=True)))
        for row in [head, *rows]
    )
