"""Gathers what a ticket's papers rest on, words them, prints them; keeps pictures and the shop's own page."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from msgspec import to_builtins

from gatecheck.adapters.erased_capture import without_customer
from gatecheck.core.errors import TapeError
from gatecheck.core.instruments.settings import as_left
from gatecheck.core.tape.entries import Photo, Spent
from gatecheck.core.words.said import Said, say
from gatecheck.core.work.job import OPENING
from gatecheck.core.work.papers import (
    FOR_THE_CUSTOMER,
    KINDS,
    EarlierStay,
    Paper,
    PaperFacts,
    Picture,
    Text,
    ledger_rows,
    paper_of,
)
from gatecheck.core.work.shop import UNNAMED, ShopPage, ShopPageError, parse_shop
from gatecheck.core.work.spent import Moment, Pace, paces, spent
from gatecheck.core.work.told import done_of, found_of
from gatecheck.core.work.tray import tray_of
from gatecheck.server.captures.service import Captures
from gatecheck.server.errors import NotFoundError
from gatecheck.server.papers.ledger import ledger_of_ticket, log_line
from gatecheck.server.papers.pictures import kept_picture
from gatecheck.server.papers.wire import EarlierOut, PaperOut, PapersOut
from gatecheck.server.qr import qr_svg
from gatecheck.server.shop import Shop, now
from gatecheck.server.tickets.folded import FoldedTicket
from gatecheck.server.tickets.service import Tickets
from gatecheck.server.tickets.wire import TicketOut
from gatecheck.server.volumes.service import Volumes
from gatecheck.server.work.service import Work
from gatecheck.store import Connection, StoreError
from gatecheck.store.erasing import ERASED, erase_customer, erase_safety_copies, erasure_of
from gatecheck.store.files import attachments
from gatecheck.store.pictures import add_picture, has_picture, made_since, pictures_of
from gatecheck.store.shop_pages import keep_shop_page
from gatecheck.store.tickets import TicketRow, earlier_tickets, tickets_of_customer, tickets_on_bench

_MOST_PICTURES = 60
_OUTSIDE = ("erase.outside-backups", "erase.outside-exports", "erase.outside-papers", "erase.outside-disks")
_DAYS_MEASURED = 60


class Papers:
    """Papers of tickets. `fonts`: folder of the print faces."""

    def __init__(
        self, shop: Shop, at_work: Tickets, captures: Captures, work: Work, volumes: Volumes, fonts: Path | None = None
    ) -> None:
        self.shop, self.tickets, self.captures, self.work, self.volumes, self.fonts = (
            shop,
            at_work,
            captures,
            work,
            volumes,
            fonts,
        )

    # --- pictures ------------------------------------------------------------------------------------------------

    def add_picture(
        self,
        ticket_id: int,
        name: str,
        data: bytes,
        *,
        says: str = "",
        evidence: bool = False,
        by: str,
        key: str | None = None,
        at: str | None = None,
    ) -> TicketOut:
        """Keep a picture on the ticket. Raises InputError for what is none, StoreError where the ticket has too
        many."""
        row = self.tickets.row_of(ticket_id)
        if row.closed_at:
            raise TapeError(f"ticket {row.number}", expected="an open ticket", got="one that was handed over")
        kept = kept_picture(name[:80], data)
        digest, moment = self.shop.files.put(kept), at or now()
        body: dict[str, Any] = {
            "picture": digest,
            "evidence": evidence,
            **({"says": says.strip()} if says.strip() else {}),
        }

        def keep(connection: Connection) -> None:
            if pictures_of(connection, ticket_id) >= _MOST_PICTURES:
                raise StoreError(f"{name[:80]}: expected at most {_MOST_PICTURES} pictures on a ticket, got another")
            add_picture(connection, ticket_id, digest, len(kept), by=by, at=moment)

        return self.tickets.append_made(ticket_id, lambda folded: [body], by=by, key=key, at=at, also=keep)

    def picture(self, ticket_id: int, digest: str) -> bytes:
        """A picture of this ticket. Raises NotFoundError."""
        with self.shop.database.read() as connection:
            if not has_picture(connection, ticket_id, digest):
                raise NotFoundError(f"picture {digest[:12]}: expected one of this ticket, got none")
        return self.shop.files.get(digest)

    # --- the shop's page -----------------------------------------------------------------------------------------

    def put_shop_page(self, said: Mapping[str, object], *, by: str) -> ShopPage:
        """Check and keep lines of the shop's page. Raises ShopPageError; then nothing is kept."""
        page = parse_shop(said, self.shop.page)
        taken = [r.bay for r in self._on_bench() if r.bay is not None and r.bay > page.bays]
        if taken:
            raise StoreError(
                f"shop.bays: expected at least {max(taken)}, for there is a machine in bay {max(taken)}, got "
                f"{page.bays}"
            )
        with self.shop.database.write() as connection:
            keep_shop_page(connection, to_builtins(page), by=by, at=now())
        self.shop.use(page)
        self.shop.announce({"kind": "shop"})
        return page

    def _on_bench(self) -> list[TicketRow]:
        with self.shop.database.read() as connection:
            return tickets_on_bench(connection)

    # --- erasing -------------------------------------------------------------------------------------------------

    def erase(self, ticket_id: int, *, by: str) -> TicketOut:
        """Erase the customer of this ticket from all of their tickets. Raises StoreError while one of them is open;
        then nothing is erased."""
        row = self.tickets.row_of(ticket_id)
        with self.shop.database.read() as connection:
            own = tickets_of_customer(connection, row.customer) if row.customer != ERASED else [row]
        still = [t.number for t in own if not t.closed_at]
        if still:
            raise StoreError(f"erase: expected tickets that were handed over, got {', '.join(still)} still open")
        files, knowledge = self.shop.files.folder, self.shop.model.knowledge
        told = (
            erase_safety_copies(files.parent, row.customer, knowledge, without_customer, by=by)
            if row.customer != ERASED
            else ()
        )
        for ticket in own:
            self.volumes.remove_all(ticket.id)
            erase_customer(self.shop.database, files, ticket.id, knowledge, without_customer, by=by, told=told)
        self.shop.generation += 1
        self.shop.announce({"kind": "ticket", "ticket": ticket_id})
        return self.tickets.ticket(ticket_id)

    # --- minutes -------------------------------------------------------------------------------------------------

    def minutes(self, ticket_id: int) -> tuple[float, float | None, float]:
        """(measured from the tapes, corrected by hand, expected of what was done), hands-on."""
        row = self.tickets.row_of(ticket_id)
        folded = self.tickets.folded(row)
        moments, _ = self._moments(row.opened_at)
        own = spent(moments).get(ticket_id, {})
        corrected = next(
            (
                e.minutes
                for e, s in zip(reversed(folded.entries), reversed(folded.stands), strict=True)
                if s and isinstance(e, Spent)
            ),
            None,
        )
        expected = sum(m.expected or 0.0 for m in moments if m.ticket == ticket_id and folded.stands[m.place])
        return sum(own.values()), corrected, expected

    def _moments(self, since: str) -> tuple[list[Moment], dict[tuple[int, int], str]]:
        knowledge = self.shop.model.knowledge
        moments, names = [], {}
        with self.shop.database.read() as connection:
            made = made_since(connection, since)
        for ticket, place, by, at, body in made:
            expected, name = None, None
            if (
                isinstance(body.get("move"), str)
                and body["move"] in {**knowledge.checks, **knowledge.fixes}
                and "belongs" not in body
                and "rests_on" not in body
            ):
                move = knowledge.move(str(body["move"]))
                expected, name = move.minutes, move.name
            elif body.get("step") in knowledge.work.steps:
                step = knowledge.work.steps[str(body["step"])]
                expected, name = step.minutes, step.name
            elif "belongs" in body or "rests_on" in body:
                expected = 0.0
            moments.append(Moment(ticket, place, by, _minute(at), expected))
            if name is not None:
                names[ticket, place] = name
        return moments, names

    def paces(self) -> list[Pace]:
        """What moves and steps really take here, over the last weeks."""
        since = (datetime.now(UTC) - timedelta(days=_DAYS_MEASURED)).isoformat(timespec="milliseconds")
        moments, names = self._moments(since)
        return paces(moments, names)[:40]

    # --- papers --------------------------------------------------------------------------------------------------

    def papers(self, ticket_id: int) -> PapersOut:
        measured, corrected, expected = self.minutes(ticket_id)
        case = self.case(ticket_id)
        with self.shop.database.read() as connection:
            erased = erasure_of(connection, ticket_id)
        return PapersOut.model_validate(
            {
                "kinds": {kind: self._say(paper_of(case, kind).title) for kind in KINDS},
                "spent": {"measured": round(measured, 1), "corrected": corrected, "expected": round(expected, 1)},
                "erased_at": erased.at if erased else None,
                "erased_copies": [self._say(say(f"erase.{what}", name=name)) for name, what in erased.copies]
                if erased
                else [],
                "erase_outside": [self._say(say(sentence)) for sentence in _OUTSIDE],
            }
        )

    def paper(self, ticket_id: int, kind: str) -> PaperOut:
        """The paper, worded. Raises NotFoundError for one there is not."""
        paper, say = self._paper(ticket_id, kind), self._say
        page = self.shop.page
        return PaperOut.model_validate(
            {
                "kind": kind,
                "title": say(paper.title),
                "shop": page.name,
                "address": list(page.address),
                "head": [say(h) for h in paper.head],
                "sections": [
                    {
                        "heading": say(s.heading),
                        "lines": [say(x) for x in s.lines],
                        "rows": [[say(c) for c in row] for row in s.rows],
                        "strong": s.strong,
                        "pictures": [{"file": p.file, "says": p.says} for p in s.pictures],
                    }
                    for s in paper.sections
                ],
                "labels": [
                    {
                        "number": x.number,
                        "what": say(x.what),
                        "lines": [say(line) for line in x.lines],
                        "code": qr_svg(x.code),
                    }
                    for x in paper.labels
                ],
                "paper": page.paper,
                "may_print": kind not in FOR_THE_CUSTOMER or page.may_print,
            }
        )

    def pdf(self, ticket_id: int, kind: str, size: str | None = None) -> bytes:
        """The paper as PDF, on the shop's paper or another. Raises NotFoundError, ShopPageError for a size nobody
        has."""
        from gatecheck.server.papers.pdf import print_paper

        page = self.shop.page
        if kind in FOR_THE_CUSTOMER and not page.may_print:
            raise ShopPageError(
                "address" if page.name != UNNAMED else "name",
                expected="the name and the address of the shop, before a paper for the customer is printed",
                got="none yet: enter them in the shop settings",
            )
        if size is not None:
            page = parse_shop({"paper": size}, page)
        return print_paper(
            self._paper(ticket_id, kind), page, self._say, lambda digest: self.picture(ticket_id, digest), self.fonts
        )

    def earlier(self, ticket_id: int) -> list[EarlierOut]:
        """Earlier stays of this machine, the last one first: what was found and done then, and whether the warranty on
        it still ran when it came this time."""
        row = self.tickets.row_of(ticket_id)
        return [
            EarlierOut(
                id=own.id,
                number=own.number,
                machine=own.machine,
                closed_at=str(own.closed_at),
                found=[self._say(x) for x in stay.found],
                done=[self._say(x) for x in stay.done],
                warranty_until=self._warranty_until(own),
                in_warranty=repaired and row.opened_at[:10] <= self._warranty_until(own),
                is_comeback=own.id == row.comeback_of,
            )
            for own, stay, repaired in self._stays_before(row)
        ]

    def _stays_before(self, row: TicketRow) -> list[tuple[TicketRow, EarlierStay, bool]]:
        """(ticket, what was found and done, whether it was repaired then), the last one first."""
        serial = str(self.tickets.folded(row).state.facts.get("drive_serial") or "")
        with self.shop.database.read() as connection:
            before = earlier_tickets(connection, row, "" if row.customer == ERASED else row.customer, serial)
        stays = []
        for own in before:
            folded = self.tickets.folded(own)
            ledger, knowledge = ledger_of_ticket(folded), self.shop.model.knowledge
            found = found_of(ledger, knowledge, folded.state.facts)
            stay = EarlierStay(own.number, str(own.closed_at)[:10], tuple(found), tuple(done_of(ledger, knowledge)))
            stays.append((own, stay, ledger.repaired))
        return stays

    def _warranty_until(self, row: TicketRow) -> str:
        end = datetime.fromisoformat(row.closed_at) if row.closed_at else datetime.now(UTC)
        return (end + timedelta(days=self.shop.page.warranty_days)).date().isoformat()

    def _covered_by(self, row: TicketRow, facts: Mapping[str, object]) -> str | None:
        """Number of the ticket whose warranty this stay falls under: it came back from there in time, and nobody says
        that it is not covered."""
        if row.comeback_of is None or facts.get("warranty") == "not-covered":
            return None
        before = self.tickets.row_of(row.comeback_of)
        return before.number if row.opened_at[:10] <= self._warranty_until(before) else None

    def csv(self, ticket_id: int) -> str:
        """The ledger as a table: of what kind, what, and how it stands."""
        out = io.StringIO()
        table = csv.writer(out, lineterminator="\r\n")
        table.writerow(("kind", "what", "result"))
        table.writerows([self._say(cell) for cell in row] for row in ledger_rows(self.case(ticket_id)))
        return out.getvalue()

    def _paper(self, ticket_id: int, kind: str) -> Paper:
        if kind not in KINDS:
            raise NotFoundError(f"paper {kind[:20]!r}: expected one of {', '.join(KINDS)}")
        return paper_of(self.case(ticket_id), kind)

    def _say(self, text: Text) -> str:
        return self.shop.words.say(text) if isinstance(text, Said) else text

    def case(self, ticket_id: int) -> PaperFacts:
        """Everything that the papers of this ticket rest on. Raises NotFoundError."""
        row = self.tickets.row_of(ticket_id)
        folded = self.tickets.folded(row)
        state, entries = folded.state, folded.entries
        measured, corrected, _ = self.minutes(ticket_id)
        signed = _signed(folded)
        odds = dict(signed.get("odds") or {}) if signed else {}
        today = datetime.fromisoformat(row.closed_at) if row.closed_at else datetime.now(UTC)
        values = {v: name for r in self.shop.model.knowledge.settings.rows.values() for v, name in r.values.items()}
        ledger = ledger_of_ticket(folded)
        return PaperFacts(
            number=row.number,
            customer=row.customer,
            machine=row.machine,
            said=row.words,
            taken_in=row.opened_at[:10],
            today=today.date().isoformat(),
            warranty_until=self._warranty_until(row),
            covered_by=self._covered_by(row, state.facts),
            knowledge=self.shop.model.knowledge,
            shop=self.shop.page,
            facts=state.facts,
            ledger=ledger,
            tape=[
                log_line(self.shop.model.knowledge, self.shop.words, entries, folded.tape[i], i)
                for i in range(len(entries))
                if folded.stands[i]
            ],
            was_opened=bool(tray_of(entries, folded.stands)) or ledger.has(*OPENING, "new-drive"),
            old_serial=self.work.view(ticket_id).old_serial or "",
            minutes=corrected if corrected is not None else measured,
            new_is_flash=self.work.is_flash(ledger.part),
            odds=odds.get("suspects") or {},
            confidence=odds.get("confidence"),
            left=[
                (x.name, values.get(x.found or "", x.found or "—"), values.get(x.left or "", x.left or "—"))
                for x in as_left(self.shop.model.knowledge, state.facts, entries)
            ],
            verdicts=self._verdicts(ticket_id),
            pictures=[
                Picture(e.file, e.says, e.evidence)
                for e, s in zip(entries, folded.stands, strict=True)
                if s and isinstance(e, Photo)
            ],
            earlier=[stay for _, stay, _ in self._stays_before(row)],
        )

    def _verdicts(self, ticket_id: int) -> list[tuple[str, Text]]:
        with self.shop.database.read() as connection:
            kept = attachments(connection, ticket_id)
        found: list[tuple[str, Text]] = []
        for file in kept[:3]:
            for drive in self.captures.decoded.capture(file.name, file.sha256).drives:
                identity = drive.identity or {}
                found.append(
                    (
                        " ".join(str(identity.get(k) or "") for k in ("model", "serial")).strip() or drive.device,
                        drive.verdict,
                    )
                )
        return found


def _signed(folded: FoldedTicket) -> Mapping[str, Any] | None:
    """The last signature that stands, with its odds."""
    return next(
        (
            e.body
            for e, s in zip(reversed(folded.tape), reversed(folded.stands), strict=True)
            if s and "signed" in e.body
        ),
        None,
    )


def _minute(moment: str) -> float:
    try:
        return datetime.fromisoformat(moment).timestamp() / 60
    except ValueError:
        return 0.0
