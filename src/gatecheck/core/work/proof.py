"""The proof list: what was done, shown to hold. Each line names the entries it rests on."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from gatecheck.core.instruments.settings import SettingsSheet
from gatecheck.core.knowledge.work import Automatic
from gatecheck.core.tape.entries import Entry, Reopened, Waived
from gatecheck.core.tape.fold import TicketState
from gatecheck.core.words.said import Said, say
from gatecheck.core.work.job import Job, JobStep, is_stale
from gatecheck.core.work.tray import lying

_READ_AGAIN = ("settings-again", "order-again")
"""steps at which the settings are looked at once more, and set right"""
PROVEN, OPEN, FAILED, WAIVED = "proven", "open", "failed", "waived"


@dataclass(frozen=True, slots=True)
class ProofLine:
    """`state`: proven, open, failed, waived. `entries`: what it rests on."""

    id: str
    name: str
    state: str
    entries: tuple[int, ...]
    why: Said | None
    reason: str
    """why it was waived, in somebody's own words"""


def proof_of(
    job: Job,
    automatic: Sequence[Automatic],
    state: TicketState,
    sheet: SettingsSheet,
    entries: Sequence[Entry],
    stands: Sequence[bool],
) -> tuple[ProofLine, ...]:
    """Every line that this job has to prove, in the order of the tables."""
    again = max(i if isinstance(e, Reopened) and stands[i] else job.started for i, e in enumerate(entries))
    waived = {e.step: (i, e.reason) for i, e in enumerate(entries) if stands[i] and i > again and isinstance(e, Waived)}
    lines = [_of_step(step, waived) for step in job.steps if step.step.proof]
    for own in automatic:
        found = _ANSWERS[own.needs](_Case(job, state, sheet))
        if found is not None:
            shown, places, why = found
            if shown != PROVEN and own.id in waived:
                lines.append(ProofLine(own.id, own.name, WAIVED, (waived[own.id][0],), why, waived[own.id][1]))
            else:
                lines.append(ProofLine(own.id, own.name, shown, places, why, ""))
    return tuple(lines)


def unproven(lines: Sequence[ProofLine]) -> tuple[ProofLine, ...]:
    return tuple(line for line in lines if line.state in (OPEN, FAILED))


def _of_step(own: JobStep, waived: dict[str, tuple[int, str]]) -> ProofLine:
    step = own.step
    places = () if own.entry is None else (own.entry,)
    if own.state == "waived":
        return ProofLine(step.id, step.name, WAIVED, places, None, waived[step.id][1] if step.id in waived else "")
    if own.answer is None:
        return ProofLine(step.id, step.name, OPEN, (), None, "")
    answer = step.answers[own.answer]
    return ProofLine(
        step.id, step.name, PROVEN if answer.proves else FAILED, places, say("work.answered", said=answer.say), ""
    )


@dataclass(frozen=True, slots=True)
class _Case:
    job: Job
    state: TicketState
    sheet: SettingsSheet


Answer = tuple[str, tuple[int, ...], Said | None]
"""state, entries and why"""


def _no_trial_stands(own: _Case) -> Answer | None:
    standing = [t for t in own.state.trials if t.standing in ("open", "pending")]
    if not standing:
        return PROVEN, (), None
    return FAILED, tuple(t.index for t in standing), say("work.on-trial", moves=[t.fix for t in standing])


def _nothing_lies_on_the_tray(own: _Case) -> Answer | None:
    tray = own.job.tray
    if not tray:
        return None
    out, missing = lying(tray), [g for g in tray if g.missing]
    if out:
        count = sum(g.out.count for g in out)
        return OPEN, tuple(g.entry for g in out), say("work.lies-out", count=count, name=out[0].out.name)
    if missing:
        count, places = sum(g.missing for g in missing), tuple(g.back for g in missing if g.back is not None)
        return FAILED, places, say("work.missing", count=count, name=missing[0].out.name)
    return PROVEN, tuple(g.back for g in tray if g.back is not None), None


def _settings_stand_as_found(own: _Case) -> Answer | None:
    read = [r for r in own.sheet.rows if r.found is not None or r.now is not None]
    if not read or own.job.choice == "refer":
        return None  # nobody looked: nothing is claimed
    if own.job.context["way"] in ("nothing", "data-only"):
        return None  # it goes back as it was found
    again = max((s.entry or -1 for s in own.job.steps if s.step.id in _READ_AGAIN and s.state == "done"), default=-1)
    stale = [r for r in read if is_stale(r.row, own.state)]
    unread = [r for r in stale if (r.entry or -1) > again]
    if unread:
        return OPEN, (), say("work.read-again", rows=[r.row.name for r in unread])
    read = [r for r in read if r not in stale]
    if not read:
        return PROVEN, (again,), None
    kept = [(t.fix, t.index) for t in own.state.trials if t.standing == "kept"]
    differs = [
        r
        for r in read
        if r.state == "differs" and not any(fix == r.row.fix and place > (r.entry or -1) for fix, place in kept)
    ]
    places = tuple(r.entry for r in (differs or read) if r.entry is not None)
    if not differs:
        return PROVEN, places, None
    return FAILED, places, say("work.differs", rows=[r.row.name for r in differs])


_ANSWERS: Mapping[str, Callable[[_Case], Answer | None]] = {
    "trials": _no_trial_stands,
    "tray": _nothing_lies_on_the_tray,
    "settings": _settings_stand_as_found,
}
"""what a line of the proof needs (`work.toml`) -> what the tape answers; None where it says nothing of this machine"""
