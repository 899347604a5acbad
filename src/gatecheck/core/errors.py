"""Errors of the domain. Each says what, where, what was expected and what was got, as text and as parts."""

from __future__ import annotations


class GateCheckError(Exception):
    """Base of every error that a person using Gate Check may meet."""


class DecodeError(GateCheckError):
    """Bytes that are not what their layout says."""

    def __init__(self, what: str, *, at: int, expected: object, got: object) -> None:
        self.what, self.at, self.expected, self.got = what, at, expected, got
        super().__init__(f"{what} at byte 0x{at:x}: expected {expected}, got {got}")


class KnowledgeError(GateCheckError):
    """A knowledge table that cannot be used: names file, key and (where found) line."""

    def __init__(self, file: str, key: str, *, expected: object, got: object, line: int | None = None) -> None:
        self.file, self.key, self.line, self.expected, self.got = file, key, line, expected, got
        where = f"{file}:{line}" if line else file
        super().__init__(f"{where}: {key}: expected {expected}, got {got}")


class TapeError(GateCheckError):
    """A fact or an entry that cannot be read. `where` is the fact's name or `entry N`, counted from 0."""

    def __init__(self, where: str, *, expected: object, got: object) -> None:
        self.where, self.expected, self.got = where, expected, got
        shown = where if where.isprintable() else where.encode("unicode_escape").decode("ascii")
        super().__init__(f"{shown}: expected {expected}, got {got}")


class InputError(GateCheckError):
    """Something handed in that cannot be used: what, where, what would be right."""
