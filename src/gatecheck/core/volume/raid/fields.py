"""Sums of RAID 6 over the field of 256 values (H. P. Anvin, The mathematics of RAID-6)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

_POWERS = [1]
"""of the generator 2, by the polynomial 11Dh"""
for _ in range(254):
    _POWERS.append(_POWERS[-1] << 1 ^ (0x11D if _POWERS[-1] & 0x80 else 0))
_LOGS = {value: exponent for exponent, value in enumerate(_POWERS)}


def power(exponent: int) -> int:
    return _POWERS[exponent % 255]


def inverse(value: int) -> int:
    """Raises KeyError for 0, which has none."""
    return _POWERS[-_LOGS[value] % 255]


def product(a: int, b: int) -> int:
    return _POWERS[(_LOGS[a] + _LOGS[b]) % 255] if a and b else 0


def times(data: NDArray[np.uint8], factor: int) -> NDArray[np.uint8]:
    """Every byte times the factor."""
    table = np.array([product(value, factor) for value in range(256)], np.uint8)
    return table[data]
