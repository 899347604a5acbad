"""What is known of a disk whose boot path is walked."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from gatecheck.core.capture.identity import Identity
from gatecheck.core.capture.medium import Disk
from gatecheck.core.capture.read import Capture
from gatecheck.core.disk.boot_uefi import Entry
from gatecheck.core.disk.follow import Followed, Layered
from gatecheck.core.disk.known import Known
from gatecheck.core.disk.mend_entry import EntryPlan
from gatecheck.core.firmware.judge import Firmware


@dataclass(frozen=True, slots=True)
class Ground:
    """A disk as it is known, and the firmware that meets it. `told`: the live system said how it was started."""

    capture: Capture
    disk: Disk
    device: str
    who: Identity
    sectors: Layered
    mode: str
    told: bool
    machine: str
    entries: Sequence[Entry] | None
    secure: bool
    firmware: Firmware | None


@dataclass(frozen=True, slots=True)
class Seen:
    ground: Ground
    followed: Followed
    known: Known
    entry: EntryPlan | None
