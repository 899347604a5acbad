"""The shop's work on tickets: taking in, appending to the tape, the call sheet. Each tape is folded once per change."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from msgspec import to_builtins

from gatecheck.core.belief.model import How
from gatecheck.core.decide.explain import overturns
from gatecheck.core.decide.report import document, option_document
from gatecheck.core.decide.sheet import barred_ways, call_sheet
from gatecheck.core.errors import TapeError
from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.knowledge.ways import ways_of
from gatecheck.core.tape.entries import Broken
from gatecheck.core.tape.parse import parse_facts
from gatecheck.server.errors import NotFoundError
from gatecheck.server.shop import Shop, now
from gatecheck.server.tickets.folded import FoldCache, FoldedTicket, fold_ticket
from gatecheck.server.tickets.view import ticket_view
from gatecheck.server.tickets.warming import Warming
from gatecheck.server.tickets.wire import AttachmentOut, HowOut, HowReadOut, SheetOut, TicketOut
from gatecheck.store import Connection, StoreError, tickets
from gatecheck.store.files import attachments
from gatecheck.store.tickets import EntryRow, TicketRow

TERMS = ("data", "data_value", "budget", "machine_value", "urgency")
"""facts that the customer decides"""
_TRIES = 5
_NAMED = 0.02

Body = Mapping[str, Any]
Also = Callable[[Connection], None]
Keyed = Sequence[tuple[Body, str | None]]
Make = Callable[[FoldedTicket], Sequence[Body]]
"""entries that depend on how the ticket stands at the moment they are appended"""


class Tickets:
    """Everything the shop can do with tickets. Thread-safe."""

    def __init__(self, shop: Shop) -> None:
        self.shop = shop
        self._cache = FoldCache()
        self._views: dict[int, tuple[FoldedTicket, TicketOut]] = {}
        self._tape_locks: dict[int, threading.Lock] = {}
        self._lock = threading.Lock()
        self.warming = Warming(self.ticket)

    def warm(self) -> None:
        """Look at every open ticket, soon. Raises StoreError."""
        self.warming.start()
        with self.shop.database.read() as connection:
            rows = tickets.tickets_on_bench(connection)
        for row in rows:
            self.warming.later(row.id)

    # --- reading -----------------------------------------------------------------------------------------------

    def ways(self, ticket_id: int, move: str) -> list[HowOut]:
        """How this move is done on this machine, the likeliest first. Raises NotFoundError."""
        facts = self.folded_of(ticket_id).state.facts
        found = ways_of(self.shop.model.knowledge.ways, move, facts)
        return [
            HowOut(
                id=w.id,
                name=w.name,
                minutes=w.minutes,
                unattended=w.unattended,
                works=w.works,
                steps=list(w.steps),
                reads=[HowReadOut(says=r.says, outcome=r.outcome, means=r.means) for r in w.reads],
                opens=w.opens,
                prints_code=w.prints_code,
            )
            for w in sorted(found, key=lambda w: -w.works)
        ]

    def row_of(self, ticket_id: int) -> TicketRow:
        """Raises NotFoundError."""
        with self.shop.database.read() as connection:
            row = tickets.ticket_by_id(connection, ticket_id)
        if row is None:
            raise NotFoundError(f"ticket {ticket_id}: expected a ticket of this shop, got none by that number")
        return row

    def folded(self, row: TicketRow) -> FoldedTicket:
        """The ticket's state, folded anew only where its tape has grown or the model has learned."""
        with self.shop.database.read() as connection:
            self.shop.check_epoch(connection)
            generation = self.shop.generation
            kept = self._cache.find(row.id, tickets.tape_length(connection, row.id), generation)
            if kept:
                return kept
            tape = tickets.tape_of(connection, row.id)
        folded = fold_ticket(self.shop.model, row, tape)
        self._cache.keep(row.id, folded, generation)
        return folded

    def folded_of(self, ticket_id: int) -> FoldedTicket:
        """Raises NotFoundError."""
        return self.folded(self.row_of(ticket_id))

    def view(self, row: TicketRow, folded: FoldedTicket | None = None) -> TicketOut:
        """The ticket as the screen shows it; kept as long as its fold is."""
        folded = folded or self.folded(row)
        kept = self._views.get(row.id)
        files = self.files_of(row.id)
        if kept and kept[0] is folded:
            return kept[1].model_copy(update={"bay": row.bay, "closed_at": row.closed_at, "files": files})
        view = ticket_view(row, folded, self.shop.words, files)
        with self._lock:
            self._views[row.id] = (folded, view)
        return view

    def ticket(self, ticket_id: int) -> TicketOut:
        """One ticket with everything the engine says. Raises NotFoundError."""
        return self.view(self.row_of(ticket_id))

    def files_of(self, ticket_id: int) -> list[AttachmentOut]:
        with self.shop.database.read() as connection:
            return [AttachmentOut(**to_builtins(a)) for a in attachments(connection, ticket_id)]

    # --- changing ----------------------------------------------------------------------------------------------

    def take_in(
        self,
        *,
        customer: str,
        machine: str,
        words: str,
        facts: Mapping[str, Any],
        entries: Sequence[Body],
        bay: int | None,
        by: str,
        at: str | None = None,
        comeback_of: int | None = None,
        key: str | None = None,
    ) -> TicketOut:
        """Open a ticket with what was asked at the counter; one whose request (`key`) was taken before is that very
        ticket. Raises TapeError or StoreError; then nothing is kept."""
        shop, moment = self.shop, at or now()
        with shop.database.read() as connection:
            known = tickets.ticket_of_request(connection, key)
        if known is not None:
            return self.view(known)
        checked = parse_facts(facts, shop.model.knowledge)
        draft = TicketRow(0, "", customer, machine, words, dict(checked), bay, by, moment, None, comeback_of)
        tape = [EntryRow(place, dict(body), by, moment) for place, body in enumerate(entries)]
        folded = fold_ticket(shop.model, draft, tape, fresh=len(tape))
        self._writable([dict(checked), *(e.body for e in tape)])
        if comeback_of is not None and not self.row_of(comeback_of).closed_at:
            raise StoreError(
                f"ticket {comeback_of}: expected one that was handed over to come back from, got an open one"
            )
        with shop.database.write() as connection:
            known = tickets.ticket_of_request(connection, key)  # another one may have come in between
            if known is not None:
                return self.view(known)
            row = tickets.open_ticket(
                connection,
                customer=customer.strip(),
                machine=machine.strip(),
                words=words,
                facts=checked,
                bay=bay,
                by=by,
                at=moment,
                prefix=shop.prefix,
                comeback_of=comeback_of,
                key=key,
            )
            for entry in tape:
                tickets.append_entry(connection, row.id, entry.place, entry.body, by=by, at=moment)
        self._cache.keep(row.id, folded, shop.generation)
        if comeback_of is not None:
            shop.relearn()
        shop.announce({"kind": "ticket", "ticket": row.id})
        return self.view(row)

    def append(
        self, ticket_id: int, body: Body, *, by: str, key: str | None = None, at: str | None = None
    ) -> TicketOut:
        """Append one entry; returns the ticket after it, once it is durable. Raises TapeError, NotFoundError,
        StoreError."""
        return self.append_all(ticket_id, [(body, key)], by=by, at=at)

    def append_all(
        self,
        ticket_id: int,
        bodies: Sequence[tuple[Body, str | None]],
        *,
        by: str,
        at: str | None = None,
        also: Also | None = None,
        event: str = "entry",
    ) -> TicketOut:
        """Append entries, each with the key of its request: all or none, in one transaction, with one fold and one
        event. An entry whose key is on the tape already is left out. `also` is done in the same transaction."""
        with self._appending(ticket_id):
            self._append_all(ticket_id, lambda folded: bodies, by=by, at=at, also=also, event=event)
            return self.ticket(ticket_id)

    def note_all(self, ticket_id: int, bodies: Sequence[tuple[Body, str | None]], *, by: str) -> None:
        """The same for entries that this program makes of nothing but its own words: the ticket is not looked at, which
        two hundred machines that report at once would all wait for."""
        with self._appending(ticket_id):
            self._append_all(ticket_id, lambda folded: bodies, by=by, at=None, also=None, event="entry", shown=False)
        self.warming.later(ticket_id)

    def append_made(
        self,
        ticket_id: int,
        make: Make,
        *,
        by: str,
        key: str | None = None,
        at: str | None = None,
        also: Also | None = None,
    ) -> TicketOut:
        """Append what `make` says for the ticket as it stands then: two that answer the same at once are told apart. A
        request sent twice is one."""

        def keyed(folded: FoldedTicket) -> Keyed | None:
            with self.shop.database.read() as connection:
                if tickets.place_of_request(connection, ticket_id, key) is not None:
                    return None
            return [
                (body, None if key is None else key if n == 0 else f"{key}.{n}") for n, body in enumerate(make(folded))
            ]

        with self._appending(ticket_id):
            self._append_all(ticket_id, keyed, by=by, at=at, also=also, event="entry")
            return self.ticket(ticket_id)

    def _appending(self, ticket_id: int) -> threading.Lock:
        """One after the other on each tape; other tickets go on meanwhile."""
        with self._lock:
            return self._tape_locks.setdefault(ticket_id, threading.Lock())

    def _append_all(
        self,
        ticket_id: int,
        make: Callable[[FoldedTicket], Keyed | None],
        *,
        by: str,
        at: str | None,
        also: Also | None,
        event: str,
        shown: bool = True,
    ) -> None:
        row, shop = self.row_of(ticket_id), self.shop
        if row.closed_at:
            raise TapeError(f"ticket {row.number}", expected="an open ticket", got="one that was handed over")
        for _ in range(_TRIES):  # another process may write to the same database
            generation, moment = shop.generation, at or now()
            bodies = make(self.folded(row))
            if bodies is None:
                return
            with shop.database.read() as connection:
                fresh = [
                    (body, key) for body, key in bodies if tickets.place_of_request(connection, ticket_id, key) is None
                ]
                tape = tickets.tape_of(connection, ticket_id)
            if not fresh and also is None:
                return
            longer = self._longer(row, tape, [body for body, _ in fresh], by, moment)
            folded = fold_ticket(shop.model, row, longer, fresh=len(longer) - len(tape)) if fresh else self.folded(row)
            self._writable([e.body for e in longer[len(tape) :]])
            self._breaks_nothing(row, folded)
            # nothing is kept that cannot be folded, said and shown again
            view = ticket_view(row, folded, shop.words, []) if shown else None
            with shop.database.write() as connection:
                if tickets.tape_length(connection, ticket_id) != len(tape):
                    continue  # somebody was faster: check against the longer tape
                if also is not None:
                    also(connection)
                for entry, (_, key) in zip(longer[len(tape) :], fresh, strict=True):
                    tickets.append_entry(connection, ticket_id, entry.place, entry.body, by=by, at=moment, key=key)
            self._cache.keep(ticket_id, folded, generation)
            if view is not None:
                with self._lock:
                    self._views[ticket_id] = (folded, view)
            shop.announce({"kind": event, "ticket": ticket_id, "place": len(longer) - 1})
            return
        raise TapeError(f"ticket {row.number}", expected="no other entry in this moment", got="other entries each time")

    def _breaks_nothing(self, row: TicketRow, folded: FoldedTicket) -> None:
        """Raises TapeError where new entries make one unreadable that could be read before, such as undoing what
        another one puts back."""
        broken = {place: entry.why for place, entry in enumerate(folded.entries) if isinstance(entry, Broken)}
        if broken:
            before = {place for place, entry in enumerate(self.folded(row).entries) if isinstance(entry, Broken)}
            newly = sorted(broken.keys() - before)
            if newly:
                raise TapeError(
                    f"entry {newly[0]}", expected="to be readable still after what is added", got=broken[newly[0]]
                )

    @staticmethod
    def _writable(bodies: Sequence[Body]) -> None:
        """Raises TapeError for what could be kept and never be read back."""
        for place, body in enumerate(bodies):
            try:
                json.dumps(body, ensure_ascii=False, allow_nan=False).encode("utf-8")
            except (ValueError, RecursionError, TypeError) as error:
                raise TapeError(
                    f"entry {place}", expected="texts and numbers that can be written", got=str(error)[:120]
                ) from error

    def _longer(
        self, row: TicketRow, tape: Sequence[EntryRow], bodies: Sequence[Body], by: str, moment: str
    ) -> list[EntryRow]:
        """The tape with these entries; a signed call gets the odds of its moment, whatever the client says they are."""
        longer = list(tape)
        for body in bodies:
            full = dict(body)
            if "signed" in full:
                before = (
                    self.folded(row)
                    if len(longer) == len(tape)
                    else fold_ticket(self.shop.model, row, longer, fresh=len(longer) - len(tape))
                )
                full["odds"] = self._odds(before, full)
            longer.append(EntryRow(len(longer), full, by, moment))
        return longer

    def _odds(self, folded: FoldedTicket, body: Body) -> dict[str, Any]:
        """The odds with which a call is signed: they are part of the entry and never change again."""
        result = folded.result
        chosen = next(
            (o for o in result.call.options if (o.choice, o.main_fix) == (body["signed"], body.get("fix"))), None
        )
        return {
            "confidence": round(result.call.balance.get(str(body["signed"]), 0.0), 4),
            "suspects": {s.fault: round(s.p, 4) for s in result.suspects if s.p >= _NAMED and s.fault != "sound"},
            "option": option_document(chosen, self.shop.words) if chosen else None,
        }

    def move_to_bay(self, ticket_id: int, bay: int | None) -> TicketOut:
        self.row_of(ticket_id)
        with self.shop.database.write() as connection:
            tickets.move_to_bay(connection, ticket_id, bay)
        self.shop.announce({"kind": "ticket", "ticket": ticket_id})
        return self.ticket(ticket_id)

    # --- the call sheet ------------------------------------------------------------------------------------------

    def sheet(self, ticket_id: int, terms: Mapping[str, Any]) -> SheetOut:
        """All ways out under these terms, which are tried and not kept. Raises TapeError for terms that are no
        facts."""
        row = self.row_of(ticket_id)
        folded = self.folded(row)
        if terms:
            folded = fold_ticket(self.shop.model, row, folded.tape, more=[{"fact": dict(terms)}])
        model, words, state, result = folded.model, self.shop.words, folded.state, folded.result
        found = call_sheet(model, state.facts, result.call, folded.part.price if folded.part else None)
        said: dict[str, Any] = document(model, words, state, result)
        return SheetOut.model_validate(
            {
                "terms": {name: state.facts[name] for name in TERMS if name in state.facts},
                "call": said["call"],
                "rows": [
                    {
                        **to_builtins(r),
                        "option": option_document(r.option, words),
                        "because": _because(model.knowledge, state.how, r.option.fixes),
                    }
                    for r in found.rows
                ],
                "barred": [
                    {
                        "interlock": b.interlock,
                        "why": words.say(b.why),
                        "release": words.say(b.release),
                        "fixes": list(b.fixes),
                    }
                    for b in barred_ways(model, state, result.held)
                ],
                "plain": words.say(found.plain),
                "overturns": [to_builtins(o) for o in overturns(model, state, result.call)],
            }
        )


def _because(knowledge: Knowledge, how: How, fixes: Sequence[str]) -> list[str]:
    """The cases of these fixes that hold, in words."""
    return [case.says for fix in fixes for case in knowledge.fixes[fix].cases if case.id in how.get(fix, ())]
