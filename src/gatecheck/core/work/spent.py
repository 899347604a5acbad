"""Hands-on minutes of tickets, from when their entries were made: what a technician has really spent, against what the
tables expect."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

FRESH, LONGEST = 3.0, 25.0
"""minutes that an entry counts where nothing of this ticket came before it, and at most"""


@dataclass(frozen=True, slots=True)
class Moment:
    """An entry made by a person. `at` in minutes; `expected`: hands-on minutes of the move or step it answers, None for
    what is no work."""

    ticket: int
    place: int
    by: str
    at: float
    expected: float | None


def spent(moments: Sequence[Moment]) -> dict[int, dict[int, float]]:
    """Ticket -> place of the entry -> minutes that it took.

    An entry takes the time since the same technician's last entry, where that was on this ticket: then the move was in
    hand meanwhile. Where it was on another one, or nothing came before, it takes what its move is expected to take, but
    never longer ago than that last entry. A gap longer than LONGEST is a pause, of which the expected minutes count.
    """
    found: dict[int, dict[int, float]] = {}
    last: dict[str, Moment] = {}
    for moment in sorted(moments, key=lambda m: (m.at, m.ticket, m.place)):
        before = last.get(moment.by)
        gap = moment.at - before.at if before else None
        usual = min(moment.expected if moment.expected is not None else FRESH, LONGEST)
        if gap is not None and before is not None and before.ticket == moment.ticket and gap <= LONGEST:
            took = gap
        else:
            took = usual if gap is None else min(usual, max(gap, 0.0))
        found.setdefault(moment.ticket, {})[moment.place] = max(took, 0.0)
        last[moment.by] = moment
    return found


@dataclass(frozen=True, slots=True)
class Pace:
    """What a move or step is expected to take and what it took here, in minutes; `times`: how often."""

    what: str
    expected: float
    took: float
    times: int


def paces(moments: Sequence[Moment], names: Mapping[tuple[int, int], str], least: int = 3) -> list[Pace]:
    """Moves and steps made at least `least` times on this shop's tickets: expected against really spent, the farthest
    apart first."""
    took = spent(moments)
    by_name: dict[str, list[tuple[float, float]]] = {}
    for moment in moments:
        name = names.get((moment.ticket, moment.place))
        if name is not None and moment.expected:
            by_name.setdefault(name, []).append((moment.expected, took[moment.ticket][moment.place]))
    found = [
        Pace(name, sum(e for e, _ in rows) / len(rows), sum(t for _, t in rows) / len(rows), len(rows))
        for name, rows in by_name.items()
        if len(rows) >= least
    ]
    return sorted(found, key=lambda p: -abs(p.took - p.expected))
