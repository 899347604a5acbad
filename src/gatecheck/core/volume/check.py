"""A volume looked at without writing: everything on it against everything else, what that means, and what it would
take.

Each kind has a check of its own; what they share is how findings become one word about the volume.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.disk.sectors import NOT_CAPTURED, Sectors
from gatecheck.core.disk.volume import Volume, volume_of
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.btrfs.check import check_btrfs
from gatecheck.core.volume.btrfs.read import Btrfs
from gatecheck.core.volume.exfat.check import check_exfat
from gatecheck.core.volume.exfat.read import ExFat
from gatecheck.core.volume.ext.check import check_ext
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.f2fs.check import check_f2fs
from gatecheck.core.volume.f2fs.read import F2fs
from gatecheck.core.volume.fat.check import check_fat
from gatecheck.core.volume.fat.read import Fat
from gatecheck.core.volume.hfsplus.check import check_hfsplus
from gatecheck.core.volume.hfsplus.read import HfsPlus
from gatecheck.core.volume.inode_tree import InodeTree
from gatecheck.core.volume.iso9660.check import check_iso9660
from gatecheck.core.volume.iso9660.read import Iso9660
from gatecheck.core.volume.ntfs.check import check_ntfs
from gatecheck.core.volume.ntfs.read import Ntfs
from gatecheck.core.volume.readers import READERS, known_at
from gatecheck.core.volume.systems import systems_of
from gatecheck.core.volume.tree import (
    CLEAN,
    DAMAGE,
    DAMAGED,
    DIRTY,
    LOCKED,
    SIGN,
    UNREADABLE,
    Filesystem,
    System,
    VolumeFinding,
)
from gatecheck.core.volume.udf.check import check_udf
from gatecheck.core.volume.udf.read import Udf
from gatecheck.core.volume.xfs.check import check_xfs
from gatecheck.core.volume.xfs.read import Xfs

MOST_ALIKE = 50
"""findings of one kind that are named one by one"""
_FILES_A_MINUTE, _BYTES_A_MINUTE, _START = 240_000, 60 * 80_000_000, 0.1
"""what a check gets through on a spinning disk: records, and bytes of metadata read in a row"""
_REPAIRED_A_MINUTE = 2_000


_BY_COPIES = {"ext": "ext", "f2fs": "F2FS", "hfs+": "HFS+", "xfs": "XFS"}
"""kinds and names of readers that look for the copies of their superblock themselves"""


@dataclass(slots=True)
class OpenedVolume:
    """`volume`: None where there is no reader for it, or it cannot be read; `known`: what its mark says; `problem`:
    why; `from_copy`: its boot sector or superblock is broken, and a copy was used."""

    volume: Filesystem | None
    known: Volume | None
    problem: str = ""
    from_copy: bool = False


@dataclass(frozen=True, slots=True)
class Report:
    kind: str
    label: str
    state: str
    size: int
    used: int | None
    files: int | None
    findings: tuple[VolumeFinding, ...]
    systems: tuple[System, ...]
    check_minutes: float
    repair_minutes: float


@dataclass(slots=True)
class Tally:
    """Findings as they come; more of one kind than are named one by one are counted in the last."""

    found: list[VolumeFinding] = field(default_factory=list)
    more: dict[str, int] = field(default_factory=dict)
    counts: dict[str, int] = field(default_factory=dict)

    def add(self, own: VolumeFinding) -> None:
        self.counts[own.id] = self.counts.get(own.id, 0) + 1
        if self.counts[own.id] <= MOST_ALIKE:
            self.found.append(own)
        else:
            self.more[own.id] = self.more.get(own.id, 0) + 1

    def whole(self) -> tuple[VolumeFinding, ...]:
        rest = [
            VolumeFinding(
                "more-alike", next(f.severity for f in self.found if f.id == name), count=count, values={"kind": name}
            )
            for name, count in self.more.items()
        ]
        return (*self.found, *rest)


def opened(disk: Sectors, first: int, last: int) -> OpenedVolume:
    """The volume that lies there, by a copy of its first structures where those are broken."""
    try:
        known = known_at(disk, first)
    except DecodeError as error:
        known, problem = None, str(error)
    else:
        problem = ""
    if known is not None and known.kind not in READERS:
        return OpenedVolume(None, known)
    if known is not None:
        try:
            volume = READERS[known.kind](disk, first, last)
            return OpenedVolume(volume, known, from_copy=_is_from_copy(volume))
        except DecodeError as error:
            problem = str(error)
    for lba, count, kind in _copies(disk, first, last):
        span = disk.read(lba, count)
        if span.missing:
            continue
        over = Overlay(disk, [(first * disk.sector, span.data)])
        mark = volume_of(over.read(first, max(1, 4096 // disk.sector)).data)
        if mark is None or mark.kind != kind:
            continue
        try:
            return OpenedVolume(READERS[kind](over, first, last), mark, problem, from_copy=True)
        except DecodeError:
            continue
    was_read = NOT_CAPTURED not in disk.read(first, 1).missing.values()
    for kind, name in _BY_COPIES.items():
        if kind != "ext" and not was_read:
            continue  # its beginning may still come: the many places of copies are not asked for
        try:
            return OpenedVolume(READERS[kind](disk, first, last), Volume(kind, name, 0), problem, from_copy=True)
        except DecodeError:
            continue
    return OpenedVolume(None, known, problem)


def _is_from_copy(volume: Filesystem) -> bool:
    return (isinstance(volume, Ext) and bool(volume.from_backup)) or (
        isinstance(volume, InodeTree) and volume.is_from_copy
    )


def _copies(disk: Sectors, first: int, last: int) -> Iterator[tuple[int, int, str]]:
    """(LBA, sectors, kind) of where copies of a boot sector stand."""
    for lba, kind in ((last, "ntfs"), (first + 6, "fat")):
        if first < lba <= last:
            yield lba, 1, kind
    for size in (512, 1024, 2048, 4096):
        if size >= disk.sector:
            yield first + 12 * size // disk.sector, size // disk.sector, "exfat"


Progress = Callable[[str, int, int], None]
"""(stage, done, of) while it goes on"""


def check(disk: Sectors, first: int, last: int, progress: Progress = lambda _stage, _done, _of: None) -> Report:
    """Never raises for what stands on the volume."""
    own = opened(disk, first, last)
    room = (last - first + 1) * disk.sector
    if own.volume is None:
        kind, label = (own.known.name, own.known.label) if own.known else ("", "")
        if own.known is not None and own.known.is_locked:
            return Report(
                kind,
                label,
                LOCKED,
                own.known.size or room,
                None,
                None,
                (VolumeFinding("locked", SIGN, kind),),
                (),
                0,
                0,
            )
        if own.known is not None and not own.problem:
            return Report(
                kind,
                label,
                UNREADABLE,
                own.known.size or room,
                None,
                None,
                (VolumeFinding("no-reader", SIGN, kind),),
                (),
                0,
                0,
            )
        return Report(
            kind,
            label,
            UNREADABLE,
            room,
            None,
            None,
            (VolumeFinding("not-opened", DAMAGE, own.problem or "LBA " + str(first)),),
            (),
            0,
            0,
        )
    tally = Tally()
    if own.from_copy:
        can = isinstance(own.volume, Ext | Fat | ExFat | Ntfs)
        tally.add(VolumeFinding("first-structure", DAMAGE, repairable=can, where=f"LBA {first}"))
    files, used = _checked(own.volume, tally, progress)
    try:
        systems = tuple(systems_of(own.volume, tally.add))
    except DecodeError:
        systems = ()
    found = tally.whole()
    return Report(
        own.volume.kind,
        own.volume.label,
        state_of(found),
        own.volume.size,
        used,
        files,
        found,
        systems,
        *minutes(own.volume, files, found),
    )


_CHECKS: Mapping[type, Callable[[Any, Callable[[VolumeFinding], None], Progress], tuple[int | None, int | None]]] = {
    Ntfs: check_ntfs,
    Ext: check_ext,
    Fat: lambda volume, add, _: check_fat(volume, add),
    ExFat: lambda volume, add, _: check_exfat(volume, add),
    Btrfs: lambda volume, add, _: check_btrfs(volume, add),
    Xfs: lambda volume, add, _: check_xfs(volume, add),
    F2fs: lambda volume, add, _: check_f2fs(volume, add),
    HfsPlus: lambda volume, add, _: check_hfsplus(volume, add),
    Iso9660: lambda volume, add, _: check_iso9660(volume, add),
    Udf: lambda volume, add, _: check_udf(volume, add),
}
"""the check of each kind of reader"""


def _checked(volume: Filesystem, tally: Tally, progress: Progress) -> tuple[int | None, int | None]:
    """(files, bytes used); None where it could not be told."""
    try:
        return _CHECKS[type(volume)](volume, tally.add, progress)
    except DecodeError as error:
        tally.add(VolumeFinding("not-checked", DAMAGE, str(error)))
    return None, None


def state_of(found: Iterable[VolumeFinding]) -> str:
    severities = {f.severity for f in found}
    return DAMAGED if DAMAGE in severities else DIRTY if SIGN in severities else CLEAN


def minutes(volume: Filesystem, files: int | None, found: Sequence[VolumeFinding]) -> tuple[float, float]:
    """(to check, to repair) of the system's own checker on a disk of ordinary speed."""
    count = files or 0
    look = _START + count / _FILES_A_MINUTE + (count * 1024 + volume.size / 32768) / _BYTES_A_MINUTE
    work = sum(f.count for f in found if f.severity != "note")
    return round(look, 1), round(look * (1.5 if work else 1) + work / _REPAIRED_A_MINUTE, 1)
