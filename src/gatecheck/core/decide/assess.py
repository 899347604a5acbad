"""Everything the engine has to say about a folded ticket, in one value."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence

import numpy as np
from msgspec import Struct

from gatecheck.core.belief.model import Model
from gatecheck.core.decide.call import Call, make_call
from gatecheck.core.decide.costs import is_data_safe
from gatecheck.core.decide.gates import GateState, gate_states
from gatecheck.core.decide.interlocks import Held, held_moves
from gatecheck.core.decide.plan import MovePlan, NextMove, describe, make_plan, seen_once, unmet_need, why_of
from gatecheck.core.decide.proof import clock_is_wrong
from gatecheck.core.decide.recheck import doubtful
from gatecheck.core.tape.fold import TicketState
from gatecheck.core.words.said import Said, say

SOUND = "sound"
_NOTHING = 0.005
"""worth, in bench minutes, that is nothing at all"""
_BEFORE_SCREEN = {"story", "sound", "drive-marks"}


class Suspect(Struct, frozen=True):
    fault: str
    p: float


class Question(Struct, frozen=True):
    """A fact worth asking the customer, and why now."""

    fact: str
    why: Said


class Assessment(Struct, frozen=True):
    gates: tuple[GateState, ...]
    suspects: tuple[Suspect, ...]
    """descending; `sound` stands last, in its own place whatever its probability"""
    next: tuple[NextMove, ...]
    held: tuple[Held, ...]
    call: Call
    questions: tuple[Question, ...]


def assess(model: Model, state: TicketState, held: Sequence[Held] | None = None) -> Assessment:
    """Gates, suspects, next moves, held moves and the call. `held`: where that was worked out already. Pure."""
    held = held_moves(model, state) if held is None else held
    plan = make_plan(model, state, held)
    call = make_call(model, state, held, plan)
    marginals = state.marginals
    ordered = tuple(_in_order(model, state, plan, call, held))
    order = np.argsort(-marginals, kind="stable")
    suspects = [Suspect(model.space.fault_ids[i], float(marginals[i])) for i in order]
    return Assessment(
        tuple(gate_states(model, state)),
        (*suspects, Suspect(SOUND, float(state.belief[0]))),
        ordered,
        tuple(held),
        call,
        tuple(_questions(model, state, call, held, ordered[0].move if ordered else None)),
    )


def _in_order(model: Model, state: TicketState, plan: MovePlan, call: Call, held: Sequence[Held]) -> list[NextMove]:
    """What protects the data first, then what the call asks for, then the ranking; and an ear before any look but the
    first that starts a drive that may be spinning, as long as the only copy is on it."""
    moves = _ranked(model, state, plan, call, held)
    twice = _second_look(model, state, moves, call, held)
    if twice is not None:
        moves = [twice, *(m for m in moves if m.move != twice.move)]
    moves = _gentle_first(model, state, moves, plan)
    listening = next((m for m in plan.ranked if m.move == "sound"), None)
    first = model.knowledge.checks.get(moves[0].move) if moves else None
    watching = state.booted is not None or state.last("screen") is None  # who watches it start listens at the same time
    copying = bool(moves) and moves[0].move == "copy-data" and _may_fail(model, state)
    strains = copying or (
        first is not None and first.stress in ("start", "read") and not (first.id == "screen" and watching)
    )
    spins = state.facts.get("drive_kind") in (None, "unknown", "hdd")
    if listening is None or not (strains and spins) or is_data_safe(state.facts):
        return moves
    return [listening, *(m for m in moves if m.move != "sound")][: _most(model)]


def _may_fail(model: Model, state: TicketState) -> bool:
    failing = float(state.belief @ model.fault_mask("drive.media", "drive.mechanical", "drive.worn"))
    return failing >= model.knowledge.plan["copy_when_warned"]


def _gentle_first(model: Model, state: TicketState, moves: list[NextMove], plan: MovePlan) -> list[NextMove]:
    """Minutes before hours: the drive's own health before a test of its whole surface; and what is plugged in before
    setup is entered, where a stick may be in or setup is locked."""
    if not moves:
        return moves
    by_move, first, wanted = {m.move: m for m in plan.ranked}, moves[0].move, None
    proof = model.knowledge.proof
    if first in proof.surface_tests and proof.before_surface in by_move:
        wanted = proof.before_surface
    elif "pull-externals" in by_move and first != "pull-externals" and _may_be_a_stick(model, state, first):
        wanted = "pull-externals"
    if wanted is None:
        return moves
    return [by_move[wanted], *(m for m in moves if m.move != wanted)][: _most(model)]


def _may_be_a_stick(model: Model, state: TicketState, first: str) -> bool:
    entry = state.last("setup-entry")
    if entry is not None and entry.outcome == "locked" and first in model.knowledge.checks:
        return True
    in_setup = model.knowledge.move(first).visit == "setup" and state.visit != "setup"
    return in_setup and _p(model, state, "bystander.in-the-way") >= model.knowledge.offer["stick_first"]


def _second_look(
    model: Model, state: TicketState, moves: Sequence[NextMove], call: Call, held: Sequence[Held]
) -> NextMove | None:
    """What has to be seen twice before the first move, or what the call asks for, is made."""
    wanted = [
        *(m.move for m in moves[:1]),
        *([call.option.main_fix] if call.option and call.option.main_fix and call.due else []),
    ]
    for fix in wanted:
        if fix in model.knowledge.fixes:
            for check in seen_once(model, state, model.knowledge.fixes[fix], {h.move for h in held}):
                return describe(
                    model, state, check, say("next.look-twice", reading=[check, state.latest[check][1].outcome])
                )
    return None


def _most(model: Model) -> int:
    return int(model.knowledge.offer["most"])


def _link_comes_first(model: Model, state: TicketState, holding: Collection[str]) -> str | None:
    """The drive's pages say that transfers were lost: cable and contacts come before anything that judges the drive."""
    pages = state.last("health-pages")
    if pages is None or pages.outcome != "link-errors" or state.booted is not None:
        return None
    for fix in (
        ("reseat", "swap-cable")
        if _p(model, state, "link.loose") > _p(model, state, "link.broken")
        else ("swap-cable", "reseat")
    ):
        move = model.knowledge.fixes[fix]
        if (
            fix not in state.tried | state.once
            and fix not in holding
            and fix in state.applicable
            and unmet_need(model, state, move) is None
        ):
            return fix
    return None


def _p(model: Model, state: TicketState, fault: str) -> float:
    return float(state.belief @ model.fault_mask(fault))


class _Situation(Struct, frozen=True):
    """What the rules of what comes first go by. `by_move`: the ranked moves by name."""

    model: Model
    state: TicketState
    plan: MovePlan
    call: Call
    held: Sequence[Held]
    holding: Collection[str]
    by_move: Mapping[str, NextMove]

    def move(self, move: str, why: Said) -> NextMove:
        return describe(self.model, self.state, move, why)


def _suspect_reading(at: _Situation) -> Iterable[NextMove]:
    """The reading that a heavy verdict rests on alone is looked at again."""
    if at.call.again is not None:
        read = [at.call.again.move, at.state.latest[at.call.again.move][1].outcome]
        yield at.move(at.call.again.move, say("next.look-again", reading=read))


def _power_down(at: _Situation) -> Iterable[NextMove]:
    if any(h.interlock == "stop-running" for h in at.held) and not _was_asked_off(at.state):
        yield at.move("power-down", why_of("power-down", at.state))


def _pack_out(at: _Situation) -> Iterable[NextMove]:
    """A swollen battery pack comes out before anything else is done to the machine."""
    if any(h.interlock == "swollen-pack" for h in at.held) and "repair-power" in at.state.applicable:
        yield at.move("repair-power", say("next.pack-out"))


def _copy_first(at: _Situation) -> Iterable[NextMove]:
    if _copy_comes_first(at.model, at.state, at.call, at.held, not any(m.net > 0 for m in at.plan.ranked)):
        yield at.move("copy-data", why_of("copy-data", at.state))


def _unblocking(at: _Situation) -> Iterable[NextMove]:
    """What may release the fix that the call waits for."""
    option = at.call.option
    if option is not None and option.held_by and option.main_fix and _waits(at):
        for lock in option.held_by:
            for move in _releasing(at, lock, ()):
                yield at.move(move, say("next.unblocks", move=option.main_fix))


def _waits(at: _Situation) -> bool:
    """The call is made, or nothing that is worth its cost is left to be done before it."""
    return at.call.choice is not None or not any(m.net > 0 for m in at.plan.ranked)


def _releasing(at: _Situation, lock: str, seen: tuple[str, ...]) -> Iterable[str]:
    """Moves that can be made now and may release this interlock, or what holds one of those that would."""
    if lock in seen:
        return
    knowledge = at.model.knowledge
    for name in knowledge.interlocks[lock].released_by:
        move = knowledge.move(name)
        if name in at.holding:
            for own in (h.interlock for h in at.held if h.move == name):
                yield from _releasing(at, own, (*seen, lock))
        elif (
            name in at.state.applicable
            and name not in at.state.current | at.state.tried
            and unmet_need(at.model, at.state, move) is None
        ):
            yield name


def _contacts_first(at: _Situation) -> Iterable[NextMove]:
    contact = None if at.call.choice else _link_comes_first(at.model, at.state, at.holding)
    if contact:
        yield at.move(contact, say("next.link-first"))


def _looks_of_a_call(at: _Situation) -> Iterable[NextMove]:
    """What a call that is made asks to be looked at all the same."""
    if at.call.choice:
        for move in dict.fromkeys(at.call.due):
            yield at.by_move[move] if move in at.by_move else at.move(move, say("next.proves", move=move))


def _fixes_of_a_call(at: _Situation) -> Iterable[NextMove]:
    if at.call.choice and at.call.option:
        for fix in at.call.option.fixes:
            is_open = fix not in at.holding and fix not in at.state.tried
            if is_open and unmet_need(at.model, at.state, at.model.knowledge.fixes[fix]) is None:
                yield at.move(fix, _reason(at.model, at.state, fix, at.call))


def _clock_first(at: _Situation) -> Iterable[NextMove]:
    """Nothing goes back with a clock that was last read wrong."""
    fix = clock_is_wrong(at.model, at.state, at.holding) if at.state.booted is not None else None
    if fix is not None:
        yield at.by_move.get(fix) or at.move(fix, why_of(fix, at.state))


def _other_screen(at: _Situation) -> Iterable[NextMove]:
    """It now stops at another screen: which one is asked at once."""
    last = at.state.readings[-1][1] if at.state.readings else None
    if last is not None and last.outcome == "other-screen" and "screen" in at.by_move:
        yield at.by_move["screen"]


def _watch_it_fail(at: _Situation) -> Iterable[NextMove]:
    """Once, before anything is opened or started."""
    if "screen" in at.by_move and not {r.move for _, r in at.state.readings} - _BEFORE_SCREEN:
        yield at.by_move["screen"]


def _looks_before_a_call(at: _Situation) -> Iterable[NextMove]:
    """What is due before the call that it leans to firmly."""
    if not at.call.choice and at.call.confidence >= at.model.knowledge.offer["leans_firmly"]:
        yield from (at.by_move[c] for c in at.call.due if c in at.by_move)


def _named(call: Call) -> str | None:
    """The move that the call says comes first."""
    return str(call.why.values["move"]) if call.why.id in ("call.rival", "call.comes-before") else None


_FIRST: Sequence[Callable[[_Situation], Iterable[NextMove]]] = (
    _suspect_reading,
    _pack_out,
    _power_down,
    _copy_first,
    _unblocking,
    _other_screen,
    _contacts_first,
    _clock_first,
    _looks_of_a_call,
    _fixes_of_a_call,
    _watch_it_fail,
    _looks_before_a_call,
)
"""the rules of what comes before the ranking, in their order"""


def _ranked(model: Model, state: TicketState, plan: MovePlan, call: Call, held: Sequence[Held]) -> list[NextMove]:
    """What the rules put first, then what is worth its cost."""
    offer, holding = model.knowledge.offer, {h.move for h in held}
    at = _Situation(model, state, plan, call, held, holding, {m.move: m for m in plan.ranked})
    first = [m for m in {m.move: m for rule in _FIRST for m in rule(at)}.values() if m.move not in holding]
    put_first = {m.move for m in first}
    offered = [m for m in plan.ranked if m.move not in put_first and not _is_verdict(model, m.move)]
    worth = [m for m in offered if m.net >= -_NOTHING]
    if call.choice:
        most = max(len(first), int(offer["most_after_call"]))
        found = [*first, *(m for m in worth if m.kind == "check" and m.net > _NOTHING)][:most]
        return found if found or call.choice == "release" else _meanwhile(at, offered)
    if not worth and not first:
        worth = [at.move(m.move, m.why) for m in offered[:1] or plan.ranked[:1]]  # the least bad: no worth is claimed
    found = [*first, *_fix_among_first(model, worth)][: _most(model)]
    named = _named(call)
    if named is not None and named in at.by_move and all(m.move != named for m in found):
        found = [*found[: _most(model) - 1], at.move(named, at.by_move[named].why)]
    return found or _last_resort(model, state, call, holding)


def _meanwhile(at: _Situation, offered: Sequence[NextMove]) -> list[NextMove]:
    """The call is made and what it asks for is blocked by something that no move releases: the customer has to be
    asked, or a change to be put back. Until then: the reading likeliest to be a slip, the best look that is left, or
    how it starts now."""
    again = doubtful(at.model, at.state, at.holding)
    if again is not None:
        return [at.move(again, say("next.look-again", reading=[again, at.state.latest[again][1].outcome]))]
    looks = [m for m in offered if m.kind == "check"][:1]
    return [at.move(m.move, m.why) for m in looks] or [at.move("screen", why_of("screen", at.state))]


def _fix_among_first(model: Model, worth: list[NextMove]) -> list[NextMove]:
    """Checks are ranked by what they may save, a fix by what it saves for sure: the best fix stands among the first
    where little is between them."""
    offer = model.knowledge.offer
    among = int(offer["fix_among"])
    place = next((i for i, m in enumerate(worth) if m.kind == "fix"), None)
    if (
        place is None
        or place < among
        or worth[0].net - worth[place].net > offer["fix_close"] * model.knowledge.rates["bench_minute"]
    ):
        return worth
    others = [m for m in worth if m is not worth[place]]
    return [*others[: among - 1], worth[place], *others[among - 1 :]]


def _last_resort(model: Model, state: TicketState, call: Call, holding: Collection[str]) -> list[NextMove]:
    """Nothing new is left to look at and there is no call: a light fix it leans to; else the reading most likely to be
    a slip, looked at again; else the heavy one it leans to; and where that is nothing, others have to look."""
    fixes = call.option.fixes if call.option else ()
    found = [
        describe(model, state, f, _reason(model, state, f, call))
        for f in fixes
        if f not in holding and unmet_need(model, state, model.knowledge.fixes[f]) is None
    ]
    if found and not any(_is_verdict(model, m.move) for m in found):
        return found
    again = doubtful(model, state, holding)
    if again is not None:
        return [describe(model, state, again, say("next.look-again", reading=[again, state.latest[again][1].outcome]))]
    return (
        found
        if found or "board-work" in state.tried
        else [describe(model, state, "board-work", why_of("board-work", state))]
    )


def _reason(model: Model, state: TicketState, fix: str, call: Call) -> Said:
    """Why the call asks for this fix: the rule that settled it, or the likeliest fault it cures."""
    if call.rule:
        return call.why
    move = model.knowledge.fixes[fix]
    marginals = {f: float(state.belief @ model.fault_mask(f)) for f in (*move.cures, *move.resolves)}
    if not marginals:
        return why_of(fix, state)
    likeliest = max(marginals, key=lambda f: marginals[f])
    return say("next.likely", why=why_of(fix, state), fault=likeliest, p=marginals[likeliest])


def _is_verdict(model: Model, move: str) -> bool:
    fix = model.knowledge.fixes.get(move)
    return fix is not None and fix.verdict


def _was_asked_off(state: TicketState) -> bool:
    return state.last("power-down") is not None  # left on is an answer too: it is not asked again


def _copy_comes_first(model: Model, state: TicketState, call: Call, held: Sequence[Held], spent: bool) -> bool:
    """The data is not safe, can be reached, and either the drive may be failing or the way out writes. `spent`: no
    other move is worth its cost."""
    copying, limits = model.knowledge.fixes["copy-data"], model.knowledge.plan
    if is_data_safe(state.facts) or any(h.move == "copy-data" for h in held) or "copy-data" in state.tried:
        return False
    if unmet_need(model, state, copying) or state.reached["unseen"] < model.knowledge.offer["drive_reached"]:
        return False
    failing = float(state.belief @ model.fault_mask(*["drive.media", "drive.mechanical", "drive.worn"]))
    warned = any(h.interlock == "copy-first" and h.entries for h in held) or failing >= limits["copy_unwarned"]
    waits = call.option is not None and (call.choice is not None or spent) and "data-unprotected" in call.option.held_by
    replaces = call.choice == "replace"
    if state.booted is not None and not (waits or replaces):
        return False
    return (
        (warned and failing >= limits["copy_when_warned"] and _was_seen(model, state))
        or waits
        or (replaces and _was_seen(model, state))
    )


def _was_seen(model: Model, state: TicketState) -> bool:
    """A reading showed the drive: it makes sense to think of copying."""
    for _, reading in state.readings:
        check = model.knowledge.checks.get(reading.move)
        if check and reading.outcome and "detection" in check.opens.get(reading.outcome, ()):
            return True
    return False


def _may_be_encrypted(model: Model, state: TicketState) -> bool:
    """A recent system, and nothing showed that its volume can be read without a key."""
    if state.facts.get("installed_os") not in model.knowledge.proof.locked_systems:
        return False
    look = state.last("volume-look")
    return look is None or look.outcome in ("unreadable", "locked")


def _questions(model: Model, state: TicketState, call: Call, held: Sequence[Held], first: str | None) -> list[Question]:
    asks = []
    locks = {h.interlock for h in held}
    if state.facts.get("data") in (None, "unknown") and (
        locks & {"stop-running", "copy-first"} or _leans_on_data(call)
    ):
        asks.append(Question("data", say("ask.data")))
    elif not is_data_safe(state.facts) and state.facts.get("consent") in (None, "not-asked"):
        if call.choice == "refer":
            asks.append(Question("consent", say("ask.consent-lab")))
        elif call.choice == "replace" or ("copy-data" in state.tried and _leans_on_data(call)):
            asks.append(Question("consent", say("ask.consent-rest")))
    if "locked-volume" in locks and state.facts.get("recovery_key") in (None, "unknown"):
        asks.append(Question("recovery_key", say("ask.recovery-key")))
    elif (
        {first, call.option.main_fix if call.option else None} & model.knowledge.proof.locks_out
        and state.facts.get("recovery_key") in (None, "unknown")
        and _may_be_encrypted(model, state)
    ):
        asks.append(Question("recovery_key", say("ask.recovery-key-first")))
    entry = state.last("setup-entry")
    if entry is not None and entry.outcome == "locked" and state.facts.get("lock") in (None, "unknown"):
        asks.append(Question("lock", say("ask.lock")))
    if "mains-power" in locks and call.option and "mains-power" in call.option.held_by:
        asks.append(Question("mains", say("ask.mains")))
    return asks


def _leans_on_data(call: Call) -> bool:
    return call.option is not None and (
        "data-unprotected" in call.option.held_by or call.option.choice in ("replace", "refer")
    )
