"""Captures of one drive compared."""

from __future__ import annotations

import pytest

from gatecheck.adapters.shipped_tables import shipped_model
from gatecheck.core.capture.drive import Drive
from gatecheck.core.storage import encode
from gatecheck.core.storage.trend import Snapshot, Trend, same_drive, trend_of
from reading import read_capture


def disk(
    hours: int, *, serial: str = "Q1", model: str = "QUARRY", pending: int = 0, reallocated: int = 0, crc: int = 0
) -> Drive:
    attributes = [
        encode.SmartAttribute(9, hours),
        encode.SmartAttribute(5, reallocated),
        encode.SmartAttribute(197, pending),
        encode.SmartAttribute(199, crc),
    ]
    files = {
        "sda/identify.bin": encode.ata_identify(model=model, serial=serial, sectors=1 << 30),
        "sda/smart-data.bin": encode.smart_data(attributes),
    }
    return read_capture(files).drives[0]


def flash(hours: int, **health: int) -> Drive:
    files = {
        "nvme0/id-ctrl.bin": encode.nvme_controller(model="FLINT", serial="F1", capacity=10**12),
        "nvme0/log-02.bin": encode.nvme_health(power_on_hours=hours, temperature=310, spare=100, **health),
    }
    return read_capture(files).drives[0]


def compared(*captures: tuple[str, Drive]) -> Trend | None:
    return trend_of([Snapshot(at, d.pages, d.findings) for at, d in captures], shipped_model().knowledge.findings)


@pytest.mark.parametrize(
    ("captures", "finding", "severity"),
    [
        ([disk(100), disk(200)], None, None),
        ([disk(100, reallocated=3), disk(1100, reallocated=5)], "growing", "sign"),
        ([disk(100, pending=1), disk(140, pending=9)], "growing", "failing"),
        ([disk(100, crc=40), disk(150, crc=40)], "link-quiet", "note"),
        ([disk(100, crc=40), disk(101, crc=55)], "link-still-loses", "sign"),
        ([disk(100, reallocated=9), disk(150, reallocated=2)], "went-back", "note"),
        ([disk(100, pending=9), disk(150, pending=0)], None, None),  # rewritten: a pending place may be released
        ([flash(100, media_errors=0), flash(120, media_errors=4)], "growing", "failing"),
        ([disk(100, reallocated=3), disk(100, reallocated=9)], "growing", "sign"),  # no time passed: no rate
    ],
)
def test_what_grew(captures: list[Drive], finding: str | None, severity: str | None) -> None:
    trend = compared(*((f"2026-11-{20 + i}T09:00:00", d) for i, d in enumerate(captures)))
    assert trend is not None
    assert [(f.id, f.severity) for f in trend.findings] == ([(finding, severity)] if finding else [])


def test_the_rate_is_per_power_on_hour() -> None:
    trend = compared(
        ("2026-11-20", disk(100, reallocated=2)),
        ("2026-11-21", disk(150, reallocated=2)),
        ("2026-11-22", disk(600, reallocated=4)),
    )
    assert trend is not None
    line = next(x for x in trend.lines if x.name == "reallocated sectors")
    assert (line.grown, line.per_1000_hours, [p.value for p in line.points]) == (2, 4.0, [2, 2, 4])


def test_a_new_warning_is_told_from_an_old_one() -> None:
    trend = compared(("2026-11-20", disk(100, reallocated=1)), ("2026-11-21", disk(150, reallocated=1, pending=2)))
    assert trend is not None
    assert (trend.new, trend.gone) == (("pending",), ())
    assert compared(("2026-11-20", disk(100))) is None


@pytest.mark.parametrize(
    ("one", "other", "same"),
    [
        (disk(1), disk(2), True),
        (disk(1), disk(2, serial="Q2"), False),
        (disk(1), disk(1, model="SPINDLE"), False),
        (disk(1, serial=""), disk(1, serial=""), False),
    ],
)
def test_whose_captures_are_compared(one: Drive, other: Drive, same: bool) -> None:
    assert same_drive(one.identity, other.identity) is same
