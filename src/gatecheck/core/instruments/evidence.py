"""What a capture says about the ticket, as entries for its tape: settings, boot entries, and which drives a live system sees.

Each entry names its source in words; the caller adds the file it rests on.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from gatecheck.core.belief.facts import Facts
from gatecheck.core.captured import is_disk_start, is_partition_start
from gatecheck.core.disk.mbr import disk_layout
from gatecheck.core.disk.volume import volume_of
from gatecheck.core.firmware.captured import read_firmware
from gatecheck.core.firmware.judge import DISK, PRESENT, STALE, UNKNOWN, BootEntry, Firmware
from gatecheck.core.instruments.settings import setting_entry
from gatecheck.core.instruments.sightings import sighting_entry
from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.storage.capture import Capture, Drive

Json = dict[str, object]
_DRIVE_KINDS = {"ata": ("hdd", "sata-ssd"), "nvme": ("nvme",)}


def expected_drive(capture: Capture, facts: Facts, *, with_pages: bool = False) -> Drive | None:
    """The one drive that can be the machine's own: not behind USB, of the ticket's kind where known; None where it is
    not clear. `with_pages`: only among drives with pages about their health, behind USB too where there is no other."""
    drives = [d for d in capture.drives if d.weights or not with_pages]
    candidates = [d for d in drives if d.bus != "usb"] or (drives if with_pages else [])
    kind = facts.get("drive_kind")
    if len(candidates) > 1 and kind not in (None, "unknown"):
        fitting = [d for d in candidates if kind in _DRIVE_KINDS.get(d.bus, ())]
        candidates = [d for d in fitting if (d.identity or {}).get("rotation") != 0] if kind == "hdd" else fitting
    return candidates[0] if len(candidates) == 1 else None


def capture_evidence(knowledge: Knowledge, facts: Facts, files: Mapping[str, bytes], capture: Capture) -> list[Json]:
    """Entries for the tape, without the drive's own pages (they are weighed on their own). Empty for a bare page."""
    drive = expected_drive(capture, facts)
    entries: list[Json] = []
    layout = _layout_of(drive, files)
    known = dict(facts)
    if layout and facts.get("disk_layout") != layout:
        entries.append({"fact": {"disk_layout": layout}, "note": f"The first sectors of the drive say {layout.upper()}"})
        known["disk_layout"] = layout
    if any(path.startswith("sysblock/") for path in files):
        entries += _sightings(knowledge, capture, drive, files)
    entries += _locked(drive, files)
    firmware = read_firmware(files)
    return [*entries, *(_firmware_entries(knowledge, known, firmware) if firmware else [])]


def _firmware_entries(knowledge: Knowledge, facts: Facts, firmware: Firmware) -> list[Json]:
    entries: list[Json] = []
    signs = "; ".join(f.text for f in firmware.findings if f.severity != "note")
    for check, weights in firmware.weights.items():
        entries.append({"move": check, "weights": weights, "note": signs or "The boot entry's partition is on a captured disk"})
    if firmware.secure_boot is not None:
        value = "on" if firmware.secure_boot else "off"
        entries.append({**setting_entry(knowledge, facts, "secure-boot", value), "note": f"The variable SecureBoot says {value}"})
    order = order_value(firmware)
    if order:
        others = [o for o in knowledge.checks["boot-order"].outcomes if o not in (order, "not-shown")]
        sure = knowledge.plan["captured_order"]
        share = round((1.0 - sure) / len(others), 4)
        weights = {order: sure, **dict.fromkeys(others, share)}
        entries.append({"move": "boot-order", "found": order, "weights": weights, "note": f"BootOrder as captured: {_order_text(firmware)}"})
    return entries


def order_value(firmware: Firmware) -> str | None:
    """The boot-order row's value from the captured order, with the entry the live system was started from set aside;
    None where it cannot be told which entry is the system's."""
    tried = [e for e in firmware.entries if e.is_active and e.place is not None and e.number != firmware.current]
    if not tried or any(e.target == UNKNOWN for e in tried):
        return None
    system = [e for e in tried if e.target == PRESENT]
    if not system:
        return None if {e.target for e in tried} & {DISK, STALE} else "system-absent"  # a stale one may be the system's own
    first = next((e for e in tried if _can_start(e)), None)
    return "system-first" if first is system[0] else "other-first"


def _can_start(entry: BootEntry) -> bool:
    """An entry that firmware would really stop at: not its own programs, and not one whose disk is gone."""
    return entry.target in (PRESENT, DISK) or entry.leads_to == "network"


def _order_text(firmware: Firmware) -> str:
    names = [e.description or f"Boot{e.number:04X}" for e in firmware.entries if e.place is not None and e.is_active]
    return ", ".join(names[:4]) + (f" and {len(names) - 4} more" if len(names) > 4 else "")


def _layout_of(drive: Drive | None, files: Mapping[str, bytes]) -> str | None:
    start = _start_of(drive, files)
    return disk_layout(start) if start else None


def _start_of(drive: Drive | None, files: Mapping[str, bytes]) -> bytes | None:
    if drive is None:
        return None
    folders = (f"{drive.device}/", f"{drive.device}n1/")
    return next((data for path, data in files.items() if path.startswith(folders) and is_disk_start(path)), None)


def _locked(drive: Drive | None, files: Mapping[str, bytes]) -> list[Json]:
    """An encrypted volume on the machine's drive: its key comes before any setting is changed."""
    if drive is None:
        return []
    folders = (f"{drive.device}/", f"{drive.device}n1/")
    for path, data in files.items():
        volume = volume_of(data) if path.startswith(folders) and is_partition_start(path) else None
        if volume and volume.is_locked:
            return [{"move": "volume-look", "outcome": "locked", "note": f"{path}: {volume.name}"}]
    return []


def _sightings(knowledge: Knowledge, capture: Capture, drive: Drive | None, files: Mapping[str, bytes]) -> list[Json]:
    """The live system's column: the machine's own drive with its serial, and whatever else is plugged in."""
    entries: list[Json] = []
    inside = [d for d in capture.drives if d.bus != "usb"]
    if drive is not None:
        entries.append(_own_sighting(knowledge, drive, _start_of(drive, files)))
    elif not inside and not _other_disks(files):
        entries.append({**sighting_entry(knowledge, "drive", "live", "absent"), "note": "The live system lists no drive inside the machine"})
    sticks = [d for d in capture.drives if d.bus == "usb"]
    if sticks:
        entries.append({**sighting_entry(knowledge, "stick", "live", "right"), "note": "; ".join(_named(d) for d in sticks)})
    others = [d for d in inside if drive is not None and d is not drive]
    if others:
        entries.append({**sighting_entry(knowledge, "other-disk", "live", "right"), "note": "; ".join(_named(d) for d in others)})
    return entries


def _own_sighting(knowledge: Knowledge, drive: Drive, start: bytes | None) -> Json:
    named = f"{_named(drive)}: listed by the live system"
    if not (drive.identity or {}).get("capacity"):
        return {**sighting_entry(knowledge, "drive", "live", "zero-size"), "note": f"{named}, with no capacity"}
    if start is not None and disk_layout(start) is None:
        return {"move": "seen-live", "outcome": "no-volumes", "found": "right", "note": f"{named}, without a partition table"}
    return {**sighting_entry(knowledge, "drive", "live", "right"), "note": named}


def _other_disks(files: Mapping[str, bytes]) -> list[str]:
    """Block devices inside the machine that have no page folder of their own (their pages were not read)."""
    found = []
    for path, data in files.items():
        text = data.decode("utf-8", "replace") if path.startswith("sysblock/") else ""
        name = path.rsplit("/", 1)[-1].removesuffix(".txt")
        if text and not re.search(r"/usb\d|/virtual/", text) and not re.match(r"(loop|ram|zram|sr|fd|dm-|md)\d", name):
            found.append(name)
    return found


def _named(drive: Drive) -> str:
    own = drive.identity or {}
    size = own.get("capacity")
    size_text = "" if not isinstance(size, int) or not size else f"{size / 1e9:.0f} GB" if size >= 1e9 else f"{size / 1e6:.0f} MB"
    parts = [str(own.get("model") or "unnamed drive"), size_text, f"serial {own['serial']}" if own.get("serial") else ""]
    return ", ".join(p for p in parts if p)
