"""A set of raw pages (path -> bytes) -> drives, disks, volumes, firmware, and what became of every page.

Never raises for damaged pages: one that cannot be read says why, and leaves the others alone.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

from gatecheck.core.capture.drive import Drive, block_of, drive_of, is_of, told_only
from gatecheck.core.capture.facts import BlockFacts, BlockNames, PciDevices, TextPage
from gatecheck.core.capture.kinds import BY_ID, FIRMWARE, PageFile, PageKind, kind_of
from gatecheck.core.capture.manifest import Manifest, read_manifest
from gatecheck.core.capture.medium import (
    CapturedDisk,
    CapturedVolume,
    disks_of,
    final_page,
    system_partitions,
    volumes_in,
    with_medium,
)
from gatecheck.core.capture.messages import judge_machine, told_by
from gatecheck.core.capture.page import DECODED, Page, read_page, unread_page
from gatecheck.core.capture.surface import surface_of, with_surface
from gatecheck.core.errors import DecodeError
from gatecheck.core.findings import Finding, ranked
from gatecheck.core.firmware.judge import Firmware
from gatecheck.core.firmware.loaders import judge_loaders, loader_situation, loaders_of, machine_wanted
from gatecheck.core.firmware.read import FirmwarePages, firmware_of
from gatecheck.core.firmware.smbios import EntryPoint, Smbios
from gatecheck.core.firmware.variables import Variable
from gatecheck.core.knowledge.judging import Findings
from gatecheck.core.scan.evidence import Scanned

_NOT_A_DRIVE = ("efivars", "dmi", "sysblock", "")


@dataclass(frozen=True, slots=True)
class Capture:
    """`blocks`: block devices as the kernel lists them, by name; `machine`: what it calls itself."""

    pages: tuple[Page, ...]
    drives: tuple[Drive, ...]
    disks: tuple[CapturedDisk, ...]
    volumes: tuple[CapturedVolume, ...]
    firmware: Firmware | None
    blocks: Mapping[str, BlockFacts]
    machine: Mapping[str, str]
    listed: tuple[str, ...] | None = None
    """names of all block devices, where the capture says so: then one that is not among them is not there"""
    notes: tuple[Finding, ...] = ()
    """what was found that is no one drive's: in the kernel's messages, in what the kernel knows of the machine"""
    pci: PciDevices | None = None
    state: BlockFacts | None = None
    """what the kernel knows of the machine, by name"""

    def disk_of(self, drive: Drive) -> CapturedDisk | None:
        """The medium of a drive, the first where a controller has several."""
        return min((d for d in self.disks if is_of(d.device, drive.device)), key=lambda d: d.device, default=None)

    def surface_of(self, drive: Drive) -> Scanned | None:
        """The map of the drive's surface, where there is one."""
        return surface_of(drive.device, self.pages)

    def block_of(self, drive: Drive) -> BlockFacts | None:
        return block_of(drive.device, self.blocks)

    def volumes_of(self, drive: Drive) -> list[CapturedVolume]:
        return [v for v in self.volumes if is_of(v.device, drive.device)]


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
    drives = sorted([*drives, *told_only(drives, blocks, rules)], key=lambda d: d.device)
    disks = tuple(disks_of(pages, files, blocks))
    messages = told_by(
        line
        for page in pages
        if page.kind == "kernel-messages" and isinstance(page.values, TextPage)
        for line in page.values.lines
    )
    drives = [with_medium(drive, disks, messages, blocks, rules) for drive in drives]
    drives = [with_surface(drive, pages, rules) for drive in drives]
    volumes = tuple(volumes_in(pages, disks))
    firmware = _firmware(pages, disks, manifest, rules)
    final = tuple(final_page(page, disks, volumes) for page in pages)
    pci = next((page.values for page in pages if isinstance(page.values, PciDevices)), None)
    state = next(
        (page.values for page in pages if page.kind == "machine-state" and isinstance(page.values, BlockFacts)), None
    )
    ports = {part for block in blocks.values() for part in block.path.split("/")}
    notes = tuple(ranked(judge_machine(messages, ports)))
    return Capture(
        final, tuple(drives), disks, volumes, firmware, blocks, manifest.machine, _listed(pages), notes, pci, state
    )


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


def _read_device(
    device: str,
    files: Mapping[str, bytes],
    blocks: Mapping[str, BlockFacts],
    override: str | None,
    manifest: Manifest,
    rules: Findings,
) -> tuple[list[Page], Drive | None]:
    kinds = {path: BY_ID[override] if override else kind_of(path, data) for path, data in files.items()}
    pages: list[Page] = []
    decoded: dict[str, object] = {}
    # identity and thresholds first: they say how the readings are to be read; later pages replace earlier ones
    for path in sorted(files, key=lambda p: (not _is_early(kinds[p]), "after" in p, p)):
        listed = manifest.pages.get(path)
        page = unread_page(path, device, kinds[path], files[path], listed) or read_page(
            path, device, kinds[path], files[path], decoded, listed.how if listed else ""
        )
        pages.append(page)
        if page.status == DECODED and page.values is not None:
            decoded[page.kind] = page.values
    return pages, drive_of(device, pages, decoded, block_of(device, blocks), rules)


def _is_early(kind: PageKind | None) -> bool:
    return kind is not None and kind.early


def _firmware(
    pages: Iterable[Page], disks: Iterable[CapturedDisk], manifest: Manifest, rules: Findings
) -> Firmware | None:
    """The firmware, None where the capture has none of its pages."""
    own = [page for page in pages if page.kind in BY_ID and BY_ID[page.kind].scope == FIRMWARE]
    if not own:
        return None
    values = {page.path: page.values for page in own}
    decoded = [value for page in own if page.status == DECODED for value in [page.values]]
    firmware_pages = FirmwarePages(
        {path: value for path, value in values.items() if isinstance(value, Variable)},
        next((v for v in decoded if isinstance(v, Smbios)), None),
        next((v for v in decoded if isinstance(v, EntryPoint)), None),
        {path: value for path, value in values.items() if isinstance(value, DecodeError)},
    )
    tables = [disk.layout for disk in disks]
    guids = {p.guid for layout in tables if layout.gpt for p in layout.gpt.partitions} if tables else None
    complete = not any(BY_ID["disk-start"].fits(path) and page.status != "ok" for path, page in manifest.pages.items())
    firmware = firmware_of(firmware_pages, guids, complete=complete, rules=rules)
    loaders = loaders_of(firmware.entries, system_partitions(disks), machine_wanted(manifest.machine))
    shown = loader_situation(loaders, firmware.current)
    weights = (
        {**firmware.weights, "loader-look": dict(rules.weights["loader-look"][shown[0]])} if shown else firmware.weights
    )
    return replace(
        firmware,
        loaders=tuple(loaders),
        findings=tuple(ranked([*firmware.findings, *judge_loaders(loaders)])),
        weights=weights,
    )
