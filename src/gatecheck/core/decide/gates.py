"""The state of each gate, from belief and direct evidence."""

from __future__ import annotations

import numpy as np
from msgspec import Struct

from gatecheck.core.belief.model import Model
from gatecheck.core.tape.fold import TicketState
from gatecheck.core.words.said import Said, say

OPEN, SHUT, SUSPECT, UNPROVEN = "open", "shut", "suspect", "unproven"


class GateState(Struct, frozen=True):
    """`mass` is the probability that some fault of this gate is there; `entries` are the readings it rests on."""

    id: str
    state: str
    why: Said
    mass: float
    entries: tuple[int, ...]


def gate_states(model: Model, state: TicketState) -> list[GateState]:
    """All seven gates in boot order."""
    knowledge = model.knowledge
    masses = state.belief @ model.keep(
        "gates", lambda: np.array([model.fault_mask(*_faults_at(model, g.id)) for g in knowledge.gates]).T
    )
    stops = np.bincount(model.start.stop_gate + 1, state.belief, minlength=len(knowledge.gates) + 1)[1:]
    opening, naming = _evidence(model, state)
    return [
        _gate_state(model, state, gate.id, mass, stop, sorted(opening[gate.id]), sorted(naming[gate.id]))
        for gate, mass, stop in zip(knowledge.gates, masses.tolist(), stops.tolist(), strict=True)
    ]


def _faults_at(model: Model, gate: str) -> list[str]:
    return [f.id for f in model.knowledge.faults if f.gate == gate]


def _gate_state(
    model: Model, state: TicketState, gate: str, mass: float, stops: float, opening: list[int], naming: list[int]
) -> GateState:
    """`mass`: probability that some fault of the gate is there; `stops`: that the boot stops at it."""
    limits, booted = model.knowledge.gate_limits, state.booted
    later = booted is not None and any(i > booted for i in naming)
    if booted is not None and not (later and mass >= limits["suspect_above"]):
        return GateState(gate, OPEN, _why(state, [booted]), mass, (booted,))
    if opening and mass < limits["open_below"]:
        return GateState(gate, OPEN, _why(state, opening), mass, tuple(opening))
    # a reading that names the gate and passed it itself (lost transfers) casts doubt, and shuts nothing
    if set(naming) - set(opening) and stops >= limits["shut_above"]:
        return GateState(gate, SHUT, _why(state, naming), mass, tuple(naming))
    near = 0.0
    if gate == "detection" and naming:
        near = float(state.belief @ model.fault_mask(*[f.id for f in model.knowledge.faults if f.component == "drive"]))
    if max(mass, near) >= limits["suspect_above"]:
        why = _why(state, naming) if naming else _likeliest(model, state, gate)
        return GateState(gate, SUSPECT, why, mass, tuple(naming))
    return GateState(gate, UNPROVEN, say("gate.unproven"), mass, ())


def _evidence(model: Model, state: TicketState) -> tuple[dict[str, list[int]], dict[str, list[int]]]:
    """Per gate the places of the last readings that open it and of those that name it as the place it stops."""
    opening: dict[str, list[int]] = {g.id: [] for g in model.knowledge.gates}
    naming: dict[str, list[int]] = {g.id: [] for g in model.knowledge.gates}
    for move, (index, reading) in state.latest.items():
        check = model.knowledge.checks.get(move)
        if check and reading.outcome:
            for gate in check.opens.get(reading.outcome, ()):
                opening[gate].append(index)
            for gate in check.points_at.get(reading.outcome, ()) if move in state.current else ():
                naming[gate].append(index)
        elif reading.outcome == "now-seen":
            for gate in ("power", "detection"):
                opening[gate].append(index)
    return opening, naming


def _why(state: TicketState, entries: list[int]) -> Said:
    by_place = dict(state.readings)
    return say("readings", readings=[[by_place[i].move, by_place[i].outcome or ""] for i in entries[-2:]])


def _likeliest(model: Model, state: TicketState, gate: str) -> Said:
    faults = [f for f in model.knowledge.faults if f.gate == gate]
    masses = [float(state.marginals[model.space.index(f.id)]) for f in faults]
    best = max(range(len(faults)), key=masses.__getitem__)
    return say("gate.likeliest", fault=faults[best].id, p=masses[best])
