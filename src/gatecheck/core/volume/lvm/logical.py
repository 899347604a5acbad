"""The logical volumes of a group, read from the physical volumes that are there.

Linear, striped and mirrored ones, and those of RAID types; thin ones, caches and their like are not read. Source: lvm2,
lib/format_text/import.c, and the types of its segments."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from gatecheck.core.disk.joined import JoinedSectors, JoinedStretch
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.lvm.read import LogicalVolume, Segment, VolumeGroup
from gatecheck.core.volume.raid.read import Member
from gatecheck.core.volume.raid.sectors import PartOfSet, RaidSectors

_PLAIN = ("striped", "linear")
_RAID = {
    "raid0": (0, 2), "raid0_meta": (0, 2), "raid1": (1, 0), "raid4": (4, 0), "raid5": (5, 2), "raid5_ls": (5, 2),
    "raid5_la": (5, 0), "raid5_ra": (5, 1), "raid5_rs": (5, 3), "raid5_n": (5, 5), "raid6": (6, 8), "raid6_zr": (6, 8),
    "raid6_nr": (6, 9), "raid6_nc": (6, 10), "raid6_la_6": (6, 16), "raid6_ra_6": (6, 17), "raid6_ls_6": (6, 18),
    "raid6_rs_6": (6, 19), "raid6_n_6": (6, 5), "raid10": (10, 0x102), "raid10_near": (10, 0x102),
}  # fmt: skip
"""lvm2's name of a type -> level and layout of the kernel"""
_DEEPEST = 4


@dataclass(frozen=True, slots=True)
class OpenedLogical:
    """`sectors`: None where it cannot be put together, `problem` says why."""

    name: str
    size: int
    sectors: Sectors | None
    problem: str = ""


def logical_volumes(group: VolumeGroup, disks: Mapping[str, tuple[Sectors, int]]) -> tuple[OpenedLogical, ...]:
    """Those that people made. `disks`: id of a physical volume -> its disk and first LBA."""
    own = _Group(group, disks)
    return tuple(own.opened(v) for v in group.volumes if v.is_shown)


class _Group:
    def __init__(self, group: VolumeGroup, disks: Mapping[str, tuple[Sectors, int]]) -> None:
        self.volumes = {v.name: v for v in group.volumes}
        self.disks: dict[str, tuple[Sectors, int] | None] = {}
        for disk in group.disks:
            there = disks.get(disk.id)
            if there is None and group.own is disk and len(disks) == 1:
                there = next(iter(disks.values()))
            self.disks[disk.name] = None if there is None else (there[0], there[1] * there[0].sector + disk.data_at)

    def opened(self, volume: LogicalVolume) -> OpenedLogical:
        try:
            return OpenedLogical(volume.name, volume.size, self.joined(volume, 0))
        except DecodeError as error:
            return OpenedLogical(volume.name, volume.size, None, str(error))

    def joined(self, volume: LogicalVolume, depth: int) -> JoinedSectors:
        """Raises DecodeError."""
        if depth > _DEEPEST or not volume.segments:
            raise DecodeError(
                "logical volume", at=0, expected="segments", got="none, or volumes in volumes without end"
            )
        stretches = []
        for segment in volume.segments:
            disk, at = self._of(segment, depth)
            stretches.append(JoinedStretch(segment.first, segment.size, disk, at))
        return JoinedSectors(stretches)

    def _of(self, segment: Segment, depth: int) -> tuple[Sectors | None, int]:
        """The disk, and its byte, where a segment begins; no disk where the drive is not there. Raises DecodeError."""
        if segment.kind in _PLAIN and len(segment.on) == 1:
            return self._place(segment.on[0], depth)
        if segment.kind in _PLAIN and segment.on:
            share = segment.size // len(segment.on)
            return self._raid(segment, 0, 2, share, depth), 0
        if segment.kind == "mirror" and segment.on:
            return self._raid(segment, 1, 0, segment.size, depth), 0
        if segment.kind in _RAID and segment.on:
            level, layout = _RAID[segment.kind]
            return self._raid(segment, level, layout, self._share(segment, level), depth), 0
        raise DecodeError(
            "logical volume", at=segment.first, expected="a linear, striped, mirrored or RAID one", got=segment.kind
        )

    def _share(self, segment: Segment, level: int) -> int:
        """Bytes of each member that the segment uses."""
        count = len(segment.on)
        data = {0: count, 1: 1, 10: max(1, count // 2)}.get(level, count - (2 if level == 6 else 1))
        return segment.size // max(1, data)

    def _place(self, on: tuple[str, int], depth: int) -> tuple[Sectors | None, int]:
        name, at = on
        if name in self.disks:
            there = self.disks[name]
            return (None, 0) if there is None else (there[0], there[1] + at)
        if name in self.volumes:
            try:
                return self.joined(self.volumes[name], depth + 1), at
            except DecodeError:
                return None, 0  # a member that is not there, or not whole
        raise DecodeError("logical volume", at=0, expected="a volume of its group", got=name)

    def _raid(self, segment: Segment, level: int, layout: int, share: int, depth: int) -> RaidSectors:
        parts: dict[int, PartOfSet] = {}
        count = len(segment.on)
        for role, on in enumerate(segment.on):
            disk, at = self._place(on, depth)
            if disk is not None and not _is_absent(disk):
                parts[role] = PartOfSet(disk, 0, _member(level, layout, segment.chunk, count, share, at, role))
        if not parts:
            raise DecodeError("logical volume", at=segment.first, expected="one of its members", got="none")
        return RaidSectors(parts)


def _is_absent(disk: Sectors) -> bool:
    return isinstance(disk, JoinedSectors) and any(s.disk is None for s in disk.stretches)


def _member(level: int, layout: int, chunk: int, of: int, share: int, at: int, role: int) -> Member:
    whole, none = (share, at, share), ()
    return Member(
        "LVM", b"", "", level, layout, chunk or 65536, of, *whole, role, role, none, 0, None, none, False, False
    )
