"""A world near another one: every odd, likelihood row and cure drawn anew around what the tables say.

What a planner is worth shows when the world is not the one it believes in.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from msgspec.structs import replace

from gatecheck.core.knowledge.tables import Check, Coupling, Fix, Knowledge, Likelihood, Row

Rng = np.random.Generator


def perturbed(knowledge: Knowledge, size: float, rng: Rng) -> Knowledge:
    """`size` is the standard deviation of every log-odds: 0.3 is off by about a third either way, 0 changes nothing.

    Likelihood rows keep their sum, cures stay below one; what hides what and how often something is misread move too.
    So does the structure: signs, couplings and what hides something are missing now and then (`_GONE` per size), and
    faults go together that the tables know nothing of. Costs stay as they are."""
    if size <= 0:
        return knowledge
    gone = size * _GONE
    return replace(
        knowledge,
        faults=tuple(
            replace(f, odds=_scaled(f.odds, size, rng), intermittent=_chance(f.intermittent, size, rng))
            for f in knowledge.faults
        ),
        couplings=(
            *(
                replace(c, times=1.0 if rng.random() < gone else max(1.0, _scaled(c.times, size, rng)))
                for c in knowledge.couplings
            ),
            *_strange(knowledge, size, rng),
        ),
        contexts=tuple(
            replace(c, times={f: _scaled(v, size, rng) for f, v in c.times.items()}) for c in knowledge.contexts
        ),
        misread={name: _chance(share, size, rng) for name, share in knowledge.misread.items()},
        visibility={
            name: replace(
                v,
                by={f: _chance(p, size, rng) for f, p in v.by.items() if rng.random() >= gone},
                intermittent={f: _chance(p, size, rng) for f, p in v.intermittent.items()},
            )
            for name, v in knowledge.visibility.items()
        },
        checks={name: _check(check, size, rng) for name, check in knowledge.checks.items()},
        fixes={name: _fix(fix, size, rng) for name, fix in knowledge.fixes.items()},
    )


_GONE, _NEW, _TIMES = 0.08, 5.0, 3.0
"""share of rows that are missing, and number of new couplings with their times, at size 1"""


def _strange(knowledge: Knowledge, size: float, rng: Rng) -> list[Coupling]:
    """Couplings that the tables have not: two faults of different components, three times as likely together."""
    found = []
    for _ in range(int(rng.poisson(_NEW * size))):
        one, other = (knowledge.faults[int(i)] for i in rng.choice(len(knowledge.faults), 2, replace=False))
        if one.component != other.component:
            found.append(replace(knowledge.couplings[0], faults=(one.id, other.id), times=_TIMES))
    return found


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


def _table(table: Likelihood, size: float, rng: Rng, gone: float = 0.0) -> Likelihood:
    rows: Mapping[str, Row] = {fault: _row(row, size, rng) for fault, row in table.rows.items() if rng.random() >= gone}
    hidden = _row(table.hidden_row, size, rng) if table.hidden_row else table.hidden_row
    sound = _row(table.sound, size, rng)
    intermittent = {fault: _row(row, size, rng) for fault, row in table.intermittent.items()}
    return replace(table, sound=sound, rows=rows, hidden_row=hidden, intermittent=intermittent)


def _check(check: Check, size: float, rng: Rng) -> Check:
    # what the screen shows says whether it starts at all: there no fault loses its sign
    return replace(check, table=_table(check.table, size, rng, 0.0 if check.id == "screen" else size * _GONE))


def _fix(fix: Fix, size: float, rng: Rng) -> Fix:
    return replace(
        fix,
        cures={f: _chance(p, size, rng) for f, p in fix.cures.items()},
        breaks={f: _chance(p, size, rng) for f, p in fix.breaks.items()},
        resolves={f: _chance(p, size, rng) for f, p in fix.resolves.items()},
        same_cause=_chance(fix.same_cause, size, rng),
        table=_table(fix.table, size, rng) if fix.table else None,
    )
