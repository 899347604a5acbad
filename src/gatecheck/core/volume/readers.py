"""Which kinds of volumes have a reader."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.volume.fat_places import FatPlaces
from gatecheck.core.volume.place import Placed

READERS: Mapping[str, Callable[[Sectors, int, int], Placed]] = {"fat": FatPlaces}
