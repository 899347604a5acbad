"""Mending: what can be put right on a disk without guessing, as plans that are judged before anything is written.

Each plan is laid over the disk and the firmware's walk is taken again: `boots_after` is what that walk says.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from gatecheck.core.disk.bootpath import BIOS, UEFI, BootPath, boot_path
from gatecheck.core.disk.division import division_of
from gatecheck.core.disk.mend_boot import boot_plans
from gatecheck.core.disk.mend_loader import loader_plans
from gatecheck.core.disk.mend_table import table_plans
from gatecheck.core.disk.mend_volume import volume_plans
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.disk.plan import Plan, Write
from gatecheck.core.disk.sectors import Sectors

_MOST_ROUNDS = 12


@dataclass(frozen=True, slots=True)
class Mending:
    """`now`: the verdict before; `plans`: what could be done, each judged by itself."""

    now: BootPath
    plans: tuple[Plan, ...]


def mending_of(disk: Sectors, mode: str, *, machine: str = "x64") -> Mending:
    """Never raises for what stands on the disk."""
    now = boot_path(disk, mode, machine=machine)
    division = division_of(disk)
    stops = "" if now.boots or not now.findings else now.findings[-1].id
    found: list[Plan] = [*table_plans(disk, division, mode), *volume_plans(disk, division, mode)]
    if mode == BIOS:
        found += boot_plans(disk, division, stops)
    elif mode == UEFI:
        found += loader_plans(disk, stops, machine)
    judged = []
    for plan in found:
        changed = [w for w in plan.writes if not _stands(disk, w)]
        if changed:
            after = boot_path(Overlay(disk, plan.pairs), mode, machine=machine)
            judged.append(replace(plan, writes=tuple(changed), boots_after=after.boots))
    return Mending(now, tuple(judged))


def _stands(disk: Sectors, own: Write) -> bool:
    """It is there already."""
    size = disk.sector
    first = own.at // size
    span = disk.read(first, -(-(own.at + len(own.data)) // size) - first)
    return not span.missing and span.data[own.at - first * size :][: len(own.data)] == own.data


def all_plans(disk: Sectors, mode: str, *, machine: str = "x64") -> tuple[list[Plan], list[tuple[int, bytes]]]:
    """Everything that can be mended, one plan after another, each made on what the ones before it leave; of rivals the one that starts, else the first.
    (plans, the bytes that change: at, data)."""
    done: list[Plan] = []
    writes: list[tuple[int, bytes]] = []
    for _ in range(_MOST_ROUNDS):
        left = [p for p in mending_of(Overlay(disk, writes), mode, machine=machine).plans if p.id not in {d.id for d in done} and not (p.rivals and p.rivals in {d.rivals for d in done})]
        if not left:
            break
        chosen = next((p for p in left if p.boots_after), left[0]) if left[0].rivals else left[0]
        done.append(chosen)
        writes += chosen.pairs
    return done, writes


def merged(disk: Sectors, writes: Iterable[tuple[int, bytes]]) -> list[tuple[int, bytes]]:
    """The same bytes as whole sectors that do not lie over each other, in the order in which each is last written: a write of a disk is a sector."""
    size = disk.sector
    order: dict[int, bytes] = {}
    whole = list(writes)
    over = Overlay(disk, whole)
    for at, data in whole:
        for lba in range(at // size, -(-(at + len(data)) // size)):
            order.pop(lba, None)
            order[lba] = b""
    runs: list[tuple[int, bytes]] = []
    for lba in order:
        data = over.read(lba, 1).whole("sector to be written")
        if runs and runs[-1][0] + len(runs[-1][1]) == lba * size:
            runs[-1] = (runs[-1][0], runs[-1][1] + data)
        else:
            runs.append((lba * size, data))
    return runs


def chosen(plans: Sequence[Plan], name: str) -> Plan | None:
    return next((p for p in plans if p.id == name), None)
