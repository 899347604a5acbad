"""Looking ahead: what every move costs plus what is left to pay after each of its outcomes, one and two steps deep.

After Heckerman, Breese and Rommelse, "Decision-theoretic troubleshooting", CACM 38(3), 1995, with a second step: after
each likely outcome of a promising move the best check or fix may follow before the closed form of `CostModel.value`
takes over. Everything is a product of the belief with maps that are linear in it (`Model.looks`, `Model.behind`)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from msgspec import Struct

from gatecheck.core.belief.model import How, Model
from gatecheck.core.belief.space import Flags, Floats, Ints, Light
from gatecheck.core.decide.costs import CostModel, shared_entry, used_up
from gatecheck.core.knowledge.tables import Check, Fix
from gatecheck.core.tape.fold import TicketState

_SHORT_CHECKS, _TELLING_CHECKS, _SHORT_FIXES = 3, 3, 5
"""moves looked at two steps ahead: the cheapest in all, those that shift the belief most for what they cost, and
fixes"""
_NEXT_CHECKS, _NEXT_FIXES = 5, 3
"""and those that may follow them"""
_MOST, _MOST_TWICE = 450, 140
_COVERED, _COVERED_TWICE = 0.995, 0.99
"""share of the belief that the hypotheses weighed in the first and the second step carry; the belief itself is never
cut"""
_UNLIKELY, _NEGLIGIBLE = 0.05, 0.004
"""outcomes of a first move that are not followed further; pairs of outcomes whose second one is not weighed by
itself"""


class Prospect(Struct):
    """A move and what is seen ahead of it. Over its outcomes: chance (o,), marginals (o, f), values (o,), booted
    (o,)."""

    move: Check | Fix
    cost: float
    chance: Floats
    marginals: Floats
    values: Floats
    booted: Flags
    used: tuple[int, ...]
    """column of the fix that is then used up"""
    once: float
    """cost and what is left to pay, one step ahead"""
    shift: float
    """how far it moves the fault probabilities on average"""
    twice: float | None = None
    """the same two steps ahead, where it was looked at so far"""


class View(Struct, frozen=True):
    """Everything seen ahead, best first one step ahead; `acting` is what is left to pay when nothing more is looked
    at."""

    checks: tuple[Prospect, ...]
    fixes: tuple[Prospect, ...]
    acting_once: float
    acting_twice: float
    away: tuple[float, ...]
    """what it costs to send the machine to somebody else and to go on from there, for each who was asked about"""


def look_ahead(
    model: Model,
    state: TicketState,
    costs: CostModel,
    checks: Sequence[Check],
    fixes: Sequence[Fix],
    away: Sequence[int] = (),
) -> View:
    """Weigh all these moves. Pure; the moves must be legal, the fixes columns of `costs`; `away`: columns of fixes that
    others make."""
    first = _Step(model, state, costs)
    seen, done, sent, value = first.weigh(checks, fixes, away)
    seen.sort(key=lambda p: round(p.once, 9))  # equals stay in the order of the tables
    done.sort(key=lambda p: round(p.once, 9))
    now, booted = state.marginals, state.booted is not None
    stop = float(costs.left_in @ now) if booted else float(costs.base[-1])
    acting_once = min(stop, done[0].once if done else value)
    followers = _short_list(seen)
    _two_ahead(first, [*followers, *done[:_SHORT_FIXES]], followers[:_NEXT_CHECKS], done[:_NEXT_FIXES])
    deep = [p.twice for p in done if p.twice is not None]
    acting_twice = min(stop, *deep) if deep else acting_once
    # after a look one fix is spelled out, after a fix two: what the second one adds is added to the looks as well
    for prospect in seen:
        if prospect.twice is not None:
            prospect.twice += max(0.0, acting_twice - acting_once)
    return View(tuple(seen), tuple(done), acting_once, acting_twice, tuple(sent))


def _likeliest(mass: Floats, share: float, most: int) -> Ints:
    """The likeliest hypotheses that together carry this share of the mass, at most so many."""
    if len(mass) <= most:
        return np.arange(len(mass))
    top = np.argpartition(mass, len(mass) - most)[len(mass) - most :]
    order = top[np.argsort(-mass[top])]
    carried = np.cumsum(mass[order])
    return order[: min(most, int(np.searchsorted(carried, share * mass.sum())) + 1)]


def _short_list(checks: Sequence[Prospect]) -> list[Prospect]:
    """The checks worth a second look ahead. One test alone may not turn a decision that two would: so not only the
    cheapest in all, but also those that tell most."""
    telling = sorted(checks, key=lambda p: round(-p.shift / p.cost, 9))
    return list({p.move.id: p for p in (*checks[:_SHORT_CHECKS], *telling[:_TELLING_CHECKS])}.values())


class _Step:
    """The first step: all moves at once, in one pass over the stacked likelihood rows and one over the closed form."""

    def __init__(self, model: Model, state: TicketState, costs: CostModel) -> None:
        self.model, self.state, self.costs = model, state, costs
        self.now = state.marginals
        self.rates = model.knowledge.rates
        self.booted = state.booted is not None
        self.likeliest = _likeliest(state.belief, _COVERED, _MOST)
        self.belief = (state.belief[self.likeliest] / state.belief[self.likeliest].sum()).astype(np.float32)
        self.posts: dict[str, Floats] = {}
        """fix -> belief after each of its outcomes but could-not, not normalised, shape (4, n)"""
        self._entry: dict[str, float] = {}
        self._risk: dict[str, float] = {}

    def entry(self, move: Check | Fix) -> float:
        """The part of the way there that the move is charged with, in currency."""
        if move.visit is None:
            return 0.0
        if move.visit not in self._entry:
            self._entry[move.visit] = shared_entry(self.model.knowledge, self.state, move) * self.rates["bench_minute"]
        return self._entry[move.visit]

    def price(self, move: Check | Fix) -> float:
        """What it takes to make the move now, the risk to the data included."""
        if isinstance(move, Check):
            if move.stress not in self._risk:
                self._risk[move.stress] = float(self.now @ self.model.deeds.stress[move.stress]) * self.costs.worth
            minutes = move.minutes + self.rates["unattended_share"] * move.unattended
            return minutes * self.rates["bench_minute"] + self.entry(move) + self._risk[move.stress]
        costs, column = self.costs, self.costs.fixes.index(move.id)
        on_top = float(costs.when_cured[column])
        likely = min(1.0, float(self.now @ costs.cure[:, column])) if on_top else 0.0
        return float(costs.base[column] + self.now @ costs.risk[:, column] + on_top * likely)

    def weigh(
        self, checks: Sequence[Check], fixes: Sequence[Fix], away: Sequence[int]
    ) -> tuple[list[Prospect], list[Prospect], list[float], float]:
        """Prospects of the checks and of the fixes, what sending away costs, and the value of the belief as it is."""
        costs = self.costs
        chance, marginals, starts = self._look_at(checks)
        chances, behind = self._look_behind(fixes)
        trials = [f for f in fixes if f.trial and f.breaks]
        back = np.array([self._taken_back(f) for f in trials]).reshape(-1, len(self.now))
        left = self.now * (1.0 - costs.cure[:, list(away)].T)
        column = {f.id: (costs.fixes.index(f.id),) for f in fixes}
        used, used_back, gone = list(column.values()), [column[f.id] for f in trials], [(c,) for c in away]
        values = _settle(
            costs,
            [
                BeliefBlock(self.now[None], [()], np.array([self.booted])),
                BeliefBlock(marginals, [()], starts),
                BeliefBlock(behind.reshape(-1, len(self.now)), used, np.tile(_BOOTS, len(fixes))),
                BeliefBlock(back, used_back, np.zeros(4 * len(trials), dtype=bool)),
                BeliefBlock(left, gone, np.zeros(len(away), dtype=bool)),
            ],
        )
        seen = self._seen(checks, chance, marginals, values[1], starts)
        back_again = dict(zip((f.id for f in trials), values[3].reshape(-1, 4), strict=True))
        done = self._done(fixes, used, chances, behind, values[2].reshape(-1, 4), back_again)
        sent = [
            float(costs.base[c] + self.now @ costs.risk[:, c] + v)
            for c, v in zip(away, values[4].tolist(), strict=True)
        ]
        return seen, done, sent, float(values[0][0])

    def _seen(
        self, checks: Sequence[Check], chance: Floats, marginals: Floats, values: Floats, starts: Flags
    ) -> list[Prospect]:
        """Prospects of the checks; the arrays have a row for every outcome of the first, then of the second, …"""
        if not checks:
            return []
        ends = np.cumsum([0, *(len(c.outcomes) for c in checks)])
        later = np.add.reduceat(chance * values, ends[:-1]).tolist()
        shifts = np.add.reduceat(chance * np.abs(marginals - self.now).sum(axis=1), ends[:-1]).tolist()
        seen = []
        for check, part, left, shift in zip(
            checks, map(slice, ends.tolist(), ends[1:].tolist()), later, shifts, strict=True
        ):
            price = self.price(check)
            seen.append(
                Prospect(
                    check, price, chance[part], marginals[part], values[part], starts[part], (), price + left, shift
                )
            )
        return seen

    def _done(
        self,
        fixes: Sequence[Fix],
        used: Sequence[tuple[int, ...]],
        chances: Floats,
        behind: Floats,
        values: Floats,
        back: Mapping[str, Floats],
    ) -> list[Prospect]:
        """Prospects of the fixes; `back`: what is left to pay after each outcome of a trial once it is put back."""
        put_back = self.rates["put_back"] * self.rates["bench_minute"]
        done = []
        for fix, gone, chance, left, after in zip(fixes, used, chances, behind, values, strict=True):
            best = np.minimum(after, np.where(_BOOTS, np.inf, back[fix.id] + put_back)) if fix.id in back else after
            price, share = self.price(fix), chance / chance.sum()
            done.append(Prospect(fix, price, share, left, best, _BOOTS, gone, price + float(share @ best), 0.0))
        return done

    def _look_at(self, checks: Sequence[Check]) -> tuple[Floats, Floats, Flags]:
        """Chance of every outcome of every check, what is left then, and whether the machine starts."""
        model = self.model
        picked = np.concatenate([model.sight.columns[c.id] for c in checks]) if checks else np.zeros(0, dtype=np.intp)
        weighed = model.one_member.take(self.likeliest, axis=0) * self.belief[:, None]
        joint = (weighed.T @ model.sight.rows.take(self.likeliest, axis=0)).T[picked]
        chance, marginals = joint[:, 0], joint[:, 1:] / joint[:, :1]
        return (
            chance,
            marginals,
            (model.sight.boots | model.sight.keeps_booted if self.booted else model.sight.boots)[picked],
        )

    def _look_behind(self, fixes: Sequence[Fix]) -> tuple[Floats, Floats]:
        """Chance of every outcome of every fix but could-not, shape (x, 4), and what is left then, shape (x, 4, f)."""
        if not fixes:
            return np.zeros((0, 4)), np.zeros((0, 4, len(self.now)))
        self.posts = {fix.id: self.model.act(fix.id, self.state.how).apply_all(self.state.belief) for fix in fixes}
        joint = np.asarray(
            np.concatenate(list(self.posts.values()), dtype=np.float32) @ self.model.one_member, dtype=np.float64
        ).reshape(len(fixes), 4, -1)
        return joint[:, :, 0], joint[:, :, 1:] / joint[:, :, :1]

    def _taken_back(self, fix: Fix) -> Floats:
        """Fault probabilities after each outcome of a trial that was put back, shape (4, f)."""
        posts = self.model.act(fix.id, self.state.how).shown[:4] * self.state.belief
        return np.asarray((posts @ self.model.space.member) / posts.sum(axis=1, keepdims=True))


_BOOTS = np.array([True, False, False, False])
"""which of a fix's outcomes but could-not is a start"""


class BeliefBlock(Struct, frozen=True):
    """Beliefs to be weighed: fault probabilities, shape (v * k, f), in v runs of k rows; the fixes that are used up in
    each run; and which of the rows start."""

    marginals: Floats
    used: Sequence[tuple[int, ...]]
    booted: Flags
    counts: Flags | None = None
    """which of the rows are weighed at all; None: all of them"""


def _settle(costs: CostModel, blocks: Sequence[BeliefBlock]) -> list[Floats]:
    """The closed form of all blocks in one pass, an array for each; no number where a row does not count."""
    distinct = {
        gone: place for place, gone in enumerate(dict.fromkeys(gone for block in blocks for gone in block.used))
    }
    runs = [(distinct[gone], len(block.booted) // len(block.used)) for block in blocks for gone in block.used]
    of = np.repeat(*np.array(runs, dtype=np.intp).T)
    marginals, booted = (
        np.concatenate([b.marginals for b in blocks], dtype=np.float32, casting="same_kind"),
        np.concatenate([b.booted for b in blocks]),
    )
    counting = np.flatnonzero(
        np.concatenate([np.ones(len(b.booted), dtype=bool) if b.counts is None else b.counts for b in blocks])
    )
    values = np.full(len(booted), np.nan)
    values[counting] = costs.value(marginals.take(counting, axis=0), booted[counting], list(distinct), of[counting])
    return np.split(values, np.cumsum([len(b.booted) for b in blocks])[:-1])


def _two_ahead(
    step: _Step, short: Sequence[Prospect], next_checks: Sequence[Prospect], next_fixes: Sequence[Prospect]
) -> None:
    """Set `twice` of every move in `short`: after each likely outcome the best of the followers may come next."""
    if not (next_checks or next_fixes):
        return
    after = _AfterFirst.of(step, short)
    followed = [
        follow(after, next_) for follow, next_ in ((_looks_next, next_checks), (_fixes_next, next_fixes)) if next_
    ]
    left = after.at_once(step.costs)
    for follower, value in zip([*next_checks, *next_fixes], _expected(step.costs, after, followed), strict=True):
        price = np.array(_next_prices(step, follower, short))
        np.minimum(left, value + price[after.owner], out=left)
    for index, (prospect, mask) in enumerate(zip(short, after.likely, strict=True)):
        values = prospect.values.copy()
        values[mask] = left[after.owner == index]
        prospect.twice = prospect.cost + float(prospect.chance @ values)


class _AfterFirst(Struct, frozen=True):
    """The v likely outcomes of the moves in the short list, one below the other."""

    model: Model
    short: Sequence[Prospect]
    likely: list[Flags]
    """for each move, which of its outcomes are among them"""
    owner: Ints
    """the place of the move that each row belongs to, shape (v,)"""
    active: Ints
    """the hypotheses that carry them together"""
    beliefs: Light
    """belief over the active hypotheses, shape (v, a)"""
    booted: Flags
    chance: Floats
    values: Floats
    """how likely each row is, and the closed form of what it leaves to pay, shape (v,)"""
    how: How
    """cases of fixes that hold"""

    @classmethod
    def of(cls, step: _Step, short: Sequence[Prospect]) -> _AfterFirst:
        likely = [p.chance > _UNLIKELY for p in short]
        sight, now = step.model.sight, step.state.belief
        looked = [
            (sight.looks[p.move.id], x) for p, x in zip(short, likely, strict=True) if p.move.id not in step.posts
        ]
        done = [(step.posts[p.move.id], x) for p, x in zip(short, likely, strict=True) if p.move.id in step.posts]
        mass = np.zeros(len(now))
        for rows, x in looked:
            mass += x.astype(np.float64) @ rows[: len(x)]
        mass *= now
        for rows, x in done:
            mass += x.astype(np.float64) @ rows
        active = _likeliest(mass, _COVERED_TWICE, _MOST_TWICE)
        prior = now.take(active)
        carried = [rows.take(np.flatnonzero(x), axis=0).take(active, axis=1) * prior for rows, x in looked]
        carried += [rows.take(np.flatnonzero(x), axis=0).take(active, axis=1) for rows, x in done]
        beliefs = np.concatenate(carried, dtype=np.float32, casting="same_kind")
        beliefs /= beliefs.sum(axis=1, keepdims=True)
        owner = np.repeat(np.arange(len(short)), [int(x.sum()) for x in likely])
        booted = np.concatenate([p.booted[x] for p, x in zip(short, likely, strict=True)])
        chance, values = (
            np.concatenate([part[x] for part, x in zip(parts, likely, strict=True)])
            for parts in ([p.chance for p in short], [p.values for p in short])
        )
        return cls(step.model, short, likely, owner, active, beliefs, booted, chance, values, step.state.how)

    @property
    def used(self) -> list[tuple[int, ...]]:
        """The fixes that are used up in each row."""
        return [self.short[o].used for o in self.owner.tolist()]

    def at_once(self, costs: CostModel) -> Floats:
        """What is left to pay in each row when no second move is made. Where a next move is known, only what it leads
        to counts: the closed form is a little too hopeful, and a step that is spelled out must not compete with one
        that is not. So a machine that does not start has no other way than the dearest one."""
        left = np.full(len(self.owner), float(costs.base[-1]))
        if not self.booted.any():
            return left
        now = np.concatenate([p.marginals[x] for p, x in zip(self.short, self.likely, strict=True)])
        return np.where(self.booted, np.minimum(self.values, now @ costs.left_in), left)


class _Followed(Struct, frozen=True):
    """What is left after every outcome of every second move in each row."""

    block: BeliefBlock
    chance: Floats
    """shape (v, o): the outcomes of the first second move, then of the next, …"""
    parts: list[slice]
    """the outcomes of each second move"""


def _looks_next(after: _AfterFirst, checks: Sequence[Prospect]) -> _Followed:
    sight, booted = after.model.sight, after.booted
    picked = np.concatenate([sight.columns[p.move.id] for p in checks])
    rows = np.ascontiguousarray(sight.rows.take(after.active, axis=0)[:, picked].T)
    joint = (after.beliefs[:, None, :] * rows).reshape(-1, len(after.active)) @ after.model.one_member.take(
        after.active, axis=0
    )
    joint = joint.reshape(len(booted), len(picked), -1)
    starts = sight.boots[picked] | (sight.keeps_booted[picked] & booted[:, None])
    ends = np.cumsum([0, *(len(p.move.outcomes) for p in checks)]).tolist()
    counts = (after.chance[:, None] * joint[:, :, 0] >= _NEGLIGIBLE) | starts | booted[:, None]
    place = {p.move.id: index for index, p in enumerate(after.short)}
    # no move follows itself
    counts &= after.owner[:, None] != np.repeat([place[p.move.id] for p in checks], np.diff(ends))
    return _Followed(
        BeliefBlock(_given(joint), after.used, starts.ravel(), counts.ravel()),
        joint[:, :, 0],
        list(map(slice, ends, ends[1:])),
    )


def _fixes_next(after: _AfterFirst, fixes: Sequence[Prospect]) -> _Followed:
    behind = np.concatenate(
        [after.model.behind(p.move.id, after.how).take(after.active, axis=0) for p in fixes], axis=1
    )
    joint = (after.beliefs @ behind).reshape(len(after.booted), 4 * len(fixes), -1)
    used = [used_up(gone, p.used) for gone in after.used for p in fixes]
    parts = [slice(4 * place, 4 * place + 4) for place in range(len(fixes))]
    return _Followed(BeliefBlock(_given(joint), used, np.tile(_BOOTS, len(used))), joint[:, :, 0], parts)


def _given(joint: Floats) -> Floats:
    """Fault probabilities from rows of chance and chance with each fault, shape (…, 1 + f) -> (rows, f)."""
    return (joint[..., 1:] / np.maximum(joint[..., :1], 1e-300)).reshape(-1, joint.shape[-1] - 1)


def _expected(costs: CostModel, after: _AfterFirst, followed: Sequence[_Followed]) -> list[Floats]:
    """What each second move leaves to pay in each row, on average over its outcomes, shape (v,) each. What is too
    unlikely to be weighed leaves what the row itself does."""
    values = []
    for one, settled in zip(followed, _settle(costs, [f.block for f in followed]), strict=True):
        rows = settled.reshape(one.chance.shape)
        weighed = np.where(np.isnan(rows), after.values[:, None], rows) * one.chance
        values += [weighed[:, part].sum(axis=1) / one.chance[:, part].sum(axis=1) for part in one.parts]
    return values


def _next_prices(step: _Step, follower: Prospect, short: Sequence[Prospect]) -> list[float]:
    """What the second move costs after each of the first ones: nothing for getting there when the first has led to the
    same place; no move follows itself."""
    visit, shared = follower.move.visit, follower.cost - step.entry(follower.move)
    return [
        np.inf
        if p is follower
        else shared
        if visit is not None and visit == (p.move.enters or p.move.visit)
        else follower.cost
        for p in short
    ]
