"""Paired devices: by the hash of their token, never the token itself."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

_COLUMNS = "id, name, initials, paired_at, seen_at"
_ADD = f"""
    INSERT INTO device (token, name, initials, paired_at, seen_at) VALUES (:token, :name, :initials, :at, :at)
    RETURNING {_COLUMNS}"""
_BY_TOKEN = f"SELECT {_COLUMNS} FROM device WHERE token = ? AND revoked_at IS NULL"
_ALL = f"SELECT {_COLUMNS} FROM device WHERE revoked_at IS NULL ORDER BY seen_at DESC, id"
_SEEN = "UPDATE device SET seen_at = ? WHERE id = ?"
_REVOKE = "UPDATE device SET revoked_at = ? WHERE id = ? AND revoked_at IS NULL"


@dataclass(frozen=True, slots=True)
class Device:
    id: int
    name: str
    initials: str
    paired_at: str
    seen_at: str


def add_device(connection: sqlite3.Connection, token_hash: str, *, name: str, initials: str, at: str) -> Device:
    return Device(
        *connection.execute(_ADD, {"token": token_hash, "name": name, "initials": initials, "at": at}).fetchone()
    )


def device_by_token(connection: sqlite3.Connection, token_hash: str) -> Device | None:
    """One that is paired and not revoked."""
    row = connection.execute(_BY_TOKEN, (token_hash,)).fetchone()
    return Device(*row) if row else None


def devices(connection: sqlite3.Connection) -> list[Device]:
    """All that are paired, the one seen last first."""
    return [Device(*row) for row in connection.execute(_ALL)]


def seen(connection: sqlite3.Connection, device_id: int, at: str) -> None:
    connection.execute(_SEEN, (at, device_id))


def revoke(connection: sqlite3.Connection, device_id: int, at: str) -> bool:
    """True where there was such a device."""
    return connection.execute(_REVOKE, (at, device_id)).rowcount > 0
