"""The next move: every legal move ranked by what it costs plus what is left to pay after each of its outcomes."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

import numpy as np
from msgspec import Struct

from gatecheck.core.belief.model import Model
from gatecheck.core.belief.space import Floats
from gatecheck.core.decide.ahead import Prospect, look_ahead
from gatecheck.core.decide.costs import economy, entry_minutes, is_data_safe
from gatecheck.core.decide.interlocks import Held
from gatecheck.core.knowledge.tables import Check, Fix
from gatecheck.core.tape.fold import TicketState
from gatecheck.core.words.said import Said, say

BARRING = ("stop-running", "table-proves-drive")
"""interlocks that say a move is wrong on this evidence; the others only say what has to come first"""

SOFTWARE_GATES = ("layout", "loader", "system")
DRIVE_FAULTS = ("drive.dead", "drive.mechanical", "drive.media", "drive.worn")


class Outlook(Struct, frozen=True):
    """One outcome of a move: how likely it is and whom it would leave as the first suspect."""

    outcome: str
    p: float
    leaves: str
    leaves_p: float


class NextMove(Struct, frozen=True):
    """A move that can be made now. Minutes include getting there; `gain` is what it saves against acting at once and
    `cost` what it takes (bench minutes' worth), `net` their difference. `gain` is None where a rule put it first and
    nobody weighed it."""

    move: str
    kind: str
    minutes: float
    hands_on_minutes: float
    why: Said
    cost: float
    gain: float | None
    net: float
    now: Floats
    """fault probabilities now, shape (f,)"""
    chance: Floats
    """of each outcome, shape (o,); empty where the move was put first by a rule"""
    after: Floats
    """fault probabilities after each outcome, shape (o, f)"""


class MovePlan(Struct, frozen=True):
    """All legal moves, best first."""

    ranked: tuple[NextMove, ...]
    acting: Mapping[str, float]
    """net of every fix that could be the next one, held or not, with whoever the machine may be sent to"""
    releasing: float
    """net of handing the machine back as it is"""
    waiting: float
    """what is left to pay when no move is made first: what every net is measured against"""


def unmet_need(model: Model, state: TicketState, move: Check | Fix) -> str | None:
    """Why the move cannot be made on this machine as it stands, or None."""
    for name in move.needs:
        need = model.knowledge.needs[name]
        if need.visibility and state.reached[need.visibility] < need.at_least:
            return need.text
        for blocker, outcomes in need.blocked_by.items():
            if blocker in state.current and blocker != move.id and state.latest[blocker][1].outcome in outcomes:
                return need.text
    return None


def make_plan(model: Model, state: TicketState, held: Sequence[Held]) -> MovePlan:
    """Rank all legal moves by cost plus what is left to pay after each outcome.

    Every move is looked at one step ahead; the most promising ones two steps, so that a cheap fix is not put off for
    a check that could just as well follow when the fix fails.
    """
    barred = {h.move for h in held if h.interlock in BARRING}
    barred |= {f.id for f in model.knowledge.fixes.values() if against_their_word(state, f)}
    costs = economy(model, state, barred)
    holding = {h.move for h in held}
    now = state.marginals
    checks = [
        c
        for c in model.knowledge.checks.values()
        if c.id not in state.current
        and is_legal(model, state, c, holding)
        and not _was_there(model, state, c)
        and not _risks_the_copy(state, c)
    ]
    helps = now @ model.deeds.cure >= model.knowledge.plan["offer_fix_above"]
    failing = drive_failing(model, state) >= model.knowledge.plan["software_stop"]
    fixes = [
        f
        for f in map(model.knowledge.fixes.__getitem__, costs.fixes)
        if f.id in model.deeds.acts
        and helps[model.deeds.fix_ids.index(f.id)]
        and not (failing and f.gate in SOFTWARE_GATES)
        and unmet_need(model, state, f) is None
        and not looks_due(model, state, f, holding)
    ]
    away = [column for column, name in enumerate(costs.fixes) if name not in model.deeds.acts and name not in barred]
    view = look_ahead(model, state, costs, checks, fixes, away)
    ranked = [
        _next_move(model, state, p, now, view.acting_twice, p.once if p.twice is None else p.twice)
        for p in (*view.checks, *view.fixes)
    ]
    ranked.sort(key=lambda m: round(-m.net, 6))  # equals stay in the order of the tables
    acting = {m.move: m.net for m in ranked if m.kind == "fix"}
    acting |= {costs.fixes[column]: view.acting_twice - cost for column, cost in zip(away, view.away, strict=True)}
    left_in = float(costs.left_in @ now)
    return MovePlan(
        tuple(m for m in ranked if m.move not in holding), acting, view.acting_twice - left_in, view.acting_twice
    )


def against_their_word(state: TicketState, fix: Fix) -> bool:
    """The customer has refused to lose what is on the drive, and there is no copy: nothing that leaves it behind or
    destroys it is a way."""
    return (
        (fix.destroys or fix.id == "replace-drive")
        and state.facts.get("consent") == "refused"
        and not is_data_safe(state.facts)
    )


def drive_failing(model: Model, state: TicketState) -> float:
    """Probability that the drive itself is at fault, in whatever way."""
    return float(state.belief @ model.fault_mask(*DRIVE_FAULTS))


def looks_due(model: Model, state: TicketState, fix: Fix, holding: Collection[str]) -> list[str]:
    """Checks to be made before the fix: named by it, not made yet, and possible here."""
    checks, screen = model.knowledge.checks, state.last("screen")
    proof = model.knowledge.proof
    stopped = fix.writes and screen is not None and screen.outcome in proof.memory_screens
    wanted = (*fix.look_first, *(proof.memory_looks if stopped else ()))
    return [c for c in wanted if c not in state.current and is_legal(model, state, checks[c], holding)]


def seen_once(model: Model, state: TicketState, fix: Fix, holding: Collection[str]) -> list[str]:
    """Checks that have to be seen a second time before the fix, as long as nothing else says that it is needed: a
    picture that is only dark is no missing picture."""
    if (
        not fix.look_twice
        or float(state.belief @ model.fault_mask(*fix.cures)) >= model.knowledge.plan["sure_of_the_part"]
    ):
        return []
    return [
        check
        for check, outcomes in fix.look_twice.items()
        if check in state.current
        and check not in state.confirmed
        and state.latest[check][1].outcome in outcomes
        and is_legal(model, state, model.knowledge.checks[check], holding)
    ]


def is_legal(model: Model, state: TicketState, move: Check | Fix, holding: Collection[str]) -> bool:
    """True when the move can be made on this machine and is not held."""
    return move.id not in holding and move.id in state.applicable and unmet_need(model, state, move) is None


def _risks_the_copy(state: TicketState, check: Check) -> bool:
    """Reading the whole surface is never proposed before the data is safe: copy first, test after."""
    return check.stress == "surface" and not is_data_safe(state.facts)


def _was_there(model: Model, state: TicketState, check: Check) -> bool:
    """The check only asks whether a place can be entered, and something was already read there."""
    return check.enters is not None and any(
        model.knowledge.move(r.move).visit == check.enters for _, r in state.readings
    )


def _next_move(
    model: Model, state: TicketState, prospect: Prospect, now: Floats, value: float, total: float
) -> NextMove:
    move = prospect.move
    entry = entry_minutes(model.knowledge, state, move)
    return NextMove(
        move.id,
        "check" if isinstance(move, Check) else "fix",
        move.minutes + move.unattended + entry,
        move.minutes + entry,
        why_of(move.id, state),
        prospect.cost,
        value - total + prospect.cost,
        value - total,
        now,
        prospect.chance,
        prospect.marginals,
    )


def why_of(move: str, state: TicketState) -> Said:
    """Why to make the move at all, in the words of the ticket's platform."""
    return say("next.why", move=[move, state.facts.get("platform")])


def explained(model: Model, move: NextMove) -> tuple[Said, tuple[str, ...], tuple[Outlook, ...]]:
    """Why to make the move, the suspects it separates, and what each outcome would leave as first suspect."""
    if not len(move.chance):
        return move.why, (), ()
    ids = model.space.fault_ids
    shift = move.chance @ np.abs(move.after - move.now)
    separates = tuple(ids[i] for i in np.argsort(-shift)[:2] if shift[i] > 0.02)
    outcomes = model.knowledge.move(move.move).outcomes
    tops = move.after.argmax(axis=1)
    outlook = tuple(
        Outlook(outcomes[i], float(move.chance[i]), ids[top], float(move.after[i, top])) for i, top in enumerate(tops)
    )
    why = say("next.plain", why=move.why)
    if move.kind == "check" and len(separates) == 2:
        why = say("next.separates", why=move.why, one=separates[0], other=separates[1])
    elif separates and move.why.values.get("fault") != separates[0]:
        why = say("next.likely", why=move.why, fault=separates[0], p=float(move.now[ids.index(separates[0])]))
    return why, separates, outlook


def describe(model: Model, state: TicketState, fix: str, why: Said) -> NextMove:
    """A move put first by the call or by an interlock rather than by the ranking, with what its outcomes would do."""
    move = model.knowledge.move(fix)
    entry = entry_minutes(model.knowledge, state, move)
    posts = (
        model.sight.looks[fix] * state.belief
        if fix in model.sight.looks
        else model.act(fix, state.how).apply_all(state.belief)
    )
    chance, member = posts.sum(axis=1), model.space.member
    return NextMove(
        fix,
        "fix" if fix in model.knowledge.fixes else "check",
        move.minutes + move.unattended + entry,
        move.minutes + entry,
        why,
        move.minutes + entry,
        None,
        0.0,
        state.marginals,
        chance / chance.sum(),
        (posts @ member) / np.maximum(chance, 1e-300)[:, None],
    )
