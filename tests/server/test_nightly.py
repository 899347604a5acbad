"""A backup each night: when it is due, what is kept, and what the bench says where there is none."""

from __future__ import annotations

import zipfile
from datetime import date, datetime, timedelta
from pathlib import Path

import pytest

from gatecheck.server.nightly import NightlyBackups, kept
from gatecheck.server.services import open_services

DAY = date(2026, 12, 1)


@pytest.mark.parametrize(
    ("days", "stay"),
    [
        (range(0), []),
        (range(3), [0, 1, 2]),
        (range(60), [0, 1, 2, 3, 4, 5, 6, 9, 16]),  # Tuesday; Sundays before it end the weeks before
        ([0, 20, 40, 60, 80, 100, 120, 140, 160, 180], [0, 20, 40, 60, 80, 100, 120]),
    ],
)
def test_seven_days_and_four_weeks_stay(days: object, stay: list[int]) -> None:
    made = [DAY - timedelta(days=n) for n in days]  # type: ignore[attr-defined]
    assert kept(made) == {DAY - timedelta(days=n) for n in stay}


class Clock:
    def __init__(self) -> None:
        self.now = datetime(2026, 12, 1, 15, 0)  # noqa: DTZ001 - a shop's night is by its own clock

    def __call__(self) -> datetime:
        return self.now


@pytest.fixture
def nightly(tmp_path: Path) -> NightlyBackups:
    open_services(tmp_path / "data").shop.database.close()
    (tmp_path / "share").mkdir()
    return NightlyBackups(tmp_path / "data", tmp_path / "share", Clock())


def test_one_a_night_and_the_oldest_go(nightly: NightlyBackups) -> None:
    clock = nightly.clock
    assert isinstance(clock, Clock)
    first = nightly.turn()
    assert first is not None
    assert zipfile.ZipFile(first).testzip() is None
    assert nightly.turn() is None, "one a day"
    for _ in range(40):
        clock.now += timedelta(days=1)
        clock.now = clock.now.replace(hour=1)
        assert nightly.turn() is None, "not before two"
        clock.now = clock.now.replace(hour=2)
        assert nightly.turn() is not None
    assert len(nightly.days()) == len(kept(nightly.days())) <= 10
    assert nightly.notice() == ""
    clock.now += timedelta(days=2)
    assert "the last is of 2027-01-10" in nightly.notice()


def test_a_share_that_is_not_mounted_is_said_and_made_up_for(nightly: NightlyBackups) -> None:
    clock = nightly.clock
    assert isinstance(clock, Clock)
    nightly.folder.rmdir()
    assert nightly.turn() is None
    assert "is the share mounted" in nightly.notice()
    assert not nightly.folder.exists(), "nothing is put where the share ought to be"
    nightly.folder.mkdir()
    assert nightly.turn() is not None
    assert nightly.notice() == ""


def test_what_is_not_ours_in_the_folder_stays(nightly: NightlyBackups) -> None:
    foreign = [nightly.folder / name for name in ("gatecheck-2020-99-99.zip", "gatecheck-old.zip", "letters.txt")]
    for place in foreign:
        place.write_text("x")
    nightly.turn()
    assert all(place.exists() for place in foreign)
