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
from gatecheck.core.triage.model import Facts, Model, fact_test
from gatecheck.core.triage.space import Floats

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


def is_applicable(move: Check | Fix, facts: Facts) -> bool:
    """True when the machine's facts do not rule the move out."""
    if move.only_when and not fact_test(move.only_when, facts):
        return False
    return not any(facts.get(fact) in values for fact, values in move.not_when.items())


_NEEDED = 1e-4
"""a fix less likely to be needed than this, for every belief at hand, changes no value"""
_SURELY, _BROAD = 0.9, 5
"""a fix that cures at least so many faults this surely is broad"""


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
    weights: Floats
    """shape (f, x): probability that a fault ends up cured by that fix, tried in the order of cost per cure"""
    broad: tuple[int, ...]
    """columns of fixes that cure most of what can be on a drive at once: to be weighed first as well as last"""
    _without: dict[tuple[int, ...], Floats]

    def weights_without(self, *columns: int) -> Floats:
        """`weights` with these fixes used up."""
        if not columns:
            return self.weights
        if columns not in self._without:
            changed = self.cure[:, columns].max(axis=1) > 0
            cure = self.cure[changed]
            cure[:, columns] = 0.0
            weights = self.weights.copy()
            weights[changed] = _in_order_of_cost(self.base[:-1], cure)
            self._without[columns] = weights
        return self._without[columns]

    def worth_first(self, now: Floats) -> tuple[int, ...]:
        """Broad fixes that may be best made first somewhere near this belief: they cost less than twice the best way."""
        needed, paid = self.needs(now[None, :])
        ways = [float(self.value_of(needed[w : w + 1], paid[w : w + 1], now[None, :], np.zeros(1, bool))[0]) for w in range(len(paid))]
        return tuple(c for c, value in zip(self.broad, ways[1:], strict=True) if value < 2.0 * min(ways))

    def needs(self, marginals: Floats, used: tuple[int, ...] = (), broad: tuple[int, ...] | None = None) -> tuple[Floats, Floats]:
        """Two ways to go on from fault probabilities, shape (k, f), with these fixes used up: cheapest cure first, or one
        of the broad fixes before all others.

        Returns the probability that each fix is needed, shape (w, k, x), and what is paid at once, shape (w, k).
        """
        needed = [marginals @ self.weights_without(*used)]
        paid = [np.zeros(len(marginals))]
        for column in self.broad if broad is None else broad:
            if column in used:
                needed.append(needed[0])
                paid.append(np.full(len(marginals), np.inf))
                continue
            left = marginals * (1.0 - self.cure[:, column])
            needed.append(left @ self.weights_without(*sorted((*used, column))))
            mended = marginals @ self.cure[:, column]
            paid.append(self.base[column] + marginals @ self.risk[:, column] + self.when_cured[column] * np.minimum(mended, 1.0))
        return np.array(needed), np.array(paid)

    def value(self, marginals: Floats, booted: NDArray[np.bool_], used: tuple[int, ...] = ()) -> Floats:
        """Expected cost of fixing, shape (k,), for fault probabilities `marginals`, shape (k, f).

        Where the machine starts (`booted`, shape (k,)), it is handed back with what is left in it.
        """
        return self.value_of(*self.needs(marginals, used), marginals, booted)

    def value_of(self, needed: Floats, paid: Floats, marginals: Floats, booted: NDArray[np.bool_]) -> Floats:
        """The same, for what `needs` gave."""
        # best ratio first; at any point the machine may be given up at the price of the last column
        matters = np.flatnonzero(needed[:, :, :-1].max(axis=(0, 1)) > _NEEDED)
        last, needed = needed[:, :, -1:], needed[:, :, matters]
        cost, on_top = self.base[matters] + marginals @ self.risk[:, matters], self.when_cured[matters]
        order = (cost / np.maximum(needed, 1e-12)).argsort(axis=2)
        ways, rows, columns = order.shape
        if not columns:
            return np.where(booted, marginals @ self.left_in, self.base[-1] * np.minimum(last[0, :, 0], 1.0))
        places = order + (np.arange(rows) * columns)[:, None]
        need = needed.take(places + (np.arange(ways) * rows * columns)[:, None, None])
        gone = need.cumsum(axis=2)
        total = gone[:, :, -1:] + last
        still = np.minimum(total - gone + need, 1.0)
        spent = (cost.take(places) * still + need * on_top[order]).cumsum(axis=2)
        up_to = spent + self.base[-1] * np.minimum(total - gone, 1.0)
        fixing = np.minimum(up_to.min(axis=2), self.base[-1] * np.minimum(total[:, :, 0], 1.0))
        unseen = np.minimum(marginals * self.slips, np.maximum(1.0 - marginals, 0.0) * self.mending).sum(axis=1)
        sound = np.maximum(1.0 - marginals.sum(axis=1), 0.0) * self.restart
        fixing = np.minimum((fixing + paid).min(axis=0) + unseen + sound, self.base[-1])
        if not booted.any():
            return np.asarray(fixing)
        # a machine that starts does not show whether a fix was needed: hand it back as it is, or mend one thing blindly
        handed = marginals * self.left_in
        saved = handed @ self.cure - self.base[:-1] - (marginals @ self.risk[:, :-1])
        blind = handed.sum(axis=1) - np.maximum(saved.max(axis=1, initial=0.0), 0.0)
        return np.asarray(np.where(booted, blind, fixing), dtype=np.float64)

    def check_cost(self, state: TicketState, move: Check | Fix, marginals: Floats) -> float:
        """Currency to make the move now; `marginals`, shape (f,), weigh the risk to the data."""
        knowledge = self.model.knowledge
        minutes = move.minutes + shared_entry(knowledge, state, move)
        minutes += knowledge.rates["unattended_share"] * move.unattended
        risk = marginals @ self.model.stress[move.stress]
        return float(minutes * knowledge.rates["bench_minute"] + risk * self.worth)


def _in_order_of_cost(cost: Floats, cure: Floats) -> Floats:
    """Shape (f, x + 1) from cure, shape (f, x): each fix gets what the cheaper ones (per cure) leave; the rest is last."""
    order = np.argsort(cost / np.maximum(cure, 1e-9), axis=1)
    row = np.arange(len(cure))[:, None]
    ranked = cure[row, order]
    left = np.cumprod(1.0 - ranked, axis=1)
    weights = np.empty((len(cure), cure.shape[1] + 1))
    ranked[:, 1:] *= left[:, :-1]
    weights[row, order] = ranked
    weights[:, -1] = left[:, -1] if left.shape[1] else 1.0
    return weights


def economy(model: Model, state: TicketState, barred: Collection[str]) -> Economy:
    """Costs of the fixes that are applicable, not yet tried and not barred (held for good on this evidence)."""
    knowledge = model.knowledge
    names = tuple(name for name in model.fix_ids if _is_usable(knowledge.fixes[name], state, barred))
    worth = 0.0 if is_data_safe(state.facts) else data_worth(knowledge, state.facts)
    key = ("economy", names, worth, state.facts.get("platform"), state.facts.get("installed_os"), state.facts.get("drive_kind"), state.visit, state.is_open, state.facts.get("form"))
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
    weights = _in_order_of_cost(costs[:-1], cure)
    broad = tuple(c for c in range(len(names)) if (cure[:, c] >= _SURELY).sum() >= _BROAD)
    return Economy(model, names, costs, risk, on_top, cure, left_in, passing * knowledge.rates["comeback"], mending, restart, worth, weights, broad, {})


def _mending(model: Model, state: TicketState, names: Sequence[str], cure: Floats, costs: Floats) -> Floats:
    """Shape (f,): the price of the cheapest cure of each fault; one that was tried in vain may still be what is needed
    when the machine comes back."""
    knowledge = model.knowledge
    price = np.full(cure.shape[0], knowledge.rates["board_unknown"])
    if names:
        price = np.minimum(price, np.where(cure > 0, costs / np.maximum(cure, 1e-9), np.inf).min(axis=1))
    for name in set(model.fix_ids) - set(names):
        fix = knowledge.fixes[name]
        if is_applicable(fix, state.facts) and fix.cures:
            minutes = fix.minutes + fix.cured_minutes + knowledge.rates["unattended_share"] * fix.unattended
            for fault, share in fix.cures.items():
                place = model.space.index(fault)
                price[place] = min(price[place], (minutes * knowledge.rates["bench_minute"] + fix.parts + fix.cured_parts + fix.burden) / share)
    return price


def _is_usable(fix: Fix, state: TicketState, barred: Collection[str]) -> bool:
    return fix.id not in state.tried and fix.id not in barred and is_applicable(fix, state.facts)
