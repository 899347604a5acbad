"""Volumes that partitions hold together: sets of Linux RAID and logical volumes of LVM, also from several disks, one in
the other. Read only."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from gatecheck.core.disk.division import division_of
from gatecheck.core.disk.joined import JoinedSectors, JoinedStretch
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.check import opened
from gatecheck.core.volume.lvm.logical import logical_volumes
from gatecheck.core.volume.lvm.read import VolumeGroup, is_physical_volume, read_group
from gatecheck.core.volume.raid.read import LINEAR, Member, read_member
from gatecheck.core.volume.raid.sectors import PartOfSet, RaidSectors

RAID, LVM = "raid", "lvm"
_DEEPEST = 3


@dataclass(frozen=True, slots=True)
class MemberPlace:
    """Sectors `first` to `last` of a disk that may be a member; `roots`: (which of the disks, first LBA) it comes from;
    `is_whole`: it is a disk or a set as a whole."""

    disk: Sectors
    first: int
    last: int
    roots: tuple[tuple[int, int], ...]
    is_whole: bool = False


@dataclass(frozen=True, slots=True)
class Assembled:
    """`kind`: raid or lvm; `name`: of the set, or group/volume; `level`: of RAID, empty else; `of`, `there`: members it
    has, and those that are read from; `stale`: members left out since others are newer; `sectors`: None where it cannot
    be put together, `problem` says why; `members`: (disk's number, first LBA) of each that is there; `id`: of a RAID
    set; `is_doubtful`: it was being written when it stopped, and a member is missing: what the parities give may be
    wrong in places."""

    kind: str
    name: str
    level: str
    of: int
    there: int
    stale: int
    sectors: Sectors | None
    problem: str
    members: tuple[tuple[int, int], ...]
    id: bytes = b""
    is_doubtful: bool = False

    @property
    def size(self) -> int:
        return (self.sectors.length or 0) * self.sectors.sector if self.sectors is not None else 0


def assembled(disks: Sequence[Sectors]) -> tuple[Assembled, ...]:
    """Everything that members on these disks hold together; the first of them is the one that is asked for. Never
    raises for what stands on them."""
    return held_by([place for number, disk in enumerate(disks) for place in places_on(disk, number)])


def held_by(places: Sequence[MemberPlace]) -> tuple[Assembled, ...]:
    """What these places hold together. Never raises for what stands on them."""
    found: list[Assembled] = []
    for _ in range(_DEEPEST):
        sets = [*_sets(places), *_groups(places)]
        new = [own for own in sets if not any(_is_same(own, old) for old in found)]
        found += new
        places = [place for own in new if own.sectors is not None for place in _inside(own.sectors, own.members)]
        if not places:
            break
    return tuple(found)


def _is_same(a: Assembled, b: Assembled) -> bool:
    return (a.kind, a.name, a.members) == (b.kind, b.name, b.members) and a.members != ()


def places_on(disk: Sectors, number: int) -> Iterator[MemberPlace]:
    """The disk as a whole, then its partitions."""
    for first, last in _cut(disk):
        yield MemberPlace(disk, first, last, ((number, first),), is_whole=first == 0)


def _inside(disk: Sectors, roots: tuple[tuple[int, int], ...]) -> Iterator[MemberPlace]:
    """What members hold together, as a whole, then its partitions."""
    for first, last in _cut(disk):
        yield MemberPlace(disk, first, last, roots, is_whole=first == 0)


def _cut(disk: Sectors) -> Iterator[tuple[int, int]]:
    length = disk.length or 0
    if length:
        yield 0, length - 1
    try:
        pieces = division_of(disk).pieces
    except DecodeError:
        return
    for piece in pieces:
        if not piece.is_extended and 0 < piece.first < length:
            yield piece.first, min(piece.last, length - 1)


def _sets(places: Sequence[MemberPlace]) -> Iterator[Assembled]:
    members: dict[bytes, list[tuple[MemberPlace, Member]]] = {}
    for place in places:
        try:
            own = read_member(place.disk, place.first, place.last)
        except DecodeError:
            continue
        if own is not None:
            known = members.setdefault(own.set_id, [])
            # a superblock at the end of the last partition is at the end of the disk, too
            twice = [k for k, (p, m) in enumerate(known) if m == own and p.disk is place.disk and p.is_whole]
            for k in reversed(twice):
                del known[k]
            known.append((place, own))
    for known in members.values():
        yield _set(known)


def _set(known: Sequence[tuple[MemberPlace, Member]]) -> Assembled:
    """The newest superblock says what the set is, and who is part of it."""
    newest = max((m for _, m in known), key=lambda m: m.events)
    parts: dict[int, PartOfSet] = {}
    members: list[tuple[int, int]] = []
    old: list[tuple[MemberPlace, Member]] = []
    for place, own in sorted(known, key=lambda pair: -pair[1].events):
        told = newest.roles[own.number] if own.number < len(newest.roles) else own.role
        if own.role is None or own.role >= newest.of:
            continue
        if own.events < newest.events - 1 or told != own.role:
            old.append((place, own))
        elif own.role not in parts:
            parts[own.role] = PartOfSet(place.disk, place.first, own)
            members += place.roots
    stale = sum(1 for _, own in old if own.role not in parts)
    level = "linear" if newest.level == LINEAR else f"RAID {newest.level}"
    name = newest.name.split(":")[-1] or newest.set_id.hex()[:8]

    def result(sectors: Sectors | None, problem: str) -> Assembled:
        there, roots = len(parts), tuple(sorted(members))
        doubtful = newest.is_dirty and newest.level in (4, 5, 6) and there < newest.of
        return Assembled(RAID, name, level, newest.of, there, stale, sectors, problem, roots, newest.set_id, doubtful)

    if newest.is_reshaped:
        return result(None, "its shape was being changed")
    if not parts:
        return result(None, "no member of it holds data")
    if len(parts) < fewest(newest):
        return result(None, f"expected at least {fewest(newest)} of its {newest.of} members, got {len(parts)}")
    try:
        return result(_alone(parts) or RaidSectors(parts), "")
    except DecodeError as error:
        return result(None, str(error))


def _alone(parts: dict[int, PartOfSet]) -> Sectors | None:
    """A mirror of which one whole member is there: its bytes in a row."""
    part = next(iter(parts.values()))
    own = part.member
    if len(parts) > 1 or own.level != 1 or own.bad or own.rebuilt_to is not None:
        return None
    size = part.disk.sector
    return JoinedSectors([JoinedStretch(0, own.size // size * size, part.disk, part.first * size + own.data_at)])


def fewest(own: Member) -> int:
    """Members without which nothing of the set can be read."""
    if own.level in (LINEAR, 0):
        return own.of
    if own.level == 1:
        return 1
    if own.level == 10:
        copies = max(1, (own.layout & 0xFF) * max(1, own.layout >> 8 & 0xFF))
        return max(1, -(-own.of // copies))
    return own.of - (2 if own.level == 6 else 1)


def largest_readable(found: Sequence[Assembled]) -> tuple[Sectors, int, int] | None:
    """(disk, first, last LBA) of the largest volume that can be read in what was put together; None where there is
    none."""
    best: tuple[Sectors, int, int] | None = None
    size = 0
    for own in found:
        if own.sectors is None:
            continue
        for first, last in _cut(own.sectors):
            room = (last - first + 1) * own.sectors.sector
            if room > size and opened(own.sectors, first, last).volume is not None:
                best, size = (own.sectors, first, last), room
    return best


def _groups(places: Sequence[MemberPlace]) -> Iterator[Assembled]:
    groups: dict[str, VolumeGroup] = {}
    disks: dict[str, dict[str, tuple[MemberPlace, str]]] = {}
    for place in places:
        head = place.disk.read(place.first, max(1, 4096 // place.disk.sector))
        if head.missing or not is_physical_volume(head.data):
            continue
        try:
            group = read_group(place.disk, place.first)
        except DecodeError:
            continue
        key = group.id or group.name
        if key not in groups or group.revision > groups[key].revision:
            groups[key] = group
        own = group.own
        disks.setdefault(key, {}).setdefault(own.id if own else "", (place, own.name if own else ""))
    for key, group in groups.items():
        there = {id_: (place.disk, place.first) for id_, (place, _) in disks[key].items()}
        members = tuple(sorted({root for place, _ in disks[key].values() for root in place.roots}))
        for volume in logical_volumes(group, there):
            yield Assembled(
                LVM,
                f"{group.name}/{volume.name}",
                "",
                max(1, len(group.disks)),
                len(there),
                0,
                volume.sectors,
                volume.problem,
                members,
            )
