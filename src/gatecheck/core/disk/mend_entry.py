"""A boot entry written again, as a UEFI variable: where a whole loader stands on the disk and no entry leads to it.

UEFI 2.10: 3.1.3 (load options), 3.3 (Boot####, BootOrder), 10.3.5.1 and 10.3.5.4 (the partition and the file in a
device path)."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass

from gatecheck.core.disk.boot_uefi import FirmwareEntry, slices, volumes
from gatecheck.core.disk.bootpath import UEFI, boot_path
from gatecheck.core.disk.mend_loader import candidates
from gatecheck.core.disk.plan import doubt, what, why
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.disk.walk import Walk
from gatecheck.core.firmware.encode import file_path, load_option, partition
from gatecheck.core.firmware.judge import Firmware
from gatecheck.core.firmware.variables import GLOBAL
from gatecheck.core.words.said import Said

_ATTRIBUTES = struct.pack("<I", 7)
"""kept, and seen by firmware and by a running system"""
_MOST = 0x1000


@dataclass(frozen=True, slots=True)
class VariableWrite:
    """`name`: as the kernel shows it, Name-GUID; the bytes with their four of attributes, None where it is not
    there."""

    name: str
    before: bytes | None
    after: bytes | None


@dataclass(frozen=True, slots=True)
class EntryPlan:
    what: Said
    why: Said
    doubts: tuple[Said, ...]
    writes: tuple[VariableWrite, ...]
    boots_after: bool


def entry_plan(
    disk: Sectors, firmware: Firmware, entries: Sequence[FirmwareEntry], *, machine: str = "x64", secure: bool = False
) -> EntryPlan | None:
    """The entry for the likeliest loader on this disk, first in the order; None where there is none, or nothing tells
    which partition it is on."""
    order = firmware.variables.get("BootOrder")
    if order is None:
        return None
    found = [
        (piece, candidate)
        for piece, volume, files in volumes(disk, slices(disk, Walk()), Walk())
        if piece.guid
        for candidate in candidates(volume, files, machine)
    ]
    if not found:
        return None
    piece, chosen = min(found, key=lambda own: (own[1].rank, own[1].file.path))
    number = next((n for n in range(_MOST) if f"Boot{n:04X}" not in firmware.variables), None)
    if number is None:
        return None
    name = chosen.system or "Installed system"
    option = load_option(
        name,
        partition(piece.guid, piece.number, piece.first, piece.last - piece.first + 1),
        file_path("\\" + chosen.file.path.replace("/", "\\")),
    )
    entry = FirmwareEntry(f"Boot{number:04X} {name}", piece.guid, chosen.file.path, "partition")
    after = boot_path(disk, UEFI, machine=machine, entries=[entry, *entries], secure=secure)
    systems = {c.system for _, c in found}
    doubts = [
        *([doubt("several-systems")] if len(systems) > 1 else []),
        *([doubt("unknown-program")] if not chosen.system else []),
    ]
    return EntryPlan(
        what("entry", entry=f"Boot{number:04X}", file=chosen.file.path, number=piece.number),
        why("entry", file=chosen.file.path, system=chosen.system),
        tuple(doubts),
        (
            VariableWrite(f"Boot{number:04X}-{GLOBAL}", None, _ATTRIBUTES + option),
            VariableWrite(
                f"BootOrder-{GLOBAL}",
                struct.pack("<I", order.attributes) + order.data,
                struct.pack("<I", order.attributes) + struct.pack("<H", number) + order.data,
            ),
        ),
        after.boots,
    )
