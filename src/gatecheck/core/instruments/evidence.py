"""What a capture says about the ticket, as entries for its tape: settings, boot entries, and which drives a live system sees.

Each entry names its source as an id with values; the caller adds the file it rests on.
"""

from __future__ import annotations

from gatecheck.core.belief.facts import Facts
from gatecheck.core.capture.facts import is_a_drive
from gatecheck.core.capture.read import Capture, Drive
from gatecheck.core.findings import NOTE
from gatecheck.core.firmware.judge import DISK, PRESENT, STALE, UNKNOWN, BootEntry, Firmware
from gatecheck.core.instruments.settings import setting_entry
from gatecheck.core.instruments.sightings import sighting_entry
from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.words.said import Said, say, to_json

Json = dict[str, object]
_DRIVE_KINDS = {"ata": ("hdd", "sata-ssd"), "nvme": ("nvme",)}
_MOST_NAMED = 4


def expected_drive(capture: Capture, facts: Facts, *, with_pages: bool = False) -> Drive | None:
    """The one drive that can be the machine's own: not behind USB, of the ticket's kind where known; None where it is
    not clear. `with_pages`: only among drives with pages about their health, behind USB too where there is no other."""
    inside = [d for d in capture.drives if d.bus != "usb"]
    candidates = inside or (list(capture.drives) if with_pages else [])  # the live stick is never judged while another can be the one
    candidates = [d for d in candidates if d.weights or not with_pages]
    kind = facts.get("drive_kind")
    if len(candidates) > 1 and kind not in (None, "unknown"):
        fitting = [d for d in candidates if kind in _DRIVE_KINDS.get(d.bus, ())]
        candidates = [d for d in fitting if (d.identity or {}).get("rotation") != 0] if kind == "hdd" else fitting
    return candidates[0] if len(candidates) == 1 else None


def noted(entry: Json, note: Said) -> Json:
    """The entry with a note kept as its id and values."""
    return {**entry, "note": to_json(note)}


def capture_evidence(knowledge: Knowledge, facts: Facts, capture: Capture) -> list[Json]:
    """Entries for the tape, without the drive's own pages (they are weighed on their own). Empty for a bare page."""
    drive = expected_drive(capture, facts)
    entries: list[Json] = []
    disk = capture.disk_of(drive) if drive else None
    layout = disk.layout.kind if disk else None
    known = dict(facts)
    if layout and facts.get("disk_layout") != layout:
        entries.append(noted({"fact": {"disk_layout": layout}}, say("evidence.layout", layout=layout)))
        known["disk_layout"] = layout
    if capture.blocks or capture.listed is not None:
        entries += _sightings(knowledge, capture, drive)
    entries += _locked(capture, drive)
    return [*entries, *(_firmware_entries(knowledge, known, capture.firmware) if capture.firmware else [])]


def _firmware_entries(knowledge: Knowledge, facts: Facts, firmware: Firmware) -> list[Json]:
    entries: list[Json] = []
    signs = [f.text for f in firmware.findings if f.severity != NOTE]
    for check, weights in firmware.weights.items():
        note = say("evidence.signs", signs=signs) if signs else say("evidence.entry-present")
        entries.append(noted({"move": check, "weights": dict(weights)}, note))
    if firmware.secure_boot is not None:
        value = "on" if firmware.secure_boot else "off"
        entries.append(noted(setting_entry(knowledge, facts, "secure-boot", value), say("evidence.secure-boot", on=firmware.secure_boot)))
    order = order_value(firmware)
    if order:
        others = [o for o in knowledge.checks["boot-order"].outcomes if o not in (order, "not-shown")]
        sure = knowledge.plan["captured_order"]
        share = round((1.0 - sure) / len(others), 4)
        weights = {order: sure, **dict.fromkeys(others, share)}
        entries.append(noted({"move": "boot-order", "found": order, "weights": weights}, _order_note(firmware)))
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


def _order_note(firmware: Firmware) -> Said:
    names = [e.description or f"Boot{e.number:04X}" for e in firmware.entries if e.place is not None and e.is_active]
    return say("evidence.boot-order", names=names[:_MOST_NAMED], more=max(0, len(names) - _MOST_NAMED))


def _locked(capture: Capture, drive: Drive | None) -> list[Json]:
    """An encrypted volume on the machine's drive: its key comes before any setting is changed."""
    for found in capture.volumes_of(drive) if drive else []:
        if found.volume and found.volume.is_locked:
            return [noted({"move": "volume-look", "outcome": "locked"}, say("evidence.locked", page=found.page, volume=found.volume.name))]
    return []


def _sightings(knowledge: Knowledge, capture: Capture, drive: Drive | None) -> list[Json]:
    """The live system's column: the machine's own drive with its serial, and whatever else is plugged in."""
    entries: list[Json] = []
    inside = [d for d in capture.drives if d.bus != "usb"]
    if drive is not None:
        entries.append(_own_sighting(knowledge, capture, drive))
    elif not inside and not _other_disks(capture):
        entries.append(noted(sighting_entry(knowledge, "drive", "live", "absent"), say("evidence.no-drive")))
    sticks = [d for d in capture.drives if d.bus == "usb"]
    if sticks:
        entries.append(noted(sighting_entry(knowledge, "stick", "live", "right"), _names(sticks)))
    others = [d for d in inside if drive is not None and d is not drive]
    if others:
        entries.append(noted(sighting_entry(knowledge, "other-disk", "live", "right"), _names(others)))
    return entries


def _own_sighting(knowledge: Knowledge, capture: Capture, drive: Drive) -> Json:
    named, disk = _named(drive), capture.disk_of(drive)
    if not _capacity(capture, drive):
        return noted(sighting_entry(knowledge, "drive", "live", "zero-size"), say("evidence.seen-without-size", drive=named))
    if disk is not None and disk.layout.kind is None and disk.layout.is_told:
        return noted({"move": "seen-live", "outcome": "no-volumes", "found": "right"}, say("evidence.seen-without-table", drive=named))
    return noted(sighting_entry(knowledge, "drive", "live", "right"), say("evidence.seen", drive=named))


def _capacity(capture: Capture, drive: Drive) -> int:
    """Bytes, as the drive says of itself, else as the kernel does: a drive that answers no identity has a size all the same."""
    own = (drive.identity or {}).get("capacity")
    block = capture.block_of(drive)
    return own if isinstance(own, int) and own else (block.size or 0) if block else 0


def _other_disks(capture: Capture) -> list[str]:
    """Block devices inside the machine that have no page folder of their own (their pages were not read)."""
    return [name for name, block in capture.blocks.items() if is_a_drive(name) and not block.is_usb and not block.is_virtual and block.told]


def _names(drives: list[Drive]) -> Said:
    return say("sentences", sentences=[_named(d) for d in drives])


def _named(drive: Drive) -> Said:
    own = drive.identity or {}
    size = own.get("capacity")
    return say(
        "drive.named", model=str(own.get("model") or ""), size=size if isinstance(size, int) and size else None, serial=str(own.get("serial") or "")
    )
