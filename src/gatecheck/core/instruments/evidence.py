"""What a capture says about the ticket, as entries for its tape: settings, boot entries, and which drives a live system
sees.

Each entry names its source as an id with values; the caller adds the file it rests on.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from gatecheck.core.belief.facts import Facts
from gatecheck.core.capture.drive import Drive, is_of
from gatecheck.core.capture.facts import PciDevice, is_a_drive
from gatecheck.core.capture.identity import same_serial
from gatecheck.core.capture.read import Capture
from gatecheck.core.findings import NOTE
from gatecheck.core.firmware.boot_entry import DISK, PRESENT, STALE, UNKNOWN, BootEntry
from gatecheck.core.firmware.clock import firmware_date, judge_clock, parsed
from gatecheck.core.firmware.judge import Firmware
from gatecheck.core.firmware.loaders import Loader, loader_situation
from gatecheck.core.instruments.settings import setting_entry
from gatecheck.core.instruments.sightings import sighting_entry
from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.storage.kernel import ATA, EMMC, NVME, OUTSIDE, SD, UFS
from gatecheck.core.words.said import Said, say, to_json

Json = dict[str, object]
_ANY = ("hdd", "sata-ssd", "nvme", "emmc")
_DRIVE_KINDS = {
    ATA: ("hdd", "sata-ssd"),
    NVME: ("nvme",),
    EMMC: ("emmc",),
    UFS: ("emmc",),
    "scsi": ("hdd", "sata-ssd"),
    "raid": _ANY,
    "virtio": _ANY,
}
_MOST_NAMED = 4


def expected_drive(capture: Capture, facts: Facts, *, with_pages: bool = False) -> Drive | None:
    """The one drive that can be the machine's own: the one whose serial number the ticket has, else not plugged in from
    outside, of the ticket's kind where known; None where it is not clear. `with_pages`: only where something tells of
    its health, behind USB too where there is no other."""
    candidates = system_candidates(capture, facts)
    if not candidates and with_pages and not any(d.bus not in OUTSIDE for d in capture.drives):
        # no other: the machine's drive may hang on a bridge; a stick alone is none, nor the live system's own
        serial = facts.get("drive_serial")
        candidates = [
            d
            for d in capture.drives
            if d.bus != SD
            and d.weights
            and not _is_a_stick(capture, d)
            and (not serial or same_serial((d.identity or {}).get("serial"), serial))
        ]
    if with_pages and len(candidates) == 1 and not candidates[0].weights:
        return None
    return candidates[0] if len(candidates) == 1 else None


def system_candidates(capture: Capture, facts: Facts) -> list[Drive]:
    """The drives inside the machine that its system may be on; more than one is a question for whoever stands before
    it. None where the ticket knows its drive, by serial number or kind, and it is not among them: then it is asked
    which of them, if any, is meant (`strangers`)."""
    serial = facts.get("drive_serial")
    inside = [d for d in capture.drives if d.bus not in OUTSIDE]
    named = [d for d in inside if serial and same_serial((d.identity or {}).get("serial"), serial)]
    if named:
        return named
    if serial and any((d.identity or {}).get("serial") for d in inside):
        return []
    kind = facts.get("drive_kind")
    if kind not in (None, "unknown"):
        fitting = [d for d in inside if kind in _DRIVE_KINDS.get(d.bus, _ANY)]
        of_kind = [d for d in fitting if _turns(d) is not (kind != "hdd")]
        sure = [d for d in of_kind if _turns(d) is not None or d.bus in (NVME, ATA)]
        if inside and not of_kind:
            return []
        return sure or of_kind or inside
    return inside


def strangers(capture: Capture, facts: Facts) -> list[Drive]:
    """Drives inside the machine, where none of them is the one that the ticket knows."""
    return [] if system_candidates(capture, facts) else [d for d in capture.drives if d.bus not in OUTSIDE]


def _is_a_stick(capture: Capture, drive: Drive) -> bool:
    """Removable, as the kernel has it."""
    block = capture.block_of(drive)
    return block is not None and block.told.get("removable") == "1"


def _turns(drive: Drive) -> bool | None:
    rotation = (drive.identity or {}).get("rotation")
    return None if rotation is None else rotation != 0


def noted(entry: Json, note: Said) -> Json:
    """The entry with a note kept as its id and values."""
    return {**entry, "note": to_json(note)}


def capture_evidence(knowledge: Knowledge, facts: Facts, capture: Capture, *, with_clock: bool = True) -> list[Json]:
    """Entries for the tape, without the drive's own pages (they are weighed on their own). Empty for a bare page. Not
    `with_clock`: the clock was judged when the machine said hello; of a file nobody knows when it was read."""
    drive = expected_drive(capture, facts)
    entries: list[Json] = []
    disk = capture.disk_of(drive) if drive else None
    layout = disk.layout.kind if disk else None
    known = dict(facts)
    if layout and facts.get("disk_layout") != layout:
        entries.append(noted({"fact": {"disk_layout": layout}}, say("evidence.layout", layout=layout)))
        known["disk_layout"] = layout
    if capture.blocks or capture.listed is not None:
        entries += _sightings(knowledge, facts, capture, drive)
    entries += _locked(capture, drive)
    entries += [*_mains(facts, capture), *_storage_mode(knowledge, facts, capture, drive)]
    if with_clock:
        entries += clock_entries(knowledge, facts, capture.machine, None)
    told = _firmware_entries(knowledge, known, capture.firmware, drive) if capture.firmware else []
    if strangers(capture, facts):  # where the entries lead rests on a disk that may not be this machine's
        told = [e for e in told if e.get("move") not in ("entry-target", "loader-look", "boot-order")]
    return [*entries, *told]


def clock_entries(knowledge: Knowledge, facts: Facts, machine: Mapping[str, str], now: int | None) -> list[Json]:
    """What the machine's own clock says to the check `clock`, where it can be told. `machine`: what it calls itself;
    `now`: seconds since 1970, None where nobody knows when it was read."""
    clock = parsed(machine.get("rtc", ""))
    made, oldest = firmware_date(machine.get("bios_date", "")), knowledge.findings.limits["oldest_clock"]
    value = judge_clock(clock, now, made, oldest) if clock else None
    if clock is None or value is None:
        return []
    return [
        noted(
            setting_entry(knowledge, facts, "clock", value),
            say("evidence.clock", clock=machine["rtc"].replace("T", " ")),
        )
    ]


def _mains(facts: Facts, capture: Capture) -> list[Json]:
    """Whether a machine with a battery hangs on mains."""
    told = capture.state.told if capture.state else {}
    kinds = {name.removesuffix("/type"): kind for name, kind in told.items() if re.fullmatch(r"power/[^/]+/type", name)}
    # a charger may come in by USB
    online = {
        kind: {told.get(f"{name}/online") for name, own in kinds.items() if own == kind} for kind in ("Mains", "USB")
    }
    value = "connected" if "1" in online["Mains"] | online["USB"] else "battery" if online["Mains"] == {"0"} else None
    if value is None or facts.get("mains") == value:
        return []
    return [noted({"fact": {"mains": value}}, say("evidence.mains", mains=value == "connected"))]


def _storage_mode(knowledge: Knowledge, facts: Facts, capture: Capture, drive: Drive | None) -> list[Json]:
    """The storage mode as the PCI classes show it: what the controller of the machine's drive is, or one that hides
    drives behind itself."""
    value = storage_mode(capture, drive)
    if value is None:
        return []
    return [
        noted(
            setting_entry(knowledge, facts, "storage-mode", value[0]),
            say("evidence.storage-mode", kind=value[1].kind, driver=value[1].driver or "-"),
        )
    ]


_RAID, _AHCI, _IDE = "0104", "0106", "0101"
_CHIPSET, _ROOT = ("ahci", "vmd", ""), "0000:00:"
"""drivers of a chipset's own RAID mode, and the bus it stands on; another is a card, which no firmware setting turns
into AHCI"""


def storage_mode(capture: Capture, drive: Drive | None) -> tuple[str, PciDevice] | None:
    """(value of the settings row, the controller that shows it); None where it does not show."""
    devices = capture.pci.devices if capture.pci else ()
    hiding = [
        d
        for d in devices
        if d.remapped or (d.kind.startswith(_RAID) and d.driver in _CHIPSET and d.place.startswith(_ROOT))
    ]
    if hiding:
        return "raid", hiding[0]
    block = capture.block_of(drive) if drive else None
    # a card obeys no setting of the firmware
    own = [d for d in devices if block and d.place.startswith(_ROOT) and f"/{d.place}/" in block.path]
    for device in reversed(own):
        if device.kind.startswith(_AHCI):
            return "ahci", device
        if device.kind.startswith(_IDE):
            return "compatible", device
    return None


def _firmware_entries(knowledge: Knowledge, facts: Facts, firmware: Firmware, drive: Drive | None) -> list[Json]:
    entries: list[Json] = []
    signs = [f.text for f in firmware.findings if f.severity != NOTE]
    for check, weights in firmware.weights.items():
        note = say("evidence.signs", signs=signs) if signs else say("evidence.entry-present")
        if check == "loader-look":
            shown = loader_situation(firmware.loaders, firmware.current)
            if shown is None or drive is None or not is_of(shown[1].page.split("/")[0], drive.device):
                continue  # it stands on another drive than the machine's own
            note = _loader_note(shown[1])
        entries.append(noted({"move": check, "weights": dict(weights)}, note))
    if firmware.secure_boot is not None:
        value = "on" if firmware.secure_boot else "off"
        entries.append(
            noted(
                setting_entry(knowledge, facts, "secure-boot", value),
                say("evidence.secure-boot", on=firmware.secure_boot),
            )
        )
    order = order_value(firmware)
    if order:
        others = [o for o in knowledge.checks["boot-order"].outcomes if o not in (order, "not-shown")]
        sure = knowledge.plan["captured_order"]
        share = round((1.0 - sure) / len(others), 4)
        weights = {order: sure, **dict.fromkeys(others, share)}
        entries.append(noted({"move": "boot-order", "found": order, "weights": weights}, _order_note(firmware)))
    return entries


def _loader_note(loader: Loader) -> Said:
    return say(
        "evidence.loader",
        file=loader.file,
        entry=loader.description,
        state=say(f"loader-state.{loader.state}", machine=loader.machine),
    )


def order_value(firmware: Firmware) -> str | None:
    """The boot-order row's value from the captured order, with the entry the live system was started from set aside;
    None where it cannot be told which entry is the system's."""
    tried = [e for e in firmware.entries if e.is_active and e.place is not None and e.number != firmware.current]
    if not tried or any(e.target == UNKNOWN for e in tried):
        return None
    system = [e for e in tried if e.target == PRESENT]
    if not system:
        # a stale one may be the system's own
        return None if {e.target for e in tried} & {DISK, STALE} else "system-absent"
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
    disk = capture.disk_of(drive) if drive else None
    whole = disk.whole if disk else None
    if disk is not None and whole is not None and whole.is_locked:
        return [
            noted(
                {"move": "volume-look", "outcome": "locked"},
                say("evidence.locked", page=disk.page, volume=whole.name),
            )
        ]
    for found in capture.volumes_of(drive) if drive else []:
        if found.volume and found.volume.is_locked:
            return [
                noted(
                    {"move": "volume-look", "outcome": "locked"},
                    say("evidence.locked", page=found.page, volume=found.volume.name),
                )
            ]
    return []


def _sightings(knowledge: Knowledge, facts: Facts, capture: Capture, drive: Drive | None) -> list[Json]:
    """The live system's column: the machine's own drive with its serial, and whatever else is plugged in."""
    entries: list[Json] = []
    inside = [d for d in capture.drives if d.bus not in OUTSIDE]
    others_here = strangers(capture, facts)
    if others_here:
        known = str(facts.get("drive_serial") or "") or say(f"drive-kind.{facts.get('drive_kind')}")
        entries.append({"note": to_json(say("evidence.strangers", known=known, drives=_names(others_here)))})
    if drive is not None:
        own = _own_sighting(knowledge, capture, drive)
        entries += [own] if own else []
    elif not inside and _mute_controllers(capture):
        entries.append({"note": to_json(say("evidence.controller-alone", names=_mute_controllers(capture)))})
    elif not inside and not _other_disks(capture):
        entries.append(noted(sighting_entry(knowledge, "drive", "live", "absent"), say("evidence.no-drive")))
    sticks = [d for d in capture.drives if d.bus in OUTSIDE]
    if sticks:
        entries.append(noted(sighting_entry(knowledge, "stick", "live", "right"), _names(sticks)))
    others = [d for d in inside if drive is not None and d is not drive]
    if others:
        entries.append(noted(sighting_entry(knowledge, "other-disk", "live", "right"), _names(others)))
    return entries


def _own_sighting(knowledge: Knowledge, capture: Capture, drive: Drive) -> Json | None:
    named, disk, capacity = _named(drive), capture.disk_of(drive), _capacity(capture, drive)
    if drive.bus == NVME and capture.blocks and capture.block_of(drive) is None:
        return {"note": to_json(say("evidence.without-namespace", drive=named))}
    if capacity is None:
        return None
    if not capacity:
        return noted(
            sighting_entry(knowledge, "drive", "live", "zero-size"), say("evidence.seen-without-size", drive=named)
        )
    if disk is not None and disk.layout.kind is None and disk.layout.is_known:
        whole = disk.whole
        if whole is not None:  # no table is missed where there was none
            return noted(
                sighting_entry(knowledge, "drive", "live", "right"),
                say("evidence.seen-as-one", drive=named, volume=whole.name),
            )
        if disk.seems_blank:
            return noted(
                {"move": "seen-live", "outcome": "no-volumes", "found": "right"},
                say("evidence.seen-without-table", drive=named),
            )
        return noted(sighting_entry(knowledge, "drive", "live", "right"), say("evidence.seen-unknown", drive=named))
    return noted(sighting_entry(knowledge, "drive", "live", "right"), say("evidence.seen", drive=named))


def _capacity(capture: Capture, drive: Drive) -> int | None:
    """Bytes, as the drive says of itself, else as the kernel does: a drive that answers no identity has a size all the
    same. None where neither says."""
    own = (drive.identity or {}).get("capacity")
    block = capture.block_of(drive)
    known = [size for size in (own, block.size if block else None) if isinstance(size, int)]
    return max(known, default=None)


def _other_disks(capture: Capture) -> list[str]:
    """Block devices inside the machine that have no page folder of their own (their pages were not read)."""
    return [
        name
        for name, block in capture.blocks.items()
        if is_a_drive(name) and block.bus not in OUTSIDE and not block.is_virtual and block.told
    ]


_NVME_CLASS = "0108"


def _mute_controllers(capture: Capture) -> list[str]:
    """Places of NVMe controllers that the system drives and that show no disk: the drive is there, and gives nothing
    out."""
    devices = capture.pci.devices if capture.pci else ()
    paths = [b.path for b in capture.blocks.values()]
    return [
        d.place
        for d in devices
        if d.kind.startswith(_NVME_CLASS) and d.driver and not any(f"/{d.place}/" in p for p in paths)
    ]


def _names(drives: list[Drive]) -> Said:
    return say("sentences", sentences=[_named(d) for d in drives])


def _named(drive: Drive) -> Said:
    own = drive.identity or {}
    size = own.get("capacity")
    return say(
        "drive.named",
        model=str(own.get("model") or ""),
        size=size if isinstance(size, int) and size else None,
        serial=str(own.get("serial") or ""),
    )
