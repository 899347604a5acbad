"""A disk as a file: an image, or a block device, read and never written."""

from __future__ import annotations

import fcntl
import os
import stat
import weakref
from pathlib import Path

from gatecheck.core.disk.sectors import BEYOND, UNREADABLE, Span, guessed_sector
from gatecheck.core.errors import InputError

_SMALLEST, _USUAL = 1024, 512
_SECTOR_BYTES = 0x1268
"""BLKSSZGET of linux/fs.h"""


class ImageSectors:
    """`Sectors` over a file. What cannot be read is named; nothing of it is kept."""

    def __init__(self, path: str, *, sector: int | None = None) -> None:
        """Raises InputError for what is no image, or cannot be opened."""
        place = Path(path)
        try:
            self._descriptor = os.open(place, os.O_RDONLY)
            weakref.finalize(self, os.close, self._descriptor)
            told = os.fstat(self._descriptor)
            size = os.lseek(self._descriptor, 0, os.SEEK_END)
        except OSError as error:
            raise InputError(f"{path}: expected a disk image or a block device, got {error.strerror}") from error
        if not (stat.S_ISREG(told.st_mode) or stat.S_ISBLK(told.st_mode)):
            raise InputError(
                f"{path}: expected a disk image or a block device, got a "
                f"{'directory' if stat.S_ISDIR(told.st_mode) else 'file of another kind'}"
            )
        if size < _SMALLEST:
            raise InputError(f"{path}: expected at least {_SMALLEST} bytes, got {size}")
        self._size = size
        self._sector = sector or self._told_sector(told.st_mode)

    def _told_sector(self, mode: int) -> int:
        """Of a block device as the kernel says, of an image as its tables say."""
        if stat.S_ISBLK(mode):
            try:
                return int.from_bytes(fcntl.ioctl(self._descriptor, _SECTOR_BYTES, bytes(4)), "little") or _USUAL
            except OSError:
                pass
        try:
            end = os.pread(self._descriptor, 4096, max(0, self._size // 4096 * 4096 - 4096))
            return guessed_sector(os.pread(self._descriptor, 4104, 0), end, self._size)
        except OSError:  # a disk whose first or last sector cannot be read
            return _USUAL

    @property
    def sector(self) -> int:
        return self._sector

    @property
    def length(self) -> int | None:
        return self._size // self._sector

    def read(self, lba: int, count: int) -> Span:
        size, count = self._sector, max(0, count)
        inside = max(0, min(count, self._size // size - lba)) if lba >= 0 else 0
        missing = dict.fromkeys(range(lba + inside, lba + count), BEYOND)
        data = bytearray()
        try:
            raw = os.pread(self._descriptor, inside * size, lba * size) if inside else b""
            if len(raw) == count * size:
                return Span(lba, size, raw, {})
            data = bytearray(count * size)
            data[: len(raw)] = raw
        except OSError:
            data = bytearray(count * size)
            for place in range(lba, lba + inside):
                try:
                    data[(place - lba) * size : (place - lba + 1) * size] = os.pread(
                        self._descriptor, size, place * size
                    )
                except OSError:
                    missing[place] = UNREADABLE
        return Span(lba, size, bytes(data), missing)
