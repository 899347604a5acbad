"""Whole jobs without a server: a verdict is signed, its steps are answered, and the ticket's papers are told. Beside
each walk stands what really happened to the machine, kept by the walker itself and by nothing of the product."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from gatecheck.adapters.shipped_tables import shipped_words
from gatecheck.core.belief.model import Model
from gatecheck.core.words.said import Said
from gatecheck.core.work.job import answer_bodies
from gatecheck.core.work.papers import Paper, PaperFacts, Text, paper_of
from gatecheck.core.work.shop import ShopPage, parse_shop
from gatecheck.server.papers.ledger import ledger_of_ticket
from gatecheck.server.tickets.folded import FoldedTicket, fold_ticket
from gatecheck.store.tickets import EntryRow, TicketRow

FACTS: Mapping[str, Any] = {
    "platform": "pc",
    "form": "laptop",
    "installed_os": "windows-10",
    "drive_kind": "hdd",
    "data": "backed-up",
    "consent": "given",
    "mains": "connected",
}
SHOP = parse_shop({"name": "Gullhaven Repair Loft", "address": ["3 Ropewalk Stairs"], "bench_hour": 54}, ShopPage())
_VALUES = {"text": "as noted", "count": 2019, "serial": "QF7-500198", "screen": "no-boot-device", "last4": "0198"}
_MOST_STEPS = 60


@dataclass
class Walk:
    """A ticket that is walked. `answered`: (step, answer) in order."""

    model: Model
    facts: Mapping[str, Any]
    bodies: list[dict[str, Any]] = field(default_factory=list)
    answered: list[tuple[str, str]] = field(default_factory=list)

    def put(self, *bodies: Mapping[str, Any]) -> Walk:
        self.bodies += [dict(b) for b in bodies]
        return self

    def folded(self) -> FoldedTicket:
        who = ("Anna Skua, bakery", "Ferrow Lathe-14", "It just stopped.")
        row = TicketRow(1, "GL-0001", *who, dict(self.facts), 1, "KT", _at(0), None, None)
        return fold_ticket(self.model, row, [EntryRow(i, b, "KT", _at(i)) for i, b in enumerate(self.bodies)])

    def sign(self, choice: str, fix: str | None, reason: str | None = None) -> Walk:
        return self.put({"signed": choice, "fix": fix, **({"reason": reason} if reason else {})})

    def answer(self, step: str, answer: str) -> None:
        folded = self.folded()
        assert folded.job is not None
        asks = folded.model.knowledge.work.steps[step].answers[answer].asks
        value = _VALUES[asks] if asks else None
        self.put(*answer_bodies(folded.job, folded.state, step, answer, value, len(self.bodies)))
        self.answered.append((step, answer))

    def work(self, wanted: Mapping[str, str], until: str = "") -> Walk:
        """Answer step after step as wanted, else with the first answer that leads on, until the job ends, or before
        the step `until`."""
        for _ in range(_MOST_STEPS):
            job = self.folded().job
            now = job.now if job else None
            if now is None or now.step.id == until:
                return self
            assert not now.held, (now.step.id, now.held)
            if now.step.id == "part" and wanted.get("part") != "none":
                self.put(
                    {
                        "part": {
                            "shelf": 1,
                            "name": "QUARRY FLINT S500",
                            "serial": "QF7-500198",
                            "size_gb": 500,
                            "price": 62,
                        }
                    }
                )
            first = next(a.id for a in now.step.answers.values() if a.leads == "on")
            self.answer(now.step.id, wanted.get(now.step.id, first))
            if wanted.get(now.step.id) and now.step.answers[wanted[now.step.id]].leads == "again":
                return self
        raise AssertionError(f"a job without end: {self.answered}")


def _at(minute: int) -> str:
    return f"2026-11-30T{8 + minute // 60:02d}:{minute % 60:02d}:00.000+00:00"


def case_of(folded: FoldedTicket, minutes: float = 100.0, **more: Any) -> PaperFacts:
    knowledge = folded.model.knowledge
    ledger = ledger_of_ticket(folded)
    given: dict[str, Any] = {
        "number": "GL-0001", "customer": "Anna Skua, bakery", "machine": "Ferrow Lathe-14", "said": "It just stopped.",
        "taken_in": "2026-11-30", "today": "2026-12-01", "warranty_until": "2027-03-01", "knowledge": knowledge,
        "shop": SHOP, "facts": folded.state.facts, "ledger": ledger, "tape": (), "was_opened": False,
        "old_serial": "QS5-118340", "minutes": minutes, "new_is_flash": True,
    }  # fmt: skip
    return PaperFacts(**{**given, **more})


def text_of(paper: Paper) -> dict[str, list[str]]:
    """Heading -> its lines and rows, worded."""
    words = shipped_words()

    def say(text: Text) -> str:
        return words.say(text) if isinstance(text, Said) else text

    return {
        say(s.heading): [*(say(x) for x in s.lines), *(" | ".join(map(say, row)) for row in s.rows)]
        for s in paper.sections
    }


def papers(folded: FoldedTicket, kind: str = "customer", **more: Any) -> dict[str, list[str]]:
    return text_of(paper_of(case_of(folded, **more), kind))


def lines(page: Mapping[str, Sequence[str]]) -> list[str]:
    return [line for section in page.values() for line in section]
