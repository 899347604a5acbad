"""The ledger of a ticket: what was found, what was done and what came of it, what became of the data, what was left
undone and why. Folded from the log; every paper is told from it, so that no two of them can differ."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from gatecheck.core.belief.facts import FactValue
from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.tape.entries import Entry, FactChange, Part, Reading, Signed, StepDone
from gatecheck.core.work.deeds import (
    BEGUN,
    DONE,
    ERASE,
    FAILED,
    IMAGE_BACK,
    INSTALL,
    NEW_DRIVE,
    UNDONE,
    Deed,
    deeds_of,
)
from gatecheck.core.work.job import Job
from gatecheck.core.work.proof import FAILED as NOT_PROVEN
from gatecheck.core.work.proof import OPEN, PROVEN, WAIVED, ProofLine

SURELY, LIKELY = 0.5, 0.25
"""a fault is named as found from this probability, and as possible from that one on"""
WORKS, STARTS, STOPS, NOT_TRIED, AWAY = "works", "starts", "stops", "not-tried", "away"
"""how the machine is at the end: started cold twice, starts, does not start, was not started since, is with others"""
_FITTED = ("boots", "now-seen", "other-screen", "no-change")
_FAULTS_OF_DRIVE = ("drive.dead", "drive.mechanical", "drive.media", "drive.worn")
_SIGNS_OF_DRIVE: Mapping[str, tuple[str, ...]] = {
    "health-pages": ("failing", "worn-out", "early-signs"),
    "read-scan": ("isolated-unreadable", "spreading", "one-head", "stalled"),
    "short-test": ("read-failure", "other-failure"),
    "long-test": ("read-failure", "other-failure"),
    "builtin-quick": ("failed",),
    "sound": ("ticking", "clunking", "scraping"),
    "ready-time": ("never",),
}
_UNREADABLE = ("isolated-unreadable", "spreading", "one-head", "stalled", "read-failure")
BOOTS = "boots"
_NO_REPAIR = ("nothing", "data-only")
_SMALL = ("copy-data", "power-down", "image", "rescue", "set-clock")
"""deeds that repair nothing"""
_TOUCHES_NOTHING = ("copy-data", "power-down", "image", "rescue", "refer-lab", "board-work")
"""deeds after which the machine starts as it did before"""


@dataclass(frozen=True, slots=True)
class Found:
    """A fault, and the readings (check, outcome) it rests on, the most telling first. `sure`: it was proven, or a fix
    that cures it made the difference, or it is more likely than not."""

    fault: str
    sure: bool
    rests_on: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class DataFate:
    """What became of the data. `copy`: whole, part, none (tried in vain) or empty; `before`: it was made before the
    drive was first written to. `drive`: sound, failing, unreadable, dead (as far as it was read). `erased`: on the
    customer's own drive. `written`: fixes that wrote to it without erasing it; `unfinished`: one of them did not end
    well. `old`: what happened to the drive that was taken out. `back`: whole, part, image, image-part, theirs or
    empty. `seen`: the customer has looked. `at`: lab, board or empty."""

    copy: str
    before: bool
    drive: str
    erased: bool
    written: tuple[str, ...]
    unfinished: bool
    replaced: bool
    old: str
    old_record: str
    back: str
    back_what: str
    seen: str
    seen_what: str
    at: str
    has_backup: bool
    has_data: bool


@dataclass(frozen=True, slots=True)
class LeftOpen:
    """Something that was not done. `what`: an id of the words; `why`: in somebody's own words, or empty."""

    what: str
    about: str = ""
    why: str = ""


@dataclass(frozen=True, slots=True)
class Ledger:
    found: tuple[Found, ...]
    possible: tuple[str, ...]
    """faults that could not be told apart, where nothing is sure"""
    started_at_first: bool
    stopped: str | None
    """what it showed when it was first watched, where it did not start"""
    deeds: tuple[Deed, ...]
    way: str
    """what the customer wanted done: empty, as-called, install, copy-back, they-install, data-only, nothing"""
    reason: str | None
    """why it goes back unrepaired"""
    fix: str | None
    """of the last signature"""
    data: DataFate
    open: tuple[LeftOpen, ...]
    ending: str
    updates: tuple[int, int]
    """how many, in how many rounds"""
    proof: tuple[ProofLine, ...]
    part: Part | None
    """what was really fitted"""

    @property
    def repaired(self) -> bool:
        """Something of ours is in the machine, or on its drive, to stand for."""
        done = [d for d in self.deeds if d.stands and d.result not in (FAILED, BEGUN, "no-change")]
        return any(d.what not in (*_SMALL, ERASE, "refer-lab", "board-work") for d in done)

    def has(self, *whats: str) -> bool:
        return any(d.what in whats and d.stands for d in self.deeds)


@dataclass(frozen=True, slots=True)
class LedgerCase:
    """What the ledger is folded from. `at_intake`: probability of each fault when it came, in the light of the whole
    log; `proven`: what the technician said it was. `evidence`: fault -> readings that spoke most for it. `job`: of the
    last signature, also where a step of it failed; `proof`: its final checks."""

    knowledge: Knowledge
    facts: Mapping[str, FactValue]
    entries: Sequence[Entry]
    stands: Sequence[bool]
    at_intake: Mapping[str, float]
    proven: tuple[str, ...] | None
    evidence: Mapping[str, Sequence[tuple[str, str]]]
    job: Job | None
    proof: Sequence[ProofLine]
    booted: bool

    @property
    def standing(self) -> list[tuple[int, Entry]]:
        return [(i, e) for i, (e, s) in enumerate(zip(self.entries, self.stands, strict=True)) if s]


def ledger_of(case: LedgerCase) -> Ledger:
    """Everything that the papers of this ticket may say."""
    deeds = deeds_of(case.knowledge, case.entries, case.stands)
    signed = next((e for _, e in reversed(case.standing) if isinstance(e, Signed)), None)
    way = case.job.context["way"] if case.job else ""
    answers = {e.step: e for _, e in case.standing if isinstance(e, StepDone)}
    found, possible = _found(case, deeds)
    rounds = [
        e.value
        for _, e in case.standing
        if isinstance(e, StepDone) and (e.step, e.answer) == ("updates", "round") and isinstance(e.value, int)
    ]
    ending = _ending(case, deeds)
    data = _data(case, deeds, answers, found)
    fix = signed.fix if signed else None
    at_first, stopped = _at_first(case)
    return Ledger(
        found,
        possible,
        at_first,
        stopped,
        deeds,
        way,
        signed.reason if signed else None,
        fix,
        data,
        _open(case, deeds, answers, way, fix, ending),
        ending,
        (sum(rounds), len(rounds)),
        tuple(case.proof),
        _fitted(case, deeds),
    )


# --- what was found --------------------------------------------------------------------------------------------------


def _found(case: LedgerCase, deeds: Sequence[Deed]) -> tuple[tuple[Found, ...], tuple[str, ...]]:
    """What the technician says it was; else what a fix that helped has shown, and what is more likely than not."""
    if case.proven is not None:
        sure = list(case.proven)
    else:
        sure = [f for f, p in sorted(case.at_intake.items(), key=lambda item: -item[1]) if p >= SURELY]
        for deed in deeds:
            fix = case.knowledge.fixes.get(deed.what)
            if (
                fix
                and fix.cures
                and deed.result in ("boots", "now-seen", "other-screen")
                and not set(fix.cures) & {*sure}
            ):
                best = max(fix.cures, key=lambda f: case.at_intake.get(f, 0.0))
                if best.partition(".")[0] not in {f.partition(".")[0] for f in sure}:
                    sure.append(best)
    found = tuple(Found(f, True, tuple(case.evidence.get(f, ()))) for f in sure)
    if found or case.proven is not None:
        return found, ()
    likely = sorted(case.at_intake.items(), key=lambda item: -item[1])
    return (), tuple(f for f, p in likely if p >= LIKELY)[:2]


def _at_first(case: LedgerCase) -> tuple[bool, str | None]:
    """Whether it started when it was first switched on here, and else what it showed; (False, None): not watched."""
    first = next((e for _, e in case.standing if isinstance(e, Reading) and e.move == "screen" and e.outcome), None)
    return first is not None and first.outcome == BOOTS, (
        None if first is None or first.outcome == BOOTS else str(first.outcome)
    )


# --- how it ends -----------------------------------------------------------------------------------------------------


def _ending(case: LedgerCase, deeds: Sequence[Deed]) -> str:
    last_start = max((i for i, e in case.standing if isinstance(e, Reading) and _tells_of_a_start(e)), default=-1)
    sent = max((d.places[0] for d in deeds if d.result == "sent"), default=-1)
    if sent > last_start:
        return AWAY
    changed = [d for d in deeds if d.was_done and d.what not in _TOUCHES_NOTHING]
    if max((max(d.places) for d in changed), default=-1) > last_start:
        return NOT_TRIED
    cold = {p.id: p.state for p in case.proof}
    if case.booted and cold.get("cold-1") == PROVEN and cold.get("cold-2") == PROVEN:
        return WORKS
    if case.booted:
        return STARTS
    return STOPS if last_start >= 0 else NOT_TRIED


def _tells_of_a_start(entry: Reading) -> bool:
    return entry.move == "screen" or entry.outcome in ("no-change", "other-screen", "now-seen", "boots")


# --- what became of the data -----------------------------------------------------------------------------------------


def _data(case: LedgerCase, deeds: Sequence[Deed], answers: Mapping[str, StepDone], found: Sequence[Found]) -> DataFate:
    fixes = case.knowledge.fixes
    new_in = min((d.places[0] for d in deeds if d.what in (NEW_DRIVE, "replace-drive") and d.was_done), default=None)

    def on_theirs(deed: Deed) -> bool:
        return new_in is None or deed.places[0] < new_in

    erasing = [
        d
        for d in deeds
        if (d.what in (ERASE, INSTALL) or (d.what in fixes and fixes[d.what].destroys))
        and d.was_done
        and on_theirs(d)
        and not (d.what == "reset-clean" and d.result == BEGUN)
    ]
    writing = [
        d
        for d in deeds
        if (d.what == "mend" or (d.what in fixes and fixes[d.what].writes and not fixes[d.what].destroys))
        and d.stands
        and on_theirs(d)
    ]
    begun = [d for d in deeds if d.what == "reset-clean" and d.result in (BEGUN, FAILED)]
    copy, copied_at = _copy(case, deeds)
    first_write = min((d.places[0] for d in (*erasing, *writing)), default=None)
    old = answers.get("old-drive")
    back, seen = answers.get("data-back"), answers.get("data-seen")
    image = next((d for d in reversed(deeds) if d.what == IMAGE_BACK and d.was_done and d.result != FAILED), None)
    away = next((d for d in reversed(deeds) if d.what in ("refer-lab", "board-work") and d.result == "sent"), None)
    return DataFate(
        copy=copy,
        before=copied_at is not None and (first_write is None or copied_at < first_write),
        drive=_state_of_drive(case, found, copy),
        erased=bool(erasing),
        written=tuple(dict.fromkeys(d.what for d in (*writing, *begun))),
        unfinished=any(d.result in (FAILED, BEGUN) for d in (*writing, *begun)),
        replaced=new_in is not None,
        old=old.answer if old else "",
        old_record=str(old.value or "") if old else "",
        back=_brought_back(back, image),
        back_what=str(back.value or "") if back and back.answer in ("checked", "partly") else "",
        seen=seen.answer if seen else "",
        seen_what=str(seen.value or "") if seen and seen.answer == "missing" else "",
        at={"refer-lab": "lab", "board-work": "board"}[away.what] if away else "",
        has_backup=_said_backup(case),
        has_data=case.facts.get("data") != "none",
    )


def _copy(case: LedgerCase, deeds: Sequence[Deed]) -> tuple[str, int | None]:
    """whole, part, none or nothing; and where in the log the best copy stands."""
    made = [(d.places[0], d.result) for d in deeds if d.what == "copy-data"]
    for what, result in (("whole", "complete"), ("part", "partial"), ("none", "could-not")):
        own = [place for place, said in made if said == result]
        if own:
            return what, own[0] if what != "none" else None
    return "", None


def _said_backup(case: LedgerCase) -> bool:
    """The ticket says that there is a backup, and not because we made one."""
    said = [e.facts["data"] for _, e in case.standing if isinstance(e, FactChange) and "data" in e.facts]
    copied = any(isinstance(e, Reading) and e.move == "copy-data" and e.outcome == "complete" for _, e in case.standing)
    return (said[-1] == "backed-up") if said else (case.facts.get("data") == "backed-up" and not copied)


def _state_of_drive(case: LedgerCase, found: Sequence[Found], copy: str) -> str:
    """The drive it came with: dead, unreadable in part, failing, or sound as far as anybody looked."""
    faults = {f.fault for f in found}
    if "drive.dead" in faults:
        return "dead"
    last: dict[str, str] = {}
    for _, entry in case.standing:
        if isinstance(entry, StepDone) and (entry.step, entry.answer) == ("new-in", "in"):
            break  # what is read from here on is the new one
        if isinstance(entry, Reading) and entry.move in _SIGNS_OF_DRIVE and entry.outcome:
            last[entry.move] = entry.outcome
    signs = {move: outcome for move, outcome in last.items() if outcome in _SIGNS_OF_DRIVE[move]}
    if case.facts.get("drive_kind") in ("sata-ssd", "nvme", "emmc"):
        signs.pop("sound", None)
    if copy in ("part", "none") or set(signs.values()) & set(_UNREADABLE):
        return "unreadable"
    if faults & set(_FAULTS_OF_DRIVE) or (signs and case.proven is None):
        return "failing"
    return "sound"


def _brought_back(back: StepDone | None, image: Deed | None) -> str:
    if back is not None:
        return {"checked": "whole", "partly": "part", "theirs": "theirs"}.get(back.answer, "")
    return "" if image is None else "image-part" if image.result == "partial" else "image"


# --- what was left undone --------------------------------------------------------------------------------------------


def _open(
    case: LedgerCase,
    deeds: Sequence[Deed],
    answers: Mapping[str, StepDone],
    way: str,
    fix: str | None,
    ending: str,
) -> tuple[LeftOpen, ...]:
    left: list[LeftOpen] = []
    if fix and way not in _NO_REPAIR and not _was_carried_out(fix, way, deeds):
        refused = any(d.what == fix and d.result == "declined" for d in deeds)
        ordered = answers.get("part")
        waits = fix == "replace-drive" and ordered is not None and ordered.answer == "none"
        left.append(LeftOpen("not-wanted" if refused else "part-ordered" if waits else "not-done", fix))
    if fix and way in _NO_REPAIR:
        left.append(LeftOpen("not-wanted", fix))
    for deed in deeds:
        if deed.result == BEGUN and deed.what in case.knowledge.fixes and case.knowledge.fixes[deed.what].trial:
            left.append(LeftOpen("trial-open", deed.what))
    told = {
        ("updates", "fails"): "update-failed",
        ("drivers", "named"): "drivers-missing",
        ("activation", "theirs"): "activation-theirs",
        ("activation", "not-yet"): "activation-open",
        ("account", "waits"): "account-theirs",
        ("data-back", "theirs"): "data-theirs",
        ("data-seen", "missing"): "data-missing",
    }
    for (step, answer), what in told.items():
        own = answers.get(step)
        if own is not None and own.answer == answer:
            left.append(LeftOpen(what, "", str(own.value or "")))
    if way == "they-install":
        left.append(LeftOpen("install-theirs"))
    for line in case.proof:
        if line.state == WAIVED:
            left.append(LeftOpen("skipped", line.id, line.reason))
        elif line.state in (OPEN, NOT_PROVEN) and way not in _NO_REPAIR:
            left.append(LeftOpen("unchecked" if line.state == OPEN else "not-passed", line.id))
    if ending == STOPS:
        left.insert(0, LeftOpen("does-not-start"))
    return tuple(left)


def _was_carried_out(fix: str, way: str, deeds: Sequence[Deed]) -> bool:
    parts = {
        "replace-drive": (NEW_DRIVE, "replace-drive"),
        "reinstall": (INSTALL, "reinstall"),
    }.get(fix, (fix,))
    return any(d.what in parts and d.was_done and d.result not in (UNDONE,) for d in deeds)


def _fitted(case: LedgerCase, deeds: Sequence[Deed]) -> Part | None:
    """The part that was chosen last, once it is in the machine."""
    part = next((e for _, e in reversed(case.standing) if isinstance(e, Part)), None)
    is_in = any(
        (d.what == NEW_DRIVE and d.stands) or (d.what == "replace-drive" and d.result in (*_FITTED, DONE))
        for d in deeds
    )
    return part if is_in else None
