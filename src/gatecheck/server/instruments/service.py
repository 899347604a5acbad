"""What the instruments on a ticket show: settings, sightings and keys. They read the tape; changes go through the
bench."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import to_builtins

from gatecheck.core.errors import TapeError
from gatecheck.core.instruments.agreement import told_elsewhere
from gatecheck.core.instruments.codes import known, seen_of
from gatecheck.core.instruments.keys import book, candidates, machine_of
from gatecheck.core.instruments.settings import as_left, setting_entry, settings_sheet
from gatecheck.core.instruments.sightings import EXPECTED, DriveLine, sighting_entry, sightings_sheet
from gatecheck.core.tape.fold import TicketState
from gatecheck.server.captures.service import Captures
from gatecheck.server.instruments.wire import BookModelOut, CodesOut, KeysOut, SettingsOut, SightingsOut
from gatecheck.server.shop import Shop
from gatecheck.server.tickets.service import Tickets
from gatecheck.store.codes import codes_printed
from gatecheck.store.files import attachments
from gatecheck.store.keys import key_tries
from gatecheck.store.tickets import EntryRow

NO_TEXT_SETUP = "mac"
_MOST_CODES = 30


class Instruments:
    """Views on one ticket, each worked out from its tape when asked for."""

    def __init__(self, shop: Shop, at_work: Tickets, captures: Captures) -> None:
        self.shop, self.tickets, self.captures = shop, at_work, captures

    def settings(self, ticket_id: int) -> SettingsOut:
        """What the system needs from the firmware against what was found. Raises NotFoundError."""
        knowledge, folded = self.shop.model.knowledge, self.tickets.folded_of(ticket_id)
        state, entries, tape = folded.state, folded.entries, folded.tape
        sheet = settings_sheet(knowledge, state.facts, entries)
        platform = str(state.facts.get("platform", "pc"))
        rows = (
            []
            if platform == NO_TEXT_SETUP
            else [
                {
                    "id": r.row.id,
                    "name": r.row.name,
                    "gate": r.row.gate,
                    "check": r.row.check,
                    "fix": r.row.fix,
                    "want": r.need.want,
                    "why": r.need.why,
                    "because": r.row.because,
                    "found": r.found,
                    "now": r.now,
                    "state": r.state,
                    "entry": r.entry,
                    "from_file": _rests_on_file(tape, r.entry),
                    "values": [
                        {
                            "id": v,
                            "name": name,
                            "state": r.judged[v],
                            "entry": setting_entry(knowledge, state.facts, r.row.id, v),
                        }
                        for v, name in r.row.values.items()
                    ],
                }
                for r in sheet.rows
            ]
        )
        return SettingsOut.model_validate(
            {
                "rows": rows,
                "together": [
                    {**to_builtins(t), "rows": [*t.when], "elsewhere": self._elsewhere(state, t.faults)}
                    for t in sheet.together
                ]
                if rows
                else [],
                "walks": [to_builtins(w) for w in sheet.walks],
                "walkable": {r.row.id: list(r.row.walk) for r in sheet.rows if r.row.walk},
                "ways": [to_builtins(w) for w in knowledge.settings.ways if w.platform == platform],
                "left": [to_builtins(left) for left in as_left(knowledge, state.facts, entries)],
                "captured": self._captured(ticket_id),
            }
        )

    def _elsewhere(self, state: TicketState, faults: Sequence[str]) -> str:
        """What the suspects say instead of these faults, where they do."""
        told = told_elsewhere(self.shop.model, state, faults)
        return self.shop.words.say(told) if told else ""

    def _captured(self, ticket_id: int) -> dict[str, Any] | None:
        """The newest file of the ticket with firmware pages in it."""
        with self.shop.database.read() as connection:
            kept = attachments(connection, ticket_id)
        for file in kept:
            firmware = self.captures.decoded.capture(file.name, file.sha256).firmware
            if firmware is None:
                continue
            smbios = firmware.smbios
            return {
                "file": file.name,
                "sha256": file.sha256,
                "secure_boot": firmware.secure_boot,
                "entries": [
                    {
                        "name": f"Boot{e.number:04X}",
                        "description": e.description,
                        "active": e.is_active,
                        "place": e.place,
                        "leads_to": e.leads_to,
                        "target": e.target,
                        "path": e.path,
                    }
                    for e in firmware.entries
                ],
                "maker": smbios.maker if smbios else "",
                "product": smbios.product if smbios else "",
                "firmware": f"{smbios.firmware_version} {smbios.firmware_date}".strip() if smbios else "",
                "findings": [self.shop.words.say(f.text) for f in firmware.findings if f.severity != "note"],
            }
        return None

    def sightings(self, ticket_id: int) -> SightingsOut:
        """Which drive is seen where. Raises NotFoundError."""
        knowledge, folded = self.shop.model.knowledge, self.tickets.folded_of(ticket_id)
        state, entries, tape = folded.state, folded.entries, folded.tape
        words = self.shop.words
        sheet = sightings_sheet(knowledge, state.facts, entries, [_rests_on_file(tape, i) for i in range(len(tape))])

        def line(own: DriveLine) -> dict[str, Any]:
            name = own.name if isinstance(own.name, str) else words.say(own.name)
            return {
                "what": own.what,
                "name": name,
                "cells": [
                    {
                        "at": v.id,
                        "value": cell.value if cell else None,
                        "entry": cell.entry if cell else None,
                        "from_file": bool(cell and cell.from_file),
                        "note": words.note(tape[cell.entry].body.get("note")) if cell else "",
                        "choices": [
                            {"id": seen, "name": name, "entry": sighting_entry(knowledge, own.what, v.id, seen)}
                            for seen, name in knowledge.sightings.seen.items()
                        ],
                    }
                    for v in sheet.vantages
                    for cell in [own.cells.get(v.id)]
                ],
            }

        shown = {own.what for own in sheet.lines}
        more = [
            DriveLine(what, name, {})
            for what, name in knowledge.sightings.kinds.items()
            if what not in shown | {EXPECTED}
        ]
        return SightingsOut.model_validate(
            {
                "vantages": [to_builtins(v) for v in sheet.vantages],
                "lines": [line(own) for own in sheet.lines],
                "more": [line(own) for own in more],
                "pattern": {**to_builtins(sheet.pattern), "elsewhere": self._elsewhere(state, sheet.pattern.faults)}
                if sheet.pattern
                else None,
            }
        )

    def keys_of_ticket(self, ticket_id: int) -> KeysOut:
        """Keys for the ticket's machine. Raises NotFoundError."""
        row = self.tickets.row_of(ticket_id)
        return self.keys(row.machine, str(self.tickets.folded(row).state.facts.get("platform", "pc")))

    def codes(self, ticket_id: int, code: str) -> CodesOut:
        """What the shop knows of a code that the ticket's machine has printed; its own ticket is not counted. Raises
        NotFoundError."""
        row = self.tickets.row_of(ticket_id)
        machine = machine_of(row.machine, str(self.tickets.folded(row).state.facts.get("platform", "pc")))
        with self.shop.database.read() as connection:
            printed = [p for p in codes_printed(connection) if p.ticket != ticket_id]
        found = known(printed, machine, code)
        return CodesOut.model_validate(
            {"known": to_builtins(found) if found else None, "seen": seen_of(printed, machine)[:_MOST_CODES]}
        )

    def keys(self, machine: str, platform: str) -> KeysOut:
        """Keys for any machine by its name, from the shop's book. Raises TapeError for a platform there is not."""
        table = self.shop.model.knowledge.keys
        if platform not in table.general:
            raise TapeError("platform", expected=f"one of {', '.join(table.general)}", got=repr(platform[:40]))
        with self.shop.database.read() as connection:
            tries = key_tries(connection)
        place = machine_of(machine, platform)
        return KeysOut.model_validate(
            {
                "machine": machine,
                "platform": platform,
                "purposes": [
                    {"purpose": p, "name": name, "keys": [to_builtins(c) for c in candidates(table, tries, place, p)]}
                    for p, name in table.purposes.items()
                ],
            }
        )

    def book(self) -> list[BookModelOut]:
        """Every model the shop has tried keys on, most tried first."""
        with self.shop.database.read() as connection:
            tries = key_tries(connection)
        platforms = {(t.machine.maker, t.machine.model): t.machine.platform for t in tries}
        found = [
            BookModelOut(
                maker=maker,
                model=model,
                platform=platforms[maker, model],
                tries=sum(n for keys in purposes.values() for _, n in keys.values()),
            )
            for (maker, model), purposes in book(tries).items()
        ]
        return sorted(found, key=lambda m: (-m.tries, m.maker, m.model))


def _rests_on_file(tape: Sequence[EntryRow], place: int | None) -> bool:
    return place is not None and isinstance(tape[place].body.get("rests_on"), Mapping)
