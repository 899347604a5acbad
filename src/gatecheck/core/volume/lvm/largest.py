"""The volume of a group that holds most of what can be read."""

from __future__ import annotations

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.volume.check import opened
from gatecheck.core.volume.lvm.read import is_physical_volume, read_group


def largest_of_group(disk: Sectors) -> tuple[int, int] | None:
    """(first, last LBA) of the largest LVM volume that can be read, else of the largest; None where the disk is no part
    of a group. Raises DecodeError where its description cannot be read."""
    if not is_physical_volume(disk.read(0, max(1, 4096 // disk.sector)).data):
        return None
    size, length = disk.sector, disk.length or 0
    places = [
        (v.at // size, min((v.at + v.size) // size, length) - 1)
        for v in read_group(disk, 0).volumes
        if v.at is not None and v.at // size < length
    ]
    readable = [place for place in places if opened(disk, *place).volume is not None] or places
    return max(readable, key=lambda place: place[1] - place[0], default=None)
