"""What a capture holds of the media: sectors that were read and that could not be, partition tables, what begins in
each partition."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from gatecheck.core.capture.drive import Drive, block_of, is_of
from gatecheck.core.capture.facts import BlockFacts
from gatecheck.core.capture.messages import Told, judge_drive
from gatecheck.core.capture.page import DECODED, EMPTY, FAILED, Page
from gatecheck.core.disk.judge import judge_unreadable
from gatecheck.core.disk.mbr import Layout, layout_of
from gatecheck.core.disk.owners import ENCRYPTED, Owner, owners_of
from gatecheck.core.disk.sectors import CapturedSectors, guessed_sector, sectors_of
from gatecheck.core.disk.volume import Volume, volume_at
from gatecheck.core.errors import DecodeError
from gatecheck.core.findings import NOTE, ranked
from gatecheck.core.firmware.loaders import SystemPartition
from gatecheck.core.knowledge.judging import Findings
from gatecheck.core.storage.judge import read_weights, verdict_words
from gatecheck.core.storage.kernel import USB
from gatecheck.core.volume.fat.layout import listing, read_fat
from gatecheck.core.volume.lvm.read import is_physical_volume, read_group
from gatecheck.core.words.said import say

_SECTOR_RANGE = re.compile(r"(?:^|/)part(\d+)")
_LBA = re.compile(r"(?:^|/)lba(\d{1,15})(-\d+)?\.")
_OF_SECTORS = ("disk-start", "disk-sectors")
_END = re.compile(r"(?:^|/)lba-last-\d+\.")
_EDGE = 34
"""sectors at a disk's beginning and at its end that name what stands on it"""


@dataclass(frozen=True, slots=True)
class CapturedDisk:
    """The medium of a drive as far as it was read. `device`: as its folder is called; `page`: where its start
    stands."""

    device: str
    page: str
    sectors: CapturedSectors
    layout: Layout
    unreadable: frozenset[int] = frozenset()
    """LBAs that were asked for one by one and could not be read"""
    end: bytes | None = None
    """its last sectors, where they were read"""

    @property
    def whole(self) -> Volume | None:
        """The one volume that the disk as a whole is, or what it is one of, where its edges say so: then there is no
        partition table to be missed."""
        if self.layout.kind is not None:
            return None
        try:
            volume = volume_at(self.sectors, 0)
        except DecodeError:
            volume = None
        if volume is not None:
            return volume
        for owner in self.owners:
            kind = "encrypted" if owner.kind == ENCRYPTED else owner.name.lower()
            return Volume(kind, owner.name, owner.at)
        return None

    @property
    def owners(self) -> tuple[Owner, ...]:
        """Whose records stand at its edges."""
        return owners_of(_with_end(self))

    @property
    def is_blank(self) -> bool:
        """Is there nothing on it, as far as its edges can tell: its first and its last sectors were all read, and are
        nothing but zeros?"""
        if not self.seems_blank:
            return False
        length = self.sectors.length
        if length and length <= _EDGE:
            return True
        return self.end is not None and len(self.end) >= _EDGE * self.sectors.sector

    @property
    def seems_blank(self) -> bool:
        """The same, where the last sectors may not have been read: enough to say so, not to write."""
        first = self.sectors.read(0, min(_EDGE, self.sectors.length or _EDGE))
        return not first.missing and not any(first.data) and not any(self.end or b"")


def _with_end(disk: CapturedDisk) -> CapturedSectors:
    size, length = disk.sectors.sector, disk.sectors.length
    if disk.end is None or not length or len(disk.end) < size:
        return disk.sectors
    count = len(disk.end) // size
    return disk.sectors.with_range(length - count, disk.end[: count * size])


@dataclass(frozen=True, slots=True)
class CapturedVolume:
    """What begins in a partition, None where no mark is known."""

    device: str
    page: str
    partition: int
    volume: Volume | None
    within: str = ""
    """the logical volume that it stands in, as group/volume"""
    programs: tuple[str, ...] = ()
    """of a system partition: the programs that firmware could start from it"""


def disks_of(
    pages: Iterable[Page], files: Mapping[str, bytes], blocks: Mapping[str, BlockFacts]
) -> Iterable[CapturedDisk]:
    """Every disk of which first sectors were read, or of which it is known that they cannot be."""
    of_device: dict[str, list[Page]] = {}
    ends: dict[str, bytes] = {}
    for page in pages:
        if _END.search(page.path) and page.status not in (FAILED, "skipped", "hung") and page.path in files:
            ends[page.device] = files[page.path]
        if page.kind in _OF_SECTORS and _LBA.search(page.path):
            of_device.setdefault(page.device, []).append(page)
    for device, own in of_device.items():
        ranges = {_lba(page.path): files[page.path] for page in own if page.status == DECODED}
        unreadable = {_lba(page.path) for page in own if _is_unreadable(page)}
        if not ranges and not unreadable:
            continue
        block = block_of(device, blocks)
        size = (block.sector if block else None) or guessed_sector(ranges.get(0, b""))
        try:
            length = block.size // size if block and block.size else None
            sectors = CapturedSectors(ranges, sector=size, length=length, unreadable=unreadable)
        except DecodeError:
            continue
        shown = min((page for page in own if page.status == DECODED), key=lambda p: _lba(p.path), default=own[0])
        yield CapturedDisk(device, shown.path, sectors, layout_of(sectors), frozenset(unreadable), ends.get(device))


def lba_of(path: str) -> int | None:
    """The first LBA of a page of sectors, None where its name tells none."""
    match = _LBA.search(path)
    return int(match[1]) if match else None


def _lba(path: str) -> int:
    found = lba_of(path)
    assert found is not None
    return found


def _is_unreadable(page: Page) -> bool:
    """A sector asked for alone that the drive could not read; one that never answered, or was left, was not read."""
    return (
        page.status == FAILED
        and not names_a_range(page.path)
        and page.detail is not None
        and page.detail.values.get("status") == "failed"
    )


def names_a_range(path: str) -> bool:
    """Several sectors in one page, or a place asked for alone."""
    match = _LBA.search(path)
    return match is not None and match[2] is not None


def with_medium(
    drive: Drive, disks: Iterable[CapturedDisk], messages: Told, blocks: Mapping[str, BlockFacts], rules: Findings
) -> Drive:
    """The drive with what the sectors that it could not read say of it, and what the kernel had to say."""
    own = [d for d in disks if is_of(d.device, drive.device) and d.unreadable]
    names = {name for name in (*blocks, *(d.device for d in own), drive.device) if is_of(name, drive.device)}
    block = block_of(drive.device, blocks)
    port = re.search(r"/(ata\d+)/", block.path) if block else None
    sector = (block.sector if block else None) or 512
    alone = drive.bus == USB and not own
    said = [] if alone else list(judge_drive(messages, names, port[1] if port else None, sector))
    found = [
        *(f for disk in own for f in judge_unreadable(disk.sectors, disk.unreadable, disk.layout, disk.device)),
        *said,
    ]
    if not found:
        return drive
    findings = ranked([*drive.findings, *found])
    if all(f.severity == NOTE for f in found):
        return replace(drive, findings=tuple(findings))
    weights = read_weights(drive.pages, findings, rules)
    starts = any(0 in disk.unreadable or (1 in disk.unreadable and disk.layout.kind != "mbr") for disk in own)
    more = {"disk-layout": dict(rules.weights["disk-layout"]["start-unreadable"])} if starts else {}
    verdict = say(verdict_words(weights), worst=next(f.text for f in findings if f.severity != NOTE))
    return replace(
        drive, findings=tuple(findings), weights=weights, log_weights={**drive.log_weights, **more}, verdict=verdict
    )


def volumes_in(pages: Iterable[Page], disks: Sequence[CapturedDisk]) -> Iterable[CapturedVolume]:
    """What begins in each partition, and in the logical volumes of those that hold some."""
    for page in pages:
        number = _SECTOR_RANGE.search(page.path)
        if page.kind == "partition-start" and page.status == DECODED and isinstance(page.values, bytes) and number:
            try:
                volume = volume_at(sectors_of(page.values), 0)
            except DecodeError:  # not even one sector of it
                volume = None
            yield CapturedVolume(
                page.device, page.path, int(number[1]), volume, "", _programs(page.device, int(number[1]), disks)
            )
            if is_physical_volume(page.values):
                yield from _inside(page, int(number[1]), next((d for d in disks if d.device == page.device), None))


def _programs(device: str, number: int, disks: Sequence[CapturedDisk]) -> tuple[str, ...]:
    disk = next((d for d in disks if d.device == device), None)
    first = (
        next((p.first for p in disk.layout.gpt.partitions if p.number == number and p.is_efi_system), None)
        if disk and disk.layout.gpt
        else None
    )
    if disk is None or first is None:
        return ()
    try:
        return tuple(
            sorted(
                f.path for f in listing(read_fat(disk.sectors, first)).files.values() if f.path.lower().endswith(".efi")
            )
        )[:_MOST_PROGRAMS]
    except DecodeError:
        return ()


_MOST_PROGRAMS = 40


def _inside(page: Page, number: int, disk: CapturedDisk | None) -> Iterable[CapturedVolume]:
    """What begins in the logical volumes of a physical one, as far as their first sectors were captured."""
    table = disk.layout.gpt or disk.layout.mbr if disk else None
    first = next((p.first for p in table.partitions if p.number == number), None) if table else None
    if disk is None or first is None:
        return
    try:
        group = read_group(disk.sectors, first)
    except DecodeError:
        return
    for own in group.volumes:
        if own.at is not None:
            try:
                volume = volume_at(disk.sectors, first + own.at // disk.sectors.sector)
            except DecodeError:
                continue
            yield CapturedVolume(page.device, page.path, number, volume, f"{group.name}/{own.name}")


def final_page(page: Page, disks: Iterable[CapturedDisk], volumes: Iterable[CapturedVolume]) -> Page:
    """A page of sectors is as good as what was found in it."""
    disk = next((d for d in disks if d.page == page.path), None)
    if disk is not None and disk.layout.kind is None and page.status == DECODED:
        return replace(
            page, status=EMPTY, detail=say("page.no-table" if disk.layout.is_known else "page.table-not-told")
        )
    volume = next((v for v in volumes if v.page == page.path), None)
    if volume is not None and volume.volume is None:
        return replace(page, status=EMPTY, detail=say("page.no-volume"))
    return page


def system_partitions(disks: Iterable[CapturedDisk]) -> list[SystemPartition]:
    """The system partitions whose directories were captured."""
    found = []
    for disk in disks:
        for partition in disk.layout.gpt.partitions if disk.layout.gpt else ():
            if partition.is_efi_system:
                try:
                    volume = read_fat(disk.sectors, partition.first)
                except DecodeError:
                    continue
                found.append(
                    SystemPartition(partition.guid, f"{disk.device}/part{partition.number}", volume, listing(volume))
                )
    return found
