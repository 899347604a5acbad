"""Entries of one tape that do not fit together, named so that one of them is looked at again.

Two ways to see it. The table says which readings exclude each other (`doubts.toml`). Beside it the belief is asked: a
reading that was rare already and that the entries before it have made much rarer stands against the one that did so.
Nothing here weighs."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice

import numpy as np
from msgspec import Struct

from gatecheck.core.belief.facts import fact_test
from gatecheck.core.belief.model import Model
from gatecheck.core.belief.space import Floats
from gatecheck.core.decide.call import Call
from gatecheck.core.decide.recheck import leaned_on
from gatecheck.core.decide.ways import WEIGHT, right_choices
from gatecheck.core.knowledge.tables import Contradiction, FactTest
from gatecheck.core.tape.entries import PutBack, Reading, is_done
from gatecheck.core.tape.fold import FoldStep, TicketState
from gatecheck.core.words.said import Said, say


class Doubt(Struct, frozen=True):
    """`entries`: places on the tape, in order; two, or one that does not fit the facts the ticket came with.
    `take_back`: the one that the rest of the tape speaks against, None where nothing does: it is looked at again."""

    entries: tuple[int, ...]
    why: Said
    take_back: int | None


def find_doubts(model: Model, state: TicketState, call: Call | None = None) -> list[Doubt]:
    """Pairs of standing entries that do not fit together, those that exclude each other first, and the one reading that
    the call rests on alone; not more than anybody reads. Pure."""
    found: dict[tuple[int, ...], Doubt] = {}
    most = int(model.knowledge.doubts.limits["most"])
    for some in (
        _clashing(model, state),
        _seen_twice(model, state),
        _surprising(model, state),
        _leaned_on(model, state, call),
    ):
        for doubt in islice(some, max(0, most - len(found))):
            found.setdefault(doubt.entries, doubt)
    return list(found.values())


# --- what the table says -------------------------------------------------------------------------------------------


def _clashing(model: Model, state: TicketState) -> Iterator[Doubt]:
    for clash in model.knowledge.doubts.clashes:
        others = [(place, reading) for place, reading in state.readings if _is_among(reading, clash.other)]
        if clash.facts and fact_test(clash.facts, state.facts):
            yield from (_against_fact(clash, state, place, reading) for place, reading in others)
        ones = (
            [(place, reading) for place, reading in state.readings if _is_among(reading, clash.one)] if others else []
        )
        for one in ones:
            yield from (
                _pair(model, state, one, other, f"doubt.{clash.id}")
                for other in others
                if _is_unchanged(model, state, one, other)
            )


def _is_among(reading: Reading, test: FactTest) -> bool:
    return reading.outcome is not None and reading.outcome in test.get(reading.move, ())


def _against_fact(clash: Contradiction, state: TicketState, place: int, reading: Reading) -> Doubt:
    told = [state.facts_from[fact] for fact in clash.facts if fact in state.facts_from]
    return Doubt(tuple(sorted({*told, place})), say(f"doubt.{clash.id}", other=[reading.move, reading.outcome]), place)


def _seen_twice(model: Model, state: TicketState) -> Iterator[Doubt]:
    """One look, made by hand and read by the machine itself, that shows two things although nothing was changed."""
    last: dict[str, tuple[int, Reading]] = {}
    for place, reading in state.readings:
        if reading.move not in model.knowledge.doubts.twice or reading.outcome is None:
            continue
        before = last.get(reading.move)
        if (
            before
            and before[1].is_soft != reading.is_soft
            and before[1].outcome != reading.outcome
            and _is_unchanged(model, state, before, (place, reading))
        ):
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
            touched = (
                model.invalidated_checks(done.move, done.outcome)
                if done.move in model.deeds.acts and is_done(done)
                else frozenset()
            )
        if touched & looks:
            return False
    return True


def _pair(
    model: Model, state: TicketState, one: tuple[int, Reading], other: tuple[int, Reading], sentence: str
) -> Doubt:
    first, last = sorted((one, other), key=lambda pair: pair[0])
    why = say(sentence, one=[first[1].move, first[1].outcome], other=[last[1].move, last[1].outcome])
    return Doubt((first[0], last[0]), why, _unlikelier(model, state, first, last))


def _unlikelier(model: Model, state: TicketState, first: tuple[int, Reading], last: tuple[int, Reading]) -> int:
    """Which of the two the rest of the tape speaks against; the earlier one of two looks at the same thing, for the
    later one counts."""
    looks = [pair for pair in (first, last) if pair[1].move in model.sight.looks]
    if len(looks) < 2 or first[1].move == last[1].move:
        return (looks[0] if len(looks) == 1 else first)[0]
    prior = model.prior(state.facts)
    fits = [
        _given_the_rest(shown, state.belief) / float(shown @ prior)
        for shown in (_shown(model, first[1]), _shown(model, last[1]))
    ]
    return first[0] if fits[0] < fits[1] else last[0]


def _leaned_on(model: Model, state: TicketState, call: Call | None) -> Iterator[Doubt]:
    """The reading that put the call off, or without which the call that is made would not stand."""
    if call is None:
        return
    place = call.again.place if call.again is not None else None
    if place is None and call.choice is not None:
        place = leaned_on(model, state, call.choice, right_choices(model, state), WEIGHT[call.choice])
    if place is not None:
        reading = dict(state.readings)[place]
        yield Doubt((place,), say("doubt.leaned-on", one=[reading.move, reading.outcome]), None)


# --- what the belief says ------------------------------------------------------------------------------------------


def _surprising(model: Model, state: TicketState) -> Iterator[Doubt]:
    limits, prior = model.knowledge.doubts.limits, model.prior(state.facts)
    for number, step in enumerate(state.steps):
        reading = step.reading
        if not isinstance(reading, Reading) or reading.move not in state.current or number == 0:
            continue  # what no longer describes the machine speaks of the past
        shown = _shown(model, reading)
        here, at_first = _chance(shown, step.before), float(shown @ prior)
        if (
            here > limits["chance"]
            or here > limits["lift"] * at_first
            or _given_the_rest(shown, state.belief) > limits["lift"] * at_first
        ):
            continue
        against = _whom_it_stands_against(model, state.steps[:number], shown)
        if against is None:
            continue
        why = say(
            "doubt.unlikely-together",
            one=[against[1].move, _best(against[1])],
            other=[reading.move, _best(reading)],
            p=here,
        )
        yield Doubt((against[0], step.index), why, step.index)


def _whom_it_stands_against(model: Model, before: Sequence[FoldStep], shown: Floats) -> tuple[int, Reading] | None:
    """The look that made the reading rarest; None where no single one did."""
    looks = [(s, s.reading) for s in before if isinstance(s.reading, Reading) and s.reading.move in model.sight.looks]
    made_rarer = [_chance(shown, s.before) / _chance(shown, s.after) for s, _ in looks]
    if not looks or max(made_rarer) < model.knowledge.doubts.limits["gain"]:
        return None
    step, reading = looks[int(np.argmax(made_rarer))]
    return step.index, reading


def _given_the_rest(shown: Floats, belief: Floats) -> float:
    """P(reading | all others): its own factor divided out of the belief, which is their harmonic mean; as good as no
    fix has moved the belief since."""
    return 1.0 / float(belief @ (1.0 / shown))


def _shown(model: Model, reading: Reading) -> Floats:
    return np.asarray(
        np.sum([weight * model.look(reading.move, outcome) for outcome, weight in reading.weights.items()], axis=0)
    )


def _chance(shown: Floats, belief: Floats) -> float:
    return float(shown @ belief) / float(belief.sum())


def _best(reading: Reading) -> str:
    return max(reading.weights, key=lambda outcome: reading.weights[outcome])
