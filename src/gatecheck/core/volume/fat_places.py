"""What lives at a sector of a FAT volume: its structures, and the file or folder whose chain a cluster is in.

The table is turned round once (who points here), so that a cluster's first one is found without following every file.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.volume.fat import listing, read_fat
from gatecheck.core.volume.place import BOOT, CATALOGUE, FILE, NOTHING, Place
from gatecheck.core.words.said import Said, say


class FatPlaces:
    """Raises DecodeError where the volume cannot be read."""

    def __init__(self, disk: Sectors, first: int, last: int) -> None:
        self.volume = read_fat(disk, first)
        self.last = last

    def table(self) -> np.ndarray:
        """The first FAT's entries as numbers; where a sector of it is missing, of the second; zeros where neither is there."""
        own = self.volume
        step, size = own.sector // own.disk.sector, own.fat_sectors * own.sector
        raw = bytearray(size)
        gone: set[int] = set(range(own.fat_sectors * step))
        for copy in range(own.fats):
            span = own.disk.read(own.first + (own.reserved + copy * own.fat_sectors) * step, own.fat_sectors * step)
            for place in sorted(gone):
                if span.lba + place not in span.missing:
                    raw[place * own.disk.sector : (place + 1) * own.disk.sector] = span.data[place * own.disk.sector : (place + 1) * own.disk.sector]
                    gone.discard(place)
            if not gone:
                break
        if own.wide == 32:
            return np.frombuffer(bytes(raw), "<u4") & 0x0FFFFFFF
        if own.wide == 16:
            return np.frombuffer(bytes(raw), "<u2").astype(np.uint32)
        three = np.frombuffer(bytes(raw[: size // 3 * 3]), np.uint8).reshape(-1, 3).astype(np.uint32)
        return np.stack([three[:, 0] | (three[:, 1] & 15) << 8, three[:, 1] >> 4 | three[:, 2] << 4], axis=1).reshape(-1)

    def places(self, lbas: Sequence[int]) -> list[Place]:
        own = self.volume
        step = own.sector // own.disk.sector
        table = self.table()[: own.clusters + 2]
        before = np.zeros(own.clusters + 2, np.uint32)
        pointing = np.nonzero((table >= 2) & (table < own.clusters + 2))[0]
        before[table[pointing]] = pointing
        names: dict[int, tuple[str, bool]] | None = None
        found = []
        for lba in lbas:
            sector = (lba - own.first) // step
            fixed = self._structure(sector)
            if fixed is not None:
                found.append(fixed)
                continue
            cluster = (sector - own.data_at) // own.cluster_sectors + 2
            if cluster >= min(own.clusters + 2, len(table)):
                found.append(Place(say("where.after-volume"), None, NOTHING))
                continue
            if table[cluster] == 0:
                found.append(Place(say("where.free"), None, NOTHING))
                continue
            first, steps = cluster, 0
            while before[first] and steps <= own.clusters:
                first, steps = int(before[first]), steps + 1
            if names is None:
                names = {f.cluster: (f.path, f.is_directory) for f in listing(own).files.values() if f.cluster}
                if own.wide == 32:
                    names[own.root_cluster] = ("", True)
            path, is_folder = names.get(first, (None, False))
            if path is None:
                found.append(Place(say("where.bad-cluster" if table[cluster] == (0x0FFFFFF7 if own.wide == 32 else (1 << own.wide) - 9) else "where.lost-cluster"), None, NOTHING if steps == 0 and table[cluster] == 0x0FFFFFF7 else FILE))
            elif is_folder:
                found.append(Place(say("where.folder"), path or "/", CATALOGUE))
            else:
                found.append(Place(say("where.file"), path, FILE))
        return found

    def _structure(self, sector: int) -> Place | None:
        own = self.volume
        if sector == 0:
            return Place(Said("where.boot-sector", {"kind": own.kind}), None, BOOT)
        if sector < own.reserved:
            if own.wide == 32 and sector == 6:
                return Place(Said("where.boot-sector-copy", {"kind": own.kind}), None, BOOT)
            return Place(Said("where.reserved", {"kind": own.kind}), None, BOOT if sector < 16 else NOTHING)
        if sector < own.root_at:
            return Place(Said("where.fat", {"number": (sector - own.reserved) // own.fat_sectors + 1}), None, CATALOGUE)
        if sector < own.data_at:
            return Place(say("where.root-folder"), "/", CATALOGUE)
        return None
