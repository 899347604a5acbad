"""What is kept of disks that were read in part: the map and the sparse image, what is given back, the helper process
that works on them."""

from __future__ import annotations

import hashlib
import itertools
import random
import threading
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace

import pytest

from drive_sets import drives_of_a_store
from gatecheck.core.errors import InputError
from gatecheck.core.volume.check import check
from gatecheck.practice.volumes import sound_volume
from gatecheck.server.copies.service import Copies
from gatecheck.server.volumes import check_reports
from gatecheck.server.volumes.jobs import BackgroundTask
from gatecheck.server.volumes.open_volume import view_of
from gatecheck.server.volumes.partial_image import (
    BAD_SECTOR,
    READ,
    RETRY,
    UNKNOWN,
    PartialImages,
    PartSectors,
    SectorMap,
    SectorStore,
)
from gatecheck.server.volumes.rescues import DONE, PAUSED, RUNS, STOPPED, Rescues
from gatecheck.server.volumes.ticket_keys import TicketKeys
from gatecheck.server.volumes.volume_work import VolumeWork
from gatecheck.server.volumes.worker import WorkerProcess
from gatecheck.server.volumes.worker_tasks import ReadRequest, look_task
from gatecheck.store import StoreError


def test_runs_are_as_sectors_painted_one_by_one() -> None:
    chance = random.Random(3)
    marks, plain = SectorMap(), [UNKNOWN] * 400
    for _ in range(600):
        first, count, state = (
            chance.randrange(390),
            chance.randrange(0, 40),
            chance.choice([UNKNOWN, READ, BAD_SECTOR, RETRY]),
        )
        marks.mark(first, count, state)
        plain[first : min(400, first + count)] = [state] * (min(400, first + count) - first)
        low, size = chance.randrange(400), chance.randrange(1, 60)
        size = min(size, 400 - low)
        runs = list(marks.runs(low, size))
        assert [s for _, n, s in runs for _ in range(n)] == plain[low : low + size]
        assert all(a[2] != b[2] for a, b in itertools.pairwise(runs))


def test_what_was_read_is_there_after_a_settling_and_not_before(tmp_path: Path) -> None:
    parts = PartialImages(tmp_path)
    ground = parts.of(7, "sda-1", 512, 1 << 22)
    parts.write(ground, 512 * 10, [b"a" * 1024], 1024)
    parts.mark(ground, 40, 2, BAD_SECTOR)
    parts.mark(ground, 50, 2, RETRY)
    seen = PartSectors(ground)
    assert set(seen.read(10, 2).missing.values()) == {"not captured"}
    parts.settle(ground)
    seen.refresh()
    assert seen.read(10, 2).data == b"a" * 1024
    assert [seen.read(n, 1).missing.get(n) for n in (10, 12, 40, 50, 1 << 22)] == [
        None,
        "not captured",
        "unreadable",
        "not captured",
        "beyond the end",
    ]
    assert Path(ground.image).stat().st_blocks * 512 < 1 << 20
    parts.drop(ground, [(10, 2)])
    assert PartSectors(ground).read(10, 1).missing == {10: "not captured"}
    again = PartialImages(tmp_path).of(7, "sda-1", 512, 1 << 22)
    assert PartSectors(again).read(40, 1).missing == {40: "unreadable"}


def test_a_new_start_of_the_machine_begins_anew_and_bad_places_are_refused(tmp_path: Path) -> None:
    parts = PartialImages(tmp_path)
    old, new = parts.of(7, "sda-1", 512, 100), parts.of(7, "sda-2", 512, 100)
    other = parts.of(7, "sdb-2", 512, 100)
    parts.only(7, "2")
    assert not Path(old.image).exists()
    assert Path(new.image).exists()
    assert Path(other.image).exists()
    for at, length in ((1, 512), (0, 100), (512 * 99, 1024)):
        with pytest.raises(StoreError, match="expected whole sectors"):
            parts.write(new, at, [bytes(length)], length)
    with pytest.raises(StoreError, match="known size"):
        parts.of(7, "sdb-2", 512, 0)
    parts.remove_all(7)
    assert not list(tmp_path.rglob("*.img"))


def test_a_helper_that_fails_or_dies_takes_one_task_with_it(tmp_path: Path) -> None:
    desk = WorkerProcess()
    try:
        with pytest.raises(StoreError, match="look: FileNotFoundError"):
            desk.run("look", SectorStore(str(tmp_path / "none.img"), 512, 4096, is_copy=True), 0, 4095)
        with pytest.raises(StoreError, match="KeyError"):
            desk.run("no-such")
        parts = PartialImages(tmp_path)
        ground = parts.of(1, "sda-1", 512, 4096)
        assert desk._process is not None
        desk._process.kill()
        desk._process.wait()
        found, wants = desk.run("look", ground, 0, 4095)
        assert found.report is None
        assert wants.runs[0][0] == 0
    finally:
        desk.close()


def test_what_was_read_before_the_benchs_machine_was_started_anew_is_read_again(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from gatecheck.server.volumes import partial_image as own

    def settled(start: int, first: int) -> list[int]:
        monkeypatch.setattr(own, "this_start", lambda: start)
        parts.write(ground, 512 * first, [b"a" * 512], 512)
        parts.mark(ground, first + 1, 1, BAD_SECTOR)
        parts.settle(ground)
        seen = PartSectors(ground)
        return [n for n in range(10, 60) if n not in seen.read(n, 1).missing]

    parts = PartialImages(tmp_path)
    ground = parts.of(7, "sda-1", 512, 4096)
    assert settled(0, 10) == [10], "forced onto the disk: it holds for good"
    assert settled(77, 20) == [10, 20]
    assert settled(78, 30) == [10, 30]
    assert settled(77, 40) == [10, 20, 40], "the same start as before"
    monkeypatch.setattr(own, "this_start", lambda: 79)
    seen = PartSectors(ground)
    assert [seen.read(n, 1).missing[n] for n in (11, 21, 31, 41)] == ["unreadable"] * 4
    assert seen.read(20, 1).missing == {20: "not captured"}


def test_a_check_whose_helper_dies_under_it_is_gone_on_with_and_given_up_the_second_time(tmp_path: Path) -> None:
    desk, parts, sectors = WorkerProcess(), PartialImages(tmp_path), 2_000_000
    ground = parts.of(1, "sda-1", 512, sectors)
    for at, data in sound_volume(sectors, "Berit", pictures=4).items():
        parts.write(ground, at * 512, [data], len(data))
    parts.mark(ground, 0, sectors, READ)
    parts.settle(ground)
    deaths: list[str] = []

    def kill(most: int) -> Callable[[str, int, int], None]:
        def told(stage: str, _done: int, _of: int) -> None:
            if len(deaths) < most and desk._process is not None:
                deaths.append(stage)
                desk._process.kill()
                desk._process.wait()

        return told

    try:
        found, _ = desk.run("look", ground, 0, sectors - 1, told=kill(1))
        assert (len(deaths), found.report.state) == (1, "clean")
        with pytest.raises(StoreError, match="got none twice"):
            desk.run("look", ground, 0, sectors - 1, told=kill(3))
        assert len(deaths) == 3
    finally:
        desk.close()


@pytest.mark.parametrize(("state", "then"), [(PAUSED, RUNS), (RUNS, RUNS), (STOPPED, STOPPED), (DONE, DONE)])
def test_a_turn_that_is_worked_out_after_a_rescue_has_ended_does_not_bring_it_back_to_life(
    tmp_path: Path, state: str, then: str
) -> None:
    kept = Rescues(tmp_path)
    kept.begin("7", source="sda", first=0, only=["Users"], deleted=False, is_all=False, by="KT", at="now")
    own = VolumeWork.__new__(VolumeWork)
    own.begins, own.copying = threading.Lock(), {}
    own.keys = TicketKeys(lambda _: False, WorkerProcess())

    class Late:
        def run(self, *_: object) -> ReadRequest:
            kept.update("7", state=state)  # while it was worked out
            return ReadRequest(done=5, of=9, files_done=1, files=2)

    own.worker = Late()  # type: ignore[assignment]
    volume = SimpleNamespace(ground=None, first=0, last=9)
    assert own.rescue_turn(1, volume, kept, "7", BackgroundTask("rescue"), ahead=True).done == 5  # type: ignore[arg-type]
    assert (check_reports.read(kept.note("7")) or {})["state"] == then


def copies_of_a_set(folder: Path) -> list[SectorStore]:
    """Three copies on the bench: the drives of a RAID 5 with an ext4 volume."""
    own, stores = Copies(folder), []
    for number, member in enumerate(drives_of_a_store(), 1):
        own.begin(4, number, len(member))
        own.write(4, number, 0, [member], hashlib.sha256(member).hexdigest())
        stores.append(SectorStore(str(own.image(4, number)), 512, len(member) // 512, is_copy=True))
    return stores


def test_a_copy_of_one_of_a_set_is_read_with_the_other_copies_and_not_written(tmp_path: Path) -> None:
    first, second, third = copies_of_a_set(tmp_path)
    last = first.sectors - 1
    alone = view_of(first, 0, last, [])
    told = alone.told_set()
    assert told is not None
    assert (told["level"], told["there"], told["of"], told["is_read"]) == ("RAID 5", 1, 3, False)
    for beside, there in (((second,), 2), ((second, third), 3)):
        view = view_of(replace(first, beside=beside), 0, last, [])
        found = check(view.seen, view.first, view.last)
        told = view.told_set()
        assert told is not None
        assert (found.kind, found.label, found.state, told["there"]) == ("ext4", "store", "clean", there)
        assert (told["is_read"], told["is_shared"], view.sources([(0, 8)])) == (True, True, [])
        with pytest.raises(InputError, match="read, not repaired"):
            view.to_disk([(0, bytes(512))])
    look, request = look_task(lambda *_: None, replace(first, beside=(third,)), 0, last)
    assert (look.report is not None and look.report.state, look.repair, request.runs) == ("clean", None, ())
