"""What a capture puts on the tape beside the drive's own pages: settings, order, layout, and what the live system
sees."""

from __future__ import annotations

from typing import Any

import pytest

from gatecheck.adapters.shipped_tables import shipped_words
from gatecheck.core.belief.model import Model
from gatecheck.core.disk.encode import mbr_start, system_disk
from gatecheck.core.disk.mbr import read_mbr
from gatecheck.core.disk.sectors import sectors_of
from gatecheck.core.errors import DecodeError
from gatecheck.core.firmware.encode import (
    boot_variables,
    file_path,
    load_option,
    network,
    partition,
    pci,
    pci_root,
    usb,
)
from gatecheck.core.instruments.evidence import capture_evidence
from gatecheck.core.storage import encode, encode_scsi
from gatecheck.core.tape.parse import parse_entries
from reading import disk_layout, read_capture

ESP, DATA, GONE = (
    "0F2F0A6B-3D5C-4E4B-9A51-1D2C3B4A5968",
    "7B5E90C1-52A4-4A0E-8A0C-8D1F00A1B2C3",
    "11111111-2222-3333-4444-555555555555",
)
SYSTEM = load_option("Installed system", partition(ESP), file_path("\\EFI\\system\\start.efi"))
OLD = load_option("Older system", partition(GONE), file_path("\\EFI\\old\\start.efi"))
NET = load_option("Network", pci_root(), pci(25), network())
STICK = load_option("USB stick", pci_root(), pci(20), usb(2))
DISK_START, MBR_START = system_disk(ESP, DATA), mbr_start([(7, True, 2048, 900_000)])
SATA = "path=/sys/devices/pci0000:00/0000:00:17.0/ata1/host0/block/sda"
USB = "path=/sys/devices/pci0000:00/0000:00:14.0/usb2/2-1/host6/block/sdb"


def machine(
    *,
    start: bytes | None = DISK_START,
    sectors: int = 976_773_168,
    entries: dict[int, bytes] | None = None,
    order: tuple[int, ...] = (),
    stick: bool = False,
    **more: Any,
) -> dict[str, bytes]:
    """A capture's files: one SATA disk, the firmware's variables, perhaps a live stick."""
    files = {
        "sysblock/sda.txt": SATA.encode(),
        "sda/identify.bin": encode.ata_identify(model="QUARRY SPINDLE 500", serial="QS5-1", sectors=sectors),
    }
    if start is not None:
        files["sda/lba0-33.bin"] = start
    if stick:
        files |= {
            "sysblock/sdb.txt": USB.encode(),
            "sdb/identify.bin": encode.ata_identify(model="STICK", serial="T1", sectors=60_000_000, rotation=0),
        }
    return files | (boot_variables(entries, order, **more) if entries is not None else {})


def entries_of(model: Model, files: dict[str, bytes], **facts: Any) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = capture_evidence(model.knowledge, facts, read_capture(files))
    parse_entries(found, model.knowledge)  # every one is good for the tape
    for entry in found:
        entry["note"] = shipped_words().note(entry["note"])
    return found


def of(entries: list[dict[str, Any]], move: str) -> dict[str, Any] | None:
    return next((e for e in entries if e.get("move") == move), None)


@pytest.mark.parametrize(
    ("entries", "order", "current", "value"),
    [
        ({1: SYSTEM, 2: NET}, (1, 2), None, "system-first"),
        ({1: SYSTEM, 2: NET}, (2, 1), None, "other-first"),
        ({1: SYSTEM, 3: STICK}, (3, 1), 3, "system-first"),  # the stick it was started from says nothing
        ({1: SYSTEM, 3: STICK}, (3, 1), None, "other-first"),
        ({1: OLD, 2: SYSTEM}, (1, 2), None, "system-first"),  # firmware skips an entry whose disk is gone
        ({2: NET}, (2,), None, "system-absent"),
        ({1: OLD, 2: NET}, (1, 2), None, None),  # perhaps its own entry, gone stale: entry-target says that
        ({1: SYSTEM}, (), None, None),
    ],
)
def test_the_captured_order(
    model: Model, entries: dict[int, bytes], order: tuple[int, ...], current: int | None, value: str | None
) -> None:
    found = of(entries_of(model, machine(entries=entries, order=order, current=current)), "boot-order")
    assert (found["found"] if found else None) == value
    if found:
        assert max(found["weights"], key=found["weights"].get) == value
        assert sum(found["weights"].values()) == pytest.approx(1.0, abs=1e-3)


@pytest.mark.parametrize(
    ("on", "os", "fits"), [(True, "windows-11", True), (True, "windows-7", False), (False, "windows-7", True)]
)
def test_secure_boot_is_held_against_the_need(model: Model, on: bool, os: str, fits: bool) -> None:
    files = machine(entries={1: SYSTEM}, order=(1,), secure_boot=on)
    found = of(entries_of(model, files, installed_os=os), "secure-boot")
    assert found is not None
    assert found["found"] == ("on" if on else "off")
    assert (found["weights"]["fits"] > 0.8) is fits
    assert "SecureBoot" in found["note"]


@pytest.mark.parametrize(
    ("files", "layout", "outcome", "cell"),
    [
        (machine(), "gpt", "right", "right"),
        (machine(start=MBR_START), "mbr", "right", "right"),
        (machine(start=bytes(34 * 512)), None, "no-volumes", "right"),
        (machine(start=None), None, "right", "right"),
        (machine(start=None, sectors=0), None, None, "zero-size"),
    ],
    ids=["gpt", "mbr", "empty", "start not read", "no capacity"],
)
def test_the_live_column_fills_itself(
    model: Model, files: dict[str, bytes], layout: str | None, outcome: str | None, cell: str
) -> None:
    entries = entries_of(model, files)
    assert next((e["fact"]["disk_layout"] for e in entries if "fact" in e), None) == layout
    seen = of(entries, "seen-live")
    assert seen is not None
    assert (seen.get("outcome"), seen["found"]) == (outcome, cell)
    assert "QS5-1" in seen["note"]


def test_a_stick_is_no_drive_of_the_machine(model: Model) -> None:
    only_stick = {k: v for k, v in machine(stick=True).items() if "sda" not in k}
    entries = entries_of(model, only_stick)
    seen = of(entries, "seen-live")
    assert seen is not None
    assert (seen["outcome"], seen["found"]) == ("absent", "absent")
    assert {"saw": "stick", "at": "live", "value": "right"}.items() <= next(e for e in entries if "saw" in e).items()


def test_two_drives_of_one_kind_leave_the_question_open(model: Model) -> None:
    files = machine() | {
        "sysblock/sdb.txt": SATA.replace("sda", "sdb").encode(),
        "sdb/identify.bin": encode.ata_identify(model="QUARRY SPINDLE 2T", serial="QS2-9", sectors=3_907_029_168),
    }
    assert of(entries_of(model, files), "seen-live") is None
    solid = dict(
        files,
        **{
            "sdb/identify.bin": encode.ata_identify(
                model="QUARRY FLINT", serial="QF-9", sectors=976_773_168, rotation=0
            )
        },
    )
    entries = entries_of(model, solid, drive_kind="hdd")
    seen = of(entries, "seen-live")
    assert seen is not None
    assert "QS5-1" in seen["note"]
    assert next(e for e in entries if e.get("saw") == "other-disk")["note"].startswith("QUARRY FLINT")


def test_a_bare_page_says_nothing_of_the_machine(model: Model) -> None:
    files = {"identify.bin": encode.ata_identify(model="QUARRY SPINDLE 500", serial="QS5-1", sectors=976_773_168)}
    assert entries_of(model, files) == []


@pytest.mark.parametrize(
    ("start", "found"),
    [
        (DISK_START, "gpt"),
        (MBR_START, "mbr"),
        (bytes(512), None),
        (b"", None),
        (mbr_start([]), None),
        (MBR_START[:446] + b"\x33" * 64 + b"\x55\xaa", None),
    ],
)
def test_how_a_disk_is_divided(start: bytes, found: str | None) -> None:
    assert disk_layout(start) == found


def test_mbr_records_come_back() -> None:
    table = read_mbr(sectors_of(mbr_start([(7, False, 63, 1000), (0x83, True, 2048, 5000)])))
    assert [(p.number, p.type, p.active, p.first, p.size) for p in table.partitions] == [
        (1, 7, False, 63, 1000),
        (2, 0x83, True, 2048, 5000),
    ]
    assert read_mbr(sectors_of(DISK_START)).is_protective
    with pytest.raises(DecodeError, match="55 AA"):
        read_mbr(sectors_of(bytes(512)))


BLOCK = "queue/logical_block_size=512\npath=/sys/devices/pci0000:00/{place}/block/sda\n"
SAS, CARD, CHIPSET = (
    "0000:00:01.0/0000:01:00.0/host0/target0:0:0/0:0:0:0",
    "0000:00:1c.0/0000:02:00.0/ata1/host0/target0:0:0/0:0:0:0",
    "0000:00:17.0/ata1/host0/target0:0:0/0:0:0:0",
)
INQUIRY = encode_scsi.inquiry(vendor="QUARRY", product="SPINDLE S600")


def said(model: Model, files: dict[str, bytes]) -> dict[str, str]:
    """Move or fact -> what the tape would get."""
    found: dict[str, str] = {}
    for entry in capture_evidence(model.knowledge, {"storage_was": "ahci"}, read_capture(files)):
        weights: Any = entry.get("weights")
        found |= {
            str(entry.get("move") or "fact"): str(
                entry.get("found") or entry.get("outcome") or entry.get("fact") or max(weights, key=weights.get)
            )
        }
    return found


@pytest.mark.parametrize(("size", "sighting"), [("", None), ("size=0\n", "zero-size"), ("size=4096\n", "right")])
def test_a_size_that_nobody_told_is_not_none(model: Model, size: str, sighting: str | None) -> None:
    assert (
        said(model, {"sda/inquiry.bin": INQUIRY, "sysblock/sda.txt": (size + BLOCK.format(place=SAS)).encode()}).get(
            "seen-live"
        )
        == sighting
    )


@pytest.mark.parametrize(
    ("lines", "mains"),
    [
        (["power/AC0/type=Mains", "power/AC0/online=1"], "connected"),
        (["power/AC0/type=Mains", "power/AC0/online=0"], "battery"),
        (["power/AC0/type=Mains", "power/AC0/online=0", "power/ucsi1/type=USB", "power/ucsi1/online=1"], "connected"),
        (["power/ucsi1/type=USB", "power/ucsi1/online=0"], None),
        (["power/BAT0/type=Battery", "power/BAT0/online=1"], None),
    ],
)
def test_mains_is_what_charges(model: Model, lines: list[str], mains: str | None) -> None:
    assert said(model, {"machine.txt": "\n".join(lines).encode()}) == ({"fact": str({"mains": mains})} if mains else {})


@pytest.mark.parametrize(
    ("place", "pci", "mode"),
    [
        (CHIPSET, "0000:00:17.0 class=010601 vendor=8086 device=a352 driver=ahci", "ahci"),
        (CHIPSET, "0000:00:17.0 class=01018a vendor=8086 device=1c00 driver=ata_piix", "compatible"),
        (CHIPSET, "0000:00:17.0 class=010400 vendor=8086 device=2822 driver=ahci", "raid"),
        (CHIPSET, "0000:00:17.0 class=010601 vendor=8086 device=a352 driver=ahci remapped_nvme=1", "raid"),
        (CARD, "0000:02:00.0 class=010601 vendor=1b21 device=0612 driver=ahci", None),
        (CARD, "0000:02:00.0 class=010400 vendor=1000 device=005d driver=megaraid_sas", None),
    ],
)
def test_a_card_obeys_no_setting_of_the_firmware(model: Model, place: str, pci: str, mode: str | None) -> None:
    files = {"sysblock/sda.txt": ("size=4096\n" + BLOCK.format(place=place)).encode(), "pci.txt": pci.encode()}
    assert said(model, files).get("storage-mode") == mode
