"""A made-up repair counter: Gullhaven Repair Loft. Everything in it is invented; its tapes run through the engine."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta
from importlib import resources
from typing import Any

from gatecheck.core.instruments.settings import setting_entry
from gatecheck.core.instruments.sightings import sighting_entry
from gatecheck.core.work.parts import read_shelf
from gatecheck.server.demo.lid import drive_lid
from gatecheck.server.demo.machines import (
    SHELF,
    Action,
    Choice,
    DemoIntake,
    DemoPicture,
    DriveSeen,
    HandedOver,
    Line,
    Outcome,
    Row,
    SoundHeard,
    machines,
)
from gatecheck.server.ear.service import wav_bytes
from gatecheck.server.services import Services
from gatecheck.server.work.wire import PartIn

SHOP, PREFIX, BAYS = "Gullhaven Repair Loft", "GL", 6
SHOP_PAGE: dict[str, object] = {
    "name": SHOP,
    "address": ["3 Ropewalk Stairs", "Gullhaven Harbour"],
    "technicians": ["KT", "MO"],
    "bench_hour": 54.0,
    "currency": "¤",
    "tax": 8.0,
    "warranty_days": 180,
    "opening": "Thank you for bringing it up the stairs to us. This is what we found.",
}
# the setup key of each model in this shop's invented world; somebody tried another one first
_SETUP_KEYS = {"Ferrow Lathe-14": "F2", "Ferrow Adze-22": "F10", "Ostler Bracken-15": "F2", "Ostler Tarn Mini": "Del"}
_WRONG_FIRST = 5


def closed_tickets() -> list[dict[str, Any]]:
    """Tickets handed over in the last weeks, as `make_closed` wrote them: machines of a rehearsal under the planner."""
    text = (resources.files("gatecheck.server.demo") / "closed.json").read_text(encoding="utf-8")
    records: list[dict[str, Any]] = json.loads(text)
    for number, record in enumerate(records):
        record["tape"] = [line for entry in record["tape"] for line in _with_key(record["machine"], number, entry)]
    return records


def _with_key(machine: str, number: int, entry: dict[str, Any]) -> list[dict[str, Any]]:
    """Before setup was reached, somebody pressed a key."""
    if entry.get("move") != "setup-entry" or entry.get("outcome") != "reached":
        return [entry]
    tried = [{"tried_key": _SETUP_KEYS[machine], "opens": "setup", "worked": True}]
    if number % _WRONG_FIRST == 0:
        tried.insert(0, {"tried_key": "Esc", "opens": "setup", "worked": False})
    return [*tried, entry]


def fill(house: Services) -> dict[int, str]:
    """Take all demo machines in and lay their tapes; behind them the tickets of the last weeks, already handed over.
    Returns which practice machine is to be linked to which ticket once the server runs."""
    started = datetime.now(UTC)
    house.work.put_items(read_shelf(SHELF))
    house.papers.put_shop_page(SHOP_PAGE, by="KT")
    linked = {}
    for machine in machines():
        moment = started - timedelta(minutes=machine.taken_in)
        first = [line for line in machine.lines[:2] if isinstance(line, dict)]
        ticket = house.tickets.take_in(
            customer=machine.customer,
            machine=machine.machine,
            words=machine.words,
            facts=machine.facts,
            entries=first,
            bay=machine.bay,
            by=machine.by[0],
            at=moment.isoformat(timespec="milliseconds"),
        )
        for index, line in enumerate(machine.lines[len(first) :]):
            moment += timedelta(minutes=machine.every)
            by, at = machine.by[index % len(machine.by)], moment.isoformat(timespec="milliseconds")
            if isinstance(line, tuple):
                house.captures.add_file(ticket.id, line[0], line[1], by=by, at=at)
            elif isinstance(line, DemoPicture):
                house.papers.add_picture(
                    ticket.id, "lid.png", drive_lid(line.dent), says=line.says, evidence=True, by=by, at=at
                )
            elif isinstance(line, SoundHeard):
                from gatecheck.practice.sounds import Scene, sound

                scene = Scene(line.kind, rpm=5400, rate=16_000, seconds=11.0, snr=16.0, fan=0.4, seeks=0.2)
                house.ear.add(ticket.id, line.name, wav_bytes(sound(scene, seed=5), scene.rate), by=by, at=at)
            elif isinstance(line, HandedOver):
                house.learning.hand_over(ticket.id, line.faults, by=by, at=at, waive=line.waive)
            elif isinstance(line, Action | DemoIntake | Outcome | Choice):
                _work(house, ticket.id, line, by, at)
            else:
                house.tickets.append(ticket.id, _entry(house, ticket.id, line), by=by, at=at)
        if machine.practice:
            linked[ticket.id] = machine.practice
    house.learning.bring_in_closed(closed_tickets(), started)
    return linked


def _work(house: Services, ticket_id: int, line: Action | DemoIntake | Outcome | Choice, by: str, at: str) -> None:
    work = house.work
    if isinstance(line, Action):
        work.answer(ticket_id, line.step, line.answer, line.value, by=by, at=at)
    elif isinstance(line, DemoIntake):
        work.take_out(
            ticket_id,
            {"name": line.name, "what": line.what, "count": line.count, "kind": line.kind, "fields": line.fields},
            by=by,
            at=at,
        )
    elif isinstance(line, Outcome):
        work.put_back(
            ticket_id, next(g.entry for g in reversed(work.view(ticket_id).tray) if not g.back), 0, by=by, at=at
        )
    else:
        item = next(i for i in work.shelf_view().items if i.name == line.name)
        work.choose(ticket_id, PartIn(shelf=item.id, serial=line.serial, by=by), at=at)


def _entry(house: Services, ticket_id: int, line: Line) -> dict[str, Any]:
    """A line as the instruments would put it on the tape."""
    knowledge = house.shop.model.knowledge
    if isinstance(line, Row):
        return setting_entry(knowledge, house.tickets.folded_of(ticket_id).state.facts, line.id, line.value)
    if isinstance(line, dict):
        return line
    assert isinstance(line, DriveSeen)
    return sighting_entry(knowledge, line.what, line.at, line.value)
