"""Bytes onto a drive, and back."""

import fcntl
import mmap
import os
import struct
import typing

from .base import Refused, Untouched
from .settings import FILL_STEP

BLKZEROOUT = 4735


class Filled:
    """A disk that is being filled."""

    def __init__(self, descriptor, read, who):
        self.descriptor, self._read, self.who = descriptor, read, who

    def write(self, at, data):
        buffer = mmap.mmap(-1, len(data))
        buffer[:] = data
        if os.pwritev(self.descriptor, [buffer], at) < len(data):
            raise OSError(5, "fewer than %d bytes written" % len(data))

    def zero(self, at, length):
        fcntl.ioctl(self.descriptor, BLKZEROOUT, struct.pack("QQ", at, length))

    def read(self, at, length):
        return self._read(self.descriptor, at, length)

    def is_zero(self, at, length):
        zeros = bytes(FILL_STEP)
        parts = ((place, min(FILL_STEP, at + length - place)) for place in range(at, at + length, FILL_STEP))
        return all(self.read(place, part) == (zeros if part == FILL_STEP else bytes(part)) for place, part in parts)

    def flush(self):
        os.fsync(self.descriptor)


def put_bytes(
    read: "typing.Callable[[int, int], bytes]",
    write: "typing.Callable[[int, bytes], object]",
    writes: "list[tuple[int, bytes, bytes]]",
    size: int,
) -> "list[tuple[int, bytes]]":
    """The one way bytes get onto a drive. `read`(byte, length), `write`(byte, bytes). Returns what was read back of
    each place."""
    for at, before, after in writes:
        if at % size or len(after) % size:
            raise Untouched(
                "byte %d: expected whole sectors of %d bytes, got %d; nothing was written" % (at, size, len(after))
            )
        now = read(at, len(after))
        if now not in (before, after) and any(n not in (b, a) for n, b, a in zip(now, before, after, strict=False)):
            raise Untouched(
                "byte %d: expected what the bench has read there, got other bytes; nothing was written" % at
            )
    back = []
    for at, _, after in writes:
        if read(at, len(after)) != after:
            write(at, after)
        now = read(at, len(after))
        if now != after:
            raise Refused(
                "byte %d: expected to verify the written bytes, got other bytes; the bench has the old ones" % at
            )
        back.append((at, now))
    return back
