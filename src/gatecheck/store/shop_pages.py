"""The shop's own page, and how often the whole shop was replaced from outside."""

from __future__ import annotations

import json
import sqlite3

from gatecheck.store.tickets import Body, loads

_PAGE = "SELECT body FROM shop_page WHERE id = 1"
_KEEP = (
    "INSERT INTO shop_page (id, body, kept_by, kept_at) VALUES (1, :body, :by, :at) ON CONFLICT (id) DO UPDATE SET "
    "body = excluded.body, kept_by = excluded.kept_by, kept_at = excluded.kept_at"
)
_EPOCH = "SELECT n FROM epoch WHERE id = 1"


def shop_page(connection: sqlite3.Connection) -> Body | None:
    """The page as it was kept; None before anybody wrote one."""
    row = connection.execute(_PAGE).fetchone()
    return loads(row[0]) if row else None


def keep_shop_page(connection: sqlite3.Connection, body: Body, *, by: str, at: str) -> None:
    connection.execute(_KEEP, {"body": json.dumps(body), "by": by, "at": at})


def epoch(connection: sqlite3.Connection) -> int:
    """Changes whenever another program has replaced the shop's contents."""
    return int(connection.execute(_EPOCH).fetchone()[0])
