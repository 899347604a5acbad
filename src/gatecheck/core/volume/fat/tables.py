"""Two tables of FAT that differ: by which of them, place by place, more of the volume hangs together."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping

import numpy as np

from gatecheck.core.volume.fat.read import Fat, FolderSlot

Slots = Callable[[], Iterator[tuple[str, FolderSlot]]]
"""(path, entry) of everything that lives, by the table in use"""
_MOST_RUNS, _MOST_LOOKS = 32, 400_000
"""places in which two tables differ that are looked at one by one, and entries of folders that are looked at for it"""


def best_table(volume: Fat, copies: Mapping[int, bytes], slots: Slots) -> tuple[int, bytes]:
    """(number of the copy by which less is wrong, its bytes with what of the other one fits better). `copies`: those
    that can be read, one or two."""
    scores = {number: _troubles(volume, slots, volume.numbers(raw)) for number, raw in copies.items()}
    best = min(scores, key=lambda number: (scores[number], number))
    other = next((raw for number, raw in copies.items() if number != best), None)
    return best, copies[best] if other is None or not scores[best] else _of_both(
        volume, slots, copies[best], other, scores[best]
    )


def _of_both(volume: Fat, slots: Slots, better: bytes, other: bytes, score: int) -> bytes:
    """The better table with what of the other one makes more hang together: each may be hurt in a place of its own."""
    wide, raw = volume.wide, better
    differ = np.flatnonzero(volume.numbers(better) != volume.numbers(other)).tolist()
    runs: list[tuple[int, int]] = []
    for cluster in differ:
        runs = (
            [*runs[:-1], (runs[-1][0], cluster)] if runs and runs[-1][1] == cluster - 1 else [*runs, (cluster, cluster)]
        )
    if len(runs) > min(_MOST_RUNS, _MOST_LOOKS // max(1, sum(1 for _ in slots()))):
        return raw
    for first, last in runs:
        low, high = first * wide // 8, -(-(last + 1) * wide // 8)
        tried = raw[:low] + other[low:high] + raw[high:]
        now = _troubles(volume, slots, volume.numbers(tried))
        if now < score:
            raw, score = tried, now
    return raw


def _troubles(volume: Fat, slots: Slots, table: np.ndarray) -> int:
    """What does not hang together by this table: files and folders, clusters that two have, clusters that nobody has. A
    folder that leads into a file's place looks whole, and has less in it."""
    kept, volume._table = volume._table, np.pad(table, (0, max(0, volume.clusters + 2 - len(table))))
    try:
        wrong = int(table[0] & 0xFF != volume.volume.read(0, 1, "boot sector")[21])
        if volume.wide == 32:
            root = volume.chain(volume.root, volume.clusters)
            wrong += int(table[root[-1]]) < volume.end_mark if root else 1
        holders = np.zeros(volume.clusters + 2, np.int64)
        if volume.wide == 32:
            holders[root] += 1
        for _, slot in slots():
            need = -(-slot.size // volume.cluster)
            chain = volume.chain(slot.cluster(volume.wide), volume.clusters)
            ends = bool(chain) and int(table[chain[-1]]) >= volume.end_mark
            wrong += (len(chain) != need or (bool(chain) and not ends)) if not slot.is_folder else not ends
            holders[chain] += 1
        taken = volume._table[2 : len(holders)]
        lost = np.count_nonzero((taken != 0) & (taken != volume.bad_mark) & (holders[2:] == 0))
        return wrong + int(np.count_nonzero(holders > 1)) + int(lost)
    finally:
        volume._table = kept
