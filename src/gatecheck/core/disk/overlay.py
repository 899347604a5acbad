"""A disk as it would be after some writes: what a plan is judged on before anything is written."""

from __future__ import annotations

from collections.abc import Iterable

from gatecheck.core.disk.sectors import Sectors, Span, WrappedSectors


class Overlay(WrappedSectors):
    """`Sectors` with bytes laid over them. `writes`: (byte, data), later ones over earlier ones. A sector that cannot
    be read stays so unless it is covered whole."""

    def __init__(self, disk: Sectors, writes: Iterable[tuple[int, bytes]]) -> None:
        super().__init__(disk)
        self._writes = [(at, data) for at, data in writes if data]

    def read(self, lba: int, count: int) -> Span:
        span = self._disk.read(lba, count)
        start, end = lba * self.sector, (lba + count) * self.sector
        touched = [(at, data) for at, data in self._writes if at < end and start < at + len(data)]
        if not touched:
            return span
        out, missing = bytearray(span.data), dict(span.missing)
        for at, data in touched:
            low, high = max(at, start), min(at + len(data), end)
            out[low - start : high - start] = data[low - at : high - at]
            for place in range(-(-low // self.sector), high // self.sector):
                missing.pop(place, None)
        return Span(lba, self.sector, bytes(out), missing)
