"""Pictures of tickets, and the moments of all entries."""

from __future__ import annotations

import sqlite3

from gatecheck.store.tickets import Body, loads

_ADD_FILE = "INSERT INTO file (sha256, size, added_at) VALUES (:sha, :size, :at) ON CONFLICT DO NOTHING"
_ADD = (
    "INSERT INTO picture (ticket_id, sha256, added_by, added_at) VALUES (:ticket_id, :sha, :by, :at) ON CONFLICT DO "
    "NOTHING"
)
_HAS = "SELECT 1 FROM picture WHERE ticket_id = ? AND sha256 = ?"
_COUNT = "SELECT count(*) FROM picture WHERE ticket_id = ?"
_MADE = (
    "SELECT ticket_id, place, made_by, made_at, body FROM entry WHERE made_at >= :since AND made_by <> 'probe' "
    "ORDER BY made_at, ticket_id, place"
)


def add_picture(connection: sqlite3.Connection, ticket_id: int, digest: str, size: int, *, by: str, at: str) -> None:
    """Record that a stored picture belongs to a ticket."""
    connection.execute(_ADD_FILE, {"sha": digest, "size": size, "at": at})
    connection.execute(_ADD, {"ticket_id": ticket_id, "sha": digest, "by": by, "at": at})


def has_picture(connection: sqlite3.Connection, ticket_id: int, digest: str) -> bool:
    return connection.execute(_HAS, (ticket_id, digest)).fetchone() is not None


def pictures_of(connection: sqlite3.Connection, ticket_id: int) -> int:
    """How many pictures a ticket has."""
    return int(connection.execute(_COUNT, (ticket_id,)).fetchone()[0])


def made_since(connection: sqlite3.Connection, since: str) -> list[tuple[int, int, str, str, Body]]:
    """(ticket, place, by, moment, entry) of everything that people put on any tape since then."""
    return [
        (ticket, place, by, at, loads(body))
        for ticket, place, by, at, body in connection.execute(_MADE, {"since": since})
    ]
