"""A set of raw pages (path -> bytes) -> drives, disks, volumes, firmware, and what became of every page.

Never raises for damaged pages: one that cannot be read says why, and leaves the others alone.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from gatecheck.core.capture.facts import BlockFacts, BlockNames
from gatecheck.core.capture.kinds import BY_ID, DRIVE, FIRMWARE, KINDS, PageFile, PageKind, kind_of
from gatecheck.core.capture.manifest import Listed, Manifest, read_manifest
from gatecheck.core.disk.judge import judge_unreadable
from gatecheck.core.disk.mbr import Layout, layout_of
from gatecheck.core.disk.sectors import CapturedSectors, guessed_sector, sectors_of
from gatecheck.core.disk.volume import Volume, volume_at
from gatecheck.core.errors import DecodeError
from gatecheck.core.findings import FAILING, NOTE, Finding, ranked
from gatecheck.core.firmware.judge import Firmware
from gatecheck.core.firmware.read import FirmwarePages, firmware_of
from gatecheck.core.firmware.smbios import EntryPoint, Smbios
from gatecheck.core.firmware.variables import Variable
from gatecheck.core.knowledge.judging import Findings
from gatecheck.core.storage.judge import health_weights, judge_hidden, judge_silent, read_weights, verdict_words
from gatecheck.core.storage.judge_logs import Weights, merged, said_of
from gatecheck.core.storage.layout import SECTOR
from gatecheck.core.storage.pages import DrivePages
from gatecheck.core.storage.read import SmartStatus, is_blank
from gatecheck.core.words.said import Said, say

DECODED, EMPTY, REFUSED, FAILED, BROKEN, UNKNOWN = "decoded", "empty", "refused", "failed", "broken", "unknown"
"""`failed`: there are no bytes, because a call never came back or went wrong; the manifest says how"""
_NOT_A_DRIVE = ("efivars", "dmi", "sysblock", "")
_SECTOR_RANGE = re.compile(r"(?:^|/)part(\d+)")
_LBA = re.compile(r"(?:^|/)lba(\d{1,15})(-\d+)?\.")
_OF_SECTORS = ("disk-start", "disk-sectors")


@dataclass(frozen=True, slots=True)
class Page:
    """One file of a capture. `kind`: as in the table of kinds, or empty; `values` is set where it was decoded, `detail` where not."""

    path: str
    device: str
    kind: str
    status: str
    detail: Said | None
    values: object | None
    size: int


@dataclass(frozen=True, slots=True)
class Drive:
    """One drive of a capture with everything that could be said about it. `log_weights`: what its logs say to other checks."""

    device: str
    bus: str
    pages: DrivePages
    findings: tuple[Finding, ...]
    weights: Mapping[str, float] | None
    log_weights: Weights
    verdict: Said

    @property
    def identity(self) -> dict[str, object] | None:
        return self.pages.identity(self.bus)

    def said_of(self, check: str) -> Said:
        """One sentence on what it says to a check of `log_weights`."""
        if check != "disk-layout":
            return said_of(check, self.pages)
        return next(f.text for f in self.findings if f.id in ("lba0-unreadable", "gpt-header-unreadable"))


@dataclass(frozen=True, slots=True)
class Disk:
    """The medium of a drive as far as it was read. `device`: as its folder is called; `page`: where its start stands."""

    device: str
    page: str
    sectors: CapturedSectors
    layout: Layout
    unreadable: frozenset[int] = frozenset()
    """LBAs that were asked for one by one and could not be read"""


@dataclass(frozen=True, slots=True)
class FoundVolume:
    """What begins in a partition, None where no mark is known."""

    device: str
    page: str
    partition: int
    volume: Volume | None


@dataclass(frozen=True, slots=True)
class Capture:
    """`blocks`: block devices as the kernel lists them, by name; `machine`: what it calls itself."""

    pages: tuple[Page, ...]
    drives: tuple[Drive, ...]
    disks: tuple[Disk, ...]
    volumes: tuple[FoundVolume, ...]
    firmware: Firmware | None
    blocks: Mapping[str, BlockFacts]
    machine: Mapping[str, str]
    listed: tuple[str, ...] | None = None
    """names of all block devices, where the capture says so: then one that is not among them is not there"""

    def disk_of(self, drive: Drive) -> Disk | None:
        """The medium of a drive. A controller's first namespace has a name of its own."""
        return next((d for d in self.disks if d.device in _names(drive.device)), None)

    def block_of(self, drive: Drive) -> BlockFacts | None:
        return next((self.blocks[name] for name in _names(drive.device) if name in self.blocks), None)

    def volumes_of(self, drive: Drive) -> list[FoundVolume]:
        return [v for v in self.volumes if v.device in _names(drive.device)]


def _names(device: str) -> tuple[str, str]:
    return device, f"{device}n1"


def read_capture(files: Mapping[str, bytes], rules: Findings, *, kind: str | None = None) -> Capture:
    """Decode and judge everything. `kind` overrides detection (for a single page)."""
    manifest = read_manifest(files)
    unread = {path for path, page in manifest.pages.items() if page.status != "ok"}
    pages: list[Page] = []
    drives: list[Drive] = []
    by_device: dict[str, dict[str, bytes]] = {}
    for path in sorted({*files, *unread}):
        by_device.setdefault(_device_of(path), {})[path] = files.get(path, b"")
    blocks = _blocks(files)
    for device, own in by_device.items():
        found, drive = _read_device(device, own, blocks, kind, manifest, rules)
        pages += found
        if drive:
            drives.append(drive)
    disks = tuple(_disks(pages, files, blocks))
    drives = [_with_medium(drive, disks, rules) for drive in drives]
    volumes = tuple(_volumes(pages))
    firmware = _firmware(pages, disks, manifest, rules)
    final = tuple(_final(page, disks, volumes) for page in pages)
    return Capture(final, tuple(drives), disks, volumes, firmware, blocks, manifest.machine, _listed(pages))


def _device_of(path: str) -> str:
    folder = path.rsplit("/", 1)[0] if "/" in path else ""
    return "" if folder.rsplit("/", 1)[-1] in _NOT_A_DRIVE else folder


def _blocks(files: Mapping[str, bytes]) -> dict[str, BlockFacts]:
    found = {}
    for path, data in files.items():
        if BY_ID["block-device"].fits(path.lower()):
            value = BY_ID["block-device"].read(PageFile(path, data, {}))
            assert isinstance(value, BlockFacts)
            found[path.rsplit("/", 1)[-1].removesuffix(".txt")] = value
    return found


def _listed(pages: Iterable[Page]) -> tuple[str, ...] | None:
    return next((page.values.names for page in pages if isinstance(page.values, BlockNames)), None)


def _block_of(device: str, blocks: Mapping[str, BlockFacts]) -> BlockFacts | None:
    """nvme0 in a capture is the controller; its facts stand under its first namespace."""
    name = device.rsplit("/", 1)[-1]
    return blocks.get(name) or blocks.get(f"{name}n1")


# --- one device ----------------------------------------------------------------------------------------------------


def _read_device(
    device: str, files: Mapping[str, bytes], blocks: Mapping[str, BlockFacts], override: str | None, manifest: Manifest, rules: Findings
) -> tuple[list[Page], Drive | None]:
    kinds = {path: BY_ID[override] if override else kind_of(path, data) for path, data in files.items()}
    pages: list[Page] = []
    decoded: dict[str, object] = {}
    # identity and thresholds first: they say how the readings are to be read; later pages replace earlier ones
    for path in sorted(files, key=lambda p: (not _is_early(kinds[p]), "after" in p, p)):
        page = _unread(path, device, kinds[path], files[path], manifest.pages.get(path)) or _read_page(path, device, kinds[path], files[path], decoded)
        pages.append(page)
        if page.status == DECODED and page.values is not None:
            decoded[page.kind] = page.values
    return pages, _drive(device, pages, decoded, _block_of(device, blocks), rules)


def _is_early(kind: PageKind | None) -> bool:
    return kind is not None and kind.early


def _drive(device: str, pages: Iterable[Page], decoded: Mapping[str, object], block: BlockFacts | None, rules: Findings) -> Drive | None:
    """The drive whose pages these are; None where there is none that only a drive has."""
    known = [page for page in pages if page.kind in BY_ID and BY_ID[page.kind].scope == DRIVE]
    if not known or all(page.kind == "log-directory" for page in known):
        return None
    own = {kind: value for kind, value in decoded.items() if BY_ID[kind].scope == DRIVE}
    pages_of_drive = DrivePages(
        {kind.id: own[kind.id] for kind in sorted(KINDS, key=lambda k: -k.richness) if kind.id in own}, _is_hidden(known, own),
        sum(page.status != DECODED and not BY_ID[page.kind].optional for page in known),
    )  # fmt: skip
    is_silent = pages_of_drive.hidden and block is not None and block.is_foreign
    findings = (judge_silent() if is_silent else judge_hidden()) if pages_of_drive.hidden else []
    findings += _judged(pages_of_drive, rules)
    spoken = _speaking(pages_of_drive)
    log_weights = merged(kind.weigh(pages_of_drive.decoded[kind.id], pages_of_drive, rules) for kind in spoken if kind.weigh)
    weights = None if is_silent else health_weights(pages_of_drive, findings, rules)
    verdict = say("verdict.silent") if is_silent else _verdict(pages_of_drive, findings, weights)
    return Drive(device, _bus(block, pages_of_drive), pages_of_drive, tuple(findings), weights, log_weights, verdict)


_SAYS_LITTLE = ("smart-status", "nvme-errors")


def _is_hidden(known: Iterable[Page], decoded: Mapping[str, object]) -> bool:
    """Every page was refused or empty: a bridge or controller that passes none."""
    return not decoded.keys() - {*_SAYS_LITTLE} and all(page.status in (EMPTY, REFUSED) for page in known if page.kind not in _SAYS_LITTLE)


def _speaking(pages: DrivePages) -> list[PageKind]:
    """The kinds that are judged: of each topic the richest that was read."""
    chosen: dict[str, PageKind] = {}
    for kind in KINDS:
        if kind.id in pages.decoded:
            topic = kind.topic or kind.id
            if topic not in chosen or chosen[topic].richness < kind.richness:
                chosen[topic] = kind
    return list(chosen.values())


def _judged(pages: DrivePages, rules: Findings) -> list[Finding]:
    """All findings, the weightiest first; a log does not say again what the drive's other pages have said."""
    speaking = [kind for kind in _speaking(pages) if kind.judge]
    found = [f for kind in speaking if not kind.optional and kind.judge for f in kind.judge(pages.decoded[kind.id], kind.id, pages, rules)]
    said = {f.id for f in found}
    logged = [f for kind in speaking if kind.optional and kind.judge for f in kind.judge(pages.decoded[kind.id], kind.id, pages, rules)]
    return ranked([*ranked(found), *(f for f in logged if f.id not in said)])


def _verdict(pages: DrivePages, findings: Sequence[Finding], weights: Mapping[str, float] | None) -> Said:
    """One sentence that a technician can read at a glance."""
    if pages.hidden:
        return say("verdict.hidden")
    if weights is None:
        failing = next((f.text for f in findings if f.severity == FAILING), None)
        return say("verdict.only", worst=failing) if failing else say("verdict.identity-only")
    worst = next((f.text for f in findings if f.severity != NOTE), None)
    return say(verdict_words(weights), worst=worst or "")


def _bus(block: BlockFacts | None, pages: DrivePages) -> str:
    if block and block.is_usb:
        return "usb"
    if pages.controller or (block and block.told.get("device/transport") == "pcie"):
        return "nvme"
    return "ata" if pages.ata else "unknown"


# --- one page ------------------------------------------------------------------------------------------------------


def _unread(path: str, device: str, kind: PageKind | None, data: bytes, listed: Listed | None) -> Page | None:
    """A page that the manifest says was not read, or whose bytes are not the ones it lists; None for any other."""
    if listed is None:
        return None
    name = kind.id if kind else ""
    if listed.status != "ok":
        status = REFUSED if listed.status == "refused" else FAILED
        return Page(path, device, name, status, say("page.not-read", status=listed.status, detail=listed.detail), None, len(data))
    if listed.sha256 and hashlib.sha256(data).hexdigest() != listed.sha256:
        return Page(path, device, name, BROKEN, say("page.other-bytes", sha256=listed.sha256[:12]), None, len(data))
    return None


def _read_page(path: str, device: str, kind: PageKind | None, data: bytes, decoded: Mapping[str, object]) -> Page:
    def page(status: str, detail: Said | None = None, values: object | None = None) -> Page:
        return Page(path, device, kind.id if kind else "", status, detail, values, len(data))

    refusal = _refusal(path)
    if refusal:
        return page(REFUSED, say("page.refused", status=refusal))
    if kind is None:
        return page(UNKNOWN, say("page.unknown", count=len(data)))
    if len(data) >= SECTOR and is_blank(data) and not kind.blank:
        return page(EMPTY, say("page.empty-log" if kind.optional else "page.empty"))
    try:
        values = kind.read(PageFile(path, data, decoded))
    except DecodeError as error:
        return page(BROKEN, say("page.broken", error=str(error)), error)
    if isinstance(values, SmartStatus) and values.refused:
        return page(REFUSED, say("page.bridge-refused", detail=values.detail), values)
    return page(DECODED, None, values)


def _refusal(path: str) -> str | None:
    """NVMe completion status from a name such as `log-06.r16386.bin`; 0 is success."""
    match = re.search(r"\.r(\d{1,6})\.", path)
    return f"{int(match[1]):04X}h" if match and int(match[1]) else None


# --- disks, volumes, firmware ----------------------------------------------------------------------------------------


def _disks(pages: Iterable[Page], files: Mapping[str, bytes], blocks: Mapping[str, BlockFacts]) -> Iterable[Disk]:
    """Every disk of which first sectors were read, or of which it is known that they cannot be."""
    of_device: dict[str, list[Page]] = {}
    for page in pages:
        if page.kind in _OF_SECTORS and _LBA.search(page.path):
            of_device.setdefault(page.device, []).append(page)
    for device, own in of_device.items():
        ranges = {_lba(page.path): files[page.path] for page in own if page.status == DECODED}
        unreadable = {_lba(page.path) for page in own if _is_unreadable(page)}
        if not ranges and not unreadable:
            continue
        block = _block_of(device, blocks)
        size = (block.sector if block else None) or guessed_sector(ranges.get(0, b""))
        try:
            length = block.size // size if block and block.size else None
            sectors = CapturedSectors(ranges, sector=size, length=length, unreadable=unreadable)
        except DecodeError:
            continue
        shown = min((page for page in own if page.status == DECODED), key=lambda p: _lba(p.path), default=own[0])
        yield Disk(device, shown.path, sectors, layout_of(sectors), frozenset(unreadable))


def _lba(path: str) -> int:
    match = _LBA.search(path)
    assert match is not None
    return int(match[1])


def _is_unreadable(page: Page) -> bool:
    """A sector asked for alone that the drive could not read; one that never answered, or was left, was not read."""
    return page.status == FAILED and not _is_range(page.path) and page.detail is not None and page.detail.values.get("status") == "failed"


def _is_range(path: str) -> bool:
    match = _LBA.search(path)
    return match is not None and match[2] is not None


def _with_medium(drive: Drive, disks: Iterable[Disk], rules: Findings) -> Drive:
    """The drive with what the sectors that it could not read say of it."""
    disk = next((d for d in disks if d.device in _names(drive.device)), None)
    if disk is None or not disk.unreadable:
        return drive
    found = judge_unreadable(disk.sectors, disk.unreadable, disk.layout, disk.device)
    findings = ranked([*drive.findings, *found])
    weights = read_weights(drive.pages, findings, rules)
    starts = 0 in disk.unreadable or (1 in disk.unreadable and disk.layout.kind != "mbr")
    more = {"disk-layout": dict(rules.weights["disk-layout"]["start-unreadable"])} if starts else {}
    verdict = say(verdict_words(weights), worst=next(f.text for f in findings if f.severity != NOTE))
    return replace(drive, findings=tuple(findings), weights=weights, log_weights={**drive.log_weights, **more}, verdict=verdict)


def _volumes(pages: Iterable[Page]) -> Iterable[FoundVolume]:
    for page in pages:
        number = _SECTOR_RANGE.search(page.path)
        if page.kind == "partition-start" and page.status == DECODED and isinstance(page.values, bytes) and number:
            try:
                volume = volume_at(sectors_of(page.values), 0)
            except DecodeError:  # not even one sector of it
                volume = None
            yield FoundVolume(page.device, page.path, int(number[1]), volume)


def _final(page: Page, disks: Iterable[Disk], volumes: Iterable[FoundVolume]) -> Page:
    """A page of sectors is as good as what was found in it."""
    disk = next((d for d in disks if d.page == page.path), None)
    if disk is not None and disk.layout.kind is None and page.status == DECODED:
        return replace(page, status=EMPTY, detail=say("page.no-table" if disk.layout.is_told else "page.table-not-told"))
    volume = next((v for v in volumes if v.page == page.path), None)
    if volume is not None and volume.volume is None:
        return replace(page, status=EMPTY, detail=say("page.no-volume"))
    return page


def _firmware(pages: Iterable[Page], disks: Iterable[Disk], manifest: Manifest, rules: Findings) -> Firmware | None:
    """The firmware, None where the capture has none of its pages."""
    own = [page for page in pages if page.kind in BY_ID and BY_ID[page.kind].scope == FIRMWARE]
    if not own:
        return None
    values = {page.path: page.values for page in own}
    decoded = [value for page in own if page.status == DECODED for value in [page.values]]
    firmware_pages = FirmwarePages(
        {path: value for path, value in values.items() if isinstance(value, Variable)},
        next((v for v in decoded if isinstance(v, Smbios)), None), next((v for v in decoded if isinstance(v, EntryPoint)), None),
        {path: value for path, value in values.items() if isinstance(value, DecodeError)},
    )  # fmt: skip
    tables = [disk.layout for disk in disks]
    guids = {p.guid for layout in tables if layout.gpt for p in layout.gpt.partitions} if tables else None
    complete = not any(BY_ID["disk-start"].fits(path) and page.status != "ok" for path, page in manifest.pages.items())
    return firmware_of(firmware_pages, guids, complete=complete, rules=rules)


