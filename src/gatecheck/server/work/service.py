"""The shop at work on a signed call: answering steps, the tray, the parts, the proof. All of it stands on the tape."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from msgspec import to_builtins

from gatecheck.core.capture.read import Capture
from gatecheck.core.errors import TapeError
from gatecheck.core.instruments.evidence import system_candidates
from gatecheck.core.instruments.keys import candidates, machine_of
from gatecheck.core.instruments.settings import as_left
from gatecheck.core.tape.entries import Part, RemovedGroup, StepDone
from gatecheck.core.tape.parse import parse_entry
from gatecheck.core.work.hints import JobKnowledge, hints_of
from gatecheck.core.work.job import Body, Job, JobStep, SeenDrive, answer_bodies, open_step, stale_settings
from gatecheck.core.work.parts import COLUMNS, Item, fitting, read_shelf, wanted_of, write_shelf
from gatecheck.core.work.strip import Guide, OpenedMachine, guide_for, known_as, next_group
from gatecheck.core.work.tray import screws, tray_of
from gatecheck.server.captures.service import Captures
from gatecheck.server.practice.service import Practice
from gatecheck.server.shop import Shop
from gatecheck.server.tickets.folded import SWAPPED, FoldedTicket
from gatecheck.server.tickets.service import Tickets
from gatecheck.server.tickets.view import due_at, proof_list
from gatecheck.server.tickets.wire import TicketOut
from gatecheck.server.work.wire import ChosenOut, PartIn, PartsOut, ShelfOut, WorkOut
from gatecheck.store import Connection, StoreError, shelf
from gatecheck.store.files import attachments
from gatecheck.store.keys import key_tries
from gatecheck.store.tickets import TicketRow

_LICENCE_TABLES = ("MSDM", "SLIC")
_PICKER = "picker"
_GB = 1e9
PART_STEP = "part"


class Work:
    """Carrying out."""

    def __init__(self, shop: Shop, at_work: Tickets, captures: Captures, practice: Practice) -> None:
        self.shop, self.tickets, self.captures, self.practice = shop, at_work, captures, practice

    # --- looking -------------------------------------------------------------------------------------------------

    def view(self, ticket_id: int) -> WorkOut:
        """The job with everything its screen shows. Raises NotFoundError."""
        row = self.tickets.row_of(ticket_id)
        folded = self.tickets.folded(row)
        job = folded.job
        tray = tray_of(folded.entries, folded.stands)
        known = self._known(row, folded)
        own = next(
            (
                d
                for d in known.drives
                if d.is_own and d.serial and (job is None or job.part is None or d.serial != job.part.serial)
            ),
            None,
        )
        return WorkOut.model_validate(
            {
                "name": job.name if job else "",
                "choice": job.choice if job else None,
                "fix": job.fix if job else None,
                "phases": dict(self.shop.model.knowledge.work.phases),
                "steps": [self._step(folded, job, s, known) for s in job.steps] if job else [],
                "done": sum(s.is_settled for s in job.steps) if job else 0,
                "minutes_left": job.minutes_left if job else 0.0,
                "tray": [
                    {
                        "entry": g.entry,
                        "name": g.out.name,
                        "what": g.out.what,
                        "count": g.out.count,
                        "kind": g.out.kind,
                        "fields": list(g.out.fields),
                        "back": not g.is_removed,
                        "missing": g.missing,
                    }
                    for g in tray
                ],
                "lies_out": screws(tray),
                "guide": self._guide(row, folded),
                "part": self._chosen(folded),
                "old_serial": own.serial if own else None,
                "proof": [
                    {
                        "id": p.id,
                        "name": p.name,
                        "state": p.state,
                        "why": self.shop.words.say(p.why),
                        "reason": p.reason,
                        "entries": list(p.entries),
                    }
                    for p in proof_list(folded)
                ],
            }
        )

    def _step(self, folded: FoldedTicket, job: Job, own: JobStep, known: JobKnowledge) -> dict[str, Any]:
        step, words = own.step, self.shop.words
        said = folded.entries[own.entry] if own.entry is not None else None
        hints = (
            hints_of(self.shop.model.knowledge, folded.state.facts, job, own, folded.entries, folded.stands, known)
            if own.state == "now"
            else []
        )
        return {
            "id": step.id,
            "phase": step.phase,
            "name": step.name,
            "do": step.do,
            "why": step.why,
            "minutes": step.minutes,
            "guard": step.guard,
            "wants": list(step.wants),
            "screen": step.screen,
            "state": own.state,
            "answer": own.answer,
            "entry": own.entry,
            "tries": own.tries,
            "answers": [{"id": a.id, "say": a.say, "leads": a.leads, "asks": a.asks} for a in step.answers.values()],
            "value": said.value if isinstance(said, StepDone) else None,
            "said_at": folded.tape[own.entry].made_at if own.entry is not None else None,
            "held": [
                {"interlock": h.interlock, "why": words.say(h.why), "release": words.say(h.release)} for h in own.held
            ],
            "due_at": due_at(folded, own.due),
            "may_lead": own.may_lead,
            "hints": [words.say(h) for h in hints],
        }

    def _known(self, row: TicketRow, folded: FoldedTicket) -> JobKnowledge:
        """What files and books of the shop know of this machine."""
        knowledge, facts = self.shop.model.knowledge, folded.state.facts
        with self.shop.database.read() as connection:
            kept = attachments(connection, row.id)
            tries = key_tries(connection)
        newest = [self.captures.decoded.capture(f.name, f.sha256) for f in kept]
        platform = str(facts.get("platform", "pc"))
        keys = (
            candidates(knowledge.keys, tries, machine_of(row.machine, platform), _PICKER)
            if _PICKER in knowledge.keys.purposes
            else []
        )
        changed = [left.name for left in as_left(knowledge, facts, folded.entries) if left.found != left.left]
        return JobKnowledge(
            self._drives(folded, newest),
            _licence(newest),
            keys[0].key if keys else None,
            changed,
            [_minutes(e.made_at) for e in folded.tape],
            [knowledge.settings.rows[r].name for r in stale_settings(knowledge, folded.state)],
        )

    def _drives(self, folded: FoldedTicket, newest: Sequence[Capture]) -> list[SeenDrive]:
        """Drives of the newest capture that has any, and the one whose label was read."""
        found: list[SeenDrive] = []
        capture = next((c for c in newest if c.drives), None)
        if capture is not None:
            own = system_candidates(capture, folded.state.facts)
            for drive in capture.drives:
                identity = drive.identity or {}
                size = identity.get("capacity")
                found.append(
                    SeenDrive(
                        str(identity.get("model") or drive.device),
                        str(identity.get("serial") or ""),
                        round(size / _GB) if isinstance(size, int | float) and size else None,
                        drive in own,
                    )
                )
        labels = [
            e.value
            for e, s in zip(folded.entries, folded.stands, strict=True)
            if s and isinstance(e, StepDone) and e.step == "label" and isinstance(e.value, str)
        ]
        if labels and labels[-1] not in {d.serial for d in found}:
            found.append(SeenDrive(self.shop.model.knowledge.work.steps["label"].answers["read"].say, labels[-1], None))
        return found

    def _guide(self, row: TicketRow, folded: FoldedTicket) -> dict[str, Any]:
        facts, knowledge = folded.state.facts, self.shop.model.knowledge
        form, name = str(facts.get("form") or ""), str(facts.get("known_as") or row.machine)
        with self.shop.database.read() as connection:
            raw = shelf.groups_out(connection)
            names = shelf.machine_names(connection, row.id)
        guide: Guide | None = guide_for(
            opened(raw, row.id, knowledge), machine_of(name, str(facts.get("platform", "pc"))), form
        )
        upcoming = next_group(guide, tray_of(folded.entries, folded.stands))
        return {
            "level": guide.level if guide else None,
            "machines": guide.machines if guide else 0,
            "minutes": guide.minutes if guide else None,
            "first_minutes": guide.first_minutes if guide else None,
            "general": list(knowledge.work.strip.get(form, ())),
            "next": {**to_builtins(upcoming), "fields": list(upcoming.fields)} if upcoming else None,
            "known_as": None if facts.get("known_as") else known_as(row.machine, names),
        }

    def _chosen(self, folded: FoldedTicket) -> ChosenOut | None:
        part = folded.part
        if part is None:
            return None
        with self.shop.database.read() as connection:
            left = {i.id: i.left for i in shelf.shelf(connection)}
        return ChosenOut(
            shelf=part.shelf,
            name=part.name,
            serial=part.serial,
            size_gb=part.size_gb,
            price=part.price,
            left=left.get(part.shelf or 0),
        )

    # --- steps ---------------------------------------------------------------------------------------------------

    def answer(
        self,
        ticket_id: int,
        step: str,
        answer: str,
        value: object,
        *,
        by: str,
        key: str | None = None,
        at: str | None = None,
    ) -> TicketOut:
        """Answer a step of the job; what follows from it stands and falls with it. Raises TapeError where it is not
        open, held or refused."""

        def make(folded: FoldedTicket) -> list[Body]:
            job = _job(folded)
            drives = self._known(self.tickets.row_of(ticket_id), folded).drives
            return answer_bodies(job, folded.state, step, answer, value, len(folded.tape), drives)

        after = self.tickets.append_made(ticket_id, make, by=by, key=key, at=at)
        if (step, answer) == SWAPPED:
            self.practice.connect_again(ticket_id)  # a practice machine gets the new drive now
        return after

    def waive(
        self, ticket_id: int, step: str, reason: str, *, by: str, key: str | None = None, at: str | None = None
    ) -> TicketOut:
        """Leave a step, or a line of the proof, out with a written reason."""

        def make(folded: FoldedTicket) -> list[Body]:
            job = _job(folded)
            if step not in {line.id for line in proof_list(folded)} or job.find(step):
                open_step(job, step)
            return [{"waive": step, "reason": reason}]

        return self.tickets.append_made(ticket_id, make, by=by, key=key, at=at)

    def bring_forward(
        self, ticket_id: int, step: str, *, by: str, key: str | None = None, at: str | None = None
    ) -> TicketOut:
        """Take a step before its turn. Raises TapeError where another has to come first."""

        def make(folded: FoldedTicket) -> list[Body]:
            job = _job(folded)
            own = open_step(job, step)
            if not own.may_lead:
                ids = {s.step.id: s for s in job.steps}
                before = [ids[n].step.name for n in own.step.needs if n in ids and not ids[n].is_settled]
                raise TapeError(
                    f"step {step}",
                    expected="one that nothing has to come before",
                    got=f"first: {', '.join(before)}" if before else "the one in hand",
                )
            return [{"first": step}]

        return self.tickets.append_made(ticket_id, make, by=by, key=key, at=at)

    # --- the tray ------------------------------------------------------------------------------------------------

    def take_out(
        self, ticket_id: int, group: Mapping[str, Any], *, by: str, key: str | None = None, at: str | None = None
    ) -> TicketOut:
        """A group came off the machine."""
        body = {
            "out": group["name"],
            "what": group["what"],
            "count": group["count"],
            "kind": group["kind"],
            "fields": list(group["fields"]),
        }
        return self.tickets.append_made(ticket_id, lambda folded: [body], by=by, key=key, at=at)

    def put_back(
        self, ticket_id: int, entry: int, missing: int, *, by: str, key: str | None = None, at: str | None = None
    ) -> TicketOut:
        """A group is in its place again. Raises TapeError where it is not what lies out, or more is missing than there
        was."""

        def make(folded: FoldedTicket) -> list[Body]:
            group = next((g for g in tray_of(folded.entries, folded.stands) if g.entry == entry), None)
            if group is None or not group.is_removed:
                raise TapeError(
                    f"tray {entry}", expected="a group that is still out", got="one that is back" if group else "none"
                )
            if missing > group.out.count:
                raise TapeError(f"tray {entry}", expected=f"at most {group.out.count} missing", got=missing)
            return [{"back": entry, "missing": missing}]

        return self.tickets.append_made(ticket_id, make, by=by, key=key, at=at)

    # --- the shelf -----------------------------------------------------------------------------------------------

    def parts(self, ticket_id: int) -> PartsOut:
        """What of the shelf fits this machine, and why the rest does not."""
        folded = self.tickets.folded_of(ticket_id)
        wanted = wanted_of(self.shop.model.knowledge.work.slots, folded.state.facts)
        with self.shop.database.read() as connection:
            items = shelf.shelf(connection, ticket_id)
        return PartsOut.model_validate(
            {
                "wants": {k: v for k, v in to_builtins(wanted).items() if k != "was_spinning"},
                "drives": [
                    {"item": to_builtins(f.item), "fits": f.fits, "why": [self.shop.words.say(w) for w in f.why]}
                    for f in fitting(items, wanted)
                ],
                "cables": [to_builtins(i) for i in items if i.kind == "cable"],
                "chosen": self._chosen(folded),
            }
        )

    def choose(self, ticket_id: int, part: PartIn, *, at: str | None = None) -> TicketOut:
        """Reserve a part of the shelf, or say which one they brought; the job's step is answered with it. Raises
        StoreError where none is left."""
        with self.shop.database.read() as connection:
            item = next((i for i in shelf.shelf(connection, ticket_id) if i.id == part.shelf), None)
        if part.shelf is not None and item is None:
            raise StoreError(f"part {part.shelf}: expected one of the shelf, got none by that number")
        if item is None and not part.name.strip():
            raise TapeError("part.name", expected="what they brought, by maker and model", got="nothing")
        name, size, price = (item.name, item.size_gb, item.price) if item else (part.name.strip(), part.size_gb, 0.0)

        def make(folded: FoldedTicket) -> list[Body]:
            chosen: list[Body] = [
                {
                    "part": {
                        "shelf": part.shelf,
                        "name": name,
                        "serial": part.serial.strip(),
                        "size_gb": size,
                        "price": price,
                    }
                }
            ]
            own = folded.job.find(PART_STEP) if folded.job else None
            if own is not None and not own.is_settled:
                chosen.append(
                    {
                        "step": PART_STEP,
                        "answer": "reserved" if item else "theirs",
                        **({} if item else {"value": part.serial.strip() or name}),
                    }
                )
            return chosen

        def check(connection: Connection) -> None:
            if part.shelf is not None:
                shelf.check_left(connection, part.shelf, ticket_id)

        return self.tickets.append_made(ticket_id, make, by=part.by, key=part.key, also=check, at=at)

    def is_flash(self, part: Part | None) -> bool | None:
        """Whether a drive of the shelf is one of flash; None for one that is not of the shelf."""
        if part is None or part.shelf is None:
            return None
        with self.shop.database.read() as connection:
            return next((i.flash for i in shelf.shelf(connection) if i.id == part.shelf), None)

    def shelf_view(self) -> ShelfOut:
        with self.shop.database.read() as connection:
            return ShelfOut.model_validate(
                {"items": [to_builtins(i) for i in shelf.shelf(connection)], "columns": list(COLUMNS)}
            )

    def shelf_csv(self) -> str:
        with self.shop.database.read() as connection:
            return write_shelf(shelf.shelf(connection))

    def bring_in(self, text: str) -> ShelfOut:
        """Lay what a CSV file lists on the shelf: all of it or nothing. Raises ShelfError with every line that cannot
        be used."""
        self.put_items(read_shelf(text))
        return self.shelf_view()

    def put_items(self, items: Sequence[Item]) -> None:
        with self.shop.database.write() as connection:
            shelf.put_items(connection, items)
        self.shop.announce({"kind": "shelf"})

    def remove(self, item_id: int) -> ShelfOut:
        with self.shop.database.write() as connection:
            shelf.remove_item(connection, item_id)
        self.shop.announce({"kind": "shelf"})
        return self.shelf_view()


def opened(
    raw: Sequence[tuple[int, str, str, str, dict[str, object], str]], but_for: int, knowledge: Any
) -> list[OpenedMachine]:
    """Machines that were opened here, oldest first; what is no group any more is left out."""
    by_ticket: dict[int, list[tuple[RemovedGroup, str]]] = {}
    named: dict[int, tuple[str, str, str]] = {}
    for ticket, machine, platform, form, body, moment in raw:
        if ticket == but_for:
            continue
        try:
            entry = parse_entry(
                {k: v for k, v in body.items() if k in ("out", "what", "count", "kind", "fields")}, 0, knowledge
            )
        except TapeError:
            continue
        if isinstance(entry, RemovedGroup):
            by_ticket.setdefault(ticket, []).append((entry, moment))
            named[ticket] = (machine, platform, form)
    found = []
    for ticket, groups in by_ticket.items():
        machine, platform, form = named[ticket]
        took = _minutes(groups[-1][1]) - _minutes(groups[0][1]) if len(groups) > 1 else None
        found.append(OpenedMachine(machine_of(machine, platform), machine, form, tuple(g for g, _ in groups), took))
    return found


def _job(folded: FoldedTicket) -> Job:
    if folded.job is None:
        raise TapeError(
            "job",
            expected="a signed call to carry out",
            got="none: it was not signed, or something since speaks against it",
        )
    return folded.job


def _licence(newest: Sequence[Capture]) -> bool | None:
    """Whether a licence table stands in the firmware; None where its tables were not read."""
    for capture in newest:
        tables = capture.state.told.get("acpi/tables") if capture.state else None
        if tables is not None:
            return any(name in tables.split() for name in _LICENCE_TABLES)
    return None


def _minutes(moment: str) -> float:
    try:
        return datetime.fromisoformat(moment).timestamp() / 60
    except ValueError:
        return 0.0
