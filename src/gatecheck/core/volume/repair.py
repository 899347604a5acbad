"""Repairing a volume: plans as byte ranges, grouped by what a person understands, judged by checking the volume as it
would be after them.

Each group is planned on what the ones before it leave. What cannot be decided is left, and said.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.check import OpenedVolume, Report, check, opened
from gatecheck.core.volume.exfat.read import ExFat
from gatecheck.core.volume.exfat.repair import exfat_groups
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.ext.repair import ext_groups
from gatecheck.core.volume.fat.read import Fat
from gatecheck.core.volume.fat.repair import fat_groups
from gatecheck.core.volume.ntfs.read import Ntfs
from gatecheck.core.volume.ntfs.repair import ntfs_groups
from gatecheck.core.volume.repair_group import RepairGroup
from gatecheck.core.volume.repair_start import first_structure
from gatecheck.core.volume.tree import DAMAGE, SIGN, VolumeFinding
from gatecheck.core.words.said import Said, say

_REFUSED = {"hibernated": "repair.refused-hibernated", "locked": "repair.refused-locked"}
_MOST_TURNS = 32


@dataclass(frozen=True, slots=True)
class Repair:
    """`now`: the check before; `groups`: what would be done, in order; `after`: the check after all of them; `refused`:
    why nothing is planned."""

    now: Report
    groups: tuple[RepairGroup, ...]
    after: Report
    refused: Said | None = None

    @property
    def left(self) -> tuple[VolumeFinding, ...]:
        """What stays for the system's own checker, or for a person."""
        return tuple(f for f in self.after.findings if f.severity in (SIGN, DAMAGE))


def repair_of(disk: Sectors, first: int, last: int, *, only: Iterable[str] | None = None) -> Repair:
    """Never raises for what stands on the volume. `only`: ids of the groups that are wanted."""
    now = check(disk, first, last)
    wanted = set(only) if only is not None else None
    for found in now.findings:
        if found.id in _REFUSED:
            return Repair(now, (), now, say(_REFUSED[found.id], where=found.where))
    if any(f.id == "journal-pending" for f in now.findings) and now.kind == "NTFS":
        return Repair(now, (), now, say("repair.refused-journal"))
    groups: list[RepairGroup] = []
    writes: list[tuple[int, bytes]] = []
    after = now
    for turn in range(_MOST_TURNS):
        over = Overlay(disk, writes)
        own = opened(over, first, last)
        planners = _planners(over, first, last, own, after)
        if turn >= len(planners):
            break
        try:
            made = planners[turn]()
        except DecodeError:
            made = None
        if made is not None and any(
            at < first * disk.sector or at + len(data) > (last + 1) * disk.sector for at, data in made.pairs
        ):
            made = None  # a hurt structure says that the volume goes on in what is another's
        if made is not None and made.writes and (wanted is None or made.id in wanted):
            groups.append(made)
            writes += made.pairs
            after = check(Overlay(disk, writes), first, last)
    return Repair(now, tuple(groups), after)


def _planners(
    disk: Sectors, first: int, last: int, own: OpenedVolume, report: Report
) -> list[Callable[[], RepairGroup | None]]:
    """One for each group that there can be, in their order; each is asked when its turn comes, on the volume as it is
    by then."""
    begin: list[Callable[[], RepairGroup | None]] = [
        lambda: first_structure(own, first * disk.sector, disk.sector, report)
    ]
    volume = own.volume
    if isinstance(volume, Ext):
        return begin + ext_groups(volume, report)
    if isinstance(volume, Fat):
        return begin + fat_groups(volume, report)
    if isinstance(volume, ExFat):
        return begin + exfat_groups(volume, report)
    if isinstance(volume, Ntfs):
        return begin + ntfs_groups(volume, report)
    return begin
