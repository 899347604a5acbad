"""Drive pages: real ones decode, damaged ones say where, and what was encoded is read back."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gatecheck.core.capture.drive import Drive
from gatecheck.core.capture.kinds import BY_ID as KINDS
from gatecheck.core.errors import DecodeError
from gatecheck.core.storage import encode, read
from gatecheck.core.storage.encode import SmartAttribute
from reading import read_capture, read_document, said

GB = 10**9


def drive(files: dict[str, bytes], device: str = "sda") -> Drive:
    return next(d for d in read_capture(files).drives if d.device == device)


def disk(attributes: list[SmartAttribute], *, exceeded: bool = False, rotation: int = 5400) -> Drive:
    return drive(
        {
            "sda/identify.bin": encode.ata_identify(
                model="QUARRY SPINDLE", serial="QS-1", sectors=500 * GB // 512, rotation=rotation
            ),
            "sda/smart-data.bin": encode.smart_data(attributes),
            "sda/smart-thresh.bin": encode.smart_thresholds(attributes),
            "sda/smart-status.bin": encode.smart_status(exceeded=exceeded),
        }
    )


def flash(**health: int) -> Drive:
    return drive(
        {
            "nvme0/id-ctrl.bin": encode.nvme_controller(model="QUARRY FLINT", serial="QF-1", capacity=512 * GB),
            "nvme0/log-02.bin": encode.nvme_health(
                **{"temperature": 310, "spare": 100, "spare_threshold": 10, **health}
            ),
        },
        "nvme0",
    )


# --- the real capture ------------------------------------------------------------------------------------------


def test_real_identities(bench_a: dict[str, bytes]) -> None:
    ata, nvme = drive(bench_a, "sda").identity, drive(bench_a, "nvme0").identity
    assert ata is not None
    assert nvme is not None
    expected = {
        "model": "PRACTICE-HDD-2G",
        "serial": "PBH-20417",
        "firmware": "PF01",
        "capacity": 2 << 30,
        "rotation": 5400,
        "bus": "ata",
    }
    assert {k: ata[k] for k in expected} == expected
    assert (nvme["serial"], nvme["version"], nvme["capacity"], nvme["bus"]) == ("PBN-77310", "1.4", 1 << 30, "nvme")


def test_real_smart_pages(bench_a: dict[str, bytes]) -> None:
    pages = drive(bench_a, "sda").pages
    assert pages.smart is not None
    assert pages.status is not None
    assert pages.smart.checksum.ok
    assert pages.thresholds is not None
    assert pages.thresholds.checksum.ok
    assert pages.status.exceeded is False
    readings = {r.id: r for r in pages.smart.readings}
    assert sorted(readings) == [1, 3, 4, 5, 9, 12, 190]
    assert (readings[9].value, readings[9].unit) == (1, "h")
    assert (readings[190].value, readings[190].threshold, readings[190].now) == (31, 50, 69)
    assert readings[3].value is None  # spin-up time is the maker's own
    assert pages.smart.long_test_minutes == 54


def test_real_nvme_health(bench_a: dict[str, bytes]) -> None:
    health = drive(bench_a, "nvme0").pages.nvme
    assert health is not None
    assert (health.temperature, health.used, health.bytes_read, health.media_errors) == (50, 0, 512_000, 0)


def test_a_bridge_without_pages_is_never_called_healthy(bench_a: dict[str, bytes]) -> None:
    stick = drive(bench_a, "sdb")
    assert stick.pages.hidden
    assert "USB bridge hides the health data" in said(stick.verdict)
    assert [f.id for f in stick.findings] == ["bridge-hides-pages"]
    assert stick.weights == {"unreadable": 1.0}
    assert stick.bus == "usb"


def test_every_page_of_the_capture_is_named(bench_a: dict[str, bytes]) -> None:
    capture = read_capture(bench_a)
    assert {p.path for p in capture.pages} == set(bench_a)
    known = [p for p in capture.pages if p.kind in KINDS and not p.path.startswith("sdb/")]
    own = [p for p in known if p.device.startswith(("sda", "nvme0"))]
    assert len(own) == 16
    not_decoded = {p.path: p for p in own if p.status != "decoded"}
    assert {path: p.status for path, p in not_decoded.items()} == {
        "nvme0/log-06.r16386.bin": "refused",
        "sda/smart-log-dir.st02.bin": "empty",
    }
    assert {p.status for p in capture.pages if p.device == ""} == {"decoded"}, (
        "firmware, block devices and texts are read as well"
    )
    assert "4002h" in said(not_decoded["nvme0/log-06.r16386.bin"].detail)


def test_a_half_read_capture_still_shows_its_good_pages(bench_a: dict[str, bytes]) -> None:
    broken = {
        **bench_a,
        "sda/smart-data.st02.bin": bench_a["sda/smart-data.st02.bin"][:100],
        "sda/smart-data-after-selftest.st02.bin": b"",
    }
    found = drive(broken, "sda")
    assert found.identity is not None
    assert found.pages.smart is None
    page = next(p for p in read_capture(broken).pages if p.path == "sda/smart-data.st02.bin")
    assert (page.status, said(page.detail)) == ("broken", "SMART data at byte 0x64: expected 512 bytes, got 100 bytes")


@pytest.mark.parametrize(
    "name",
    [
        "sda/identify.st02.bin",
        "sda/smart-data.st02.bin",
        "sda/smart-thresh.st02.bin",
        "sda/smart-status.st02.bin",
        "nvme0/id-ctrl.r0.bin",
        "nvme0/id-ns.r0.bin",
        "nvme0/log-02.r0.bin",
    ],
)
def test_a_page_without_a_telling_name_is_known_by_its_content(bench_a: dict[str, bytes], name: str) -> None:
    by_name = next(p for p in read_capture(bench_a).pages if p.path == name)
    page = read_capture({"x.bin": bench_a[name]}).pages[0]
    assert (page.kind, page.status) == (by_name.kind, "decoded")


# --- judging ---------------------------------------------------------------------------------------------------

DISKS: dict[str, tuple[list[SmartAttribute], bool, str, set[str]]] = {
    "clean": ([SmartAttribute(5, 0, threshold=36, prefailure=True), SmartAttribute(9, 4000)], False, "clean", set()),
    "one-pending": ([SmartAttribute(197, 1)], False, "early-signs", {"pending"}),
    "first-reallocation": ([SmartAttribute(5, 1)], False, "early-signs", {"reallocated"}),
    "many-pending": (
        [SmartAttribute(197, 40), SmartAttribute(198, 40)],
        False,
        "failing",
        {"pending", "offline-uncorrectable"},
    ),
    "reported": ([SmartAttribute(187, 25)], False, "failing", {"reported-uncorrectable"}),
    "spin-retries": ([SmartAttribute(10, 9)], False, "failing", {"spin-retries"}),
    "status": ([SmartAttribute(5, 0)], True, "failing", {"threshold-exceeded"}),
    "below-threshold": (
        [SmartAttribute(5, 0, now=20, worst=20, threshold=36, prefailure=True)],
        False,
        "failing",
        {"below-threshold"},
    ),
    "once-below": (
        [SmartAttribute(1, 0, now=90, worst=20, threshold=36, prefailure=True)],
        False,
        "early-signs",
        {"was-below-threshold"},
    ),
    "cable": ([SmartAttribute(199, 400)], False, "link-errors", {"crc-errors"}),
    "two-crc": ([SmartAttribute(199, 2)], False, "clean", {"crc-errors"}),
    "cable-and-surface": (
        [SmartAttribute(199, 400), SmartAttribute(197, 2)],
        False,
        "early-signs",
        {"crc-errors", "pending"},
    ),
    "old": ([SmartAttribute(9, 60_000)], False, "clean", {"old"}),
    "hot": ([SmartAttribute(194, 61)], False, "clean", {"hot"}),
    "packed-hours": ([SmartAttribute(9, (12345 << 32) | 700)], False, "clean", set()),
    "packed-temperature": ([SmartAttribute(194, (60 << 32) | (15 << 16) | 35)], False, "clean", set()),
    "absurd-count": ([SmartAttribute(197, 1 << 40)], False, "clean", set()),
}


@pytest.mark.parametrize(("attributes", "exceeded", "outcome", "findings"), DISKS.values(), ids=DISKS)
def test_disk_pages_are_judged(
    attributes: list[SmartAttribute], exceeded: bool, outcome: str, findings: set[str]
) -> None:
    found = disk(attributes, exceeded=exceeded)
    assert found.weights is not None
    assert max(found.weights, key=lambda o: found.weights[o]) == outcome  # type: ignore[index]
    assert sum(found.weights.values()) == pytest.approx(1.0)
    assert {f.id for f in found.findings} - {"threshold-not-exceeded"} == findings
    assert all(said(f.means) and said(f.text) for f in found.findings)


FLASHES: dict[str, tuple[dict[str, int], str]] = {
    "clean": ({"used": 3}, "clean"),
    "used-up": ({"used": 104}, "worn-out"),
    "spare-gone": ({"spare": 4, "critical_warning": 1}, "worn-out"),
    "read-only": ({"critical_warning": 8}, "failing"),
    "media-errors": ({"media_errors": 3}, "early-signs"),
    "many-media-errors": ({"media_errors": 300}, "failing"),
    "hot": ({"temperature": 350, "critical_warning": 2}, "clean"),
}


@pytest.mark.parametrize(("health", "outcome"), FLASHES.values(), ids=FLASHES)
def test_flash_pages_are_judged(health: dict[str, int], outcome: str) -> None:
    weights = flash(**health).weights
    assert weights is not None
    assert max(weights, key=lambda o: weights[o]) == outcome


def test_a_wrong_checksum_is_reported_and_weighs_less() -> None:
    page = bytearray(encode.smart_data([SmartAttribute(197, 40)]))
    page[400] ^= 0xFF
    found = drive({"sda/smart-data.bin": bytes(page)})
    assert "checksum-wrong" in {f.id for f in found.findings}
    assert found.weights is not None
    assert 0.5 < found.weights["failing"] < 0.9


def test_flash_attributes_mean_wear_only_on_flash() -> None:
    readings = [SmartAttribute(231, 0, now=5, worst=5)]
    assert (
        max(disk(readings, rotation=0).weights or {}, key=lambda o: (disk(readings, rotation=0).weights or {})[o])
        == "worn-out"
    )
    assert "worn" not in {f.id for f in disk(readings, rotation=7200).findings}


def test_identity_alone_says_nothing_about_health() -> None:
    found = drive({"sda/identify.bin": encode.ata_identify(model="M", serial="S", sectors=1000)})
    assert found.weights is None


def test_zero_capacity_is_said_to_be_the_drives_own_firmware() -> None:
    found = drive({"sda/identify.bin": encode.ata_identify(model="M", serial="S", sectors=0)})
    assert [f.id for f in found.findings] == ["zero-capacity"]


# --- readers ---------------------------------------------------------------------------------------------------

READERS = [read.read_ata_identify, read.read_smart_data, read.read_smart_thresholds, read.read_smart_status,
           read.read_nvme_controller, read.read_nvme_namespace, read.read_nvme_health]  # fmt: skip
BAD: dict[str, tuple[Any, bytes, str]] = {
    "short": (read.read_ata_identify, b"\x40" * 100, "IDENTIFY DEVICE at byte 0x64: expected 512 bytes, got 100 bytes"),
    "blank": (read.read_smart_data, bytes(512), "SMART data at byte 0x0: expected a page, got zeros only"),
    "not-ata": (
        read.read_ata_identify,
        b"\x00\x80" + b"\x01" * 510,
        "general configuration at byte 0x0: expected bit 15 clear",
    ),
    "no-sense": (read.read_smart_status, b"\x00" * 32, "response code at byte 0x0: expected 70h to 73h, got 00h"),
    "empty-sense": (read.read_smart_status, b"", "expected at least 8 bytes, got 0 bytes"),
    "block-size": (
        read.read_nvme_namespace,
        b"\x01" + bytes(127) + b"\xff" * 64 + bytes(3904),
        "LBA data size at byte 0x82",
    ),
    "short-nvme": (read.read_nvme_controller, b"\x01" * 512, "expected 4096 bytes, got 512 bytes"),
}


@pytest.mark.parametrize(("reader", "page", "message"), BAD.values(), ids=BAD)
def test_a_bad_page_says_what_and_where(reader: Any, page: bytes, message: str) -> None:
    with pytest.raises(DecodeError, match=message):
        reader(page)


@pytest.mark.parametrize("reader", READERS, ids=lambda r: r.__name__)
@given(
    st.binary(max_size=600)
    | st.binary(min_size=4096, max_size=4096)
    | st.binary(min_size=8, max_size=64).map(lambda b: b"\x72" + b)
)
def test_any_bytes_give_a_value_or_a_located_error(reader: Any, data: bytes) -> None:
    try:
        reader(data)
    except DecodeError as error:
        assert error.at >= 0


@given(
    st.dictionaries(
        st.sampled_from(["sda/identify.bin", "sda/smart-data.bin", "nvme0/log-02.r0.bin", "x/y/z.bin", "efivars/B"]),
        st.binary(max_size=600),
    )
)
def test_any_set_of_files_gives_a_document(files: dict[str, bytes]) -> None:
    document = read_document(files)
    assert len(document["pages"]) == len(files)  # type: ignore[arg-type]


TEXT = st.text("ABCDEFGHIJ0123456789-", min_size=1, max_size=18)


@given(TEXT, TEXT, st.integers(1, 1 << 40), st.sampled_from([0, 5400, 7200, 15000]))
def test_identify_round_trips(model: str, serial: str, sectors: int, rotation: int) -> None:
    found = read.read_ata_identify(encode.ata_identify(model=model, serial=serial, sectors=sectors, rotation=rotation))
    assert (found.model, found.serial, found.sectors, found.rotation) == (model, serial, sectors, rotation)
    assert found.checksum == read.Checksum(True, 0)


@given(
    st.lists(
        st.builds(SmartAttribute, st.integers(1, 255), st.integers(0, (1 << 48) - 1), st.integers(0, 255)), max_size=30
    )
)
def test_smart_data_round_trips(attributes: list[SmartAttribute]) -> None:
    found = read.read_smart_data(encode.smart_data(attributes))
    assert [(r.id, r.raw, r.now) for r in found.readings] == [(a.id, a.raw, a.now) for a in attributes]
    assert found.checksum.ok


@given(
    st.dictionaries(
        st.sampled_from(["units_read", "units_written", "power_on_hours", "media_errors"]),
        st.integers(0, (1 << 128) - 1),
    )
)
def test_nvme_health_round_trips(values: dict[str, int]) -> None:
    found = read.read_nvme_health(encode.nvme_health(temperature=300, **values))
    assert found.bytes_read == values.get("units_read", 0) * 512_000
    assert found.power_on_hours == values.get("power_on_hours", 0)


def test_status_says_exceeded_or_not() -> None:
    assert read.read_smart_status(encode.smart_status(exceeded=True)).exceeded is True
    assert read.read_smart_status(encode.smart_status(exceeded=False)).exceeded is False
