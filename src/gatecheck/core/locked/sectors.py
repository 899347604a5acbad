"""What is inside an encrypted volume, as sectors over the sectors that hold it: read on demand, decrypted in memory.

A sector that could not be read stays one that could not be read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from gatecheck.core.disk.sectors import BEYOND, Sectors, Span, WrappedSectors
from gatecheck.core.errors import InputError
from gatecheck.core.locked.ciphers import UnitCipher

CIPHERED, PLAIN, ZEROS = "ciphered", "plain", "zeros"


@dataclass(frozen=True, slots=True)
class Stretch:
    """Bytes `first` to `last` (not included) of what is inside. `kind`: how they are had; `source`: the byte of the
    locked volume at which they stand; `number`: the cipher's number of the unit at `source`; `patch`: (offset, bytes)
    that are put in their place."""

    first: int
    last: int
    kind: str
    source: int = 0
    number: int = 0
    patch: tuple[tuple[int, bytes], ...] = ()


class OpenedSectors:
    """The inside of a volume that starts at LBA `start` of `disk`, `size` bytes of it. `stretches`: in order, without
    gaps."""

    def __init__(self, disk: Sectors, start: int, size: int, stretches: Sequence[Stretch], cipher: UnitCipher) -> None:
        self._disk, self._start, self._size = disk, start, size
        self._stretches, self._cipher = list(stretches), cipher

    @property
    def sector(self) -> int:
        return self._disk.sector

    @property
    def length(self) -> int:
        return self._size // self.sector

    def stretch_at(self, byte: int) -> Stretch | None:
        return next((s for s in self._stretches if s.first <= byte < s.last), None)

    def source_of(self, lba: int) -> int | None:
        """The LBA of the disk whose bytes an LBA of the inside comes from; None for zeros."""
        own = self.stretch_at(lba * self.sector)
        if own is None or own.kind == ZEROS:
            return None
        return self._start + (own.source + lba * self.sector - own.first) // self.sector

    def inside_of(self, lba: int) -> int | None:
        """The LBA of the inside that comes from an LBA of the disk; None where there is none."""
        byte = (lba - self._start) * self.sector
        for own in self._stretches:
            if own.kind != ZEROS and own.source <= byte < own.source + own.last - own.first:
                return (own.first + byte - own.source) // self.sector
        return None

    def sources(self, runs: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
        """(LBA of the disk, sectors) that have to be read for these (LBA, sectors) of the inside."""
        found, size = list[tuple[int, int]](), self.sector
        for first, count in runs:
            for own in self._stretches:
                low, high = max(first * size, own.first), min((first + count) * size, own.last)
                if low < high and own.kind != ZEROS:
                    step = max(self._cipher.unit if own.kind == CIPHERED else size, size)
                    low = (low - own.first) // step * step
                    high = min(-(-(high - own.first) // step) * step, -(-(own.last - own.first) // step) * step)
                    found.append((self._start + (own.source + low) // size, (high - low) // size))
        return found

    def to_disk(self, writes: Sequence[tuple[int, bytes]]) -> list[tuple[int, bytes]]:
        """(byte of the disk, bytes) that make these (byte of the inside, whole sectors) stand there, encrypted where
        what stands there is. Raises InputError where the inside is none of the disk's bytes, DecodeError where what is
        encrypted with them was not read."""
        found = []
        for at, data in writes:
            done = at
            for own in self._stretches:
                low, high = max(at, own.first), min(at + len(data), own.last)
                if low >= high:
                    continue
                if own.kind == ZEROS or own.patch:
                    raise InputError(
                        f"write to byte {low} of an encrypted volume: expected one of its contents, got one of the "
                        "places that its encryption keeps for itself"
                    )
                done = high
                unit = max(self._cipher.unit if own.kind == CIPHERED else self.sector, self.sector)
                start = (low - own.first) // unit * unit
                end = min(-(-(high - own.first) // unit) * unit, own.last - own.first)
                first = (own.first + start) // self.sector
                plain = bytearray(self.read(first, (end - start) // self.sector).whole("sectors to be encrypted"))
                plain[low - own.first - start : high - own.first - start] = data[low - at : high - at]
                made = bytes(plain)
                if own.kind == CIPHERED:
                    made = self._cipher.encrypt(own.number + start // self._cipher.unit, made)
                found.append((self._start * self.sector + own.source + start, made))
            if done != at + len(data):
                raise InputError(f"write to byte {at}: expected one inside the volume, got one beyond its end")
        return found

    def read(self, lba: int, count: int) -> Span:
        size = self.sector
        begin, end = lba * size, (lba + max(0, count)) * size
        alone = self.stretch_at(begin) if 0 <= begin < end <= self.length * size else None
        if alone is not None and end <= alone.last and alone.kind != ZEROS:  # nearly always, and a copy less
            return Span(lba, size, *self._part(alone, begin, end))
        out, missing = bytearray(max(0, count) * size), {}
        for place in range(max(0, lba), lba + max(0, count)):
            if place >= self.length:
                missing[place] = BEYOND
        for own in self._stretches:
            first, last = max(begin, own.first), min(end, own.last)
            if first < last and own.kind != ZEROS:
                data, lost = self._part(own, first, last)
                out[first - begin : last - begin] = data
                missing |= lost
        return Span(lba, size, bytes(out), missing)

    def _part(self, own: Stretch, first: int, last: int) -> tuple[bytes, dict[int, str]]:
        """The bytes of one stretch, and the LBAs (of the inside) that are missing in it, with why."""
        size, unit = self.sector, self._cipher.unit if own.kind == CIPHERED else self.sector
        step = max(unit, size)
        low = (first - own.first) // step * step
        high = min(-(-(last - own.first) // step) * step, -(-(own.last - own.first) // step) * step)
        span = self._disk.read(self._start + (own.source + low) // size, (high - low) // size)
        shift = (own.first + low) // size - span.lba
        missing = {place + shift: why for place, why in span.missing.items()}
        data = span.data
        if own.kind == CIPHERED:
            data = self._cipher.decrypt(own.number + low // unit, data)
            if missing and not self._cipher.alone:
                for place, why in list(missing.items()):
                    start = (place * size - own.first) // step * step + own.first
                    missing |= dict.fromkeys(range(start // size, (start + step) // size), why)
            if missing:
                clear = bytearray(data)
                for place in missing:
                    at = place * size - own.first - low
                    clear[at : at + size] = bytes(size)
                data = bytes(clear)
        if own.patch:
            patched = bytearray(data)
            for at, new in own.patch:
                where = at - own.first - low
                if 0 <= where <= len(patched) - len(new):
                    patched[where : where + len(new)] = new
            data = bytes(patched)
        begin = first - own.first - low
        wanted = range(first // size, last // size)
        return data[begin : begin + last - first], {p: why for p, why in missing.items() if p in wanted}


class WithOpened(WrappedSectors):
    """A disk, with what is inside one of its volumes in the volume's place: as long as the disk; behind the inside,
    zeros to the volume's end."""

    def __init__(self, disk: Sectors, first: int, last: int, inside: OpenedSectors) -> None:
        super().__init__(disk)
        self.first, self.last, self.inside = first, last, inside

    @property
    def place(self) -> tuple[int, int]:
        """(first, last LBA) of the inside."""
        return self.first, self.first + self.inside.length - 1

    def seen_at(self, lba: int) -> int | None:
        """The LBA, in this view, of what stands at an LBA of the disk; None for the encryption's own records."""
        if not self.first <= lba <= self.last:
            return lba
        inside = self.inside.inside_of(lba)
        return None if inside is None else self.first + inside

    def read(self, lba: int, count: int) -> Span:
        count = max(0, count)
        data = bytearray()
        missing: dict[int, str] = {}
        at = lba
        while at < lba + count:
            if at < self.first:
                part = self._disk.read(at, min(lba + count, self.first) - at)
            elif at > self.last:
                part = self._disk.read(at, lba + count - at)
            else:
                there = min(lba + count, self.last + 1) - at
                offset = at - self.first
                got = self.inside.read(offset, max(0, min(there, self.inside.length - offset)))
                padded = got.data + bytes(there * self.sector - len(got.data))
                part = Span(at, self.sector, padded, {p + self.first: why for p, why in got.missing.items()})
            data += part.data
            missing |= part.missing
            at += len(part.data) // self.sector
        return Span(lba, self.sector, bytes(data), missing)
