"""Handing over, and what it teaches: base rates of the shop, and whether the odds held."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any

from msgspec import to_builtins

from gatecheck.core.learning import (
    CONTEXT_FACT,
    base_rates,
    call_was_right,
    expected_shares,
    reliability,
)
from gatecheck.core.tape.entries import Waived
from gatecheck.core.tape.fold import intake_prior
from gatecheck.core.words.said import say
from gatecheck.core.work.proof import unproven
from gatecheck.server.learning.wire import GuessOut, LearningOut
from gatecheck.server.link.order_kinds import WRITING
from gatecheck.server.shop import Shop, now
from gatecheck.server.tickets.folded import FoldedTicket, fold_ticket
from gatecheck.server.tickets.service import Tickets
from gatecheck.server.tickets.view import final_checks
from gatecheck.server.tickets.wire import TicketOut
from gatecheck.store import Connection, StoreError, lessons, links, tickets
from gatecheck.store.tickets import EntryRow


class Learning:
    """Closes tickets and learns from them."""

    def __init__(self, shop: Shop, at_work: Tickets, forget_keys: Callable[[int], object]) -> None:
        self.shop, self.tickets, self.forget_keys = shop, at_work, forget_keys
        shop.relearn()

    # --- handing over --------------------------------------------------------------------------------------------

    def guesses(self, ticket_id: int, most: int = 5) -> list[GuessOut]:
        """What the machine came in with, as the whole tape tells it; likeliest first."""
        folded = self.tickets.folded_of(ticket_id)
        odds = folded.model.space.by_faults(intake_prior(folded.model, folded.facts, folded.entries))
        likeliest = sorted(odds, key=lambda faults: -odds[faults])[:most]
        return [GuessOut(faults=list(faults), p=odds[faults]) for faults in likeliest]

    def hand_over(
        self,
        ticket_id: int,
        proven: Sequence[str] | None = None,
        *,
        by: str = "?",
        at: str | None = None,
        waive: str | None = None,
    ) -> TicketOut:
        """The machine goes back. What it turned out to have goes on the tape and is learned from, with the closing, at
        once.

        Raises StoreError where the job's proof is not complete and nobody says why it goes back all the same (`waive`).
        """
        row, moment = self.tickets.row_of(ticket_id), at or now()
        before = self.tickets.folded(row)
        left = unproven(final_checks(before))
        if left and not (waive or "").strip():
            raise StoreError(
                f"handover: expected every line of the proof, or why it goes back without, got open: "
                f"{', '.join(line.name for line in left)}"
            )
        entry: list[tuple[dict[str, Any], None]] = [
            ({"waive": line.id, "reason": str(waive).strip()}, None) for line in left
        ]
        entry += [] if proven is None else [({"proven": list(proven)}, None)]
        closing = (
            before
            if proven is None
            else fold_ticket(self.shop.model, row, before.tape, more=[{"proven": list(proven)}])
        )
        lesson = self._lesson(closing, before.tape)

        def close(connection: Connection) -> None:
            open_ones = [o for o in links.orders_of(connection, ticket_id) if o.state in (links.WAITING, links.PAUSED)]
            out = next((o for o in open_ones if o.is_handed_out and o.body["order"] in WRITING), None)
            if out is not None:
                what = str(out.body.get("what") or out.body.get("drive") or out.body["order"])
                raise StoreError(f"handover: {self.shop.words.say(say('write.handed-over', what=what))}")
            tickets.close_ticket(connection, ticket_id, moment)
            links.end_link(connection, ticket_id, moment)  # opened again, the ticket needs another link
            if lesson:
                lessons.put_lesson(connection, ticket_id, moment, **lesson)

        self.tickets.append_all(ticket_id, entry, by=by, at=at, also=close, event="ticket")
        self.forget_keys(ticket_id)
        if lesson:
            self.shop.relearn()
        return self.tickets.ticket(ticket_id)

    def reopen(self, ticket_id: int, *, by: str = "?") -> TicketOut:
        """Take a handed-over ticket up again; what it taught is forgotten, and checks that were skipped to hand it over
        count anew."""
        row = self.tickets.row_of(ticket_id)
        with self.shop.database.write() as connection:
            tickets.reopen_ticket(connection, ticket_id)
            lessons.take_out(connection, ticket_id)
        folded = self.tickets.folded(row)
        skipped = any(s and isinstance(e, Waived) for e, s in zip(folded.entries, folded.stands, strict=True))
        if row.closed_at and skipped:
            self.tickets.append(ticket_id, {"reopened": True}, by=by)
        self.shop.relearn()
        self.shop.announce({"kind": "ticket", "ticket": ticket_id})
        return self.tickets.ticket(ticket_id)

    def bring_in_closed(self, records: Sequence[Mapping[str, Any]], today: datetime) -> None:
        """Tickets that were closed elsewhere, whole: each with its tape, handed over so many days ago, and its
        lesson."""
        with self.shop.database.write() as connection:
            for record in records:
                opened = today - timedelta(days=record["days_ago"])
                moments = [opened.isoformat(timespec="milliseconds")]
                for place, body in enumerate(
                    record["tape"]
                ):  # each took about what its move takes, some more, some less
                    move = str(body.get("move", ""))
                    known = self.shop.model.knowledge.checks.get(move) or self.shop.model.knowledge.fixes.get(move)
                    opened += timedelta(
                        minutes=min(known.minutes if known else 1.0, 24.0)
                        * (0.8 + 0.15 * ((place + len(record["tape"])) % 5))
                    )
                    moments.append(opened.isoformat(timespec="milliseconds"))
                row = tickets.open_ticket(
                    connection,
                    customer=record["customer"],
                    machine=record["machine"],
                    words="",
                    facts=record["facts"],
                    bay=None,
                    by=record["by"],
                    at=moments[0],
                    prefix=self.shop.prefix,
                    comeback_of=None,
                )
                tape = [EntryRow(i, body, record["by"], moments[i]) for i, body in enumerate(record["tape"])]
                for entry in tape:
                    tickets.append_entry(
                        connection, row.id, entry.place, entry.body, by=entry.made_by, at=entry.made_at
                    )
                tickets.close_ticket(connection, row.id, moments[-1])
                lesson = self._lesson(fold_ticket(self.shop.model, row, tape), tape)
                if lesson:
                    lessons.put_lesson(connection, row.id, moments[-1], **lesson)
        self.shop.relearn()

    def _lesson(self, folded: FoldedTicket, tape: Sequence[EntryRow]) -> dict[str, Any] | None:
        """What a ticket teaches when it is closed now; None where nobody said what it was."""
        state = folded.state
        if state.proven is None:
            return None
        bodies = [e.body for e, s in zip(tape, folded.stands, strict=False) if s and "signed" in e.body]
        signed: Mapping[str, Any] = bodies[-1] if bodies else {}
        odds = signed.get("odds") or {}
        choice = str(signed.get("signed", ""))
        shipped = self.shop.shipped
        return {
            "context": str(state.facts.get(CONTEXT_FACT, "")),
            "faults": state.proven,
            "expected": expected_shares(shipped, state.facts),
            "choice": choice,
            "confidence": float(odds.get("confidence", 0.0)),
            "suspects": odds.get("suspects", {}),
            "was_right": bool(choice)
            and call_was_right(shipped, state.facts, state.proven, choice, state.booted is not None)
            and not _failed(folded),
        }

    # --- learning --------------------------------------------------------------------------------------------------

    def learning(self) -> LearningOut:
        """What was learned and how the odds held."""
        known, shipped = self.shop.lessons(), self.shop.shipped
        with self.shop.database.read() as connection:
            last = lessons.last_reset(connection)
        held = reliability(known)
        return LearningOut.model_validate(
            {
                "lessons": sum(not x.came_back for x in known),
                "comebacks": sum(x.came_back for x in known),
                "weight": shipped.knowledge.rates["lessons_weight"],
                "last_reset": last,
                "rates": [to_builtins(r) for r in base_rates(shipped, known)],
                "calls": [to_builtins(b) for b in held.calls],
                "suspects": [to_builtins(b) for b in held.suspects],
                "brier": held.brier,
            }
        )

    def reset(self, *, by: str) -> LearningOut:
        with self.shop.database.write() as connection:
            lessons.reset(connection, at=now(), by=by)
        self.shop.relearn()
        self.shop.announce({"kind": "learning"})
        return self.learning()


def _failed(folded: FoldedTicket) -> bool:
    """It was carried out, and the machine is fetched while it does not start."""
    job = folded.last_job
    if job is None or job.choice == "refer" or job.context["way"] in ("nothing", "data-only", "they-install"):
        return False
    return folded.state.booted is None
