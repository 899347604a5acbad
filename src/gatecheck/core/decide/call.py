"""The call: repair, reinstall, replace, refer or release.

Expected loss over the belief ranks the ways out; rules of the trade stand above the numbers; the call is *made* only
when no check that is left is worth its cost, or a rule settles it. A held fix is never named as `fix`: the choice may
stand, but what to do first is whatever releases it.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from functools import partial

import numpy as np
from msgspec import Struct

from gatecheck.core.belief.model import How, Model
from gatecheck.core.belief.space import Floats, Ints
from gatecheck.core.decide.again import HEAVY, Slip, look_again
from gatecheck.core.decide.costs import SAFE_DATA, data_worth, entry_minutes, is_data_safe
from gatecheck.core.decide.interlocks import Held
from gatecheck.core.decide.plan import (
    BARRING,
    DRIVE_FAULTS,
    SOFTWARE_GATES,
    Plan,
    against_their_word,
    drive_failing,
    is_legal,
    looks_due,
    seen_once,
    unmet_need,
)
from gatecheck.core.decide.rules import Rule, data_is_open, may_sit_loose, probability, settled_by
from gatecheck.core.knowledge.tables import Fix
from gatecheck.core.tape.fold import TicketState
from gatecheck.core.words.said import Said, say

CHOICES = ("release", "repair", "reinstall", "replace", "refer")
_WEIGHT = {choice: rank for rank, choice in enumerate(CHOICES)}
_VIABLE = 0.5
"""a way out is weighed for the call when it works at least this share as often as the surest one"""
_LOOKS_FIRST = "hardware-passed"
"""the one rule that may stand while a look is still due: a volume that was never checked may be all there is to repair"""
_SHOWN = 0.05
"""and is listed at all from this share on"""
_CURES = 0.5
"""a fix counts as a cure for a fault from this probability on"""
_OPTION_ABOVE = 0.02
"""a fix is a way out when something it cures is at least this likely"""
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


class Call(Struct, frozen=True):
    """`choice` is None while nothing is decided; `leans` says where it stands. `balance` sums to one over the choices."""

    choice: str | None
    option: Option | None
    confidence: float
    options: tuple[Option, ...]
    balance: Mapping[str, float]
    leans: str
    why: Said
    rule: str | None
    note: Said | None
    due: tuple[str, ...]
    """checks that come before the fix it leans to"""
    again: Slip | None = None
    """the one reading that a heavy verdict rests on, and that may have been misread"""


def make_call(model: Model, state: TicketState, held: Sequence[Held], plan: Plan) -> Call:
    """Weigh all ways out and decide, if it can be decided."""
    ways = _ways_out(model, state)
    locks: dict[str, list[str]] = {}
    for item in held:
        locks.setdefault(item.move, []).append(item.interlock)
    p_drive = drive_failing(model, state)
    open_ways = []
    for way in ways:
        held_here = tuple(dict.fromkeys(lock for fix in way for lock in locks.get(fix, [])))
        if any(lock in BARRING for lock in held_here):
            continue
        if way and unmet_need(model, state, model.knowledge.fixes[way[0]]):
            continue
        if "refer-lab" not in way and any(against_their_word(state, model.knowledge.fixes[f]) for f in way):
            continue
        if _software_only(model, way) and p_drive >= model.knowledge.plan["software_stop"]:
            continue
        open_ways.append((way, held_here))
    ends = _ends(model, state, [way for way, _ in open_ways])
    balance = _balance(model, state)
    best_chance = max((end.works for end in ends), default=0.0)
    # a way out that hardly ever works only puts the decision off, however cheap it is
    options = [
        _option(model, state, way, _ahead(plan, way, end.loss, end.at_risk), end.works, end.starts, held_here)
        for (way, held_here), end in zip(open_ways, ends, strict=True) if end.works >= _SHOWN * best_chance
    ]  # fmt: skip
    ranked = _distinct(sorted(options, key=lambda o: (o.p_success < _VIABLE * best_chance, o.expected_loss, -o.p_success)))
    rule = settled_by(model, state, p_drive)
    ranked_choice = [o for o in ranked if rule is None or (o.choice == rule.choice and rule.fix in (None, o.main_fix))]
    if rule is not None and not ranked_choice and state.facts.get("consent") == "refused":
        rule, ranked_choice = None, list(ranked)  # what the trade asks for is against the customer's word: the best of what is left
    best = ranked_choice[0] if ranked_choice else None
    if rule is None and state.booted is not None and balance["release"] >= model.knowledge.plan["made_started"] and not _left_in_it(model, state):
        best = next((o for o in ranked if o.choice == "release"), best)  # what starts is not mended further: what is left proves it
    holding = {h.move for h in held}
    main = model.knowledge.fixes[best.main_fix] if best and best.main_fix else None
    due = [*looks_due(model, state, main, holding), *seen_once(model, state, main, holding)] if main else []
    proof = _proof_due(model, state, best, p_drive, holding) if rule is None else []
    made, why = _is_made(model, state, plan, best, balance, rule, due)
    if best and len(ranked) == 1 and not due and balance[best.choice] >= model.knowledge.plan["made_alone"]:
        made, why = True, say("call.made")  # there is no other way, and no look will open one
    sure = max(balance.get(best.choice, 0.0) if best else 0.0, model.knowledge.open["rule_confidence"] if rule else 0.0)
    if made and sure < _CALLED:
        made, why = False, say("call.too-close")
    slip = _slip(model, state, best, rule, holding) if made else None
    if slip is not None:
        made, why, rule, due, proof = False, say("call.look-again", reading=[slip.move, state.latest[slip.move][1].outcome]), None, [], []
    leans = best.choice if best and made else max(balance, key=lambda c: balance[c])
    confidence = balance.get(leans, 0.0)
    if rule and rule.name != _LIFTS_NOTHING:
        confidence = max(confidence, model.knowledge.open["rule_confidence"])
    return Call(
        choice=leans if made else None,
        option=best,
        confidence=confidence,
        options=ranked,
        balance=balance,
        leans=leans,
        why=rule.why if rule else why,
        rule=rule.name if rule else None,
        note=_note(state, best),
        again=slip,
        due=(*(due if not rule or rule.name == _LOOKS_FIRST else ()), *proof),
    )


def _left_in_it(model: Model, state: TicketState) -> bool:
    """A machine that starts may still have something in it that brings it back."""
    return float(state.marginals.max()) >= model.knowledge.plan["left_in_it"]


def _slip(model: Model, state: TicketState, best: Option | None, rule: Rule | None, holding: Collection[str]) -> Slip | None:
    """The reading to look at again before a heavy verdict; none where it rests on what others said already."""
    if best is None or best.choice not in HEAVY:
        return None
    if rule is not None and (rule.name in _SAID_ELSEWHERE or (rule.name in _HEARD and not is_data_safe(state.facts))):
        return None
    if best.choice == "release":
        return look_again(model, state, best.choice, right_choices(model, state), _WEIGHT[best.choice], model.knowledge.rates["comeback"], holding)
    harm = best.cost + model.knowledge.rates["failed_try"] + (_worth(model, state) if best.data_outcome == "lost" else 0.0)
    return look_again(model, state, best.choice, right_choices(model, state), _WEIGHT[best.choice], harm, holding)


_LIFTS_NOTHING = "hardware-passed"
"""a rule of thumb that says what to do and not how surely it helps: right in 68 of 100 where it was made at 78 %"""
_CALLED = 0.5
"""what is less likely right than wrong is no call"""
_SAID_ELSEWHERE, _HEARD = ("sent-away", "refer-before-stress"), ("mechanical-damage",)
"""rules whose reading is not doubted; and those whose reading costs too much to make again while there is something to lose"""
_SECOND_OPINION = ("seen-setup", "short-test", "health-pages", "builtin-quick", "error-log")


def _proof_due(model: Model, state: TicketState, best: Option | None, p_drive: float, holding: Collection[str]) -> list[str]:
    """What proves a call that may be made already: a second cold start, or a second opinion on a drive."""
    if best is None:
        return []
    if best.choice == "release":
        return [*(["screen"] if _started_once(state) else []), *(["clock"] if _clock_due(model, state, holding) else [])]
    if best.choice != "replace" or p_drive >= model.knowledge.plan["sure_of_the_drive"]:
        return []
    seen = any("detection" in c.opens.get(r.outcome or "", ()) for _, r in state.readings for c in [model.knowledge.checks.get(r.move)] if c)
    opinions = [c for c in _SECOND_OPINION[seen:] if c not in state.current and is_legal(model, state, model.knowledge.checks[c], holding)]
    return opinions[:1]


def _started_once(state: TicketState) -> bool:
    """The machine started after a fix and was not started again; an installation has restarted it often enough."""
    if state.booted is None or "screen" in state.current:
        return False
    return dict(state.readings)[state.booted].move not in ("replace-drive", "reinstall", "reset-clean", "reset-keep")


def _clock_due(model: Model, state: TicketState, holding: Collection[str]) -> bool:
    """A clock that still falls back brings the machine back: read it where the battery is new or may be flat."""
    last = state.last("replace-battery")
    fresh = last is not None and last.outcome != "could-not"
    doubtful = fresh or probability(model, state, "battery.flat") >= model.knowledge.plan["proven_clock"]
    return doubtful and "clock" not in state.current and is_legal(model, state, model.knowledge.checks["clock"], holding)


def _ahead(plan: Plan, way: Sequence[str], otherwise: float, data: float) -> float:
    """What the way costs on average, what follows when it fails included; as the plan has it where the plan weighs it, and
    beside that the data that deciding for it leaves behind."""
    if not way:
        return plan.waiting - plan.releasing
    known = [plan.acting[fix] for fix in way if fix in plan.acting]
    return plan.waiting - max(known) + data if known else otherwise


def _distinct(options: Sequence[Option]) -> tuple[Option, ...]:
    """The best option for each choice and main fix, in order."""
    first: dict[tuple[str, str | None], Option] = {}
    for option in options:
        first.setdefault((option.choice, option.main_fix), option)
    return tuple(first.values())


def _software_only(model: Model, way: Sequence[str]) -> bool:
    """True for a way out that touches only what is on the drive: it cannot mend a failing one."""
    fixes = model.knowledge.fixes
    return bool(way) and all(fixes[f].gate in SOFTWARE_GATES for f in way)


def _ways_out(model: Model, state: TicketState) -> list[tuple[str, ...]]:
    """Release, every applicable untried fix, and the sets of fixes that the likeliest several-fault hypotheses need."""
    usable = [model.knowledge.fixes[name] for name in _usable(model, state)]
    may_start = state.booted is not None or "screen" not in state.current
    ways: dict[tuple[str, ...], None] = {(): None} if may_start else {}
    ways |= {(name,): None for name in helping_fixes(model, state)}
    marginals = state.marginals
    likeliest = np.argpartition(-state.belief, min(_COMBINE_TOP, len(state.belief) - 1))[:_COMBINE_TOP]
    likely = frozenset(np.flatnonzero(marginals >= _COMBINE_ABOVE).tolist())
    for order in model.space.order[likeliest[np.argsort(-state.belief[likeliest], kind="stable")]].tolist() if len(likely) > 1 else ():
        faults = [i for i in order if i >= 0]
        if len(faults) > 1 and likely.issuperset(faults):
            way = _cover(model, state, usable, [model.space.fault_ids[i] for i in faults])
            if way:
                ways[way] = None
    return list(ways)


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
        ((f.minutes + f.parts + f.burden + entry_minutes(model.knowledge, state, f)) / f.cures[fault] + f.cured_minutes + f.cured_parts, f.id)
        for f in usable
        if f.cures.get(fault, 0.0) >= 0.3
    ]
    return min(ways)[1] if ways else None


class _End(Struct, frozen=True):
    """What deciding for a way comes to on average: currency lost, the probability that the machine then works for good,
    that it starts, and the part of the loss that is data."""

    loss: float
    works: float
    starts: float
    at_risk: float


def _ends(model: Model, state: TicketState, ways: Sequence[tuple[str, ...]]) -> list[_End]:
    """The end of every way, in their order."""
    knowledge, worth = model.knowledge, _worth(model, state)
    afterwards = knowledge.rates["failed_try"] + model.space.member @ _cures(model, state, worth)[0]
    weights = np.array([state.belief, state.belief * afterwards]).T
    total, failing = weights.sum(axis=0).tolist()
    ends = []
    for way in ways:
        fixes = [knowledge.fixes[name] for name in way]
        paid = _entries(model, state, fixes) * knowledge.rates["bench_minute"]
        paid += sum(model.final(f.id, state.how).price + (worth if f.destroys else 0.0) for f in fixes)
        shares = model.keep(("shares", way, tuple(state.how.get(f) for f in way)), partial(_shares, model, way, state.how)) @ weights
        (works, saved), (starts, _), (kept, _) = shares.tolist()
        at_risk = (total - kept) * worth
        ends.append(_End(paid + failing - saved + at_risk, works, starts, at_risk))
    return ends


def _entries(model: Model, state: TicketState, fixes: Sequence[Fix]) -> float:
    """Hands-on minutes to get to all the places where these fixes are made, each entered once."""
    return sum({f.visit: entry_minutes(model.knowledge, state, f) for f in fixes}.values())


def _shares(model: Model, way: tuple[str, ...], how: How) -> Floats:
    """Shape (3, n): the probability that a machine works for good once the way was gone, that it starts, and that its data
    is kept."""
    space = model.space
    fails, kept = np.ones(len(space.fault_ids)), np.ones(len(space.fault_ids))
    for name in way:
        final = model.final(name, how)
        fails = fails * (1.0 - final.gone)
        kept = np.minimum(kept, 1.0 - final.lost)
    chances = np.array([1.0 - fails, 1.0 - fails * (1.0 - model.start.passes[space.add[0]]), kept])
    one = np.concatenate([chances, np.ones((3, 1))], axis=1)  # where a hypothesis has fewer faults, -1 finds a one
    return np.asarray(np.multiply.reduce([one[:, column] for column in space.order.T]))


def _worth(model: Model, state: TicketState) -> float:
    safe = state.facts.get("data") in SAFE_DATA
    return 0.0 if safe else data_worth(model.knowledge, state.facts)


def _cures(model: Model, state: TicketState, worth: float) -> tuple[Floats, list[str | None]]:
    """For every fault: what its best cure costs once the fault is known, lost data included, and which fix it is."""
    usable = tuple(f for f in _usable(model, state) if not against_their_word(state, model.knowledge.fixes[f]))
    return model.keep(("cures", usable, tuple(sorted(state.how.items())), worth), lambda: _best_cures(model, usable, state.how, worth))


def _best_cures(model: Model, names: Sequence[str], how: How, worth: float) -> tuple[Floats, list[str | None]]:
    knowledge = model.knowledge
    usable = [knowledge.fixes[name] for name in names]
    nothing = knowledge.rates["board_unknown"] + worth
    curable = np.zeros(len(model.space.fault_ids), dtype=bool)
    costs = np.full((len(usable) + 1, len(model.space.fault_ids)), nothing)
    for row, fix in enumerate(usable):
        final = model.final(fix.id, how)
        cost = final.price / np.maximum(final.gone, 1e-9) + final.lost * worth + (1.0 - final.gone) * knowledge.rates["failed_try"]
        costs[row] = np.where(final.gone >= _CURES, cost, np.inf)
        curable |= final.gone >= _CURES
    costs[-1] = np.where(curable, np.inf, nothing)  # however dear its cure is, what the bench can cure is not sent away for that
    best = costs.argmin(axis=0)
    return costs.min(axis=0), [usable[i].id if i < len(usable) else None for i in best]


def _usable(model: Model, state: TicketState) -> tuple[str, ...]:
    key = ("usable", state.applicable, state.tried)
    return model.keep(key, lambda: tuple(name for name in model.deeds.fix_ids if name in state.applicable and name not in state.tried))


def _option(
    model: Model, state: TicketState, way: tuple[str, ...], loss: float, p: float, starts: float, held: tuple[str, ...]
) -> Option:
    knowledge = model.knowledge
    fixes = [knowledge.fixes[f] for f in way]
    choice = _choice_of(fixes)
    hands_on = sum(f.minutes + f.cured_minutes for f in fixes) + _entries(model, state, fixes)
    return Option(
        choice, way, p, hands_on + sum(f.unattended for f in fixes), hands_on,
        hands_on * knowledge.rates["bench_minute"] + sum(f.parts + f.cured_parts for f in fixes),
        _data_outcome(state, way, fixes), loss, held, starts, sum(f.parts + f.cured_parts for f in fixes),
        next((f.id for f in fixes if f.call == choice), None),
    )  # fmt: skip


def _data_outcome(state: TicketState, way: Sequence[str], fixes: Sequence[Fix]) -> str:
    if "refer-lab" in way:
        return "lab"
    if any(f.destroys for f in fixes):
        return "backed-up" if state.facts.get("data") == "backed-up" else "lost"
    if "replace-drive" in way:
        return "backed-up" if state.facts.get("data") == "backed-up" else "stays-on-old"
    return "kept" if any(f.writes for f in fixes) else "untouched"


def _balance(model: Model, state: TicketState) -> dict[str, float]:
    """For each choice, the probability that it is the one a person who knew the faults would make.

    Every fault asks for the choice of its best cure, and a machine for the weightiest its faults ask for. Held moves
    count too: what is right does not depend on what has to come first. What nothing cures goes to others.
    """
    shares = np.bincount(right_choices(model, state), state.belief, minlength=len(CHOICES))
    return {choice: float(shares[_WEIGHT[choice]]) for choice in CHOICES}


def right_choices(model: Model, state: TicketState) -> Ints:
    """Shape (n,): index into CHOICES of the right call for each hypothesis, as `_balance` explains."""
    best = tuple(_cures(model, state, _worth(model, state))[1])
    return model.keep(("right", best), lambda: _weightiest(model, best))


def _weightiest(model: Model, best: Sequence[str | None]) -> Ints:
    asks = np.array([_WEIGHT[model.knowledge.fixes[f].call if f else "refer"] for f in best])
    return np.asarray((model.space.member * asks).max(axis=1).astype(np.intp))


def _choice_of(fixes: Sequence[Fix]) -> str:
    return max((f.call for f in fixes), key=lambda c: _WEIGHT[c], default="release")


def _is_made(
    model: Model,
    state: TicketState,
    plan: Plan,
    best: Option | None,
    balance: Mapping[str, float],
    rule: Rule | None,
    due: Sequence[str],
) -> tuple[bool, Said]:
    if best is None:
        return False, say("call.all-held")
    if rule:
        return True, rule.why
    limits = model.knowledge.plan
    confidence = balance[best.choice]
    verdict = best.choice == "release" or (best.main_fix is not None and model.knowledge.fixes[best.main_fix].verdict)
    if best.choice == "release" and state.booted is not None and confidence >= limits["made_started"] and not _left_in_it(model, state):
        return True, say("call.started")
    rivals = [m for m in plan.ranked if m.kind == "check" or (verdict and not model.knowledge.fixes[m.move].verdict)]
    rival = max(rivals, key=lambda m: m.net, default=None)
    if due:
        return False, say("call.comes-before", move=due[0])
    acting = plan.releasing if best.choice == "release" else max(plan.acting.get(f, -np.inf) for f in best.fixes)
    if best.choice == "release" and confidence >= limits["surely_release"]:
        return True, say("call.surely-release")
    if rival and rival.net > acting + limits["made_margin"]:
        return False, say("call.rival", move=rival.move)
    if data_is_open(model, state) and best.choice in ("replace", "reinstall", "refer"):
        return False, say("call.ask-data")
    if best.choice in ("replace", "refer") and best.main_fix != "board-work" and may_sit_loose(model, state):
        return False, say("call.reseat-first")
    unsure = confidence < limits["made_confidence"] or best.p_success < limits["made_success"]
    worth = any(m.net > 0 for m in plan.ranked if m.kind == "check" or not model.knowledge.fixes[m.move].verdict)
    if best.choice == "release" and confidence < limits["made_release"] and worth:
        return False, say("call.may-come-back")
    if unsure and worth:
        return False, say("call.too-close")
    return True, say("call.made")


def _note(state: TicketState, best: Option | None) -> Said | None:
    """What the customer has to be told beside the call."""
    if best and best.choice == "replace" and state.facts.get("data") == "irreplaceable" and not is_data_safe(state.facts):
        return say("call.keep-old-drive")
    value = state.facts.get("machine_value")
    if best and isinstance(value, int | float) and not isinstance(value, bool) and best.cost > value:
        return say("call.dearer-than-machine", cost=best.cost, worth=value)
    return None
