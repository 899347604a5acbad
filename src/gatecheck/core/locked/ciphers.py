"""Ciphers of encrypted volumes over many units (sectors) at once, composed from AES of `cryptography`.

XTS: IEEE 1619-2018, 5; CBC: NIST SP 800-38A, 6.2; ESSIV: Linux, Documentation/admin-guide/device-mapper/dm-crypt.rst;
diffusers A and B: N. Ferguson, AES-CBC + Elephant diffuser, 2006, 4.3. NumPy does what stands between the blocks, so
that a unit costs no call of its own.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from typing import Protocol

import numpy as np
import numpy.typing as npt
from cryptography.hazmat.primitives.ciphers import Cipher, CipherContext, algorithms, modes

Words = npt.NDArray[np.uint64]
_CHUNK, _AT_ONCE = 1 << 17, 32
_BLOCK = 16


class UnitCipher(Protocol):
    """`unit`: bytes that are encrypted as one; `alone`: may a part of a unit (whole 16-byte blocks) be read where
    another part of it is missing?"""

    unit: int
    alone: bool

    def decrypt(self, first: int, data: bytes) -> bytes:
        """Whole units, the first of them number `first` -> as many bytes in plain."""
        ...

    def encrypt(self, first: int, data: bytes) -> bytes: ...


class Xts:
    """AES-XTS. `key`: both halves, 32 or 64 bytes; `number(unit)` is the tweak: the units' numbers times `step`, plus
    `offset`."""

    alone = True

    def __init__(self, key: bytes, unit: int, *, step: int = 1, offset: int = 0, bits: int = 64) -> None:
        half = len(key) // 2
        self.unit, self._step, self._offset, self._bits = unit, step, offset, bits
        self._data, self._tweak = algorithms.AES(key[:half]), algorithms.AES(key[half:])

    def decrypt(self, first: int, data: bytes) -> bytes:
        return self._run(first, data, lambda: Cipher(self._data, modes.ECB()).decryptor())

    def encrypt(self, first: int, data: bytes) -> bytes:
        return self._run(first, data, lambda: Cipher(self._data, modes.ECB()).encryptor())

    def _run(self, first: int, data: bytes, made: Callable[[], CipherContext]) -> bytes:
        numbers, blocks = Cipher(self._tweak, modes.ECB()).encryptor(), made()
        out = np.empty(len(data) // 8, np.uint64)
        units = min(max(1, _CHUNK // self.unit), len(data) // self.unit)
        tweaks = _Tweaks(units, self.unit)
        masked = np.empty(units * self.unit // 8, np.uint64)
        middle = np.empty(len(masked) + 2, np.uint64)  # the library asks for room for a block more
        for start in range(0, len(data), units * self.unit):
            count = min(units, (len(data) - start) // self.unit)
            own = _numbers(first + start // self.unit, count, self._step, self._offset, self._bits)
            mask = tweaks.of(np.frombuffer(numbers.update(own.tobytes()), np.uint64).reshape(count, 2))
            size = count * self.unit // 8
            np.bitwise_xor(np.frombuffer(data, np.uint64, size, start), mask, out=masked[:size])
            blocks.update_into(masked[:size].data.cast("B"), middle.data.cast("B"))
            np.bitwise_xor(middle[:size], mask, out=out[start // 8 : start // 8 + size])
        return out.tobytes()


def _numbers(first: int, count: int, step: int, offset: int, bits: int) -> Words:
    numbers = np.zeros((count, 2), np.uint64)
    numbers[:, 0] = np.arange(first, first + count, dtype=np.uint64) * np.uint64(step) + np.uint64(offset)
    if bits == 32:
        numbers[:, 0] &= np.uint64(0xFFFFFFFF)
    return numbers


class _Tweaks:
    """Tweaks of all blocks of up to so many units at a time, in room that is kept: fresh room costs more than what is
    reckoned in it."""

    def __init__(self, units: int, unit: int) -> None:
        self.blocks = unit // _BLOCK
        self.at_once = min(self.blocks, _AT_ONCE)
        self.both = np.empty((units, self.blocks, 2), np.uint64)
        self.low, self.high = np.empty((units, self.blocks), np.uint64), np.empty((units, self.blocks), np.uint64)
        self.own, self.over = (np.empty((units, self.at_once - 1), np.uint64) for _ in range(2))
        self.powers = np.arange(1, self.at_once, dtype=np.uint64)
        self.rest = np.uint64(64) - self.powers

    def of(self, first: Words) -> Words:
        """(units, 2) tweaks of each unit's first block -> those of all blocks, flat: times x to the block's number, in
        GF(2^128) modulo x^128 + x^7 + x^2 + x + 1; the first 32 at once, the rest by doubling what is there."""
        count, there = len(first), self.at_once
        low, high, own, over = self.low[:count], self.high[:count], self.own[:count], self.over[:count]
        low[:, 0], high[:, 0] = first[:, 0], first[:, 1]
        np.right_shift(first[:, 1:], self.rest, out=over)
        np.left_shift(first[:, :1], self.powers, out=own)
        own ^= over
        for more in (1, 1, 5):  # what is carried out, times x, x^2, x^7
            over <<= np.uint64(more)
            own ^= over
        low[:, 1:there] = own
        np.left_shift(first[:, 1:], self.powers, out=own)
        np.right_shift(first[:, :1], self.rest, out=over)
        np.bitwise_or(own, over, out=high[:, 1:there])
        while there < self.blocks:
            new = min(there, self.blocks - there)
            low[:, there : there + new], high[:, there : there + new] = _times(low[:, :new], high[:, :new], there)
            there *= 2
        both = self.both[:count]
        both[:, :, 0], both[:, :, 1] = low, high
        return both.reshape(-1)


def _times(low: Words, high: Words, power: int) -> tuple[Words, Words]:
    """Times x to `power` (1, 2, 4, ... 32, or a multiple of 64), modulo x^128 + x^7 + x^2 + x + 1."""
    u = np.uint64
    if power >= 64:
        for _ in range(power // 64):
            over = high
            high = low ^ (over >> u(63)) ^ (over >> u(62)) ^ (over >> u(57))
            low = over ^ (over << u(1)) ^ (over << u(2)) ^ (over << u(7))
        return low, high
    over = high >> u(64 - power)
    return (
        (low << u(power)) ^ over ^ (over << u(1)) ^ (over << u(2)) ^ (over << u(7)),
        (high << u(power)) | (low >> u(64 - power)),
    )


class Cbc:
    """AES-CBC with a first vector for each unit. `vectors(first, count)`: uint8 of shape (count, 16)."""

    alone = False

    def __init__(self, key: bytes, unit: int, vectors: Callable[[int, int], bytes]) -> None:
        self.unit, self._key, self._vectors = unit, algorithms.AES(key), vectors

    def decrypt(self, first: int, data: bytes) -> bytes:
        count = len(data) // self.unit
        room = bytearray(len(data) + _BLOCK - 1)
        Cipher(self._key, modes.ECB()).decryptor().update_into(data, room)  # a quarter of what `update` takes
        middle = memoryview(room)[: len(data)]
        before = np.empty((count, self.unit), np.uint8)
        rows = np.frombuffer(data, np.uint8).reshape(count, self.unit)
        before[:, _BLOCK:] = rows[:, :-_BLOCK]
        before[:, :_BLOCK] = np.frombuffer(self._vectors(first, count), np.uint8).reshape(count, _BLOCK)
        return (np.frombuffer(middle, np.uint8).reshape(count, self.unit) ^ before).tobytes()

    def encrypt(self, first: int, data: bytes) -> bytes:
        """Unit by unit: each block waits for the one before it."""
        count, out = len(data) // self.unit, []
        vectors = self._vectors(first, count)
        for place in range(count):
            made = Cipher(self._key, modes.CBC(vectors[place * _BLOCK : (place + 1) * _BLOCK])).encryptor()
            out.append(made.update(data[place * self.unit : (place + 1) * self.unit]))
        return b"".join(out)


def offset_vectors(key: bytes, unit: int) -> Callable[[int, int], bytes]:
    """The unit's byte offset, encrypted with the key itself."""
    own = algorithms.AES(key)

    def vectors(first: int, count: int) -> bytes:
        return Cipher(own, modes.ECB()).encryptor().update(_numbers(first, count, unit, 0, 64).tobytes())

    return vectors


def plain_vectors(step: int, offset: int, bits: int) -> Callable[[int, int], bytes]:
    return lambda first, count: _numbers(first, count, step, offset, bits).tobytes()


def hashed_vectors(key: bytes, name: str, step: int, offset: int) -> Callable[[int, int], bytes]:
    """The unit's number, encrypted with a hash of the key (ESSIV)."""
    own = algorithms.AES(hashlib.new(name, key).digest())

    def vectors(first: int, count: int) -> bytes:
        return Cipher(own, modes.ECB()).encryptor().update(_numbers(first, count, step, offset, 64).tobytes())

    return vectors


class Diffused:
    """AES-CBC, then the two diffusers, then the sector key."""

    alone = False
    _A, _B = (9, 0, 13, 0), (0, 10, 0, 25)

    def __init__(self, key: bytes, tweak: bytes, unit: int) -> None:
        self.unit, self._cbc, self._tweak = unit, Cbc(key, unit, offset_vectors(key, unit)), algorithms.AES(tweak)

    def decrypt(self, first: int, data: bytes) -> bytes:
        count = len(data) // self.unit
        words = self._columns(self._cbc.decrypt(first, data), count)
        size = len(words)
        for _ in range(3):
            for i in range(size):
                words[i] += words[(i + 2) % size] ^ _turned(words[(i + 5) % size], self._B[i % 4])
        for _ in range(5):
            for i in range(size):
                words[i] += words[i - 2] ^ _turned(words[i - 5], self._A[i % 4])
        return (self._rows(words, count) ^ self._sector_keys(first, count)).tobytes()

    def encrypt(self, first: int, data: bytes) -> bytes:
        count = len(data) // self.unit
        rows = np.frombuffer(data, np.uint8).reshape(count, self.unit) ^ self._sector_keys(first, count)
        words = self._columns(rows.tobytes(), count)
        size = len(words)
        for _ in range(5):
            for i in reversed(range(size)):
                words[i] -= words[i - 2] ^ _turned(words[i - 5], self._A[i % 4])
        for _ in range(3):
            for i in reversed(range(size)):
                words[i] -= words[(i + 2) % size] ^ _turned(words[(i + 5) % size], self._B[i % 4])
        return self._cbc.encrypt(first, self._rows(words, count).tobytes())

    def _columns(self, data: bytes, count: int) -> npt.NDArray[np.uint32]:
        return np.ascontiguousarray(np.frombuffer(data, "<u4").reshape(count, self.unit // 4).T)

    def _rows(self, words: npt.NDArray[np.uint32], count: int) -> npt.NDArray[np.uint8]:
        return np.ascontiguousarray(words.T).view(np.uint8).reshape(count, self.unit)

    def _sector_keys(self, first: int, count: int) -> npt.NDArray[np.uint8]:
        numbers = _numbers(first, count, self.unit, 0, 64)
        halves = np.repeat(numbers, 2, axis=0).view(np.uint8).reshape(count, 2, _BLOCK)
        halves[:, 1, 15] = 0x80
        made = Cipher(self._tweak, modes.ECB()).encryptor().update(halves.tobytes())
        return np.tile(np.frombuffer(made, np.uint8).reshape(count, 2 * _BLOCK), (1, self.unit // (2 * _BLOCK)))


def _turned(words: npt.NDArray[np.uint32], by: int) -> npt.NDArray[np.uint32]:
    return words if not by else (words << np.uint32(by)) | (words >> np.uint32(32 - by))
