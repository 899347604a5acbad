"""A walk over what was read: sectors asked for until it stands, and then the verdict that the whole disk gives; no plan
on what nobody read."""

from __future__ import annotations

import pytest

from gatecheck.core.disk.bootpath import BIOS, UEFI, boot_path
from gatecheck.core.disk.division import division_of
from gatecheck.core.disk.follow import LayeredSectors, follow, merge_runs
from gatecheck.core.disk.known import known_plans
from gatecheck.core.disk.marks import marks_of
from gatecheck.core.disk.mend import mending_of
from gatecheck.core.disk.sectors import NOT_CAPTURED, UNREADABLE, CapturedSectors, Span
from gatecheck.practice.drives import PracticeDisk
from gatecheck.practice.patients import patient

_MOST_ROUNDS = 30


class Whole:
    """All of a practice disk. `read_from`: LBAs that were asked for."""

    def __init__(self, disk: PracticeDisk) -> None:
        self._disk = disk
        self.asked = 0

    @property
    def sector(self) -> int:
        return self._disk.sector

    @property
    def length(self) -> int:
        return self._disk.sectors

    def read(self, lba: int, count: int) -> Span:
        data, missing = bytearray(), {}
        for place in range(lba, lba + count):
            self.asked += 1
            try:
                data += self._disk.read(place, 1)
            except OSError:
                data += bytes(self.sector)
                missing[place] = UNREADABLE
        return Span(lba, self.sector, bytes(data), missing)


def disk_of(name: str) -> tuple[Whole, str]:
    machine = patient(name).connected()
    drive = next(d for d in machine.drives.values() if d.bus != "usb")
    return Whole(drive.disk), UEFI if machine.named["mode"] == "uefi" else BIOS


def on_demand(whole: Whole, mode: str) -> tuple[LayeredSectors, int]:
    """The disk as the sectors make it that the walk, and then mending, asked for; how many turns that took."""
    ranges: dict[int, bytes] = {}
    bad: set[int] = set()
    for turn in range(_MOST_ROUNDS):
        own = LayeredSectors(
            [CapturedSectors(ranges, sector=whole.sector, length=whole.length, unreadable=bad)],
            sector=whole.sector,
            length=whole.length,
        )
        followed = follow(own, mode)
        wanted = followed.wanted or known_plans(own, mode, followed).wanted
        if not wanted:
            return own, turn
        for first, count in wanted:
            span = whole.read(first, count)
            bad |= set(span.missing)
            for lba in range(first, first + count):
                if lba not in span.missing:
                    ranges[lba] = span.data[(lba - first) * whole.sector : (lba - first + 1) * whole.sector]
    raise AssertionError("it never stood")


@pytest.mark.parametrize(
    "name",
    ["sound", "no-loader", "no-fallback", "torn-table", "old-layout", "no-table", "large-sectors", "first-sector"],
)
def test_what_was_asked_for_gives_the_verdict_and_the_plans_of_the_whole_disk(name: str) -> None:
    whole, mode = disk_of(name)
    own, turns = on_demand(whole, mode)
    asked = whole.asked
    followed, found = follow(own, mode), boot_path(whole, mode)
    assert (followed.verdict.boots, followed.verdict.stops_at, followed.verdict.findings) == (
        found.boots,
        found.stops_at,
        found.findings,
    )
    known = known_plans(own, mode, followed)
    if not known.searches:  # a search over the whole disk is not made through the link
        assert {p.id for p in known.plans} - {"all"} == {p.id for p in mending_of(whole, mode).plans}
    assert asked * whole.sector < 4 << 20
    assert asked < whole.length / 100
    assert turns < 16


def test_nothing_is_said_and_nothing_planned_before_it_was_read() -> None:
    whole, mode = disk_of("no-fallback")
    start = CapturedSectors({0: whole.read(0, 34).data}, length=whole.length)
    followed = follow(start, mode)
    assert not followed.stands
    assert followed.sure < len(followed.verdict.path)  # what it would say beyond is not told
    assert known_plans(start, mode, followed).plans == ()
    assert all(start.read(first, count).missing for first, count in followed.wanted)


def test_each_step_knows_what_was_read_for_it() -> None:
    whole, mode = disk_of("no-fallback")
    followed = follow(whole, mode)
    assert len(followed.reads) == len(followed.verdict.path) + 1
    assert followed.reads[0][0][0] == 0  # the table is read before anything is said of it
    assert any(2048 <= first < 206_848 for own in followed.reads[1:] for first, _ in own)


def test_the_newest_reading_counts_and_what_it_lacks_comes_from_the_older() -> None:
    older = CapturedSectors({0: b"a" * 512, 1: b"b" * 512, 5: b"c" * 512}, length=10)
    newer = CapturedSectors({1: b"B" * 512}, length=10, unreadable={5})
    span = LayeredSectors([newer, older], sector=512, length=10).read(0, 7)
    assert (span.data[:1], span.data[512:513]) == (b"a", b"B")
    assert span.missing == {2: NOT_CAPTURED, 3: NOT_CAPTURED, 4: NOT_CAPTURED, 5: UNREADABLE, 6: NOT_CAPTURED}


@pytest.mark.parametrize(
    ("runs", "wanted"),
    [
        ([], []),
        ([(5, 2), (0, 5)], [(0, 7)]),
        ([(0, 3), (1, 1)], [(0, 3)]),
        ([(9, 1), (3, 1)], [(3, 1), (9, 1)]),
        ([(3, 0)], []),
    ],
)
def test_runs_are_joined(runs: list[tuple[int, int]], wanted: list[tuple[int, int]]) -> None:
    assert merge_runs(runs) == wanted


def test_a_plan_for_all_together_where_no_one_is_enough() -> None:
    whole, mode = disk_of("torn-table")
    own, _ = on_demand(whole, mode)
    known = known_plans(own, mode, follow(own, mode))
    assert {p.id: p.boots_after for p in known.plans} == {"gpt-primary": False, "protective-mbr": True}


@pytest.mark.parametrize(
    ("lba", "name", "at"),
    [
        (0, "partition_record_1", 446),
        (1, "entries_lba", 72),
        (2, "entry_1.guid", 16),
        (2048, "cluster_sectors", 13),
        (206_848, "mft_cluster", 48),
        (5291, "", 0),
    ],
)
def test_the_fields_of_a_sector_are_named_as_the_standard_does(lba: int, name: str, at: int) -> None:
    whole, _ = disk_of("sound")
    marks = {m.name: m.at for m in marks_of(whole.read(lba, 1).data, lba, division_of(whole))}
    assert marks.get(name, 0) == at
    assert bool(marks) == bool(name)
