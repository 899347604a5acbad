"""What moves cost on this ticket, in bench minutes worth of currency, and what the current belief is worth.

`CostModel.value` is the expected cost of the best sequence of fixes with nothing more to look at, after Heckerman,
Breese and Rommelse, "Decision-theoretic troubleshooting", CACM 38(3), 1995: fixes in the order of probability per cost,
each paid for as long as something that needs it, or a later one, may still be wrong."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from functools import lru_cache

import numpy as np
from msgspec import Struct, field

from gatecheck.core.belief.compile import variant_of
from gatecheck.core.belief.facts import Facts
from gatecheck.core.belief.model import Model
from gatecheck.core.belief.space import Flags, Floats, Ints, Light
from gatecheck.core.knowledge.tables import Check, Fix, Knowledge
from gatecheck.core.tape.fold import TicketState

SAFE_DATA = ("backed-up", "none")
_AFTER_COPYING = 0.25
"""share of the data still at stake when a fix writes: most of it was copied off before"""


def data_worth(knowledge: Knowledge, facts: Facts) -> float:
    """What losing the data would cost, in currency; little once the customer gave it up."""
    rates = knowledge.rates
    worth = rates[f"data_{str(facts.get('data', 'unknown')).replace('-', '_')}"]
    named = facts.get("data_value")
    if isinstance(named, int | float) and not isinstance(named, bool) and facts.get("data") not in SAFE_DATA:
        worth = max(0.0, float(named))  # the customer has put a figure on it
    return worth * (rates["consent_share"] if facts.get("consent") == "given" else 1.0)


def is_data_safe(facts: Facts) -> bool:
    return facts.get("data") in SAFE_DATA or facts.get("consent") == "given"


def entry_minutes(knowledge: Knowledge, state: TicketState, move: Check | Fix) -> float:
    """Hands-on minutes to get where the move is made: into setup, a live system, the open case."""
    return 0.0 if move.visit is None else visit_minutes(knowledge, state, move.visit)


def visit_minutes(knowledge: Knowledge, state: TicketState, place: str) -> float:
    """Hands-on minutes to get to this place from where the machine is now."""
    if place == state.visit or (place == "open" and state.is_open):
        return 0.0
    visit = knowledge.visits[place]
    return visit.desktop if state.facts.get("form") == "desktop" else visit.minutes


def shared_entry(knowledge: Knowledge, state: TicketState, move: Check | Fix) -> float:
    """The part of a visit that the move is charged with: others will use the same visit."""
    return knowledge.visits[move.visit].share * entry_minutes(knowledge, state, move) if move.visit else 0.0


_NEEDED = 1e-4
"""a fix less likely to be needed than this, over all beliefs at hand, changes no value"""
_MOST_SETS = 2000
_SURELY, _BROAD = 0.9, 5
"""a fix that cures at least so many faults this surely is broad"""


_ONE = np.float32(1.0)


class _Light(Struct, frozen=True, eq=False):
    """The arrays of an `CostModel` that every belief is weighed with, in few digits."""

    base: Light
    risk: Light
    when_cured: Light
    cure: Light
    left_in: Light
    slips: Light
    mending: Light


class CostModel(Struct, frozen=True):
    """Costs for one ticket. Fixes stand in the order of `fixes`; a last column stands for what nothing here cures.

    base: shape (x,), currency without the risk to data; risk: shape (f, x), currency per fault present.
    """

    model: Model
    fixes: tuple[str, ...]
    base: Floats
    risk: Floats
    when_cured: Floats
    """shape (x,): currency spent on top when the fix is the one that was needed"""
    cure: Floats
    """shape (f, x - 1): probability that the fix removes the fault"""
    left_in: Floats
    """shape (f,): price of handing the machine back with this fault in it"""
    slips: Floats
    """shape (f,): price of a comeback times the chance that the machine starts in spite of the fault"""
    mending: Floats
    """shape (f,): what the cheapest cure of the fault costs"""
    restart: float
    """what it costs to see a machine start that has nothing left in it"""
    worth: float
    cheapest: Ints
    """shape (f, m): the columns of the fault's cures, cheapest per cure first; filled up with columns that do not cure
    it"""
    shares: Floats
    """shape (f, m): `cure` in that order"""
    broad: tuple[int, ...]
    """columns of fixes that cure most of what can be on a drive at once: to be weighed first as well as last"""
    light: _Light
    kept: dict[tuple[int, ...], tuple[Light, Light]] = field(default_factory=dict)
    """what follows from a set of fixes that are used up (`_with_used`)"""

    def sequences(self, used: Sequence[tuple[int, ...]]) -> Floats:
        """Who cures what when the fixes in each of these v sets are used up: the cheapest cure of a fault first.

        Shape (v, x, f): probability that a fault ends up cured by that fix; the last fix stands for nothing here.
        """
        keep = np.ones((len(used), len(self.fixes)))
        keep[np.repeat(np.arange(len(used)), [len(gone) for gone in used]), [c for gone in used for c in gone]] = 0.0
        ranked = self.shares * keep[:, self.cheapest]
        left = np.multiply.accumulate(1.0 - ranked, axis=2)
        ranked[:, :, 1:] *= left[:, :, :-1]
        weights = np.zeros((len(used), len(self.fixes) + 1, len(self.cure)))
        weights[:, self.cheapest, np.arange(len(self.cure))[:, None]] = ranked
        weights[:, -1] = left[:, :, -1] if left.shape[2] else 1.0
        return weights

    @np.errstate(invalid="ignore")  # BLAS may look at what stands behind a row, and raise a flag for it
    def value(self, marginals: Floats | Light, booted: Flags, used: Sequence[tuple[int, ...]], of: Ints) -> Floats:
        """Expected cost of fixing, shape (k,), for fault probabilities `marginals`, shape (k, f). Of each row's fixes
        those in the set `used[of]` are used up.

        Where the machine starts (`booted`, shape (k,)), it is handed back with what is left in it.
        """
        light = marginals.astype(np.float32, copy=False)
        if not booted.any():
            return self._mended(light, used, of)
        values = np.empty(len(marginals))
        starts, fails = np.flatnonzero(booted), np.flatnonzero(~booted)
        values[starts] = self._handed_back(light[starts])
        if len(fails):
            values[fails] = self._mended(light[fails], used, of[fails])
        return values

    def _mended(self, marginals: Light, used: Sequence[tuple[int, ...]], of: Ints) -> Floats:
        """The value where the machine does not start. A broad fix is made first only where that alone, with the least
        that what it leaves can cost, is not dearer already."""
        best = self._in_turn(marginals, used, of)
        sets, columns = list(used), list(self.broad)
        rows, paid, mended, places = [], [], [], []
        for column, first in zip(columns, self._first(columns, marginals), strict=True):
            unused = np.array([column not in gone for gone in used])
            may_win = np.flatnonzero((first < best) & unused[of])
            if not len(may_win):
                continue
            then = [used_up(gone, (column,)) for gone in used]
            left = marginals[may_win] * (1.0 - self.light.cure[:, column])
            wins = np.flatnonzero(first[may_win] + self._least(left, then, of[may_win]) < best[may_win])
            may_win = may_win[wins]
            if len(may_win):
                rows.append(may_win)
                paid.append(first[may_win])
                mended.append(left[wins])
                places.append(of[may_win] + len(sets))
                sets += then
        if rows:
            after = np.concatenate(paid) + self._in_turn(np.concatenate(mended), sets, np.concatenate(places))
            np.minimum.at(best, np.concatenate(rows), after)
        return np.asarray(np.minimum(best + self._beside(marginals), self.light.base[-1]), dtype=np.float64)

    def _least(self, marginals: Light, used: Sequence[tuple[int, ...]], of: Ints) -> Light:
        """Shape (k,): no order of fixes costs less. Every fix is paid at least as often as it is what is needed, and
        giving up is paid at most once."""
        alone = np.concatenate([least for _, least in self._with_used(used)]).reshape(len(used), -1)
        return np.asarray(
            np.einsum("kf,kf->k", marginals, alone.take(of, axis=0))
            / np.maximum(marginals @ _ones(marginals.shape[1]), _ONE)
        )

    def _first(self, columns: list[int], marginals: Light) -> Light:
        """Shape (c, k): what each of these fixes costs that is made before all others."""
        light = self.light
        mended = np.minimum(marginals @ light.cure[:, columns], _ONE)
        return np.asarray(
            (light.base[columns] + marginals @ light.risk[:, columns] + light.when_cured[columns] * mended).T
        )

    def _beside(self, marginals: Light) -> Light:
        """Shape (k,): what is paid besides: faults that the machine starts in spite of, or a look at one that has
        none."""
        ones = _ones(marginals.shape[1])
        unseen = (
            np.minimum(marginals * self.light.slips, np.maximum(_ONE - marginals, np.float32(0.0)) * self.light.mending)
            @ ones
        )
        return np.asarray(unseen + np.maximum(_ONE - marginals @ ones, np.float32(0.0)) * np.float32(self.restart))

    def _in_turn(self, marginals: Light, used: Sequence[tuple[int, ...]], of: Ints) -> Light:
        """Shape (k,): what it costs to make the fixes in the order of cost per probability that they are needed; at any
        point the machine may be given up at the price of the last column."""
        light = self.light
        by_set = np.argsort(of, kind="stable")
        faults = marginals.take(by_set, axis=0)
        needed = self._needed(faults, used, np.bincount(of, minlength=len(used)).tolist())
        give_up, last = light.base[-1], needed[:, -1]
        best = give_up * np.minimum(last, _ONE)
        matters = np.flatnonzero((_ones(len(needed)) @ needed)[:-1] > _NEEDED)
        if len(matters):
            need = (
                needed.take(matters, axis=1)
                if len(matters) < needed.shape[1] - 1
                else np.ascontiguousarray(needed[:, :-1])
            )
            price = faults @ light.risk.take(matters, axis=1)
            price += light.base[matters]
            order = np.ascontiguousarray(
                _ascending(np.divide(price, np.maximum(need, np.float32(1e-12)), dtype=np.float32)).T
            )
            # from here on a row is a place in the order, so that what is summed or compared lies side by side
            on_top = light.when_cured[matters].take(order, mode="clip")  # nothing is out of bounds: it is quicker so
            order += np.arange(0, need.size, len(matters), dtype=np.intp)
            need, price = need.take(order, mode="clip"), price.take(order, mode="clip")
            up_to = _up_to(len(matters))
            later = up_to @ need
            everything = later[-1] + last
            np.subtract(everything, later, out=later)
            due = later + need
            np.minimum(due, _ONE, out=due)
            due *= price
            need *= on_top
            due += need
            spent = up_to @ due
            np.minimum(later, _ONE, out=later)
            later *= give_up
            spent += later
            best = np.minimum(spent.min(axis=0), give_up * np.minimum(everything, _ONE))
        values = np.empty(len(best), dtype=np.float32)
        values[by_set] = best
        return values

    def _needed(self, faults: Light, used: Sequence[tuple[int, ...]], counts: Sequence[int]) -> Light:
        """Shape (k, x): the probability that each fix is needed, for `faults`, shape (k, f), whose first `counts[0]`
        rows have the fixes of the first set used up, the next `counts[1]` those of the second, and so on."""
        needed, start = np.empty((len(faults), len(self.base)), dtype=np.float32), 0
        for (chances, _), count in zip(self._with_used(used), counts, strict=True):
            if count:
                np.matmul(faults[start : start + count], chances, out=needed[start : start + count])
                start += count
        return needed

    def _with_used(self, used: Sequence[tuple[int, ...]]) -> list[tuple[Light, Light]]:
        """`sequences` of each of these sets, shape (f, x), and the least that the cure of each fault alone then costs,
        shape (f,)."""
        if len(self.kept) > _MOST_SETS:
            self.kept.clear()
        new = [gone for gone in dict.fromkeys(used) if gone not in self.kept]
        if new:
            weights = np.ascontiguousarray(self.sequences(new).transpose(0, 2, 1), dtype=np.float32)
            alone = weights @ np.minimum(self.light.base + self.light.when_cured, self.light.base[-1])
            self.kept.update(zip(new, zip(weights, alone, strict=True), strict=True))
        return [self.kept[gone] for gone in used]

    def _handed_back(self, marginals: Light) -> Light:
        """A machine that starts does not show whether a fix was needed: hand it back as it is, or mend one thing
        blindly."""
        light = self.light
        handed = marginals * light.left_in
        saved = handed @ light.cure - light.base[:-1] - marginals @ light.risk[:, :-1]
        return np.asarray(handed.sum(axis=1) - np.maximum(saved.max(axis=1, initial=0.0), 0.0))


@lru_cache(maxsize=4096)
def used_up(gone: tuple[int, ...], also: tuple[int, ...]) -> tuple[int, ...]:
    """The columns of both sets of fixes, in order."""
    return tuple(sorted({*gone, *also}))


@lru_cache(maxsize=256)
def _ones(size: int) -> Light:
    """A product with them is a sum: quicker than one over short rows."""
    return np.ones(size, dtype=np.float32)


@lru_cache(maxsize=64)
def _up_to(size: int) -> Light:
    """A lower triangle of ones: its product with an array gives the sums up to and with each row."""
    return np.tri(size, dtype=np.float32)


def _ascending(ratios: Light) -> Ints:
    """Which comes first, second, … in each row, for positive numbers of shape (k, x).

    Sorts the numbers as whole ones: the bits of a positive float stand in the order of its value, and its last ones
    give way to its place. With 26 fixes that is five bits: ratios closer than four parts in a million stand in the
    order of the fixes."""
    mask = np.int32((1 << (ratios.shape[1] - 1).bit_length()) - 1)
    keys = (ratios.view(np.int32) & ~mask) | np.arange(ratios.shape[1], dtype=np.int32)
    keys.sort(axis=1)
    return (keys & mask).astype(np.intp)


def economy(model: Model, state: TicketState, barred: Collection[str]) -> CostModel:
    """Costs of the fixes that are applicable, not yet tried and not barred (held for good on this evidence)."""
    knowledge = model.knowledge
    names = tuple(n for n in model.deeds.fix_ids if n in state.applicable and n not in state.tried and n not in barred)
    worth = 0.0 if is_data_safe(state.facts) else data_worth(knowledge, state.facts)
    key = (
        "economy",
        names,
        tuple(sorted(state.how.items())),
        worth,
        state.applicable,
        state.facts.get("form"),
        state.visit,
        state.is_open,
    )
    return model.keep(key, lambda: _economy(model, state, names, worth))


def _economy(model: Model, state: TicketState, names: tuple[str, ...], worth: float) -> CostModel:
    knowledge = model.knowledge
    cure = model.deeds.cure[:, [model.deeds.fix_ids.index(name) for name in names]]
    cure = np.array(cure)
    for column, name in enumerate(names):
        if name in state.how:
            fix = variant_of(knowledge.fixes[name], state.how[name])
            cure[:, column] = [
                max(fix.cures.get(fault, 0.0), fix.resolves.get(fault, 0.0)) for fault in model.space.fault_ids
            ]
    copying = knowledge.fixes["copy-data"]
    copy_cost = copying.minutes + knowledge.rates["unattended_share"] * copying.unattended
    base, when_cured, risk = [], [], np.zeros((len(model.space.fault_ids), len(names) + 1))
    for column, name in enumerate(names):
        fix = knowledge.fixes[name]
        minutes = fix.minutes + shared_entry(knowledge, state, fix)
        minutes += knowledge.rates["unattended_share"] * fix.unattended
        unsafe = worth > 0 and (fix.writes or fix.id == "replace-drive")
        base.append(minutes * knowledge.rates["bench_minute"] + fix.parts + fix.burden + (copy_cost if unsafe else 0.0))
        when_cured.append(fix.cured_minutes * knowledge.rates["bench_minute"] + fix.cured_parts)
        risk[:, column] = model.deeds.stress[fix.stress] * worth * _AFTER_COPYING
    base.append(knowledge.rates["board_unknown"])
    when_cured.append(0.0)
    costs, on_top = np.array(base), np.array(when_cured)
    mending = _mending(model, state, names, cure, costs[:-1] + on_top[:-1])
    left_in = knowledge.rates["comeback"] + mending
    passing = np.array([model.start.passes[model.space.add[0, f]] for f in range(len(cure))])
    restart = knowledge.checks["screen"].minutes * knowledge.rates["bench_minute"]
    most = int((cure > 0).sum(axis=1).max(initial=0))
    cheapest = np.argsort(costs[:-1] / np.maximum(cure, 1e-9), axis=1)[:, :most]
    shares = np.take_along_axis(cure, cheapest, axis=1)
    broad = tuple(c for c in range(len(names)) if (cure[:, c] >= _SURELY).sum() >= _BROAD)
    slips = passing * knowledge.rates["comeback"]
    light = _Light(
        *(np.ascontiguousarray(a, dtype=np.float32) for a in (costs, risk, on_top, cure, left_in, slips, mending))
    )
    return CostModel(
        model, names, costs, risk, on_top, cure, left_in, slips, mending, restart, worth, cheapest, shares, broad, light
    )


def _mending(model: Model, state: TicketState, names: Sequence[str], cure: Floats, costs: Floats) -> Floats:
    """Shape (f,): the price of the cheapest cure of each fault; one that was tried in vain may still be what is needed
    when the machine comes back."""
    knowledge = model.knowledge
    price = np.full(cure.shape[0], knowledge.rates["board_unknown"])
    if names:
        price = np.minimum(price, np.where(cure > 0, costs / np.maximum(cure, 1e-9), np.inf).min(axis=1))
    for name in set(model.deeds.fix_ids) - set(names):
        fix = knowledge.fixes[name]
        if name in state.applicable and fix.cures:
            minutes = fix.minutes + fix.cured_minutes + knowledge.rates["unattended_share"] * fix.unattended
            for fault, share in fix.cures.items():
                place = model.space.index(fault)
                price[place] = min(
                    price[place],
                    (minutes * knowledge.rates["bench_minute"] + fix.parts + fix.cured_parts + fix.burden) / share,
                )
    return price
