"""Recordings of tickets: sounds and supply currents."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

_ADD_FILE = "INSERT INTO file (sha256, size, added_at) VALUES (:sha, :size, :at) ON CONFLICT DO NOTHING"
_ADD = (
    "INSERT INTO recording (ticket_id, sha256, kind, name, added_by, added_at) VALUES (:ticket_id, :sha, :kind, "
    ":name, :by, :at) ON CONFLICT DO NOTHING"
)
_OF = (
    "SELECT sha256, kind, name, added_by, added_at FROM recording WHERE ticket_id = ? ORDER BY added_at DESC, rowid "
    "DESC"
)


@dataclass(frozen=True, slots=True)
class Recording:
    """`kind`: sound, supply."""

    sha256: str
    kind: str
    name: str
    added_by: str
    added_at: str


def add_recording(
    connection: sqlite3.Connection, ticket_id: int, digest: str, size: int, kind: str, name: str, *, by: str, at: str
) -> None:
    """Record that a stored recording belongs to a ticket."""
    connection.execute(_ADD_FILE, {"sha": digest, "size": size, "at": at})
    connection.execute(_ADD, {"ticket_id": ticket_id, "sha": digest, "kind": kind, "name": name, "by": by, "at": at})


def recordings_of(connection: sqlite3.Connection, ticket_id: int) -> list[Recording]:
    """Newest first."""
    return [Recording(*row) for row in connection.execute(_OF, (ticket_id,))]
