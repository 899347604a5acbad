"""A signed call as a job: its steps from the tables, what is settled, and the one that is in hand. Nothing of it is
stored; it is folded."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from gatecheck.core.belief.facts import FactValue
from gatecheck.core.decide.interlocks import Held
from gatecheck.core.errors import TapeError
from gatecheck.core.knowledge.instruments import FactTest, SettingRow
from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.knowledge.work import FIX, SCREEN_NOW, VALUE, Answer, Step
from gatecheck.core.tape.entries import (
    Entry,
    Part,
    PartBrought,
    PutBack,
    Reading,
    Reopened,
    Signed,
    StepDone,
    Waived,
)
from gatecheck.core.tape.fold import TRIAGE, TicketState
from gatecheck.core.work.tray import TrayGroup, lying, tray_of

Context = Mapping[str, str]


@dataclass(frozen=True, slots=True)
class SeenDrive:
    """A drive of this machine, as a capture or its label tells it. `is_own`: the system may be on it."""

    name: str
    serial: str
    size_gb: float | None
    is_own: bool = True

    @property
    def ends(self) -> str:
        return self.serial.strip().upper()[-4:]


Body = dict[str, object]

INSIDE = ("open", "drive", "fit", "mend", "install")
"""phases that are left out where the fix of the call was carried out before it was signed, and the machine starts"""
OPENING = ("replace-drive", "reseat", "swap-cable", "replace-battery", "swap-memory", "repair-power", "refer-lab")
_HELPED, _DID_NOT = ("boots", "sent"), ("no-change", "other-screen", "now-seen")
_UNTOUCHED = ("nothing", "data-only")
_CLOCK_DOUBTED = ("wrong", "reset-to-default")
LOOK_AGAIN = 5.0
"""minutes until a step that was answered with "not yet" wants hands again"""


@dataclass(frozen=True, slots=True)
class JobStep:
    """A step of this job. `state`: done, waived, now, later. `entry`: its last answer. `tries`: answers after which it
    stayed.

    due: (entry it counts from, minutes); held: what holds it back; may_lead: it may be brought forward.
    """

    step: Step
    state: str
    entry: int | None
    answer: str | None
    tries: int
    held: tuple[Held, ...]
    due: tuple[int, float] | None
    may_lead: bool

    @property
    def is_settled(self) -> bool:
        return self.state in ("done", "waived")


@dataclass(frozen=True, slots=True)
class Job:
    """What was called, as work. `started`: place of the signature it began with."""

    started: int
    choice: str
    fix: str | None
    name: str
    context: Context
    steps: tuple[JobStep, ...]
    tray: tuple[TrayGroup, ...]
    part: Part | None
    outcomes: tuple[str, ...]
    """of its fix"""

    @property
    def now(self) -> JobStep | None:
        return next((s for s in self.steps if s.state == "now"), None)

    @property
    def minutes_left(self) -> float:
        return sum(s.step.minutes for s in self.steps if not s.is_settled)

    def find(self, step: str) -> JobStep | None:
        return next((s for s in self.steps if s.step.id == step), None)


@dataclass(frozen=True, slots=True)
class _Answered:
    entry: int
    answer: str | None
    settled: bool
    waived: bool


def job_of(
    knowledge: Knowledge,
    state: TicketState,
    entries: Sequence[Entry],
    stands: Sequence[bool],
    held: Iterable[Held] = (),
) -> Job | None:
    """The job of the standing signature; None while no call is signed, or after a step of it led back into triage."""
    return None if state.signed is None else _job_at(knowledge, state, entries, stands, held, state.signed)


def last_job(knowledge: Knowledge, state: TicketState, entries: Sequence[Entry], stands: Sequence[bool]) -> Job | None:
    """The job of the last signature, also where a step of it led back into triage: what it has to prove is still to be
    proven. None where nothing was ever signed."""
    places = [i for i, e in enumerate(entries) if stands[i] and isinstance(e, Signed)]
    return _job_at(knowledge, state, entries, stands, (), places[-1]) if places else None


def _job_at(
    knowledge: Knowledge,
    state: TicketState,
    entries: Sequence[Entry],
    stands: Sequence[bool],
    held: Iterable[Held],
    place: int,
) -> Job:
    signed = entries[place]
    assert isinstance(signed, Signed)
    started = _start(entries, stands, place)
    answers, tries, brought = _answered(entries, stands, started)
    groups = tray_of(entries, stands)
    context = _context(knowledge, state, entries, stands, started, signed, answers)
    wanted = [step for step in knowledge.work.steps.values() if step.id in answers or _belongs(step, context)]
    steps = _in_order(knowledge, wanted, answers, tries, brought, context, tuple(held))
    part = next(
        (e for e, s in zip(reversed(entries), reversed(stands), strict=True) if s and isinstance(e, Part)), None
    )
    outcomes = knowledge.fixes[signed.fix].outcomes if signed.fix else ()
    return Job(started, signed.choice, signed.fix, _name(knowledge, context), context, steps, groups, part, outcomes)


def _start(entries: Sequence[Entry], stands: Sequence[bool], signed: int) -> int:
    """The first signature of this job: the same call signed again goes on where it was, unless a step of it went
    wrong."""
    start = signed
    for index in range(signed - 1, -1, -1):
        entry = entries[index]
        if not stands[index]:
            continue
        if isinstance(entry, StepDone) and entry.leads == TRIAGE:
            break
        if isinstance(entry, Signed):
            if entry != entries[signed]:
                break
            start = index
    return start


def _answered(
    entries: Sequence[Entry], stands: Sequence[bool], started: int
) -> tuple[dict[str, _Answered], dict[str, int], list[str]]:
    """Step -> its last answer, how often it stayed, and what was brought forward, in that order."""
    answers: dict[str, _Answered] = {}
    tries: dict[str, int] = {}
    brought: list[str] = []
    again = _reopened(entries, stands)
    for index in range(started + 1, len(entries)):
        entry = entries[index]
        if not stands[index]:
            continue
        if isinstance(entry, StepDone):
            answers[entry.step] = _Answered(index, entry.answer, entry.leads == "on", False)
            tries[entry.step] = tries.get(entry.step, 0) + (entry.leads == "again")
        elif isinstance(entry, Waived):
            if index > again:
                answers[entry.step] = _Answered(index, None, True, True)
        elif isinstance(entry, PartBrought):
            brought.append(entry.step)
    return answers, tries, brought


def _reopened(entries: Sequence[Entry], stands: Sequence[bool]) -> int:
    """Where the ticket was taken up again last: what was skipped to hand it over counts anew."""
    return max((i for i, e in enumerate(entries) if stands[i] and isinstance(e, Reopened)), default=-1)


def _context(
    knowledge: Knowledge,
    state: TicketState,
    entries: Sequence[Entry],
    stands: Sequence[bool],
    started: int,
    signed: Signed,
    answers: Mapping[str, _Answered],
) -> Context:
    """The rows that a step's `when` may name. Facts that nobody knows are empty."""
    facts: dict[str, str] = {name: str(state.facts.get(name, "") or "") for name in knowledge.facts}
    facts["platform"] = facts["platform"] or "pc"  # what nobody said is the ordinary case
    fix = signed.fix or ""
    context = {**facts, "call": signed.choice, "fix": fix, "system": _system(state.facts)}
    ways = [s for s in knowledge.work.steps.values() if s.is_way and signed.choice in s.when.get("call", ())]
    said = next((answers[s.id].answer for s in ways if s.id in answers and answers[s.id].answer), None)
    before = list(stands)
    before[started:] = [False] * (len(before) - started)
    unrepaired = signed.reason or (signed.choice == "release" and _does_not_start(entries, before))
    context["way"] = said or (next(iter(ways[0].answers)) if ways else "nothing" if unrepaired else "")
    is_open = bool(lying(tray_of(entries, before)))
    done = bool(fix) and _was_carried_out(entries, before, fix)
    opens = (
        is_open
        or bool(lying(tray_of(entries, stands)))
        or (fix in OPENING and context["way"] not in _UNTOUCHED and not done)
    )
    doubted = any(
        s
        and isinstance(e, Reading)
        and ((e.move == "clock" and e.outcome in _CLOCK_DOUBTED) or e.move == "replace-battery")
        for e, s in zip(entries, stands, strict=True)
    )
    return {
        **context,
        **{
            name: "yes" if holds else "no"
            for name, holds in (
                ("opens", opens),
                ("open", is_open),
                ("done", done),
                ("battery", doubted),
                ("stale", bool(stale_settings(knowledge, state))),
            )
        },
    }


def stale_settings(knowledge: Knowledge, state: TicketState) -> tuple[str, ...]:
    """Settings that were read, and that something done since may have changed."""
    return tuple(row.id for row in knowledge.settings.rows.values() if is_stale(row, state))


def is_stale(row: SettingRow, state: TicketState) -> bool:
    """It was read by a check, and something done since may have changed it: what it showed then proves nothing now. A
    setting that was itself changed, and kept, stands at what it was set to."""
    if row.check is None or row.check not in state.latest or row.check in state.current:
        return False
    kept = max((t.index for t in state.trials if t.fix == row.fix and t.standing == "kept"), default=-1)
    return kept < state.latest[row.check][0]


def _system(facts: Mapping[str, FactValue]) -> str:
    system = str(facts.get("installed_os") or "unknown").partition("-")[0]
    return system if system in ("windows", "linux", "macos") else "unknown"


def _was_carried_out(entries: Sequence[Entry], stands: Sequence[bool], fix: str) -> bool:
    """This fix made the machine start, it was not put back, and nothing since says that it does not start."""
    helped = False
    for entry, stand in zip(entries, stands, strict=True):
        if stand and isinstance(entry, PutBack) and entry.fix == fix:
            helped = False
        elif stand and isinstance(entry, Reading):
            if entry.move == fix and entry.outcome in _HELPED:
                helped = True
            elif (entry.move == "screen" and entry.outcome != "boots") or entry.outcome in _DID_NOT:
                helped = False
    return helped


def _does_not_start(entries: Sequence[Entry], stands: Sequence[bool]) -> bool:
    """What it showed last is no start: no cold start is asked of it when it goes back as it is."""
    stops = False
    for entry, stand in zip(entries, stands, strict=True):
        if stand and isinstance(entry, Reading) and (entry.move == "screen" or entry.outcome == "boots"):
            stops = entry.outcome != "boots"
    return stops


def holds(when: FactTest, context: Context) -> bool:
    """Every row of the condition holds."""
    return all(context.get(row, "") in values for row, values in when.items())


def _belongs(step: Step, context: Context) -> bool:
    if context["done"] == "yes" and step.phase in INSIDE:
        return False
    return holds(step.when, context)


def _name(knowledge: Knowledge, context: Context) -> str:
    return next(job.name for job in knowledge.work.jobs if holds(job.when, context))


def _in_order(
    knowledge: Knowledge,
    wanted: Sequence[Step],
    answers: Mapping[str, _Answered],
    tries: Mapping[str, int],
    brought: Sequence[str],
    context: Context,
    held: Sequence[Held],
) -> tuple[JobStep, ...]:
    """The steps as they are to be taken; exactly one unsettled one is `now`."""
    ids = {step.id for step in wanted}
    settled = {name for name, a in answers.items() if a.settled}

    def is_ready(step: Step) -> bool:
        return all(need in settled for need in step.needs if need in ids)

    lead = [step for name in brought for step in wanted if step.id == name and name not in settled and is_ready(step)]
    ready = [
        *lead,
        *(s for s in wanted if s.id not in settled and is_ready(s)),
        *(s for s in wanted if s.id not in settled),
    ]
    now = ready[0] if ready else None
    led = [*lead[:1], *(s for s in wanted if s not in lead[:1])] if now is not None and lead else list(wanted)
    found = []
    for step in sorted(led, key=lambda s: s.id not in settled) if lead else led:
        answer = answers.get(step.id)
        state = (
            "waived"
            if answer and answer.waived
            else "done"
            if answer and answer.settled
            else "now"
            if step is now
            else "later"
        )
        moves = ("copy-data",) if step.id == "copy" else (context["fix"],)
        found.append(
            JobStep(
                step,
                state,
                answer.entry if answer else None,
                answer.answer if answer else None,
                tries.get(step.id, 0),
                tuple(h for h in held if h.interlock in step.held_by and h.move in moves)
                if state in ("now", "later")
                else (),
                _due(knowledge, step, answers, context) if state in ("now", "later") else None,
                state == "later" and is_ready(step),
            )
        )
    return tuple(found)


def _due(
    knowledge: Knowledge, step: Step, answers: Mapping[str, _Answered], context: Context
) -> tuple[int, float] | None:
    if step.due is None:
        return None
    own, after = answers.get(step.id), answers.get(step.due.after)
    if own is not None and not own.settled:
        return own.entry, LOOK_AGAIN
    if after is None or after.waived:
        return None
    fix = knowledge.fixes.get(context["fix"])
    return after.entry, step.due.minutes or (fix.unattended if fix else 0.0)


# --- answering -------------------------------------------------------------------------------------------------------


def answer_bodies(
    job: Job, state: TicketState, step_id: str, answer_id: str, value: object, at: int, drives: Sequence[SeenDrive] = ()
) -> list[Body]:
    """The entries that an answer puts on the tape, the first at place `at`: the step, and what follows from it.

    `drives`: what is known of the drives in this machine; the four characters typed before anything is erased have to
    be those of the right one. Raises TapeError where the step is not of this job, is settled, is held, or something of
    it still lies on the tray."""
    own = open_step(job, step_id)
    where = f"step {step_id}"
    answer = own.step.answers.get(answer_id)
    if answer is None:
        raise TapeError(where, expected=f"one of {', '.join(own.step.answers)}", got=repr(answer_id))
    if own.held and answer.leads == "on":
        raise TapeError(where, expected=f"what releases {own.held[0].interlock}", got="nothing yet")
    out = lying(job.tray)
    if own.step.empties and out:
        raise TapeError(
            where,
            expected="an empty tray",
            got=f"{out[0].out.name} ({out[0].out.count}) and {len(out) - 1} more groups"
            if len(out) > 1
            else f"{out[0].out.name} ({out[0].out.count})",
        )
    if answer.asks == "last4":
        check_last4(job, value, drives)
    body: Body = {"step": step_id, "answer": answer_id}
    if answer.asks is not None:
        body["value"] = value
    elif value not in (None, ""):
        raise TapeError(where, expected="nothing beside the answer", got=repr(value)[:60])
    return [body, *_following(job, state, answer, value, at)]


def target_of(job: Job, drives: Sequence[SeenDrive]) -> SeenDrive | None:
    """The drive that this job writes to: the new one where it was replaced, else the only one that is known as the
    system's own."""
    if job.choice == "replace":
        part = job.part
        return SeenDrive(part.name, part.serial, part.size_gb) if part and part.serial else None
    own = [d for d in drives if d.is_own]
    return own[0] if len(own) == 1 else None


def check_last4(job: Job, value: object, drives: Sequence[SeenDrive]) -> None:
    """Raises TapeError where these are not the last four characters of the serial of the drive that is to be
    written."""
    where = "step right-drive"
    typed = str(value or "").strip().upper()
    if len(typed) != 4:
        raise TapeError(
            where, expected="the last four characters of its serial", got=repr(typed[:40]) if typed else "nothing"
        )
    target = target_of(job, drives)
    others = [d for d in drives if d.ends == typed and (target is None or d.serial != target.serial)]
    if target is not None and target.ends != typed:
        raise TapeError(
            where,
            expected=f"the last four characters of {target.serial} ({target.name})",
            got=f"{typed}, which is {others[0].name}, {others[0].serial}" if others else typed,
        )
    if target is None and job.choice == "replace":
        if others:  # nobody noted the new one's serial: at least it is not one that was in the machine before
            raise TapeError(
                where,
                expected="the last four characters of the new drive's serial",
                got=f"{typed}, which is {others[0].name}, {others[0].serial}",
            )
        return
    if target is None and drives and typed not in {d.ends for d in drives}:
        raise TapeError(
            where,
            expected=f"those of a drive that was read here ({', '.join(d.serial for d in drives if d.serial)})",
            got=typed,
        )


def open_step(job: Job, step_id: str) -> JobStep:
    """The step, which has to be of this job and open. Raises TapeError."""
    own = job.find(step_id)
    if own is None:
        raise TapeError(f"step {step_id}", expected=f"a step of this job ({job.name})", got="none of it")
    if own.is_settled:
        raise TapeError(
            f"step {step_id}", expected="one that is still open", got=f"one that entry {own.entry} has answered"
        )
    return own


def _following(job: Job, state: TicketState, answer: Answer, value: object, at: int) -> list[Body]:
    bodies: list[Body] = []
    if answer.not_weighed is None or not holds(answer.not_weighed, job.context):
        for move, outcome in answer.weighs:
            made = _weighed(job, state, move, outcome, value)
            if made is not None:
                bodies.append({**made, "belongs": at})
    if answer.sets:
        bodies.append({"fact": {fact: value if said == VALUE else said for fact, said in answer.sets}, "belongs": at})
    return bodies


def _weighed(job: Job, state: TicketState, move: str, outcome: str, value: object) -> Body | None:
    if move == FIX and (job.fix is None or job.context["done"] == "yes"):
        # nothing was changed by this job: the start itself is what was seen
        return {"move": "screen", "outcome": outcome} if outcome == "boots" else None
    if outcome == SCREEN_NOW:
        seen = state.last("screen")
        outcome = "no-change" if seen is not None and seen.outcome == value else "other-screen"
    if move == FIX and outcome not in job.outcomes:
        return None  # a fix that is not answered by how the machine starts
    return {"move": job.fix if move == FIX else move, "outcome": value if outcome == VALUE else outcome}
