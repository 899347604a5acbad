"""What is known of a disk whose boot path is walked."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from gatecheck.core.capture.identity import Identity
from gatecheck.core.capture.medium import CapturedDisk
from gatecheck.core.capture.read import Capture
from gatecheck.core.disk.boot_uefi import FirmwareEntry
from gatecheck.core.disk.follow import Followed, LayeredSectors
from gatecheck.core.disk.known import KnownPlans
from gatecheck.core.disk.mend_entry import EntryPlan
from gatecheck.core.firmware.judge import Firmware


@dataclass(frozen=True, slots=True)
class DiskContext:
    """A disk as it is known, and the firmware that meets it. `told`: the live system said how it was started."""

    capture: Capture
    disk: CapturedDisk
    device: str
    who: Identity
    sectors: LayeredSectors
    mode: str
    told: bool
    machine: str
    entries: Sequence[FirmwareEntry] | None
    secure: bool
    firmware: Firmware | None


@dataclass(frozen=True, slots=True)
class SeenPath:
    ground: DiskContext
    followed: Followed
    known: KnownPlans
    entry: EntryPlan | None
