"""Where on an image the volume is that an order means."""

from __future__ import annotations

from collections.abc import Sequence

from gatecheck.core.disk.division import Piece, division_of
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import InputError
from gatecheck.core.volume.assemble import RAID, Assembled, assembled, largest_readable
from gatecheck.core.volume.check import opened


def pieces_of(disk: Sectors) -> list[Piece]:
    """The partitions of the image, those that are cut off it included."""
    return [p for p in division_of(disk).pieces if not p.is_extended]


def asked_place(disk: Sectors, at: int | None, partition: int | None) -> tuple[int, int] | None:
    """(first, last LBA) of what --at or --partition names, None where neither was given. Raises InputError."""
    length = disk.length or 0
    if at is not None:
        if not 0 <= at < length * disk.sector or at % disk.sector:
            raise InputError(f"--at: expected a multiple of {disk.sector} below {length * disk.sector}, got {at}")
        first = at // disk.sector
        piece = next((p for p in pieces_of(disk) if p.first == first), None)
        return first, min(piece.last, length - 1) if piece else length - 1
    if partition is None:
        return None
    pieces = {p.number: p for p in pieces_of(disk)}
    own = pieces.get(partition)
    if own is None:
        if not pieces:
            raise InputError(
                f"--partition: expected a partition's number, got {partition}: the image has no partitions"
            )
        raise InputError(f"--partition: expected one of {', '.join(map(str, pieces))}, got {partition}")
    if own.first >= length:
        raise InputError(
            f"--partition {partition}: expected a start below {length}, got {own.first}: the image is cut short, or is "
            f"of another disk"
        )
    return own.first, min(own.last, length - 1)


def place_of(disk: Sectors, at: int | None, partition: int | None) -> tuple[int, int]:
    """(first, last LBA) of the volume that is meant. Raises InputError."""
    asked = asked_place(disk, at, partition)
    if asked is not None:
        return asked
    length = disk.length or 0
    whole = opened(disk, 0, length - 1)
    inside = [p for p in pieces_of(disk) if p.first < length]
    if (whole.volume is not None and not (whole.from_copy and inside)) or not inside:
        return 0, length - 1
    readable = [p for p in inside if opened(disk, p.first, min(p.last, length - 1)).volume is not None] or inside
    largest = max(readable, key=lambda p: p.last - p.first)
    return largest.first, min(largest.last, length - 1)


def volume_in(
    disk: Sectors, at: int | None, partition: int | None, others: Sequence[Sectors] = ()
) -> tuple[Sectors, tuple[int, int]]:
    """(disk, its first and last LBA) of the volume that is meant: where a partition is a member of a set or of a group,
    what that holds. Raises InputError."""
    asked = asked_place(disk, at, partition)
    sets = assembled((disk, *others))
    if asked is None:
        asked = place_of(disk, None, None)
        own = largest_readable(sets)
        plain = opened(disk, *asked)
        room = (asked[1] - asked[0] + 1) * disk.sector
        if own is not None and (plain.volume is None or (own[2] - own[1] + 1) * own[0].sector > room):
            return own[0], (own[1], own[2])
        if plain.volume is None and plain.known is None:
            _refuse(sets)
        return disk, asked
    mine = [own for own in sets if (0, asked[0]) in own.members]
    if mine and opened(disk, *asked).volume is None:
        own = largest_readable(mine)
        if own is not None:
            return own[0], (own[1], own[2])
        _refuse(mine)
    return disk, asked


def _refuse(sets: Sequence[Assembled]) -> None:
    """Raises InputError where a set needs more than is here."""
    own = next((s for s in sets if s.sectors is None and s.kind == RAID), None)
    if own is not None:
        raise InputError(
            f"{own.level} set “{own.name}”: {own.problem}; add the other drives or their images by --with IMAGE"
        )
