"""Does something turn, and how fast: a comb of harmonics at one of the speeds that disks have, told from hum and fans
by fitting just there.

A disk turns at a speed that its crystal holds within a fraction of a percent; mains hum stands at multiples of 50 or 60
Hz; a fan's blades at any frequency, and that wanders."""

from __future__ import annotations

from dataclasses import dataclass
from math import gcd

import numpy as np
from scipy.ndimage import median_filter
from scipy.signal import welch

SPEEDS = (4200, 5400, 5900, 7200, 10_000, 15_000)
"""turns a minute"""
_HARMONICS, _WITHIN, _CAP = 10, 0.003, 14.0
_FLOOR = 25.0
"""Hz to each side over which the floor beside a line is taken"""
_NEEDED, _CLEAR = 3, 4.5


@dataclass(frozen=True, slots=True)
class Rotation:
    """`rpm`: None where nothing turns that can be told; `lines`: harmonics that stand out; `clear`: how many deviations
    the comb stands above combs of other spacings."""

    rpm: int | None
    lines: int
    clear: float
    hum: bool


def rotation_of(samples: np.ndarray, rate: int) -> Rotation:
    """`samples`: float, shape (n,), in any unit."""
    size = min(len(samples), int(rate * 4))
    if size < rate:
        return Rotation(None, 0, 0.0, hum=False)
    frequency, power = welch(samples, rate, window="hann", nperseg=size, noverlap=size // 2, average="median")
    step = float(frequency[1])
    level = 10 * np.log10(power + 1e-20)
    floor = median_filter(level, size=max(3, int(2 * _FLOOR / step) | 1), mode="nearest")
    above = level - floor
    hum = next((mains for mains in (50, 60) if sum(_at(above, step, mains * n, 0.004) > 8 for n in (1, 3, 5)) >= 2), 0)
    best = max(
        (
            (*_score(above, step, rpm / 60, hum, shift), rpm)
            for rpm in SPEEDS
            for shift in np.linspace(1 - _WITHIN, 1 + _WITHIN, 9)
        ),
        key=lambda s: s[0],
    )
    others = np.array(
        [
            _score(above, step, f, hum, 1.0)[0]
            for f in np.linspace(47, 260, 240)
            if all(abs(f * 60 / rpm - 1) > 0.03 for rpm in SPEEDS)
        ]
    )
    spread = float(np.std(others)) + 1e-9
    clear = (best[0] - float(np.mean(others))) / spread
    good = best[1] >= _NEEDED and clear > _CLEAR and best[2] == 1
    return Rotation(best[3] if good else None, best[1], round(clear, 1), hum=bool(hum))


def _at(above: np.ndarray, step: float, frequency: float, within: float = 0.002) -> float:
    low, high = round(frequency * (1 - within) / step), round(frequency * (1 + within) / step) + 1
    if high >= len(above):
        return 0.0
    return float(above[max(0, low - 1) : high + 1].max())


def _score(above: np.ndarray, step: float, base: float, hum: int, shift: float) -> tuple[float, int, int]:
    """(sum of how far harmonics stand out, how many do, their greatest common divisor). A line that hum explains counts
    for nothing; lines that are all multiples of one number are the comb of something else."""
    total, lines, common = 0.0, 0, 0
    for n in range(1, _HARMONICS + 1):
        frequency = base * n * shift
        if hum and abs(frequency / hum - round(frequency / hum)) < 0.02:
            continue
        own = min(_CAP, max(0.0, _at(above, step, frequency)))
        total += max(0.0, own - 3)
        if own > 6:
            lines, common = lines + 1, gcd(common, n)
    return total, lines, common
