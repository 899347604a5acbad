"""A ticket's ledger, and its log as lines of the technical sheet."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from gatecheck.core.decide.explain import weights_of_evidence
from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.tape.entries import (
    Broken,
    Changed,
    Entry,
    FactChange,
    Note,
    Override,
    Part,
    PartBrought,
    Photo,
    Proven,
    PutBack,
    Reading,
    RefittedGroup,
    RemovedGroup,
    Reopened,
    Saw,
    Signed,
    Spent,
    Started,
    StepDone,
    TriedKey,
    Undo,
    Waived,
)
from gatecheck.core.tape.fold import intake_prior
from gatecheck.core.words.catalogue import Words
from gatecheck.core.words.said import Said, say
from gatecheck.core.work.ledger import LIKELY, Ledger, LedgerCase, ledger_of
from gatecheck.server.ear.service import EAR
from gatecheck.server.tickets.folded import FoldedTicket
from gatecheck.server.tickets.view import final_checks
from gatecheck.store.tickets import EntryRow

_TELLING = 1.5
"""a reading is named as evidence where it made the fault this much likelier"""
_MOST_EVIDENCE = 4


def ledger_of_ticket(folded: FoldedTicket) -> Ledger:
    """What was found, done, became of the data and is left, of this ticket."""
    model, state = folded.model, folded.state
    before = intake_prior(model, folded.facts, folded.entries) @ model.space.member
    at_intake = {f: float(p) for f, p in zip(model.space.fault_ids, before, strict=True)}
    named = list(state.proven or ()) or [f for f, p in at_intake.items() if p >= LIKELY]
    return ledger_of(
        LedgerCase(
            model.knowledge,
            state.facts,
            folded.entries,
            folded.stands,
            at_intake,
            state.proven,
            _evidence(folded, named),
            folded.last_job,
            final_checks(folded),
            state.booted is not None,
        )
    )


def _evidence(folded: FoldedTicket, faults: Sequence[str]) -> dict[str, list[tuple[str, str]]]:
    """Fault -> readings of checks (check, outcome) that spoke most for it, best first, each once."""
    if not faults:
        return {}
    spoken, checks = weights_of_evidence(folded.model, folded.state, faults), folded.model.knowledge.checks
    found: dict[str, list[tuple[str, str]]] = {}
    for fault in faults:
        ranked = sorted((w for w in spoken[fault] if w.factor >= _TELLING), key=lambda w: -w.factor)
        pairs = [
            (entry.move, str(entry.outcome))
            for entry in (folded.entries[w.entry] for w in ranked)
            if isinstance(entry, Reading) and entry.outcome and entry.move in checks
        ]
        found[fault] = list(dict.fromkeys(pairs))[:_MOST_EVIDENCE]
    return found


def log_line(
    knowledge: Knowledge, words: Words, entries: Sequence[Entry], row: EntryRow, place: int
) -> tuple[str, str, str]:
    """An entry as a row of the technical sheet: when, by whom, what."""
    entry, note = entries[place], words.note(row.body.get("note"))
    said = _said(knowledge, entry, entries)
    text = note if said is None else words.say(said) + (f". {note}" if note and not isinstance(entry, Note) else "")
    rests_on = row.body.get("rests_on")
    if isinstance(rests_on, dict) and rests_on.get("device") == EAR:
        recording = say("paper.recording", name=str(rests_on.get("name", "")), sum=str(rests_on.get("file", ""))[:12])
        text = f"{text} [{words.say(recording)}]"
    return row.made_at[:16].replace("T", " "), row.made_by, text


def _said(knowledge: Knowledge, entry: Entry, entries: Sequence[Entry]) -> Said | None:
    """An entry in a sentence; None where its note says it all."""
    if isinstance(entry, Reading):
        said = knowledge.move(entry.move).say.get(entry.outcome or "", "")
        return say("log.reading" if said else "log.soft", move=entry.move, said=said)
    if isinstance(entry, StepDone):
        step = knowledge.work.steps[entry.step]
        told = "" if entry.value in (None, "") else str(entry.value)
        return say("log.step", step=step.name, said=step.answers[entry.answer].say, told=told)
    return _LINES[type(entry)](knowledge, entry, entries) if type(entry) in _LINES else None


def _name(knowledge: Knowledge, step: str) -> str:
    own = knowledge.work.steps.get(step)
    return own.name if own else next((a.name for a in knowledge.work.automatic if a.id == step), step)


def _value(knowledge: Knowledge, fix: str, value: str | None) -> str:
    row = knowledge.settings.row_of_fix(fix)
    return "" if value is None else row.values.get(value, value) if row else value


def _group(entries: Sequence[Entry], place: int) -> str:
    out = entries[place] if place < len(entries) else None
    return out.name if isinstance(out, RemovedGroup) else ""


def _saw(knowledge: Knowledge, entry: Saw) -> Said:
    row = knowledge.settings.rows.get(entry.what)
    if row is not None:
        return say("log.saw", what=row.name, value=row.values.get(entry.value, entry.value))
    return say("log.saw", what=entry.what, value=entry.value)


_LINES: Mapping[type, Callable[[Knowledge, Any, Sequence[Entry]], Said]] = {
    PutBack: lambda k, e, all: say("log.put-back", move=e.fix),
    Override: lambda k, e, all: say("log.override", move=e.move, reason=e.reason),
    FactChange: lambda k, e, all: say(
        "log.fact", facts=[say("log.one-fact", name=n, value=v) for n, v in e.facts.items()]
    ),
    Undo: lambda k, e, all: say("log.undo", place=e.entry + 1),
    Started: lambda k, e, all: say("log.started", move=e.move, minutes=e.minutes),
    Changed: lambda k, e, all: say(
        "log.changed", move=e.fix, before=_value(k, e.fix, e.before), after=_value(k, e.fix, e.after)
    ),
    Saw: lambda k, e, all: _saw(k, e),
    TriedKey: lambda k, e, all: say("log.key-worked" if e.worked else "log.key-did-not", key=e.key),
    Signed: lambda k, e, all: say(
        "log.signed", choice=e.choice, fix=e.fix, reason=say(f"told.reason.{e.reason}") if e.reason else ""
    ),
    Proven: lambda k, e, all: say("log.proven" if e.faults else "log.proven-none", faults=list(e.faults)),
    Waived: lambda k, e, all: say("log.waived", step=_name(k, e.step), reason=e.reason),
    PartBrought: lambda k, e, all: say("log.first", step=_name(k, e.step)),
    RemovedGroup: lambda k, e, all: say("log.out", name=e.name, count=e.count),
    RefittedGroup: lambda k, e, all: say(
        "log.back-missing" if e.missing else "log.back", name=_group(all, e.out), missing=e.missing
    ),
    Part: lambda k, e, all: say("log.part", name=e.name, serial=e.serial),
    Photo: lambda k, e, all: say("log.photo", says=e.says),
    Spent: lambda k, e, all: say("log.spent", minutes=e.minutes),
    Reopened: lambda k, e, all: say("log.reopened"),
    Broken: lambda k, e, all: say("log.broken", why=e.why),
}
"""kind of entry -> its sentence"""
