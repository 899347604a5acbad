"""The boot path from captures: one disk out of several readings, the firmware that meets it, and what the walk says to
the tape."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from gatecheck.core.capture.drive import is_of
from gatecheck.core.capture.medium import CapturedDisk, lba_of, names_a_range
from gatecheck.core.capture.read import Capture
from gatecheck.core.disk.boot_uefi import FirmwareEntry
from gatecheck.core.disk.bootpath import BIOS, UEFI, boot_path
from gatecheck.core.disk.division import division_of
from gatecheck.core.disk.follow import Followed, LayeredSectors
from gatecheck.core.disk.sectors import CapturedSectors, Sectors
from gatecheck.core.disk.volume import volume_at
from gatecheck.core.errors import DecodeError
from gatecheck.core.firmware.judge import Firmware
from gatecheck.core.firmware.loaders import machine_wanted
from gatecheck.core.knowledge.judging import Findings
from gatecheck.core.words.said import Said, say

_MODES = {"uefi": UEFI, "legacy": BIOS}
_LAYOUT = {
    "gpt-both-broken": "table-damaged",
    "gpt-unguarded": "table-damaged",
    "mbr-unsigned": "no-boot-record",
    "partition-outside": "table-damaged",
    "partition-overlaps": "table-damaged",
}
_MISSING = (
    "no-fallback",
    "loader-missing",
    "second-program-missing",
    "configuration-missing",
    "store-missing",
    "installation-missing",
    "named-file-missing",
    "modules-missing",
)
_NOT_TOLD = ("loader-unread", "kernel-unread", "configuration-unread", "start-unreadable", "boot-sector-unreadable")
"""that something cannot be read says nothing of what it is"""


def known_entries(firmware: Firmware | None, *, live: bool = True) -> list[FirmwareEntry] | None:
    """The boot entries as firmware tries them; None where nobody read them. Not `live`: without the one that the live
    system was started from."""
    if firmware is None:
        return None
    tried = sorted(
        (e for e in firmware.entries if e.is_active and e.place is not None and (live or e.number != firmware.current)),
        key=lambda e: e.place or 0,
    )
    return [
        FirmwareEntry(f"Boot{e.number:04X} {e.description}".strip(), e.partition or "", e.file or "", e.leads_to)
        for e in tried
    ]


def mode_of(capture: Capture) -> str | None:
    """How the machine's firmware started the live system; None where nobody said."""
    return _MODES.get(capture.machine.get("mode", ""))


def machine_of(capture: Capture) -> str:
    return machine_wanted(capture.machine) or "x64"


def base_of(captures: Sequence[Capture], device: str) -> tuple[Capture, CapturedDisk] | None:
    """The newest reading of the whole machine that holds this disk's start. `captures`: newest first; `device`: a
    drive's or a disk's name."""
    for capture in captures:
        disk = next((d for d in capture.disks if is_of(d.device, device)), None) if capture.listed is not None else None
        if disk is not None:
            return capture, disk
    return None


def layered(
    captures: Sequence[Capture],
    base: tuple[Capture, CapturedDisk],
    also: Sequence[tuple[Mapping[str, Any], bytes]] = (),
) -> LayeredSectors:
    """The disk as all readings since that one show it. `also`: pages of an order that is not done (line, bytes)."""
    capture, disk = base
    size, length = disk.sectors.sector, disk.sectors.length
    newer = captures[: next(n for n, c in enumerate(captures) if c is capture)]
    layers: list[Sectors] = [sectors_of_pages(also, size, length)] if also else []
    layers += [
        d.sectors
        for c in newer
        if c.listed is None
        for d in c.disks
        if d.device == disk.device and d.sectors.sector == size
    ]
    return LayeredSectors([*layers, disk.sectors], sector=size, length=length)


def sectors_of_pages(
    pages: Iterable[tuple[Mapping[str, Any], bytes]], sector: int, length: int | None
) -> CapturedSectors:
    """Pages of sectors as the probe sends them."""
    ranges: dict[int, bytes] = {}
    unreadable = set()
    for line, data in pages:
        lba = lba_of(str(line["path"]))
        if lba is None:
            continue
        if line["status"] == "ok":
            ranges[lba] = data
        elif line["status"] == "failed" and not names_a_range(str(line["path"])):
            unreadable.add(lba)
    return CapturedSectors(ranges, sector=sector, length=length, unreadable=unreadable)


def walk_says(
    rules: Findings,
    followed: Followed,
    disk: Sectors,
    mode: str,
    *,
    entries: Sequence[FirmwareEntry] | None = None,
    elsewhere: bool = False,
) -> list[dict[str, Any]]:
    """What a walk that stands says to the checks `disk-layout`, `loader-look` and `entry-target`: check, weights, the
    reason as an id and values. `elsewhere`: a whole loader stands on the disk where this firmware does not look: then
    it is not the loader that is missing."""
    found = followed.verdict
    last = found.findings[-1] if found.findings and not found.boots else None
    if not followed.stands or (last is not None and last.id in _NOT_TOLD):
        return []
    if not found.boots and any(f.id in ("one-of-a-set", "owned") for f in found.findings):
        return []  # it was never made to be started from, alone: that is no damage
    reason = say(f"bootpath.{last.id}", where=last.where) if last else say("evidence.path-starts")
    own = [
        _weighed(
            rules,
            "disk-layout",
            _layout(followed, disk, mode),
            reason if found.stops_at == "layout" else say("evidence.path-layout"),
        )
    ]
    if elsewhere and not found.boots:
        if entries is not None and not any(e.leads_to in ("partition", "disk") for e in entries):
            own.append(_weighed(rules, "entry-target", "none", say("evidence.path-elsewhere")))
    elif found.stops_at in (None, "loader", "system"):
        state = (
            "sound"
            if found.boots or found.stops_at == "system"
            else "missing"
            if last and last.id in _MISSING
            else "damaged"
        )
        own.append(_weighed(rules, "loader-look", f"walked-{state}", reason))
    return own


def _layout(followed: Followed, disk: Sectors, mode: str) -> str:
    found = followed.verdict
    if found.stops_at != "layout":
        return "sound"
    if _is_blank(disk):
        return "blank"
    if _other_starts(disk, mode):
        return "mode-mismatch"
    return next((_LAYOUT[f.id] for f in found.findings if f.id in _LAYOUT), "no-boot-record")


def _is_blank(disk: Sectors) -> bool:
    division = division_of(disk)
    if division.scheme != "none" or division.primary.header or division.backup.header:
        return False
    try:
        return volume_at(disk, 0) is None and not any(division.start)
    except DecodeError:
        return False


def _other_starts(disk: Sectors, mode: str) -> bool:
    """Would it start in the other mode, as far as that can be told from what was read?"""
    other = boot_path(disk, BIOS if mode == UEFI else UEFI)
    return other.boots and not any(f.id == "code-unknown" and f.where == "LBA 0" for f in other.findings)


def _weighed(rules: Findings, check: str, situation: str, reason: Said) -> dict[str, Any]:
    return {"move": check, "weights": dict(rules.weights[check][situation]), "note": reason}
