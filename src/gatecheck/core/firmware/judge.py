"""What captured firmware means: where its boot entries lead, and what they say as soft evidence."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.findings import FIRMWARE, NOTE, SIGN, Finding
from gatecheck.core.firmware.boot_entry import DISK, OTHER, PRESENT, STALE, UNKNOWN, BootEntry
from gatecheck.core.firmware.loaders import Loader
from gatecheck.core.firmware.smbios import EntryPoint, Smbios
from gatecheck.core.firmware.variables import LoadOption, Variable
from gatecheck.core.knowledge.judging import Findings

_MOST_DANGLING = 12


@dataclass(frozen=True, slots=True)
class Firmware:
    """All that a capture says of the machine's firmware. `broken`: pages that could not be read, with the reason."""

    variables: Mapping[str, Variable]
    entries: tuple[BootEntry, ...]
    order: tuple[int, ...]
    current: int | None
    following: int | None
    timeout: int | None
    secure_boot: bool | None
    setup_mode: bool | None
    indications: tuple[str, ...]
    smbios: Smbios | None
    entry_point: EntryPoint | None
    broken: Mapping[str, DecodeError]
    findings: tuple[Finding, ...]
    entry_target: str | None
    """outcome of the check `entry-target`, where the capture tells it"""
    weights: Mapping[str, Mapping[str, float]]
    """check -> weights over its outcomes: soft evidence for the tape"""
    loaders: tuple[Loader, ...] = ()
    """what stands behind the entries whose partition was listed"""


def firmware_weights(target: str | None, rules: Findings) -> dict[str, dict[str, float]]:
    """What the boot entries say to `entry-target`, where they tell it."""
    return {"entry-target": dict(rules.weights["entry-target"][target])} if target else {}


def target_of(option: LoadOption, guids: Collection[str] | None, *, complete: bool = True) -> str:
    """Where an entry leads, seen from the disks of the capture; `guids` of all their partitions, None where unread.
    Not `complete`: a disk's first sectors could not be read, so that a partition that is not there may be on it."""
    guid = option.path.partition_guid
    if guid is None:
        return DISK if option.path.leads_to() in ("disk", "usb") else OTHER
    if guids is None:
        return UNKNOWN
    return PRESENT if guid in guids else STALE if complete else UNKNOWN


def entry_target(entries: Collection[BootEntry]) -> str | None:
    """The check's outcome over the entries that the firmware tries: present, stale, none, or None where it cannot be
    told."""
    tried = [e for e in entries if e.is_active and e.place is not None]
    targets = {e.target for e in tried}
    if PRESENT in targets:
        return "present"
    if UNKNOWN in targets:
        return None
    if STALE in targets:
        return "stale"
    return None if DISK in targets else "none"


def judge(
    entries: Collection[BootEntry],
    order: Collection[int],
    secure_boot: bool | None,
    smbios: Smbios | None,
    broken: Mapping[str, DecodeError],
) -> list[Finding]:
    """Findings in the order of their weight."""

    def note(name: str, page: str, at: int | None = None, **values: object) -> Finding:
        return Finding(name, FIRMWARE, NOTE, page, at, values)

    found: list[Finding] = []
    known = {e.number for e in entries}
    for entry in entries:
        if entry.target == STALE:
            severity = SIGN if entry.place is not None else NOTE
            found.append(
                Finding(
                    "entry-stale",
                    FIRMWARE,
                    severity,
                    entry.page,
                    None,
                    {"entry": entry.description, "partition": entry.partition},
                )
            )
    if entries and entry_target(entries) == "none":
        found.append(Finding("entry-none", FIRMWARE, SIGN, "BootOrder"))
    found += [
        note("order-dangles", "BootOrder", entry=number)
        for number in [n for n in order if n not in known][:_MOST_DANGLING]
    ]
    if secure_boot is not None:
        found.append(note("secure-boot", "SecureBoot", 4, on=secure_boot))
    if smbios and smbios.cut_off:
        found.append(note("smbios-cut", "dmi/DMI"))
    found += [
        Finding("unreadable", FIRMWARE, NOTE, page, error.at, {"page": page, "error": str(error)})
        for page, error in broken.items()
    ]
    return sorted(found, key=lambda f: f.severity == NOTE)
