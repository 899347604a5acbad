"""Doubt about single readings: where a heavy verdict rests on one look that may have been misread or mistyped, looking
again is the next move.

A reading is misread with the share that its table says. How likely it was here follows from what the rest of the tape
makes of it: the belief without the reading is the belief divided by what the reading says. Where the choice would not
stand without it, and a slip costs more than another look, the look comes first. A release rests on the screen alone:
there it is what was seen there that is looked at again. A look that showed the same twice is not doubted any more."""

from __future__ import annotations

from collections.abc import Collection, Iterator

import numpy as np
from msgspec import Struct

from gatecheck.core.belief.model import Model
from gatecheck.core.belief.space import Floats, Ints
from gatecheck.core.decide.costs import entry_minutes, is_data_safe
from gatecheck.core.knowledge.tables import Check
from gatecheck.core.tape.entries import Reading
from gatecheck.core.tape.fold import TicketState

HEAVY = ("replace", "reinstall", "refer", "release")
_STARTS = ("screen", "clock")
"""what a release rests on: that it starts, and that nothing brings it back"""
_STRAINS = ("start", "read", "surface", "write")


class SuspectReading(Struct, frozen=True):
    """A reading on which a verdict rests: its look, where it stands, how likely it was misread, and what another look
    saves (bench minutes' worth)."""

    move: str
    place: int
    p: float
    net: float


def misread(model: Model, state: TicketState, reading: Reading) -> tuple[float, Floats]:
    """(probability that this reading was misread, belief without it, normalised). As good as no fix has moved the
    belief since."""
    outcomes = model.knowledge.move(reading.move).outcomes
    outcome = str(reading.outcome)
    shown = model.look(reading.move, outcome)
    without = state.belief / shown
    without = without / without.sum()
    share = model.knowledge.misread.get(reading.move, model.knowledge.misread[""])
    spread = share / (len(outcomes) - 1)
    told = float(without @ shown)
    slip = spread * (1.0 - told)
    return slip / (slip + (1.0 - share) * told), without


def look_again(
    model: Model, state: TicketState, choice: str, right: Ints, place: int, harm: float, holding: Collection[str]
) -> SuspectReading | None:
    """The look to repeat before this heavy choice, or None. `right`: index of the right choice of each hypothesis,
    `place`: that of the choice; harm: what a wrong verdict costs, in currency."""
    if choice not in HEAVY:
        return None
    rates = model.knowledge.rates
    found = []
    for check, index, reading in _repeatable(model, state, holding):
        move = check.id
        if (move in _STARTS) is not (choice == "release") and not (move == "screen" and choice == "refer"):
            continue
        p, without = misread(model, state, reading)
        p = min(1.0, p * model.knowledge.plan["slip_doubt"])
        stands = float(np.bincount(right, without, minlength=place + 1)[place])
        if stands >= 0.5 and choice != "release":
            continue
        cost = (check.minutes + entry_minutes(model.knowledge, state, check)) * rates[
            "bench_minute"
        ] + check.unattended * rates["unattended_share"] * rates["bench_minute"]
        net = p * (1.0 - stands) * harm - cost
        if net > 0:
            found.append(SuspectReading(move, index, p, net / rates["bench_minute"]))
    return max(found, key=lambda s: s.net, default=None)


def leaned_on(model: Model, state: TicketState, choice: str, right: Ints, place: int) -> int | None:
    """Place of the reading that a heavy choice would not stand without and that was the likeliest slip; None
    where every single one may be gone. `right`, `place`: as for `look_again`."""
    if choice not in HEAVY:
        return None
    found = []
    for move, (index, reading) in state.latest.items():
        if move not in model.knowledge.checks or reading.is_soft or reading.outcome is None or move == "story":
            continue
        if move not in state.current or move in state.confirmed:
            continue
        p, without = misread(model, state, reading)
        if p >= model.knowledge.plan["slip_named"] and np.bincount(right, without, minlength=place + 1)[place] < 0.5:
            found.append((p, index))
    return max(found)[1] if found else None


def doubtful(model: Model, state: TicketState, holding: Collection[str]) -> str | None:
    """The look whose reading is likeliest to have been a slip; None where none can be made again."""
    found = [(misread(model, state, reading)[0], check.id) for check, _, reading in _repeatable(model, state, holding)]
    likeliest, move = max(found, default=(0.0, ""))
    return move if likeliest >= model.knowledge.plan["slip_worth_a_look"] else None


def _repeatable(model: Model, state: TicketState, holding: Collection[str]) -> Iterator[tuple[Check, int, Reading]]:
    """Looks made by hand whose reading still describes the machine, was seen once, and can be made again without
    harm."""
    for move, (index, reading) in state.latest.items():
        check = model.knowledge.checks.get(move)
        if check is None or reading.is_soft or reading.outcome is None or move == "story":
            continue
        if (
            move in state.current
            and move not in state.confirmed
            and move not in holding
            and move in state.applicable
            and not (check.stress in _STRAINS and _suffers(model, state))
        ):
            yield check, index, reading


def _suffers(model: Model, state: TicketState) -> bool:
    """Heads may be failing, and there is still something to lose: nothing is started again only to read it once
    more."""
    return not is_data_safe(state.facts) and float(state.belief @ model.fault_mask("drive.mechanical")) >= 0.05
