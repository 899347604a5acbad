"""Do the loaders that boot entries name stand where they should, and are they programs of this machine?"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.findings import FIRMWARE, NOTE, SIGN, Finding
from gatecheck.core.firmware.boot_entry import PRESENT, BootEntry
from gatecheck.core.firmware.pe import FALLBACK, HEAD, machine_of
from gatecheck.core.volume.fat.layout import FatListing, FatVolume

SOUND, MISSING, NO_PROGRAM, OTHER_MACHINE = "sound", "missing", "no-program", "other-machine"
_WEIGHED = {SOUND: "sound", MISSING: "missing", NO_PROGRAM: "damaged", OTHER_MACHINE: "damaged"}
_MACHINES = {"x86_64": "x64", "aarch64": "aa64", "i686": "ia32", "i386": "ia32", "armv7l": "arm"}


@dataclass(frozen=True, slots=True)
class SystemPartition:
    """A system partition that could be listed. `page`: where its sectors stand."""

    guid: str
    page: str
    volume: FatVolume
    files: FatListing


@dataclass(frozen=True, slots=True)
class Loader:
    """The file that an entry names. `machine`: what it is a program for, empty where it is none or was not read."""

    entry: int
    place: int | None
    description: str
    file: str
    state: str
    machine: str
    page: str


def machine_wanted(told: Mapping[str, str]) -> str | None:
    """What programs this machine's firmware starts: its own width counts, not the kernel's. None where nobody said."""
    own = _MACHINES.get(told.get("machine", ""))
    return "ia32" if own == "x64" and told.get("firmware_bits") == "32" else own


def loaders_of(entries: Iterable[BootEntry], partitions: Sequence[SystemPartition], wanted: str | None) -> list[Loader]:
    """What stands behind each entry whose partition was listed. An entry of which that cannot be said is left out."""
    found = []
    for entry in entries:
        place = next((p for p in partitions if p.guid == entry.partition), None)
        if place is None or entry.target != PRESENT or not entry.is_active:
            continue
        path = (entry.file or FALLBACK.get(wanted or "x64", "")).replace("\\", "/").strip("/")
        state, machine = _state(place, path, wanted)
        if state:
            found.append(Loader(entry.number, entry.place, entry.description, path, state, machine, place.page))
    return found


def _state(place: SystemPartition, path: str, wanted: str | None) -> tuple[str, str]:
    """(state, machine); an empty state where it cannot be said."""
    file = place.files.find(path)
    if file is None:
        folders = {"/", *("/".join(path.lower().split("/")[:n]) for n in range(1, path.count("/") + 1))}
        unread = {name.lower() for name in place.files.missing}
        return ("", "") if folders & unread else (MISSING, "")
    try:
        head = place.volume.head(file, HEAD)
    except DecodeError:
        return "", ""
    machine = machine_of(head)
    if file.is_directory or machine is None:
        return NO_PROGRAM, ""
    return (OTHER_MACHINE if wanted and machine != wanted else SOUND), machine


def judge_loaders(loaders: Iterable[Loader]) -> list[Finding]:
    """What is wrong with a loader that firmware would try."""
    found = []
    for loader in loaders:
        if loader.state == SOUND:
            continue
        severity = SIGN if loader.place is not None else NOTE
        values = {"entry": loader.description, "file": loader.file, "machine": loader.machine}
        found.append(Finding(f"loader-{loader.state}", FIRMWARE, severity, loader.page, None, values))
    return found


def loader_situation(loaders: Iterable[Loader], current: int | None) -> tuple[str, Loader] | None:
    """Which situation of the check `loader-look` they show: that of the first one tried, with the live system's own
    entry set aside."""
    tried = sorted((o for o in loaders if o.place is not None and o.entry != current), key=lambda o: o.place or 0)
    return (_WEIGHED[tried[0].state], tried[0]) if tried else None
