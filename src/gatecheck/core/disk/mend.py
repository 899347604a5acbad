"""Mending: what can be put right on a disk without guessing, as plans that are judged before anything is written.

Each plan is laid over the disk and the firmware's walk is taken again: `boots_after` is what that walk says.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import chain

from gatecheck.core.disk.boot_uefi import FirmwareEntry
from gatecheck.core.disk.bootpath import BIOS, BootPath, boot_path
from gatecheck.core.disk.division import division_of
from gatecheck.core.disk.mend_boot import boot_plans
from gatecheck.core.disk.mend_loader import loader_plans
from gatecheck.core.disk.mend_partition import partition_plans
from gatecheck.core.disk.mend_program import program_plans
from gatecheck.core.disk.mend_table import table_plans
from gatecheck.core.disk.mend_volume import volume_plans
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.disk.owners import is_one_of_a_set
from gatecheck.core.disk.plan import RepairPlan, Write, what, why
from gatecheck.core.disk.sectors import Sectors

_MOST_ROUNDS = 12
ALL = "all"
"""everything that can be mended, one plan after another: what `--apply all` writes"""


@dataclass(frozen=True, slots=True)
class Mending:
    """`now`: the verdict before; `plans`: what could be done, each judged by itself."""

    now: BootPath
    plans: tuple[RepairPlan, ...]


def mending_of(disk: Sectors, mode: str, *, machine: str = "x64") -> Mending:
    """Never raises for what stands on the disk."""
    now = boot_path(disk, mode, machine=machine)
    plans = tuple(plans_of(disk, mode, now, machine=machine))
    if not now.boots:
        whole, writes = all_plans(disk, mode, machine=machine)
        if {p.id for p in whole} - {
            p.id for p in plans
        }:  # some of it can be made only on what the others leave: then all of it is a plan of its own
            after = boot_path(Overlay(disk, writes), mode, machine=machine)
            plans += (
                RepairPlan(
                    ALL,
                    what("all", count=len(whole)),
                    why("all", plans=[p.what for p in whole]),
                    tuple(w for p in whole for w in p.writes),
                    tuple(d for p in whole for d in p.doubts),
                    boots_after=is_walked(after),
                ),
            )
    return Mending(now, plans)


def is_walked(path: BootPath) -> bool:
    """It boots, and the walk knows how: code in the first sector that nobody knows may do anything."""
    return path.boots and not any(f.id == "code-unknown" and f.where == "LBA 0" for f in path.findings)


def plans_of(
    disk: Sectors,
    mode: str,
    now: BootPath,
    *,
    machine: str = "x64",
    entries: Sequence[FirmwareEntry] | None = None,
    secure: bool = False,
) -> Iterator[RepairPlan]:
    """What could be done where the walk says `now`, each judged by the walk after it, with these boot entries."""
    return chain(*kinds_of_plan(disk, mode, now, machine=machine, entries=entries, secure=secure))


def kinds_of_plan(
    disk: Sectors,
    mode: str,
    now: BootPath,
    *,
    machine: str = "x64",
    entries: Sequence[FirmwareEntry] | None = None,
    secure: bool = False,
) -> list[Iterator[RepairPlan]]:
    """The same by what is mended: tables, volumes, boot code or loader."""
    if is_one_of_a_set(disk):
        # its content is read and written together with the other drives of the set
        return [iter(()), iter(()), iter(())]
    division = division_of(disk)
    stops = "" if now.boots or not now.findings else now.findings[-1].id
    kinds: list[Iterator[RepairPlan]] = [
        chain(table_plans(disk, division, mode), partition_plans(disk, division, mode)),
        volume_plans(disk, division, mode),
    ]
    kinds.append(iter(boot_plans(disk, division, stops)) if mode == BIOS else _of_programs(disk, stops, machine))

    def judged(found: Iterator[RepairPlan]) -> Iterator[RepairPlan]:
        for plan in found:
            changed = [w for w in plan.writes if not _stands(disk, w)]
            if changed:
                after = boot_path(Overlay(disk, plan.pairs), mode, machine=machine, entries=entries, secure=secure)
                if now.boots and not after.boots:
                    continue  # no repair takes a start away
                yield replace(plan, writes=tuple(changed), boots_after=is_walked(after))

    return [judged(kind) for kind in kinds]


def _of_programs(disk: Sectors, stops: str, machine: str) -> Iterator[RepairPlan]:
    """What the disk itself tells of the program first, then another program in its place."""
    yield from program_plans(disk, stops, machine)
    yield from loader_plans(disk, stops, machine)


def _stands(disk: Sectors, own: Write) -> bool:
    """It is there already."""
    size = disk.sector
    first = own.at // size
    span = disk.read(first, -(-(own.at + len(own.data)) // size) - first)
    return not span.missing and span.data[own.at - first * size :][: len(own.data)] == own.data


def all_plans(disk: Sectors, mode: str, *, machine: str = "x64") -> tuple[list[RepairPlan], list[tuple[int, bytes]]]:
    """Everything that can be mended, one plan after another, each made on what the ones before it leave; of rivals the
    one that starts, else the first. (plans, the bytes that change: at, data). Nothing where the disk starts as it is:
    there a plan is asked for by its id."""
    done: list[RepairPlan] = []
    writes: list[tuple[int, bytes]] = []
    for place in range(_MOST_ROUNDS):
        over = Overlay(disk, writes)
        now = boot_path(over, mode, machine=machine)
        if now.boots and not place:
            break
        left = [
            p
            for p in plans_of(over, mode, now, machine=machine)
            if p.id not in {d.id for d in done} and not (p.rivals and p.rivals in {d.rivals for d in done})
        ]
        if not left:
            break
        chosen = next((p for p in left if p.boots_after), left[0]) if left[0].rivals else left[0]
        done.append(chosen)
        writes += chosen.pairs
    return done, writes


def merged(disk: Sectors, writes: Iterable[tuple[int, bytes]]) -> list[tuple[int, bytes]]:
    """The same bytes as whole sectors that do not lie over each other, in the order in which each is last written: a
    write of a disk is a sector."""
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


def chosen(plans: Sequence[RepairPlan], name: str) -> RepairPlan | None:
    return next((p for p in plans if p.id == name), None)
