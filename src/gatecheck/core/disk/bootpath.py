"""The boot path verdict: what this firmware makes of this disk (`gatecheck bootpath`)."""

from __future__ import annotations

from dataclasses import dataclass

from gatecheck.core.disk.boot_legacy import start_legacy
from gatecheck.core.disk.boot_uefi import start_fallback
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.disk.walk import Found, Walk

UEFI, BIOS = "uefi", "bios"


@dataclass(frozen=True, slots=True)
class BootPath:
    """`stops_at`: the gate it stops at, None where the machine starts; `path`: what was tried, in order."""

    boots: bool
    stops_at: str | None
    path: tuple[str, ...]
    findings: tuple[Found, ...]


def boot_path(disk: Sectors, mode: str, *, machine: str = "x64") -> BootPath:
    """Walk the disk as a firmware of this mode that knows no boot entries. Never raises for what stands on the disk."""
    walk = Walk()
    boots = start_fallback(disk, walk, machine) if mode == UEFI else start_legacy(disk, walk)
    return BootPath(boots, None if boots else walk.ended or "layout", tuple(walk.path), tuple(walk.findings))
