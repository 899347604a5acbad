"""Interlocks: declarative predicates (decisions.toml) over the ticket's state, evaluated for every move."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec import Struct

from gatecheck.core.belief.facts import fact_test
from gatecheck.core.belief.model import Model
from gatecheck.core.knowledge.tables import Interlock, Likely
from gatecheck.core.tape.entries import is_done
from gatecheck.core.tape.fold import TicketState
from gatecheck.core.words.said import Said, say

_RENEWING = 0.5
"""a fix that cures a fault with at least this probability makes older readings about it void"""


class Held(Struct, frozen=True):
    """A move held back by one interlock, and why. `entries` are the readings it rests on."""

    move: str
    interlock: str
    why: Said
    entries: tuple[int, ...]

    @property
    def release(self) -> Said:
        """What releases it."""
        return say("interlock.release", interlock=self.interlock)


def held_moves(model: Model, state: TicketState) -> list[Held]:
    """Every (move, interlock) pair that holds now, in the order of the vocabulary; overridden pairs are left out."""
    held = []
    for lock in model.knowledge.interlocks.values():
        grounds = _grounds(model, state, lock)
        if grounds is None:
            continue
        why, entries = grounds
        tried_now = {t.fix for t in state.trials if t.open and t.outcome is None} if lock.open_trial else set()
        text = say("interlock.pending" if tried_now else "interlock.text", interlock=lock.id)
        reason = say("interlock.because", text=text, why=why) if why else text
        for move in (m for m in (*model.knowledge.checks, *model.knowledge.fixes) if m in lock.moves):
            if move in tried_now:
                continue  # its result is what is wanted now
            if (lock.id, move) not in state.overrides and not _excepted(lock, move, state):
                held.append(Held(move, lock.id, reason, entries))
    return held


def readings_that_count(
    model: Model, state: TicketState, wanted: Mapping[str, Sequence[str]], renewed_by: Sequence[str]
) -> tuple[int, ...]:
    """Places of the last reading of each wanted move that shows a wanted outcome and is still about this part."""
    shown = sorted(
        i for i, r in [state.latest[move] for move in wanted if move in state.latest] if r.outcome in wanted[r.move]
    )
    if not shown:
        return ()
    fixes = model.knowledge.fixes
    since = -1
    for move, (index, reading) in state.latest.items():
        if (
            index > max(since, shown[0])
            and move in fixes
            and is_done(reading)
            and any(fixes[move].cures.get(f, 0.0) >= _RENEWING for f in renewed_by)
        ):
            since = index
    return tuple(i for i in shown if i > since)


def _grounds(model: Model, state: TicketState, lock: Interlock) -> tuple[Said | None, tuple[int, ...]] | None:
    """Why the interlock is on and the entries it rests on, or None when it is off."""
    if not fact_test(lock.facts, state.facts):
        return None
    if any(state.facts.get(fact) in values for fact, values in lock.unless_facts.items()):
        return None
    if lock.open_trial:
        stuck = [t for t in state.trials if t.open and (t.no_effect or t.outcome is None)]
        if not stuck:
            return None
        return say("interlock.still-changed", fixes=[t.fix for t in stuck]), tuple(t.index for t in stuck)
    if lock.proof_below and _is_proven(model, state, lock):
        return None
    if lock.disproof_likely and _is_disproved(model, state, lock):
        return None
    if not lock.seen and not lock.likely:
        return None, ()
    seen = readings_that_count(model, state, lock.seen, lock.renewed_by)
    if seen and (lock.seen_needs is None or likelihood(model, state, lock.seen_needs) >= lock.seen_needs.at_least):
        return _named(state, seen), seen
    if lock.likely and likelihood(model, state, lock.likely) >= lock.likely.at_least:
        return say("interlock.odds", p=likelihood(model, state, lock.likely)), ()
    return None


def likelihood(model: Model, state: TicketState, likely: Likely) -> float:
    """Probability that any of the faults is there."""
    return float(state.belief @ model.fault_mask(*likely.faults))


def _is_proven(model: Model, state: TicketState, lock: Interlock) -> bool:
    assert lock.proof_below is not None
    needed = readings_that_count(model, state, lock.proof_all, lock.renewed_by)
    one_of = readings_that_count(model, state, lock.proof_any, lock.renewed_by)
    below = likelihood(model, state, lock.proof_below) <= lock.proof_below.at_least
    return len(needed) == len(lock.proof_all) and bool(one_of) and below


def _is_disproved(model: Model, state: TicketState, lock: Interlock) -> bool:
    assert lock.disproof_likely is not None
    against = readings_that_count(model, state, lock.disproof, lock.renewed_by)
    return bool(against) and likelihood(model, state, lock.disproof_likely) >= lock.disproof_likely.at_least


def _excepted(lock: Interlock, move: str, state: TicketState) -> bool:
    return any(move in moves and fact_test(facts, state.facts) for moves, facts in lock.exceptions)


def _named(state: TicketState, entries: Sequence[int]) -> Said:
    by_place = dict(state.readings)
    return say("readings", readings=[[by_place[i].move, by_place[i].outcome or ""] for i in entries])
