"""The boot path verdict: what this firmware makes of this disk (`gatecheck bootpath`)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from gatecheck.core.disk.boot_legacy import start_legacy
from gatecheck.core.disk.boot_uefi import FirmwareEntry, start_entries, start_fallback
from gatecheck.core.disk.owners import POOL, SET, owners_of
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.disk.walk import Walk, WalkFinding
from gatecheck.core.words.said import Said

UEFI, BIOS = "uefi", "bios"


@dataclass(frozen=True, slots=True)
class BootPath:
    """`stops_at`: the gate it stops at, None where the machine starts; `path`: what was tried, in order."""

    boots: bool
    stops_at: str | None
    path: tuple[Said, ...]
    findings: tuple[WalkFinding, ...]


def boot_path(
    disk: Sectors,
    mode: str,
    *,
    machine: str = "x64",
    entries: Sequence[FirmwareEntry] | None = None,
    secure: bool = False,
    walk: Walk | None = None,
) -> BootPath:
    """Walk the disk as a firmware of this mode, with these boot entries, None: one that knows none; `secure`: with
    Secure Boot on; `walk`: where it is kept, for who watches it. Never raises for what stands on the disk."""
    walk = walk or Walk()
    for owner in owners_of(disk)[:1]:
        walk.find("one-of-a-set" if owner.kind in (SET, POOL) else "owned", "layout", owner.name)
    if mode == BIOS:
        boots = start_legacy(disk, walk)
    else:
        boots = (
            start_fallback(disk, walk, machine, secure=secure)
            if entries is None
            else start_entries(disk, walk, entries, machine, secure=secure)
        )
    return BootPath(boots, None if boots else walk.ended or "layout", tuple(walk.path), tuple(walk.findings))
