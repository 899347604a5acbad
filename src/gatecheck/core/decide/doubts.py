"""Entries of one tape that do not fit together, named so that one of them is looked at again.

Two ways to see it. The table says which readings exclude each other (`doubts.toml`). Beside it the belief is asked: a reading that
was rare already and that the entries before it have made much rarer stands against the one that did so. Nothing here weighs.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from gatecheck.core.belief.facts import fact_test
from gatecheck.core.belief.model import Model
from gatecheck.core.belief.space import Floats
from gatecheck.core.knowledge.tables import Clash, FactTest
from gatecheck.core.tape.entries import PutBack, Reading, is_done
from gatecheck.core.tape.fold import Step, TicketState, belief_without
from gatecheck.core.words.said import Said, say


@dataclass(frozen=True, slots=True)
class Doubt:
    """`entries`: places on the tape, in order; two, or one that does not fit the facts the ticket came with. `take_back`: the
    one that the rest of the tape speaks against."""

    entries: tuple[int, ...]
    why: Said
    take_back: int


def find_doubts(model: Model, state: TicketState) -> list[Doubt]:
    """Every pair of standing entries that do not fit together, those that exclude each other first. Pure."""
    found: dict[tuple[int, ...], Doubt] = {}
    for doubt in (*_clashing(model, state), *_seen_twice(model, state), *_surprising(model, state)):
        found.setdefault(doubt.entries, doubt)
    return list(found.values())


# --- what the table says -------------------------------------------------------------------------------------------


def _clashing(model: Model, state: TicketState) -> Iterator[Doubt]:
    for clash in model.knowledge.doubts.clashes:
        others = [(place, reading) for place, reading in state.readings if _is_among(reading, clash.other)]
        if clash.facts and fact_test(clash.facts, state.facts):
            yield from (_against_fact(clash, state, place, reading) for place, reading in others)
        ones = [(place, reading) for place, reading in state.readings if _is_among(reading, clash.one)] if others else []
        for one in ones:
            yield from (_pair(model, state, one, other, f"doubt.{clash.id}") for other in others if _is_unchanged(model, state, one, other))


def _is_among(reading: Reading, test: FactTest) -> bool:
    return reading.outcome is not None and reading.outcome in test.get(reading.move, ())


def _against_fact(clash: Clash, state: TicketState, place: int, reading: Reading) -> Doubt:
    told = [state.facts_from[fact] for fact in clash.facts if fact in state.facts_from]
    return Doubt(tuple(sorted({*told, place})), say(f"doubt.{clash.id}", other=[reading.move, reading.outcome]), place)


def _seen_twice(model: Model, state: TicketState) -> Iterator[Doubt]:
    """One look, made by hand and read by the machine itself, that shows two things although nothing was changed."""
    last: dict[str, tuple[int, Reading]] = {}
    for place, reading in state.readings:
        if reading.move not in model.knowledge.doubts.twice or reading.outcome is None:
            continue
        before = last.get(reading.move)
        if before and before[1].is_soft != reading.is_soft and before[1].outcome != reading.outcome and _is_unchanged(model, state, before, (place, reading)):
            yield _pair(model, state, before, (place, reading), "doubt.seen-twice")
        last[reading.move] = (place, reading)


def _is_unchanged(model: Model, state: TicketState, one: tuple[int, Reading], other: tuple[int, Reading]) -> bool:
    """Nothing was done between the two that either depends on."""
    first, last = sorted((one[0], other[0]))
    looks = {one[1].move, other[1].move}
    for step in state.steps:
        done = step.reading
        if not first < step.index < last:
            continue
        if isinstance(done, PutBack):
            touched = model.deeds.affects.get(done.fix, frozenset())
        else:
            touched = model.voided(done.move, done.outcome) if done.move in model.deeds.acts and is_done(done) else frozenset()
        if touched & looks:
            return False
    return True


def _pair(model: Model, state: TicketState, one: tuple[int, Reading], other: tuple[int, Reading], sentence: str) -> Doubt:
    first, last = sorted((one, other), key=lambda pair: pair[0])
    why = say(sentence, one=[first[1].move, first[1].outcome], other=[last[1].move, last[1].outcome])
    return Doubt((first[0], last[0]), why, _unlikelier(model, state, first, last))


def _unlikelier(model: Model, state: TicketState, first: tuple[int, Reading], last: tuple[int, Reading]) -> int:
    """Which of the two the rest of the tape speaks against; the later one where it does not tell."""
    looks = [pair for pair in (first, last) if pair[1].move in model.sight.looks]
    if len(looks) < 2 or first[1].move == last[1].move:
        return first[0] if len(looks) == 2 or not looks else looks[0][0]
    fits = [_fit(model, reading, belief_without(model, state, place), model.prior(state.facts)) for place, reading in (first, last)]
    return first[0] if fits[0] < fits[1] else last[0]


# --- what the belief says ------------------------------------------------------------------------------------------


def _surprising(model: Model, state: TicketState) -> Iterator[Doubt]:
    limits, before_all = model.knowledge.doubts.limits, model.prior(state.facts)
    for number, step in enumerate(state.steps):
        reading = step.reading
        if not isinstance(reading, Reading) or reading.move not in model.sight.looks or number == 0:
            continue
        shown = _shown(model, reading)
        here, then = _chance(shown, step.before), float(shown @ before_all)
        if here > limits["chance"] or here > limits["lift"] * then:
            continue
        against = _whom_it_stands_against(model, state, number, shown, here)
        if against is None or _is_borne_out(model, state, step, shown, then):
            continue
        place = against.index
        assert isinstance(against.reading, Reading)
        why = say(
            "doubt.unlikely-together", one=[against.reading.move, _best(against.reading)], other=[reading.move, _best(reading)], p=here
        )
        yield Doubt((place, step.index), why, step.index)


def _whom_it_stands_against(model: Model, state: TicketState, number: int, shown: Floats, here: float) -> Step | None:
    """The look without which the reading would have been likeliest; None where no single one makes it rare."""
    limits, step = model.knowledge.doubts.limits, state.steps[number]
    looks = [s for s in state.steps[:number] if isinstance(s.reading, Reading) and s.reading.move in model.sight.looks]
    asked = looks[-int(limits["partners"]) :]
    if not asked:
        return None
    without = [float(shown @ belief_without(model, state, s.index, step.index)) for s in asked]
    best = int(np.argmax(without))
    return asked[best] if without[best] >= limits["gain"] * here else None


def _is_borne_out(model: Model, state: TicketState, step: Step, shown: Floats, then: float) -> bool:
    """What came later made the reading likely after all, or changed the machine so that it speaks of the past."""
    assert isinstance(step.reading, Reading)
    if step.reading.move not in state.current:
        return True
    return float(shown @ belief_without(model, state, step.index)) > model.knowledge.doubts.limits["lift"] * then


def _shown(model: Model, reading: Reading) -> Floats:
    return np.asarray(np.sum([weight * model.look(reading.move, outcome) for outcome, weight in reading.weights.items()], axis=0))


def _chance(shown: Floats, belief: Floats) -> float:
    return float(shown @ belief) / float(belief.sum())


def _fit(model: Model, reading: Reading, belief: Floats, before_all: Floats) -> float:
    shown = _shown(model, reading)
    return _chance(shown, belief) / max(_chance(shown, before_all), 1e-12)


def _best(reading: Reading) -> str:
    return max(reading.weights, key=lambda outcome: reading.weights[outcome])
