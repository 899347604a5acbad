"""The drives' logs: round trips through the encoders, what they mean, and any bytes give a value or one located
error."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gatecheck.core.capture.drive import Drive
from gatecheck.core.errors import DecodeError
from gatecheck.core.storage import encode, encode_logs, logs
from gatecheck.core.storage.encode_logs import AtaError, AtaTest
from gatecheck.core.storage.judge_logs import events
from reading import read_capture, said

BIG = 3_907_000_123


def test_the_directory_comes_back() -> None:
    found = logs.read_log_directory(encode_logs.log_directory({1: 1, 3: 64, 0x9A: 2}))
    assert found.pages == {1: 1, 3: 64, 0x9A: 2}
    assert found.names[3] == "extended comprehensive errors"
    assert found.names[0x9A] == "log 9Ah"


@pytest.mark.parametrize("count", [0, 1, 3, 5, 8])
@pytest.mark.parametrize(
    ("write", "read", "kept"),
    [
        (encode_logs.summary_errors, logs.read_summary_errors, 5),
        (encode_logs.extended_errors, logs.read_extended_errors, 4),
        (lambda errors: encode_logs.extended_errors(errors, pages=2), logs.read_extended_errors, 8),
    ],
    ids=["summary", "extended", "two pages"],
)
def test_errors_come_back_newest_first(
    count: int, write: Callable[..., bytes], read: Callable[[bytes], logs.ErrorLog], kept: int
) -> None:
    written = [
        AtaError(hours=100 + i, lba=0x0ABCDEF0 + i, error=0x40 if i % 2 else 0x84, command=0x60) for i in range(count)
    ]
    found = read(write(written))
    assert (found.count, found.checksum and found.checksum.ok) == (count, True)
    assert [(e.hours, e.lba) for e in found.errors] == [(e.hours, e.lba) for e in reversed(written[-kept:])]
    assert all(e.command == "READ FPDMA QUEUED" for e in found.errors)
    assert {e.causes for e in found.errors} <= {("uncorrectable data",), ("interface CRC", "aborted")}


def test_an_extended_address_keeps_its_48_bits() -> None:
    assert (
        logs.read_extended_errors(encode_logs.extended_errors([AtaError(9, 0xBEEF_1234_5678)])).errors[0].lba
        == 0xBEEF_1234_5678
    )


@pytest.mark.parametrize(
    ("write", "read", "kept"),
    [
        (encode_logs.self_tests, logs.read_self_tests, 21),
        (encode_logs.extended_self_tests, logs.read_extended_self_tests, 19),
    ],
    ids=["06h", "07h"],
)
def test_self_tests_come_back_newest_first(
    write: Callable[..., bytes], read: Callable[[bytes], logs.SelfTestLog], kept: int
) -> None:
    written = [
        AtaTest(hours=i, kind=1 + i % 2, result=7 if i % 5 == 4 else 0, lba=BIG if i % 5 == 4 else None)
        for i in range(25)
    ]
    found = read(write(written))
    assert [(t.hours, t.lba) for t in found.tests] == [(t.hours, t.lba) for t in reversed(written[-kept:])]
    assert {t.outcome for t in found.tests} == {"passed", "read-failure"}
    assert read(write([AtaTest(5, result=15, left=30)])).running == 70


def test_statistics_come_back() -> None:
    values = {
        "power-on time": 31_000,
        "reallocated sectors": 4,
        "temperature": -3,
        "interface CRC errors": 12,
        "rated life used": 7,
    }
    found = logs.read_statistics(encode_logs.statistics(values))
    assert {s.name: s.value for s in found.values} == values
    assert found.get("highest temperature") is None


def test_nvme_logs_come_back() -> None:
    errors = logs.read_nvme_errors(encode_logs.nvme_errors([(2, 0x81, BIG), (0, 2, 0)]))
    assert [(e.causes, e.lba, e.is_media) for e in errors.errors] == [
        (("media: unrecovered read error",), BIG, True),
        (("generic: status 02h",), None, False),
    ]
    assert logs.read_nvme_errors(bytes(256)).errors == ()
    slots = logs.read_firmware_slots(encode_logs.firmware_slots("1.0", "1.2", active=2))
    assert (slots.active, slots.slots) == (2, {1: "1.0", 2: "1.2"})
    tests = logs.read_nvme_self_tests(encode_logs.nvme_self_tests([(1, 0, 40, None), (2, 7, 30, BIG)], running=55))
    assert [(t.kind, t.outcome, t.hours, t.lba) for t in tests.tests] == [
        ("short", "passed", 40, None),
        ("long", "read-failure", 30, BIG),
    ]
    assert tests.running == 55


READERS = [
    logs.read_log_directory,
    logs.read_summary_errors,
    logs.read_extended_errors,
    logs.read_self_tests,
    logs.read_extended_self_tests,
    logs.read_statistics,
    logs.read_nvme_errors,
    logs.read_firmware_slots,
    logs.read_nvme_self_tests,
]


@pytest.mark.parametrize("read", READERS, ids=lambda r: r.__name__)
@given(raw=st.binary(max_size=1100) | st.binary(min_size=512, max_size=512).map(lambda b: b"\x01\x00" + b[2:]))
def test_any_bytes_give_a_value_or_one_located_error(read: Callable[[bytes], object], raw: bytes) -> None:
    try:
        assert read(raw) is not None
    except DecodeError as error:
        assert error.at >= 0


@given(
    st.lists(
        st.tuples(st.integers(0, 65535), st.integers(0, (1 << 48) - 1), st.integers(1, 255)), min_size=1, max_size=12
    )
)
def test_any_errors_come_back(items: list[tuple[int, int, int]]) -> None:
    written = [AtaError(hours, lba, error) for hours, lba, error in items]
    found = logs.read_extended_errors(encode_logs.extended_errors(written, pages=3))
    assert [(e.hours, e.lba) for e in found.errors] == [(e.hours, e.lba) for e in reversed(written)]


def drive(**pages: bytes) -> Drive:
    """A disk with 31,240 hours and these pages more."""
    readings = [encode.SmartAttribute(9, 31_240), encode.SmartAttribute(5, 0), encode.SmartAttribute(197, 0)]
    files = {
        "sda/identify.bin": encode.ata_identify(model="QUARRY SPINDLE", serial="Q1", sectors=1 << 30),
        "sda/smart-data.bin": encode.smart_data(readings),
        **{f"sda/{name.replace('_', '-')}.bin": data for name, data in pages.items()},
    }
    return read_capture(files).drives[0]


NEW, OLD = 31_200, 20_000
CASES: list[tuple[str, dict[str, bytes], str | None, str | None, dict[str, str]]] = [
    ("quiet", {"smart_log_01": encode_logs.summary_errors([])}, None, None, {"error-log": "empty"}),
    (
        "recent",
        {"smart_log_01": encode_logs.summary_errors([AtaError(NEW, 77)])},
        "media-errors-logged",
        "sign",
        {"error-log": "recent"},
    ),
    (
        "old",
        {"smart_log_01": encode_logs.summary_errors([AtaError(OLD, 77)])},
        "media-errors-logged",
        "note",
        {"error-log": "old-only"},
    ),
    (
        "many",
        {"gp_log_03": encode_logs.extended_errors([AtaError(NEW, i) for i in range(12)], pages=3)},
        "media-errors-logged",
        "failing",
        {"error-log": "recent"},
    ),
    ("cable", {"smart_log_01": encode_logs.summary_errors([AtaError(NEW, 77, 0x84)])}, "crc-errors-logged", "sign", {}),
    (
        "refused",
        {"smart_log_01": encode_logs.summary_errors([AtaError(NEW, 0, 0x04, 0xB0)])},
        None,
        None,
        {"error-log": "empty"},
    ),
    (
        "failed test",
        {"smart_log_06": encode_logs.self_tests([AtaTest(NEW, 2, 7, 60, 123)])},
        "self-test-failed",
        "failing",
        {},
    ),
    ("fresh test", {"smart_log_06": encode_logs.self_tests([AtaTest(31_239, 2)])}, None, None, {"long-test": "passed"}),
    (
        "fresh failure",
        {"gp_log_07": encode_logs.extended_self_tests([AtaTest(31_239, 1, 7, 60, BIG)])},
        "self-test-failed",
        "failing",
        {"short-test": "read-failure"},
    ),
    (
        "passed later",
        {"smart_log_06": encode_logs.self_tests([AtaTest(NEW, 2, 7, 60, 123), AtaTest(NEW + 1, 1)])},
        "self-test-failed-once",
        "sign",
        {},
    ),
    (
        "running",
        {"smart_log_06": encode_logs.self_tests([AtaTest(31_240, 2, 15, 40)])},
        "self-test-running",
        "note",
        {},
    ),
    (
        "statistics",
        {"gp_log_04": encode_logs.statistics({"mechanical start failures": 6})},
        "spin-retries",
        "failing",
        {},
    ),
    ("hot", {"gp_log_04": encode_logs.statistics({"time above the limit": 90})}, "overheated", "sign", {}),
]


@pytest.mark.parametrize(("name", "pages", "finding", "severity", "checks"), CASES, ids=[c[0] for c in CASES])
def test_what_logs_mean(
    name: str, pages: dict[str, bytes], finding: str | None, severity: str | None, checks: dict[str, str]
) -> None:
    found = drive(**pages)
    by_id = {f.id: f for f in found.findings}
    assert (finding is None and set(by_id) <= {"old"}) or by_id[str(finding)].severity == severity
    weights = found.log_weights
    assert {check: max(w, key=lambda o: w[o]) for check, w in weights.items()} == checks
    assert all(sum(w.values()) == pytest.approx(1.0) for w in weights.values())


def test_events_stand_on_the_power_on_time(bench_a: dict[str, bytes]) -> None:
    pages = {
        "smart_log_01": encode_logs.summary_errors([AtaError(OLD, 5), AtaError(NEW, 6)]),
        "smart_log_06": encode_logs.self_tests([AtaTest(25_000, 1)]),
    }
    line = events(drive(**pages).pages)
    assert [(e.kind, e.hours, e.ago) for e in line] == [
        ("error", OLD, 11_240),
        ("test", 25_000, 6_240),
        ("error", NEW, 40),
    ]
    emulated = next(d for d in read_capture(bench_a).drives if d.device == "sda")
    assert [(said(e.text), e.ago) for e in events(emulated.pages)] == [("short self-test completed", None)], (
        "its hour lies ahead of the drive's own"
    )


def test_hours_of_an_old_drive_wrap() -> None:
    readings = [encode.SmartAttribute(9, 70_000)]
    files = {
        "sda/smart-data.bin": encode.smart_data(readings),
        "sda/smart-log-01.bin": encode_logs.summary_errors([AtaError(70_000 - 65_536 - 10, 1)]),
    }
    assert events(read_capture(files).drives[0].pages)[0].ago == 10


@pytest.mark.parametrize(
    ("raw", "now", "lowest", "highest"),
    [
        (31, 31, None, None),
        (0x1F1F001F, 31, 31, 31),
        (0x0037_0011_0024, 36, 17, 55),
        (0x0037_0000_0024, 36, None, None),
        (0x3714_0024, 36, 20, 55),
    ],
)
def test_packed_temperatures_are_split(raw: int, now: int, lowest: int | None, highest: int | None) -> None:
    smart: Any = drive(smart_data=encode.smart_data([encode.SmartAttribute(194, raw)])).pages.smart
    reading = smart.readings[0]
    assert (reading.value, reading.lowest, reading.highest) == (now, lowest, highest)
