"""What a read map says to the check `read-scan`: the verdict's weights, tempered by how much of the disk was read."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from gatecheck.core.errors import DecodeError
from gatecheck.core.scan.coarse import coarser
from gatecheck.core.scan.judge import OUTCOMES, SurfaceVerdict, judge_map
from gatecheck.core.scan.map_page import MapPage, read_map_page
from gatecheck.core.scan.read import LEFT, UNREADABLE, Ints, ReadMap

_MOST_ROWS = 100_000
"""rows of a judged map that are kept: the newest captures stay in memory"""


@dataclass(frozen=True, slots=True)
class Scanned:
    """A map that was judged; its good neighbours are joined where it is long. `share`: of the disk that was tried;
    `unreadable`: sectors that are known not to read."""

    page: MapPage
    surface: SurfaceVerdict
    share: float
    unreadable: int
    is_apart: bool
    """every place that does not read was taken apart to the sector: then `unreadable` is their number, else the most it
    can be"""

    @property
    def weights(self) -> dict[str, float]:
        """Over the outcomes of `read-scan`. A damage is one wherever it was found; that the rest is clean is known of
        what was read only."""
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
    tried = covered(blocks, blocks.state != LEFT)
    share = tried / page.sectors if tried < page.sectors else 1.0
    return Scanned(
        MapPage(coarser(blocks, _MOST_ROWS), page.sector, page.sectors),
        surface,
        share,
        covered(blocks, blocks.state == UNREADABLE),
        bool((blocks.sectors[blocks.state == UNREADABLE] == 1).all()),
    )


def missing_of(raw: bytes) -> tuple[float, int, int]:
    """(share of the disk that was tried, sectors of that which are not there, bytes of a sector) of a map's pieces; (0,
    0, 512) for what is no map."""
    try:
        found = scanned(read_map_page(raw))
    except DecodeError:
        return 0.0, 0, 512
    return found.share, found.unreadable, found.page.sector


def settled(page: MapPage) -> MapPage:
    """The map without what a later row says better: a block that failed gives way to the pieces it was read in
    afterwards; in the order of reading."""
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
    return MapPage(blocks.of(kept), page.sector, page.sectors)


def covered(blocks: ReadMap, which: NDArray[np.bool_]) -> int:
    """Sectors that these rows cover, each counted once, however often it was read."""
    starts, ends = union(blocks.lba[which], blocks.sectors[which])
    return int((ends - starts).sum())


def union(lba: Ints, sectors: Ints) -> tuple[Ints, Ints]:
    """Runs that touch joined: their starts and ends, in order."""
    order = np.argsort(lba, kind="stable")
    start, end = lba[order], np.maximum.accumulate(lba[order] + sectors[order])
    new = np.ones(len(start), dtype=bool)
    new[1:] = start[1:] > end[:-1]
    at = np.flatnonzero(new)
    return start[at], end[np.concatenate([at[1:] - 1, [len(end) - 1]])] if len(at) else end
