"""The settings sheet: what this system on this disk needs from the firmware, against what was found there.

Nothing of it is stored: found values, changes and what was put back are read from the tape.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from gatecheck.core.belief.facts import Facts, fact_test
from gatecheck.core.errors import TapeError
from gatecheck.core.knowledge.instruments import SettingNeed, SettingRow, Together
from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.tape.entries import Changed, Entry, PutBack, Reading, Saw
from gatecheck.core.tape.standing import standing
from gatecheck.core.words.said import say, to_json

FITS, DIFFERS, UNSURE, NOT_SHOWN, UNREAD = "fits", "differs", "unsure", "not-shown", "unread"
_SURE = 0.8
"""from this share on a value is called fitting; below its complement it is called different"""


@dataclass(frozen=True, slots=True)
class RowState:
    """A row as it stands. `found`: as first read; `now`: after the changes made since. `judged`: value -> what it would
    be."""

    row: SettingRow
    need: SettingNeed
    found: str | None
    now: str | None
    state: str
    judged: Mapping[str, str]
    entry: int | None
    """place on the tape where it was read last"""


@dataclass(frozen=True, slots=True)
class SettingsWalk:
    """Trying each value of a row until the machine starts. `next`: the value to set now, or None when all were tried;
    `restore`: the value to go back to; `tried`: in the order of the tries."""

    row: str
    tried: tuple[str, ...]
    next: str | None
    restore: str | None


@dataclass(frozen=True, slots=True)
class SettingsSheet:
    rows: tuple[RowState, ...]
    together: tuple[Together, ...]
    walks: tuple[SettingsWalk, ...]


@dataclass(frozen=True, slots=True)
class Left:
    """A setting at handover: as found, as left. `tried`: values it stood at in between."""

    row: str
    name: str
    found: str | None
    left: str | None
    tried: tuple[str, ...]


def need_of(row: SettingRow, facts: Facts) -> SettingNeed:
    """The first need whose conditions fit the facts; the last one has none."""
    return next(n for n in row.needs if fact_test(n.when, facts))


def judged(row: SettingRow, need: SettingNeed, value: str) -> str:
    """fits, differs, unsure or not-shown, for a value of the row under this need."""
    if value == NOT_SHOWN:
        return NOT_SHOWN
    if need.unsure:
        return UNSURE
    if not need.fits:
        return FITS if value == need.want else DIFFERS
    share = need.fits.get(value, 0.5)
    if need.want and value != need.want and share >= _SURE and need.fits.get(need.want, 0.0) > share + 0.05:
        return DIFFERS  # it starts, but is not what it should stand at
    return FITS if share >= _SURE else DIFFERS if share <= 1.0 - _SURE else UNSURE


def setting_entry(knowledge: Knowledge, facts: Facts, row_id: str, value: str) -> dict[str, object]:
    """The tape entry for a row that was read: a reading of its check where there is one, else as seen. Raises
    TapeError."""
    row = knowledge.settings.rows.get(row_id)
    if row is None or value not in row.values:
        raise TapeError(
            f"settings.{row_id}", expected="a row of the settings sheet and one of its values", got=repr(value)
        )
    outcomes = knowledge.checks[row.check].outcomes if row.check else ()
    if row.check is None or (value == NOT_SHOWN and NOT_SHOWN not in outcomes):
        return {"saw": row_id, "value": value}
    entry: dict[str, object] = {"move": row.check, "found": value}
    if value == NOT_SHOWN or value in row.outcomes:
        return {**entry, "outcome": row.outcomes.get(value, NOT_SHOWN)}
    need = need_of(row, facts)
    if need.unsure:
        return {**entry, "outcome": "unsure"}
    fits = need.fits.get(value, 0.5)
    return {
        **entry,
        "weights": {"fits": round(fits, 4), "conflicts": round(1.0 - fits, 4)},
        "note": to_json(say("evidence.setting", need=[row.id, row.needs.index(need)])),
    }


def settings_sheet(knowledge: Knowledge, facts: Facts, entries: Sequence[Entry]) -> SettingsSheet:
    """The whole sheet from the ticket's facts (as they stand) and its tape."""
    stands = standing(entries)
    rows = tuple(_row_state(row, facts, entries, stands) for row in knowledge.settings.rows.values())
    now = {r.row.id: r.now for r in rows if r.now}
    differing = {r.row.id for r in rows if r.state == DIFFERS}
    found = [t for t in knowledge.settings.together if _speaks(t, now, differing, facts)]
    walks = tuple(w for r in rows if r.row.walk for w in [_walk(r, entries, stands)] if w)
    return SettingsSheet(rows, tuple(_strongest(found)), walks)


def as_left(knowledge: Knowledge, facts: Facts, entries: Sequence[Entry]) -> list[Left]:
    """Every setting that was read or changed: as found and as left, for the handover."""
    stands, lines = standing(entries), []
    for row in knowledge.settings.rows.values():
        values = _values(row, entries, stands)
        if values:
            first, last = values[0][1], values[-1][1]
            between = tuple(dict.fromkeys(v for _, v, _ in values[1:] if v not in (first, last)))
            lines.append(Left(row.id, row.name, first, last, between))
    return lines


def _row_state(row: SettingRow, facts: Facts, entries: Sequence[Entry], stands: Sequence[bool]) -> RowState:
    need = need_of(row, facts)
    marks = {value: judged(row, need, value) for value in row.values}
    values = _values(row, entries, stands)
    if values:
        place, now, _ = values[-1]
        return RowState(row, need, values[0][1], now, marks[now], marks, place)
    said = [(i, e) for i, e in enumerate(entries) if stands[i] and isinstance(e, Reading) and e.move == row.check]
    state = (
        {"fits": FITS, "conflicts": DIFFERS, "unsure": UNSURE, "not-shown": NOT_SHOWN}.get(
            said[-1][1].outcome or "", UNREAD
        )
        if said
        else UNREAD
    )
    return RowState(row, need, None, None, state, marks, said[-1][0] if said else None)


def _values(row: SettingRow, entries: Sequence[Entry], stands: Sequence[bool]) -> list[tuple[int, str, str]]:
    """(place, value, kind) in order: values read, set by a change, and restored by putting it back."""
    found: list[tuple[int, str, str]] = []
    undone: list[str | None] = []
    pending = False
    inverse = {outcome: value for value, outcome in row.outcomes.items()}
    for place, entry in enumerate(entries):
        if not stands[place]:
            continue
        value, kind = None, "read"
        if isinstance(entry, Saw) and entry.what == row.id:
            value = entry.value
        elif isinstance(entry, Reading) and entry.move == row.check and row.check:
            value = entry.found or inverse.get(entry.outcome or "")
        elif isinstance(entry, Changed) and entry.fix == row.fix:
            undone.append(entry.before)
            value, kind, pending = entry.after, "set", True
        elif isinstance(entry, Reading) and entry.move == row.fix and row.fix and entry.outcome != "could-not":
            value, kind = entry.after, "set"
            if not pending:
                undone.append(entry.before)
            pending = False
        elif isinstance(entry, PutBack) and entry.fix == row.fix and undone:
            value, kind, pending = undone.pop(), "back", False
        if value is not None and (not found or found[-1][1] != value or kind != "read"):
            if kind == "set" and not found:
                before = undone[-1] if undone else None
                if before is not None:
                    found.append((place, before, "read"))
            found.append((place, value, kind))
        elif value is not None:
            found[-1] = (place, value, found[-1][2])
    return found


def _speaks(item: Together, now: Mapping[str, str], differing: Iterable[str], facts: Facts) -> bool:
    if any(now.get(row) not in values for row, values in item.when.items()):
        return False
    if not fact_test(item.facts, facts):
        return False
    if item.unless and fact_test(item.unless, facts):
        return False
    return not item.differs or bool(set(item.differs) & set(differing))


def _strongest(found: Sequence[Together]) -> list[Together]:
    """Roots first, then contradictions, then hints; one root about the same rows is enough."""
    rank = {"root": 0, "contradiction": 1, "hint": 2}
    kept: list[Together] = []
    for item in sorted(found, key=lambda t: rank[t.kind]):
        if not any(k.kind == item.kind == "root" and set(k.when) >= set(item.when) and k.id != item.id for k in kept):
            kept.append(item)
    return kept


def _walk(state: RowState, entries: Sequence[Entry], stands: Sequence[bool]) -> SettingsWalk | None:
    """The walk that is under way on this row, if any: since its first `changed` entry that says walk."""
    row, tried, start, booted = state.row, list[str](), None, False
    for place, entry in enumerate(entries):
        if not stands[place]:
            continue
        if isinstance(entry, Changed) and entry.fix == row.fix and entry.walk:
            start = start or entry.before
            if entry.after:
                tried.append(entry.after)
            booted = False
        elif isinstance(entry, Reading) and entry.move == row.fix and tried:
            booted = booted or entry.outcome == "boots"
    if not tried or start is None or booted:
        return None
    left = [v for v in row.walk if v != start and v not in tried]
    ended = state.now == start and not left
    return None if ended else SettingsWalk(row.id, tuple(tried), left[0] if left else None, start)
