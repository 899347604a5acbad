"""A world near another one: every odd, likelihood row and cure drawn anew around what the tables say.

What a planner is worth shows when the world is not the one it believes in.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from gatecheck.core.knowledge.tables import Check, Fix, Knowledge, Likelihood, Row

Rng = np.random.Generator


def perturbed(knowledge: Knowledge, size: float, rng: Rng) -> Knowledge:
    """`size` is the standard deviation of every log-odds: 0.3 is off by about a third either way, 0 changes nothing.

    Likelihood rows keep their sum, cures stay below one; what hides what and how often something is misread move too. Costs stay as they are.
    """
    if size <= 0:
        return knowledge
    return replace(
        knowledge,
        faults=tuple(replace(f, odds=_scaled(f.odds, size, rng), intermittent=_chance(f.intermittent, size, rng)) for f in knowledge.faults),
        couplings=tuple(replace(c, times=max(1.0, _scaled(c.times, size, rng))) for c in knowledge.couplings),
        contexts=tuple(replace(c, times={f: _scaled(v, size, rng) for f, v in c.times.items()}) for c in knowledge.contexts),
        misread={name: _chance(share, size, rng) for name, share in knowledge.misread.items()},
        visibility={name: replace(v, by={f: _chance(p, size, rng) for f, p in v.by.items()}, intermittent={f: _chance(p, size, rng) for f, p in v.intermittent.items()}) for name, v in knowledge.visibility.items()},
        checks={name: _check(check, size, rng) for name, check in knowledge.checks.items()},
        fixes={name: _fix(fix, size, rng) for name, fix in knowledge.fixes.items()},
    )  # fmt: skip


def _scaled(value: float, size: float, rng: Rng) -> float:
    return float(value * np.exp(rng.normal(0.0, size)))


def _chance(value: float, size: float, rng: Rng) -> float:
    """A probability moved by `size` on the log-odds scale; certain ones stay certain."""
    if not 0.0 < value < 1.0:
        return value
    odds = _scaled(value / (1.0 - value), size, rng)
    return odds / (1.0 + odds)


def _row(row: Row, size: float, rng: Rng) -> dict[str, float]:
    moved = {outcome: _scaled(p, size, rng) for outcome, p in row.items()}
    total = sum(moved.values())
    return {outcome: p / total for outcome, p in moved.items()} if total > 0 else dict(row)


def _table(table: Likelihood, size: float, rng: Rng) -> Likelihood:
    rows: Mapping[str, Row] = {fault: _row(row, size, rng) for fault, row in table.rows.items()}
    hidden = _row(table.hidden_row, size, rng) if table.hidden_row else table.hidden_row
    sound = _row(table.sound, size, rng)
    intermittent = {fault: _row(row, size, rng) for fault, row in table.intermittent.items()}
    return replace(table, sound=sound, rows=rows, hidden_row=hidden, intermittent=intermittent)


def _check(check: Check, size: float, rng: Rng) -> Check:
    return replace(check, table=_table(check.table, size, rng))


def _fix(fix: Fix, size: float, rng: Rng) -> Fix:
    return replace(
        fix,
        cures={f: _chance(p, size, rng) for f, p in fix.cures.items()},
        breaks={f: _chance(p, size, rng) for f, p in fix.breaks.items()},
        resolves={f: _chance(p, size, rng) for f, p in fix.resolves.items()},
        same_cause=_chance(fix.same_cause, size, rng),
        table=_table(fix.table, size, rng) if fix.table else None,
    )
