"""A ticket's tape folded once, for everybody who needs its state: the ticket page, the instruments, the link, the
handover."""

from __future__ import annotations

import re
import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import cached_property
from typing import Any

from gatecheck.core.belief.facts import FactValue
from gatecheck.core.belief.model import Model
from gatecheck.core.decide.assess import Assessment, assess
from gatecheck.core.decide.interlocks import Held, held_moves
from gatecheck.core.errors import TapeError
from gatecheck.core.tape.entries import Broken, Entry, Part, StepDone
from gatecheck.core.tape.fold import TicketState, fold
from gatecheck.core.tape.parse import parse_entry, parse_facts, parse_stored
from gatecheck.core.tape.standing import effective_entries, standing, weighed
from gatecheck.core.work.job import Job, job_of, last_job
from gatecheck.store.tickets import EntryRow, TicketRow

_MOST_KEPT = 400
SWAPPED = ("new-in", "in")
"""step and answer by which a new drive is in the machine"""


@dataclass(frozen=True)
class FoldedTicket:
    """A tape with its state; what the engine says of it is worked out when it is first asked for."""

    model: Model
    facts: Mapping[str, FactValue]
    """as the ticket was taken in, with the year"""
    tape: tuple[EntryRow, ...]
    entries: tuple[Entry, ...]
    state: TicketState

    @cached_property
    def held(self) -> tuple[Held, ...]:
        """What is held back: all that a link asks, and a hundredth of the whole assessment."""
        return tuple(held_moves(self.model, self.state))

    @cached_property
    def result(self) -> Assessment:
        return assess(self.model, self.state, self.held)

    @cached_property
    def job(self) -> Job | None:
        return job_of(self.model.knowledge, self.state, self.entries, self.stands, self.result.held)

    @cached_property
    def last_job(self) -> Job | None:
        """The job; where a step of it led back into triage, what it was."""
        return self.job or last_job(self.model.knowledge, self.state, self.entries, self.stands)

    @cached_property
    def part(self) -> Part | None:
        """The part that was chosen last."""
        return next(
            (
                e
                for e, s in zip(reversed(self.entries), reversed(self.stands), strict=True)
                if s and isinstance(e, Part)
            ),
            None,
        )

    @cached_property
    def fitted_part(self) -> Part | None:
        """The same, once somebody has said that it is in the machine."""
        is_in = any(
            s and isinstance(e, StepDone) and (e.step, e.answer) == SWAPPED
            for e, s in zip(self.entries, self.stands, strict=True)
        )
        return self.part if is_in else None

    @cached_property
    def stands(self) -> list[bool]:
        return standing(self.entries)

    @cached_property
    def counts(self) -> list[bool]:
        return weighed(effective_entries(self.entries, self.stands), self.stands, self.model)


def fold_ticket(
    model: Model, row: TicketRow, tape: Sequence[EntryRow], more: Sequence[Mapping[str, Any]] = (), *, fresh: int = 0
) -> FoldedTicket:
    """The one way from a stored ticket to its state. `more`: entries that are only tried; `fresh`: how many at the
    tape's end are not kept yet. Raises TapeError for one of those; what was kept and cannot be read any more is a
    `Broken` entry."""
    facts = _stored_facts(row.facts, model)
    facts.setdefault("as_of_year", datetime.now(UTC).year)
    kept = len(tape) - fresh
    entries = parse_stored([e.body for e in tape[:kept]], model.knowledge)
    entries += [
        parse_entry(body, kept + n, model.knowledge) for n, body in enumerate([*(e.body for e in tape[kept:]), *more])
    ]
    COUNT.folds += 1
    while True:
        try:
            return FoldedTicket(model, facts, tuple(tape), tuple(entries), fold(model, facts, entries))
        except TapeError as error:
            place = re.match(r"entry (\d+)", error.where)
            if place is None or int(place[1]) >= kept or isinstance(entries[int(place[1])], Broken):
                raise
            entries[int(place[1])] = Broken(str(error))


def _stored_facts(raw: Mapping[str, Any], model: Model) -> dict[str, FactValue]:
    """The facts a ticket came in with; one that is none any more is left out."""
    facts: dict[str, FactValue] = {}
    for name, value in raw.items():
        try:
            facts |= parse_facts({name: value}, model.knowledge)
        except TapeError:
            continue
    return facts


@dataclass
class _Count:
    folds: int = 0


COUNT = _Count()
"""how often a tape was folded in this process; `bench/folds.py` prints it per action"""


@dataclass
class FoldCache:
    """The latest fold of each ticket; one made with an earlier model, or of a shorter tape, is not found."""

    _kept: dict[int, tuple[int, FoldedTicket]] = field(default_factory=dict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def find(self, ticket_id: int, length: int, generation: int) -> FoldedTicket | None:
        kept = self._kept.get(ticket_id)
        return kept[1] if kept and kept[0] == generation and len(kept[1].tape) == length else None

    def keep(self, ticket_id: int, folded: FoldedTicket, generation: int) -> None:
        with self._lock:
            self._kept.pop(ticket_id, None)
            while len(self._kept) >= _MOST_KEPT:
                self._kept.pop(next(iter(self._kept)))
            self._kept[ticket_id] = (generation, folded)
