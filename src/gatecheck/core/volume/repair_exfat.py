"""Repairs that are certain for exFAT: boot regions, the map of clusters, flags. Entry sets that are broken are left, and said."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np

from gatecheck.core.volume.exfat import ExFat, region_sum, set_sum
from gatecheck.core.volume.repair_group import Group, group

if TYPE_CHECKING:
    from gatecheck.core.volume.check import Report


def exfat_groups(volume: ExFat, report: Report) -> list[Callable[[], Group | None]]:
    ids = {f.id for f in report.findings}

    def regions() -> Group | None:
        """Whichever boot region's sum fits, for the other; where only the sum is wrong in both, left."""
        if not ids & {"boot-sum", "boot-copy-differs"}:
            return None
        size = 12 * volume.sector
        both = [volume.bytes.read(at, size, "boot region") for at in (0, size)]
        sound = [raw[11 * volume.sector :] == region_sum(raw, volume.sector).to_bytes(4, "little") * (volume.sector // 4) for raw in both]
        if not any(sound):
            return None
        source = 0 if sound[0] else 1
        return group("boot-copy", [(volume.bytes.base + (1 - source) * size, both[source])], "boot-sector")

    def sizes() -> Group | None:
        """Files that hold less than their entry says: shortened to what is held; files that claim more written bytes than they have."""
        if not ids & {"chain-short", "size-differs"}:
            return None
        writes, touched = [], []
        for own, path in volume.walk():
            if own.deleted or not own.sound:
                continue
            held = len(volume.chain(own.cluster, own.size, contiguous=own.contiguous)) * volume.cluster if own.size else 0
            size = min(own.size, held)
            valid = min(own.valid, size)
            if own.is_folder or (size, valid) == (own.size, own.valid) or (own.at - volume.heap) % volume.cluster + own.count * 32 > volume.cluster:
                continue
            raw = bytearray(volume.bytes.read(own.at, own.count * 32, path))
            raw[32 + 8 : 32 + 16], raw[32 + 24 : 32 + 32] = valid.to_bytes(8, "little"), size.to_bytes(8, "little")
            raw[2:4] = set_sum(bytes(raw)).to_bytes(2, "little")
            writes.append((volume.bytes.base + own.at, bytes(raw)))
            touched.append(path)
        return group("chains", writes, "entry", doubts=("shortened",), touches=tuple(touched), count=len(touched)) if writes else None

    def cluster_map() -> Group | None:
        """What files hold is in use; what nobody holds is free."""
        if not ids & {"unmarked", "lost"} or ids & {"entry-broken", "unreadable", "chain-nowhere"}:
            return None  # a folder that could not be read would lose what it holds
        used = np.zeros(volume.clusters, np.uint8)
        for number, _ in volume.own_clusters():
            used[number - 2] = 1
        for own, _ in volume.walk():
            if not own.deleted and own.size:
                used[[n - 2 for n in volume.chain(own.cluster, own.size, contiguous=own.contiguous)]] = 1
        used[np.nonzero(volume.table[2:] == 0xFFFFFFF7)[0]] = 1
        raw = np.packbits(used, bitorder="little").tobytes()
        now = np.packbits(volume.bitmap(), bitorder="little").tobytes()
        writes = []
        for place, number in enumerate(volume.chain(volume.bitmap_cluster, volume.bitmap_size, contiguous=False)):
            low = place * volume.cluster
            piece = raw[low : low + volume.cluster]
            if piece != now[low : low + volume.cluster]:
                writes.append((volume.bytes.base + volume.at(number), piece))
        return group("map", writes, "map", doubts=("freed",) if "lost" in ids else ()) if writes else None

    def flags() -> Group | None:
        if not ids <= {"dirty", "errors-noted", "bad-places"} or not ids & {"dirty", "errors-noted"}:
            return None
        return group("counts", [(volume.bytes.base + 106, (volume.flags & ~6).to_bytes(2, "little"))], "count")

    return [regions, sizes, cluster_map, flags]
