"""The call: repair, reinstall, replace, refer or release.

Expected loss over the belief ranks the ways out; rules of the trade stand above the numbers; the call is *made* only
when no check that is left is worth its cost, or a rule settles it. A held fix is never named as `fix`: the choice may
stand, but what to do first is whatever releases it.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence

import numpy as np
from msgspec import Struct

from gatecheck.core.belief.model import Model
from gatecheck.core.decide.costs import is_data_safe
from gatecheck.core.decide.interlocks import Held
from gatecheck.core.decide.plan import (
    BARRING,
    SOFTWARE_GATES,
    MovePlan,
    against_their_word,
    drive_failing,
    is_legal,
    looks_due,
    seen_once,
    unmet_need,
)
from gatecheck.core.decide.proof import board_proof, clock_is_wrong, drive_proof, heard_once, start_proof
from gatecheck.core.decide.recheck import HEAVY, SuspectReading, doubtful, look_again
from gatecheck.core.decide.rules import Rule, applicable_rule, data_is_open, may_sit_loose, probability
from gatecheck.core.decide.ways import (
    WEIGHT,
    Option,
    balance_of,
    distinct,
    ends_of,
    option_of,
    right_choices,
    ways_out,
    worth_of,
)
from gatecheck.core.tape.fold import TicketState
from gatecheck.core.words.said import Said, say

_VIABLE = 0.5
"""a way out is weighed for the call when it works at least this share as often as the surest one"""
_LOOKS_FIRST = "hardware-passed"
"""the one rule that may stand while a look is still due: a volume that was never checked may be all there is to
repair"""
_SHOWN = 0.05
"""and is listed at all from this share on"""


class Call(Struct, frozen=True):
    """`choice` is None while nothing is decided; `leans` says where it stands. `balance` sums to one over the
    choices."""

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
    again: SuspectReading | None = None
    """the one reading that a heavy verdict rests on, and that may have been misread"""


class _Situation(Struct, frozen=True):
    """What closes a way out goes by. `p_drive`: that the drive itself fails."""

    model: Model
    state: TicketState
    p_drive: float


def _is_barred(at: _Situation, fixes: Sequence[str], locks: Sequence[str]) -> bool:
    return any(lock in BARRING for lock in locks)


def _lacks_what_it_needs(at: _Situation, fixes: Sequence[str], locks: Sequence[str]) -> bool:
    return bool(fixes and unmet_need(at.model, at.state, at.model.knowledge.fixes[fixes[0]]))


def _is_against_their_word(at: _Situation, fixes: Sequence[str], locks: Sequence[str]) -> bool:
    own = [at.model.knowledge.fixes[f] for f in fixes]
    return "refer-lab" not in fixes and any(against_their_word(at.state, fix) for fix in own)


def _mends_software_on_a_failing_drive(at: _Situation, fixes: Sequence[str], locks: Sequence[str]) -> bool:
    return at.p_drive >= at.model.knowledge.plan["software_stop"] and _software_only(at.model, fixes)


_CLOSED_BY: Sequence[Callable[[_Situation, Sequence[str], Sequence[str]], bool]] = (
    _is_barred,
    _lacks_what_it_needs,
    _is_against_their_word,
    _mends_software_on_a_failing_drive,
)
"""the rules that close a way out: its fixes, and the interlocks that hold them"""


class _Weighed(Struct, frozen=True):
    """What the rules of deciding go by. `ranked`: the ways out that are open, best first; `best`: the one that would be
    called; `due`: checks that come before its fix."""

    model: Model
    state: TicketState
    plan: MovePlan
    ranked: tuple[Option, ...]
    best: Option | None
    balance: Mapping[str, float]
    rule: Rule | None
    due: Sequence[str]
    holding: Collection[str]
    spent: bool
    """no way out is open and nothing is left to be tried"""

    @property
    def limits(self) -> Mapping[str, float]:
        return self.model.knowledge.plan


def make_call(model: Model, state: TicketState, held: Sequence[Held], plan: MovePlan) -> Call:
    """Weigh all ways out and decide, if it can be decided."""
    p_drive, holding = drive_failing(model, state), {h.move for h in held}
    balance = balance_of(model, state)
    options, best_chance = _open_options(_Situation(model, state, p_drive), held, plan)
    ranked = distinct(
        sorted(options, key=lambda o: (o.p_success < _VIABLE * best_chance, o.expected_loss, -o.p_success))
    )
    asked = applicable_rule(model, state, p_drive)
    rule, best = _best_of(model, state, ranked, balance, asked)
    main = model.knowledge.fixes[best.main_fix] if best and best.main_fix else None
    due = [*looks_due(model, state, main, holding), *seen_once(model, state, main, holding)] if main else []
    proof = _proof_due(model, state, best, p_drive, holding, rule)
    spent = best is None and _is_spent(model, state, plan, holding)
    if spent:
        rule = _without_a_way(asked)
    at = _Weighed(model, state, plan, ranked, best, balance, rule, due, holding, spent)
    made, why = next(said for decided in _DECIDED_BY if (said := decided(at)) is not None)
    slip = None
    if made and _sureness(at) < _CALLED:
        made, why = False, say("call.too-close")
    elif made and (slip := _slip(at)) is not None:
        rule, due, proof = None, [], []
        made, why = False, say("call.look-again", reading=[slip.move, state.latest[slip.move][1].outcome])
    leans = max(balance, key=lambda c: balance[c])
    if made and (best or rule):
        leans = best.choice if best else rule.choice if rule else leans
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


def _open_options(at: _Situation, held: Sequence[Held], plan: MovePlan) -> tuple[list[Option], float]:
    """What every way out that no rule closes costs and brings, and how often the surest of them works. A way out that
    hardly ever works only puts the decision off, however cheap it is."""
    model, state = at.model, at.state
    locks: dict[str, list[str]] = {}
    for item in held:
        locks.setdefault(item.move, []).append(item.interlock)
    held_of = [
        (way, tuple(dict.fromkeys(lock for fix in way.fixes for lock in locks.get(fix, []))))
        for way in ways_out(model, state)
    ]
    open_ways = [(way, here) for way, here in held_of if not any(rule(at, way.fixes, here) for rule in _CLOSED_BY)]
    ends = ends_of(model, state, [way for way, _ in open_ways])
    best_chance = max((end.works for end in ends), default=0.0)
    return [
        option_of(model, state, way, end, _ahead(plan, way.fixes, end.loss, end.at_risk), held_here)
        for (way, held_here), end in zip(open_ways, ends, strict=True)
        if end.works >= _SHOWN * best_chance
    ], best_chance


def _best_of(
    model: Model, state: TicketState, ranked: tuple[Option, ...], balance: Mapping[str, float], rule: Rule | None
) -> tuple[Rule | None, Option | None]:
    """The rule that stands, and the best of the ways out that it leaves."""
    left = [o for o in ranked if rule is None or (o.choice == rule.choice and rule.fix in (None, o.main_fix))]
    if rule is not None and not left and state.facts.get("consent") == "refused":
        # what the trade asks for is against the customer's word: the best of what is left
        rule, left = None, list(ranked)
    best = left[0] if left else None
    if rule is None and _has_started(model, state, balance):
        # what starts is not mended further: what is left proves it
        best = next((o for o in ranked if o.choice == "release"), best)
    return rule, best


def _is_spent(model: Model, state: TicketState, plan: MovePlan, holding: Collection[str]) -> bool:
    """Nothing is left to be looked at or done here, no reading is worth a second look, and the board shop was asked."""
    return not plan.ranked and "board-work" in state.tried and doubtful(model, state, holding) is None


def _without_a_way(rule: Rule | None) -> Rule:
    """What settles the call where no way out is open: the answer of whom it was sent to is waited for, or it goes back
    unrepaired."""
    return rule if rule is not None and rule.name == _SENT_AWAY else Rule("release", "nothing-left", None)


def _has_started(model: Model, state: TicketState, balance: Mapping[str, float]) -> bool:
    """True where it was started by a fix, and nothing left in it is likely to bring it back."""
    return (
        state.booted is not None
        and balance["release"] >= model.knowledge.plan["made_started"]
        and not _left_in_it(model, state)
    )


def _sureness(at: _Weighed) -> float:
    return max(
        at.balance.get(at.best.choice, 0.0) if at.best else 0.0,
        at.model.knowledge.open["rule_confidence"] if at.rule else 0.0,
    )


def _left_in_it(model: Model, state: TicketState) -> bool:
    """A machine that starts may still have something in it that brings it back."""
    return float(state.marginals.max()) >= model.knowledge.plan["left_in_it"]


def _slip(at: _Weighed) -> SuspectReading | None:
    """The reading to look at again before a heavy verdict; none where it rests on what others said already."""
    model, state, best, rule = at.model, at.state, at.best, at.rule
    if best is None or best.choice not in HEAVY:
        return None
    if rule is not None and (rule.name in _SAID_ELSEWHERE or (rule.name in _HEARD and not is_data_safe(state.facts))):
        return None
    if best.choice == "release":
        harm = model.knowledge.rates["comeback"]
    else:
        worth = worth_of(model, state) if best.data_outcome == "lost" else 0.0
        harm = best.cost + model.knowledge.rates["failed_try"] + worth
    right = right_choices(model, state)
    return look_again(model, state, best.choice, right, WEIGHT[best.choice], harm, at.holding)


_SENT_AWAY = "sent-away"
_LIFTS_NOTHING = "hardware-passed"
"""a rule of thumb that says what to do and not how surely it helps: right in 68 of 100 where it was made at 78 %"""
_CALLED = 0.5
"""what is less likely right than wrong is no call"""
_SAID_ELSEWHERE, _HEARD = (_SENT_AWAY, "refer-before-stress"), ("mechanical-damage",)
"""rules whose reading is not doubted; and those whose reading costs too much to make again while there is something to
lose"""
_PROVEN_TOO = ("failing-drive", "mechanical-damage", "refer-before-stress")
"""rules whose call is proven before it is carried out"""
_SECOND_OPINION = ("seen-setup", "short-test", "health-pages", "builtin-quick", "error-log")


def _proof_due(
    model: Model, state: TicketState, best: Option | None, p_drive: float, holding: Collection[str], rule: Rule | None
) -> list[str]:
    """What proves a call that may be made already: a second cold start, a second sign of a failing drive, what is tried
    before others are asked."""
    if best is None or (rule is not None and rule.name not in _PROVEN_TOO):
        return []
    if best.choice == "release":
        return [
            *(["screen"] if _started_once(state) else []),
            *(["clock"] if _clock_due(model, state, holding) else []),
            *start_proof(model, state, holding),
        ]
    if best.main_fix == "refer-lab" or (rule is not None and rule.name in _HEARD):
        return [move for move in [heard_once(model, state, holding)] if move]
    if best.main_fix == "board-work":
        return [move for move in [board_proof(model, state, holding)] if move]
    if best.choice != "replace":
        return []
    lasting, gone = probability(model, state, *_READABLE), probability(model, state, "drive.dead", "drive.mechanical")
    if lasting >= gone:
        return [move for move in [drive_proof(model, state, holding)] if move]
    if rule is not None or p_drive >= model.knowledge.plan["sure_of_the_drive"]:
        return []
    seen = any(
        "detection" in c.opens.get(r.outcome or "", ())
        for _, r in state.readings
        for c in [model.knowledge.checks.get(r.move)]
        if c
    )
    opinions = [
        c
        for c in _SECOND_OPINION[seen:]
        if c not in state.current and is_legal(model, state, model.knowledge.checks[c], holding)
    ]
    return opinions[:1]


_READABLE = ("drive.media", "drive.worn")
"""faults of a drive that still answers: its own tests can prove them"""


def _started_once(state: TicketState) -> bool:
    """The machine started after a fix and was not started again; an installation has restarted it often enough."""
    if state.booted is None or "screen" in state.current:
        return False
    started = [reading.move for place, reading in state.readings if reading.outcome == "boots"]
    if started[-1] in _STARTS_ANYWAY:
        return len(started) == 1 or started[-2] in _STARTS_ANYWAY
    return dict(state.readings)[state.booted].move not in ("replace-drive", "reinstall", "reset-clean", "reset-keep")


_STARTS_ANYWAY = ("replace-battery", "set-clock")
"""fixes of what let it start before: the start after them is the second one"""


def _clock_due(model: Model, state: TicketState, holding: Collection[str]) -> bool:
    """A clock that still falls back brings the machine back: read it where the battery is new or may be flat."""
    last = state.last("replace-battery")
    fresh = last is not None and last.outcome != "could-not" and "clock" in state.latest and _was_wrong(state, "clock")
    doubtful = fresh or probability(model, state, "battery.flat") >= model.knowledge.plan["proven_clock"]
    return (
        doubtful and "clock" not in state.current and is_legal(model, state, model.knowledge.checks["clock"], holding)
    )


def _was_wrong(state: TicketState, check: str) -> bool:
    """Some reading of this look was not as it should be."""
    return any(r.move == check and r.outcome != "right" for _, r in state.readings)


def _ahead(plan: MovePlan, way: Sequence[str], otherwise: float, data: float) -> float:
    """What the way costs on average, what follows when it fails included; as the plan has it where the plan weighs it,
    and beside that the data that deciding for it leaves behind."""
    if not way:
        return plan.waiting - plan.releasing
    known = [plan.acting[fix] for fix in way if fix in plan.acting]
    return plan.waiting - max(known) + data if known else otherwise


def _software_only(model: Model, way: Sequence[str]) -> bool:
    """True for a way out that touches only what is on the drive: it cannot mend a failing one."""
    fixes = model.knowledge.fixes
    return bool(way) and all(fixes[f].gate in SOFTWARE_GATES for f in way)


_Decided = tuple[bool, Said] | None


def _no_other_way(at: _Weighed) -> _Decided:
    """There is no other way, and no look will open one."""
    if at.best and len(at.ranked) == 1 and not at.due and at.balance[at.best.choice] >= at.limits["made_alone"]:
        return True, say("call.made")
    return None


def _all_held(at: _Weighed) -> _Decided:
    if at.best is not None:
        return None
    return (True, at.rule.why) if at.spent and at.rule else (False, say("call.all-held"))


def _a_rule(at: _Weighed) -> _Decided:
    return (True, at.rule.why) if at.rule else None


def _clock_comes_first(at: _Weighed) -> _Decided:
    """Nothing goes back with a clock that was last read wrong."""
    if _chosen(at).choice != "release":
        return None
    fix = clock_is_wrong(at.model, at.state, at.holding)
    return (False, say("call.clock-wrong", move=fix)) if fix else None


def _it_starts(at: _Weighed) -> _Decided:
    if _chosen(at).choice == "release" and _has_started(at.model, at.state, at.balance):
        return True, say("call.started")
    return None


def _checks_are_due(at: _Weighed) -> _Decided:
    return (False, say("call.comes-before", move=at.due[0])) if at.due else None


def _surely_release(at: _Weighed) -> _Decided:
    best = _chosen(at)
    if best.choice == "release" and at.balance[best.choice] >= at.limits["surely_release"]:
        return True, say("call.surely-release")
    return None


def _a_check_is_worth_more(at: _Weighed) -> _Decided:
    best, fixes = _chosen(at), at.model.knowledge.fixes
    verdict = best.choice == "release" or (best.main_fix is not None and fixes[best.main_fix].verdict)
    rivals = [m for m in at.plan.ranked if m.kind == "check" or (verdict and not fixes[m.move].verdict)]
    rival = max(rivals, key=lambda m: m.net, default=None)
    acting = at.plan.releasing if best.choice == "release" else max(at.plan.acting.get(f, -np.inf) for f in best.fixes)
    if rival and rival.net > acting + at.limits["made_margin"]:
        return False, say("call.rival" if rival.net > 0 else "call.comes-before", move=rival.move)
    return None


def _data_comes_first(at: _Weighed) -> _Decided:
    if data_is_open(at.model, at.state) and _chosen(at).choice in ("replace", "reinstall", "refer"):
        return False, say("call.ask-data")
    return None


def _may_sit_loose(at: _Weighed) -> _Decided:
    best = _chosen(at)
    if best.choice in ("replace", "refer") and best.main_fix != "board-work" and may_sit_loose(at.model, at.state):
        return False, say("call.reseat-first")
    return None


def _may_come_back(at: _Weighed) -> _Decided:
    best = _chosen(at)
    if best.choice == "release" and at.balance[best.choice] < at.limits["made_release"] and _is_worth_a_look(at):
        return False, say("call.may-come-back")
    return None


def _too_close(at: _Weighed) -> _Decided:
    best = _chosen(at)
    unsure = at.balance[best.choice] < at.limits["made_confidence"] or best.p_success < at.limits["made_success"]
    return (False, say("call.too-close")) if unsure and _is_worth_a_look(at) else None


def _nothing_left_to_look_at(at: _Weighed) -> _Decided:
    return True, say("call.made")


_DECIDED_BY: Sequence[Callable[[_Weighed], _Decided]] = (
    _no_other_way,
    _all_held,
    _a_rule,
    _clock_comes_first,
    _it_starts,
    _checks_are_due,
    _surely_release,
    _a_check_is_worth_more,
    _data_comes_first,
    _may_sit_loose,
    _may_come_back,
    _too_close,
    _nothing_left_to_look_at,
)
"""what makes a call or puts it off: the first that says anything counts; all after `_all_held` have a best way out"""


def _chosen(at: _Weighed) -> Option:
    assert at.best is not None, "a rule of deciding stands after the one for nothing open"
    return at.best


def _is_worth_a_look(at: _Weighed) -> bool:
    return any(m.net > 0 for m in at.plan.ranked if m.kind == "check" or not at.model.knowledge.fixes[m.move].verdict)


def _note(state: TicketState, best: Option | None) -> Said | None:
    """What the customer has to be told beside the call."""
    if (
        best
        and best.choice == "replace"
        and state.facts.get("data") == "irreplaceable"
        and not is_data_safe(state.facts)
    ):
        return say("call.keep-old-drive")
    value = state.facts.get("machine_value")
    if best and isinstance(value, int | float) and not isinstance(value, bool) and best.cost > value:
        return say("call.dearer-than-machine", cost=best.cost, worth=value)
    return None
