"""Whether a shop's database is whole, read beside a server that may be running."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from gatecheck.store import StoreError


@dataclass(frozen=True, slots=True)
class DatabaseHealth:
    """`problem`: what SQLite finds wrong, empty where nothing is; `newest`: when the newest entry was made."""

    problem: str
    tickets: int
    newest: str | None


def database_health(place: Path) -> DatabaseHealth:
    """Raises StoreError where it cannot be read at all."""
    try:
        with closing(sqlite3.connect(f"file:{place}?mode=ro", uri=True, timeout=30)) as own:
            said = str(own.execute("PRAGMA quick_check(1)").fetchone()[0])
            if said != "ok":
                return DatabaseHealth(said[:200], 0, None)
            count = int(own.execute("SELECT count(*) FROM ticket").fetchone()[0])
            newest = own.execute("SELECT max(made_at) FROM entry").fetchone()[0]
    except sqlite3.Error as error:
        raise StoreError(f"{place}: expected a database that can be read, got {error}") from error
    return DatabaseHealth("", count, newest)
