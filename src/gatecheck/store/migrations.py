"""The schema as an append-only list of named steps, each applied with its record in one transaction."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from contextlib import AbstractContextManager

Atomic = Callable[[sqlite3.Connection], AbstractContextManager[sqlite3.Connection]]

_RECORD = (
    "CREATE TABLE IF NOT EXISTS migration (name TEXT PRIMARY KEY, applied_at TEXT NOT NULL DEFAULT "
    "CURRENT_TIMESTAMP) STRICT"
)

# never edit a step that has shipped: add the next one
MIGRATIONS: tuple[tuple[str, tuple[str, ...]], ...] = (
    (
        "tickets-and-tape",
        (
            """
            CREATE TABLE ticket (
                id INTEGER PRIMARY KEY,
                number TEXT NOT NULL UNIQUE,
                customer TEXT NOT NULL,
                machine TEXT NOT NULL,
                words TEXT NOT NULL,
                facts TEXT NOT NULL CHECK (json_valid(facts)),
                bay INTEGER CHECK (bay BETWEEN 1 AND 99),
                opened_by TEXT NOT NULL,
                opened_at TEXT NOT NULL,
                closed_at TEXT
            ) STRICT
            """,
            "CREATE UNIQUE INDEX ticket_bay ON ticket (bay) WHERE bay IS NOT NULL AND closed_at IS NULL",
            "CREATE INDEX ticket_open ON ticket (closed_at) WHERE closed_at IS NULL",
            """
            CREATE TABLE entry (
                ticket_id INTEGER NOT NULL REFERENCES ticket (id),
                place INTEGER NOT NULL CHECK (place >= 0),
                body TEXT NOT NULL CHECK (json_valid(body)),
                made_by TEXT NOT NULL,
                made_at TEXT NOT NULL,
                request_key TEXT,
                PRIMARY KEY (ticket_id, place)
            ) STRICT, WITHOUT ROWID
            """,
            "CREATE UNIQUE INDEX entry_request ON entry (ticket_id, request_key) WHERE request_key IS NOT NULL",
            # the tape is append-only: not by habit but by rule
            (
                "CREATE TRIGGER entry_no_update BEFORE UPDATE ON entry BEGIN SELECT RAISE(ABORT, 'the tape is "
                "append-only'); END"
            ),
            (
                "CREATE TRIGGER entry_no_delete BEFORE DELETE ON entry BEGIN SELECT RAISE(ABORT, 'the tape is "
                "append-only'); END"
            ),
        ),
    ),
    (
        "files",
        (
            """
            CREATE TABLE file (
                sha256 TEXT PRIMARY KEY CHECK (length(sha256) = 64),
                size INTEGER NOT NULL,
                added_at TEXT NOT NULL
            ) STRICT
            """,
            """
            CREATE TABLE attachment (
                id INTEGER PRIMARY KEY,
                ticket_id INTEGER NOT NULL REFERENCES ticket (id),
                sha256 TEXT NOT NULL REFERENCES file (sha256),
                name TEXT NOT NULL,
                added_by TEXT NOT NULL,
                added_at TEXT NOT NULL,
                UNIQUE (ticket_id, sha256)
            ) STRICT
            """,
        ),
    ),
    (
        "lessons",
        (
            "ALTER TABLE ticket ADD COLUMN comeback_of INTEGER REFERENCES ticket (id)",
            "CREATE INDEX ticket_comeback ON ticket (comeback_of) WHERE comeback_of IS NOT NULL",
            """
            CREATE TABLE lesson (
                ticket_id INTEGER PRIMARY KEY REFERENCES ticket (id),
                closed_at TEXT NOT NULL,
                context TEXT NOT NULL,
                faults TEXT NOT NULL CHECK (json_valid(faults)),
                expected TEXT NOT NULL CHECK (json_valid(expected)),
                choice TEXT NOT NULL,
                confidence REAL NOT NULL CHECK (confidence BETWEEN 0 AND 1),
                suspects TEXT NOT NULL CHECK (json_valid(suspects)),
                was_right INTEGER NOT NULL CHECK (was_right IN (0, 1))
            ) STRICT
            """,
            "CREATE TABLE learning_reset (at TEXT NOT NULL, made_by TEXT NOT NULL) STRICT",
        ),
    ),
    (
        "key-tries",
        (
            (
                "CREATE INDEX entry_key_try ON entry (ticket_id, place) WHERE json_extract(body, '$.tried_key') IS NOT "
                "NULL"
            ),
            "CREATE INDEX entry_undo ON entry (ticket_id, place) WHERE json_extract(body, '$.undo') IS NOT NULL",
        ),
    ),
    (
        "links",
        (
            """
            CREATE TABLE link (
                ticket_id INTEGER PRIMARY KEY REFERENCES ticket (id),
                secret TEXT NOT NULL UNIQUE,
                made_by TEXT NOT NULL,
                made_at TEXT NOT NULL,
                practice TEXT,
                practice_since REAL,
                ended_at TEXT
            ) STRICT
            """,
            """
            CREATE TABLE link_session (
                id TEXT PRIMARY KEY,
                ticket_id INTEGER NOT NULL REFERENCES link (ticket_id),
                machine TEXT NOT NULL CHECK (json_valid(machine)),
                probe TEXT NOT NULL,
                began_at TEXT NOT NULL
            ) STRICT
            """,
            """
            CREATE TABLE link_order (
                id INTEGER PRIMARY KEY,
                ticket_id INTEGER NOT NULL REFERENCES link (ticket_id),
                body TEXT NOT NULL CHECK (json_valid(body)),
                state TEXT NOT NULL CHECK (state IN ('waiting', 'done', 'refused', 'failed', 'cancelled')),
                detail TEXT NOT NULL,
                made_by TEXT NOT NULL,
                made_at TEXT NOT NULL,
                done_at TEXT
            ) STRICT
            """,
            """
            CREATE TABLE link_page (
                session_id TEXT NOT NULL REFERENCES link_session (id),
                seq INTEGER NOT NULL CHECK (seq > 0),
                order_id TEXT NOT NULL,
                line TEXT NOT NULL CHECK (json_valid(line)),
                data BLOB NOT NULL,
                PRIMARY KEY (session_id, seq)
            ) STRICT, WITHOUT ROWID
            """,
        ),
    ),
    (
        "known-customers-and-machines",
        (
            "CREATE INDEX ticket_customer ON ticket (customer COLLATE NOCASE, id)",
            "CREATE INDEX ticket_machine ON ticket (machine COLLATE NOCASE, id)",
        ),
    ),
    (
        "one-request-one-ticket",
        (
            "ALTER TABLE ticket ADD COLUMN request_key TEXT",
            "CREATE UNIQUE INDEX ticket_request ON ticket (request_key) WHERE request_key IS NOT NULL",
            # what was learned is in the order in which it was learned, whatever the clock said then
            "ALTER TABLE lesson ADD COLUMN era INTEGER NOT NULL DEFAULT 0",
            "ALTER TABLE learning_reset ADD COLUMN era INTEGER NOT NULL DEFAULT 0",
            "UPDATE learning_reset SET era = (SELECT count(*) FROM learning_reset o WHERE o.at <= learning_reset.at)",
            "UPDATE lesson SET era = (SELECT count(*) FROM learning_reset r WHERE r.at < lesson.closed_at)",
        ),
    ),
    (
        "link-codes",
        (
            "ALTER TABLE link ADD COLUMN code TEXT",
            # a secret was as short as the code that is typed: none of them goes on
            "UPDATE link SET ended_at = coalesce(ended_at, strftime('%Y-%m-%dT%H:%M:%fZ', 'now'))",
            "UPDATE link_order SET state = 'cancelled' WHERE state = 'waiting'",
        ),
    ),
    (
        "devices",
        (
            """
            CREATE TABLE device (
                id INTEGER PRIMARY KEY,
                token TEXT NOT NULL UNIQUE,
                name TEXT NOT NULL,
                initials TEXT NOT NULL,
                paired_at TEXT NOT NULL,
                seen_at TEXT NOT NULL,
                revoked_at TEXT
            ) STRICT
            """,
        ),
    ),
    (
        "shelf",
        (
            """
            CREATE TABLE shelf (
                id INTEGER PRIMARY KEY,
                kind TEXT NOT NULL CHECK (kind IN ('drive', 'cable')),
                name TEXT NOT NULL,
                interface TEXT NOT NULL,
                form TEXT NOT NULL,
                key TEXT NOT NULL,
                height_mm REAL NOT NULL,
                length_mm REAL NOT NULL,
                flash INTEGER NOT NULL CHECK (flash IN (0, 1)),
                size_gb REAL NOT NULL,
                price REAL NOT NULL,
                count INTEGER NOT NULL CHECK (count >= 0),
                UNIQUE (kind, name, interface, form, size_gb)
            ) STRICT
            """,
            "CREATE INDEX entry_part ON entry (ticket_id, place) WHERE json_extract(body, '$.part') IS NOT NULL",
            "CREATE INDEX entry_out ON entry (ticket_id, place) WHERE json_extract(body, '$.out') IS NOT NULL",
        ),
    ),
    (
        "papers",
        (
            # one row: the shop's own page
            (
                "CREATE TABLE shop_page (id INTEGER PRIMARY KEY CHECK (id = 1), body TEXT NOT NULL CHECK "
                "(json_valid(body)), kept_by TEXT NOT NULL, kept_at TEXT NOT NULL) STRICT"
            ),
            """
            CREATE TABLE picture (
                ticket_id INTEGER NOT NULL REFERENCES ticket (id),
                sha256 TEXT NOT NULL REFERENCES file (sha256),
                added_by TEXT NOT NULL,
                added_at TEXT NOT NULL,
                PRIMARY KEY (ticket_id, sha256)
            ) STRICT
            """,
            # that a customer's data was erased, and when; not whose
            (
                "CREATE TABLE erasure (ticket_id INTEGER PRIMARY KEY REFERENCES ticket (id), erased_by TEXT NOT NULL, "
                "erased_at TEXT NOT NULL) STRICT"
            ),
            # counts up whenever the whole shop was replaced by another program: what was worked out from it before is
            # out of date
            "CREATE TABLE epoch (id INTEGER PRIMARY KEY CHECK (id = 1), n INTEGER NOT NULL) STRICT",
            "INSERT INTO epoch (id, n) VALUES (1, 0)",
        ),
    ),
    (
        "work-that-takes-hours",
        (
            # an order may be paused; `wanted`: what the bench asked of it while it runs
            """
            CREATE TABLE link_order_new (
                id INTEGER PRIMARY KEY,
                ticket_id INTEGER NOT NULL REFERENCES link (ticket_id),
                body TEXT NOT NULL CHECK (json_valid(body)),
                state TEXT NOT NULL CHECK (state IN ('waiting', 'paused', 'done', 'refused', 'failed', 'cancelled')),
                detail TEXT NOT NULL,
                made_by TEXT NOT NULL,
                made_at TEXT NOT NULL,
                done_at TEXT,
                wanted TEXT NOT NULL DEFAULT '' CHECK (wanted IN ('', 'pause', 'stop'))
            ) STRICT
            """,
            (
                "INSERT INTO link_order_new SELECT id, ticket_id, body, state, detail, made_by, made_at, done_at, '' "
                "FROM "
                "link_order"
            ),
            "DROP TABLE link_order",
            "ALTER TABLE link_order_new RENAME TO link_order",
            "CREATE INDEX link_page_order ON link_page (order_id)",
        ),
    ),
    (
        "ear",
        (
            # what was recorded of a drive: its sound, or its supply current; erased with the customer, for a room is
            # heard in it
            """
            CREATE TABLE recording (
                ticket_id INTEGER NOT NULL REFERENCES ticket (id),
                sha256 TEXT NOT NULL REFERENCES file (sha256),
                kind TEXT NOT NULL CHECK (kind IN ('sound', 'supply')),
                name TEXT NOT NULL,
                added_by TEXT NOT NULL,
                added_at TEXT NOT NULL,
                PRIMARY KEY (ticket_id, sha256)
            ) STRICT
            """,
        ),
    ),
    (
        "codes",
        (
            "CREATE INDEX entry_code ON entry (ticket_id, place) WHERE json_extract(body, '$.code') IS NOT NULL",
            "CREATE INDEX entry_proven ON entry (ticket_id, place) WHERE json_extract(body, '$.proven') IS NOT NULL",
        ),
    ),
    (
        "order-told",
        (
            # an order has ended, and what it comes to stands on the tape or does not yet: the server may die in between
            "ALTER TABLE link_order ADD COLUMN told INTEGER NOT NULL DEFAULT 1 CHECK (told IN (0, 1))",
        ),
    ),
    (
        "order-handed-out",
        (
            # which starts of a probe had an order in their hands, the newest last: that one alone says what came of it,
            # and what it was handed to write may be written
            "ALTER TABLE link_order ADD COLUMN handed_to TEXT",
            # of orders from before this was kept, what was not surely left alone counts as handed out
            (
                "UPDATE link_order SET handed_to = '?' WHERE state IN ('done', 'failed', 'refused') OR (state IN "
                "('waiting', 'cancelled') AND json_extract(body, '$.order') IN ('mend', 'entry', 'fill'))"
            ),
        ),
    ),
    (
        "erasure-told",
        (
            # which safety copies of the shop were written anew or deleted for it
            "ALTER TABLE erasure ADD COLUMN told TEXT NOT NULL DEFAULT '[]'",
        ),
    ),
    (
        "order-wrote",
        (
            # has the probe written anything for an order? NULL: nobody has said
            "ALTER TABLE link_order ADD COLUMN wrote INTEGER CHECK (wrote IN (0, 1))",
        ),
    ),
    (
        "earlier-stays",
        (
            # a machine is known again by the serial numbers that its tickets name, or by customer and model
            (
                "CREATE INDEX ticket_serial ON ticket (json_extract(facts, '$.drive_serial')) WHERE "
                "json_extract(facts, '$.drive_serial') IS NOT NULL"
            ),
            (
                "CREATE INDEX entry_serial ON entry (json_extract(body, '$.fact.drive_serial'), ticket_id) WHERE "
                "json_extract(body, '$.fact.drive_serial') IS NOT NULL"
            ),
            (
                "CREATE INDEX entry_part_serial ON entry (json_extract(body, '$.part.serial'), ticket_id) WHERE "
                "json_extract(body, '$.part.serial') IS NOT NULL"
            ),
        ),
    ),
    (
        "technicians",
        (
            """
            CREATE TABLE technician (
                id INTEGER PRIMARY KEY,
                initials TEXT NOT NULL,
                role TEXT NOT NULL,
                pin TEXT NOT NULL,
                added_by TEXT NOT NULL,
                added_at TEXT NOT NULL,
                left_at TEXT
            ) STRICT
            """,
            "CREATE UNIQUE INDEX technician_initials ON technician (initials) WHERE left_at IS NULL",
        ),
    ),
)


def migrate(connection: sqlite3.Connection, atomic: Atomic, upto: int | None = None) -> list[str]:
    """Apply what is missing, all of it in one transaction; returns the names of the steps applied. `upto` stops early
    (tests build old schemas)."""
    missing = missing_steps(connection)
    applied = [(name, statements) for name, statements in MIGRATIONS[:upto] if name in missing]
    if not applied:
        return []
    with atomic(connection):
        for name, statements in applied:
            for statement in statements:
                connection.execute(statement)
            connection.execute("INSERT INTO migration (name) VALUES (?)", (name,))
    return [name for name, _ in applied]


def steps_done(connection: sqlite3.Connection) -> list[str]:
    """Names of the steps that a database has gone through, in their order; none where it is new."""
    if not connection.execute("SELECT 1 FROM sqlite_master WHERE type = 'table' AND name = 'migration'").fetchone():
        return []
    return [row[0] for row in connection.execute("SELECT name FROM migration ORDER BY rowid")]


def missing_steps(connection: sqlite3.Connection) -> list[str]:
    """Names of this program's steps that a database has not gone through."""
    connection.execute(_RECORD)
    done = set(steps_done(connection))
    return [name for name, _ in MIGRATIONS if name not in done]


def foreign_steps(connection: sqlite3.Connection) -> list[str]:
    """Names of steps that a database has gone through and this program does not know: a newer one made them."""
    known = {name for name, _ in MIGRATIONS}
    return [name for name in steps_done(connection) if name not in known]
