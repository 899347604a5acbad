"""CRC-32C (Castagnoli) as ext4 uses it: seeded, without a last inversion; of one text, or of many of equal length at
once.

RFC 3720, appendix B.4, for the polynomial.
"""

from __future__ import annotations

import google_crc32c
import numpy as np

_POLYNOMIAL = 0x82F63B78


def _made() -> list[int]:
    table = []
    for byte in range(256):
        value = byte
        for _ in range(8):
            value = value >> 1 ^ _POLYNOMIAL if value & 1 else value >> 1
        table.append(value)
    return table


_TABLE = _made()
_WIDE = np.array(_TABLE, np.uint32)


def crc32c(seed: int, data: bytes) -> int:
    return int(google_crc32c.extend(seed ^ 0xFFFFFFFF, bytes(data))) ^ 0xFFFFFFFF


def crc32c_rows(seeds: np.ndarray, rows: np.ndarray) -> np.ndarray:
    """`rows`: uint8 of shape (number, length), `seeds`: uint32 of shape (number,) -> uint32 of that shape."""
    value = seeds.astype(np.uint32)
    for column in rows.T:
        value = _WIDE[(value ^ column) & 0xFF] ^ value >> np.uint32(8)
    return value


def crc16(seed: int, data: bytes) -> int:
    """CRC-16 of polynomial 8005h, reflected, as older ext4 group descriptors use it."""
    value = seed
    for byte in data:
        value ^= byte
        for _ in range(8):
            value = value >> 1 ^ 0xA001 if value & 1 else value >> 1
    return value


def one_byte_off(data: bytes, computed: int, told: int) -> list[tuple[int, int]]:
    """(place, bits) of every single byte of `data` that, with these bits turned over, gives the sum `told` where the
    data as it is gives `computed`. Of n bytes 255 n are tried: that one fits by chance is 255 n in 2^32."""
    wanted = computed ^ told
    if not wanted:
        return []
    single = np.array([_TABLE[1 << bit] for bit in range(8)], np.uint32)
    effects = np.empty((len(data), 8), np.uint32)
    for place in range(len(data) - 1, -1, -1):
        effects[place] = single
        single = _WIDE[single & 0xFF] ^ single >> np.uint32(8)
    found = []
    for bits in range(1, 256):
        effect = np.bitwise_xor.reduce(effects[:, [bit for bit in range(8) if bits >> bit & 1]], axis=1)
        found += [(int(place), bits) for place in np.flatnonzero(effect == np.uint32(wanted))]
    return found
