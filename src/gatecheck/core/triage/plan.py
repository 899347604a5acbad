"""The next move: every legal move ranked by what it costs plus what is left to pay after each of its outcomes."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from gatecheck.core.knowledge.tables import Check, Fix
from gatecheck.core.ticket import TicketState
from gatecheck.core.triage.costs import Economy, economy, entry_minutes, is_applicable
from gatecheck.core.triage.interlocks import Held
from gatecheck.core.triage.model import Model
from gatecheck.core.triage.space import Floats, Ints
from gatecheck.core.wording import lower_first, percent

BARRING = ("stop-running", "table-proves-drive")
"""interlocks that say a move is wrong on this evidence; the others only say what has to come first"""

SOFTWARE_GATES = ("layout", "loader", "system")
DRIVE_FAULTS = ("drive.dead", "drive.mechanical", "drive.media", "drive.worn")
_SHORT_CHECKS, _SHORT_FIXES = 4, 5
"""moves looked at two steps ahead"""
_FOLLOWERS = 4
"""checks that may follow in the second step"""
_MOST, _MOST_TWICE = 450, 140
_COVERED, _COVERED_TWICE = 0.995, 0.98
"""share of the belief that the hypotheses weighed in the first and the second step carry; the belief itself is never cut"""
_UNLIKELY = 0.05


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
    """All legal moves, best first."""

    ranked: tuple[NextMove, ...]
    acting: Mapping[str, float]
    """net of every fix that could be the next one, held or not, with whoever the machine may be sent to"""
    releasing: float
    """net of handing the machine back as it is"""
    waiting: float
    """what is left to pay when no move is made first: what every net is measured against"""


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
    booted = state.booted is not None
    now = state.belief @ model.space.member
    value = float(costs.value(now[None, :], np.array([booted]))[0])
    legal = [
        c for c in model.knowledge.checks.values() if c.id not in state.current and _is_legal(model, state, c, holding)
    ]  # fmt: skip
    checks = sorted(_look_at(model, state, costs, legal, now, booted), key=lambda p: p.total)
    # what is left to pay when one more look may come before fixing: the same view that the best moves get
    best_now = min([value, *(p.total for p in checks[:1])])
    acting_fixes = [
        f for f in map(model.knowledge.fixes.__getitem__, costs.fixes)
        if f.id in model.acts and _may_act(model, state, f, barred, holding)
    ]  # fmt: skip
    fixes = sorted(_look_behind(model, state, costs, acting_fixes, now), key=lambda p: p.total)
    short = [*checks[:_SHORT_CHECKS], *fixes[:_SHORT_FIXES]]
    better, waiting = _two_ahead(model, state, costs, short, checks[:_FOLLOWERS], booted)
    ranked = [
        _next_move(model, state, p, now, *((waiting, better[p.move.id]) if p.move.id in better else (best_now, p.total)))
        for p in (*checks, *fixes)
    ]
    ranked.sort(key=lambda m: -m.net)
    acting = {m.move: m.net for m in ranked if m.kind == "fix"}
    acting |= {fix: best_now - cost for fix, cost in _sending_away(model, costs, now, barred).items()}
    left_in = float(costs.left_in @ now)
    return Plan(tuple(m for m in ranked if m.move not in holding), acting, best_now - left_in, best_now)


def _sending_away(model: Model, costs: Economy, now: Floats, barred: Collection[str]) -> dict[str, float]:
    """What it costs to send the machine or its drive to somebody else, who resolves some faults, and to go on from there."""
    found = {}
    for column, name in enumerate(costs.fixes):
        if name in model.acts or name in barred:
            continue
        left = now * (1.0 - costs.cure[:, column])
        after = costs.value(left[None, :], np.array([False]), (column,))
        found[name] = float(costs.base[column] + now @ costs.risk[:, column] + after[0])
    return found


@dataclass(frozen=True, slots=True)
class _Prospect:
    """A move one step ahead. Over its outcomes: chance (o,), marginals (o, f), values (o,), booted (o,)."""

    move: Check | Fix
    cost: float
    chance: Floats
    marginals: Floats
    values: Floats
    booted: NDArray[np.bool_]
    used: tuple[int, ...]
    """column of the fix that is then used up"""
    total: float


def _look_at(
    model: Model, state: TicketState, costs: Economy, checks: Sequence[Check], now: Floats, booted: bool
) -> list[_Prospect]:
    """All checks one step ahead, in one pass over the stacked likelihood rows."""
    if not checks:
        return []
    likeliest = _likeliest(state.belief, _COVERED, _MOST)
    belief = state.belief[likeliest, None]
    weighed = np.concatenate([belief, belief * model.space.member[likeliest]], axis=1)
    picked = np.concatenate([np.arange(model.rows.shape[1])[model.row_of[c.id]] for c in checks])
    joint = (model.rows[likeliest].T @ weighed)[picked] / belief.sum()
    chance, marginals = joint[:, 0], joint[:, 1:] / joint[:, :1]
    starts = np.array([o == "boots" or (booted and c.id != "screen") for c in checks for o in c.outcomes])
    values = costs.value(marginals, starts)
    prospects, first = [], 0
    for check in checks:
        part = slice(first, first + len(check.outcomes))
        first += len(check.outcomes)
        cost = costs.check_cost(state, check, now)
        total = cost + float(chance[part] @ values[part])
        prospects.append(_Prospect(check, cost, chance[part], marginals[part], values[part], starts[part], (), total))
    return prospects


def _likeliest(mass: Floats, share: float, most: int) -> Ints:
    """The likeliest hypotheses that together carry this share of the mass, at most so many."""
    order = np.argsort(-mass)
    carried = np.cumsum(mass[order])
    return order[: min(most, int(np.searchsorted(carried, share * carried[-1])) + 1)]


def _posts(model: Model, state: TicketState, move: Check | Fix) -> Floats:
    """Belief after each outcome, not normalised, shape (o, n)."""
    if isinstance(move, Check):
        return model.looks[move.id] * state.belief
    return model.acts[move.id].apply_all(state.belief)


def _look_behind(model: Model, state: TicketState, costs: Economy, fixes: Sequence[Fix], now: Floats) -> list[_Prospect]:
    """Fixes one step ahead: what is left to pay after each of their outcomes, the fix itself used up."""
    if not fixes:
        return []
    posts = np.concatenate([_posts(model, state, fix) for fix in fixes])
    chances = posts.sum(axis=1)
    marginals = (posts @ model.space.member) / chances[:, None]
    used = [(costs.fixes.index(fix.id),) for fix in fixes]
    ways = [costs.needs(marginals[4 * i : 4 * i + 4], u) for i, u in enumerate(used)]
    starts = np.array([o == "boots" for fix in fixes for o in fix.outcomes[:4]])
    values = costs.value_of(*_side_by_side(ways), marginals, starts)
    prospects = []
    for index, fix in enumerate(fixes):
        part = slice(4 * index, 4 * index + 4)
        column = costs.fixes.index(fix.id)
        cost = float(costs.base[column] + now @ costs.risk[:, column] + costs.when_cured[column] * (now @ costs.cure[:, column]))
        chance = chances[part] / chances[part].sum()
        total = cost + float(chance @ values[part])
        prospects.append(_Prospect(fix, cost, chance, marginals[part], values[part], starts[part], used[index], total))
    return prospects


def _side_by_side(ways: Sequence[tuple[Floats, Floats]]) -> tuple[Floats, Floats]:
    return np.concatenate([needed for needed, _ in ways], axis=1), np.concatenate([paid for _, paid in ways], axis=1)


def _two_ahead(
    model: Model, state: TicketState, costs: Economy, short: Sequence[_Prospect],
    followers: Sequence[_Prospect], booted: bool,
) -> tuple[dict[str, float], float]:  # fmt: skip
    """Cost of each move and what is left when, after each likely outcome, the best check may come before fixing.

    Beside it the same for making no move first: what a move must beat, weighed over the same hypotheses.
    """
    if not followers or not short:
        return {}, 0.0
    posts = [_posts(model, state, p.move)[p.chance > _UNLIKELY] for p in short]
    stacked = np.concatenate([*posts, state.belief[None, :]])
    active = _likeliest(stacked.sum(axis=0), _COVERED_TWICE, _MOST_TWICE)
    here = stacked[:, active]
    here /= here.sum(axis=1, keepdims=True)
    member = np.concatenate([np.ones((len(active), 1)), model.space.member[active]], axis=1)
    rows = np.concatenate([model.looks[f.move.id][:, active] for f in followers])
    # one matrix (hypothesis -> outcome of a follower and fault) serves every posterior of every move
    reading = (rows[:, :, None] * member[None, :, :]).transpose(1, 0, 2).reshape(len(active), -1)
    joint = (here @ reading).reshape(len(here) * len(rows), member.shape[1])
    marginals = joint[:, 1:] / joint[:, :1]
    sizes = [len(p) * len(rows) for p in (*posts, state.belief[None, :])]
    ends = np.cumsum(sizes)
    used_up = [*(p.used for p in short), ()]
    ways = [costs.needs(marginals[end - size : end], used) for used, size, end in zip(used_up, sizes, ends, strict=True)]
    begins = [*(p.booted[p.chance > _UNLIKELY] for p in short), np.array([booted])]
    starts = np.concatenate([np.repeat(b, len(rows)) for b in begins])
    values = (costs.value_of(*_side_by_side(ways), marginals, starts) * joint[:, 0]).reshape(len(here), len(rows))
    borders = np.cumsum([0, *(len(f.chance) for f in followers)])
    after = np.add.reduceat(values, borders[:-1], axis=1) + np.array([f.cost for f in followers])
    totals, first = {}, 0
    for prospect, part in zip(short, posts, strict=True):
        others = np.array([f.move.id != prospect.move.id for f in followers])
        left = prospect.values.copy()
        likely = prospect.chance > _UNLIKELY
        if others.any():
            left[likely] = np.minimum(left[likely], after[first : first + len(part)][:, others].min(axis=1))
        first += len(part)
        totals[prospect.move.id] = prospect.cost + float(prospect.chance @ left)
    here_now = here[-1] @ model.space.member[active]
    fixing = float(costs.value(here_now[None, :], np.array([booted]))[0])
    return totals, min(fixing, float(after[-1].min()))


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


def _next_move(model: Model, state: TicketState, prospect: _Prospect, now: Floats, value: float, total: float) -> NextMove:
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
    outlook = tuple(Outlook(outcomes[i], float(move.chance[i]), ids[top], float(move.after[i, top])) for i, top in enumerate(tops))
    why = move.why
    if move.kind == "check" and len(separates) == 2:
        why += f" Separates {lower_first(names[separates[0]])} from {lower_first(names[separates[1]])}."
    elif separates:
        why += f" {names[separates[0]]}: {percent(move.now[ids.index(separates[0])])}."
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
