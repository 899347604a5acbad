"""A newer program on older data, and the way back: a safety copy before anything is changed, and the copy put in place
again by the program that knows it."""

from __future__ import annotations

import shutil
import sqlite3
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from gatecheck.adapters.durable_file import put_in_place
from gatecheck.store.migrations import foreign_steps, missing_steps, steps_done

BEFORE, AFTER = "before-update-", "after-update-"
"""how a file begins that holds the shop as it was before an update, and as it was before it was taken back"""
KEPT = 3


@dataclass(frozen=True, slots=True)
class SafetyCopy:
    """The database as it was before an update; tickets and entries that were made since."""

    path: Path
    tickets: int
    tickets_since: int
    entries_since: int


def too_new(connection: sqlite3.Connection, place: str) -> str:
    """What is wrong where a newer program has changed the data, and what to do; empty where none has."""
    foreign = foreign_steps(connection)
    if not foreign:
        return ""
    more = f" and {len(foreign) - 1} more" if len(foreign) > 1 else ""
    return (
        f"{place}: expected data of this program or an older one, got data of a newer one ({foreign[0]}{more}); start "
        f"the newer program, or `gatecheck go-back` to use the copy from before its update. Nothing was changed"
    )


def copy_before_update(connection: sqlite3.Connection, place: Path) -> Path | None:
    """A whole, checked copy beside the database, where steps are missing and there is something to lose. Raises
    sqlite3.Error, OSError."""
    done = steps_done(connection)
    if not done or not missing_steps(connection) or not _tickets(connection):
        return None
    stamp = datetime.now(UTC).strftime("%Y%m%d-%H%M%S")
    target = place.with_name(f"{BEFORE}{stamp}.sqlite3")
    scratch = place.with_name(f".{target.name}.part")
    scratch.unlink(missing_ok=True)
    with closing(sqlite3.connect(scratch)) as own:
        connection.backup(own)
        own.execute("PRAGMA journal_mode=DELETE")
        found = own.execute("PRAGMA integrity_check").fetchone()[0]
        if found != "ok" or steps_done(own) != done:
            raise sqlite3.DatabaseError(f"safety copy: expected a sound copy, got {found}")
    put_in_place(scratch, target)
    for older in sorted(place.parent.glob(f"{BEFORE}*.sqlite3"))[:-KEPT]:
        older.unlink(missing_ok=True)
    return target


def _tickets(connection: sqlite3.Connection) -> int:
    return int(connection.execute("SELECT count(*) FROM ticket").fetchone()[0])


def newest_copy(data: Path, database: str) -> SafetyCopy | None:
    """The newest safety copy that this program can use. Raises sqlite3.Error."""
    for path in sorted(data.glob(f"{BEFORE}*.sqlite3"), reverse=True):
        try:
            with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as own:
                if foreign_steps(own) or own.execute("PRAGMA quick_check").fetchone()[0] != "ok":
                    continue
                tickets = _tickets(own)
        except sqlite3.Error:  # a copy that is broken takes no older one away
            continue
        with closing(sqlite3.connect(f"file:{data / database}?mode=ro", uri=True, timeout=30)) as running:
            running.execute("ATTACH DATABASE ? AS old", (str(path),))
            since = [int(running.execute(query).fetchone()[0]) for query in (TICKETS_SINCE, ENTRIES_SINCE)]
        return SafetyCopy(path, tickets, *since)
    return None


TICKETS_SINCE = (
    "SELECT count(*) FROM main.ticket t WHERE NOT EXISTS (SELECT 1 FROM old.ticket o WHERE o.id = t.id AND "
    "o.opened_at = t.opened_at)"
)
ENTRIES_SINCE = (
    "SELECT count(*) FROM main.entry e WHERE NOT EXISTS (SELECT 1 FROM old.entry o WHERE o.ticket_id = e.ticket_id AND "
    "o.place = e.place AND o.made_at = e.made_at)"
)
"""what is in a database and not in the one that is attached to it as `old`"""


def put_back(data: Path, database: str, copy: SafetyCopy) -> Path:
    """Put the copy in the database's place, in one step; what was there is kept beside it, whose path is returned.
    Nothing may use it meanwhile. Raises sqlite3.Error, OSError."""
    place = data / database
    kept = data / f"{AFTER}{datetime.now(UTC).strftime('%Y%m%d-%H%M%S')}.sqlite3"
    with closing(sqlite3.connect(place, timeout=1, isolation_level=None)) as running:
        running.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        running.execute("PRAGMA journal_mode=DELETE")
        epoch = int(running.execute("SELECT n FROM epoch").fetchone()[0])
    scratch = data / f".{database}.part"
    for source, target in ((place, kept), (copy.path, place)):
        shutil.copyfile(source, scratch)
        if target == place:
            with closing(sqlite3.connect(scratch)) as own:
                own.execute("UPDATE epoch SET n = ?", (epoch + 1,))  # what pages and probes know is of another time
                own.commit()
        put_in_place(scratch, target)
    return kept
