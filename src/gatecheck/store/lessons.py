"""What closed tickets taught, one row a ticket. Derived from tapes: taken out again when a ticket is opened anew.

A lesson belongs to the era between two resets in which it was learned, counted and not told by the clock: a clock set
back or forward loses nothing and brings nothing back."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping, Sequence

from gatecheck.core.learning import Lesson

_PUT = """
    INSERT INTO lesson (ticket_id, closed_at, context, faults, expected, choice, confidence, suspects, was_right, era)
    VALUES (:ticket_id, :closed_at, :context, :faults, :expected, :choice, :confidence, :suspects, :was_right,
        (SELECT count(*) FROM learning_reset))
    ON CONFLICT (ticket_id) DO UPDATE SET closed_at = excluded.closed_at, context = excluded.context,
        faults = excluded.faults, expected = excluded.expected, choice = excluded.choice,
        confidence = excluded.confidence, suspects = excluded.suspects,
        was_right = excluded.was_right, era = excluded.era"""
_TAKE_OUT = "DELETE FROM lesson WHERE ticket_id = ?"
_SINCE_RESET = """
    SELECT l.context, l.faults, l.expected, l.choice, l.confidence, l.suspects, l.was_right, EXISTS (
        SELECT 1 FROM ticket t WHERE t.comeback_of = l.ticket_id
        AND julianday(t.opened_at) - julianday(l.closed_at) <= :warranty_days)
    FROM lesson l WHERE l.era = (SELECT count(*) FROM learning_reset) ORDER BY l.closed_at"""
_RESET = "INSERT INTO learning_reset (at, made_by, era) VALUES (:at, :by, (SELECT count(*) + 1 FROM learning_reset))"
_LAST_RESET = "SELECT at FROM learning_reset ORDER BY era DESC LIMIT 1"


def put_lesson(
    connection: sqlite3.Connection,
    ticket_id: int,
    closed_at: str,
    *,
    context: str,
    faults: Sequence[str],
    expected: Mapping[str, float],
    choice: str,
    confidence: float,
    suspects: Mapping[str, float],
    was_right: bool,
) -> None:
    """Keep what a closed ticket taught; closing it again replaces it."""
    connection.execute(
        _PUT,
        {
            "ticket_id": ticket_id,
            "closed_at": closed_at,
            "context": context,
            "faults": json.dumps(list(faults)),
            "expected": json.dumps(expected),
            "choice": choice,
            "confidence": confidence,
            "suspects": json.dumps(suspects),
            "was_right": was_right,
        },
    )


def take_out(connection: sqlite3.Connection, ticket_id: int) -> None:
    """Forget what a ticket taught: it was opened again."""
    connection.execute(_TAKE_OUT, (ticket_id,))


def lessons(connection: sqlite3.Connection, warranty_days: float) -> list[Lesson]:
    """All lessons since the last reset, oldest first; `came_back` where a ticket names it as its first visit in
    time."""
    rows = connection.execute(_SINCE_RESET, {"warranty_days": warranty_days})
    return [
        Lesson(context, tuple(json.loads(f)), json.loads(e), choice, p, json.loads(s), bool(right), bool(back))
        for context, f, e, choice, p, s, right, back in rows
    ]


def reset(connection: sqlite3.Connection, *, at: str, by: str) -> None:
    """From here on the shop learns afresh; earlier lessons stay on record and count no more."""
    connection.execute(_RESET, {"at": at, "by": by})


def last_reset(connection: sqlite3.Connection) -> str | None:
    """When learning was last reset, or None."""
    row = connection.execute(_LAST_RESET).fetchone()
    return str(row[0]) if row and row[0] else None
