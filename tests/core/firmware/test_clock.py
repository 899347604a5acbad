"""A machine's own clock beside ours."""

from __future__ import annotations

import calendar

import pytest

from gatecheck.core.firmware.clock import firmware_date, judge_clock, parsed

NOW = calendar.timegm((2026, 11, 26, 18, 0, 0))


@pytest.mark.parametrize(
    ("clock", "made", "said"),
    [
        ("2026-11-26T18:00:40", "06/12/2023", "right"),
        ("2026-11-26T19:01:00", "", "right"),
        ("2026-11-26T23:31:10", "", "right"),  # local time
        ("2026-11-26T04:30:00", "", "right"),
        ("2026-11-27T08:00:00", "", "right"),
        ("2026-11-26T18:07:00", "", "wrong"),
        ("2026-11-28T18:00:00", "", "wrong"),
        ("2026-11-25T17:00:00", "", "wrong"),
        ("2046-01-01T00:00:10", "", "wrong"),
        ("2022-06-30T11:00:00", "06/12/2023", "reset"),
        ("2023-01-01T00:03:00", "", "reset"),
        ("2024-05-09T10:00:00", "06/12/2023", "wrong"),
        ("1979-01-01T00:00:30", "", "reset"),
        ("2006-01-01T00:00:30", "", "reset"),
        ("2079-01-01T00:00:30", "", "wrong"),
    ],
)
def test_what_it_says(clock: str, made: str, said: str) -> None:
    found = parsed(clock)
    assert found is not None
    assert judge_clock(found, NOW, firmware_date(made), 2016) == said


@pytest.mark.parametrize(
    ("clock", "made", "said"),
    [
        ("2026-01-02T00:00:00", "06/12/2023", None),
        ("2022-01-02T00:00:00", "06/12/2023", "reset"),
        ("1980-01-01T00:00:00", "", "reset"),
    ],
)
def test_without_a_moment_to_compare_only_the_impossible_is_told(clock: str, made: str, said: str | None) -> None:
    found = parsed(clock)
    assert found is not None
    assert judge_clock(found, None, firmware_date(made), 2016) == said


@pytest.mark.parametrize(
    "text",
    ["", "yesterday", "2026-13-01T00:00:00", "2026-01-41T00:00:00", "0000-00-00T00:00:00", "2026-01-01T25:00:00"],
)
def test_what_is_no_moment_is_none(text: str) -> None:
    assert parsed(text) is None


@pytest.mark.parametrize(
    ("text", "is_one"),
    [("06/12/2023", True), ("06/12/98", True), ("13/12/2023", False), ("2023-06-12", False), ("", False)],
)
def test_the_firmware_s_own_date(text: str, is_one: bool) -> None:
    assert (firmware_date(text) is not None) is is_one
