"""What captured firmware means: where its boot entries lead, and what they say as soft evidence."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.findings import Finding
from gatecheck.core.firmware.smbios import EntryPoint, Smbios
from gatecheck.core.firmware.variables import LoadOption, Variable

_KIND = "firmware"
PRESENT, STALE, DISK, OTHER, UNKNOWN = "present", "stale", "disk", "other", "unknown"
# how surely a captured entry is the one the firmware uses: it may be changed before the next start
_TARGET_WEIGHTS = {
    "present": {"present": 0.95, "stale": 0.03, "none": 0.02},
    "stale": {"present": 0.03, "stale": 0.94, "none": 0.03},
    "none": {"present": 0.04, "stale": 0.03, "none": 0.93},
}


@dataclass(frozen=True, slots=True)
class BootEntry:
    """A boot entry in the firmware's order (`place`, None where it stands outside the order).

    `target`: present (its partition is on a captured disk), stale (on none), disk (a whole disk, no partition), other
    (network, optical, the firmware itself), unknown (no disk's table was captured).
    """

    number: int
    place: int | None
    description: str
    is_active: bool
    path: str
    leads_to: str
    partition: str | None
    file: str | None
    target: str
    page: str


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

    @property
    def weights(self) -> dict[str, dict[str, float]]:
        """check -> weights over its outcomes: soft evidence for the tape."""
        return {"entry-target": _TARGET_WEIGHTS[self.entry_target]} if self.entry_target else {}


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
    """The check's outcome over the entries that the firmware tries: present, stale, none, or None where it cannot be told."""
    tried = [e for e in entries if e.is_active and e.place is not None]
    targets = {e.target for e in tried}
    if PRESENT in targets:
        return "present"
    if UNKNOWN in targets:
        return None
    if STALE in targets:
        return "stale"
    return None if DISK in targets else "none"


def judge(entries: Collection[BootEntry], order: Collection[int], secure_boot: bool | None, smbios: Smbios | None, broken: Mapping[str, DecodeError]) -> list[Finding]:
    """Findings in the order of their weight."""

    def note(name: str, text: str, means: str, page: str, at: int | None = None) -> Finding:
        return Finding(name, _KIND, "note", text, means, page, at)

    found: list[Finding] = []
    known = {e.number for e in entries}
    for entry in entries:
        if entry.target == STALE:
            found.append(Finding(
                "entry-stale", _KIND, "sign" if entry.place is not None else "note",
                f"{entry.description or 'An entry'} points at partition {entry.partition}, which is on none of the captured disks",
                "Its disk is gone or was partitioned anew: write the entry again once the right disk is seen", entry.page,
            ))  # fmt: skip
    if entries and entry_target(entries) == "none":
        found.append(Finding("entry-none", _KIND, "sign", "No boot entry leads to any disk", "The system's own entry is lost", "BootOrder"))
    for number in order:
        if number not in known:
            found.append(note("order-dangles", f"The boot order names Boot{number:04X}, which does not exist", "Firmware skips it", "BootOrder"))
    if secure_boot is not None:
        found.append(note("secure-boot", f"Secure boot is {'on' if secure_boot else 'off'}", "Compare with what the system needs", "SecureBoot", 4))
    if smbios and smbios.cut_off:
        found.append(note("smbios-cut", "The SMBIOS table ends in the middle of a structure", "What stands before it was read", "dmi/DMI"))
    found += [note("unreadable", f"{page}: {error}", "The other pages were read", page, error.at) for page, error in broken.items()]
    return sorted(found, key=lambda f: f.severity == "note")
