"""The shop's technicians: by their initials, with a role and the hash of a PIN, never the PIN itself."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from gatecheck.store.database import StoreError

_COLUMNS = "id, initials, role, added_by, added_at"
_ADD = f"""
    INSERT INTO technician (initials, role, pin, added_by, added_at) VALUES (:initials, :role, :pin, :by, :at)
    RETURNING {_COLUMNS}"""
_ALL = f"SELECT {_COLUMNS} FROM technician WHERE left_at IS NULL ORDER BY initials"
_PIN = "SELECT id, pin FROM technician WHERE initials = ? AND left_at IS NULL"
_ROLE = "UPDATE technician SET role = ? WHERE id = ? AND left_at IS NULL"
_NEW_PIN = "UPDATE technician SET pin = ? WHERE id = ? AND left_at IS NULL"
_LEAVE = "UPDATE technician SET left_at = ?, pin = '' WHERE id = ? AND left_at IS NULL"


@dataclass(frozen=True, slots=True)
class Technician:
    id: int
    initials: str
    role: str
    added_by: str
    added_at: str


def technicians(connection: sqlite3.Connection) -> list[Technician]:
    """All that have not left, by their initials."""
    return [Technician(*row) for row in connection.execute(_ALL)]


def add_technician(
    connection: sqlite3.Connection, *, initials: str, role: str, pin_hash: str, by: str, at: str
) -> Technician:
    """Raises StoreError for initials that somebody has."""
    values = {"initials": initials, "role": role, "pin": pin_hash, "by": by, "at": at}
    try:
        return Technician(*connection.execute(_ADD, values).fetchone())
    except sqlite3.IntegrityError:
        raise StoreError(f"initials: expected some that nobody has, got {initials!r}") from None


def pin_of(connection: sqlite3.Connection, initials: str) -> tuple[int, str] | None:
    """(id, hash of the PIN)."""
    row = connection.execute(_PIN, (initials,)).fetchone()
    return (int(row[0]), str(row[1])) if row else None


def set_role(connection: sqlite3.Connection, technician_id: int, role: str) -> bool:
    """True where there was such a technician."""
    return connection.execute(_ROLE, (role, technician_id)).rowcount > 0


def set_pin(connection: sqlite3.Connection, technician_id: int, pin_hash: str) -> bool:
    """True where there was such a technician."""
    return connection.execute(_NEW_PIN, (pin_hash, technician_id)).rowcount > 0


def leave(connection: sqlite3.Connection, technician_id: int, at: str) -> bool:
    """True where there was such a technician. Their initials stay in the log, and may be given again."""
    return connection.execute(_LEAVE, (at, technician_id)).rowcount > 0
