"""Entries of a ticket's tape: parsing, undo, and which readings still count.

An entry is one of: a reading (`move` with `outcome` or `weights`), `put_back`, `override`, `fact`, `undo`; or one that
weighs nothing: `started` (a move that runs on its own), `changed` (a setting just changed, its result still to come),
`saw` (a setting or a drive seen, where no check asks for it), `tried_key`, `signed` (the call somebody signed), `proven`
(what it turned out to be), `note`.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from gatecheck.core.errors import TapeError
from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.triage.model import NOT_DONE, Facts, FactValue, Model

NUMBER_FACTS = ("drive_year", "drive_size_gb", "machine_value", "budget", "data_value", "as_of_year")
DIRECT_SHARE = 0.6
"""a soft reading names an outcome when that outcome holds at least this share of its weights"""


@dataclass(frozen=True, slots=True)
class Reading:
    """A check or fix with what it showed. `weights` are over the move's outcomes and sum to one."""

    move: str
    weights: Mapping[str, float]
    outcome: str | None = field(init=False, compare=False)
    """the outcome it names directly, if any"""
    found: str | None = field(default=None, compare=False)
    """what was read to come to it: a value of the settings sheet, or what a sightings cell shows"""
    before: str | None = field(default=None, compare=False)
    after: str | None = field(default=None, compare=False)
    """of a changed setting: the values before and after it"""

    def __post_init__(self) -> None:
        best = max(self.weights, key=lambda o: self.weights[o])
        object.__setattr__(self, "outcome", best if self.weights[best] >= DIRECT_SHARE else None)

    @property
    def is_soft(self) -> bool:
        return len(self.weights) > 1


@dataclass(frozen=True, slots=True)
class PutBack:
    fix: str


@dataclass(frozen=True, slots=True)
class Override:
    interlock: str
    move: str
    reason: str


@dataclass(frozen=True, slots=True)
class FactChange:
    facts: Mapping[str, FactValue]


@dataclass(frozen=True, slots=True)
class Undo:
    entry: int


@dataclass(frozen=True, slots=True)
class Started:
    """A move that runs on its own: what and for about how many minutes. Its reading, or a stop, ends it."""

    move: str
    minutes: float


@dataclass(frozen=True, slots=True)
class Signed:
    """The call as somebody signed it."""

    choice: str
    fix: str | None


@dataclass(frozen=True, slots=True)
class Proven:
    """The faults that turned out to be there, as the technician says when the machine goes back; none: nothing was wrong."""

    faults: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Changed:
    """A setting was changed; the machine has not been started with it yet. `walk`: one of all its values is being tried."""

    fix: str
    before: str | None
    after: str | None
    walk: bool


@dataclass(frozen=True, slots=True)
class Saw:
    """A row of the settings sheet, or a drive at a vantage point (`at`), as seen. It weighs nothing."""

    what: str
    value: str
    at: str | None


@dataclass(frozen=True, slots=True)
class TriedKey:
    """A key that was tried to open something at power-on."""

    key: str
    opens: str
    worked: bool


@dataclass(frozen=True, slots=True)
class Note:
    text: str


Entry = Reading | PutBack | Override | FactChange | Undo | Started | Changed | Saw | TriedKey | Signed | Proven | Note


def parse_facts(raw: object, knowledge: Knowledge, where: str = "facts") -> dict[str, FactValue]:
    """Check facts against the vocabulary. Unknown names are kept as free text. Raises TapeError."""
    if not isinstance(raw, Mapping):
        raise TapeError(where, expected="an object of facts", got=_shown(raw))
    facts: dict[str, FactValue] = {}
    for name, value in raw.items():
        if value is None:
            facts[name] = None
        elif name in knowledge.facts:
            if value not in knowledge.facts[name]:
                raise TapeError(f"{where}.{name}", expected=f"one of {', '.join(knowledge.facts[name])}", got=_shown(value))
            facts[name] = value
        elif name in NUMBER_FACTS:
            if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
                raise TapeError(f"{where}.{name}", expected="a number", got=_shown(value))
            facts[name] = value
        elif isinstance(value, str | int | float | bool):
            facts[name] = value
        else:
            raise TapeError(f"{where}.{name}", expected="a text or a number", got=_shown(value))
    return facts


def parse_entries(raw: object, knowledge: Knowledge) -> list[Entry]:
    """Check a list of entries. Raises TapeError naming the entry, counted from 0."""
    if not isinstance(raw, Sequence) or isinstance(raw, str | bytes):
        raise TapeError("entries", expected="a list of entries", got=_shown(raw))
    return [parse_entry(item, index, knowledge) for index, item in enumerate(raw)]


def parse_entry(raw: object, index: int, knowledge: Knowledge) -> Entry:
    """Check one entry standing at `index` of the tape. Raises TapeError."""
    where = f"entry {index}"
    if not isinstance(raw, Mapping):
        raise TapeError(where, expected="an object", got=_shown(raw))
    if "undo" in raw:
        n = raw["undo"]
        if isinstance(n, bool) or not isinstance(n, int) or not 0 <= n < index:
            raise TapeError(f"{where}.undo", expected=f"the number of an earlier entry (0 to {index - 1})", got=_shown(n))
        return Undo(n)
    if "fact" in raw:
        return FactChange(parse_facts(raw["fact"], knowledge, f"{where}.fact"))
    if "put_back" in raw:
        return PutBack(_one_of(raw["put_back"], knowledge.fixes, f"{where}.put_back", "a fix"))
    if "override" in raw:
        reason = raw.get("reason")
        if not isinstance(reason, str) or not reason.strip():
            raise TapeError(f"{where}.reason", expected="a written reason", got=_shown(reason))
        moves = (*knowledge.checks, *knowledge.fixes)
        return Override(
            _one_of(raw["override"], knowledge.interlocks, f"{where}.override", "an interlock"),
            _one_of(raw.get("move"), moves, f"{where}.move", "a move"),
            reason,
        )
    if "started" in raw:
        minutes = raw.get("minutes", 0)
        if isinstance(minutes, bool) or not isinstance(minutes, int | float) or not 0 <= minutes <= 100_000:
            raise TapeError(f"{where}.minutes", expected="minutes, 0 to 100000", got=_shown(minutes))
        return Started(_one_of(raw["started"], (*knowledge.checks, *knowledge.fixes), f"{where}.started", "a move"), float(minutes))
    if "changed" in raw:
        trials = [f.id for f in knowledge.fixes.values() if f.trial]
        change = _one_of(raw["changed"], trials, f"{where}.changed", "a setting's fix")
        before, after = (_value_of(raw, name, change, where, knowledge) for name in ("before", "after"))
        return Changed(change, before, after, raw.get("walk") is True)
    if "saw" in raw:
        return _parse_saw(raw, where, knowledge)
    if "tried_key" in raw:
        key, worked = raw["tried_key"], raw.get("worked")
        if not isinstance(key, str) or not key.strip() or len(key) > _LONGEST_KEY:
            raise TapeError(f"{where}.tried_key", expected=f"a key's name of at most {_LONGEST_KEY} letters", got=_shown(key))
        if not isinstance(worked, bool):
            raise TapeError(f"{where}.worked", expected="true or false", got=_shown(worked))
        return TriedKey(key.strip(), _one_of(raw.get("opens"), knowledge.keys.purposes, f"{where}.opens", "what it opens"), worked)
    if "signed" in raw:
        fix = raw.get("fix")
        return Signed(
            _one_of(raw["signed"], knowledge.calls, f"{where}.signed", "a call"),
            None if fix is None else _one_of(fix, knowledge.fixes, f"{where}.fix", "a fix"),
        )
    if "proven" in raw:
        return _parse_proven(raw["proven"], f"{where}.proven", knowledge)
    if "move" in raw:
        return _parse_reading(raw, where, knowledge)
    if isinstance(raw.get("note"), str):
        return Note(raw["note"])
    raise TapeError(
        where, expected="one of move, put_back, override, fact, undo, started, changed, saw, tried_key, signed, proven, note", got=_shown(sorted(map(str, raw)))
    )


_LONGEST_KEY = 30


def _value_of(raw: Mapping[str, object], name: str, fix: str, where: str, knowledge: Knowledge) -> str | None:
    """A value before or after a changed setting: one of its row's where the settings sheet has one, else any short text."""
    value = raw.get(name)
    row = knowledge.settings.row_of_fix(fix)
    if value is None:
        return None
    if row:
        return _one_of(value, row.values, f"{where}.{name}", f"a value of {row.id}")
    if not isinstance(value, str):
        raise TapeError(f"{where}.{name}", expected="a text", got=_shown(value))
    return value[:200]


def _parse_saw(raw: Mapping[str, object], where: str, knowledge: Knowledge) -> Saw:
    settings, sightings = knowledge.settings, knowledge.sightings
    what = _one_of(raw["saw"], (*settings.rows, "drive", *sightings.kinds), f"{where}.saw", "a setting or a kind of drive")
    if what in settings.rows:
        return Saw(what, _one_of(raw.get("value"), settings.rows[what].values, f"{where}.value", f"a value of {what}"), None)
    at = _one_of(raw.get("at"), sightings.vantages, f"{where}.at", "a place where drives are seen")
    return Saw(what, _one_of(raw.get("value"), sightings.seen, f"{where}.value", "what is seen there"), at)


def _parse_proven(raw: object, where: str, knowledge: Knowledge) -> Proven:
    if not isinstance(raw, Sequence) or isinstance(raw, str | bytes):
        raise TapeError(where, expected="a list of faults", got=_shown(raw))
    known = {f.id: f.component for f in knowledge.faults}
    faults = tuple(dict.fromkeys(_one_of(f, known, where, "a fault") for f in raw))
    if len({known[f] for f in faults}) < len(faults):
        raise TapeError(where, expected="one state for each component", got=_shown(list(faults)))
    return Proven(faults)


def _parse_reading(raw: Mapping[str, object], where: str, knowledge: Knowledge) -> Reading:
    move = _one_of(raw["move"], (*knowledge.checks, *knowledge.fixes), f"{where}.move", "a move")
    outcomes = knowledge.move(move).outcomes
    beside = _beside(raw, move, where, knowledge)
    if "outcome" in raw and raw.get("weights") is None:
        return Reading(move, {_one_of(raw["outcome"], outcomes, f"{where}.outcome", f"an outcome of {move}"): 1.0}, **beside)
    weights = raw.get("weights")
    if not isinstance(weights, Mapping) or raw.get("outcome") is not None:
        raise TapeError(where, expected="either an outcome or weights over outcomes", got=_shown(sorted(map(str, raw))))
    for outcome, weight in weights.items():
        _one_of(outcome, outcomes, f"{where}.weights", f"outcomes of {move}")
        if isinstance(weight, bool) or not isinstance(weight, int | float) or not 0 <= weight < math.inf:
            raise TapeError(f"{where}.weights.{outcome}", expected="a number of at least 0", got=_shown(weight))
    total = float(sum(weights.values()))
    if not 0 < total < math.inf:
        raise TapeError(f"{where}.weights", expected="at least one weight above 0", got=_shown(dict(weights)))
    return Reading(move, {o: w / total for o, w in weights.items() if w > 0}, **beside)


def _beside(raw: Mapping[str, object], move: str, where: str, knowledge: Knowledge) -> dict[str, str | None]:
    """What was read or changed to come to the outcome, where the entry says it."""
    if move in knowledge.fixes:
        return {name: _value_of(raw, name, move, where, knowledge) for name in ("before", "after") if raw.get(name) is not None}
    if raw.get("found") is None:
        return {}
    row = knowledge.settings.row_of_check(move)
    values = tuple(row.values) if row else tuple(knowledge.sightings.seen)
    return {"found": _one_of(raw["found"], values, f"{where}.found", "what was read")}


def _one_of(value: object, known: Sequence[str] | Mapping[str, object], where: str, what: str) -> str:
    if isinstance(value, str) and value in known:
        return value
    listed = ", ".join(list(known)[:15]) if len(known) <= 15 else "see `gatecheck vocabulary`"
    raise TapeError(where, expected=f"{what} ({listed})", got=_shown(value))


def _shown(value: object) -> str:
    text = repr(value)
    return text if len(text) <= 80 else text[:77] + "..."


def standing(entries: Sequence[Entry]) -> list[bool]:
    """Which entries stand after all undos (an undo that was itself undone takes nothing back)."""
    stands = [True] * len(entries)
    for index in range(len(entries) - 1, -1, -1):
        entry = entries[index]
        if isinstance(entry, Undo) and stands[index]:
            stands[entry.entry] = False
    return stands


def is_done(reading: Reading) -> bool:
    """True when the fix was carried out (not could-not, declined or left on)."""
    return reading.outcome not in NOT_DONE


def weighed(entries: Sequence[Entry], stands: Sequence[bool], model: Model) -> list[bool]:
    """Which readings weigh on the belief: the same check repeated with nothing changed in between counts once.

    The later reading of such a pair is the one that counts, so a correction replaces what was mistyped. A fix repeated
    with the same outcome right after itself is the same evidence too.
    """
    counts = list(stands)
    again: set[str] = set()
    for index in range(len(entries) - 1, -1, -1):
        entry = entries[index]
        if not stands[index]:
            continue
        if isinstance(entry, Reading) and entry.move in model.looks:
            if entry.move in again:
                counts[index] = False
            again.add(entry.move)
        elif isinstance(entry, Reading) and is_done(entry):
            again -= model.voided(entry.move, entry.outcome)
        elif isinstance(entry, PutBack) and entry.fix in model.acts:
            again -= model.affects[entry.fix]
    last: Reading | None = None
    for index, entry in enumerate(entries):
        if isinstance(entry, Reading) and stands[index] and entry.move in model.acts:
            if last == entry:
                counts[index] = False
            last = entry
        elif isinstance(entry, PutBack) and stands[index]:
            last = None
    return counts


def merge_facts(facts: Facts, entries: Sequence[Entry], stands: Sequence[bool]) -> dict[str, FactValue]:
    """The ticket's facts after every standing fact entry and every complete copy."""
    merged = dict(facts)
    for entry, stand in zip(entries, stands, strict=True):
        if stand and isinstance(entry, FactChange):
            merged.update(entry.facts)
        elif stand and isinstance(entry, Reading) and entry.move == "copy-data" and entry.outcome == "complete":
            merged["data"] = "backed-up"
    if merged.get("mains") is None and merged.get("form") in ("desktop", "all-in-one"):
        merged["mains"] = "connected"
    return {name: value for name, value in merged.items() if value is not None}
