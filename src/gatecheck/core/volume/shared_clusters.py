"""Files that lie in the same place: of two that claim one cluster at most one is whole, and nothing on the volume says
which."""

from __future__ import annotations

import heapq
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.tree import Filesystem, Node

_MOST_HELD, _MOST_SPANS = 64, 8
_WITH_LINKS = ("ntfs", "ext")
"""kinds in which a file may have several names; in the others two names of one place are two files"""


@dataclass(frozen=True, slots=True)
class SharedSpan:
    """Bytes of a file that another one claims too."""

    at: int
    length: int
    other: Node


def shared_by(volume: Filesystem, nodes: Sequence[Node]) -> dict[int, list[SharedSpan]]:
    """By place in `nodes`: what of each file another file or folder claims too; nothing for those that are alone. A
    file with several names is one."""
    start, end, owner, offset = [], [], [], []
    for place, node in enumerate(nodes):
        if node.deleted or node.link or node.opaque:
            continue
        try:
            at = 0
            for run in volume.runs(node):
                if run.at is not None and run.length > 0 and (at < node.size or node.is_folder):
                    length = run.length if node.is_folder else min(run.length, node.size - at)
                    start.append(run.at)
                    end.append(run.at + length)
                    owner.append(place)
                    offset.append(at)
                at += run.length
        except DecodeError:
            continue
    if not start:
        return {}
    starts, ends = np.array(start, np.int64), np.array(end, np.int64)
    order = np.argsort(starts, kind="stable")
    reach = np.maximum.accumulate(ends[order])
    if not (starts[order][1:] < reach[:-1]).any():
        return {}
    return _swept(volume, nodes, [(start[n], end[n], owner[n], offset[n]) for n in order.tolist()])


def _swept(
    volume: Filesystem, nodes: Sequence[Node], runs: Iterable[tuple[int, int, int, int]]
) -> dict[int, list[SharedSpan]]:
    found: dict[int, list[SharedSpan]] = {}
    held: list[tuple[int, int, int, int]] = []
    """runs that reach further: (end, start, owner, offset), the first to end first"""

    def note(place: int, at: int, length: int, other: int) -> None:
        own = found.setdefault(place, [])
        if len(own) < _MOST_SPANS and not nodes[place].is_folder:
            own.append(SharedSpan(at, length, nodes[other]))

    for start, end, owner, offset in runs:
        while held and held[0][0] <= start:
            heapq.heappop(held)
        for other_end, other_start, other, other_offset in held if len(held) <= _MOST_HELD else held[:_MOST_HELD]:
            if not _is_one(volume, nodes[owner], nodes[other]):
                length = min(end, other_end) - start
                note(owner, offset, length, other)
                note(other, other_offset + start - other_start, length, owner)
        heapq.heappush(held, (end, start, owner, offset))
    return {place: spans for place, spans in found.items() if spans}


def _is_one(volume: Filesystem, one: Node, other: Node) -> bool:
    return (
        one is other
        or (one.id == other.id and volume.kind.lower().startswith(_WITH_LINKS))
        or (one.is_folder and other.is_folder)
    )
