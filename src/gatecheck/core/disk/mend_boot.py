"""Mending plans for a legacy start: the signature, boot code of our own, the flag of the partition to start."""

from __future__ import annotations

from collections.abc import Iterator

from gatecheck.core.disk.boot_code import BOOT_CODE, CODE_ROOM
from gatecheck.core.disk.boot_legacy import NUMBER_AT, boot_sector_starts, first_sector_use, start_legacy
from gatecheck.core.disk.division import SOUND, Division, Piece
from gatecheck.core.disk.mbr import RECORDS_AT, SIGNATURE
from gatecheck.core.disk.mend_table import header_bytes
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.disk.plan import RepairPlan, doubt, what, why, write
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.disk.volume import volume_at
from gatecheck.core.disk.walk import Walk
from gatecheck.core.errors import DecodeError

_LEGACY = 4


def boot_plans(disk: Sectors, division: Division, stops: str) -> Iterator[RepairPlan]:
    """`stops`: the finding at which the legacy walk ended, empty where the disk starts."""
    if not stops or not division.start:
        return
    if stops == "mbr-unsigned" and not division.records:
        yield from _signature(disk, division)
        return
    if division.scheme == "gpt":
        yield from _legacy_mark(disk, division, stops)
        return
    if division.scheme != "mbr":
        return
    starting = [p for p in division.records if not p.is_extended and boot_sector_starts(disk, p.first)]
    if not starting:
        return
    use = first_sector_use(division.start)
    if use in ("none", "says-no", "junk") or (use == "own" and stops == "second-stage-missing"):
        doubts = (doubt("code-replaced"),) if any(division.start[:CODE_ROOM]) else ()
        yield RepairPlan(
            "boot-code",
            what("boot-code"),
            why(f"boot-code-{stops if stops in ('second-stage-missing', 'code-junk') else 'none'}"),
            (write(0, BOOT_CODE.ljust(CODE_ROOM, b"\0"), "boot-code"),),
            doubts,
        )
    if 1 <= division.start[NUMBER_AT] <= 4 and use == "follows":
        for own in starting:
            if own.number != division.start[NUMBER_AT]:
                yield RepairPlan(
                    f"told-partition-{own.number}",
                    what("told-partition", number=own.number),
                    why("told-partition", number=own.number, told=division.start[NUMBER_AT]),
                    (write(NUMBER_AT, bytes([own.number]), "told"),),
                    (doubt("several-start"),) if len(starting) > 1 else (),
                    "active-flag",
                )
        return
    active = [p for p in division.records if p.active]
    if len(active) == 1 and active[0] in starting:
        return
    for own in starting:
        yield _active(disk, division, own, several=len(starting) > 1)


def _signature(disk: Sectors, division: Division) -> Iterator[RepairPlan]:
    """Code that needs no table, is known, and is only not signed: what is not known may be no code at all."""
    walk = Walk()
    if start_legacy(Overlay(disk, [(510, SIGNATURE)]), walk) and not any(f.id == "code-unknown" for f in walk.findings):
        yield RepairPlan(
            "mbr-signature", what("mbr-signature"), why("mbr-signature-code"), (write(510, SIGNATURE, "signature"),)
        )


def _legacy_mark(disk: Sectors, division: Division, stops: str) -> Iterator[RepairPlan]:
    """A GPT whose code looks for the partition that is marked for legacy starts (UEFI 2.10, table 5.8, bit 2), and
    finds none or the wrong one."""
    copies = [c for c in (division.backup, division.primary) if c.state == SOUND]
    starting = [p for p in division.pieces if p.first < disk_end(disk) and boot_sector_starts(disk, p.first)]
    if (
        len(copies) != 2
        or first_sector_use(division.start) != "follows"
        or stops not in ("no-active-partition", "boot-sector-no-code", "boot-sector-unsigned", "boot-sector-no-system")
    ):
        return
    for own in starting:
        writes = []
        for copy in copies:
            entries = bytearray(copy.entries)
            for piece in division.pieces:
                at = (piece.number - 1) * copy.entry_size + 48
                entries[at] = entries[at] | _LEGACY if piece is own else entries[at] & ~_LEGACY
            head = header_bytes(
                copy.header,
                sector=disk.sector,
                my=copy.lba,
                alternate=copy.alternate,
                entries_lba=copy.entries_lba,
                entries=bytes(entries),
            )
            writes += [
                write(copy.entries_lba * disk.sector, bytes(entries), "entries"),
                write(copy.lba * disk.sector, head, "header", lba=copy.lba),
            ]
        several = len(starting) > 1
        yield RepairPlan(
            f"active-flag-{own.number}",
            what("active-flag", number=own.number),
            why("active-flag", number=own.number, volume="", others=[]),
            tuple(writes),
            (doubt("several-start"),) if several else (),
            "active-flag" if several else "",
        )


def disk_end(disk: Sectors) -> int:
    return disk.length or 1 << 62


def _active(disk: Sectors, division: Division, own: Piece, *, several: bool) -> RepairPlan:
    name = ""
    try:
        there = volume_at(disk, own.first)
        name = f"{there.name}{f' {there.label}' if there.label else ''}" if there else ""
    except DecodeError:
        pass
    writes = []
    for record in division.records:
        at, flag = RECORDS_AT + 16 * (record.number - 1), 0x80 if record is own else 0
        if division.start[at] != flag:
            writes.append(write(at, bytes([flag]), "flag", number=record.number))
    doubts = (doubt("several-start"),) if several else ()
    others = [p.number for p in division.records if p.active and p is not own]
    return RepairPlan(
        f"active-flag-{own.number}",
        what("active-flag", number=own.number),
        why("active-flag-others" if others else "active-flag", number=own.number, volume=name, others=others),
        tuple(writes),
        doubts,
        "active-flag" if several else "",
    )
