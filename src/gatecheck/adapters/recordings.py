"""Recordings as files: a WAV of a drive's sound, a CSV of its supply current."""

from __future__ import annotations

import csv
import io
import math
import warnings
from itertools import islice
from pathlib import Path
from typing import TextIO

import numpy as np

from gatecheck.core.errors import InputError

_LARGEST, _MOST_CHANNELS, _RATES = 400 << 20, 8, (4_000, 400_000)
_MOST_ROWS, _AT_ONCE = 20_000_000, 20_000
_COLUMNS = ("t", "a5", "a12", "v5", "v12")


def read_wav(place: str, data: bytes | None = None) -> tuple[np.ndarray, int]:
    """(samples, float, full scale 1, the mean of the channels; rate). `data`: the file's bytes, where they are at hand;
    `place` is its name then. Raises InputError."""
    from scipy.io import wavfile

    try:
        size = Path(place).stat().st_size if data is None else len(data)
        if size > _LARGEST:
            raise InputError(
                f"{place}: expected a recording of a few seconds to two minutes, got a file of {size >> 20} MiB"
            )
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            rate, raw = wavfile.read(place if data is None else io.BytesIO(data))
    except OSError as error:
        raise InputError(f"{place}: expected a WAV file, got {error.strerror or error}") from error
    except Exception as error:
        raise InputError(
            f"{place}: expected a WAV file (RIFF, PCM or float), got {str(error)[:120] or 'something else'}"
        ) from error
    if not _RATES[0] <= rate <= _RATES[1]:
        raise InputError(f"{place}: expected {_RATES[0]} to {_RATES[1]} samples a second, got {rate}")
    if raw.ndim > 1 and raw.shape[1] > _MOST_CHANNELS:
        raise InputError(f"{place}: expected one or two channels, got {raw.shape[1]}")
    scale = {"uint8": 128.0, "int16": 32768.0, "int32": 2147483648.0}.get(str(raw.dtype), 1.0)
    samples = raw.astype(np.float64)
    samples /= scale
    if str(raw.dtype) == "uint8":
        samples -= 1.0
    return (samples.mean(axis=1) if samples.ndim > 1 else samples), int(rate)


def read_trace(place: str, data: bytes | None = None) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    """(seconds, column -> values, NaN in gaps). `data` as for `read_wav`. Raises InputError, with the line."""
    try:
        with (
            Path(place).open(encoding="utf-8-sig", newline="")
            if data is None
            else io.StringIO(data.decode("utf-8-sig"), newline="") as file
        ):
            rows = csv.reader(file)
            head = [name.strip().lower() for name in next(rows, [])]
            if "t" not in head or not any(name in head for name in _COLUMNS[1:]):
                raise InputError(
                    f"{place}: line 1: expected a header with t and any of a5, a12, v5, v12, got "
                    f"{','.join(head)[:60] or 'nothing'}"
                )
            wanted = [(name, head.index(name)) for name in _COLUMNS if name in head]
            plain = _plain_rows(file, wanted)
            if plain is not None:
                return plain[:, 0], {name: plain[:, n] for n, (name, _) in enumerate(wanted) if name != "t"}
            file.seek(0)
            rows = csv.reader(file)
            next(rows, None)
            table: list[list[float]] = []
            for number, row in enumerate(rows, 2):
                if not row or not any(cell.strip() for cell in row):
                    continue
                if len(table) >= _MOST_ROWS:
                    raise InputError(f"{place}: expected at most {_MOST_ROWS} rows, got more")
                table.append(_values(place, number, row, wanted, table[-1][0] if table else -math.inf))
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise InputError(
            f"{place}: expected a CSV file, got {getattr(error, 'strerror', None) or 'something else'}"
        ) from error
    if not table:
        raise InputError(f"{place}: expected rows after the header, got none")
    values = np.array(table)
    return values[:, 0], {name: values[:, n] for n, (name, _) in enumerate(wanted) if name != "t"}


def _plain_rows(file: TextIO, wanted: list[tuple[str, int]]) -> np.ndarray | None:
    """The rows below the header, a few at a time; None where one of them is anything but numbers in their order: then
    they are read one by one, and it is told which."""
    parts: list[np.ndarray] = []
    count, before = 0, -math.inf
    while lines := list(islice(file, _AT_ONCE)):
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("error")
                part = np.loadtxt(
                    lines, delimiter=",", usecols=[column for _, column in wanted], ndmin=2, comments=None
                )
        except (ValueError, UserWarning, DeprecationWarning):
            return None
        count += len(part)
        if not np.isfinite(part).all() or part[0, 0] < before or (np.diff(part[:, 0]) < 0).any() or count > _MOST_ROWS:
            return None
        before = float(part[-1, 0])
        parts.append(part)
    return np.concatenate(parts) if parts else None


def _values(place: str, number: int, row: list[str], wanted: list[tuple[str, int]], before: float) -> list[float]:
    found = []
    for name, column in wanted:
        cell = row[column].strip() if column < len(row) else ""
        try:
            value = float(cell) if cell else math.nan
        except ValueError:
            raise InputError(f"{place}: line {number}, {name}: expected a number, got {cell[:40]!r}") from None
        if name == "t" and not math.isfinite(value):
            raise InputError(f"{place}: line {number}, t: expected seconds, got {cell[:40]!r}")
        if name == "t" and value < before:
            raise InputError(f"{place}: line {number}, t: expected a time after {before}, got {value}")
        found.append(value if math.isfinite(value) else math.nan)
    return found
