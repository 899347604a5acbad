"""What a copy on the bench holds with its encrypted volumes open: in the helper process, where the keys are used.

Where the copy holds nothing for as long as a piece, nothing was ever encrypted: free space that was never written, or
was trimmed. It stays zeros, or a new drive would be filled with noise."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.locked.sectors import CIPHERED, PLAIN, OpenedSectors, WithOpened
from gatecheck.server.volumes.open_volume import VolumeView, view_of
from gatecheck.server.volumes.partial_image import READ, PartSectors, SectorStore

Place = tuple[int, int]
"""first and last sector of a partition"""


@dataclass(frozen=True, slots=True)
class PlainPiece:
    """`data`: None where `zeros` bytes from there are zeros; `missing`: sectors that are not in the copy; `opened`:
    encrypted volumes of it that a key opens."""

    data: bytes | None
    zeros: int
    missing: int
    opened: int


def _views(ground: SectorStore, places: Sequence[Place], keys: Sequence[bytes]) -> list[tuple[Place, VolumeView]]:
    views = [(place, view_of(ground, *place, keys)) for place in places]
    return [(place, view) for place, view in views if view.open is not None]


def opens_task(told: object, ground: SectorStore, places: Sequence[Place], keys: Sequence[bytes]) -> list[str]:
    """Names of the encryptions at these places that one of the keys opens."""
    return [view.locked.name for _, view in _views(ground, places, keys) if view.locked is not None]


def plain_task(
    told: object, ground: SectorStore, places: Sequence[Place], keys: Sequence[bytes], at: int, length: int
) -> PlainPiece:
    """`length` bytes from byte `at`, whole sectors both; or how many zeros there are, `length` or more."""
    part, views = PartSectors(ground), _views(ground, places, keys)
    disk: Sectors = part
    for (first, last), view in views:
        assert view.open is not None
        disk = WithOpened(disk, first, last, view.open.inside)
    size = ground.sector
    source, room = _source(ground, [(p, v.open.inside) for p, v in views if v.open is not None], at)
    zeros = min(room, _hole(ground.image, source)) // size * size if source is not None else 0
    if zeros >= length and part.marks.is_all((source or 0) // size, zeros // size, READ):
        return PlainPiece(None, zeros, 0, len(views))
    span = disk.read(at // size, length // size)
    data = span.data if span.data.strip(b"\0") else None
    return PlainPiece(data, 0 if data else length, len(span.missing), len(views))


def _source(ground: SectorStore, opened: Sequence[tuple[Place, OpenedSectors]], at: int) -> tuple[int | None, int]:
    """(the byte of the copy that a byte of the plain disk comes from, None where it is made up; how many bytes from
    there it goes on so)."""
    size = ground.sector
    for (first, last), inside in opened:
        if not first * size <= at < (last + 1) * size:
            continue
        own = inside.stretch_at(at - first * size)
        if own is None or own.kind not in (CIPHERED, PLAIN) or own.patch:
            return None, 0
        offset = at - first * size - own.first
        return first * size + own.source + offset, own.last - own.first - offset
    next_one = min((first * size for (first, _), _ in opened if first * size > at), default=ground.sectors * size)
    return at, next_one - at


def _hole(image: str, at: int) -> int:
    """Bytes from there of which the file holds none: zeros."""
    descriptor = os.open(image, os.O_RDONLY)
    try:
        end = os.fstat(descriptor).st_size
        try:
            return os.lseek(descriptor, at, os.SEEK_DATA) - at
        except OSError:  # nothing but a hole to its end
            return max(0, end - at)
    finally:
        os.close(descriptor)
