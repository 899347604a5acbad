"""Every key that was tried at power-on, over all tickets, open and closed. Read from the tapes; nothing else is stored."""

from __future__ import annotations

import sqlite3
from collections import defaultdict

from gatecheck.core.instruments.keys import Try, machine_of
from gatecheck.store.tickets import loads

_TRIES = """
    SELECT e.ticket_id, e.place, t.machine, coalesce(json_extract(t.facts, '$.platform'), 'pc'), e.body
    FROM entry e JOIN ticket t ON t.id = e.ticket_id
    WHERE json_extract(e.body, '$.tried_key') IS NOT NULL ORDER BY e.made_at"""
_UNDOS = """
    SELECT ticket_id, place, json_extract(body, '$.undo') FROM entry
    WHERE json_extract(body, '$.undo') IS NOT NULL ORDER BY ticket_id, place DESC"""


def key_tries(connection: sqlite3.Connection) -> list[Try]:
    """All tries that stand, oldest first. A try that was taken back by an undo teaches nothing."""
    taken_back: defaultdict[int, set[int]] = defaultdict(set)
    for ticket_id, place, target in connection.execute(_UNDOS):  # later undos first: an undone undo takes nothing back
        if place not in taken_back[ticket_id]:
            taken_back[ticket_id].add(target)
    tries = []
    for ticket_id, place, machine, platform, text in connection.execute(_TRIES):
        if place not in taken_back[ticket_id]:
            body = loads(text)
            key, opens, worked = body.get("tried_key"), body.get("opens"), body.get("worked")
            if isinstance(key, str) and isinstance(opens, str) and isinstance(worked, bool):  # anything else is no try that teaches
                tries.append(Try(machine_of(machine, platform), opens, key, worked))
    return tries
