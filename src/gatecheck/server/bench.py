"""The shop's work on tickets: what routes and demo call. Folds tapes, keeps folded tickets, appends entries."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from gatecheck.core.belief.model import Model
from gatecheck.core.decide.assess import assess
from gatecheck.core.decide.explain import overturns, tips, weights_of_evidence
from gatecheck.core.decide.report import document, option_document
from gatecheck.core.decide.sheet import barred_ways, call_sheet
from gatecheck.core.errors import BenchError, TapeError
from gatecheck.core.learning import (
    CONTEXT_FACT,
    Lesson,
    base_rates,
    call_was_right,
    expected_shares,
    relearned,
    reliability,
)  # fmt: skip
from gatecheck.core.tape.entries import Entry, Started
from gatecheck.core.tape.fold import TicketState, came_in_with, fold
from gatecheck.core.tape.parse import parse_entries, parse_facts
from gatecheck.core.tape.standing import standing, weighed
from gatecheck.server.decoded import Decoded
from gatecheck.server.models import AttachmentOut, BenchOut, BenchRow, FoundOut, GuessOut, LearningOut, SheetOut, TicketOut
from gatecheck.server.models_link import LinkRowOut
from gatecheck.store import Database, StoreError, lessons, tickets
from gatecheck.store.files import FileStore, attachments
from gatecheck.store.tickets import EntryRow, TicketRow

TERMS = ("data", "data_value", "budget", "machine_value", "urgency")
"""facts that the customer decides"""
_NAMED = 0.02
_EXPLAINED = 6
_TRIES = 5


class NotFoundError(BenchError):
    """Nothing there by that number."""


def now() -> str:
    """The moment, in UTC, as it is stored."""
    return datetime.now(UTC).isoformat(timespec="milliseconds")


@dataclass(frozen=True, slots=True)
class _Folded:
    length: int
    view: TicketOut


class Bench:
    """Everything the shop can do with tickets. Thread-safe; `announce` is told of every change."""

    def __init__(self, model: Model, database: Database, files: FileStore, *, shop: str, prefix: str, bays: int) -> None:
        self.shipped, self.model, self.database, self.files = model, model, database, files
        self.decoded = Decoded(files)
        self.shop, self.prefix, self.bays = shop, prefix, bays
        self.announce: Callable[[Mapping[str, object]], None] = lambda event: None
        self.link_row: Callable[[int], LinkRowOut | None] = lambda ticket_id: None
        self._folded: dict[int, _Folded] = {}
        self._tape_locks: dict[int, threading.Lock] = {}
        self._lock = threading.Lock()
        self._relearn()

    # --- reading -----------------------------------------------------------------------------------------------

    def overview(self) -> BenchOut:
        """All open tickets, hands wanted first."""
        with self.database.read() as connection:
            rows = tickets.tickets_on_bench(connection)
        views = [_row(self._view(row)).model_copy(update={"link": self.link_row(row.id)}) for row in rows]
        rank = {"hands": 0, "running": 1, "done": 2}
        views.sort(key=lambda r: (rank[r.turn], not r.urgent, r.bay or 999, r.id))
        return BenchOut(shop=self.shop, bays=self.bays, rows=views)

    def ticket(self, ticket_id: int) -> TicketOut:
        """One ticket with everything the engine says. Raises NotFoundError."""
        return self._view(self.row_of(ticket_id))

    def find(self, text: str) -> list[FoundOut]:
        with self.database.read() as connection:
            found = tickets.find_tickets(connection, text)
        return [
            FoundOut(id=t.id, number=t.number, customer=t.customer, machine=t.machine, bay=t.bay, closed=bool(t.closed_at))
            for t in found
        ]

    def row_of(self, ticket_id: int) -> TicketRow:
        """Raises NotFoundError."""
        with self.database.read() as connection:
            row = tickets.ticket_by_id(connection, ticket_id)
        if row is None:
            raise NotFoundError(f"ticket {ticket_id}: expected a ticket of this shop, got none by that number")
        return row

    def _view(self, row: TicketRow) -> TicketOut:
        with self.database.read() as connection:
            length = tickets.tape_length(connection, row.id)
            kept = self._folded.get(row.id)
            if kept and kept.length == length:
                return kept.view.model_copy(update={"bay": row.bay, "closed_at": row.closed_at, "files": self._files(row.id)})
            tape = tickets.tape_of(connection, row.id)
        view = self._fold(row, tape)
        with self._lock:
            self._folded[row.id] = _Folded(len(tape), view)
        return view

    def _files(self, ticket_id: int) -> list[AttachmentOut]:
        with self.database.read() as connection:
            return [AttachmentOut(**asdict(a)) for a in attachments(connection, ticket_id)]

    def _fold(self, row: TicketRow, tape: list[EntryRow]) -> TicketOut:
        knowledge = self.model.knowledge
        facts = parse_facts(row.facts, knowledge)
        facts.setdefault("as_of_year", datetime.now(UTC).year)
        entries = parse_entries([e.body for e in tape], knowledge)
        state = fold(self.model, facts, entries)
        result = assess(self.model, state)
        suspects = [s for s in result.suspects if s.fault != "sound"][:_EXPLAINED]
        spoken = weights_of_evidence(self.model, state, [s.fault for s in suspects], most=8)
        found = tips(self.model, state, result.call, [h.move for h in result.held])
        said: dict[str, Any] = document(self.model, state, result)
        said["call"]["tips"] = [asdict(t) for t in found]
        stands = standing(entries)
        counts = weighed(entries, stands, self.model)
        return TicketOut.model_validate({
            **said,
            "suspects": [{"fault": s.fault, "p": s.p, "weights": [asdict(w) for w in spoken[s.fault]]} for s in suspects],
            "sound": result.suspects[-1].p,
            "tape": [
                {**asdict(e), "stands": stands[i], "counts": counts[i]} for i, e in enumerate(tape)
            ],
            "facts": {k: v for k, v in state.facts.items() if k != "as_of_year"},
            "running": _running(state, entries, tape),
            "signed": state.signed,
            "proven": state.proven,
            "files": self._files(row.id),
            **{k: getattr(row, k) for k in ("id", "number", "customer", "machine", "words", "bay", "opened_by", "opened_at", "closed_at", "comeback_of")},
        })  # fmt: skip

    # --- changing ----------------------------------------------------------------------------------------------

    def take_in(
        self, *, customer: str, machine: str, words: str, facts: Mapping[str, Any], entries: list[dict[str, Any]],
        bay: int | None, by: str, at: str | None = None, comeback_of: int | None = None,
    ) -> TicketOut:  # fmt: skip
        """Open a ticket with what was asked at the counter. Raises TapeError or StoreError; then nothing is kept."""
        knowledge = self.model.knowledge
        checked = parse_facts(facts, knowledge)
        fold(self.model, checked, parse_entries(entries, knowledge))
        moment = at or now()
        if comeback_of is not None and not self.row_of(comeback_of).closed_at:
            raise StoreError(f"ticket {comeback_of}: expected one that was handed over to come back from, got an open one")
        with self.database.write() as connection:
            row = tickets.open_ticket(
                connection, customer=customer.strip(), machine=machine.strip(), words=words, facts=checked, bay=bay, by=by,
                at=moment, prefix=self.prefix, comeback_of=comeback_of,
            )  # fmt: skip
            for place, body in enumerate(entries):
                tickets.append_entry(connection, row.id, place, body, by=by, at=moment)
        if comeback_of is not None:
            self._relearn()
        self.announce({"kind": "ticket", "ticket": row.id})
        return self.ticket(row.id)

    def append(
        self, ticket_id: int, body: Mapping[str, Any], *, by: str, key: str | None = None, at: str | None = None
    ) -> TicketOut:
        """Append one entry; returns the ticket after it, once it is durable. Raises TapeError, NotFoundError, StoreError."""
        with self._appending(ticket_id):
            return self._append(ticket_id, body, by=by, key=key, at=at)

    def _appending(self, ticket_id: int) -> threading.Lock:
        """One entry after the other on each tape; other tickets go on meanwhile."""
        with self._lock:
            return self._tape_locks.setdefault(ticket_id, threading.Lock())

    def _append(self, ticket_id: int, body: Mapping[str, Any], *, by: str, key: str | None, at: str | None) -> TicketOut:
        row = self.row_of(ticket_id)
        if row.closed_at:
            raise TapeError(f"ticket {row.number}", expected="an open ticket", got="one that was handed over")
        for _ in range(_TRIES):  # another process may write to the same database
            with self.database.read() as connection:
                tape = tickets.tape_of(connection, ticket_id)
                repeated = tickets.place_of_request(connection, ticket_id, key)
            if repeated is not None:
                return self.ticket(ticket_id)
            moment = at or now()
            body = self._with_odds(row, body)
            longer = [*tape, EntryRow(len(tape), dict(body), by, moment)]
            view = self._fold(row, longer)  # checks the entry: nothing is kept that cannot be folded
            with self.database.write() as connection:
                if tickets.tape_length(connection, ticket_id) != len(tape):
                    continue  # somebody was faster: check against the longer tape
                tickets.append_entry(connection, ticket_id, len(tape), body, by=by, at=moment, key=key)
            with self._lock:
                self._folded[ticket_id] = _Folded(len(longer), view)
            self.announce({"kind": "entry", "ticket": ticket_id, "place": len(tape)})
            return view
        raise TapeError(f"ticket {row.number}", expected="the tape to hold still for a moment", got="other entries each time")

    def move_to_bay(self, ticket_id: int, bay: int | None) -> TicketOut:
        self.row_of(ticket_id)
        with self.database.write() as connection:
            tickets.move_to_bay(connection, ticket_id, bay)
        self.announce({"kind": "ticket", "ticket": ticket_id})
        return self.ticket(ticket_id)

    def hand_over(self, ticket_id: int, proven: list[str] | None = None, *, by: str = "?", at: str | None = None) -> TicketOut:
        """The machine goes back. What it turned out to have goes on the tape and is learned from."""
        row = self.row_of(ticket_id)
        if proven is not None:
            self.append(ticket_id, {"proven": proven}, by=by, at=at)
        moment = at or now()
        lesson = self._lesson(row, self.tape(ticket_id))
        with self.database.write() as connection:
            tickets.close_ticket(connection, ticket_id, moment)
            if lesson:
                lessons.put_lesson(connection, ticket_id, moment, **lesson)
        if lesson:
            self._relearn()
        self.announce({"kind": "ticket", "ticket": ticket_id})
        return self.ticket(ticket_id)

    def bring_in_closed(self, records: Sequence[Mapping[str, Any]], today: datetime) -> None:
        """Tickets that were closed elsewhere, whole: each with its tape, handed over so many days ago, and its lesson."""
        with self.database.write() as connection:
            for record in records:
                opened = today - timedelta(days=record["days_ago"])
                moments = [(opened + timedelta(minutes=5 * i)).isoformat(timespec="milliseconds") for i in range(len(record["tape"]) + 1)]
                row = tickets.open_ticket(
                    connection, customer=record["customer"], machine=record["machine"], words="", facts=record["facts"], bay=None,
                    by=record["by"], at=moments[0], prefix=self.prefix, comeback_of=None,
                )  # fmt: skip
                for place, body in enumerate(record["tape"]):
                    tickets.append_entry(connection, row.id, place, body, by=record["by"], at=moments[place])
                tickets.close_ticket(connection, row.id, moments[-1])
                tape = [EntryRow(i, body, record["by"], moments[i]) for i, body in enumerate(record["tape"])]
                lesson = self._lesson(row, tape)
                if lesson:
                    lessons.put_lesson(connection, row.id, moments[-1], **lesson)
        self._relearn()

    def reopen(self, ticket_id: int) -> TicketOut:
        """Take a handed-over ticket up again; what it taught is forgotten."""
        self.row_of(ticket_id)
        with self.database.write() as connection:
            tickets.reopen_ticket(connection, ticket_id)
            lessons.take_out(connection, ticket_id)
        self._relearn()
        self.announce({"kind": "ticket", "ticket": ticket_id})
        return self.ticket(ticket_id)

    # --- the call sheet and learning ---------------------------------------------------------------------------

    def state_of(self, row: TicketRow, tape: list[EntryRow], *, more: list[dict[str, Any]] | None = None) -> tuple[TicketState, list[Entry]]:
        facts = parse_facts(row.facts, self.model.knowledge)
        facts.setdefault("as_of_year", datetime.now(UTC).year)
        entries = parse_entries([*(e.body for e in tape), *(more or [])], self.model.knowledge)
        return fold(self.model, facts, entries), entries

    def tape(self, ticket_id: int) -> list[EntryRow]:
        with self.database.read() as connection:
            return tickets.tape_of(connection, ticket_id)

    def sheet(self, ticket_id: int, terms: Mapping[str, Any]) -> SheetOut:
        """All ways out under these terms, which are tried and not kept. Raises TapeError for terms that are no facts."""
        row = self.row_of(ticket_id)
        state, _ = self.state_of(row, self.tape(ticket_id), more=[{"fact": dict(terms)}] if terms else None)
        result = assess(self.model, state)
        found = call_sheet(self.model, state.facts, result.call)
        said: dict[str, Any] = document(self.model, state, result)
        return SheetOut.model_validate({
            "terms": {name: state.facts[name] for name in TERMS if name in state.facts},
            "call": said["call"],
            "rows": [{**asdict(r), "option": option_document(r.option)} for r in found.rows],
            "barred": [asdict(b) for b in barred_ways(self.model, state, result.held)],
            "plain": found.plain,
            "overturns": [asdict(o) for o in overturns(self.model, state, result.call)],
        })  # fmt: skip

    def guesses(self, ticket_id: int, most: int = 5) -> list[GuessOut]:
        """What the machine came in with, as the whole tape tells it; likeliest first."""
        row, tape = self.row_of(ticket_id), self.tape(ticket_id)
        facts = parse_facts(row.facts, self.model.knowledge)
        entries = parse_entries([e.body for e in tape], self.model.knowledge)
        odds = self.model.space.by_faults(came_in_with(self.model, facts, entries))
        likeliest = sorted(odds, key=lambda faults: -odds[faults])[:most]
        return [GuessOut(faults=list(faults), p=odds[faults]) for faults in likeliest]

    def _with_odds(self, row: TicketRow, body: Mapping[str, Any]) -> dict[str, Any]:
        """A call is signed with the odds at that moment: they are part of the entry and never change again."""
        if "signed" not in body or "odds" in body:
            return dict(body)
        state, _ = self.state_of(row, self.tape(row.id))
        result = assess(self.model, state)
        chosen = next((o for o in result.call.options if (o.choice, o.main_fix) == (body["signed"], body.get("fix"))), None)
        return {**body, "odds": {
            "confidence": round(result.call.balance.get(str(body["signed"]), 0.0), 4),
            "suspects": {s.fault: round(s.p, 4) for s in result.suspects if s.p >= _NAMED and s.fault != "sound"},
            "option": option_document(chosen) if chosen else None,
        }}  # fmt: skip

    def _lesson(self, row: TicketRow, tape: list[EntryRow]) -> dict[str, Any] | None:
        """What a ticket teaches when it is closed now; None where nobody said what it was."""
        state, entries = self.state_of(row, tape)
        if state.proven is None:
            return None
        stands = standing(entries)
        bodies = [e.body for e, s in zip(tape, stands, strict=True) if s and "signed" in e.body]
        signed: Mapping[str, Any] = bodies[-1] if bodies else {}
        odds = signed.get("odds") or {}
        choice = str(signed.get("signed", ""))
        return {
            "context": str(state.facts.get(CONTEXT_FACT, "")), "faults": state.proven,
            "expected": expected_shares(self.shipped, state.facts), "choice": choice,
            "confidence": float(odds.get("confidence", 0.0)), "suspects": odds.get("suspects", {}),
            "was_right": bool(choice) and call_was_right(self.shipped, state.facts, state.proven, choice, state.booted is not None),
        }  # fmt: skip

    def _lessons(self) -> list[Lesson]:
        with self.database.read() as connection:
            return lessons.lessons(connection, self.shipped.knowledge.rates["warranty_days"])

    def _relearn(self) -> None:
        """Blend the shop's own base rates in; every ticket is folded anew with them when it is next looked at."""
        learned = relearned(self.shipped, self._lessons())
        with self._lock:
            self.model = learned
            self._folded.clear()

    def learning(self) -> LearningOut:
        """What was learned and how the odds held."""
        known = self._lessons()
        with self.database.read() as connection:
            last = lessons.last_reset(connection)
        held = reliability(known)
        return LearningOut.model_validate({
            "lessons": sum(not x.came_back for x in known), "comebacks": sum(x.came_back for x in known),
            "weight": self.shipped.knowledge.rates["lessons_weight"], "last_reset": last,
            "rates": [asdict(r) for r in base_rates(self.shipped, known)], "calls": [asdict(b) for b in held.calls],
            "suspects": [asdict(b) for b in held.suspects], "brier": held.brier,
        })  # fmt: skip

    def reset_learning(self, *, by: str) -> LearningOut:
        with self.database.write() as connection:
            lessons.reset(connection, at=now(), by=by)
        self._relearn()
        self.announce({"kind": "learning"})
        return self.learning()


def _running(state: TicketState, entries: list[Entry], tape: list[EntryRow]) -> dict[str, object] | None:
    if state.running is None:
        return None
    entry = entries[state.running]
    assert isinstance(entry, Started)
    return {"move": entry.move, "started_at": tape[state.running].made_at, "minutes": entry.minutes}


def _row(ticket: TicketOut) -> BenchRow:
    first = ticket.next[0] if ticket.next else None
    done = ticket.signed is not None and not ticket.running
    turn = "running" if ticket.running else "done" if done else "hands"
    trial = next((t for t in reversed(ticket.trials) if t.standing == "pending"), None)
    if trial and not ticket.running:  # its result comes before anything else
        first = next((n for n in ticket.next if n.move == trial.fix), None)
    return BenchRow(
        id=ticket.id,
        number=ticket.number,
        bay=ticket.bay,
        customer=ticket.customer,
        machine=ticket.machine,
        facts=ticket.facts,
        gates=ticket.gates,
        turn=turn,
        urgent=bool(first and first.move == "power-down"),
        next_move=first.move if first else trial.fix if trial else None,
        next_kind=first.kind if first else None,
        next_minutes=first.minutes if first else None,
        next_why=first.why if first else "",
        choice=ticket.call.choice,
        leans=ticket.call.leans,
        fix=ticket.call.fix,
        signed=ticket.signed is not None,
        started=all(g.state == "open" for g in ticket.gates),
        open_trials=sum(t.standing in ("pending", "open") for t in ticket.trials),
        running=ticket.running,
    )
