"""A boot entry of the firmware, and where it leads."""

from __future__ import annotations

from dataclasses import dataclass

PRESENT, STALE, DISK, OTHER, UNKNOWN = "present", "stale", "disk", "other", "unknown"


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
