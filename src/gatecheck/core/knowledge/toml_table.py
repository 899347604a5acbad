"""One TOML table with its place in its file: typed access, and errors that name file, key and line."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from gatecheck.core.errors import KnowledgeError

_SUM_TOLERANCE = 1e-6


class Table:
    """One TOML table with its place, so that every complaint names file, key and line."""

    def __init__(self, file: str, text: str, path: str, values: object) -> None:
        self.file, self.text, self.path = file, text, path
        if not isinstance(values, dict):
            raise self.error("", "a table", type(values).__name__)
        self.values: dict[str, Any] = values

    def error(self, key: str, expected: object, got: object) -> KnowledgeError:
        full = ".".join(part for part in (self.path, key) if part)
        return KnowledgeError(self.file, full, expected=expected, got=got, line=_line_of(self.text, self.path, key))

    def sub(self, key: str, *, optional: bool = False) -> Table:
        if key not in self.values and not optional:
            raise self.error(key, "a table", "nothing")
        return Table(self.file, self.text, f"{self.path}.{key}" if self.path else key, self.values.get(key, {}))

    def number(self, key: str, default: float | None = None, *, low: float = 0.0, high: float = 1e9) -> float:
        value = self.values.get(key, default)
        if isinstance(value, bool) or not isinstance(value, int | float) or not low <= value <= high:
            raise self.error(key, f"a number from {low:g} to {high:g}", repr(value))
        return float(value)

    def string(self, key: str, default: str | None = None) -> str:
        value = self.values.get(key, default)
        if not isinstance(value, str) or not value:
            raise self.error(key, "a text", repr(value))
        return value

    def flag(self, key: str) -> bool:
        value = self.values.get(key, False)
        if not isinstance(value, bool):
            raise self.error(key, "true or false", repr(value))
        return value

    def one_of(self, key: str, allowed: Iterable[str], default: str | None = None) -> str:
        value = self.string(key, default)
        options = tuple(allowed)
        if value not in options:
            raise self.error(key, f"one of {', '.join(options)}", repr(value))
        return value

    def ids(self, key: str, allowed: Iterable[str]) -> tuple[str, ...]:
        values = self.values.get(key, [])
        options = set(allowed)
        if not isinstance(values, list):
            raise self.error(key, "a list of ids", repr(values))
        for value in values:
            if value not in options:
                raise self.error(key, "known ids", repr(value))
        return tuple(values)

    def row(self, key: str, allowed: Iterable[str], *, high: float = 1.0) -> dict[str, float]:
        """A table id -> number; every id must be known."""
        sub, options = self.sub(key, optional=True), set(allowed)
        for name in sub.values:
            if name not in options:
                raise sub.error(name, f"one of {', '.join(sorted(options))}", repr(name))
        return {name: sub.number(name, high=high) for name in sub.values}

    def distribution(self, key: str, allowed: Iterable[str]) -> dict[str, float]:
        row = self.row(key, allowed)
        if abs(sum(row.values()) - 1.0) > _SUM_TOLERANCE:
            raise self.error(key, "a row that sums to 1", f"{sum(row.values()):.6g}")
        return row

    def only(self, *keys: str) -> None:
        for key in self.values:
            if key not in keys:
                raise self.error(key, f"one of {', '.join(keys)}", repr(key))


def _line_of(text: str, path: str, key: str) -> int | None:
    """The line where a key stands, as well as plain text tells: under the longest table header that is there."""
    lines = text.splitlines()
    parts = (path.split(".") if path else []) + ([key] if key else [])
    start = 0
    for depth in range(len(parts), 0, -1):
        for number, line in enumerate(lines):
            if line.startswith("[") and line.strip("[] \t").replace('"', "") == ".".join(parts[:depth]):
                start = number + 1
                break
        if start:
            rest = [name for name in ".".join(parts[depth:]).split(".") if name]
            for number in range(start, len(lines)):
                if lines[number].startswith("["):
                    break
                if rest and lines[number].replace('"', "").lstrip().startswith(rest[0]):
                    return number + 1
            return start
    for number, line in enumerate(lines):
        if parts and line.replace('"', "").startswith(parts[0]):
            return number + 1
    return None
