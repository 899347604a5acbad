"""What a read map says to the check `read-scan`: the verdict's weights, tempered by how much of the disk was read."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gatecheck.core.errors import DecodeError
from gatecheck.core.scan.judge import OUTCOMES, Surface, judge_map
from gatecheck.core.scan.map_page import MapPage, read_map_page
from gatecheck.core.scan.read import LEFT, READ, UNREADABLE


@dataclass(frozen=True, slots=True)
class Scanned:
    """A map that was judged. `share`: of the disk that was tried; `unreadable`: sectors that are known not to read."""

    page: MapPage
    surface: Surface
    share: float
    unreadable: int

    @property
    def weights(self) -> dict[str, float]:
        """Over the outcomes of `read-scan`. A damage is one wherever it was found; that the rest is clean is known of what was read only."""
        own = self.surface.weights
        if self.surface.pattern != "clean":
            return own
        even = 1.0 / len(OUTCOMES)
        return {name: round(self.share * weight + (1.0 - self.share) * even, 4) for name, weight in own.items()}


def scanned(page: MapPage) -> Scanned:
    """Judge the map of a page. Places that were read in pieces after a whole block failed count by their pieces."""
    final = settled(page)
    surface = judge_map(final.blocks, sector_size=page.sector, disk_sectors=page.sectors)
    blocks = final.blocks
    tried = int(blocks.sectors[blocks.state != LEFT].sum())
    return Scanned(final, surface, min(1.0, tried / page.sectors), int(blocks.sectors[blocks.state == UNREADABLE].sum()))


def missing_of(raw: bytes) -> tuple[float, int]:
    """(share of the disk that was tried, sectors of that which are not there) of a map's pieces; (0, 0) for what is no map."""
    try:
        found = scanned(read_map_page(raw))
    except DecodeError:
        return 0.0, 0
    return found.share, found.unreadable


def settled(page: MapPage) -> MapPage:
    """The map without what a later row says better: a block that failed gives way to the pieces it was read in afterwards; in the order of reading."""
    blocks = page.blocks
    failed = blocks.state == UNREADABLE
    if not failed.any():
        return page
    starts = blocks.lba
    order = np.argsort(starts, kind="stable")
    sorted_starts = starts[order]
    drop = np.zeros(len(blocks), dtype=bool)
    for place in np.flatnonzero(failed & (blocks.sectors > 1)).tolist():
        first, end = int(starts[place]), int(starts[place] + blocks.sectors[place])
        low, high = np.searchsorted(sorted_starts, [first, end])
        inside = order[low:high]
        inside = inside[(inside > place) & (blocks.sectors[inside] < blocks.sectors[place])]
        drop[place] = bool(len(inside)) and bool((blocks.state[inside] != LEFT).any())
    # a single sector that failed and was read at a second try is read
    single = np.flatnonzero(failed & (blocks.sectors == 1))
    for place in single.tolist():
        low, high = np.searchsorted(sorted_starts, [starts[place], starts[place] + 1])
        later = order[low:high]
        drop[place] |= bool((later > place).any())
    kept = ~drop
    return MapPage(type(blocks)(blocks.lba[kept], blocks.sectors[kept], blocks.ms[kept], blocks.state[kept]), page.sector, page.sectors)


def read_share(scanned_: Scanned) -> float:
    """Of the disk, how much was read well."""
    blocks = scanned_.page.blocks
    return min(1.0, float(blocks.sectors[blocks.state == READ].sum()) / scanned_.page.sectors)
