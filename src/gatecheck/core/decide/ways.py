"""The ways out of a ticket: which fixes, alone or together, could be what is decided for, and what each comes to on
average."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

import numpy as np
from msgspec import Struct

from gatecheck.core.belief.model import How, Model
from gatecheck.core.belief.space import Floats, Ints
from gatecheck.core.decide.costs import SAFE_DATA, data_worth, entry_minutes, visit_minutes
from gatecheck.core.decide.plan import DRIVE_FAULTS, against_their_word
from gatecheck.core.knowledge.tables import Fix
from gatecheck.core.tape.fold import TicketState

CHOICES = ("release", "repair", "reinstall", "replace", "refer")
WEIGHT = {choice: rank for rank, choice in enumerate(CHOICES)}
_CURES = 0.5
"""a fix counts as a cure for a fault from this probability on"""
_OPTION_ABOVE = 0.02
"""a fix is a way out when something it cures is at least this likely"""
_MANY = 6
"""from so many single fixes on, one product over all there are is quicker than one for each"""
_COMBINE_TOP = 24
_COMBINE_ABOVE = 0.25
"""fixes are put together for the likeliest hypotheses of several faults, each fault at least this likely"""


class Option(Struct, frozen=True):
    """One way out. `fixes` in the order they are made; p_success: works and still works after a month.

    minutes: hands-on and unattended; cost: parts and time in currency; expected_loss: what deciding for it costs on
    average, failures and lost data included.
    """

    choice: str
    fixes: tuple[str, ...]
    p_success: float
    minutes: float
    hands_on_minutes: float
    cost: float
    data_outcome: str
    """id of what becomes of the data"""
    expected_loss: float
    held_by: tuple[str, ...]
    starts: float
    """probability that the machine starts then, whatever is left in it"""
    parts: float
    """parts, and what others charge, in currency"""
    main_fix: str | None
    """the fix that gives the option its name: the first one in `fixes` that belongs to the choice"""

    @property
    def comeback_risk(self) -> float:
        """Probability that it starts and comes back within the month."""
        return max(0.0, self.starts - self.p_success)

    @property
    def fix(self) -> str | None:
        """The fix to make, unless it is held."""
        return None if self.held_by else self.main_fix


def distinct(options: Sequence[Option]) -> tuple[Option, ...]:
    """The best option for each choice and main fix, in order."""
    first: dict[tuple[str, str | None], Option] = {}
    for option in options:
        first.setdefault((option.choice, option.main_fix), option)
    return tuple(first.values())


def ways_out(model: Model, state: TicketState) -> list[FixSequence]:
    """Release, every applicable untried fix, and the sets of fixes that the likeliest several-fault hypotheses need."""
    usable = [model.knowledge.fixes[name] for name in _usable(model, state)]
    may_start = state.booted is not None or "screen" not in state.current
    ways: dict[tuple[str, ...], None] = {(): None} if may_start else {}
    ways |= {(name,): None for name in helping_fixes(model, state)}
    marginals = state.marginals
    likeliest = np.argpartition(-state.belief, min(_COMBINE_TOP, len(state.belief) - 1))[:_COMBINE_TOP]
    likely = frozenset(np.flatnonzero(marginals >= _COMBINE_ABOVE).tolist())
    for order in (
        model.space.order[likeliest[np.argsort(-state.belief[likeliest], kind="stable")]].tolist()
        if len(likely) > 1
        else ()
    ):
        faults = [i for i in order if i >= 0]
        if len(faults) > 1 and likely.issuperset(faults):
            way = _cover(model, state, usable, [model.space.fault_ids[i] for i in faults])
            if way:
                ways[way] = None
    return [_way(model, state, fixes) for fixes in ways]


def helping_fixes(model: Model, state: TicketState) -> tuple[str, ...]:
    """Usable fixes for something that is likely enough to make them a way out."""
    helping = state.belief @ model.deeds.may_help >= _OPTION_ABOVE
    return tuple(name for name in _usable(model, state) if helping[model.deeds.fix_ids.index(name)])


def _cover(model: Model, state: TicketState, usable: Sequence[Fix], faults: Sequence[str]) -> tuple[str, ...] | None:
    """The cheapest fix for each fault, the root first, less those whose fault another one of them cures as well."""
    chosen = {fault: _cheapest(model, state, usable, fault) for fault in _roots_first(faults)}
    if not all(chosen.values()):
        return None
    way = list(dict.fromkeys(fix for fix in chosen.values() if fix))
    for name in list(way):
        others = [model.knowledge.fixes[o] for o in way if o != name]
        if all(any(o.cures.get(f, 0.0) >= 0.7 for o in others) for f, fix in chosen.items() if fix == name):
            way.remove(name)
    return tuple(way)


def _roots_first(faults: Sequence[str]) -> list[str]:
    rank = {"battery.flat": 0, **dict.fromkeys(DRIVE_FAULTS, 1)}
    return sorted(faults, key=lambda f: rank.get(f, 2))


def _cheapest(model: Model, state: TicketState, usable: Sequence[Fix], fault: str) -> str | None:
    ways = [
        (
            (f.minutes + f.parts + f.burden + entry_minutes(model.knowledge, state, f)) / f.cures[fault]
            + f.cured_minutes
            + f.cured_parts,
            f.id,
        )
        for f in usable
        if f.cures.get(fault, 0.0) >= 0.3
    ]
    return min(ways)[1] if ways else None


class FixSequence(Struct, frozen=True):
    """Fixes made one after the other, and what of them is the same on every ticket where the same cases of them
    hold."""

    fixes: tuple[str, ...]
    choice: str
    main_fix: str | None
    """the first fix that belongs to the choice"""
    visits: tuple[str, ...]
    """the places they are made at, each once"""
    hands_on: float
    unattended: float
    """minutes, without those to get there"""
    parts: float
    price: float
    """what following them to their end costs, in currency"""
    destroys: int
    """how many of them destroy what is on the drive"""


class End(Struct, frozen=True):
    """What deciding for a way comes to on average: currency lost, the probability that the machine then works for good,
    that it starts, the part of the loss that is data, and the minutes to get to where its fixes are made."""

    loss: float
    works: float
    starts: float
    at_risk: float
    entries: float


def _way(model: Model, state: TicketState, fixes: tuple[str, ...]) -> FixSequence:
    def make() -> FixSequence:
        acts = [model.knowledge.fixes[name] for name in fixes]
        choice = max((f.call for f in acts), key=lambda c: WEIGHT[c], default="release")
        return FixSequence(
            fixes,
            choice,
            next((f.id for f in acts if f.call == choice), None),
            tuple(dict.fromkeys(f.visit for f in acts if f.visit)),
            sum(f.minutes + f.cured_minutes for f in acts),
            sum(f.unattended for f in acts),
            sum(f.parts + f.cured_parts for f in acts),
            sum(model.final(f.id, state.how).price for f in acts),
            sum(f.destroys for f in acts),
        )

    return model.keep(("way", fixes, tuple(map(state.how.get, fixes))), make)


def ends_of(model: Model, state: TicketState, ways: Sequence[FixSequence]) -> list[End]:
    """The end of every way, in their order."""
    rates, worth = model.knowledge.rates, worth_of(model, state)
    afterwards = rates["failed_try"] + model.space.member @ _cures(model, state, worth)[0]
    weights = np.array([state.belief, state.belief * afterwards]).T
    total, failing = weights.sum(axis=0).tolist()
    places = {
        visit: visit_minutes(model.knowledge, state, visit)
        for visit in dict.fromkeys(v for way in ways for v in way.visits)
    }
    ends = []
    for way, shares in zip(ways, _weighed(model, state.how, ways, weights), strict=True):
        (works, saved), (starts, _), (kept, _) = shares
        at_risk = (total - kept) * worth
        entries = sum(places[visit] for visit in way.visits)
        paid = entries * rates["bench_minute"] + way.price + way.destroys * worth
        ends.append(End(paid + failing - saved + at_risk, works, starts, at_risk, entries))
    return ends


def _weighed(model: Model, how: How, ways: Sequence[FixSequence], weights: Floats) -> list[list[list[float]]]:
    """`_shares` of every way times `weights`. Single fixes of which no case of their own holds are weighed in one
    product."""
    alone: dict[tuple[str, ...], int] = {(): 0, **{(name,): place for place, name in enumerate(model.deeds.fix_ids, 1)}}
    plain = [w.fixes in alone and not (w.fixes and w.fixes[0] in how) for w in ways]
    plain = plain if sum(plain) >= _MANY else [False] * len(ways)
    stacked: list[list[list[float]]] = []
    if any(plain):
        shares = model.keep(
            "shares of single fixes", lambda: np.concatenate([_shares(model, fixes, {}) for fixes in alone])
        )
        stacked = (shares @ weights).reshape(len(alone), 3, 2).tolist()
    return [
        stacked[alone[w.fixes]]
        if one
        else (
            model.keep(("shares", w.fixes, tuple(map(how.get, w.fixes))), partial(_shares, model, w.fixes, how))
            @ weights
        ).tolist()
        for w, one in zip(ways, plain, strict=True)
    ]


def _shares(model: Model, way: tuple[str, ...], how: How) -> Floats:
    """Shape (3, n): the probability that a machine works for good once the way was gone, that it starts, and that its
    data is kept."""
    space = model.space
    fails, kept = np.ones(len(space.fault_ids)), np.ones(len(space.fault_ids))
    for name in way:
        final = model.final(name, how)
        fails = fails * (1.0 - final.gone)
        kept = np.minimum(kept, 1.0 - final.lost)
    chances = np.array([1.0 - fails, 1.0 - fails * (1.0 - model.start.passes[space.add[0]]), kept])
    one = np.concatenate([chances, np.ones((3, 1))], axis=1)  # where a hypothesis has fewer faults, -1 finds a one
    return np.asarray(np.multiply.reduce([one[:, column] for column in space.order.T]))


def worth_of(model: Model, state: TicketState) -> float:
    safe = state.facts.get("data") in SAFE_DATA
    return 0.0 if safe else data_worth(model.knowledge, state.facts)


def _cures(model: Model, state: TicketState, worth: float) -> tuple[Floats, list[str | None]]:
    """For every fault: what its best cure costs once the fault is known, lost data included, and which fix it is."""
    usable = tuple(f for f in _usable(model, state) if not against_their_word(state, model.knowledge.fixes[f]))
    return model.keep(
        ("cures", usable, tuple(sorted(state.how.items())), worth), lambda: _best_cures(model, usable, state.how, worth)
    )


def _best_cures(model: Model, names: Sequence[str], how: How, worth: float) -> tuple[Floats, list[str | None]]:
    knowledge = model.knowledge
    usable = [knowledge.fixes[name] for name in names]
    nothing = knowledge.rates["board_unknown"] + worth
    curable = np.zeros(len(model.space.fault_ids), dtype=bool)
    costs = np.full((len(usable) + 1, len(model.space.fault_ids)), nothing)
    for row, fix in enumerate(usable):
        final = model.final(fix.id, how)
        cost = (
            final.price / np.maximum(final.gone, 1e-9)
            + final.lost * worth
            + (1.0 - final.gone) * knowledge.rates["failed_try"]
        )
        costs[row] = np.where(final.gone >= _CURES, cost, np.inf)
        curable |= final.gone >= _CURES
    # however dear its cure is, what the bench can cure is not sent away for that
    costs[-1] = np.where(curable, np.inf, nothing)
    best = costs.argmin(axis=0)
    return costs.min(axis=0), [usable[i].id if i < len(usable) else None for i in best]


def _usable(model: Model, state: TicketState) -> tuple[str, ...]:
    key = ("usable", state.applicable, state.tried)
    return model.keep(
        key, lambda: tuple(name for name in model.deeds.fix_ids if name in state.applicable and name not in state.tried)
    )


def option_of(
    model: Model, state: TicketState, way: FixSequence, end: End, loss: float, held: tuple[str, ...]
) -> Option:
    """The way with what it comes to on this ticket; `loss`: what deciding for it costs on average."""
    hands_on = way.hands_on + end.entries
    return Option(
        way.choice,
        way.fixes,
        end.works,
        hands_on + way.unattended,
        hands_on,
        hands_on * model.knowledge.rates["bench_minute"] + way.parts,
        _data_outcome(model, state, way),
        loss,
        held,
        end.starts,
        way.parts,
        way.main_fix,
    )


def _data_outcome(model: Model, state: TicketState, way: FixSequence) -> str:
    if "refer-lab" in way.fixes:
        return "lab"
    if way.destroys:
        return "backed-up" if state.facts.get("data") == "backed-up" else "lost"
    if "replace-drive" in way.fixes:
        return "backed-up" if state.facts.get("data") == "backed-up" else "stays-on-old"
    return "kept" if any(model.knowledge.fixes[f].writes for f in way.fixes) else "untouched"


def balance_of(model: Model, state: TicketState) -> dict[str, float]:
    """For each choice, the probability that it is the one a person who knew the faults would make.

    Every fault asks for the choice of its best cure, and a machine for the weightiest its faults ask for. Held moves
    count too: what is right does not depend on what has to come first. What nothing cures goes to others.
    """
    shares = np.bincount(right_choices(model, state), state.belief, minlength=len(CHOICES))
    return {choice: float(shares[WEIGHT[choice]]) for choice in CHOICES}


def right_choices(model: Model, state: TicketState) -> Ints:
    """Shape (n,): index into CHOICES of the right call for each hypothesis, as `balance_of` explains."""
    best = tuple(_cures(model, state, worth_of(model, state))[1])
    return model.keep(("right", best), lambda: _weightiest(model, best))


def _weightiest(model: Model, best: Sequence[str | None]) -> Ints:
    asks = np.array([WEIGHT[model.knowledge.fixes[f].call if f else "refer"] for f in best])
    return np.asarray((model.space.member * asks).max(axis=1).astype(np.intp))
