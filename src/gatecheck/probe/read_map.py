"""The map of a timed read: a row for each run of blocks that read alike."""

import bisect
import math
import struct
import zlib

MAP_MAGIC = b"GCMAP1\n\0"
MAP_HEAD = struct.Struct("<8sIQ")  # magic, bytes of a sector, sectors of the disk
MAP_ROW = struct.Struct("<BQII")  # kind, first LBA, sectors of a block, blocks
READ_ROW, BAD_ROW, LEFT_ROW = 1, 2, 3
LATE_MS = 1500.0  # from here on a block was read after retries or resets: a place to keep away from
CHUNK_SECONDS, CHUNK_ROWS = 8.0, 200000
MOST_MAP = 64 << 20  # bytes of one piece of a map, unpacked


def step_of(ms):
    """Milliseconds in one byte: eighths of a power of two above 0.01 ms, from 1 on."""
    return max(1, min(255, 1 + int(8 * math.log2(max(ms, 0.01) / 0.01) + 0.5)))


class MapWriter:
    """What was read, compactly: runs of blocks with a byte of time each (docs/link-protocol.md). `take` gives what came
    since the last time."""

    def __init__(self, sector, sectors):
        self.head = MAP_HEAD.pack(MAP_MAGIC, sector, sectors)
        self.rows, self.count = [], 0

    def add(self, kind, lba, size, ms):
        last = self.rows[-1] if self.rows else None
        if (
            last
            and last[0] == kind
            and last[2] == size
            and last[1] + size * len(last[3]) == lba
            and len(last[3]) < 60000
        ):
            last[3].append(step_of(ms))
        else:
            self.rows.append((kind, lba, size, bytearray([step_of(ms)])))
        self.count += 1

    def take(self):
        body = b"".join(
            MAP_ROW.pack(kind, lba, size, len(times)) + bytes(times) for kind, lba, size, times in self.rows
        )
        self.rows, self.count = [], 0
        packed = zlib.compress(body, 6)
        return self.head + struct.pack("<I", len(packed)) + packed if body else b""


def rows_of(raw):
    """(kind, first LBA, sectors of a block, blocks) of map pages one after the other; what is no map is passed over."""
    found = []
    while raw[:8] == MAP_MAGIC and len(raw) >= MAP_HEAD.size + 4:
        size = struct.unpack_from("<I", raw, MAP_HEAD.size)[0]
        try:
            body, at = zlib.decompressobj().decompress(raw[MAP_HEAD.size + 4 : MAP_HEAD.size + 4 + size], MOST_MAP), 0
        except zlib.error:
            break
        while at + MAP_ROW.size <= len(body):
            row = MAP_ROW.unpack_from(body, at)
            found.append(row)
            at += MAP_ROW.size + row[3]
        raw = raw[MAP_HEAD.size + 4 + size :]
    return found


class Spans:
    """Sets of sectors as runs [first, end) in order."""

    def __init__(self):
        self.starts, self.ends = [], []

    def add(self, first, end):
        low, high = bisect.bisect_left(self.ends, first), bisect.bisect_right(self.starts, end)
        if low < high:
            first, end = min(first, self.starts[low]), max(end, self.ends[high - 1])
        self.starts[low:high], self.ends[low:high] = [first], [end]

    def missing(self, first, end):
        """The parts of [first, end) that are not in it."""
        found, at = [], bisect.bisect_right(self.ends, first)
        while first < end and at < len(self.starts) and self.starts[at] < end:
            if self.starts[at] > first:
                found.append((first, self.starts[at]))
            first = max(first, self.ends[at])
            at += 1
        return found + ([(first, end)] if first < end else [])

    def runs(self):
        return [(first, self.ends[place]) for place, first in enumerate(self.starts)]

    def total(self):
        return sum(self.ends) - sum(self.starts)
