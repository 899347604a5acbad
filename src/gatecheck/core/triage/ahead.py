"""Looking ahead: what every move costs plus what is left to pay after each of its outcomes, one and two steps deep.

After Heckerman, Breese and Rommelse, "Decision-theoretic troubleshooting", CACM 38(3), 1995, with a second step: after
each likely outcome of a promising move the best check or fix may follow before the closed form of `Economy.value` takes
over. Everything is a product of the belief with maps that are linear in it (`Model.looks`, `Model.behind`).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from gatecheck.core.knowledge.tables import Check, Fix
from gatecheck.core.ticket import TicketState
from gatecheck.core.triage.costs import Economy, shared_entry
from gatecheck.core.triage.model import Model
from gatecheck.core.triage.space import Floats, Ints

_SHORT_CHECKS, _TELLING_CHECKS, _SHORT_FIXES = 3, 3, 5
"""moves looked at two steps ahead: the cheapest in all, those that shift the belief most for what they cost, and fixes"""
_NEXT_CHECKS, _NEXT_FIXES = 5, 3
"""and those that may follow them"""
_MOST, _MOST_TWICE = 450, 140
_COVERED, _COVERED_TWICE = 0.995, 0.99
"""share of the belief that the hypotheses weighed in the first and the second step carry; the belief itself is never cut"""
_UNLIKELY = 0.05


@dataclass(slots=True)
class Prospect:
    """A move and what is seen ahead of it. Over its outcomes: chance (o,), marginals (o, f), values (o,), booted (o,)."""

    move: Check | Fix
    cost: float
    chance: Floats
    marginals: Floats
    values: Floats
    booted: NDArray[np.bool_]
    used: tuple[int, ...]
    """column of the fix that is then used up"""
    once: float
    """cost and what is left to pay, one step ahead"""
    twice: float | None = None
    """the same two steps ahead, where it was looked at so far"""


@dataclass(frozen=True, slots=True)
class View:
    """Everything seen ahead, best first one step ahead; `acting` is what is left to pay when nothing more is looked at."""

    checks: tuple[Prospect, ...] = ()
    fixes: tuple[Prospect, ...] = ()
    acting_once: float = 0.0
    acting_twice: float = 0.0


def look_ahead(model: Model, state: TicketState, costs: Economy, checks: Sequence[Check], fixes: Sequence[Fix]) -> View:
    """Weigh all these moves. Pure; the moves must be legal, the fixes columns of `costs`."""
    booted = state.booted is not None
    now = state.belief @ model.space.member
    value = float(costs.value(now[None, :], np.array([booted]))[0])
    seen = sorted(_look_at(model, state, costs, checks, now, booted), key=lambda p: p.once)
    done = sorted(_look_behind(model, state, costs, fixes, now), key=lambda p: p.once)
    stop = float(costs.left_in @ now) if booted else float(costs.base[-1])
    acting_once = min(stop, done[0].once) if done else min(stop, value)
    followers = _short_list(seen, now)
    short = [*followers, *done[:_SHORT_FIXES]]
    _two_ahead(model, state, costs, short, [p.move for p in followers[:_NEXT_CHECKS]], [p.move for p in done[:_NEXT_FIXES]], now)
    deep = [p.twice for p in done if p.twice is not None]
    acting_twice = min(stop, *deep) if deep else acting_once
    # after a look one fix is spelled out, after a fix two: what the second one adds is added to the looks as well
    for prospect in seen:
        if prospect.twice is not None:
            prospect.twice += max(0.0, acting_twice - acting_once)
    return View(tuple(seen), tuple(done), acting_once, acting_twice)


def _likeliest(mass: Floats, share: float, most: int) -> Ints:
    """The likeliest hypotheses that together carry this share of the mass, at most so many."""
    if len(mass) <= most:
        return np.arange(len(mass))
    order = np.argsort(-mass)
    carried = np.cumsum(mass[order])
    return order[: min(most, int(np.searchsorted(carried, share * carried[-1])) + 1)]


def _short_list(checks: Sequence[Prospect], now: Floats) -> list[Prospect]:
    """The checks worth a second look ahead. One test alone may not turn a decision that two would: so not only the
    cheapest in all, but also those that tell most."""
    telling = sorted(checks, key=lambda p: -float(p.chance @ np.abs(p.marginals - now).sum(axis=1)) / p.cost)
    return list({p.move.id: p for p in (*checks[:_SHORT_CHECKS], *telling[:_TELLING_CHECKS])}.values())


def _look_at(
    model: Model, state: TicketState, costs: Economy, checks: Sequence[Check], now: Floats, booted: bool
) -> list[Prospect]:
    """All checks one step ahead, in one pass over the stacked likelihood rows."""
    if not checks:
        return []
    likeliest = _likeliest(state.belief, _COVERED, _MOST)
    belief = state.belief[likeliest, None]
    weighed = np.concatenate([belief, belief * model.space.member[likeliest]], axis=1)
    picked = np.concatenate([np.arange(model.rows.shape[1])[model.row_of[c.id]] for c in checks])
    joint = (model.rows[likeliest].T @ weighed)[picked] / belief.sum()
    chance, marginals = joint[:, 0], joint[:, 1:] / joint[:, :1]
    starts = np.array([_starts(c, o, booted) for c in checks for o in c.outcomes])
    values = costs.value(marginals, starts)
    prospects, first = [], 0
    for check in checks:
        part = slice(first, first + len(check.outcomes))
        first += len(check.outcomes)
        cost = costs.check_cost(state, check, now)
        once = cost + float(chance[part] @ values[part])
        prospects.append(Prospect(check, cost, chance[part], marginals[part], values[part], starts[part], (), once))
    return prospects


def _starts(move: Check | Fix, outcome: str, booted: bool) -> bool:
    """The machine starts after this: it was seen to, or it did before and only something was looked at."""
    return outcome == "boots" or (booted and isinstance(move, Check) and move.id != "screen")


def _look_behind(model: Model, state: TicketState, costs: Economy, fixes: Sequence[Fix], now: Floats) -> list[Prospect]:
    """Fixes one step ahead: what is left to pay after each of their outcomes, the fix itself used up."""
    if not fixes:
        return []
    likeliest = _likeliest(state.belief, _COVERED, _MOST)
    belief = state.belief[likeliest] / state.belief[likeliest].sum()
    joint = np.array([np.tensordot(belief, model.behind(fix.id)[likeliest], axes=1) for fix in fixes])
    chances = joint[:, :, 0]
    marginals = joint[:, :, 1:] / chances[:, :, None]
    used = [(costs.fixes.index(fix.id),) for fix in fixes]
    ways = [costs.needs(m, u) for m, u in zip(marginals, used, strict=True)]
    starts = np.array([o == "boots" for fix in fixes for o in fix.outcomes[:4]])
    values = costs.value_of(*_side_by_side(ways), marginals.reshape(-1, marginals.shape[2]), starts).reshape(-1, 4)
    prospects = []
    for index, fix in enumerate(fixes):
        left = values[index]
        if fix.trial and fix.breaks:
            left = np.minimum(left, _put_back(model, state, costs, fix, used[index], starts[:4]))
        cost = _fix_price(costs, fix, now)
        chance = chances[index] / chances[index].sum()
        once = cost + float(chance @ left)
        prospects.append(Prospect(fix, cost, chance, marginals[index], left, starts[:4], used[index], once))
    return prospects


def _fix_price(costs: Economy, fix: Fix, now: Floats) -> float:
    column = costs.fixes.index(fix.id)
    return float(costs.base[column] + now @ costs.risk[:, column] + costs.when_cured[column] * min(1.0, float(now @ costs.cure[:, column])))


def _side_by_side(ways: Sequence[tuple[Floats, Floats]]) -> tuple[Floats, Floats]:
    return np.concatenate([needed for needed, _ in ways], axis=1), np.concatenate([paid for _, paid in ways], axis=1)


def _put_back(model: Model, state: TicketState, costs: Economy, fix: Fix, used: tuple[int, ...], starts: NDArray[np.bool_]) -> Floats:
    """What is left to pay after each outcome of a trial when it is put back, shape (4,)."""
    posts = model.acts[fix.id].shown[:4] * state.belief
    marginals = (posts @ model.space.member) / posts.sum(axis=1, keepdims=True)
    back = model.knowledge.rates["put_back"] * model.knowledge.rates["bench_minute"]
    return np.where(starts, np.inf, costs.value(marginals, np.zeros(4, dtype=bool), used) + back)


@dataclass(slots=True)
class _Batch:
    """Beliefs whose closed form is wanted, gathered by the fixes used up so that it is computed in one pass."""

    costs: Economy
    broad: tuple[int, ...]
    gathered: dict[tuple[int, ...], list[tuple[Floats, NDArray[np.bool_]]]] = field(default_factory=dict)
    places: list[tuple[tuple[int, ...], int, int]] = field(default_factory=list)

    def add(self, marginals: Floats, starts: NDArray[np.bool_], used: tuple[int, ...]) -> None:
        """marginals: shape (…, f); starts: the same without the last axis."""
        flat = marginals.reshape(-1, marginals.shape[-1])
        group = self.gathered.setdefault(used, [])
        first = sum(len(m) for m, _ in group)
        group.append((flat, np.broadcast_to(starts, marginals.shape[:-1]).reshape(-1)))
        self.places.append((used, first, first + len(flat)))

    def values(self) -> list[Floats]:
        """One flat array for every `add`, in order."""
        marginals = {used: np.concatenate([m for m, _ in group]) for used, group in self.gathered.items()}
        ways = [self.costs.needs(rows, used, self.broad) for used, rows in marginals.items()]
        starts = np.concatenate([s for group in self.gathered.values() for _, s in group])
        values = self.costs.value_of(*_side_by_side(ways), np.concatenate(list(marginals.values())), starts)
        ends = np.cumsum([len(m) for m in marginals.values()])
        offset = dict(zip(marginals, [0, *ends[:-1].tolist()], strict=True))
        return [values[offset[used] + first : offset[used] + last] for used, first, last in self.places]


def _two_ahead(
    model: Model, state: TicketState, costs: Economy, short: Sequence[Prospect],
    next_checks: Sequence[Check | Fix], next_fixes: Sequence[Check | Fix], now: Floats,
) -> None:  # fmt: skip
    """Set `twice` of every move in `short`: after each likely outcome the best of the followers may come next."""
    followers = [*next_checks, *next_fixes]
    if not followers or not short:
        return
    posts = [_posts(model, state, p) for p in short]
    stacked = np.concatenate(posts)
    active = _likeliest(stacked.sum(axis=0), _COVERED_TWICE, _MOST_TWICE)
    here = stacked[:, active]
    here /= here.sum(axis=1, keepdims=True)
    readings = np.concatenate([_map(model, move, active) for move in followers], axis=1)
    width = readings.shape[1]
    joint = (here @ readings.reshape(len(active), -1)).reshape(len(here), width, -1)
    chance = joint[:, :, 0]
    marginals = joint[:, :, 1:] / np.maximum(joint[:, :, :1], 1e-300)
    parts = _parts(followers)
    n_checks = sum(len(m.outcomes) for m in next_checks)
    batch = _Batch(costs, costs.worth_first(now))
    rows = 0
    for prospect, post in zip(short, posts, strict=True):
        mine = slice(rows, rows + len(post))
        rows += len(post)
        booted = prospect.booted[prospect.chance > _UNLIKELY]
        if next_checks:
            sure = np.array([o == "boots" for m in next_checks for o in m.outcomes])
            keeps = np.array([m.id != "screen" for m in next_checks for _ in m.outcomes])
            batch.add(marginals[mine, :n_checks], sure | (keeps & booted[:, None]), prospect.used)
        for fix, part in zip(next_fixes, parts[len(next_checks) :], strict=True):
            used = tuple(sorted({*prospect.used, costs.fixes.index(fix.id)}))
            batch.add(marginals[mine, part], np.array([True, False, False, False]), used)
    values = iter(batch.values())
    rows = 0
    for prospect, post in zip(short, posts, strict=True):
        count = len(post)
        left = prospect.values.copy()
        likely = np.flatnonzero(prospect.chance > _UNLIKELY)
        # where a next move is known, only what it leads to counts: the closed form is a little too hopeful, and a step
        # that is spelled out must not compete with one that is not
        stop = prospect.marginals[likely] @ costs.left_in
        left[likely] = np.where(prospect.booted[likely], np.minimum(left[likely], stop), costs.base[-1])
        blocks = [next(values).reshape(count, -1)] if next_checks else []
        blocks += [next(values).reshape(count, -1) for _ in next_fixes]
        weighed = np.concatenate(blocks, axis=1) * chance[rows : rows + count]
        for move, part in zip(followers, parts, strict=True):
            if move.id == prospect.move.id:
                continue
            told = chance[rows : rows + count, part].sum(axis=1)
            total = weighed[:, part].sum(axis=1) / told + _next_price(model, state, costs, move, prospect.move, now)
            left[likely] = np.minimum(left[likely], total)
        rows += count
        prospect.twice = prospect.cost + float(prospect.chance @ left)


def _parts(moves: Sequence[Check | Fix]) -> list[slice]:
    ends = np.cumsum([0, *(len(m.outcomes) if isinstance(m, Check) else 4 for m in moves)]).tolist()
    return [slice(a, b) for a, b in pairwise(ends)]


def _posts(model: Model, state: TicketState, prospect: Prospect) -> Floats:
    """Belief after each likely outcome, not normalised, shape (o, n)."""
    move = prospect.move
    every = model.looks[move.id] * state.belief if isinstance(move, Check) else model.acts[move.id].apply_all(state.belief)
    return every[prospect.chance > _UNLIKELY]


def _map(model: Model, move: Check | Fix, active: Ints) -> Floats:
    """Hypothesis -> outcome and, times that, every fault afterwards; shape (a, o, 1 + f)."""
    if isinstance(move, Fix):
        return model.behind(move.id)[active]
    member = np.concatenate([np.ones((len(active), 1)), model.space.member[active]], axis=1)
    return np.asarray(model.looks[move.id][:, active].T[:, :, None] * member[:, None, :])


def _next_price(model: Model, state: TicketState, costs: Economy, move: Check | Fix, first: Check | Fix, now: Floats) -> float:
    """What the second move costs: nothing for getting there when the first has led to the same place."""
    price = costs.check_cost(state, move, now) if isinstance(move, Check) else _fix_price(costs, move, now)
    if move.visit and move.visit == (first.enters or first.visit):
        price -= shared_entry(model.knowledge, state, move) * model.knowledge.rates["bench_minute"]
    return price
