"""A sentence before it is worded: its id in the catalogue and the values it speaks of.

The core never writes sentences. It hands up what is to be said; `words` says it, in whatever language is asked for.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

Value = object
"""JSON-ready: a number, a text, an id, a list of them, or another `Said`"""

_MOST_VALUES, _LONGEST, _DEEPEST, _LARGEST = 20, 400, 4, 1 << 64


@dataclass(frozen=True, slots=True)
class Said:
    """`id`: a key of the catalogue, `values`: what its text names."""

    id: str
    values: Mapping[str, Value] = field(default_factory=dict)


def say(sentence: str, **values: Value) -> Said:
    """`say("bridge-hides-pages")`, `say("pending", count=8)`."""
    return Said(sentence, values)


def to_json(said: Said) -> dict[str, object]:
    """As it is kept on a tape: {"say": id, "values": {…}}."""
    return (
        {"say": said.id, "values": {name: _plain(value) for name, value in said.values.items()}}
        if said.values
        else {"say": said.id}
    )


def _plain(value: Value) -> object:
    if isinstance(value, Said):
        return to_json(value)
    return [_plain(item) for item in value] if isinstance(value, list | tuple) else value


def is_said(raw: object, depth: int = 0) -> bool:
    """True for what `to_json` makes, within bounds: anything else is no sentence."""
    if (
        not isinstance(raw, Mapping)
        or not isinstance(raw.get("say"), str)
        or raw.keys() - {"say", "values"}
        or depth > _DEEPEST
    ):
        return False
    values = raw.get("values", {})
    if not isinstance(values, Mapping) or len(values) > _MOST_VALUES:
        return False
    return all(isinstance(name, str) and _is_value(value, depth) for name, value in values.items())


def _is_value(value: object, depth: int) -> bool:
    if isinstance(value, list):
        return len(value) <= _MOST_VALUES and all(_is_value(item, depth + 1) for item in value)
    if isinstance(value, Mapping):
        return is_said(value, depth + 1)
    if isinstance(value, str):
        return len(value) <= _LONGEST and not any("\ud800" <= c <= "\udfff" for c in value)
    return value is None or (isinstance(value, bool | int | float) and -_LARGEST <= value <= _LARGEST)


def from_json(raw: object) -> Said | None:
    """The reverse of `to_json`; None for what is none."""
    return _said(raw) if isinstance(raw, Mapping) and is_said(raw) else None


def _said(raw: Mapping[str, object]) -> Said:
    values = raw.get("values", {})
    assert isinstance(values, Mapping)
    return Said(str(raw["say"]), {str(name): _value(value) for name, value in values.items()})


def _value(value: object) -> Value:
    if isinstance(value, Mapping):
        return _said(value)
    return [_value(item) for item in value] if isinstance(value, list) else value
