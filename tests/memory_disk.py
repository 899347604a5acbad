"""A disk in memory, for readers of disks and volumes."""

from __future__ import annotations

from gatecheck.core.disk.sectors import Span


class Memory:
    """A disk in memory; some of its sectors cannot be read."""

    def __init__(self, raw: bytes, *gone: int) -> None:
        self.raw, self.gone, self.sector, self.length = raw, frozenset(gone), 512, len(raw) // 512

    def read(self, lba: int, count: int) -> Span:
        missing = {n: "unreadable" for n in range(lba, lba + count) if n in self.gone} | dict.fromkeys(
            range(max(lba, self.length), lba + count), "beyond the end"
        )
        data = bytearray(self.raw[lba * 512 : (lba + count) * 512].ljust(count * 512, b"\0"))
        for n in missing:
            data[(n - lba) * 512 : (n - lba + 1) * 512] = bytes(512)
        return Span(lba, 512, bytes(data), missing)
