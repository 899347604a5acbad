"""The sightings grid: which drive is seen at which vantage point, and what the pattern means."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from gatecheck.core.belief.facts import Facts
from gatecheck.core.errors import TapeError
from gatecheck.core.knowledge.instruments import Pattern, Sightings, Vantage
from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.tape.entries import Entry, Reading, Saw
from gatecheck.core.tape.standing import standing
from gatecheck.core.words.said import Said, say

RIGHT, ABSENT, NO_TOOL = "right", "absent", "no-such-tool"
EXPECTED = "drive"


@dataclass(frozen=True, slots=True)
class Cell:
    """What one vantage point shows of one drive. `from_file`: it was filled by a capture."""

    at: str
    value: str
    entry: int
    from_file: bool


@dataclass(frozen=True, slots=True)
class DriveLine:
    """One drive of the grid: the expected one, or a kind of drive that was not looked for but is listed."""

    what: str
    name: Said | str
    """the expected drive in words yet to be said, or a kind of drive by its name"""
    cells: Mapping[str, Cell]


@dataclass(frozen=True, slots=True)
class SightingsSheet:
    vantages: tuple[Vantage, ...]
    lines: tuple[DriveLine, ...]
    pattern: Pattern | None


def sighting_entry(knowledge: Knowledge, what: str, at: str, value: str) -> dict[str, object]:
    """The tape entry for one cell: a reading of the vantage point's check for the expected drive, else as seen.

    Raises TapeError for a place, drive or value that the grid does not have.
    """
    table = knowledge.sightings
    if at not in table.vantages or value not in table.seen or what not in (EXPECTED, *table.kinds):
        raise TapeError(
            "sighting", expected="a drive, a vantage point and what is seen there", got=f"{what}, {at}, {value}"
        )
    vantage = table.vantages[at]
    meant = vantage.outcomes.get(value)
    if what != EXPECTED or meant is None:
        return {"saw": what, "at": at, "value": value}
    entry: dict[str, object] = {"move": vantage.check, "found": value}
    return {**entry, "outcome": next(iter(meant))} if len(meant) == 1 else {**entry, "weights": dict(meant)}


def sightings_sheet(
    knowledge: Knowledge, facts: Facts, entries: Sequence[Entry], soft: Sequence[bool] = ()
) -> SightingsSheet:
    """The grid as the tape has it. `soft`: per entry, whether it rests on a file."""
    table, stands = knowledge.sightings, standing(entries)
    vantages = tuple(v for v in table.vantages.values() if facts.get("platform", "pc") not in v.not_on)
    names: dict[str, Said | str] = {EXPECTED: expected_name(facts), **table.kinds}
    lines = []
    for what, name in names.items():
        cells: dict[str, Cell] = {}
        for place, entry in enumerate(entries):
            for vantage in vantages:
                value = _value(table, vantage, what, entry) if stands[place] else None
                if value is not None:
                    cells[vantage.id] = Cell(vantage.id, value, place, bool(soft) and soft[place])
        if cells or what == EXPECTED:
            lines.append(DriveLine(what, name, cells))
    return SightingsSheet(vantages, tuple(lines), pattern_of(table, lines))


def expected_name(facts: Facts) -> Said:
    """The drive the machine should have, from the ticket's facts."""
    size = facts.get("drive_size_gb")
    kind = facts.get("drive_kind")
    known = isinstance(size, int | float) and not isinstance(size, bool)
    return say(
        "drive.expected",
        size=float(size or 0) * 1e9 if known else None,
        kind=say(f"drive-kind.{kind if kind in _KINDS else 'any'}"),
        model=str(facts.get("drive_model") or ""),
        serial=str(facts.get("drive_serial") or ""),
    )


_KINDS = ("hdd", "sata-ssd", "nvme", "emmc")


def _value(table: Sightings, vantage: Vantage, what: str, entry: Entry) -> str | None:
    if isinstance(entry, Saw):
        return entry.value if entry.what == what and entry.at == vantage.id else None
    if what != EXPECTED or not isinstance(entry, Reading) or entry.move != vantage.check:
        return None
    if entry.found:
        return entry.found
    # answered in words of the check: the cell value that means this outcome most plainly
    best = entry.outcome
    weights = {value: meant.get(best, 0.0) for value, meant in vantage.outcomes.items() if best}
    if best == "no-volumes":
        return "garbled"
    return max(weights, key=lambda v: weights[v]) if weights and max(weights.values()) > 0 else None


def pattern_of(table: Sightings, lines: Sequence[DriveLine]) -> Pattern | None:
    """The first pattern that fits what the grid shows; None while nothing has been looked at."""
    own = next((line for line in lines if line.what == EXPECTED), None)
    seen = {at: c.value for at, c in own.cells.items() if c.value != NO_TOOL} if own else {}
    others = {
        line.what for line in lines if line.what != EXPECTED and any(c.value != ABSENT for c in line.cells.values())
    }
    return next((p for p in table.patterns if _fits(p, seen, others)), None)


def _fits(pattern: Pattern, seen: Mapping[str, str], others: set[str]) -> bool:
    values = list(seen.values())
    if pattern.only_others:
        return bool(others) and others <= set(pattern.only_others) and all(v == ABSENT for v in values)
    return (
        len(values) >= pattern.least
        and all(seen.get(at) in allowed for at, allowed in pattern.all.items())
        and (not pattern.any or any(v in pattern.any for v in values))
        and (not pattern.any_right or any(seen.get(at) == RIGHT for at in pattern.any_right))
        and (not pattern.absent_in or _absent(pattern, seen))
        and (not pattern.all_right or (bool(values) and all(v == RIGHT for v in values)))
    )


def _absent(pattern: Pattern, seen: Mapping[str, str]) -> bool:
    """Absent at every one of these places that was looked at, and at one of them at least."""
    looked = [seen[at] for at in pattern.absent_in if at in seen]
    return bool(looked) and all(v == ABSENT for v in looked)
