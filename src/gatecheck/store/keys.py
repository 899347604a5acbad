"""Every key that was tried at power-on, over all tickets, open and closed. Read from the tapes; nothing else is
stored."""

from __future__ import annotations

import sqlite3

from gatecheck.core.instruments.keys import Try, machine_of
from gatecheck.store.shelf import taken_back
from gatecheck.store.tickets import loads

_TRIES = """
    SELECT e.ticket_id, e.place, t.machine, coalesce(json_extract(t.facts, '$.platform'), 'pc'), e.body
    FROM entry e JOIN ticket t ON t.id = e.ticket_id
    WHERE json_extract(e.body, '$.tried_key') IS NOT NULL ORDER BY e.made_at"""


def key_tries(connection: sqlite3.Connection) -> list[Try]:
    """All tries that stand, oldest first. A try that was taken back by an undo teaches nothing."""
    undone = taken_back(connection)
    tries = []
    for ticket_id, place, machine, platform, text in connection.execute(_TRIES):
        if place not in undone[ticket_id]:
            body = loads(text)
            key, opens, worked = body.get("tried_key"), body.get("opens"), body.get("worked")
            if (
                isinstance(key, str) and isinstance(opens, str) and isinstance(worked, bool)
            ):  # anything else is no try that teaches
                tries.append(Try(machine_of(machine, platform), opens, key, worked))
    return tries
