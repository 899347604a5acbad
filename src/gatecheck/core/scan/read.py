"""A read map from its CSV: one row a block, in the order read. Bounded, and every error named by its line.

Header `lba,sectors,ms,state`; state is read, unreadable or left. The bytes are turned into numbers at once; only where that fails is the line looked for.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from gatecheck.core.errors import BenchError

HEADER = ("lba", "sectors", "ms", "state")
READ, UNREADABLE, LEFT = 0, 1, 2
STATES = {"read": READ, "unreadable": UNREADABLE, "left": LEFT}
_LARGEST_LBA, _MOST_SECTORS, _LONGEST_MS = 1 << 48, 1 << 24, 1e9
_LONGEST_LINE = 200

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


class MapError(BenchError):
    """A map that cannot be used: line, what was expected, what was got."""

    def __init__(self, line: int, *, expected: str, got: str) -> None:
        self.line, self.expected, self.got = line, expected, got
        super().__init__(f"line {line}: expected {expected}, got {got}")


@dataclass(frozen=True, slots=True)
class ReadMap:
    """Blocks in the order they were read. lba, sectors: int64, shape (n,); ms: float64, 0 for those that were left; state: READ, UNREADABLE, LEFT."""

    lba: Ints
    sectors: Ints
    ms: Floats
    state: NDArray[np.int8]

    def __len__(self) -> int:
        return len(self.lba)


def read_map(data: bytes) -> ReadMap:
    """Raises MapError naming the first line that cannot be used."""
    data = data.removeprefix(b"\xef\xbb\xbf").replace(b"\r\n", b"\n").rstrip()
    head, _, body = data.partition(b"\n")
    names = tuple(name.strip().lower() for name in head[:_LONGEST_LINE].decode("utf-8", "replace").split(","))
    if names != HEADER:
        raise MapError(1, expected=f"the header {','.join(HEADER)}", got=repr(head[:60].decode("utf-8", "replace")))
    if not body.strip():
        raise MapError(2, expected="at least one block", got="nothing")
    rows = _numbers(body)
    if rows is None:
        raise _first_fault(body)
    lba, sectors, ms, state = rows[:, 0], rows[:, 1], rows[:, 2], rows[:, 3]
    good = (lba >= 0) & (lba < _LARGEST_LBA) & (lba == np.floor(lba)) & (sectors >= 1) & (sectors <= _MOST_SECTORS) & (sectors == np.floor(sectors)) & (ms >= 0) & (ms <= _LONGEST_MS)
    if not good.all():
        place = int(np.argmin(good))
        raise _fault_of(body.split(b"\n")[place], place + 2) or MapError(place + 2, expected="a block", got="something else")
    return ReadMap(lba.astype(np.int64), sectors.astype(np.int64), ms.copy(), state.astype(np.int8))


def _numbers(body: bytes) -> Floats | None:
    """Shape (n, 4); None where some line is not as it should be."""
    lines = body.count(b"\n") + 1
    if body.count(b",") != 3 * lines or b"\n\n" in body:
        return None
    coded = body.replace(b"unreadable", b"1").replace(b"read", b"0").replace(b"left", b"2").replace(b",2\n", b",2\n").replace(b"\n", b",")
    if any(c not in b"0123456789.,eE+- \t" for c in set(coded)):
        return None
    coded = coded.replace(b",,", b",0,")  # a block that was left has no time
    try:
        values = np.array(coded.split(b","), dtype="S32").astype(np.float64)
    except ValueError:
        return None
    if len(values) != 4 * lines or not np.isfinite(values).all():
        return None
    rows = values.reshape(lines, 4)
    return rows if np.isin(rows[:, 3], (READ, UNREADABLE, LEFT)).all() and _states_were_words(body, lines) else None


def _states_were_words(body: bytes, lines: int) -> bool:
    return body.count(b",read") + body.count(b",unreadable") + body.count(b",left") + body.count(b", read") + body.count(b", unreadable") + body.count(b", left") == lines


def _first_fault(body: bytes) -> MapError:
    for number, line in enumerate(body.split(b"\n"), start=2):
        fault = _fault_of(line, number)
        if fault is not None:
            return fault
    return MapError(2, expected="blocks", got="something else")


def _fault_of(line: bytes, number: int) -> MapError | None:
    text = line[:_LONGEST_LINE].decode("utf-8", "replace")
    cells = [cell.strip() for cell in text.split(",")]
    if len(cells) != len(HEADER):
        return MapError(number, expected="lba,sectors,ms,state", got=repr(text[:60]))
    limits = ((0, _LARGEST_LBA, "a sector number"), (1, _MOST_SECTORS, "a count of sectors"), (0, _LONGEST_MS, "milliseconds"))
    for cell, name, (low, high, what) in zip(cells[:3], HEADER, limits, strict=False):
        if name == "ms" and not cell and cells[3] == "left":
            continue
        try:
            value = float(cell)
        except ValueError:
            value = -1.0
        if not low <= value <= high or (name != "ms" and value != int(value)):
            return MapError(number, expected=f"{what} ({name}) from {low} to {high:g}", got=repr(cell[:40]))
    if cells[3] not in STATES:
        return MapError(number, expected=f"one of {', '.join(STATES)}", got=repr(cells[3][:40]))
    return None
