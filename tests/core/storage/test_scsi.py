"""SCSI pages: bytes as the standards lay them out, what they mean, and what damaged ones cost."""

from __future__ import annotations

from typing import Any

import pytest

from gatecheck.core.errors import DecodeError
from gatecheck.core.storage import encode_scsi as encode
from gatecheck.core.storage import scsi
from gatecheck.core.storage.kernel import FlashLife, flash_life
from reading import read_capture, read_document


def test_inquiry_as_a_drive_sends_it() -> None:
    """SPC-4, table 175: peripheral 00h, removable bit, version 6, 91 more bytes, vendor, product, revision."""
    raw = bytes.fromhex("00 80 06 12 5b 00 00 02") + b"QUARRY  SPINDLE S600    QS02" + bytes(60)
    found = scsi.read_scsi_inquiry(raw)
    assert (found.type, found.vendor, found.product, found.revision, found.removable, found.model) == (
        "disk",
        "QUARRY",
        "SPINDLE S600",
        "QS02",
        True,
        "QUARRY SPINDLE S600",
    )
    behind_a_translation = scsi.read_scsi_inquiry(bytes(8) + b"ATA     QUARRY SPINDLE  QA10")
    assert (behind_a_translation.is_ata, behind_a_translation.model) == (True, "QUARRY SPINDLE")


def test_names_are_the_unit_s_own() -> None:
    """SPC-4, 7.8.5: an NAA name of the unit, then one of its port with the protocol; a T10 name in between."""
    raw = (
        bytes.fromhex("00 83 00 2802 01 00 0c")
        + b"QUARRY  1234"
        + bytes.fromhex("01 03 00 08 50 00 c5 00 30 04 17 ab61 93 00 08 50 00 c5 00 30 04 17 ac")
    )
    found = scsi.read_scsi_names(raw)
    assert (found.wwn, found.transport) == ("5000c500300417ab", "SAS")


@pytest.mark.parametrize(
    ("read", "raw", "wanted"),
    [
        (scsi.read_scsi_serial, "00 80 00 08 20 20 51 58 36 2d 31 20", scsi.ScsiSerial("QX6-1")),
        (
            scsi.read_scsi_characteristics,
            "00 b1 00 3c 27 10 00 03" + "00" * 56,
            scsi.ScsiCharacteristics(10_000, "2.5 inch"),
        ),
        (
            scsi.read_scsi_characteristics,
            "00 b1 00 3c 00 01 00 05" + "00" * 56,
            scsi.ScsiCharacteristics(0, "below 1.8 inch"),
        ),
        (scsi.read_scsi_characteristics, "00 b1 00 3c 00 00 00 00" + "00" * 56, scsi.ScsiCharacteristics(None, None)),
        (
            scsi.read_scsi_capacity,
            "00 00 00 00 45 dd 2f af 00 00 02 00 00 03" + "00" * 18,
            scsi.ScsiCapacity(1_172_123_568, 512, 4096),
        ),
        (scsi.read_scsi_capacity, "00 00 00 00 00 ff ff ff 00 00 10 00", scsi.ScsiCapacity(1 << 24, 4096, 4096)),
        (scsi.read_scsi_temperature, "0d 00 00 0c 00 00 03 02 00 24 00 01 03 02 00 41", scsi.ScsiTemperature(36, 65)),
        (scsi.read_scsi_temperature, "0d 00 00 06 00 00 03 02 00 ff", scsi.ScsiTemperature(None, None)),
        (scsi.read_scsi_endurance, "11 00 00 08 00 01 03 04 00 00 00 57", scsi.ScsiEndurance(87)),
        (scsi.read_scsi_exceptions, "2f 00 00 08 00 00 03 04 5d 10 24 00", scsi.ScsiExceptions(0x5D, 0x10, 36)),
        (scsi.read_vital_pages, "00 00 00 04 00 80 83 b1", scsi.ScsiPageList((0x00, 0x80, 0x83, 0xB1))),
        (scsi.read_log_pages, "00 00 00 03 00 0d 2f", scsi.ScsiPageList((0x00, 0x0D, 0x2F))),
    ],
)
def test_a_page_as_the_standard_lays_it_out(read: Any, raw: str, wanted: object) -> None:
    assert read(bytes.fromhex(raw)) == wanted


@pytest.mark.parametrize(
    ("read", "raw", "told"),
    [
        (scsi.read_scsi_inquiry, bytes(20), "expected 36 bytes, got 20 bytes"),
        (scsi.read_scsi_inquiry, b"\x7f" + bytes(40), "expected a device that is connected"),
        (scsi.read_scsi_serial, b"\0\x83\0\4QX6 ", "expected 80h, got 83h"),
        (scsi.read_scsi_capacity, bytes(32), "expected 256 to 65536 bytes, got 0"),
        (scsi.read_scsi_exceptions, bytes([0x2F, 0, 0, 0]), "expected parameter 0000h, got none"),
        (scsi.read_scsi_errors, b"", "expected 02h, 03h or 05h"),
        (scsi.read_scsi_scan, b"\x15", "expected 4 bytes, got 1 bytes"),
        (scsi.read_log_pages, b"\x0d\0\0\0", "expected page 00h"),
    ],
)
def test_what_is_no_such_page_says_where_and_what(read: Any, raw: bytes, told: str) -> None:
    with pytest.raises(DecodeError, match="at byte") as error:
        read(raw)
    assert told in str(error.value)


def test_parameters_that_are_cut_off_end_the_page() -> None:
    whole = encode.scan(60_000, [(59_000, 77), (59_500, 99)])
    assert [e.lba for e in scsi.read_scsi_scan(whole).errors] == [77, 99]
    for length in range(4, len(whole)):
        assert [e.lba for e in scsi.read_scsi_scan(whole[:length]).errors] in ([], [77])


def test_self_tests_are_told_apart() -> None:
    """SPC-4, 7.3.10: completed, interrupted, failed on the medium, failed otherwise."""
    log = scsi.read_scsi_self_tests(
        encode.self_tests([(1, 0, 900, None), (2, 1, 890, None), (2, 7, 880, 4711), (6, 5, 870, None)])
    )
    assert [(t.kind, t.outcome, t.hours, t.lba) for t in log.tests] == [
        ("short", "passed", 900, None),
        ("long", "not-done", 890, None),
        ("long", "read-failure", 880, 4711),
        ("long, in the foreground", "other-failure", 870, None),
    ]


def drive(**pages: bytes) -> dict[str, bytes]:
    named = {f"sda/{name.replace('_', '-')}.bin": page for name, page in pages.items()}
    return {
        "sda/inquiry.bin": encode.inquiry(vendor="QUARRY", product="SPINDLE S600"),
        "sda/capacity.bin": encode.capacity(1 << 30),
        **named,
    }


# pages -> findings, and the likeliest outcome of `health-pages` (None: nothing to weigh)
HEALTH: list[tuple[dict[str, bytes], list[str], str | None]] = [
    ({}, ["no-pages"], None),
    ({"scsi_log_2f": encode.exceptions()}, ["threshold-not-exceeded"], "clean"),
    ({"scsi_log_2f": encode.exceptions(predicted=True)}, ["threshold-exceeded"], "failing"),
    ({"scsi_log_03": encode.errors(3, {"uncorrected": 0})}, [], "clean"),
    ({"scsi_log_03": encode.errors(3, {"uncorrected": 2})}, ["reported-uncorrectable"], "early-signs"),
    ({"scsi_log_03": encode.errors(3, {"uncorrected": 40})}, ["reported-uncorrectable"], "failing"),
    ({"scsi_log_15": encode.scan(600_000, [(599_900, 5)])}, ["scan-errors"], "early-signs"),
    ({"scsi_log_15": encode.scan(600_000, [(599_900, n) for n in range(12)])}, ["scan-errors"], "failing"),
    ({"scsi_log_11": encode.endurance(100)}, ["worn"], "worn-out"),
    (
        {"scsi_log_0d": encode.temperature(70), "scsi_log_2f": encode.exceptions()},
        ["hot", "threshold-not-exceeded"],
        "clean",
    ),
]


@pytest.mark.parametrize(("pages", "findings", "outcome"), HEALTH)
def test_what_its_pages_mean(pages: dict[str, bytes], findings: list[str], outcome: str | None) -> None:
    found = read_capture(drive(**pages)).drives[0]
    assert sorted(f.id for f in found.findings) == sorted(findings)
    assert (max(found.weights, key=lambda o: (found.weights or {})[o]) if found.weights else None) == outcome


def test_a_drive_says_who_it_is_in_the_shape_of_any_other() -> None:
    own: Any = read_document(
        drive(
            vpd_80=encode.serial("QX6-300417"),
            vpd_83=encode.names("5000c500300417ab"),
            vpd_b1=encode.characteristics(7200),
        )
    )["identity"]
    assert {
        k: own[k]
        for k in ("model", "serial", "wwn", "rotation", "transport", "capacity", "logical_sector", "bus", "told_by")
    } == {
        "model": "QUARRY SPINDLE S600",
        "serial": "QX6-300417",
        "wwn": "5000c500300417ab",
        "rotation": 7200,
        "transport": "SAS",
        "capacity": 1 << 39,
        "logical_sector": 512,
        "bus": "scsi",
        "told_by": "drive",
    }


# a path in the device tree, other facts -> how it is connected
PATHS: list[tuple[str, list[str], str]] = [
    ("pci0000:00/0000:00:17.0/ata3/host2/target2:0:0/2:0:0:0/block/sda", [], "ata"),
    ("pci0000:00/0000:00:14.0/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0/block/sda", ["host/proc_name=uas"], "usb"),
    ("pci0000:00/0000:00:1d.0/0000:3d:00.0/nvme/nvme0/nvme0n1", [], "nvme"),
    ("pci0000:00/0000:00:03.0/virtio1/block/vda", [], "virtio"),
    ("pci0000:00/0000:00:03.0/virtio1/host0/target0:0:0/0:0:0:0/block/sda", ["host/proc_name=virtio_scsi"], "scsi"),
    ("pci0000:00/0000:01:00.0/host0/target0:2:0/0:2:0:0/block/sda", ["host/proc_name=megaraid_sas"], "raid"),
    ("pci0000:00/0000:01:00.0/host0/target0:0:8/0:0:8:0/block/sda", ["host/proc_name=megaraid_sas"], "scsi"),
    (
        "pci0000:00/0000:01:00.0/host0/port-0:0/end_device-0:0/target0:0:0/0:0:0:0/block/sda",
        ["host/proc_name=mpt3sas"],
        "scsi",
    ),
    (
        "pci0000:00/0000:01:00.0/host0/target0:1:0/0:1:0:0/block/sda",
        ["host/proc_name=mpt3sas", "raid_devices/level=RAID1"],
        "raid",
    ),
    (
        "pci0000:00/0000:01:00.0/host0/target0:0:0/0:0:0:0/block/sda",
        ["host/proc_name=hpsa", "device/raid_level=RAID 5"],
        "raid",
    ),
    (
        "pci0000:00/0000:01:00.0/host0/target0:0:0/0:0:0:0/block/sda",
        ["host/proc_name=hpsa", "device/raid_level=N/A"],
        "scsi",
    ),
    ("platform/1d84000.ufshc/host0/target0:0:0/0:0:0:0/block/sda", ["host/proc_name=ufshcd"], "ufs"),
    ("pci0000:00/0000:00:1a.0/mmc_host/mmc0/mmc0:0001/block/mmcblk0", ["device/type=MMC"], "emmc"),
    ("pci0000:00/0000:00:1b.0/mmc_host/mmc1/mmc1:aaaa/block/mmcblk1", ["device/type=SD"], "sd"),
]


@pytest.mark.parametrize(("path", "facts", "bus"), PATHS)
def test_how_a_drive_is_connected_is_told_by_the_kernel(path: str, facts: list[str], bus: str) -> None:
    name = path.rsplit("/", 1)[-1]
    text = "\n".join(["size=2048", *facts, f"path=/sys/devices/{path}"])
    found = read_capture({f"sysblock/{name}.txt": text.encode()}).drives
    assert [(d.bus, (d.identity or {}).get("capacity"), (d.identity or {}).get("told_by")) for d in found] == [
        ("usb", None, None) if bus == "usb" else (bus, 1 << 20, "kernel")
    ]
    assert not found[0].weights, "nothing was read of its health, so nothing is weighed"


@pytest.mark.parametrize(
    "name", ["loop0", "sr0", "fd0", "zram0", "dm-0", "md127", "mmcblk0boot0", "mmcblk0rpmb", "ram0"]
)
def test_what_is_no_drive_is_none(name: str) -> None:
    where = (
        "virtual/block"
        if name[:2] in ("lo", "zr", "dm", "md", "ra")
        else "pci0000:00/0000:00:1a.0/mmc_host/mmc0/mmc0:0001/block"
    )
    assert (
        read_capture({f"sysblock/{name}.txt": f"size=2048\npath=/sys/devices/{where}/{name}\n".encode()}).drives == ()
    )


@pytest.mark.parametrize(
    ("estimates", "reserve", "life"),
    [
        (["0x01", "0x01"], "0x01", FlashLife((0, 10), "normal")),
        (["0x03", "0x09"], "0x02", FlashLife((80, 90), "warning")),
        (["0x0b", "0x02"], "0x03", FlashLife((100, None), "urgent")),
        (["0x00", "0x00"], "0x00", None),
        (["", ""], "", None),
        (["0xff", "many"], "0x01", FlashLife(None, "normal")),
    ],
)
def test_the_life_of_soldered_flash(estimates: list[str], reserve: str, life: FlashLife | None) -> None:
    assert flash_life(estimates, reserve) == life
