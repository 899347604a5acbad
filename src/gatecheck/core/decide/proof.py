"""What a call asks to be done before it is carried out, however sure the numbers are: a drive goes on two signs or a
test that failed, a lab is not asked after one sound, a board goes out when its parts were tried, and a machine goes
back with a clock that keeps time. Which looks and signs: proof.toml."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence

from gatecheck.core.belief.model import Model
from gatecheck.core.decide.interlocks import readings_that_count
from gatecheck.core.decide.plan import DRIVE_FAULTS, is_legal, unmet_need
from gatecheck.core.tape.entries import is_done
from gatecheck.core.tape.fold import TicketState

_BATTERY = "replace-battery"


def drive_proof(model: Model, state: TicketState, holding: Collection[str]) -> str | None:
    """The look that has to follow before a drive is replaced for bad sectors or wear; None where it is proven: by a
    failed long test, by a surface scan, or by two signs of different looks, none of which passed after it."""
    proof = model.knowledge.proof
    if readings_that_count(model, state, proof.drive_proven, DRIVE_FAULTS):
        read = not state.current.isdisjoint(proof.drive_beside)
        return None if read else _first_left(model, state, proof.drive_beside, holding)
    signs = readings_that_count(model, state, proof.drive_signs, DRIVE_FAULTS)
    passed = readings_that_count(model, state, proof.drive_passed, DRIVE_FAULTS)
    if len(signs) >= 2 + bool(passed):
        return None
    return _first_left(model, state, proof.drive_looks, holding)


def heard_once(model: Model, state: TicketState, holding: Collection[str]) -> str | None:
    """Listening again, where one single reading says that the heads or the motor fail and nothing else does."""
    signs = readings_that_count(model, state, model.knowledge.interlocks["stop-running"].seen, ("drive.mechanical",))
    others = readings_that_count(model, state, model.knowledge.proof.drive_signs, DRIVE_FAULTS)
    if len({*signs, *others}) != 1 or not signs:
        return None
    reading = dict(state.readings)[signs[0]]
    if reading.is_soft or reading.move in state.confirmed:
        return None
    if reading.move != "sound" and "sound" in state.current:
        return None
    return "sound" if is_legal(model, state, model.knowledge.checks["sound"], holding) else None


def board_proof(model: Model, state: TicketState, holding: Collection[str]) -> str | None:
    """What is tried before a board is sent out: what is plugged in, memory, power."""
    screen = state.last("screen")
    shown = str(screen.outcome) if screen is not None else ""
    wanted = model.knowledge.proof.board_first.get(shown, model.knowledge.proof.board_first["otherwise"])
    return _first_left(model, state, wanted, holding)


def start_proof(model: Model, state: TicketState, holding: Collection[str]) -> list[str]:
    """What follows before a machine that starts goes back: a look at its drive where nothing explains why it did not
    start, and a new cell where the old one is old or in doubt."""
    due = []
    if not _was_mended(model, state):
        looks = [c for c in model.knowledge.proof.start_looks if not _was_read(state, c)]
        due += [c for c in looks if is_legal(model, state, model.knowledge.checks[c], holding)][:1]
    if cell_is_old(model, state, holding):
        due.append(_BATTERY)
    return due


def clock_is_wrong(model: Model, state: TicketState, holding: Collection[str]) -> str | None:
    """What puts a clock right that was last read wrong: a new cell, or its time; None where it is right, was not read,
    or can be put right by nothing here."""
    found = state.latest.get("clock")
    if found is None or found[1].outcome not in ("wrong", "reset-to-default"):
        return None
    place = found[0]
    for fix in (_BATTERY, "set-clock"):
        last = state.latest.get(fix)
        if last is not None and last[0] > place and is_done(last[1]):
            return None
    wanted = [_BATTERY, "set-clock"] if _BATTERY not in state.tried else ["set-clock"]
    return next((f for f in wanted if _can_be_made(model, state, f, holding)), None)


def cell_is_old(model: Model, state: TicketState, holding: Collection[str]) -> bool:
    """A cell so old that a new one is cheaper than to be wrong, in a case that is open or quickly opened."""
    proof = model.knowledge.proof
    if state.last(_BATTERY) is not None or not _can_be_made(model, state, _BATTERY, holding):
        return False
    bought, now = state.facts.get("drive_year"), state.facts.get("as_of_year")
    aged = isinstance(bought, int | float) and isinstance(now, int | float) and now - bought >= proof.old_cell_years
    old = aged or state.facts.get("installed_os") in proof.old_systems
    doubtful = float(state.belief @ model.fault_mask("battery.flat")) >= proof.old_cell_doubt
    very_old = isinstance(bought, int | float) and isinstance(now, int | float) and now - bought >= proof.very_old_years
    opened = state.is_open or (very_old and state.facts.get("form") in proof.quickly_opened)
    return bool(old and opened and doubtful)


def _can_be_made(model: Model, state: TicketState, fix: str, holding: Collection[str]) -> bool:
    return (
        fix in state.applicable
        and fix not in holding
        and fix not in state.tried
        and unmet_need(model, state, model.knowledge.fixes[fix]) is None
    )


def _first_left(model: Model, state: TicketState, wanted: Sequence[str], holding: Collection[str]) -> str | None:
    """The first of these moves that was not made as things are, and can be."""
    return next(iter(_left(model, state, wanted, holding)), None)


def _left(model: Model, state: TicketState, wanted: Sequence[str], holding: Collection[str]) -> Iterable[str]:
    for move in wanted:
        if move in model.knowledge.fixes:
            if state.last(move) is None and _can_be_made(model, state, move, holding):
                yield move
        elif move not in state.current and is_legal(model, state, model.knowledge.checks[move], holding):
            yield move


def _was_read(state: TicketState, check: str) -> bool:
    return state.last(check) is not None


def _was_mended(model: Model, state: TicketState) -> bool:
    """Something was done after which it started that had not started before."""
    failed = False
    for _, reading in state.readings:
        if reading.move == "screen" and reading.outcome != "boots":
            failed = True
        elif failed and reading.move in model.knowledge.fixes and reading.outcome == "boots":
            return True
    return False
