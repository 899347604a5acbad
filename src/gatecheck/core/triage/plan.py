"""The next move: every legal move ranked by what it costs plus what is left to pay after each of its outcomes."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from gatecheck.core.knowledge.tables import Check, Fix
from gatecheck.core.ticket import TicketState
from gatecheck.core.triage.costs import Economy, economy, entry_minutes, is_applicable
from gatecheck.core.triage.gates import booted_at
from gatecheck.core.triage.interlocks import Held
from gatecheck.core.triage.model import Model
from gatecheck.core.triage.space import Floats

BARRING = ("stop-running", "table-proves-drive", "warning-is-real")
"""interlocks that say a move is wrong on this evidence; the others only say what has to come first"""

SOFTWARE_GATES = ("layout", "loader", "system")
DRIVE_FAULTS = ("drive.dead", "drive.mechanical", "drive.media", "drive.worn")
_SHORT_CHECKS, _SHORT_FIXES = 4, 3
"""moves looked at two steps ahead"""
_FOLLOWERS = 5
"""checks that may follow in the second step"""
_ACTIVE = 128
"""hypotheses weighed in the second step: the likeliest; the belief itself is never cut"""
_UNLIKELY = 0.02


@dataclass(frozen=True, slots=True)
class Outlook:
    """One outcome of a move: how likely it is and whom it would leave as the first suspect."""

    outcome: str
    p: float
    leaves: str
    leaves_p: float


@dataclass(frozen=True, slots=True)
class NextMove:
    """A move that can be made now. Minutes include getting there; `gain` is what it saves, `cost` what it takes
    (bench minutes' worth), `net` their difference."""

    move: str
    kind: str
    minutes: float
    hands_on_minutes: float
    why: str
    cost: float
    gain: float
    net: float
    now: Floats
    """fault probabilities now, shape (f,)"""
    chance: Floats
    """of each outcome, shape (o,); empty where the move was put first by a rule"""
    after: Floats
    """fault probabilities after each outcome, shape (o, f)"""


@dataclass(frozen=True, slots=True)
class Plan:
    """All legal moves, best first. `acting` is the net of the best fix, held or not; `releasing` that of handing the
    machine back as it is."""

    ranked: tuple[NextMove, ...]
    acting: float
    releasing: float


def unmet_need(model: Model, state: TicketState, move: Check | Fix) -> str | None:
    """Why the move cannot be made on this machine as it stands, or None."""
    for name in move.needs:
        need = model.knowledge.needs[name]
        if need.visibility and float(state.belief @ model.reach[need.visibility]) < need.at_least:
            return need.text
        for blocker, outcomes in need.blocked_by.items():
            last = state.last(blocker)
            if last and last.outcome in outcomes and blocker in state.current and blocker != move.id:
                return need.text
    return None


def make_plan(model: Model, state: TicketState, held: Sequence[Held]) -> Plan:
    """Rank all legal moves by cost plus what is left to pay after each outcome.

    Every move is looked at one step ahead; the most promising ones two steps, so that a cheap fix is not put off for
    a check that could just as well follow when the fix fails.
    """
    barred = {h.move for h in held if h.interlock in BARRING}
    costs = economy(model, state, barred)
    holding = {h.move for h in held}
    booted = booted_at(state) is not None
    now = state.belief @ model.space.member
    weights = costs.weights()
    value = float(costs.value(now[None, :], weights, np.array([booted]))[0])
    legal = [
        c for c in model.knowledge.checks.values() if c.id not in state.current and _is_legal(model, state, c, holding)
    ]  # fmt: skip
    checks = sorted(_look_at(model, state, costs, weights, legal, now, booted), key=lambda p: p.total)
    # what is left to pay when one more look may come before fixing: the same view that the best moves get
    best_now = min([value, *(p.total for p in checks[:1])])
    acting_fixes = [
        f for f in map(model.knowledge.fixes.__getitem__, costs.fixes)
        if f.id in model.acts and _may_act(model, state, f, barred, holding)
    ]  # fmt: skip
    fixes = sorted((_look_behind(model, state, costs, f, now) for f in acting_fixes), key=lambda p: p.total)
    short = [*checks[:_SHORT_CHECKS], *fixes[:_SHORT_FIXES]]
    better = _two_ahead(model, state, costs, short, checks[:_FOLLOWERS])
    ranked = [_next_move(model, state, p, best_now, now, better.get(p.move.id, p.total)) for p in (*checks, *fixes)]
    ranked.sort(key=lambda m: -m.net)
    acting = max((m.net for m in ranked if m.kind == "fix"), default=best_now - value)
    left_in = float(costs.left_in @ now)
    return Plan(tuple(m for m in ranked if m.move not in holding), acting, best_now - left_in)


@dataclass(frozen=True, slots=True)
class _Prospect:
    """A move one step ahead. Over its outcomes: chance (o,), marginals (o, f), values (o,), booted (o,)."""

    move: Check | Fix
    cost: float
    chance: Floats
    marginals: Floats
    values: Floats
    booted: NDArray[np.bool_]
    weights: Floats
    total: float


def _look_at(
    model: Model, state: TicketState, costs: Economy, weights: Floats, checks: Sequence[Check], now: Floats, booted: bool
) -> list[_Prospect]:
    """All checks one step ahead, in one pass over the stacked likelihood rows."""
    if not checks:
        return []
    weighed = np.concatenate([state.belief[:, None], state.belief[:, None] * model.space.member], axis=1)
    picked = np.concatenate([np.arange(len(model.rows))[model.row_of[c.id]] for c in checks])
    joint = model.rows[picked] @ weighed
    chance, marginals = joint[:, 0], joint[:, 1:] / joint[:, :1]
    starts = np.array([o == "boots" or (booted and c.id != "screen") for c in checks for o in c.outcomes])
    values = costs.value(marginals, weights, starts)
    prospects, first = [], 0
    for check in checks:
        part = slice(first, first + len(check.outcomes))
        first += len(check.outcomes)
        cost = costs.check_cost(state, check, now)
        total = cost + float(chance[part] @ values[part])
        prospects.append(_Prospect(check, cost, chance[part], marginals[part], values[part], starts[part], weights, total))
    return prospects


def _posts(model: Model, state: TicketState, move: Check | Fix) -> Floats:
    """Belief after each outcome, not normalised, shape (o, n)."""
    if isinstance(move, Check):
        return model.looks[move.id] * state.belief
    act = model.acts[move.id]
    moved = state.belief[act.src] * act.weight[:4]
    return np.array([np.bincount(act.dst, row, minlength=model.space.size) for row in moved])


def _look_behind(model: Model, state: TicketState, costs: Economy, fix: Fix, now: Floats) -> _Prospect:
    """A fix one step ahead: what is left to pay after each of its outcomes, the fix itself used up."""
    posts = _posts(model, state, fix)
    joint = posts @ model.space.member
    chance = posts.sum(axis=1)
    marginals = joint / chance[:, None]
    chance = chance / chance.sum()
    column = costs.fixes.index(fix.id)
    cost = float(costs.base[column] + now @ costs.risk[:, column])
    starts = np.array([o == "boots" for o in fix.outcomes[: len(chance)]])
    weights = costs.weights(fix.id)
    values = costs.value(marginals, weights, starts)
    return _Prospect(fix, cost, chance, marginals, values, starts, weights, cost + float(chance @ values))


def _two_ahead(
    model: Model, state: TicketState, costs: Economy, short: Sequence[_Prospect], followers: Sequence[_Prospect]
) -> dict[str, float]:
    """Cost of each move and what is left when, after each likely outcome, the best check may come before fixing."""
    if not followers:
        return {}
    posts = [_posts(model, state, p.move) for p in short]
    mass = sum(p.sum(axis=0) for p in posts)
    active = np.argpartition(-np.asarray(mass), _ACTIVE)[:_ACTIVE]
    member = np.concatenate([np.ones((len(active), 1)), model.space.member[active]], axis=1)
    slices, first = [], 0
    for follower in followers:
        slices.append(slice(first, first + len(follower.chance)))
        first += len(follower.chance)
    rows = np.concatenate([model.looks[f.move.id][:, active] for f in followers])
    # one matrix (hypothesis -> outcome of a follower and fault) serves every posterior of every move
    reading = (rows[:, :, None] * member[None, :, :]).transpose(1, 0, 2).reshape(len(active), -1)
    totals = {}
    for prospect, after in zip(short, posts, strict=True):
        likely = np.flatnonzero(prospect.chance > _UNLIKELY)
        here = after[np.ix_(likely, active)]
        here = here / here.sum(axis=1, keepdims=True)
        joint = (here @ reading).reshape(-1, member.shape[1])
        starts = np.repeat(prospect.booted[likely], len(rows))
        values = costs.value(joint[:, 1:] / joint[:, :1], prospect.weights, starts) * joint[:, 0]
        left = prospect.values.copy()
        by_outcome = values.reshape(len(likely), len(rows))
        for follower, part in zip(followers, slices, strict=True):
            if follower.move.id != prospect.move.id:
                left[likely] = np.minimum(left[likely], follower.cost + by_outcome[:, part].sum(axis=1))
        totals[prospect.move.id] = prospect.cost + float(prospect.chance @ left)
    return totals


def _may_act(model: Model, state: TicketState, fix: Fix, barred: Collection[str], holding: Collection[str]) -> bool:
    """A fix worth weighing: one that may help, whose look has been taken; software only on a drive that holds it."""
    if fix.id in barred or fix.id in state.tried or not is_applicable(fix, state.facts) or unmet_need(model, state, fix):
        return False
    if fix.gate in SOFTWARE_GATES and drive_failing(model, state) >= model.knowledge.plan["software_stop"]:
        return False
    return _would_help(model, state, fix) and not looks_due(model, state, fix, holding)


def drive_failing(model: Model, state: TicketState) -> float:
    """Probability that the drive itself is at fault, in whatever way."""
    return float(state.belief @ model.having(*DRIVE_FAULTS))


def looks_due(model: Model, state: TicketState, fix: Fix, holding: Collection[str]) -> list[str]:
    """Checks to be made before the fix: named by it, not made yet, and possible here."""
    checks = model.knowledge.checks
    return [c for c in fix.look_first if c not in state.current and _is_legal(model, state, checks[c], holding)]


def _is_legal(model: Model, state: TicketState, move: Check | Fix, holding: Collection[str]) -> bool:
    return move.id not in holding and is_applicable(move, state.facts) and unmet_need(model, state, move) is None


def _would_help(model: Model, state: TicketState, fix: Fix) -> bool:
    curable = state.belief @ model.having(*([f for f, cure in fix.cures.items() if cure >= 0.3] or fix.cures))
    return float(curable) >= model.knowledge.plan["offer_fix_above"]


def _next_move(model: Model, state: TicketState, prospect: _Prospect, value: float, now: Floats, total: float) -> NextMove:
    move = prospect.move
    entry = entry_minutes(model.knowledge, state, move)
    return NextMove(
        move.id, "check" if isinstance(move, Check) else "fix", move.minutes + move.unattended + entry, move.minutes + entry,
        move.why, prospect.cost, value - total + prospect.cost, value - total, now, prospect.chance, prospect.marginals,
    )  # fmt: skip


def explained(model: Model, move: NextMove) -> tuple[str, tuple[str, ...], tuple[Outlook, ...]]:
    """Why to make the move, the suspects it separates, and what each outcome would leave as first suspect."""
    if not len(move.chance):
        return move.why, (), ()
    names, ids = {f.id: f.name for f in model.knowledge.faults}, model.space.fault_ids
    shift = move.chance @ np.abs(move.after - move.now)
    separates = tuple(ids[i] for i in np.argsort(-shift)[:2] if shift[i] > 0.02)
    outcomes = model.knowledge.move(move.move).outcomes
    tops = move.after.argmax(axis=1)
    outlook = tuple(
        Outlook(outcomes[i], float(move.chance[i]), ids[top], float(move.after[i, top])) for i, top in enumerate(tops)
    )
    why = move.why
    if move.kind == "check" and len(separates) == 2:
        why += f" Separates {_lower(names[separates[0]])} from {_lower(names[separates[1]])}."
    elif separates:
        why += f" {names[separates[0]]}: {move.now[ids.index(separates[0])]:.0%}."
    return why, separates, outlook


def describe(model: Model, state: TicketState, fix: str, why: str) -> NextMove:
    """A fix put first by the call or by an interlock rather than by the ranking."""
    move = model.knowledge.fixes[fix]
    entry = entry_minutes(model.knowledge, state, move)
    none = np.zeros(0)
    return NextMove(
        fix, "fix", move.minutes + move.unattended + entry, move.minutes + entry, why, move.minutes + entry, 0.0, 0.0,
        none, none, none,
    )  # fmt: skip


def _lower(name: str) -> str:
    return name[0].lower() + name[1:]
