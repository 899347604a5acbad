"""Likelihood tables compiled over the hypothesis space: P(outcome | hypothesis) of every check, and what hides it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TypeVar

import numpy as np

from gatecheck.core.belief.space import Flags, Floats, Space
from gatecheck.core.knowledge.tables import Likelihood, Row, Visibility

T = TypeVar("T")


def hidden_share(space: Space, visibility: Visibility) -> Floats:
    """Shape (n,): 1 - product over the faults present of (1 - share)."""
    shares = per_state(space, visibility.by, visibility.intermittent)
    return 1.0 - np.exp(space.in_state @ np.log(1.0 - np.array([share or 0.0 for share in shares]) + 1e-12))


def per_state(space: Space, rows: Mapping[str, T], intermittent: Mapping[str, T]) -> list[T | None]:
    """What a table says of every state of every fault, None where it says nothing; an intermittent one for which it has
    nothing of its own is like the fault that is there for good."""
    names = [space.fault_ids[state.fault] for state in space.states]
    return [
        intermittent[f] if s.intermittent and f in intermittent else rows.get(f)
        for f, s in zip(names, space.states, strict=True)
    ]


def look_table(
    space: Space, table: Likelihood, outcomes: tuple[str, ...], reach: Mapping[str, Floats], floor: float
) -> Floats:
    """P(outcome | h), shape (outcomes, n): every row of the table combined as it asks, hidden where the thing cannot be
    reached."""

    def vector(row: Row) -> Floats:
        return np.array([row.get(o, 0.0) for o in outcomes])

    sound = vector(table.sound)
    told = per_state(space, table.rows, table.intermittent)
    rows = np.array([sound if row is None else vector(row) for row in told])
    has_row = np.array([row is not None for row in told])
    if table.combine == "earliest-gate":
        shares = _earliest_gate(space, sound, rows, has_row, outcomes.index(table.normal))
    elif table.combine == "any-abnormal":
        shares = _any_abnormal(space, sound, rows, has_row, outcomes.index(table.normal))
    else:
        shares = _blend(space, sound, rows, has_row)
    if table.hidden_by:
        seen = reach[table.hidden_by][:, None]
        shares = seen * shares + (1.0 - seen) * vector(table.hidden_row)
    shares = shares + floor
    aside = vector(table.aside)
    shares = shares * (aside == 0)
    shares = shares / shares.sum(axis=1, keepdims=True) * (1.0 - aside.sum()) + aside
    return np.ascontiguousarray(shares.T)


def _earliest_gate(space: Space, sound: Floats, rows: Floats, has_row: Flags, passing: int) -> Floats:
    """Faults speak in boot order; the share `passing` of each goes on to the next, the rest of the way to `sound`."""
    shares = np.zeros((space.size, len(sound)))
    onward = np.ones(space.size)
    for position in range(space.state.shape[1]):
        state = space.state[:, position]
        speaks = (state >= 0) & has_row[np.maximum(state, 0)]
        row = rows[np.maximum(state, 0)] * speaks[:, None]
        passed = row[:, passing].copy()
        row[:, passing] = 0.0
        shares += onward[:, None] * row
        onward = np.where(speaks, onward * passed, onward)
    return shares + onward[:, None] * sound


def _any_abnormal(space: Space, sound: Floats, rows: Floats, has_row: Flags, normal: int) -> Floats:
    """`normal` needs every fault to look normal; what is left is shared by the abnormal outcomes of the faults."""
    present = space.in_state * has_row
    any_present = present.sum(axis=1) > 0
    looks_normal = np.exp(present @ np.log(rows[:, normal] + 1e-12))
    abnormal = rows.copy()
    abnormal[:, normal] = 0.0
    mixed = present @ abnormal
    total = mixed.sum(axis=1, keepdims=True)
    shares = (1.0 - looks_normal)[:, None] * np.divide(mixed, total, out=np.zeros_like(mixed), where=total > 0)
    shares[:, normal] += looks_normal
    shares[~any_present] = sound
    return np.asarray(shares)


def _blend(space: Space, sound: Floats, rows: Floats, has_row: Flags) -> Floats:
    present = space.in_state * has_row
    count = present.sum(axis=1, keepdims=True)
    return np.where(count > 0, (present @ rows) / np.maximum(count, 1), sound)
