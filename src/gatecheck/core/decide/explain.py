"""What spoke for and against a suspect, and what would tip the call: both found in the belief, not in templates."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec import Struct

from gatecheck.core.belief.model import Model
from gatecheck.core.belief.space import Floats
from gatecheck.core.decide.call import Call, make_call
from gatecheck.core.decide.interlocks import held_moves
from gatecheck.core.decide.plan import drive_failing, is_legal, make_plan, unmet_need
from gatecheck.core.decide.rules import applicable_rule
from gatecheck.core.decide.ways import CHOICES, right_choices
from gatecheck.core.knowledge.tables import Check
from gatecheck.core.tape.fold import TicketState, after_reading

_TELLS = 1.25
"""a factor on the odds that is worth saying"""
_UNLIKELY = 0.03


class Weight(Struct, frozen=True):
    """The entry multiplied the odds of the suspect by `factor` (above one: for it; below: against)."""

    entry: int
    factor: float


class Tip(Struct, frozen=True):
    """A check not made yet, the outcome that would tip the call, and where to."""

    move: str
    outcome: str
    choice: str
    p: float


class Overturn(Struct, frozen=True):
    """Readings that would change the call when they came together: what they are, how likely, and the call then."""

    readings: tuple[tuple[str, str], ...]
    choice: str
    fix: str | None
    p: float


def weights_of_evidence(
    model: Model, state: TicketState, faults: Sequence[str], most: int = 3
) -> dict[str, list[Weight]]:
    """For each fault the entries that spoke loudest, strongest first.

    The factor is the ratio of the odds after and before the entry: for a check the Bayes factor, for a fix what the
    attempt and its outcome did together.
    """
    if not state.steps:
        return {fault: [] for fault in faults}
    columns = model.space.member[:, [model.space.index(f) for f in faults]]
    factors = _odds(np.array([s.after for s in state.steps]), columns) / _odds(
        np.array([s.before for s in state.steps]), columns
    )
    spoken: dict[str, list[Weight]] = {}
    for column, fault in enumerate(faults):
        order = np.argsort(-np.abs(np.log(factors[:, column])))[:most]
        weights = [Weight(state.steps[i].index, float(factors[i, column])) for i in order]
        spoken[fault] = [w for w in weights if w.factor >= _TELLS or w.factor <= 1 / _TELLS]
    return spoken


def _odds(beliefs: Floats, columns: Floats) -> Floats:
    """Odds of each fault, shape (k, f), from beliefs up to a factor, shape (k, n)."""
    share = np.clip((beliefs @ columns) / beliefs.sum(axis=1, keepdims=True), 1e-12, 1 - 1e-12)
    return np.asarray(share / (1 - share))


def tips(model: Model, state: TicketState, call: Call, held: Sequence[str], most: int = 3) -> list[Tip]:
    """Outcomes of checks not made yet that would make another choice the likeliest right one, likeliest first."""
    right = right_choices(model, state)
    one_hot = np.eye(len(CHOICES))[right]
    winners_of = model.sight.rows.T @ (
        state.belief[:, None] * np.concatenate([np.ones((len(right), 1)), one_hot], axis=1)
    )
    found = []
    for check in model.knowledge.checks.values():
        possible = check.id in state.applicable and unmet_need(model, state, check) is None
        if check.id in state.current or check.id in held or not possible:
            continue
        for outcome, row in zip(check.outcomes, winners_of[model.sight.columns[check.id]], strict=True):
            choice = CHOICES[int(row[1:].argmax())]
            if choice != call.leans and row[0] >= _UNLIKELY:
                found.append(Tip(check.id, outcome, choice, float(row[0])))
    found.sort(key=lambda t: -t.p)
    return found[:most]


_MOST_TELLING, _MOST_TRIED = 5, 14
"""readings that pairs are built on, and calls that are made anew to confirm what the belief suggests"""


def overturns(model: Model, state: TicketState, call: Call, most: int = 6) -> list[Overturn]:
    """What would overturn the call: every outcome of every check that can still be made, and where no single one
    changes it, pairs of them. What the belief or a rule suggests is put on the tape and the call made anew. Likeliest
    first."""
    held = {h.move for h in held_moves(model, state)}
    checks = [
        c for c in model.knowledge.checks.values() if c.id not in state.current and is_legal(model, state, c, held)
    ]
    stands = (call.choice or call.leans, call.option.main_fix if call.option else None)
    single = [(p, (step,), after) for p, step, after in _suggested(model, state, checks, stands[0])]
    found = _confirmed(model, single, stands)
    if not found:
        pairs = []
        for p, step, after in _most_telling(model, state, checks):
            others = [c for c in checks if c.id != step[0]]
            pairs += [
                (p * q, (step, then), last)
                for q, then, last in _suggested(model, after, others, stands[0])
                if p * q >= _UNLIKELY / 3
            ]
        once = {frozenset(steps): (p, steps, after) for p, steps, after in pairs}
        found = _confirmed(model, list(once.values()), stands)
    return found[:most]


_Step = tuple[str, str]


def _outcomes(model: Model, state: TicketState, check: Check) -> list[tuple[str, float]]:
    chances = model.sight.looks[check.id] @ state.belief
    return [(o, float(p)) for o, p in zip(check.outcomes, chances, strict=True) if p >= _UNLIKELY]


def _suggested(
    model: Model, state: TicketState, checks: Sequence[Check], stands: str
) -> list[tuple[float, _Step, TicketState]]:
    """Outcomes after which another choice would be the likeliest right one, or a rule would ask for another."""
    one_hot = np.eye(len(CHOICES))[right_choices(model, state)]
    found = []
    for check in checks:
        for outcome, p in _outcomes(model, state, check):
            after = after_reading(model, state, check.id, outcome)
            rule = applicable_rule(model, after, drive_failing(model, after))
            if (rule.choice if rule else CHOICES[int((after.belief @ one_hot).argmax())]) != stands:
                found.append((p, (check.id, outcome), after))
    return found


def _most_telling(model: Model, state: TicketState, checks: Sequence[Check]) -> list[tuple[float, _Step, TicketState]]:
    steps = [
        (p, (check.id, outcome), after_reading(model, state, check.id, outcome))
        for check in checks
        for outcome, p in _outcomes(model, state, check)
    ]
    return sorted(steps, key=lambda s: -float(np.abs(s[2].belief - state.belief).sum()) * s[0])[:_MOST_TELLING]


def _confirmed(
    model: Model, candidates: Sequence[tuple[float, tuple[_Step, ...], TicketState]], stands: tuple[str, str | None]
) -> list[Overturn]:
    found = []
    for p, steps, after in sorted(candidates, key=lambda c: -c[0])[:_MOST_TRIED]:
        changed = _other_call(model, after, stands)
        if changed:
            found.append(Overturn(steps, *changed, p))
    return found


def _other_call(model: Model, state: TicketState, stands: tuple[str, str | None]) -> tuple[str, str | None] | None:
    held = held_moves(model, state)
    call = make_call(model, state, held, make_plan(model, state, held))
    then = (call.choice or call.leans, call.option.main_fix if call.option else None)
    return then if then[0] != stands[0] else None
