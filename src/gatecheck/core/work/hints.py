"""What a step should be told with: from the tape, the pages that were read, and the shop's own books. Sentences by id;
nothing is claimed that was not read."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from gatecheck.core.belief.facts import FactValue
from gatecheck.core.capture.identity import same_serial
from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.tape.entries import Entry, StepDone
from gatecheck.core.words.said import Said, say
from gatecheck.core.work.job import Job, JobStep, SeenDrive, target_of
from gatecheck.core.work.tray import lying, screws

_ALIKE, _OLDEST = 0.05, 60
_MODERN = ("windows-11", "windows-10", "windows-8", "linux")


@dataclass(frozen=True, slots=True)
class JobKnowledge:
    """What is known beside the tape. `licence`: a licence table in the firmware, None where its tables were not read;
    `picker`: the key that opens the boot picker; `changed`: settings that do not stand as they were found; `minutes`:
    when each entry was made, in minutes."""

    drives: Sequence[SeenDrive]
    licence: bool | None
    picker: str | None
    changed: Sequence[str]
    minutes: Sequence[float]
    stale: Sequence[str] = ()
    """settings that were read before something that may have changed them"""


@dataclass(frozen=True, slots=True)
class _At:
    """Where a hint stands: its knowledge, its job and what the job has been told."""

    knowledge: Knowledge
    facts: Mapping[str, FactValue]
    job: Job
    answers: Mapping[str, tuple[int, StepDone]]
    entries: Sequence[Entry]
    known: JobKnowledge


def hints_of(
    knowledge: Knowledge,
    facts: Mapping[str, FactValue],
    job: Job,
    own: JobStep,
    entries: Sequence[Entry],
    stands: Sequence[bool],
    known: JobKnowledge,
) -> list[Said]:
    """What stands under this step."""
    answers = {
        e.step: (i, e) for i, e in enumerate(entries) if stands[i] and i > job.started and isinstance(e, StepDone)
    }
    at = _At(knowledge, facts, job, answers, entries, known)
    return [said for hint in own.step.hints if hint in _HINTS for said in _HINTS[hint](at)]


def _system(at: _At) -> list[Said]:
    system = at.facts.get("installed_os")
    return [say("work.system", system=str(system).replace("-", " "))] if system and system != "unknown" else []


def _licence(at: _At) -> list[Said]:
    return [
        say(
            "work.licence-not-read"
            if at.known.licence is None
            else "work.licence-there"
            if at.known.licence
            else "work.licence-none"
        )
    ]


def _screws(at: _At) -> list[Said]:
    return [say("work.screws", count=screws(at.job.tray))] if screws(at.job.tray) else []


def _serial(at: _At) -> list[Said]:
    typed = _said(at, "label")
    own = [d for d in at.known.drives if d.is_own and d.serial]
    if not typed:
        return [say("work.read-serial", name=own[0].name, serial=own[0].serial)] if len(own) == 1 else []
    if any(same_serial(d.serial, typed) for d in own):
        return [say("work.same-drive", serial=typed)]
    return (
        [say("work.other-drive", serial=typed, read=own[0].serial)] if own else [say("work.label-only", serial=typed)]
    )


def _age(at: _At) -> list[Said]:
    year, now = at.facts.get("drive_year"), at.facts.get("as_of_year")
    if not isinstance(year, int | float) or not isinstance(now, int | float) or not 0 <= now - year < _OLDEST:
        return []
    return [say("work.age", year=int(year), years=int(now - year))]


def _carrier(at: _At) -> list[Said]:
    lay = at.answers.get("carrier")
    if lay is None:
        return []
    return [say("work.carrier", lay=at.knowledge.work.steps["carrier"].answers[lay[1].answer].say)]


def _size(at: _At) -> list[Said]:
    size = at.job.part.size_gb if at.job.choice == "replace" and at.job.part else at.facts.get("drive_size_gb")
    return [say("work.size", size=float(size))] if isinstance(size, int | float) and size else []


def _left_over(at: _At) -> list[Said]:
    out = lying(at.job.tray)
    return [say("work.lies-out", count=sum(g.out.count for g in out), name=out[0].out.name)] if out else []


def _reset(at: _At) -> list[Said]:
    return [say("work.reset", fix=at.job.fix)] if at.job.fix in at.knowledge.work.resets else []


def _baseline(at: _At) -> list[Said]:
    part = at.job.part
    if part is None:
        return []
    read = next((d for d in at.known.drives if same_serial(d.serial, part.serial)), None)
    return [say("work.baseline-read" if read else "work.baseline", name=part.name, serial=part.serial or "—")]


def _media(at: _At) -> list[Said]:
    layout = str(at.facts.get("disk_layout") or "unknown")
    if layout == "unknown":
        layout = "gpt" if at.facts.get("installed_os") in _MODERN else "unknown"
    found = [{"gpt": say("work.media-gpt"), "mbr": say("work.media-mbr")}.get(layout, say("work.media-unknown"))]
    edition = at.answers.get("edition")
    if edition and edition[1].answer != "not-read":
        found.append(
            say(
                "work.edition",
                edition=edition[1].value or at.knowledge.work.steps["edition"].answers[edition[1].answer].say,
            )
        )
    return found


def _picker(at: _At) -> list[Said]:
    return [say("work.picker", key=at.known.picker)] if at.known.picker else []


def _right_drive(at: _At) -> list[Said]:
    target = target_of(at.job, at.known.drives)
    return (
        [say("work.target", name=target.name, serial=target.serial, size=target.size_gb)]
        if target
        else [say("work.no-target")]
    )


def _drives(at: _At) -> list[Said]:
    target = target_of(at.job, at.known.drives)
    others = [d for d in at.known.drives if target is None or not same_serial(d.serial, target.serial)]
    found = [say("work.other", name=d.name, serial=d.serial or "—", size=d.size_gb) for d in others]
    if (
        target
        and target.size_gb
        and any(d.size_gb and abs(d.size_gb - target.size_gb) <= _ALIKE * target.size_gb for d in others)
    ):
        found.append(say("work.sizes-alike"))
    return found


def _account(at: _At) -> list[Said]:
    said = {"local": say("work.account-local"), "online": say("work.account-online")}
    return [said.get(str(at.facts.get("account")), say("work.account-unasked"))]


def _rounds(at: _At) -> list[Said]:
    rounds = [
        (i, e)
        for i, e in enumerate(at.entries)
        if isinstance(e, StepDone) and i > at.job.started and (e.step, e.answer) == ("updates", "round")
    ]
    if not rounds:
        return []
    begun = at.answers.get("account", (rounds[0][0], None))[0]
    took = at.known.minutes[rounds[-1][0]] - at.known.minutes[begun] if at.known.minutes else 0.0
    return [
        say(
            "work.rounds",
            rounds=len(rounds),
            count=sum(e.value for _, e in rounds if isinstance(e.value, int)),
            minutes=max(took, 0.0),
        )
    ]


def _edition(at: _At) -> list[Said]:
    where = at.answers.get("licence")
    return (
        [say("work.licence-said", where=at.knowledge.work.steps["licence"].answers[where[1].answer].say)]
        if where
        else []
    )


def _settings(at: _At) -> list[Said]:
    return [say("work.not-as-found", rows=list(at.known.changed)) if at.known.changed else say("work.as-found")]


def _said(at: _At, step: str) -> str:
    found = at.answers.get(step)
    return str(found[1].value or "") if found else ""


def _stale(at: _At) -> list[Said]:
    return [say("work.read-again", rows=list(at.known.stale))] if at.known.stale else []


_HINTS: Mapping[str, Callable[[_At], list[Said]]] = {
    "system": _system,
    "licence": _licence,
    "screws": _screws,
    "serial": _serial,
    "carrier": _carrier,
    "size": _size,
    "left-over": _left_over,
    "reset": _reset,
    "baseline": _baseline,
    "media": _media,
    "picker": _picker,
    "right-drive": _right_drive,
    "drives": _drives,
    "age": _age,
    "account": _account,
    "rounds": _rounds,
    "edition": _edition,
    "settings": _settings,
    "stale": _stale,
}
