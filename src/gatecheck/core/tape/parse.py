"""Raw entries and facts -> typed ones, or one TapeError that names the entry. One parser for each kind of entry."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from gatecheck.core.belief.facts import FactValue
from gatecheck.core.errors import TapeError
from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.knowledge.work import OUT
from gatecheck.core.tape.entries import (
    RETURN_REASONS,
    Broken,
    Changed,
    Entry,
    FactChange,
    Note,
    Override,
    Part,
    PartBrought,
    Photo,
    Proven,
    PutBack,
    Reading,
    RefittedGroup,
    RemovedGroup,
    Reopened,
    Saw,
    Signed,
    Spent,
    Started,
    StepDone,
    TriedKey,
    Undo,
    Waived,
)
from gatecheck.core.words.said import from_json, is_said

NUMBER_FACTS = (
    "drive_year",
    "drive_size_gb",
    "machine_value",
    "budget",
    "data_value",
    "as_of_year",
    "used_gb",
    "slot_height",
    "slot_length",
)
_LONGEST_KEY, LONGEST_CODE = 30, 60
_LARGEST = 10**15
_LONGEST_TEXT, _LONGEST_NAME, _MOST_FACTS, _MOST_OUTCOMES = 8000, 100, 100, 60
_MOST_MINUTES = 100_000
_LONGEST_VALUE = 200
_MOST_LISTED = 15
_MOST_OF_A_GROUP, _LONGEST_WORKED = 200, 400
_FIELDS = 9

Raw = Mapping[str, object]
Parser = Callable[[Raw, str, int, Knowledge], Entry]


def parse_facts(raw: object, knowledge: Knowledge, where: str = "facts") -> dict[str, FactValue]:
    """Check facts against the vocabulary. Unknown names are kept as free text. Raises TapeError."""
    if not isinstance(raw, Mapping) or len(raw) > _MOST_FACTS:
        raise TapeError(where, expected=f"an object of at most {_MOST_FACTS} facts", got=_shown(raw))
    facts: dict[str, FactValue] = {}
    for name, value in raw.items():
        if not isinstance(name, str) or not 0 < len(name) <= _LONGEST_NAME or not is_text(name):
            raise TapeError(where, expected=f"names of at most {_LONGEST_NAME} letters", got=_shown(name))
        if value is None:
            facts[name] = None
        elif name in knowledge.facts:
            if value not in knowledge.facts[name]:
                raise TapeError(
                    f"{where}.{name}", expected=f"one of {', '.join(knowledge.facts[name])}", got=_shown(value)
                )
            facts[name] = value
        elif name in NUMBER_FACTS:
            if not _is_number(value):
                raise TapeError(f"{where}.{name}", expected=f"a number of at most {_LARGEST:.0e}", got=_shown(value))
            facts[name] = value
        elif (
            isinstance(value, bool)
            or _is_number(value)
            or (isinstance(value, str) and len(value) <= _LONGEST_TEXT and is_text(value))
        ):
            facts[name] = value
        else:
            raise TapeError(
                f"{where}.{name}", expected=f"a text of at most {_LONGEST_TEXT} letters or a number", got=_shown(value)
            )
    return facts


def _is_number(value: object) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and -_LARGEST <= value <= _LARGEST


def is_text(value: str) -> bool:
    """Text that can be written: no half of a pair that UTF-16 makes one letter of."""
    return not any("\ud800" <= c <= "\udfff" for c in value)


def parse_entries(raw: object, knowledge: Knowledge) -> list[Entry]:
    """Check a list of entries. Raises TapeError naming the entry, counted from 0."""
    if not isinstance(raw, Sequence) or isinstance(raw, str | bytes):
        raise TapeError("entries", expected="a list of entries", got=_shown(raw))
    return [parse_entry(item, index, knowledge) for index, item in enumerate(raw)]


def parse_stored(raw: Sequence[object], knowledge: Knowledge) -> list[Entry]:
    """A tape as it was kept. An entry that cannot be read any more is a `Broken` one: it takes nothing else away."""
    entries: list[Entry] = []
    for index, item in enumerate(raw):
        try:
            entries.append(parse_entry(item, index, knowledge))
        except TapeError as error:
            entries.append(Broken(str(error)))
    return entries


def parse_entry(raw: object, index: int, knowledge: Knowledge) -> Entry:
    """Check one entry standing at `index` of the tape. Raises TapeError."""
    where = f"entry {index}"
    if not isinstance(raw, Mapping):
        raise TapeError(where, expected="an object", got=_shown(raw))
    note = raw.get("note")
    if (
        note is not None
        and not (isinstance(note, str) and len(note) <= _LONGEST_TEXT and is_text(note))
        and not is_said(note)
    ):
        raise TapeError(
            f"{where}.note",
            expected=f"a text of at most {_LONGEST_TEXT} letters, or the id of a sentence with its values",
            got=_shown(note),
        )
    _check_beside(raw, where)
    kinds = [key for key in PARSERS if key in raw and key != "note" and not (key == "move" and "override" in raw)]
    if len(kinds) > 1:
        raise TapeError(where, expected="an entry of one kind", got=_shown(kinds))
    for key, parser in PARSERS.items():
        if key in raw:
            return parser(raw, where, index, knowledge)
    raise TapeError(where, expected=f"one of {', '.join(PARSERS)}", got=_shown(sorted(map(str, raw))))


def _check_beside(raw: Raw, where: str) -> None:
    """What may stand beside an entry: the file it rests on, the odds with which a call was signed (the server says
    both), the code that a test printed."""
    rests_on, odds, code = raw.get("rests_on"), raw.get("odds"), raw.get("code")
    if code is not None and not (
        isinstance(code, str) and code.strip() and len(code) <= LONGEST_CODE and is_text(code)
    ):
        raise TapeError(f"{where}.code", expected=f"a code of at most {LONGEST_CODE} letters", got=_shown(code))
    if rests_on is not None:
        wanted = {"file", "name", "device"}
        if (
            not isinstance(rests_on, Mapping)
            or rests_on.keys() != wanted
            or not all(isinstance(v, str) and len(v) <= _LONGEST_TEXT and is_text(v) for v in rests_on.values())
        ):
            raise TapeError(f"{where}.rests_on", expected="file, name and device", got=_shown(rests_on))
    if odds is not None:
        suspects = odds.get("suspects") if isinstance(odds, Mapping) else None
        if (
            not isinstance(odds, Mapping)
            or not _is_number(odds.get("confidence"))
            or not isinstance(suspects, Mapping)
            or not all(map(_is_number, suspects.values()))
        ):
            raise TapeError(f"{where}.odds", expected="confidence and suspects", got=_shown(odds))


def _undo(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    n = raw["undo"]
    if isinstance(n, bool) or not isinstance(n, int) or not 0 <= n < index:
        raise TapeError(f"{where}.undo", expected=f"the number of an earlier entry (0 to {index - 1})", got=_shown(n))
    return Undo(n)


def _fact(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    return FactChange(parse_facts(raw["fact"], knowledge, f"{where}.fact"), _belongs(raw, where, index))


def _put_back(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    return PutBack(_one_of(raw["put_back"], knowledge.fixes, f"{where}.put_back", "a fix"))


def _override(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    reason = raw.get("reason")
    if not isinstance(reason, str) or not reason.strip() or len(reason) > _LONGEST_TEXT or not is_text(reason):
        raise TapeError(f"{where}.reason", expected="a written reason", got=_shown(reason))
    moves = (*knowledge.checks, *knowledge.fixes)
    return Override(
        _one_of(raw["override"], knowledge.interlocks, f"{where}.override", "an interlock"),
        _one_of(raw.get("move"), moves, f"{where}.move", "a move"),
        reason,
    )


def _started(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    minutes = raw.get("minutes", 0)
    if isinstance(minutes, bool) or not isinstance(minutes, int | float) or not 0 <= minutes <= _MOST_MINUTES:
        raise TapeError(f"{where}.minutes", expected=f"minutes, 0 to {_MOST_MINUTES}", got=_shown(minutes))
    return Started(
        _one_of(raw["started"], (*knowledge.checks, *knowledge.fixes), f"{where}.started", "a move"), float(minutes)
    )


def _changed(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    trials = [f.id for f in knowledge.fixes.values() if f.trial]
    change = _one_of(raw["changed"], trials, f"{where}.changed", "a setting's fix")
    before, after = (_value_of(raw, name, change, where, knowledge) for name in ("before", "after"))
    return Changed(change, before, after, raw.get("walk") is True)


def _value_of(raw: Raw, name: str, fix: str, where: str, knowledge: Knowledge) -> str | None:
    """A value before or after a changed setting: one of its row's where the settings sheet has one, else any short
    text."""
    value = raw.get(name)
    row = knowledge.settings.row_of_fix(fix)
    if value is None:
        return None
    if row:
        return _one_of(value, row.values, f"{where}.{name}", f"a value of {row.id}")
    if not isinstance(value, str) or not is_text(value):
        raise TapeError(f"{where}.{name}", expected="a text", got=_shown(value))
    return value[:_LONGEST_VALUE]


def _saw(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    settings, sightings = knowledge.settings, knowledge.sightings
    what = _one_of(
        raw["saw"], (*settings.rows, "drive", *sightings.kinds), f"{where}.saw", "a setting or a kind of drive"
    )
    if what in settings.rows:
        return Saw(
            what, _one_of(raw.get("value"), settings.rows[what].values, f"{where}.value", f"a value of {what}"), None
        )
    at = _one_of(raw.get("at"), sightings.vantages, f"{where}.at", "a place where drives are seen")
    return Saw(what, _one_of(raw.get("value"), sightings.seen, f"{where}.value", "what is seen there"), at)


def _tried_key(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    key, worked = raw["tried_key"], raw.get("worked")
    if not isinstance(key, str) or not key.strip() or len(key) > _LONGEST_KEY or not is_text(key):
        raise TapeError(
            f"{where}.tried_key", expected=f"a key's name of at most {_LONGEST_KEY} letters", got=_shown(key)
        )
    if not isinstance(worked, bool):
        raise TapeError(f"{where}.worked", expected="true or false", got=_shown(worked))
    return TriedKey(
        key.strip(), _one_of(raw.get("opens"), knowledge.keys.purposes, f"{where}.opens", "what it opens"), worked
    )


def _signed(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    fix, reason = raw.get("fix"), raw.get("reason")
    choice = _one_of(raw["signed"], knowledge.calls, f"{where}.signed", "a call")
    if reason is not None and (choice != "release" or fix is not None):
        raise TapeError(f"{where}.reason", expected="none but for a return without a fix", got=_shown(reason))
    return Signed(
        choice,
        None if fix is None else _one_of(fix, knowledge.fixes, f"{where}.fix", "a fix"),
        None if reason is None else _one_of(reason, RETURN_REASONS, f"{where}.reason", "why it goes back unrepaired"),
    )


def _reopened(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    if raw["reopened"] is not True:
        raise TapeError(f"{where}.reopened", expected="true", got=_shown(raw["reopened"]))
    return Reopened()


def _proven(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    where, named = f"{where}.proven", raw["proven"]
    if not isinstance(named, Sequence) or isinstance(named, str | bytes):
        raise TapeError(where, expected="a list of faults", got=_shown(named))
    known = {f.id: f.component for f in knowledge.faults}
    faults = tuple(dict.fromkeys(_one_of(f, known, where, "a fault") for f in named))
    if len({known[f] for f in faults}) < len(faults):
        raise TapeError(where, expected="one state for each component", got=_shown(list(faults)))
    return Proven(faults)


def _reading(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    move = _one_of(raw["move"], (*knowledge.checks, *knowledge.fixes), f"{where}.move", "a move")
    outcomes = knowledge.move(move).outcomes
    beside: dict[str, Any] = {**_beside(raw, move, where, knowledge), "belongs": _belongs(raw, where, index)}
    if "outcome" in raw and raw.get("weights") is None:
        return Reading(
            move, {_one_of(raw["outcome"], outcomes, f"{where}.outcome", f"an outcome of {move}"): 1.0}, **beside
        )
    weights = raw.get("weights")
    if not isinstance(weights, Mapping) or raw.get("outcome") is not None or len(weights) > _MOST_OUTCOMES:
        raise TapeError(where, expected="either an outcome or weights over outcomes", got=_shown(sorted(map(str, raw))))
    for outcome, weight in weights.items():
        _one_of(outcome, outcomes, f"{where}.weights", f"outcomes of {move}")
        if not _is_number(weight) or weight < 0:
            raise TapeError(f"{where}.weights.{outcome}", expected="a number of at least 0", got=_shown(weight))
    total = float(sum(weights.values()))
    if not total > 0:
        raise TapeError(f"{where}.weights", expected="at least one weight above 0", got=_shown(dict(weights)))
    return Reading(move, {o: w / total for o, w in weights.items() if w > 0}, **beside)


def _beside(raw: Raw, move: str, where: str, knowledge: Knowledge) -> dict[str, str | None]:
    """What was read or changed to come to the outcome, where the entry says it."""
    if move in knowledge.fixes:
        return {
            name: _value_of(raw, name, move, where, knowledge)
            for name in ("before", "after")
            if raw.get(name) is not None
        }
    if raw.get("found") is None:
        return {}
    row = knowledge.settings.row_of_check(move)
    values = tuple(row.values) if row else tuple(knowledge.sightings.seen)
    return {"found": _one_of(raw["found"], values, f"{where}.found", "what was read")}


def _note(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    text = raw["note"]
    if not isinstance(text, str) and not is_said(text):
        raise TapeError(f"{where}.note", expected="a text", got=_shown(text))
    return Note(text) if isinstance(text, str) else Note("", from_json(text))


# --- the work after the call -----------------------------------------------------------------------------------------


def _belongs(raw: Raw, where: str, index: int) -> int | None:
    place = raw.get("belongs")
    if place is not None and (isinstance(place, bool) or not isinstance(place, int) or not 0 <= place < index):
        raise TapeError(
            f"{where}.belongs", expected=f"the number of an earlier entry (0 to {index - 1})", got=_shown(place)
        )
    return place


def _step(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    steps = knowledge.work.steps
    step = steps[_one_of(raw["step"], steps, f"{where}.step", "a step")]
    answer = step.answers[_one_of(raw.get("answer"), step.answers, f"{where}.answer", f"an answer of {step.id}")]
    value = raw.get("value")
    if answer.asks is None and value is not None:
        raise TapeError(f"{where}.value", expected="nothing", got=_shown(value))
    if answer.asks == "count":
        value = _count(value, f"{where}.value", 0, _MOST_MINUTES)
    elif answer.asks == "screen":
        value = _one_of(value, knowledge.checks["screen"].outcomes, f"{where}.value", "what the screen shows")
    elif answer.asks is not None:
        value = _worked_text(value, f"{where}.value")
    return StepDone(step.id, answer.id, value, answer.leads)  # type: ignore[arg-type]


def _waived(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    return Waived(
        _one_of(
            raw["waive"], (*knowledge.work.steps, *(a.id for a in knowledge.work.automatic)), f"{where}.waive", "a step"
        ),
        _worked_text(raw.get("reason"), f"{where}.reason", "a written reason"),
    )


def _brought(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    return PartBrought(_one_of(raw["first"], knowledge.work.steps, f"{where}.first", "a step"))


def _out(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    fields = raw.get("fields", [])
    if not isinstance(fields, Sequence) or isinstance(fields, str | bytes) or len(fields) > _FIELDS:
        raise TapeError(f"{where}.fields", expected="a list of fields, 1 to 9", got=_shown(fields))
    kind = raw.get("kind", "")
    return RemovedGroup(
        _worked_text(raw["out"], f"{where}.out", "the group's name"),
        _one_of(raw.get("what", "screw"), OUT, f"{where}.what", "what came off"),
        _count(raw.get("count", 1), f"{where}.count", 1, _MOST_OF_A_GROUP),
        _worked_text(kind, f"{where}.kind") if kind else "",
        tuple(sorted({_count(field, f"{where}.fields", 1, _FIELDS) for field in fields})),
    )


def _back(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    return RefittedGroup(
        _count(raw["back"], f"{where}.back", 0, index - 1),
        _count(raw.get("missing", 0), f"{where}.missing", 0, _MOST_OF_A_GROUP),
    )


def _part(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    where, part = f"{where}.part", raw["part"]
    wanted = {"shelf", "name", "serial", "size_gb", "price"}
    if not isinstance(part, Mapping) or set(part) - wanted:
        raise TapeError(where, expected=f"an object with {', '.join(sorted(wanted))}", got=_shown(part))
    size, price, shelf = part.get("size_gb"), part.get("price", 0), part.get("shelf")
    for name, number in (("size_gb", size), ("price", price), ("shelf", shelf)):
        if number is not None and (not _is_number(number) or number < 0):
            raise TapeError(f"{where}.{name}", expected="a number of at least 0", got=_shown(number))
    serial = part.get("serial") or ""
    return Part(
        None if shelf is None else int(shelf),
        _worked_text(part.get("name"), f"{where}.name"),
        _worked_text(serial, f"{where}.serial") if serial else "",
        None if size is None else float(size),
        float(price),
    )


def _picture(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    file, says = raw["picture"], raw.get("says", "")
    if not isinstance(file, str) or len(file) != 64 or not all(c in "0123456789abcdef" for c in file):
        raise TapeError(f"{where}.picture", expected="the SHA-256 of a file", got=_shown(file))
    return Photo(file, _worked_text(says, f"{where}.says") if says else "", raw.get("evidence") is True)


def _spent(raw: Raw, where: str, index: int, knowledge: Knowledge) -> Entry:
    minutes = raw["spent"]
    if not _is_number(minutes) or not 0 <= minutes <= _MOST_MINUTES:  # type: ignore[operator]
        raise TapeError(f"{where}.spent", expected=f"minutes, 0 to {_MOST_MINUTES}", got=_shown(minutes))
    return Spent(float(minutes))  # type: ignore[arg-type]


def _count(value: object, where: str, low: int, high: int) -> int:
    if isinstance(value, bool) or not isinstance(value, int) or not low <= value <= high:
        raise TapeError(where, expected=f"a whole number from {low} to {high}", got=_shown(value))
    return value


def _worked_text(value: object, where: str, what: str = "a text") -> str:
    if not isinstance(value, str) or not value.strip() or len(value) > _LONGEST_WORKED or not is_text(value):
        raise TapeError(where, expected=f"{what} of at most {_LONGEST_WORKED} letters", got=_shown(value))
    return value.strip()


PARSERS: Mapping[str, Parser] = {
    "undo": _undo,
    "fact": _fact,
    "put_back": _put_back,
    "override": _override,
    "started": _started,
    "changed": _changed,
    "saw": _saw,
    "tried_key": _tried_key,
    "signed": _signed,
    "reopened": _reopened,
    "proven": _proven,
    "step": _step,
    "waive": _waived,
    "first": _brought,
    "out": _out,
    "back": _back,
    "part": _part,
    "picture": _picture,
    "spent": _spent,
    "move": _reading,
    "note": _note,
}
"""the key that an entry's kind goes by -> its parser; the first that is there decides, so that `note` may stand beside
any"""


def _one_of(value: object, known: Sequence[str] | Mapping[str, object], where: str, what: str) -> str:
    if isinstance(value, str) and value in known:
        return value
    listed = ", ".join(list(known)[:_MOST_LISTED]) if len(known) <= _MOST_LISTED else "see `gatecheck vocabulary`"
    raise TapeError(where, expected=f"{what} ({listed})", got=_shown(value))


def _shown(value: object) -> str:
    try:
        text = repr(value)
    except (ValueError, RecursionError):  # a number of thousands of digits, or nesting without end
        text = type(value).__name__
    return text if len(text) <= 80 else text[:77] + "..."
