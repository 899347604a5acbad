"""Tickets and their tapes. Entries are only ever appended."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from dataclasses import dataclass

from gatecheck.store.database import StoreError

Body = dict[str, object]

_COLUMNS = "id, number, customer, machine, words, facts, bay, opened_by, opened_at, closed_at, comeback_of"


@dataclass(frozen=True, slots=True)
class TicketRow:
    id: int
    number: str
    customer: str
    machine: str
    words: str
    facts: Body
    bay: int | None
    opened_by: str
    opened_at: str
    closed_at: str | None
    comeback_of: int | None


@dataclass(frozen=True, slots=True)
class EntryRow:
    place: int
    body: Body
    made_by: str
    made_at: str


def loads(text: str) -> Body:
    """An object as it was kept, whatever it has become: what is no such object any more is said to be so, half a letter
    becomes a question mark."""
    try:
        kept = json.loads(text)
        if not isinstance(kept, dict):
            raise ValueError("no object")
        return _writable(kept) if "\\ud" in text.lower() else kept  # type: ignore[return-value]
    except (ValueError, RecursionError):
        return {"unreadable": text[:200]}


def _writable(value: object) -> object:
    if isinstance(value, str):
        return value.encode("utf-8", "replace").decode("utf-8")
    if isinstance(value, dict):
        return {str(_writable(k)): _writable(v) for k, v in value.items()}
    return [_writable(v) for v in value] if isinstance(value, list) else value


def _ticket(row: tuple[object, ...]) -> TicketRow:
    values = list(row)
    values[5] = loads(str(values[5]))
    return TicketRow(*values)  # type: ignore[arg-type]


_OPEN = """
    INSERT INTO ticket (number, customer, machine, words, facts, bay, opened_by, opened_at, comeback_of, request_key)
    VALUES (:number, :customer, :machine, :words, :facts, :bay, :opened_by, :opened_at, :comeback_of, :key)
    RETURNING id, number, customer, machine, words, facts, bay, opened_by, opened_at, closed_at, comeback_of"""
_NEXT_NUMBER = "SELECT coalesce(max(id), 0) + 1 FROM ticket"


def open_ticket(
    connection: sqlite3.Connection,
    *,
    customer: str,
    machine: str,
    words: str,
    facts: Mapping[str, object],
    bay: int | None,
    by: str,
    at: str,
    prefix: str = "GC",
    comeback_of: int | None = None,
    key: str | None = None,
) -> TicketRow:
    """Insert a ticket and give it its number. Raises StoreError where the bay is taken."""
    number = connection.execute(_NEXT_NUMBER).fetchone()[0]
    try:
        row = connection.execute(
            _OPEN,
            {
                "number": f"{prefix}-{number:04d}",
                "customer": customer,
                "machine": machine,
                "words": words,
                "facts": json.dumps(facts),
                "bay": bay,
                "opened_by": by,
                "opened_at": at,
                "comeback_of": comeback_of,
                "key": key,
            },
        ).fetchone()
    except sqlite3.IntegrityError as error:
        raise StoreError(f"bay {bay}: expected a free bay, got one that is taken") from error
    return _ticket(row)


_BY_ID = f"SELECT {_COLUMNS} FROM ticket WHERE id = ?"
_ON_BENCH = f"SELECT {_COLUMNS} FROM ticket WHERE closed_at IS NULL ORDER BY bay IS NULL, bay, id"
_FIND = f"""
    SELECT {_COLUMNS} FROM ticket
    WHERE number LIKE :like ESCAPE '\\' OR customer LIKE :like ESCAPE '\\' OR machine LIKE :like ESCAPE '\\'
    ORDER BY closed_at IS NOT NULL, id DESC LIMIT :limit"""


def ticket_of_request(connection: sqlite3.Connection, key: str | None) -> TicketRow | None:
    """The ticket that a request which was sent before has opened: sent twice it is one."""
    row = connection.execute(f"SELECT {_COLUMNS} FROM ticket WHERE request_key = ?", (key,)).fetchone() if key else None
    return _ticket(row) if row else None


def ticket_by_id(connection: sqlite3.Connection, ticket_id: int) -> TicketRow | None:
    """One ticket, or None."""
    row = connection.execute(_BY_ID, (ticket_id,)).fetchone()
    return _ticket(row) if row else None


def tickets_on_bench(connection: sqlite3.Connection) -> list[TicketRow]:
    """All open tickets, those in a bay first."""
    return [_ticket(row) for row in connection.execute(_ON_BENCH)]


_OF_CUSTOMER = f"SELECT {_COLUMNS} FROM ticket WHERE customer = ? COLLATE NOCASE ORDER BY id"


def tickets_of_customer(connection: sqlite3.Connection, customer: str) -> list[TicketRow]:
    """All tickets under this very name."""
    return [_ticket(row) for row in connection.execute(_OF_CUSTOMER, (customer,))]


def find_tickets(connection: sqlite3.Connection, text: str, limit: int = 20) -> list[TicketRow]:
    """Tickets whose number, customer or machine holds the text; open ones first."""
    return [_ticket(row) for row in connection.execute(_FIND, {"like": f"%{_escaped(text)}%", "limit": limit})]


@dataclass(frozen=True, slots=True)
class EarlierTicket:
    """A customer or a machine that was here before, with the machine and the facts of the latest ticket."""

    name: str
    machine: str
    facts: Body


# max(id) makes SQLite take the other columns from that very row
_KNOWN_CUSTOMERS = """
    SELECT customer, machine, facts, max(id) FROM ticket WHERE customer LIKE :like ESCAPE '\\'
    GROUP BY customer COLLATE NOCASE ORDER BY max(id) DESC LIMIT :limit"""
_KNOWN_MACHINES = """
    SELECT machine, machine, facts, max(id) FROM ticket WHERE machine LIKE :like ESCAPE '\\'
    GROUP BY machine COLLATE NOCASE ORDER BY max(id) DESC LIMIT :limit"""


def known_customers(connection: sqlite3.Connection, start: str, limit: int = 5) -> list[EarlierTicket]:
    """Customers whose name begins so, the latest first."""
    return _known(connection, _KNOWN_CUSTOMERS, start, limit)


def known_machines(connection: sqlite3.Connection, start: str, limit: int = 5) -> list[EarlierTicket]:
    """Machines whose name begins so, the latest first."""
    return _known(connection, _KNOWN_MACHINES, start, limit)


def _known(connection: sqlite3.Connection, sql: str, start: str, limit: int) -> list[EarlierTicket]:
    rows = connection.execute(sql, {"like": f"{_escaped(start)}%", "limit": limit})
    return [EarlierTicket(name, machine, loads(facts)) for name, machine, facts, _ in rows]


def _escaped(text: str) -> str:
    return text.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")


_MOVE_TO = "UPDATE ticket SET bay = :bay WHERE id = :id AND closed_at IS NULL"
_CLOSE = "UPDATE ticket SET closed_at = :at, bay = NULL WHERE id = :id AND closed_at IS NULL"


def move_to_bay(connection: sqlite3.Connection, ticket_id: int, bay: int | None) -> None:
    """Put a ticket into a bay or take it off the bench. Raises StoreError where the bay is taken or the ticket
    closed."""
    try:
        changed = connection.execute(_MOVE_TO, {"bay": bay, "id": ticket_id}).rowcount
    except sqlite3.IntegrityError as error:
        raise StoreError(f"bay {bay}: expected a free bay, got one that is taken") from error
    if not changed:
        raise StoreError(f"ticket {ticket_id}: expected an open ticket, got none")


_REOPEN = "UPDATE ticket SET closed_at = NULL WHERE id = ? AND closed_at IS NOT NULL"


def reopen_ticket(connection: sqlite3.Connection, ticket_id: int) -> None:
    """Take a handed-over ticket up again, on the shelf. Raises StoreError where it is open."""
    if not connection.execute(_REOPEN, (ticket_id,)).rowcount:
        raise StoreError(f"ticket {ticket_id}: expected a ticket that was handed over, got none")


def close_ticket(connection: sqlite3.Connection, ticket_id: int, at: str) -> None:
    """Hand the machine over: the bay is free again, the tape stays."""
    if not connection.execute(_CLOSE, {"at": at, "id": ticket_id}).rowcount:
        raise StoreError(f"ticket {ticket_id}: expected an open ticket, got none")


_EARLIER = f"""
    SELECT {_COLUMNS} FROM ticket WHERE closed_at IS NOT NULL AND id <> :id AND closed_at <= :opened_at AND (
        id = :comeback_of
        OR (:customer <> '' AND customer = :customer COLLATE NOCASE AND machine = :machine COLLATE NOCASE)
        OR (:serial <> '' AND json_extract(facts, '$.drive_serial') = :serial)
        OR (:serial <> '' AND id IN (
            SELECT ticket_id FROM entry WHERE json_extract(body, '$.fact.drive_serial') = :serial
            UNION SELECT ticket_id FROM entry WHERE json_extract(body, '$.part.serial') = :serial)))
    ORDER BY closed_at DESC, id DESC LIMIT :most"""


def earlier_tickets(
    connection: sqlite3.Connection, ticket: TicketRow, customer: str, serial: str, most: int = 5
) -> list[TicketRow]:
    """Handed-over stays of the same machine, the last one first: by the serial number of its drive, by customer and
    model, or because this ticket says that it came back from there. An empty `customer` or `serial` finds nothing."""
    values = {
        "id": ticket.id,
        "opened_at": ticket.opened_at,
        "comeback_of": ticket.comeback_of,
        "customer": customer,
        "machine": ticket.machine,
        "serial": serial,
        "most": most,
    }
    return [_ticket(row) for row in connection.execute(_EARLIER, values)]


_TAPE = "SELECT place, body, made_by, made_at FROM entry WHERE ticket_id = ? ORDER BY place"
_TAPE_LENGTH = "SELECT count(*) FROM entry WHERE ticket_id = ?"
_BY_KEY = "SELECT place FROM entry WHERE ticket_id = :ticket_id AND request_key = :key"
_APPEND = """
    INSERT INTO entry (ticket_id, place, body, made_by, made_at, request_key)
    VALUES (:ticket_id, :place, :body, :by, :at, :key)"""


def tape_of(connection: sqlite3.Connection, ticket_id: int) -> list[EntryRow]:
    """The whole tape in order."""
    rows = connection.execute(_TAPE, (ticket_id,))
    return [EntryRow(place, loads(body), by, at) for place, body, by, at in rows]


def tape_length(connection: sqlite3.Connection, ticket_id: int) -> int:
    """How many entries the tape has."""
    return int(connection.execute(_TAPE_LENGTH, (ticket_id,)).fetchone()[0])


def place_of_request(connection: sqlite3.Connection, ticket_id: int, key: str | None) -> int | None:
    """Where a request that was sent before has put its entry: a repeated one must not append twice."""
    if key is None:
        return None
    row = connection.execute(_BY_KEY, {"ticket_id": ticket_id, "key": key}).fetchone()
    return int(row[0]) if row else None


def append_entry(
    connection: sqlite3.Connection,
    ticket_id: int,
    place: int,
    body: Mapping[str, object],
    *,
    by: str,
    at: str,
    key: str | None = None,
) -> None:
    """Append at `place`, which must be the tape's end. Raises StoreError where somebody else was faster."""
    try:
        connection.execute(
            _APPEND, {"ticket_id": ticket_id, "place": place, "body": json.dumps(body), "by": by, "at": at, "key": key}
        )
    except sqlite3.IntegrityError as error:
        raise StoreError(f"ticket {ticket_id}: expected the log to end before place {place}, got {error}") from error
