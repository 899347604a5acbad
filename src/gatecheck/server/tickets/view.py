"""A folded ticket as it goes over the wire."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from msgspec import to_builtins

from gatecheck.core.decide.explain import tips, weights_of_evidence
from gatecheck.core.decide.report import document
from gatecheck.core.instruments.settings import settings_sheet
from gatecheck.core.tape.entries import Broken, Entry, Started
from gatecheck.core.words.catalogue import Words
from gatecheck.core.work.job import Job
from gatecheck.core.work.proof import ProofLine, proof_of, unproven
from gatecheck.core.work.tray import screws
from gatecheck.server.tickets.folded import FoldedTicket
from gatecheck.server.tickets.wire import AttachmentOut, TicketOut
from gatecheck.store.tickets import TicketRow

_NAMED = 0.02
_EXPLAINED = 6
_FROM_ROW = (
    "id",
    "number",
    "customer",
    "machine",
    "words",
    "bay",
    "opened_by",
    "opened_at",
    "closed_at",
    "comeback_of",
)


def ticket_view(row: TicketRow, folded: FoldedTicket, words: Words, files: list[AttachmentOut]) -> TicketOut:
    """Everything the ticket page shows."""
    model, state, result = folded.model, folded.state, folded.result
    suspects = [s for s in result.suspects[:-1] if s.p >= _NAMED][:_EXPLAINED] or list(result.suspects[:1])
    spoken = weights_of_evidence(model, state, [s.fault for s in suspects])
    found = tips(model, state, result.call, [h.move for h in result.held])
    said: dict[str, Any] = document(model, words, state, result)
    said["call"]["tips"] = [to_builtins(t) for t in found]
    return TicketOut.model_validate(
        {
            **said,
            "suspects": [
                {"fault": s.fault, "p": s.p, "weights": [to_builtins(w) for w in spoken[s.fault]]} for s in suspects
            ],
            "sound": result.suspects[-1].p,
            "tape": [
                {
                    **to_builtins(e),
                    "stands": folded.stands[i],
                    "counts": folded.counts[i],
                    "note": words.note(e.body.get("note")),
                    "from_file": _file_of(e.body),
                    "broken": _why(folded.entries[i]),
                }
                for i, e in enumerate(folded.tape)
            ],
            "facts": {k: v for k, v in state.facts.items() if k != "as_of_year"},
            "running": running_of(folded),
            "job": job_row(folded),
            "unproven": [line.name for line in unproven(final_checks(folded))],
            "signed": state.signed,
            "proven": state.proven,
            "files": files,
            **{k: getattr(row, k) for k in _FROM_ROW},
        }
    )


def _why(entry: Entry) -> str | None:
    return entry.why if isinstance(entry, Broken) else None


def _file_of(body: dict[str, Any]) -> str | None:
    """The file that an entry rests on."""
    rests_on = body.get("rests_on")
    return str(rests_on.get("file")) if isinstance(rests_on, dict) else None


def job_row(folded: FoldedTicket) -> dict[str, object] | None:
    """The job in one line; None while no call is signed."""
    job = folded.job
    if job is None:
        return None
    now = job.now
    return {
        "name": job.name,
        "step": now.step.id if now else None,
        "step_name": now.step.name if now else "",
        "done": sum(s.is_settled for s in job.steps),
        "of": len(job.steps),
        "minutes_left": job.minutes_left,
        "due_at": due_at(folded, now.due if now else None),
        "waits": now.step.answers[now.answer].say
        if now and now.answer and now.step.answers[now.answer].waits
        else None,
        "lies_out": screws(job.tray),
        "unproven": len(unproven(proof_list(folded))),
    }


def due_at(folded: FoldedTicket, due: tuple[int, float] | None) -> str | None:
    """The moment at which hands are wanted again."""
    if due is None:
        return None
    begun = datetime.fromisoformat(folded.tape[due[0]].made_at)
    return (begun + timedelta(minutes=due[1])).isoformat(timespec="milliseconds")


def proof_list(folded: FoldedTicket) -> tuple[ProofLine, ...]:
    """What the job has to prove, and how it stands; empty while there is none."""
    return _proof(folded, folded.job)


def final_checks(folded: FoldedTicket) -> tuple[ProofLine, ...]:
    """What has to be proven before it is handed over: of the job, or of the last one where a step of it failed and
    nothing was signed since."""
    return _proof(folded, folded.last_job)


def _proof(folded: FoldedTicket, job: Job | None) -> tuple[ProofLine, ...]:
    if job is None:
        return ()
    knowledge = folded.model.knowledge
    sheet = settings_sheet(knowledge, folded.state.facts, folded.entries)
    return proof_of(job, knowledge.work.automatic, folded.state, sheet, folded.entries, folded.stands)


def running_of(folded: FoldedTicket) -> dict[str, object] | None:
    """The move that runs on its own."""
    place = folded.state.running
    if place is None:
        return None
    entry = folded.entries[place]
    assert isinstance(entry, Started)
    return {"move": entry.move, "started_at": folded.tape[place].made_at, "minutes": entry.minutes}
