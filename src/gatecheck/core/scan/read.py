"""A read map from its CSV: one row a block, in the order read. Bounded, and every error named by its line.

Header `lba,sectors,ms,state`; state is read, unreadable or left. The bytes are turned into numbers at once; only where
that fails is the line looked for."""

from __future__ import annotations

import warnings
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from gatecheck.core.errors import GateCheckError

HEADER = ("lba", "sectors", "ms", "state")
READ, UNREADABLE, LEFT = 0, 1, 2
STATES = {"read": READ, "unreadable": UNREADABLE, "left": LEFT}
_LARGEST_LBA, _MOST_SECTORS, _LONGEST_MS = 1 << 48, 1 << 24, 1e9
_LONGEST_LINE = 200

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


class MapError(GateCheckError):
    """A map that cannot be used: line, what was expected, what was got."""

    def __init__(self, line: int, *, expected: str, got: str) -> None:
        self.line, self.expected, self.got = line, expected, got
        super().__init__(f"line {line}: expected {expected}, got {got}")


@dataclass(frozen=True, slots=True)
class ReadMap:
    """Blocks in the order they were read. lba, sectors: int64, shape (n,); ms: float64, 0 for those that were left;
    state: READ, UNREADABLE, LEFT."""

    lba: Ints
    sectors: Ints
    ms: Floats
    state: NDArray[np.int8]
    many: Ints | None = None
    """how many blocks of the read each row stands for, shape (n,); None: one each"""

    def __len__(self) -> int:
        return len(self.lba)

    @property
    def blocks(self) -> Ints:
        """`many`, in any case."""
        return np.ones(len(self.lba), dtype=np.int64) if self.many is None else self.many

    def of(self, rows: NDArray[Any]) -> ReadMap:
        """These rows alone (places or flags), in their order."""
        return ReadMap(
            self.lba[rows],
            self.sectors[rows],
            self.ms[rows],
            self.state[rows],
            None if self.many is None else self.many[rows],
        )


def read_map(data: bytes) -> ReadMap:
    """Raises MapError naming the first line that cannot be used."""
    parts = list(read_parts([data]))
    return merge_maps(parts)


def merge_maps(parts: Sequence[ReadMap]) -> ReadMap:
    """Parts of a map, one after the other."""
    if len(parts) == 1:
        return parts[0]
    many = None if all(part.many is None for part in parts) else np.concatenate([part.blocks for part in parts])
    lba, sectors, ms, state = (
        np.concatenate([getattr(part, name) for part in parts]) for name in ("lba", "sectors", "ms", "state")
    )
    return ReadMap(lba, sectors, ms, state, many)


def read_parts(chunks: Iterable[bytes]) -> Iterator[ReadMap]:
    """The map of a text that comes in chunks of any size, a part for each. Raises MapError naming the first line that
    cannot be used."""
    line, rest, is_first, some = 1, b"", True, False
    for chunk, is_last in _with_last(chunks):
        text = rest + chunk
        if b"\r" in text:
            text = text.replace(b"\r\n", b"\n")
        if is_first:
            text = text.removeprefix(b"\xef\xbb\xbf")
            if b"\n" not in text and not is_last and len(text) < _LONGEST_LINE:
                rest = text
                continue
            head, _, text = text.partition(b"\n")
            names = tuple(name.strip().lower() for name in head[:_LONGEST_LINE].decode("utf-8", "replace").split(","))
            if names != HEADER:
                raise MapError(
                    1, expected=f"the header {','.join(HEADER)}", got=repr(head[:60].decode("utf-8", "replace"))
                )
            line, is_first = 2, False
        if is_last:
            body, rest = text.rstrip(), b""
        else:
            end = text.rfind(b"\n")
            body, rest = text[: max(end, 0)], text[end + 1 :]
        if not body.strip():
            continue
        yield _part(body, line)
        some = True
        line += body.count(b"\n") + 1
    if not some:
        raise MapError(max(line, 2), expected="at least one block", got="nothing")


def _with_last(chunks: Iterable[bytes]) -> Iterator[tuple[bytes, bool]]:
    before = b""
    for chunk in chunks:
        if before:
            yield before, False
        before = chunk
    yield before, True


def _part(body: bytes, line: int) -> ReadMap:
    """Whole lines, the first of which has this number."""
    rows = _numbers(body)
    if rows is None:
        raise _first_fault(body, line)
    lba, sectors, ms, state = rows
    good = (
        (lba >= 0)
        & (lba < _LARGEST_LBA)
        & (lba == np.floor(lba))
        & (sectors >= 1)
        & (sectors <= np.where(state == LEFT, _LARGEST_LBA, _MOST_SECTORS))
        & (sectors == np.floor(sectors))
        & (ms >= 0)
        & (ms <= _LONGEST_MS)
    )
    if not good.all():
        place = int(np.argmin(good))
        raise _fault_of(body.split(b"\n")[place], place + line) or MapError(
            place + line, expected="a block", got="something else"
        )
    return ReadMap(lba.astype(np.int64, copy=False), sectors.astype(np.int64, copy=False), ms, state)


_Rows = tuple[NDArray[Any], NDArray[Any], Floats, NDArray[np.int8]]
_NUMERIC = np.zeros(256, dtype=bool)
_NUMERIC[list(b"0123456789.+-eE, \t\n")] = True
_WORDS = ((b"read", READ), (b"unreadable", UNREADABLE), (b"left", LEFT))


def _numbers(body: bytes) -> _Rows | None:
    """lba, sectors, ms and state of each line; None where some line is not as it should be."""
    raw = np.frombuffer(body + b"\n", dtype=np.uint8).copy()
    ends, found = np.flatnonzero(raw == 10), np.flatnonzero(raw == 44)
    if len(found) != 3 * len(ends):
        return None
    commas = found.reshape(-1, 3)
    starts = np.concatenate([[0], ends[:-1] + 1])
    if (commas[:, 0] < starts).any() or (commas[:, 2] > ends).any():
        return None
    while True:  # blanks around the words
        padded = (raw[ends - 1] == 32) | (raw[ends - 1] == 9)
        if not padded.any():
            break
        raw[ends[padded]], ends = 32, ends - padded
        raw[ends] = 10
    word = commas[:, 2] + 1
    while (blank := ((raw[word] == 32) | (raw[word] == 9))).any():
        word = word + blank
    state = np.full(len(ends), -1, dtype=np.int8)
    for text, number in _WORDS:
        fits = ends - word == len(text)
        for place, letter in enumerate(text):
            fits[fits] = raw[word[fits] + place] == letter
        state[fits] = number
    if (state < 0).any():
        return None
    plain = _plain(raw, starts, commas)
    return (*plain, state) if plain else _any_numbers(raw, ends, commas, word, state)


def _plain(raw: NDArray[np.uint8], starts: Ints, commas: Ints) -> tuple[Ints, Ints, Floats] | None:
    """Numbers that are digits alone, the last with a point in it or not: what programs write. None where one is not."""
    dots = np.flatnonzero(raw == 46)
    point = commas[:, 2].copy()
    if len(dots) == len(point) and (dots > commas[:, 1]).all() and (dots < commas[:, 2]).all():
        point = dots
    elif len(dots):
        row = np.searchsorted(commas[:, 2], dots)
        if (row == len(commas)).any() or (dots < commas[row, 1]).any() or (np.diff(row) == 0).any():
            return None
        point[row] = dots
    if ((commas[:, 2] - commas[:, 1] == 2) & (point < commas[:, 2])).any():
        return None  # a point alone
    lba, sectors = _digits(raw, starts, commas[:, 0]), _digits(raw, commas[:, 0] + 1, commas[:, 1])
    whole, behind = _digits(raw, commas[:, 1] + 1, point), np.maximum(commas[:, 2] - point - 1, 0)
    part = _digits(raw, point + 1, point + 1 + behind)
    if (
        lba is None
        or sectors is None
        or whole is None
        or part is None
        or (lba < 0).any()
        or (starts == commas[:, 0]).any()
        or int(behind.max(initial=0)) > _MOST_DIGITS // 2
    ):
        return None
    scale = 10 ** np.arange(_MOST_DIGITS // 2 + 1)
    if int(whole.max(initial=0)) > _LONGEST_MS:
        return None
    return lba, sectors, (whole * scale[behind] + part) / scale[behind]


_MOST_DIGITS = 15
"""so many of them are exact in a float"""


def _digits(raw: NDArray[np.uint8], start: Ints, end: Ints) -> Ints | None:
    """Shape (n,): the numbers that stand in [start, end), 0 for none; None where one is longer or something else."""
    count = end - start
    longest = int(count.max(initial=0))
    if longest > _MOST_DIGITS:
        return None
    values, shortest = np.zeros(len(end), dtype=np.int64), int(count.min(initial=0))
    at = end - 1
    for place in range(longest):
        digit = raw[at] - 48  # below a nought it is large: bytes go round
        if place >= shortest:
            digit[count <= place] = 0
        if digit.max(initial=0) > 9:
            return None
        values += np.multiply(digit, 10**place, dtype=np.int64)
        at = at - 1 if place + 1 < shortest else np.maximum(at - 1, 0)
    return values


def _any_numbers(raw: NDArray[np.uint8], ends: Ints, commas: Ints, word: Ints, state: NDArray[np.int8]) -> _Rows | None:
    """The words are turned into digits in place, then all of it is read as numbers, whichever way they are written."""
    inside = np.zeros(len(raw), dtype=np.int8)
    inside[word], inside[ends] = 1, -1
    raw[np.cumsum(inside, dtype=np.int8) > 0] = 32
    if not _NUMERIC[raw].all():
        return None
    raw[ends - 1] = 48 + state
    untimed = commas[:, 2] == commas[:, 1] + 1  # a block that was left has no time
    raw[commas] = 32
    raw[commas[untimed, 2]] = 48
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", DeprecationWarning)  # it stops at what is no number, and only warns
            values = np.fromstring(raw.tobytes().decode("ascii"), dtype=np.float64, sep=" ")
    except (ValueError, DeprecationWarning):
        return None
    if len(values) != 4 * len(ends) or not np.isfinite(values).all():
        return None
    rows = values.reshape(-1, 4)
    return rows[:, 0], rows[:, 1], rows[:, 2].copy(), rows[:, 3].astype(np.int8)


def _first_fault(body: bytes, first: int) -> MapError:
    for number, line in enumerate(body.split(b"\n"), start=first):
        fault = _fault_of(line, number)
        if fault is not None:
            return fault
    return MapError(first, expected="blocks", got="something else")


def _fault_of(line: bytes, number: int) -> MapError | None:
    text = line[:_LONGEST_LINE].decode("utf-8", "replace")
    cells = [cell.strip() for cell in text.split(",")]
    if len(cells) != len(HEADER):
        return MapError(number, expected="lba,sectors,ms,state", got=repr(text[:60]))
    limits = (
        (0, _LARGEST_LBA, "a sector number"),
        (1, _LARGEST_LBA if cells[3] == "left" else _MOST_SECTORS, "a count of sectors"),
        (0, _LONGEST_MS, "milliseconds"),
    )
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
