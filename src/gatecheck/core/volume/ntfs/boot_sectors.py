"""What of NTFS stands twice: which boot sector fits better, and whether the mirror is where the boot sector says. A
hurt one leads into a file's place."""

from __future__ import annotations

from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.ntfs import record as rec
from gatecheck.core.volume.ntfs.check import NtfsCheck
from gatecheck.core.volume.ntfs.read import MIRROR, Ntfs
from gatecheck.core.volume.tree import DAMAGE, VolumeFinding


def boots(volume: Ntfs) -> tuple[bytes, bytes, int]:
    """(boot sector, its copy, byte of the volume at which that stands or is to stand). It is where the boot sector says
    that the volume ends, or in the partition's last sector. Where none is found, only the latter is written to: a hurt
    boot sector's end lies in a file. 0: nowhere."""
    boot, end, last = (
        volume.bytes.read(0, 512, "boot sector"),
        volume.boot.sectors * volume.boot.sector,
        (volume.last - volume.first) * volume.disk.sector,
    )
    for at in dict.fromkeys((end, last)):
        if at > last:
            continue  # what stands behind the partition is another's
        try:
            copy = volume.bytes.read(at, 512, "copy of the boot sector")
        except DecodeError:
            continue
        if copy[3:11] == b"NTFS    ":
            return boot, copy, at
    return boot, b"", end if end == last else 0


def fits_better(volume: Ntfs, copy: bytes) -> bool:
    """By another boot sector less is wrong with the volume."""
    if not copy:
        return False
    counts = []
    for raw in (volume.bytes.read(0, 512, "boot sector"), copy):
        found: list[VolumeFinding] = []
        try:
            NtfsCheck(
                Ntfs(Overlay(volume.disk, [(volume.bytes.base, raw)]), volume.first, volume.last),
                found.append,
                lambda _stage, _done, _of: None,
            ).whole()
        except DecodeError:
            return False
        counts.append(sum(f.count for f in found if f.severity == DAMAGE and f.id != "boot-copy-differs"))
    return counts[1] < counts[0]


def is_mirror(volume: Ntfs) -> bool:
    """Is the mirror where its own file says that it is?"""
    try:
        data = next(a for a in volume.record(MIRROR).attributes if a.type == rec.DATA and not a.resident)
    except (DecodeError, StopIteration):
        return True
    return bool(data.runs) and data.runs[0][1] == volume.boot.mirror
