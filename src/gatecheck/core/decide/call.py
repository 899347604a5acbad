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
from gatecheck.core.decide.recheck import HEAVY, SuspectReading, look_again
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


def make_call(model: Model, state: TicketState, held: Sequence[Held], plan: MovePlan) -> Call:
    """Weigh all ways out and decide, if it can be decided."""
    locks: dict[str, list[str]] = {}
    for item in held:
        locks.setdefault(item.move, []).append(item.interlock)
    at = _Situation(model, state, drive_failing(model, state))
    held_of = [
        (way, tuple(dict.fromkeys(lock for fix in way.fixes for lock in locks.get(fix, []))))
        for way in ways_out(model, state)
    ]
    open_ways = [(way, here) for way, here in held_of if not any(rule(at, way.fixes, here) for rule in _CLOSED_BY)]
    ends = ends_of(model, state, [way for way, _ in open_ways])
    balance = balance_of(model, state)
    best_chance = max((end.works for end in ends), default=0.0)
    # a way out that hardly ever works only puts the decision off, however cheap it is
    options = [
        option_of(model, state, way, end, _ahead(plan, way.fixes, end.loss, end.at_risk), held_here)
        for (way, held_here), end in zip(open_ways, ends, strict=True)
        if end.works >= _SHOWN * best_chance
    ]
    ranked = distinct(
        sorted(options, key=lambda o: (o.p_success < _VIABLE * best_chance, o.expected_loss, -o.p_success))
    )
    rule = applicable_rule(model, state, at.p_drive)
    ranked_choice = [o for o in ranked if rule is None or (o.choice == rule.choice and rule.fix in (None, o.main_fix))]
    if rule is not None and not ranked_choice and state.facts.get("consent") == "refused":
        # what the trade asks for is against the customer's word: the best of what is left
        rule, ranked_choice = (None, list(ranked))
    best = ranked_choice[0] if ranked_choice else None
    if (
        rule is None
        and state.booted is not None
        and balance["release"] >= model.knowledge.plan["made_started"]
        and not _left_in_it(model, state)
    ):
        # what starts is not mended further: what is left proves it
        best = next((o for o in ranked if o.choice == "release"), best)
    holding = {h.move for h in held}
    main = model.knowledge.fixes[best.main_fix] if best and best.main_fix else None
    due = [*looks_due(model, state, main, holding), *seen_once(model, state, main, holding)] if main else []
    proof = _proof_due(model, state, best, at.p_drive, holding) if rule is None else []
    made, why = _is_made(model, state, plan, best, balance, rule, due)
    if best and len(ranked) == 1 and not due and balance[best.choice] >= model.knowledge.plan["made_alone"]:
        made, why = True, say("call.made")  # there is no other way, and no look will open one
    sure = max(balance.get(best.choice, 0.0) if best else 0.0, model.knowledge.open["rule_confidence"] if rule else 0.0)
    if made and sure < _CALLED:
        made, why = False, say("call.too-close")
    slip = _slip(model, state, best, rule, holding) if made else None
    if slip is not None:
        made, why, rule, due, proof = (
            False,
            say("call.look-again", reading=[slip.move, state.latest[slip.move][1].outcome]),
            None,
            [],
            [],
        )
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


def _slip(
    model: Model, state: TicketState, best: Option | None, rule: Rule | None, holding: Collection[str]
) -> SuspectReading | None:
    """The reading to look at again before a heavy verdict; none where it rests on what others said already."""
    if best is None or best.choice not in HEAVY:
        return None
    if rule is not None and (rule.name in _SAID_ELSEWHERE or (rule.name in _HEARD and not is_data_safe(state.facts))):
        return None
    if best.choice == "release":
        return look_again(
            model,
            state,
            best.choice,
            right_choices(model, state),
            WEIGHT[best.choice],
            model.knowledge.rates["comeback"],
            holding,
        )
    harm = (
        best.cost
        + model.knowledge.rates["failed_try"]
        + (worth_of(model, state) if best.data_outcome == "lost" else 0.0)
    )
    return look_again(model, state, best.choice, right_choices(model, state), WEIGHT[best.choice], harm, holding)


_LIFTS_NOTHING = "hardware-passed"
"""a rule of thumb that says what to do and not how surely it helps: right in 68 of 100 where it was made at 78 %"""
_CALLED = 0.5
"""what is less likely right than wrong is no call"""
_SAID_ELSEWHERE, _HEARD = ("sent-away", "refer-before-stress"), ("mechanical-damage",)
"""rules whose reading is not doubted; and those whose reading costs too much to make again while there is something to
lose"""
_SECOND_OPINION = ("seen-setup", "short-test", "health-pages", "builtin-quick", "error-log")


def _proof_due(
    model: Model, state: TicketState, best: Option | None, p_drive: float, holding: Collection[str]
) -> list[str]:
    """What proves a call that may be made already: a second cold start, or a second opinion on a drive."""
    if best is None:
        return []
    if best.choice == "release":
        return [
            *(["screen"] if _started_once(state) else []),
            *(["clock"] if _clock_due(model, state, holding) else []),
        ]
    if best.choice != "replace" or p_drive >= model.knowledge.plan["sure_of_the_drive"]:
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
    return (
        doubtful and "clock" not in state.current and is_legal(model, state, model.knowledge.checks["clock"], holding)
    )


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


def _is_made(
    model: Model,
    state: TicketState,
    plan: MovePlan,
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
    if (
        best.choice == "release"
        and state.booted is not None
        and confidence >= limits["made_started"]
        and not _left_in_it(model, state)
    ):
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
