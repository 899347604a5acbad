"""Does the drive still answer? A medium that cannot be read costs revolutions, then an error, and the next block reads
again; a drive that hangs waits for resets, answers at all places with an error at once, or never again."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from gatecheck.core.scan.read import LEFT, READ, UNREADABLE, Floats, ReadMap

Flags = NDArray[np.bool_]

_HANG_MS = 4000.0
"""from here on a block that reads all the same did not wait for revolutions"""
_RESET_MS = 15_000.0
"""longer than any drive tries by itself: somebody reset it"""
_MINUTES_MS = 60_000.0
_AT_ONCE_MS = 5.0
"""an error that comes sooner than a few revolutions: nothing was looked for on a medium"""
_LAST, _TAIL, _FEWEST = 16, 64, 8
_USUAL_TIMES = 2.5
GONE = 3.0
"""the score of a drive that answers no more: no pattern of what reads badly explains it"""


def stall_score(found: ReadMap, expected: Floats) -> float:
    """How much speaks for a drive that hangs, 0 (nothing) to 3 (it is gone). expected: milliseconds of each block by
    its place, shape (n,), in the order of reading."""
    tried = found.state != LEFT
    ms, state, expected = found.ms[tried], found.state[tried], expected[tried]
    lba, many = found.lba[tried], found.blocks[tried]
    if not len(ms):
        return 0.0
    longer = (ms > expected + _HANG_MS) & (ms > _USUAL_TIMES * expected)
    hangs = longer & ((state == READ) | (ms > expected + _RESET_MS))
    # who goes back to what failed before meets what fails, not a hang
    fresh = lba >= np.maximum.accumulate(lba)
    hangs &= fresh | (state == READ)
    tail = max(float(np.average(hangs[-last:], weights=many[-last:])) for last in (_LAST, _TAIL))
    overall = float(np.average(hangs, weights=many))
    score = 0.0
    if hangs.sum() >= 3 and int(hangs[-_TAIL:].sum()) >= 3:
        score = 1.0 + min(4.0 * tail, 1.0) + min(4.0 * overall, 1.0)
    elif hangs.sum() >= _FEWEST:
        score = 0.6 + min(10.0 * overall, 1.0)
    if (
        longer[-1]
        and ms[-1] > expected[-1] + _MINUTES_MS
        and ms[-1] > 10.0 * max(float(np.median(ms[longer])), _HANG_MS)
    ) or (longer[-1] and ms[-1] > expected[-1] + 1.5 * _MINUTES_MS):
        score = max(score, GONE)
    return max(score, _gone(ms, state, expected))


def _gone(ms: Floats, state: NDArray[np.int8], expected: Floats) -> float:
    """From some block on nothing but errors that come at once, for longer than any stretch before after which it read
    again."""
    good = np.flatnonzero(state != UNREADABLE)
    last = int(good[-1]) + 1 if len(good) else 0
    rest = ms[last:]
    before = int(np.diff(good, prepend=-1).max()) - 1 if len(good) else 0
    if len(rest) < max(_FEWEST, 2 * before):
        return 0.0
    quick = rest[1:] < np.maximum(_AT_ONCE_MS, 0.5 * expected[last + 1 :])
    return GONE if quick.mean() > 0.9 else 0.0
