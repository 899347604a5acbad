"""Every code that a machine's own test has printed, over all tickets. Read from the tapes; nothing else is stored."""

from __future__ import annotations

import sqlite3

from gatecheck.core.instruments.codes import Printed
from gatecheck.core.instruments.keys import machine_of
from gatecheck.store.shelf import taken_back
from gatecheck.store.tickets import loads

_CODES = """
    SELECT e.ticket_id, e.place, t.machine,
        coalesce(json_extract(t.facts, '$.platform'), 'pc'), json_extract(e.body, '$.code')
    FROM entry e JOIN ticket t ON t.id = e.ticket_id
    WHERE json_extract(e.body, '$.code') IS NOT NULL ORDER BY e.made_at"""
_PROVEN = (
    "SELECT ticket_id, place, body FROM entry WHERE json_extract(body, '$.proven') IS NOT NULL ORDER BY "
    "ticket_id, place"
)


def codes_printed(connection: sqlite3.Connection) -> list[Printed]:
    """All that stand, oldest first, each with what its ticket turned out to be. A code on an entry that was taken back
    teaches nothing."""
    undone = taken_back(connection)
    proven: dict[int, tuple[str, ...]] = {}
    for ticket_id, place, text in connection.execute(_PROVEN):
        faults = loads(text).get("proven")
        if place not in undone[ticket_id] and isinstance(faults, list):
            proven[ticket_id] = tuple(str(f) for f in faults)
    return [
        Printed(machine_of(machine, platform), code, ticket_id, proven.get(ticket_id))
        for ticket_id, place, machine, platform, code in connection.execute(_CODES)
        if place not in undone[ticket_id] and isinstance(code, str)
    ]
