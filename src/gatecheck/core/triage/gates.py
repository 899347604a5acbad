"""The state of each gate, from belief and direct evidence."""

from __future__ import annotations

from dataclasses import dataclass

from gatecheck.core.knowledge.tables import Check
from gatecheck.core.ticket import TicketState
from gatecheck.core.triage.model import Model
from gatecheck.core.wording import percent

OPEN, SHUT, SUSPECT, UNPROVEN = "open", "shut", "suspect", "unproven"


@dataclass(frozen=True, slots=True)
class GateState:
    """`mass` is the probability that some fault of this gate is there; `entries` are the readings it rests on."""

    id: str
    state: str
    why: str
    mass: float
    entries: tuple[int, ...]


def gate_states(model: Model, state: TicketState) -> list[GateState]:
    """All seven gates in boot order."""
    booted = state.booted
    return [_gate_state(model, state, position, booted) for position in range(len(model.knowledge.gates))]


def _gate_state(model: Model, state: TicketState, position: int, booted: int | None) -> GateState:
    knowledge, limits = model.knowledge, model.knowledge.gate_limits
    gate = knowledge.gates[position]
    mass = float(state.belief @ model.having(*[f.id for f in knowledge.faults if f.gate == gate.id]))
    opening, naming = _evidence(model, state, gate.id)
    later = [i for i in naming if booted is not None and i > booted]
    if booted is not None and not (later and mass >= limits["suspect_above"]):
        return GateState(gate.id, OPEN, _why(model, state, [booted]), mass, (booted,))
    if opening and mass < limits["open_below"]:
        return GateState(gate.id, OPEN, _why(model, state, opening), mass, tuple(opening))
    stops = float(state.belief @ (model.stop_gate == position))
    if naming and stops >= limits["shut_above"]:
        return GateState(gate.id, SHUT, _why(model, state, naming), mass, tuple(naming))
    drive = float(state.belief @ model.having(*[f.id for f in knowledge.faults if f.component == "drive"]))
    near = drive if gate.id == "detection" and naming else 0.0
    if max(mass, near) >= limits["suspect_above"]:
        why = _why(model, state, naming) if naming else _likeliest(model, state, gate.id)
        return GateState(gate.id, SUSPECT, why, mass, tuple(naming))
    return GateState(gate.id, UNPROVEN, "Nothing read so far proves or doubts it", mass, ())


def _evidence(model: Model, state: TicketState, gate: str) -> tuple[list[int], list[int]]:
    """Places of the last readings that open the gate and of those that name it as the place it stops."""
    opening, naming = [], []
    for move, (index, reading) in state.latest.items():
        check = model.knowledge.checks.get(move)
        if isinstance(check, Check) and reading.outcome:
            if gate in check.opens.get(reading.outcome, ()):
                opening.append(index)
            if gate in check.points_at.get(reading.outcome, ()) and move in state.current:
                naming.append(index)
        elif reading.outcome == "now-seen" and gate in ("power", "detection"):
            opening.append(index)
    return sorted(opening), sorted(naming)


def _why(model: Model, state: TicketState, entries: list[int]) -> str:
    by_place = dict(state.readings)
    words = []
    for index in entries[-2:]:
        move = model.knowledge.move(by_place[index].move)
        words.append(f"{move.name}: {move.say[by_place[index].outcome or '']}")
    return "; ".join(words)


def _likeliest(model: Model, state: TicketState, gate: str) -> str:
    faults = [f for f in model.knowledge.faults if f.gate == gate]
    masses = [float(state.marginals[model.space.index(f.id)]) for f in faults]
    best = max(range(len(faults)), key=masses.__getitem__)
    return f"{faults[best].name}: {percent(masses[best])}"
