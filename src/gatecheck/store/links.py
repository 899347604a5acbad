"""Links between tickets and probes: the secret, sessions, orders and the pages that were pushed. All of it survives a
power cut."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

WAITING, PAUSED, CANCELLED = "waiting", "paused", "cancelled"


@dataclass(frozen=True, slots=True)
class Link:
    ticket_id: int
    secret: str
    practice: str | None
    practice_since: float | None
    ended_at: str | None
    code: str | None
    """what a person types; exchanged for the secret once, then there is another"""


@dataclass(frozen=True, slots=True)
class Session:
    id: str
    ticket_id: int
    machine: dict[str, str]
    probe: str
    began_at: str


@dataclass(frozen=True, slots=True)
class Order:
    id: int
    ticket_id: int
    body: dict[str, Any]
    state: str
    detail: str
    made_by: str
    made_at: str
    done_at: str | None
    wanted: str
    """what the bench asked of it while it runs: pause, stop; else empty"""
    is_recorded: bool
    """what it came to is in the log: False from its end until then"""
    handed_to: tuple[str, ...]
    """the starts of a probe that it was handed to, the newest last; `?` where that was before it was kept"""
    wrote: bool | None
    """has the probe written anything for it? None: nobody has said"""

    @property
    def name(self) -> str:
        """Its kind: read, scan, copy, mend, …"""
        return str(self.body["order"])

    @property
    def is_handed_out(self) -> bool:
        """Has a probe had it? Then what it writes may be written, whatever was heard of it."""
        return bool(self.handed_to)

    @property
    def may_have_written(self) -> bool:
        return self.is_handed_out and self.wrote is not False

    @property
    def holder(self) -> str:
        """The start of a probe that has it now; empty where nobody has had it, or nobody knows who."""
        return self.handed_to[-1].replace("?", "") if self.handed_to else ""

    @property
    def standing(self) -> str:
        """Its state as it is shown: one that has ended goes on until what it came to stands on the tape."""
        return self.state if self.is_recorded else WAITING


_LINK = "SELECT ticket_id, secret, practice, practice_since, ended_at, code FROM link"
_SESSION = "SELECT id, ticket_id, machine, probe, began_at FROM link_session"
_ORDER = (
    "SELECT id, ticket_id, body, state, detail, made_by, made_at, done_at, wanted, told, handed_to, wrote FROM "
    "link_order"
)


def link_of(connection: sqlite3.Connection, ticket_id: int) -> Link | None:
    row = connection.execute(f"{_LINK} WHERE ticket_id = ?", (ticket_id,)).fetchone()
    return Link(*row) if row else None


def links_with_codes(connection: sqlite3.Connection) -> list[Link]:
    """Every link that has a code, open or ended."""
    return [Link(*row) for row in connection.execute(f"{_LINK} WHERE code IS NOT NULL ORDER BY ended_at IS NOT NULL")]


def open_link(connection: sqlite3.Connection, ticket_id: int, secret: str, code: str, *, by: str, at: str) -> None:
    """A first link, or one that was ended opened anew with another secret and code."""
    connection.execute(
        "INSERT INTO link (ticket_id, secret, code, made_by, made_at) VALUES (?, ?, ?, ?, ?) ON CONFLICT (ticket_id) "
        "DO UPDATE SET secret = excluded.secret, code = excluded.code, made_by = excluded.made_by, made_at = "
        "excluded.made_at, ended_at = NULL, practice = NULL, practice_since = NULL",
        (ticket_id, secret, code, by, at),
    )


def set_code(connection: sqlite3.Connection, ticket_id: int, code: str) -> None:
    """Another code, because the one before was exchanged."""
    connection.execute("UPDATE link SET code = ? WHERE ticket_id = ?", (code, ticket_id))


def set_practice(connection: sqlite3.Connection, ticket_id: int, name: str, since: float) -> None:
    connection.execute("UPDATE link SET practice = ?, practice_since = ? WHERE ticket_id = ?", (name, since, ticket_id))


def end_link(connection: sqlite3.Connection, ticket_id: int, at: str) -> None:
    """No probe is answered any more; orders that still wait are cancelled. What was handed out to be written is told
    first (`end_orders`)."""
    connection.execute("UPDATE link SET ended_at = ? WHERE ticket_id = ?", (at, ticket_id))
    connection.execute(
        "UPDATE link_order SET state = ?, done_at = ? WHERE ticket_id = ? AND state IN (?, ?)",
        (CANCELLED, at, ticket_id, WAITING, PAUSED),
    )


def end_orders(
    connection: sqlite3.Connection, ticket_id: int, at: str, *, maybe_written: str, writing: Sequence[str]
) -> list[Order]:
    """What still waits or is paused is cancelled; what was handed out to be written counts as failed, for it may be
    written. Returns those."""
    open_ones = [order for order in orders_of(connection, ticket_id) if order.state in (WAITING, PAUSED)]
    out = [order for order in open_ones if order.is_handed_out and order.body["order"] in writing]
    for order in open_ones:
        state, detail = ("failed", maybe_written) if order in out else (CANCELLED, order.detail)
        connection.execute(
            "UPDATE link_order SET state = ?, detail = ?, done_at = ?, told = ? WHERE id = ?",
            (state, detail, at, order not in out, order.id),
        )
    return out


def session_by_id(connection: sqlite3.Connection, session_id: str) -> Session | None:
    row = connection.execute(f"{_SESSION} WHERE id = ?", (session_id,)).fetchone()
    return _session(row) if row else None


def sessions_of(connection: sqlite3.Connection, ticket_id: int) -> list[Session]:
    """Newest first."""
    return [
        _session(row)
        for row in connection.execute(
            f"{_SESSION} WHERE ticket_id = ? ORDER BY began_at DESC, rowid DESC", (ticket_id,)
        )
    ]


def starts_of(connection: sqlite3.Connection, ticket_id: int) -> int:
    """How many sessions have begun since the link was opened, or opened anew."""
    row = connection.execute(
        (
            "SELECT count(*) FROM link_session s JOIN link l USING (ticket_id) WHERE s.ticket_id = ? AND s.began_at >= "
            "l.made_at"
        ),
        (ticket_id,),
    ).fetchone()
    return int(row[0])


def _session(row: tuple[Any, ...]) -> Session:
    return Session(row[0], row[1], json.loads(row[2]), row[3], row[4])


def begin_session(
    connection: sqlite3.Connection, session_id: str, ticket_id: int, machine: Mapping[str, str], probe: str, at: str
) -> None:
    connection.execute(
        "INSERT INTO link_session (id, ticket_id, machine, probe, began_at) VALUES (?, ?, ?, ?, ?)",
        (session_id, ticket_id, json.dumps(dict(machine)), probe, at),
    )


def acknowledged(connection: sqlite3.Connection, session_id: str) -> int:
    """Number of the last page that is kept: pages come in order, so all before it are."""
    row = connection.execute(
        "SELECT coalesce(max(seq), 0) FROM link_page WHERE session_id = ?", (session_id,)
    ).fetchone()
    return int(row[0])


def keep_page(
    connection: sqlite3.Connection, session_id: str, seq: int, order_id: str, line: Mapping[str, Any], data: bytes
) -> None:
    connection.execute(
        "INSERT INTO link_page (session_id, seq, order_id, line, data) VALUES (?, ?, ?, ?, ?)",
        (session_id, seq, order_id, json.dumps(dict(line)), data),
    )


def bytes_of(connection: sqlite3.Connection, session_id: str, order_id: str) -> int:
    """How many bytes of pages are kept for an order."""
    row = connection.execute(
        "SELECT coalesce(sum(length(data)), 0) FROM link_page WHERE session_id = ? AND order_id = ?",
        (session_id, order_id),
    ).fetchone()
    return int(row[0])


def pages_of(connection: sqlite3.Connection, session_id: str, order_id: str) -> list[tuple[dict[str, Any], bytes]]:
    """(line, bytes) of the pages read for an order, in the order they were read."""
    rows = connection.execute(
        "SELECT line, data FROM link_page WHERE session_id = ? AND order_id = ? ORDER BY seq", (session_id, order_id)
    )
    return [(json.loads(line), data) for line, data in rows]


def all_pages_of(connection: sqlite3.Connection, ticket_id: int, order_id: str) -> list[tuple[dict[str, Any], bytes]]:
    """The same over all sessions: a live system that was started anew begins another one, and an order may go on in
    it."""
    rows = connection.execute(
        (
            "SELECT p.line, p.data FROM link_page p JOIN link_session s ON s.id = p.session_id WHERE p.order_id = ? "
            "AND "
            "s.ticket_id = ? ORDER BY s.began_at, s.rowid, p.seq"
        ),
        (order_id, ticket_id),
    )
    return [(json.loads(line), data) for line, data in rows]


def put_order(connection: sqlite3.Connection, ticket_id: int, body: Mapping[str, Any], *, by: str, at: str) -> int:
    cursor = connection.execute(
        "INSERT INTO link_order (ticket_id, body, state, detail, made_by, made_at) VALUES (?, ?, ?, '', ?, ?)",
        (ticket_id, json.dumps(dict(body)), WAITING, by, at),
    )
    return int(cursor.lastrowid or 0)


def orders_of(connection: sqlite3.Connection, ticket_id: int) -> list[Order]:
    """Oldest first."""
    return [_order(row) for row in connection.execute(f"{_ORDER} WHERE ticket_id = ? ORDER BY id", (ticket_id,))]


def hand_out(connection: sqlite3.Connection, order_id: int, session_id: str) -> None:
    """This start of a probe has the order in its hands from now on."""
    connection.execute(
        "UPDATE link_order SET handed_to = trim(coalesce(handed_to, '') || ' ' || ?) WHERE id = ?",
        (session_id, order_id),
    )


def order_of(connection: sqlite3.Connection, ticket_id: int, order_id: int | str) -> Order | None:
    """An order of a ticket; None where it has none of that number."""
    text = str(order_id)
    if not text.isascii() or not text.isdigit() or len(text) > 18 or str(int(text)) != text:
        return None
    row = connection.execute(f"{_ORDER} WHERE ticket_id = ? AND id = ?", (ticket_id, int(text))).fetchone()
    return _order(row) if row else None


def unrecorded_orders(connection: sqlite3.Connection) -> list[Order]:
    """Orders of all tickets that have ended and whose outcome was not told yet, oldest first."""
    return [_order(row) for row in connection.execute(f"{_ORDER} WHERE told = 0 ORDER BY id")]


def _order(row: tuple[Any, ...]) -> Order:
    return Order(
        row[0],
        row[1],
        json.loads(row[2]),
        row[3],
        row[4],
        row[5],
        row[6],
        row[7],
        row[8],
        bool(row[9]),
        tuple((row[10] or "").split()),
        None if row[11] is None else bool(row[11]),
    )


def end_order(
    connection: sqlite3.Connection,
    order_id: int,
    state: str,
    detail: str,
    at: str,
    *,
    wrote: bool | None = None,
    is_recorded: bool = True,
) -> None:
    """`wrote`: what has once written has, whatever comes after. `is_recorded`: all that follows from its end
    is in this transaction; else `record_order` says when it was, and until then it is known what was wanted of it."""
    connection.execute(
        (
            "UPDATE link_order SET state = ?, detail = ?, done_at = ?, wrote = iif(wrote = 1, 1, ?), wanted = iif(?, "
            "'', "
            "wanted), told = ? WHERE id = ? AND state = ?"
        ),
        (state, detail, at, wrote, is_recorded, is_recorded, order_id, WAITING),
    )


def record_order(connection: sqlite3.Connection, order_id: int) -> None:
    connection.execute("UPDATE link_order SET told = 1, wanted = '' WHERE id = ? AND told = 0", (order_id,))


def want(connection: sqlite3.Connection, order_id: int, wanted: str) -> None:
    """What the bench asks of an order that runs."""
    connection.execute("UPDATE link_order SET wanted = ? WHERE id = ? AND state = ?", (wanted, order_id, WAITING))


def go_on(connection: sqlite3.Connection, order_id: int) -> None:
    """A paused order waits to be worked on again."""
    connection.execute(
        (
            "UPDATE link_order SET state = ?, wanted = '', detail = '', done_at = NULL, told = 1 WHERE id = ? AND "
            "state = "
            "?"
        ),
        (WAITING, order_id, PAUSED),
    )


def pause(connection: sqlite3.Connection, order_id: int, detail: str) -> None:
    """An order that nobody has begun is paused."""
    connection.execute(
        "UPDATE link_order SET state = ?, detail = ? WHERE id = ? AND state = ?", (PAUSED, detail, order_id, WAITING)
    )


def cancel(connection: sqlite3.Connection, order_id: int, at: str) -> None:
    """An order that is paused, or that nobody has begun, is not gone on with."""
    connection.execute(
        "UPDATE link_order SET state = ?, done_at = ? WHERE id = ? AND state IN (?, ?)",
        (CANCELLED, at, order_id, PAUSED, WAITING),
    )


def map_of(connection: sqlite3.Connection, ticket_id: int, order_id: str) -> list[bytes]:
    """The pieces of an order's read map, of all sessions, in the order they came."""
    return [
        data
        for (data,) in connection.execute(
            "SELECT p.data FROM link_page p JOIN link_session s ON s.id = p.session_id WHERE p.order_id = ? AND "
            "s.ticket_id = ? "
            "AND json_extract(p.line, '$.kind') = 'read-map' ORDER BY s.began_at, s.rowid, p.seq",
            (order_id, ticket_id),
        )
    ]


def map_pieces(connection: sqlite3.Connection, ticket_id: int, order_id: str) -> int:
    """How many pieces there are."""
    row = connection.execute(
        (
            "SELECT count(*) FROM link_page p JOIN link_session s ON s.id = p.session_id WHERE p.order_id = ? AND "
            "s.ticket_id = ? AND json_extract(p.line, '$.kind') = 'read-map'"
        ),
        (order_id, ticket_id),
    ).fetchone()
    return int(row[0])
