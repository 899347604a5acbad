"""What spoke for and against a suspect, and what would tip the call: both found in the belief, not in templates."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from gatecheck.core.ticket import TicketState
from gatecheck.core.triage.call import CHOICES, Call, right_choices
from gatecheck.core.triage.costs import is_applicable
from gatecheck.core.triage.model import Model
from gatecheck.core.triage.plan import unmet_need
from gatecheck.core.triage.space import Floats

_TELLS = 1.25
"""a factor on the odds that is worth saying"""
_UNLIKELY = 0.03


@dataclass(frozen=True, slots=True)
class Weight:
    """The entry multiplied the odds of the suspect by `factor` (above one: for it; below: against)."""

    entry: int
    factor: float


@dataclass(frozen=True, slots=True)
class Tip:
    """A check not made yet, the outcome that would tip the call, and where to."""

    move: str
    outcome: str
    choice: str
    p: float


def weights_of_evidence(model: Model, state: TicketState, faults: Sequence[str], most: int = 3) -> dict[str, list[Weight]]:
    """For each fault the entries that spoke loudest, strongest first.

    The factor is the ratio of the odds after and before the entry: for a check the Bayes factor, for a fix what the
    attempt and its outcome did together.
    """
    if not state.steps:
        return {fault: [] for fault in faults}
    columns = model.space.member[:, [model.space.index(f) for f in faults]]
    factors = _odds(np.array([s.after for s in state.steps]), columns) / _odds(np.array([s.before for s in state.steps]), columns)
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
    winners_of = model.rows.T @ (state.belief[:, None] * np.concatenate([np.ones((len(right), 1)), one_hot], axis=1))
    found = []
    for check in model.knowledge.checks.values():
        possible = is_applicable(check, state.facts) and unmet_need(model, state, check) is None
        if check.id in state.current or check.id in held or not possible:
            continue
        for outcome, row in zip(check.outcomes, winners_of[model.row_of[check.id]], strict=True):
            choice = CHOICES[int(row[1:].argmax())]
            if choice != call.leans and row[0] >= _UNLIKELY:
                found.append(Tip(check.id, outcome, choice, float(row[0])))
    found.sort(key=lambda t: -t.p)
    return found[:most]
