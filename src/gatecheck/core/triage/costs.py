"""What moves cost on this ticket, in bench minutes worth of currency, and what the current belief is worth.

`Economy.value` is the expected cost of the best sequence of fixes with nothing more to look at, after Heckerman, Breese
and Rommelse, "Decision-theoretic troubleshooting", CACM 38(3), 1995: fixes in the order of probability per cost, each
paid for as long as something that needs it, or a later one, may still be wrong.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from gatecheck.core.knowledge.tables import Check, Fix, Knowledge
from gatecheck.core.ticket import TicketState
from gatecheck.core.triage.model import Facts, Model
from gatecheck.core.triage.space import Floats, Ints

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
    if move.visit is None or move.visit == state.visit or (move.visit == "open" and state.is_open):
        return 0.0
    visit = knowledge.visits[move.visit]
    return visit.desktop if state.facts.get("form") == "desktop" else visit.minutes


def shared_entry(knowledge: Knowledge, state: TicketState, move: Check | Fix) -> float:
    """The part of a visit that the move is charged with: others will use the same visit."""
    return knowledge.visits[move.visit].share * entry_minutes(knowledge, state, move) if move.visit else 0.0


_NEEDED = 1e-4
"""a fix less likely to be needed than this, for every belief at hand, changes no value"""
_SURELY, _BROAD = 0.9, 5
"""a fix that cures at least so many faults this surely is broad"""


Block = tuple[Floats, Sequence[tuple[int, ...]], NDArray[np.bool_]]
"""Beliefs to be weighed: fault probabilities, shape (v, k, f), the fixes used up in each of the v, and which of the v * k
rows start."""


@dataclass(frozen=True, slots=True)
class Economy:
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
    """shape (f, m): the columns of the fault's cures, cheapest per cure first; filled up with columns that do not cure it"""
    shares: Floats
    """shape (f, m): `cure` in that order"""
    broad: tuple[int, ...]
    """columns of fixes that cure most of what can be on a drive at once: to be weighed first as well as last"""

    def sequences(self, used: Sequence[tuple[int, ...]], broad: tuple[int, ...] = ()) -> Floats:
        """Who cures what, for every set of fixes that are used up (v of them) and every way to go on (w): cheapest cure
        first, or one of the `broad` fixes before all others.

        Shape (v, x, w, f): probability that a fault ends up cured by that fix; the last fix stands for nothing here.
        """
        keep = np.ones((len(used), 1 + len(broad), len(self.fixes)))
        for place, gone in enumerate(used):
            for column in gone:
                keep[place, :, column] = 0.0
        for way, column in enumerate(broad, 1):
            keep[:, way, column] = 0.0
        ranked = self.shares * keep[:, :, self.cheapest]
        left = np.multiply.accumulate(1.0 - ranked, axis=3)
        ranked[:, :, :, 1:] *= left[:, :, :, :-1]
        weights = np.zeros((len(used), len(self.fixes) + 1, 1 + len(broad), len(self.cure)))
        by_way = weights.transpose(0, 2, 1, 3)
        by_way[:, :, self.cheapest, np.arange(len(self.cure))[:, None]] = ranked
        by_way[:, :, -1] = left[:, :, :, -1] if left.shape[3] else 1.0
        for way, column in enumerate(broad, 1):
            weights[:, :, way] *= 1.0 - self.cure[:, column]
        return weights

    def weigh(self, blocks: Sequence[Block], broad: tuple[int, ...]) -> tuple[Floats, Floats]:
        """The probability that each fix is needed, shape (x, w, k), and what each way costs at once, shape (w, k), for the k
        rows of all blocks side by side, as `value_of` wants them."""
        distinct = list(dict.fromkeys(gone for _, used, _ in blocks for gone in used))
        place_of = {gone: place for place, gone in enumerate(distinct)}
        sequences = self.sequences(distinct, broad)
        fixes, ways, faults = sequences.shape[1:]
        total = sum(len(booted) for _, _, booted in blocks)
        needed, paid, first = np.empty((fixes, ways, total)), np.zeros((ways, total)), 0
        for marginals, used, _ in blocks:
            many, rows, _ = marginals.shape
            part = slice(first, first + many * rows)
            first = part.stop
            chosen = sequences[[place_of[gone] for gone in used]].reshape(many, fixes * ways, faults)
            found = (chosen @ marginals.transpose(0, 2, 1)).reshape(many, fixes, ways, rows)
            needed[:, :, part] = found.transpose(1, 2, 0, 3).reshape(fixes, ways, many * rows)
            for way, column in enumerate(broad, 1):
                flat = marginals.reshape(-1, faults)
                mended = np.minimum(flat @ self.cure[:, column], 1.0)
                paid[way, part] = self.base[column] + flat @ self.risk[:, column] + self.when_cured[column] * mended
                spent = [column in gone for gone in used]
                if any(spent):
                    paid[way, part] += np.where(np.repeat(spent, rows), np.inf, 0.0)
        return needed, paid

    def value(self, marginals: Floats, booted: NDArray[np.bool_], used: tuple[int, ...] = ()) -> Floats:
        """Expected cost of fixing, shape (k,), for fault probabilities `marginals`, shape (k, f), with these fixes used up.

        Where the machine starts (`booted`, shape (k,)), it is handed back with what is left in it.
        """
        return np.asarray(self.value_of(*self.weigh([(marginals[None], [used], booted)], self.broad), marginals, booted).min(axis=0))

    def value_of(self, needed: Floats, paid: Floats, marginals: Floats, booted: NDArray[np.bool_]) -> Floats:
        """The same for each way to go on, shape (w, k), for what `weigh` gave of marginals (k, f)."""
        if not booted.any():
            return self._fixing(needed, paid, marginals)
        values = np.empty(paid.shape)
        starts, fails = np.flatnonzero(booted), np.flatnonzero(~booted)
        values[:, starts] = self._handed_back(marginals[starts])
        if len(fails):
            values[:, fails] = self._fixing(needed.take(fails, axis=2), paid[:, fails], marginals[fails])
        return values

    def _fixing(self, needed: Floats, paid: Floats, marginals: Floats) -> Floats:
        """Expected cost of each way to go on, shape (w, k), where the machine does not start."""
        give_up, last, faults = self.base[-1], needed[-1], np.ascontiguousarray(marginals.T)
        matters = np.flatnonzero(needed[:-1].reshape(len(needed) - 1, last.size).max(axis=1, initial=0.0) > _NEEDED)
        if len(matters):
            need = needed[matters]
            fixes, ways, rows = need.shape
            price = self.base[matters, None] + self.risk[:, matters].T @ faults
            # best ratio first; at any point the machine may be given up at the price of the last column
            order = _ascending(price[:, None] / np.maximum(need, 1e-12))
            need = need.take(order * (ways * rows) + np.arange(ways * rows).reshape(ways, rows))
            price = price.take(order * rows + np.arange(rows))
            up_to = np.tri(fixes)
            gone = (up_to @ need.reshape(fixes, -1)).reshape(need.shape)
            total = gone[-1] + last
            later = total - gone
            spent = price * np.minimum(later + need, 1.0) + need * self.when_cured[matters][order]
            spent = (up_to @ spent.reshape(fixes, -1)).reshape(need.shape) + give_up * np.minimum(later, 1.0)
            best = np.minimum(spent.min(axis=0), give_up * np.minimum(total, 1.0))
        else:
            best = give_up * np.minimum(last, 1.0)
        unseen = np.minimum(faults * self.slips[:, None], np.maximum(1.0 - faults, 0.0) * self.mending[:, None]).sum(axis=0)
        sound = np.maximum(1.0 - faults.sum(axis=0), 0.0) * self.restart
        return np.asarray(np.minimum(best + paid + (unseen + sound), give_up))

    def _handed_back(self, marginals: Floats) -> Floats:
        """A machine that starts does not show whether a fix was needed: hand it back as it is, or mend one thing blindly."""
        handed = marginals * self.left_in
        saved = handed @ self.cure - self.base[:-1] - (marginals @ self.risk[:, :-1])
        return np.asarray(handed.sum(axis=1) - np.maximum(saved.max(axis=1, initial=0.0), 0.0))


def _ascending(ratios: Floats) -> Ints:
    """Which comes first, second, … along the first axis, for positive numbers of shape (x, w, k).

    Sorts the numbers as whole ones: the bits of a positive float stand in the order of its value, and its last ones give
    way to its place. With 26 fixes that is five bits: ratios closer than four parts in a million stand in the order of
    the fixes.
    """
    bits = ratios.astype(np.float32).view(np.int32)
    mask = np.int32((1 << (len(ratios) - 1).bit_length()) - 1)
    keys = (bits & ~mask) | np.arange(len(ratios), dtype=np.int32)[:, None, None]
    by_row = np.ascontiguousarray(keys.reshape(len(keys), -1).T)
    by_row.sort(axis=1)
    return np.ascontiguousarray((by_row & mask).T, dtype=np.intp).reshape(ratios.shape)


def economy(model: Model, state: TicketState, barred: Collection[str]) -> Economy:
    """Costs of the fixes that are applicable, not yet tried and not barred (held for good on this evidence)."""
    knowledge = model.knowledge
    names = tuple(n for n in model.fix_ids if n in state.applicable and n not in state.tried and n not in barred)
    worth = 0.0 if is_data_safe(state.facts) else data_worth(knowledge, state.facts)
    key = ("economy", names, worth, state.applicable, state.facts.get("form"), state.visit, state.is_open)
    return model.keep(key, lambda: _economy(model, state, names, worth))


def _economy(model: Model, state: TicketState, names: tuple[str, ...], worth: float) -> Economy:
    knowledge = model.knowledge
    cure = model.cure[:, [model.fix_ids.index(name) for name in names]]
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
        risk[:, column] = model.stress[fix.stress] * worth * _AFTER_COPYING
    base.append(knowledge.rates["board_unknown"])
    when_cured.append(0.0)
    costs, on_top = np.array(base), np.array(when_cured)
    mending = _mending(model, state, names, cure, costs[:-1] + on_top[:-1])
    left_in = knowledge.rates["comeback"] + mending
    passing = np.array([model.passes[model.space.add[0, f]] for f in range(len(cure))])
    restart = knowledge.checks["screen"].minutes * knowledge.rates["bench_minute"]
    most = int((cure > 0).sum(axis=1).max(initial=0))
    cheapest = np.argsort(costs[:-1] / np.maximum(cure, 1e-9), axis=1)[:, :most]
    shares = np.take_along_axis(cure, cheapest, axis=1)
    broad = tuple(c for c in range(len(names)) if (cure[:, c] >= _SURELY).sum() >= _BROAD)
    return Economy(model, names, costs, risk, on_top, cure, left_in, passing * knowledge.rates["comeback"], mending, restart, worth, cheapest, shares, broad)


def _mending(model: Model, state: TicketState, names: Sequence[str], cure: Floats, costs: Floats) -> Floats:
    """Shape (f,): the price of the cheapest cure of each fault; one that was tried in vain may still be what is needed
    when the machine comes back."""
    knowledge = model.knowledge
    price = np.full(cure.shape[0], knowledge.rates["board_unknown"])
    if names:
        price = np.minimum(price, np.where(cure > 0, costs / np.maximum(cure, 1e-9), np.inf).min(axis=1))
    for name in set(model.fix_ids) - set(names):
        fix = knowledge.fixes[name]
        if name in state.applicable and fix.cures:
            minutes = fix.minutes + fix.cured_minutes + knowledge.rates["unattended_share"] * fix.unattended
            for fault, share in fix.cures.items():
                place = model.space.index(fault)
                price[place] = min(price[place], (minutes * knowledge.rates["bench_minute"] + fix.parts + fix.cured_parts + fix.burden) / share)
    return price
