"""Every key that was tried at power-on, over all tickets, open and closed. Read from the tapes; nothing else is stored."""

from __future__ import annotations

import json
import sqlite3
from collections import defaultdict

from gatecheck.core.instruments.keys import Try, machine_of

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
            body = json.loads(text)
            tries.append(Try(machine_of(machine, platform), body["opens"], body["tried_key"], body["worked"]))
    return tries
