"""The shop's work on tickets: what routes and demo call. Folds tapes, keeps folded tickets, appends entries."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from typing import Any

from gatecheck.core.errors import BenchError, TapeError
from gatecheck.core.report import document
from gatecheck.core.storage.capture import Capture, Drive, read_capture
from gatecheck.core.storage.report import capture_document
from gatecheck.core.tape import Entry, Started, parse_entries, parse_facts, standing, weighed
from gatecheck.core.ticket import TicketState, fold
from gatecheck.core.triage.assess import assess
from gatecheck.core.triage.explain import tips, weights_of_evidence
from gatecheck.core.triage.model import Model
from gatecheck.files import InputError, pages_of
from gatecheck.server.models import AttachmentOut, BenchOut, BenchRow, CaptureOut, FoundOut, TicketOut
from gatecheck.store import Database, tickets
from gatecheck.store.files import FileStore, attach, attachments
from gatecheck.store.tickets import EntryRow, TicketRow

_EXPLAINED = 6
_TRIES = 5
_DRIVE_KINDS = {"ata": ("hdd", "sata-ssd"), "nvme": ("nvme",)}


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
        self.model, self.database, self.files = model, database, files
        self.shop, self.prefix, self.bays = shop, prefix, bays
        self.announce: Callable[[Mapping[str, object]], None] = lambda event: None
        self._folded: dict[int, _Folded] = {}
        self._tape_locks: dict[int, threading.Lock] = {}
        self._lock = threading.Lock()

    # --- reading -----------------------------------------------------------------------------------------------

    def overview(self) -> BenchOut:
        """All open tickets, hands wanted first."""
        with self.database.read() as connection:
            rows = tickets.tickets_on_bench(connection)
        views = [_row(self._view(row)) for row in rows]
        rank = {"hands": 0, "running": 1, "done": 2}
        views.sort(key=lambda r: (rank[r.turn], not r.urgent, r.bay or 999, r.id))
        return BenchOut(shop=self.shop, bays=self.bays, rows=views)

    def ticket(self, ticket_id: int) -> TicketOut:
        """One ticket with everything the engine says. Raises NotFoundError."""
        return self._view(self._row_of(ticket_id))

    def find(self, text: str) -> list[FoundOut]:
        with self.database.read() as connection:
            found = tickets.find_tickets(connection, text)
        return [
            FoundOut(id=t.id, number=t.number, customer=t.customer, machine=t.machine, bay=t.bay, closed=bool(t.closed_at))
            for t in found
        ]

    def _row_of(self, ticket_id: int) -> TicketRow:
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
        spoken = weights_of_evidence(self.model, state, [s.fault for s in suspects])
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
            "files": self._files(row.id),
            **{k: getattr(row, k) for k in ("id", "number", "customer", "machine", "words", "bay", "opened_by", "opened_at", "closed_at")},
        })  # fmt: skip

    # --- changing ----------------------------------------------------------------------------------------------

    def take_in(
        self, *, customer: str, machine: str, words: str, facts: Mapping[str, Any], entries: list[dict[str, Any]],
        bay: int | None, by: str, at: str | None = None,
    ) -> TicketOut:  # fmt: skip
        """Open a ticket with what was asked at the counter. Raises TapeError or StoreError; then nothing is kept."""
        knowledge = self.model.knowledge
        checked = parse_facts(facts, knowledge)
        fold(self.model, checked, parse_entries(entries, knowledge))
        moment = at or now()
        with self.database.write() as connection:
            row = tickets.open_ticket(
                connection, customer=customer.strip(), machine=machine.strip(), words=words, facts=checked, bay=bay, by=by,
                at=moment, prefix=self.prefix,
            )  # fmt: skip
            for place, body in enumerate(entries):
                tickets.append_entry(connection, row.id, place, body, by=by, at=moment)
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
        row = self._row_of(ticket_id)
        if row.closed_at:
            raise TapeError(f"ticket {row.number}", expected="an open ticket", got="one that was handed over")
        for _ in range(_TRIES):  # another process may write to the same database
            with self.database.read() as connection:
                tape = tickets.tape_of(connection, ticket_id)
                repeated = tickets.place_of_request(connection, ticket_id, key)
            if repeated is not None:
                return self.ticket(ticket_id)
            moment = at or now()
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
        self._row_of(ticket_id)
        with self.database.write() as connection:
            tickets.move_to_bay(connection, ticket_id, bay)
        self.announce({"kind": "ticket", "ticket": ticket_id})
        return self.ticket(ticket_id)

    def hand_over(self, ticket_id: int) -> TicketOut:
        self._row_of(ticket_id)
        with self.database.write() as connection:
            tickets.close_ticket(connection, ticket_id, now())
        self.announce({"kind": "ticket", "ticket": ticket_id})
        return self.ticket(ticket_id)

    # --- files -------------------------------------------------------------------------------------------------

    def add_file(self, ticket_id: int, name: str, data: bytes, *, by: str, at: str | None = None) -> CaptureOut:
        """Keep a file on the ticket, decode it, and weigh it where it is clear which drive is the machine's.

        Raises InputError for what is no page or capture, StoreError where it cannot be kept. Nothing is lost by either.
        """
        row = self._row_of(ticket_id)
        if row.closed_at:
            raise TapeError(f"ticket {row.number}", expected="an open ticket", got="one that was handed over")
        capture = read_capture(pages_of(name, data))
        if len(capture.pages) == 1 and capture.pages[0].status in ("unknown", "broken"):
            raise InputError(f"{name}: expected a capture or a page of a drive, got {capture.pages[0].detail}")
        digest = self.files.put(data)
        moment = at or now()
        with self.database.write() as connection:
            attach(connection, ticket_id, digest, name, len(data), by=by, at=moment)
        drive = _the_drive(capture, self.ticket(ticket_id).facts)
        if drive is not None:
            self._weigh(ticket_id, digest, name, drive, by=by, at=moment)
        self.announce({"kind": "file", "ticket": ticket_id})
        return self._capture_out(digest, name, moment, capture, drive.device if drive else None)

    def weigh(self, ticket_id: int, digest: str, device: str, *, by: str) -> TicketOut:
        """Put one drive of a capture on the tape. Raises NotFoundError where the ticket has no such file or drive."""
        name, _, capture = self._capture(ticket_id, digest)
        for drive in capture.drives:
            if drive.device == device and drive.weights:
                return self._weigh(ticket_id, digest, name, drive, by=by)
        raise NotFoundError(f"{name}: expected a drive {device!r} with pages about its health, got none")

    def _weigh(self, ticket_id: int, digest: str, name: str, drive: Drive, *, by: str, at: str | None = None) -> TicketOut:
        body = {
            "move": "health-pages", "weights": drive.weights, "note": drive.verdict,
            "rests_on": {"file": digest, "name": name, "device": drive.device},
        }  # fmt: skip
        return self.append(ticket_id, body, by=by, key=f"{digest[:24]}-{drive.device}", at=at)

    def captures(self, ticket_id: int) -> list[CaptureOut]:
        """All decoded files of a ticket, newest first."""
        self._row_of(ticket_id)
        weighed_of = {
            str(body["rests_on"]["file"]): str(body["rests_on"]["device"])
            for e in self.ticket(ticket_id).tape
            for body in [e.body]
            if e.stands and isinstance(body.get("rests_on"), dict)
        }
        with self.database.read() as connection:
            kept = attachments(connection, ticket_id)
        decoded = [(a, self._capture(ticket_id, a.sha256)[2]) for a in kept]
        return [self._capture_out(a.sha256, a.name, a.added_at, c, weighed_of.get(a.sha256)) for a, c in decoded]

    def _capture(self, ticket_id: int, digest: str) -> tuple[str, str, Capture]:
        with self.database.read() as connection:
            for kept in attachments(connection, ticket_id):
                if kept.sha256 == digest:
                    return kept.name, kept.added_at, read_capture(pages_of(kept.name, self.files.get(digest)))
        raise NotFoundError(f"file {digest[:12]}: expected a file of this ticket, got none")

    def _capture_out(self, digest: str, name: str, at: str, capture: Capture, device: str | None) -> CaptureOut:
        said: dict[str, Any] = capture_document(capture)
        named = {drive.device for drive in capture.drives}
        return CaptureOut.model_validate({
            "sha256": digest, "name": name, "added_at": at, "devices": said["devices"],
            "other_pages": [p for p in said["pages"] if p["device"] not in named], "weighed": device,
        })  # fmt: skip


def _running(state: TicketState, entries: list[Entry], tape: list[EntryRow]) -> dict[str, object] | None:
    if state.running is None:
        return None
    entry = entries[state.running]
    assert isinstance(entry, Started)
    return {"move": entry.move, "started_at": tape[state.running].made_at, "minutes": entry.minutes}


def _the_drive(capture: Capture, facts: Mapping[str, object]) -> Drive | None:
    """The one drive a capture can be about: pages about health, not behind USB, of the ticket's kind where known."""
    candidates = [d for d in capture.drives if d.weights and d.bus != "usb"] or [d for d in capture.drives if d.weights]
    kind = facts.get("drive_kind")
    if len(candidates) > 1 and kind not in (None, "unknown"):
        fitting = [d for d in candidates if kind in _DRIVE_KINDS.get(d.bus, ())]
        candidates = [d for d in fitting if (d.identity or {}).get("rotation") != 0] if kind == "hdd" else fitting
    return candidates[0] if len(candidates) == 1 else None


def _row(ticket: TicketOut) -> BenchRow:
    first = ticket.next[0] if ticket.next else None
    done = ticket.signed is not None and not ticket.running
    turn = "running" if ticket.running else "done" if done else "hands"
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
        next_move=first.move if first else None,
        next_kind=first.kind if first else None,
        next_minutes=first.minutes if first else None,
        next_why=first.why if first else "",
        choice=ticket.call.choice,
        leans=ticket.call.leans,
        fix=ticket.call.fix,
        signed=ticket.signed is not None,
        started=all(g.state == "open" for g in ticket.gates),
        open_trials=sum(t.open and t.no_effect for t in ticket.trials),
        running=ticket.running,
    )
