"""`gatecheck rehearse --report DIR`: every world under every policy, as one page with plots."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import matplotlib as mpl

mpl.use("svg")
import matplotlib.pyplot as plt  # after the backend is chosen
import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from gatecheck.adapters.shipped_tables import shipped_worlds
from gatecheck.cli.rehearse import rehearse_runs, table
from gatecheck.core.errors import InputError
from gatecheck.core.rehearsal.run import RehearsalRun, Summary, summarise

Runs = Mapping[str, Sequence[RehearsalRun]]
_POLICIES = ("planner", "fixed", "clairvoyant", "random-legal")
_JITTERS = (0.3, 0.6)
_INK, _PINE, _OCHRE, _LINE, _PAPER = "#16212B", "#1F7A6B", "#B97A12", "#8A949C", "#F6F4EE"
_TONES = {"planner": _PINE, "fixed": _OCHRE, "clairvoyant": _INK, "random-legal": _LINE}
_STRANGE = ("dusty-desktops", "sealed-kiosks")
"""worlds that differ in rows, in what hides what, in minutes and prices, and in how often something is misread"""


@dataclass(frozen=True, slots=True)
class _Wants:
    """What is wanted of the planner in a world, beside the fixed order."""

    fixed: Summary
    is_strange: bool

    def right_calls(self, planner: Summary) -> bool:
        return planner.right_calls >= (0.95 if self.is_strange else 0.97)

    def minutes(self, planner: Summary) -> bool:
        return planner.hands_on_mean <= (0.70 if self.is_strange else 0.65) * self.fixed.hands_on_mean

    def needless(self, planner: Summary) -> bool:
        return planner.needless_drives < (0.012 if self.is_strange else 0.01)

    def calibrated(self, planner: Summary) -> bool:
        return (planner.calibration or 0.0) <= (0.04 if self.is_strange else 0.025)

    def short(self, planner: Summary) -> bool:
        return planner.steps_to_call is not None and planner.steps_to_call <= (11 if self.is_strange else 9)


_Test = Callable[[Summary, _Wants], bool]
_WANTED: tuple[tuple[str, _Test, Callable[[Summary, Summary], str]], ...] = (
    (
        "right calls at least 97 % (95 % in strange worlds)",
        lambda p, w: w.right_calls(p),
        lambda p, f: f"{p.right_calls:.1%}",
    ),
    (
        "data lost by a proposed move at most 0.05 %",
        lambda p, w: p.data_lost <= 0.0005,
        lambda p, f: f"{p.data_lost:.2%}",
    ),
    ("no only copy left behind without a word", lambda p, w: p.data_left == 0.0, lambda p, f: f"{p.data_left:.2%}"),
    (
        "hands-on minutes against the fair `fixed` at most 0.65 (0.70)",
        lambda p, w: w.minutes(p),
        lambda p, f: f"{p.hands_on_mean / f.hands_on_mean:.2f}",
    ),
    ("needless drives under 1 % (1.2 %)", lambda p, w: w.needless(p), lambda p, f: f"{p.needless_drives:.1%}"),
    (
        "calibration error of the first made call at most 0.025 (0.04)",
        lambda p, w: w.calibrated(p),
        lambda p, f: f"{p.calibration or 0:.3f}",
    ),
    (
        "steps until the verdict at most 9 (11), median",
        lambda p, w: w.short(p),
        lambda p, f: "-" if p.steps_to_call is None else f"{p.steps_to_call:g}",
    ),
)


def write_report(folder: Path, *, machines: int, seed: int, jobs: int | None) -> str:
    """Rehearse every world and write `rehearsal.md` and its plots. Returns what was written. Raises InputError."""
    worlds: list[tuple[str, str | None, float]] = [
        ("default", None, 0.0),
        *((name, name, 0.0) for name in shipped_worlds()),
    ]
    worlds += [(f"default, jitter {size:g}", None, size) for size in _JITTERS]
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(f"--report {folder}: expected a folder to write to, got {error.strerror}") from error
    runs = {
        name: rehearse_runs(machines=machines, seed=seed, world=world, policies=_POLICIES, jobs=jobs, jitter=jitter)
        for name, world, jitter in worlds
    }
    _plot_minutes(runs, folder / "rehearsal-minutes.svg")
    _plot_calls(runs, folder / "rehearsal-calls.svg")
    page = folder / "rehearsal.md"
    page.write_text(_page(runs, machines, seed), encoding="utf-8")
    return f"{page}: {len(runs)} worlds, {machines} machines each under {len(_POLICIES)} policies"


def _page(runs: Mapping[str, Runs], machines: int, seed: int) -> str:
    summaries = {world: {name: summarise(name, done) for name, done in by.items()} for world, by in runs.items()}
    parts = [
        "# Rehearsal",
        "",
        (
            f"Written by `gatecheck rehearse --machines {machines} --seed {seed} --report DIR` (`make rehearsal`); do "
            f"not "
            f"edit."
        ),
        "",
        (
            f"{machines} simulated machines a world, the same ones for every policy. `planner` is the engine with the "
            f"shipped"
        ),
        (
            "tables, whatever world the machines come from; `fixed` is the order of the trade; `clairvoyant` is told "
            "the "
            "faults;"
        ),
        (
            "`random-legal` makes any move that is not held. Minutes are charged from the world's own tables, and its "
            "readings are misread as often as it says. In a jittered world every odd, row and cure is off by that much"
        ),
        "(standard deviation of its log-odds): the engine's tables are then wrong everywhere at once.",
        "",
        "![Hands-on minutes by world and policy](rehearsal-minutes.svg)",
        "",
        "![Right calls by world and policy](rehearsal-calls.svg)",
        "",
        "## Wanted",
        "",
        "| wanted | " + " | ".join(summaries) + " |",
        "|---|" + "---|" * len(summaries),
    ]
    for title, test, print_json in _WANTED:
        cells = [
            (
                f"{print_json(s['planner'], s['fixed'])} "
                f"{'yes' if test(s['planner'], _Wants(s['fixed'], world in _STRANGE)) else '**no**'}"
            )
            for world, s in summaries.items()
        ]
        parts.append(f"| {title} | " + " | ".join(cells) + " |")
    for world, by in summaries.items():
        parts += [
            "",
            f"## {world}",
            "",
            "```",
            table(list(by.values())),
            "```",
            "",
            "Calls of `planner` that were not right:",
            "",
        ]
        parts += [f"- {count} x {reason}" for reason, count in _reasons(runs[world]["planner"])] or ["- none"]
    return "\n".join(parts) + "\n"


def _reasons(runs: Sequence[RehearsalRun]) -> list[tuple[str, int]]:
    counts: dict[str, int] = {}
    for run in runs:
        if not run.right:
            counts[run.wrong_call] = counts.get(run.wrong_call, 0) + 1
    return sorted(counts.items(), key=lambda item: -item[1])[:8]


def _axes(title: str) -> tuple[Figure, Axes]:
    mpl.rcParams.update({"svg.hashsalt": "gatecheck", "font.size": 11, "axes.edgecolor": _LINE, "text.color": _INK})
    figure, axes = plt.subplots(figsize=(9.6, 4.2), facecolor=_PAPER)
    axes.set_facecolor(_PAPER)
    axes.set_title(title, loc="left")
    axes.spines[["top", "right"]].set_visible(False)
    return figure, axes


def _plot_minutes(runs: Mapping[str, Runs], path: Path) -> None:
    """Mean hands-on minutes as bars, the 90th percentile as a tick above each."""
    figure, axes = _axes("Hands-on minutes per machine: mean, and the 90th percentile as a tick")
    for place, policy in enumerate(_POLICIES):
        rows = [summarise(policy, by[policy]) for by in runs.values()]
        left = np.arange(len(rows)) + (place - 1.5) * 0.2
        axes.bar(left, [s.hands_on_mean for s in rows], 0.18, color=_TONES[policy], label=policy)
        axes.plot(left, [s.hands_on_p90 for s in rows], "_", color=_TONES[policy], markersize=12)
    _finish(figure, axes, list(runs), "minutes", path)


def _plot_calls(runs: Mapping[str, Runs], path: Path) -> None:
    """Share of right calls with its standard error."""
    figure, axes = _axes("Right calls, with one standard error")
    for place, policy in enumerate(_POLICIES):
        rows: list[Summary] = [summarise(policy, by[policy]) for by in runs.values()]
        shares = np.array([s.right_calls for s in rows])
        errors = np.sqrt(shares * (1 - shares) / rows[0].machines)
        left = np.arange(len(rows)) + (place - 1.5) * 0.2
        axes.bar(left, 100 * shares, 0.18, yerr=100 * errors, color=_TONES[policy], ecolor=_LINE, label=policy)
    axes.axhline(97, color=_LINE, linewidth=1, linestyle=":")
    _finish(figure, axes, list(runs), "%", path)


def _finish(figure: Figure, axes: Axes, worlds: Sequence[str], unit: str, path: Path) -> None:
    axes.set_xticks(np.arange(len(worlds)), [w.replace(", ", "\n") for w in worlds])
    axes.set_ylabel(unit)
    figure.legend(loc="lower center", ncols=len(_POLICIES), frameon=False)
    figure.tight_layout(rect=(0, 0.07, 1, 1))
    figure.savefig(path, metadata={"Date": None})
    plt.close(figure)
