"""exFAT: both boot regions, the map of clusters, entry sets with their sums, chains.

Microsoft, "exFAT file system specification": 3.1.13 (flags), 3.4 (checksum), 6.3.3 (entry sets), 7.1 (map), 7.2 (table
of capitals)."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.exfat.read import BAD, ExFat, Set, region_sum
from gatecheck.core.volume.tree import DAMAGE, SIGN, VolumeFinding

_DIRTY, _FAILED = 2, 4


def check_exfat(volume: ExFat, add: Callable[[VolumeFinding], None]) -> tuple[int | None, int | None]:
    """(files, bytes used)."""
    _boot(volume, add)
    owner = np.zeros(volume.clusters + 2, np.uint32)
    names: list[str] = [""]
    for cluster, name in volume.own_clusters():
        if owner[cluster]:
            add(VolumeFinding("crossed", DAMAGE, name, values={"other": names[owner[cluster]]}))
        names.append(f"({name})")
        owner[cluster] = len(names) - 1
    _capitals(volume, add)
    files, folders = 0, [("/", volume.root, 0, False)]
    unread = (
        ["/"]
        if any(
            volume.bytes.span(volume.at(n), volume.cluster)[0].missing
            for n in volume.chain(volume.root, 0, contiguous=False)
        )
        else []
    )
    for own, path in volume.walk():
        if own.deleted:
            continue
        files += not own.is_folder
        if own.is_folder and own.size:
            folders.append((path, own.cluster, own.size, own.contiguous))
        names.append(path)
        _set(volume, own, path, owner, names, add)
        if own.is_folder and any(
            volume.bytes.span(volume.at(n), volume.cluster)[0].missing
            for n in volume.chain(own.cluster, own.size, contiguous=own.contiguous)
        ):
            unread.append(path)
    for path, cluster, size, contiguous in (folder for folder in folders if folder[0] not in unread):
        orphans = sum(1 for _ in volume.orphans(cluster, size, contiguous=contiguous))
        if orphans:
            add(VolumeFinding("entry-broken", DAMAGE, path, count=orphans, repairable=True))
        if volume.false_ends(cluster, size, contiguous=contiguous):
            add(VolumeFinding("folder-ended", DAMAGE, path, repairable=True))
    for path in unread:
        add(VolumeFinding("unreadable", DAMAGE, path))
    used: int | None = None
    try:
        marked = volume.bitmap()
        used = int(np.count_nonzero(marked)) * volume.cluster
        claimed = owner[2:] != 0
        bare = claimed & (marked == 0)
        if bare.any():
            whose = sorted({names[n] for n in owner[2:][bare]})
            for name in whose[:50]:
                add(VolumeFinding("unmarked", DAMAGE, name, count=int(np.count_nonzero(bare)), repairable=True))
        alone = (marked != 0) & ~claimed & (volume.table[2:] != BAD)
        if alone.any() and not unread:
            add(
                VolumeFinding(
                    "lost",
                    DAMAGE,
                    count=int(alone.sum()),
                    repairable=True,
                    values={"chains": 1, "bytes": int(alone.sum()) * volume.cluster},
                )
            )
    except DecodeError as error:
        add(VolumeFinding("map-unread", DAMAGE, str(error)))
    return files, used


def _boot(volume: ExFat, add: Callable[[VolumeFinding], None]) -> None:
    sector = volume.sector
    if volume.flags & _DIRTY:
        add(VolumeFinding("dirty", SIGN, repairable=True))
    if volume.flags & _FAILED:
        add(VolumeFinding("errors-noted", SIGN, repairable=True))
    sound = []
    for number, at in enumerate((0, 12 * sector)):
        try:
            raw = volume.bytes.read(at, 12 * sector, "boot region")
        except DecodeError as error:
            add(VolumeFinding("unreadable", DAMAGE, str(error)))
            sound.append(False)
            continue
        fits = raw[11 * sector :] == region_sum(raw, sector).to_bytes(4, "little") * (sector // 4)
        sound.append(fits)
        if not fits:
            add(
                VolumeFinding(
                    "boot-sum" if number == 0 else "boot-copy-differs",
                    DAMAGE,
                    f"sector {at // sector}",
                    repairable=True,
                )
            )
    if all(sound):
        one, two = volume.bytes.read(0, 512, "boot sector"), volume.bytes.read(12 * sector, 512, "boot sector")
        if one[:106] + one[108:112] != two[:106] + two[108:112]:
            add(VolumeFinding("boot-copy-differs", DAMAGE, "sector 12", repairable=True))


def _capitals(volume: ExFat, add: Callable[[VolumeFinding], None]) -> None:
    cluster, size, told = volume.upcase
    if not cluster or not 0 < size <= 1 << 20:
        add(VolumeFinding("capitals", DAMAGE))
        return
    try:
        raw = b"".join(
            volume.bytes.read(volume.at(n), volume.cluster, "table of capitals")
            for n in volume.chain(cluster, size, contiguous=False)
        )[:size]
    except DecodeError as error:
        add(VolumeFinding("unreadable", DAMAGE, str(error)))
        return
    total = 0
    for byte in raw:
        total = ((total & 1) << 31 | total >> 1) + byte & 0xFFFFFFFF
    if total != told:
        add(VolumeFinding("capitals", DAMAGE, repairable=volume.had_usual_capitals))


def _set(
    volume: ExFat, own: Set, path: str, owner: np.ndarray, names: list[str], add: Callable[[VolumeFinding], None]
) -> None:
    mine = len(names) - 1
    if not own.sound:
        add(VolumeFinding("entry-broken", DAMAGE, path, repairable=not own.is_folder or volume.is_possible(own)))
    if own.valid > own.size:
        add(VolumeFinding("size-differs", DAMAGE, path, repairable=True, values={"size": own.size, "held": own.valid}))
    if not own.size:
        return
    need = -(-own.size // volume.cluster)
    if not 2 <= own.cluster < volume.clusters + 2:
        add(VolumeFinding("chain-nowhere", DAMAGE, path, values={"cluster": own.cluster}))
        return
    held = volume.chain(own.cluster, own.size, contiguous=own.contiguous)
    if len(held) < need:
        add(
            VolumeFinding(
                "chain-short",
                DAMAGE,
                path,
                repairable=True,
                values={"size": own.size, "held": len(held) * volume.cluster},
            )
        )
    elif held and not own.contiguous and not own.is_folder and volume.leads_nowhere(held[-1]):
        add(
            VolumeFinding(
                "chain-broken", DAMAGE, path, repairable=True, values={"cluster": int(volume.table[held[-1]])}
            )
        )
    others = {int(n) for n in owner[held] if n and n != mine}
    for number in others:
        add(VolumeFinding("crossed", DAMAGE, path, repairable=True, values={"other": names[number]}))
    owner[held] = mine
