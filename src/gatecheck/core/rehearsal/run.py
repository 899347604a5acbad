"""Runs policies over machines and counts what came of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from functools import partial
from itertools import product

import numpy as np
from msgspec.structs import replace

from gatecheck.core.belief.facts import Facts
from gatecheck.core.belief.model import Model
from gatecheck.core.belief.transitions import NOT_DONE
from gatecheck.core.decide.costs import entry_minutes
from gatecheck.core.decide.plan import DRIVE_FAULTS
from gatecheck.core.decide.ways import CHOICES, right_choices
from gatecheck.core.knowledge.tables import Fix, Knowledge
from gatecheck.core.rehearsal.machine import Entry, RehearsedMachine, draw_facts
from gatecheck.core.rehearsal.policies import POLICIES, PolicyStep, PolicyView
from gatecheck.core.tape.entries import is_done
from gatecheck.core.tape.fold import TicketState, fold
from gatecheck.core.tape.parse import parse_entries, parse_entry, parse_facts
from gatecheck.core.work.job import job_of

_MOST_STEPS = 70
_ASKING_MINUTES = 1.0
_VERDICTS = {"reinstall", "reset-keep", "reset-clean", "replace-drive", "refer-lab", "board-work"}


@dataclass(frozen=True, slots=True)
class RehearsalRun:
    """What one policy made of one machine."""

    policy: str
    faults: tuple[str, ...]
    right: bool
    wrong_call: str
    hands_on: float
    total: float
    needless_drive: bool
    lost: bool
    left: bool
    """the drive with the only copy was replaced without the customer's word"""
    comeback: bool
    moves: int
    ended: str
    confidence: float | None
    """stated with the first call that was made"""
    first_right: bool
    """that call was the right one for what was wrong with the machine then"""
    called_at: int | None
    """entries of the log when the first call was made, the story included"""
    tape: tuple[Entry, ...]
    facts: Facts


@dataclass(frozen=True, slots=True)
class Summary:
    """Shares are of all machines; minutes per machine."""

    policy: str
    machines: int
    right_calls: float
    hands_on_mean: float
    hands_on_p90: float
    total_mean: float
    total_p90: float
    needless_drives: float
    data_lost: float
    data_left: float
    comebacks: float
    moves_mean: float
    steps_to_call: float | None
    """median of the entries after the story until the first call, where one was made"""
    calibration: float | None
    """expected calibration error of the first call that was made: |stated - right then|, weighed over ten bins"""


def rehearse_one(model: Model, world: Model, policy: str, seed: int) -> RehearsalRun:
    """One machine, drawn by its seed, under one policy. The same seed gives every policy the same machine."""
    rng = np.random.default_rng(seed)
    facts = draw_facts(world, rng)
    machine = RehearsedMachine.draw(world, facts, rng)
    faults = tuple(machine.fault_names())
    tape: list[Entry] = [machine.make("story"), machine.make("screen")]
    machine.lost = False  # what the customer's own starts and the first look cost is no policy's doing
    hands_on, total, wrong, needless = 3.0, 3.0, "", False
    ended, carried, left = "out of steps", False, False
    confidence: float | None = None
    first_right, called_at = False, None
    known, entries = parse_facts(facts, model.knowledge), parse_entries(tape, model.knowledge)
    for _ in range(_MOST_STEPS):
        entries += [parse_entry(raw, len(entries), model.knowledge) for raw in tape[len(entries) :]]
        state = fold(model, known, entries)
        sight = PolicyView(model, state, rng, partial(_cures_left, world, machine, state))
        step = POLICIES[policy](sight)
        if confidence is None and "result" in sight.__dict__ and sight.result.call.choice is not None:
            confidence, called_at = sight.result.call.confidence, len(tape)
            first_right = _called_right(world, machine, state, str(sight.result.call.choice))
        if step.kind == "stop":
            ended = step.what
            break
        if step.kind == "ask":
            hands_on, total = hands_on + _ASKING_MINUTES, total + _ASKING_MINUTES
            tape.append({"fact": _answer(machine, step.what, rng)})
            continue
        if step.kind == "move" and step.what in _VERDICTS:
            wrong = wrong or _wrong(model, world, machine, state, step)
            left |= (
                step.what == "replace-drive"
                and machine.precious
                and not machine.safe
                and state.facts.get("consent") != "given"
            )
            needless |= step.what == "replace-drive" and not any(f in DRIVE_FAULTS for f in machine.fault_names())
            hands_on, total = (
                sum_ + _carried(model, state, known, tape, model.knowledge.fixes[step.what].call, step.what)
                for sum_ in (hands_on, total)
            )
            carried = True
        machine.given_up = state.facts.get("consent") == "given"
        entry = machine.put_back(step.what) if step.kind == "put-back" else machine.make(step.what)
        tape.append(entry)
        spec = world.knowledge.move(step.what)  # what it takes is the world's own, whatever the engine expects
        minutes = 1.0 if step.kind == "put-back" else spec.minutes + entry_minutes(world.knowledge, state, spec)
        hands_on += minutes
        total += minutes + (spec.unattended if entry.get("outcome") not in NOT_DONE else 0.0)
        if entry.get("outcome") == "sent" or entry == {"move": "board-work", "outcome": "declined"}:
            ended = "refer"
            break
        if entry.get("outcome") == "declined" and step.what == "refer-lab":
            tape.append({"fact": {"consent": "given"}})
    final = fold(model, known, parse_entries(tape, model.knowledge))
    if final.booted is not None and not carried:
        minutes = _carried(model, final, known, tape, *_mended_by(model, final))
        hands_on, total = hands_on + minutes, total + minutes
    # a customer who neither has a backup nor lets the data go ends the work; that is no comeback and no wrong call
    refused = final.facts.get("consent") == "refused" and ended != "release"
    comeback = ended != "refer" and not refused and bool(machine.fault_names())
    if not wrong and comeback:
        wrong = f"left {', '.join(machine.fault_names())} in it ({ended})"
    return RehearsalRun(
        policy,
        faults,
        not wrong,
        wrong,
        hands_on,
        total,
        needless,
        machine.lost,
        left,
        comeback,
        len(tape),
        ended,
        confidence,
        first_right,
        called_at,
        tuple(tape),
        facts,
    )


def _carried(
    model: Model, state: TicketState, facts: Facts, tape: Sequence[Entry], choice: str, fix: str | None
) -> float:
    """Hands-on minutes of the job's steps that its fix does not hold already (work.toml says which), were this call
    signed now."""
    signed = parse_entries([*tape, {"signed": choice, "fix": fix}], model.knowledge)
    job = job_of(model.knowledge, replace(state, signed=len(tape)), signed, [True] * len(signed))
    return sum(s.step.minutes for s in job.steps if s.step.counts) if job else 0.0


def _mended_by(model: Model, state: TicketState) -> tuple[str, str | None]:
    """The call that the start of the machine amounts to: the last fix that was carried out, else that it goes back."""
    fixes = [r.move for _, r in state.readings if r.move in model.knowledge.fixes and is_done(r)]
    return (model.knowledge.fixes[fixes[-1]].call, fixes[-1]) if fixes else ("release", None)


def _answer(machine: RehearsedMachine, fact: str, rng: np.random.Generator) -> dict[str, str]:
    if fact == "data":
        return {"data": machine.data}
    if fact == "recovery_key":
        return {"recovery_key": "on-ticket"}
    return {"consent": "given" if rng.random() < machine.world.knowledge.intake.consents else "refused"}


def _called_right(world: Model, machine: RehearsedMachine, state: TicketState, choice: str) -> bool:
    """The choice is the one that the faults ask for, or as right as it, as `_wrong` explains."""
    right = CHOICES[int(right_choices(world, state)[machine.faults])]
    if choice == right or (right == "repair" and choice != "release" and _tried_repairs(world, machine, state)):
        return True
    if choice == "replace" and (
        choice in _asks(world, machine, state)
        or (right == "refer" and not _heard(world, state) and any(f in DRIVE_FAULTS for f in machine.fault_names()))
    ):
        return True
    return choice == "refer" and right == "replace" and _only_a_lab(machine, state)


def _wrong(model: Model, world: Model, machine: RehearsedMachine, state: TicketState, step: PolicyStep) -> str:
    """Why this verdict is wrong on this machine, or nothing: another choice would have been right for its faults."""
    right = CHOICES[int(right_choices(world, state)[machine.faults])]
    fix = model.knowledge.fixes[step.what]
    made = fix.call
    if fix.destroys and state.facts.get("consent") == "refused" and machine.precious and not machine.safe:
        return f"{made} against the customer's word"
    if made == right or (right == "repair" and _tried_repairs(world, machine, state)):
        return ""
    if (
        made == "replace"
        and right == "refer"
        and not _heard(world, state)
        and any(f in DRIVE_FAULTS for f in machine.fault_names())
    ):
        return ""  # nothing said that it was mechanical; the old drive stays as it is and can still go to a lab
    if made == "replace" and made in _asks(world, machine, state):
        return ""  # the drive has to go in any case; what else is there comes after
    if made == "refer" and right == "replace" and step.what == "refer-lab" and _only_a_lab(machine, state):
        return ""
    return f"{made} where {right} was right"


def _tried_repairs(world: Model, machine: RehearsedMachine, state: TicketState) -> bool:
    """A repair that was tried for each fault and did not hold makes the heavier choice right."""
    knowledge = world.knowledge
    first = min((int(world.space.gate_of[world.space.index(f)]) for f in machine.fault_names()), default=0)
    for fault in machine.fault_names():
        if int(world.space.gate_of[world.space.index(fault)]) > first:
            continue  # nobody can get there before what stops the machine earlier is gone
        ways = [f for f in knowledge.fixes.values() if f.cures.get(fault, 0.0) >= 0.3 and f.call == "repair"]
        if ways and not any(f.id in state.tried for f in ways):
            return False
    return True


def _asks(world: Model, machine: RehearsedMachine, state: TicketState) -> set[str]:
    """What each fault would ask for if it were the only one."""
    right, alone = right_choices(world, state), world.space.add[0]
    return {CHOICES[int(right[alone[world.space.index(f)]])] for f in machine.fault_names()}


def _heard(world: Model, state: TicketState) -> bool:
    """A reading that names mechanical damage stands on the tape."""
    signs = world.knowledge.interlocks["stop-running"].seen
    return any(reading.outcome in signs.get(move, ()) for move, (_, reading) in state.latest.items())


def _only_a_lab(machine: RehearsedMachine, state: TicketState) -> bool:
    """Data that nobody has twice, on a drive that nobody at the bench can copy: the lab is as right as a new drive."""
    faults = machine.fault_names()
    failing = any(f in DRIVE_FAULTS for f in faults)
    beyond = (
        "copy-data" in state.tried
        or _heard(machine.world, state)
        or "drive.dead" in faults
        or "drive.mechanical" in faults
    )
    return failing and machine.precious and not machine.safe and beyond


def _cures_left(world: Model, machine: RehearsedMachine, state: TicketState) -> list[str]:
    """For the clairvoyant: the cheapest set of untried fixes that cures everything that is there, in the order to make
    them."""
    knowledge, faults = world.knowledge, machine.fault_names()
    if (
        machine.precious
        and not machine.safe
        and "refer-lab" not in state.tried
        and any(f in ("drive.mechanical", "drive.dead") for f in faults)
    ):
        return ["refer-lab"]
    away = knowledge.fixes["board-work"]
    ways = [
        [f for f in knowledge.fixes.values() if _helps(f, fault) >= _CURES_OFTEN and f.id not in state.tried] or [away]
        for fault in faults
    ]
    best: Sequence[Fix] = min(product(*ways), key=lambda way: _together(knowledge, state, way, faults), default=())
    return [
        f.id
        for f in sorted({f.id: f for f in best}.values(), key=lambda f: (f.gate != "firmware", f.destroys, f.minutes))
    ]


_CURES_OFTEN, _PARTS_IN_MINUTES = 0.3, 0.2
"""parts count too, so that no drive is replaced to save a minute, and little, for minutes are what is bounded"""


def _helps(fix: Fix, fault: str) -> float:
    return max(fix.cures.get(fault, 0.0), fix.resolves.get(fault, 0.0))


def _together(knowledge: Knowledge, state: TicketState, way: Sequence[Fix], faults: Sequence[str]) -> float:
    """What this set of fixes takes, each made once and its place entered once, by how often it cures everything."""
    own = {f.id: f for f in way}.values()
    cures = float(np.prod([1.0 - np.prod([1.0 - _helps(f, fault) for f in own]) for fault in faults]))
    entering = sum({f.visit: entry_minutes(knowledge, state, f) for f in own}.values())
    return (sum(f.minutes + f.parts * _PARTS_IN_MINUTES for f in own) + entering) / max(cures, 1e-6)


def summarise(policy: str, runs: Sequence[RehearsalRun]) -> Summary:
    """Counts and shares over the runs of one policy."""
    called = [r.called_at - 1 for r in runs if r.called_at is not None]
    hands, total = np.array([r.hands_on for r in runs]), np.array([r.total for r in runs])
    return Summary(
        policy,
        len(runs),
        float(np.mean([r.right for r in runs])),
        float(hands.mean()),
        float(np.percentile(hands, 90)),
        float(total.mean()),
        float(np.percentile(total, 90)),
        float(np.mean([r.needless_drive for r in runs])),
        float(np.mean([r.lost for r in runs])),
        float(np.mean([r.left for r in runs])),
        float(np.mean([r.comeback for r in runs])),
        float(np.mean([r.moves for r in runs])),
        float(np.median(called)) if called else None,
        calibration([(r.confidence, r.first_right) for r in runs if r.confidence is not None]),
    )


_BINS = 10


def calibration(made: Sequence[tuple[float, bool]]) -> float | None:
    """Expected calibration error over ten bins (Guo et al., \"On Calibration of Modern Neural Networks\", 2017); None
    where no call was made."""
    if not made:
        return None
    stated, right = np.array([p for p, _ in made]), np.array([r for _, r in made], dtype=float)
    place = np.minimum((stated * _BINS).astype(int), _BINS - 1)
    return float(
        sum(
            abs(stated[place == b].mean() - right[place == b].mean()) * (place == b).mean()
            for b in range(_BINS)
            if (place == b).any()
        )
    )


def summary_document(summary: Summary) -> dict[str, object]:
    """A summary as JSON-ready values."""
    return asdict(summary)
