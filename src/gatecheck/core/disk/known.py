"""Plans for a disk of which only a part was read: each kind as far as what is known carries it, and what would have to
be read for the rest.

A plan is offered only where every sector that led to it, and every sector it would overwrite, was read: a plan made on
what is not known would be a guess."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from gatecheck.core.disk.boot_uefi import FirmwareEntry
from gatecheck.core.disk.bootpath import boot_path
from gatecheck.core.disk.follow import Followed, Run, TracingSectors, wanted_runs
from gatecheck.core.disk.mend import all_plans, kinds_of_plan
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.disk.plan import RepairPlan, what, why
from gatecheck.core.disk.sectors import Sectors, Span
from gatecheck.core.disk.walk import Walk

_MOST_UNREAD = 4096
"""sectors that a kind of plan may lack before it is left: a search over the whole disk is for a copy of it"""
_MOST_PLANS = 12


class _TooFarError(Exception):
    """More would have to be read than goes through the link in moments."""


class _Bounded(TracingSectors):
    def read(self, lba: int, count: int) -> Span:
        span = super().read(lba, count)
        if len(self.unread) > _MOST_UNREAD:
            raise _TooFarError
        return span


@dataclass(frozen=True, slots=True)
class KnownPlans:
    """`wanted`: what has to be read before there are more; `searches`: ids of the kinds that would have to search the
    whole disk."""

    plans: tuple[RepairPlan, ...]
    wanted: tuple[Run, ...]
    searches: tuple[str, ...]


_KINDS = ("tables", "volumes", "start")


def known_plans(
    disk: Sectors,
    mode: str,
    followed: Followed,
    *,
    machine: str = "x64",
    entries: Sequence[FirmwareEntry] | None = None,
    secure: bool = False,
) -> KnownPlans:
    """Never raises for what stands on the disk. Nothing where the verdict does not stand."""
    if not followed.stands:
        return KnownPlans((), (), ())
    plans: list[RepairPlan] = []
    wanted: list[Run] = []
    searches: list[str] = []
    for place, name in enumerate(_KINDS):
        watched = _Bounded(disk, Walk())
        found: list[RepairPlan] = []
        try:
            own = kinds_of_plan(watched, mode, followed.verdict, machine=machine, entries=entries, secure=secure)[place]
            while len(found) < _MOST_PLANS:
                plan = next(own, None)
                if plan is None:
                    break
                if watched.unread:
                    break  # this one, or what led to it, rests on sectors that nobody read
                found.append(plan)
        except _TooFarError:
            searches.append(name)
            watched.unread.clear()
        plans += found
        wanted += wanted_runs(disk, watched.unread)
    if len(plans) > 1 and not followed.verdict.boots and not wanted and not any(p.boots_after for p in plans):
        plans += _together(disk, mode, machine, entries, secure)
    return KnownPlans(tuple(plans), tuple(wanted), tuple(searches))


def _together(
    disk: Sectors, mode: str, machine: str, entries: Sequence[FirmwareEntry] | None, secure: bool
) -> Iterator[RepairPlan]:
    """Everything that can be mended as one plan, where no plan alone lets the disk start and all of them do."""
    watched = _Bounded(disk, Walk())
    try:
        done, writes = all_plans(watched, mode, machine=machine)
        after = boot_path(Overlay(watched, writes), mode, machine=machine, entries=entries, secure=secure)
    except _TooFarError:
        return
    if after.boots and not watched.unread and len(done) > 1:
        doubts = tuple(d for p in done for d in p.doubts)
        yield RepairPlan(
            "all",
            what("all", count=len(done)),
            why("all", plans=[p.what for p in done]),
            tuple(w for p in done for w in p.writes),
            doubts,
            boots_after=True,
        )
