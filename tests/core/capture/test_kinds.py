"""The table of page kinds: names lead to the right row, the documents list every row, and a new row needs nothing
else."""

from __future__ import annotations

from pathlib import Path

import pytest

from gatecheck.core.capture.kinds import BY_ID, DRIVE, KINDS, kind_of
from gatecheck.core.storage import encode, encode_logs
from gatecheck.core.storage.encode_logs import AtaError
from reading import read_capture, read_document

FORMAT = (Path(__file__).parents[3] / "docs" / "capture-format.md").read_text(encoding="utf-8")


@pytest.mark.parametrize(
    ("path", "kind"),
    [
        ("sda/identify.bin", "ata-identify"),
        ("sda/smart-data-after.bin", "smart-data"),
        ("sda/smart-thresh.bin", "smart-thresholds"),
        ("sda/smart-status.st02.bin", "smart-status"),
        ("sda/smart-log-dir.bin", "log-directory"),
        ("sda/gp-log-00.bin", "log-directory"),
        ("sda/smart-log-01.bin", "ata-errors"),
        ("sda/smart-log-02.bin", "ata-errors-comprehensive"),
        ("sda/comprehensive-errors.bin", "ata-errors-comprehensive"),
        ("sda/gp-log-03.bin", "ata-errors-ext"),
        ("sda/ext-error-log.bin", "ata-errors-ext"),
        ("sda/ext-comprehensive-errors.bin", "ata-errors-ext"),
        ("sda/gp-log-04.bin", "device-statistics"),
        ("sda/smart-log-06.bin", "ata-self-tests"),
        ("sda/gp-log-07.bin", "ata-self-tests-ext"),
        ("nvme0/id-ctrl.r0.bin", "nvme-controller"),
        ("nvme0/id-ns.bin", "nvme-namespace"),
        ("nvme0/ns-list.bin", "nvme-namespaces"),
        ("nvme0/log-01.bin", "nvme-errors"),
        ("nvme0/log-02.r0.bin", "nvme-health"),
        ("nvme0/log-03.bin", "nvme-firmware"),
        ("nvme0/log-06.bin", "nvme-self-tests"),
        ("sda/lba0-33.bin", "disk-start"),
        ("sda/lba-last-34.bin", "disk-end"),
        ("sda/part12-0-7.bin", "partition-start"),
        ("efivars/Boot0000-8be4df61-93ca-11d2-aa0d-00e098032b8c", "uefi-variable"),
        ("dmi/DMI", "smbios"),
        ("dmi/smbios_entry_point", "smbios-entry-point"),
        ("sysblock/sda.txt", "block-device"),
        ("dmesg.txt", "kernel-messages"),
        ("cmdline.txt", "kernel-command-line"),
        ("manifest.json", "description"),
        ("README.md", "description"),
        ("sda/whatever.bin", None),
    ],
)
def test_a_name_leads_to_its_row(path: str, kind: str | None) -> None:
    found = kind_of(path, b"")
    assert (found.id if found else None) == kind


def test_every_kind_has_a_name_of_its_own_and_stands_in_the_documents() -> None:
    assert len(BY_ID) == len(KINDS)
    assert not [kind.id for kind in KINDS if f"`{kind.id}`" not in FORMAT]


def disk(**logs: bytes) -> dict[str, bytes]:
    return {
        "sda/identify.bin": encode.ata_identify(model="QUARRY SPINDLE", serial="Q1", sectors=1 << 30),
        "sda/smart-data.bin": encode.smart_data([encode.SmartAttribute(9, 31_240)]),
        **{f"sda/{name}.bin": page for name, page in logs.items()},
    }


SUMMARY = encode_logs.summary_errors([AtaError(31_200, 5)])
COMPREHENSIVE = encode_logs.comprehensive_errors([AtaError(31_100 + i, 100 + i) for i in range(12)], pages=4)
EXTENDED = encode_logs.extended_errors([AtaError(31_239, 777)])


@pytest.mark.parametrize(
    ("logs", "speaks", "lba"),
    [
        ({"smart-log-01": SUMMARY}, "ata-errors", 5),
        ({"smart-log-01": SUMMARY, "smart-log-02": COMPREHENSIVE}, "ata-errors-comprehensive", 111),
        ({"smart-log-01": SUMMARY, "smart-log-02": COMPREHENSIVE, "gp-log-03": EXTENDED}, "ata-errors-ext", 777),
        ({"smart-log-01": SUMMARY, "smart-log-02": b"\x01\xff" + bytes(510)}, "ata-errors", 5),
    ],
    ids=["summary", "comprehensive", "extended", "comprehensive broken"],
)
def test_of_one_topic_the_richest_page_speaks(logs: dict[str, bytes], speaks: str, lba: int) -> None:
    drive = read_capture(disk(**logs)).drives[0]
    (found,) = [f for f in drive.findings if f.id == "media-errors-logged"]
    assert (found.page, found.values["lba"]) == (speaks, lba)
    assert max(drive.log_weights["error-log"], key=lambda o: drive.log_weights["error-log"][o]) == "recent"


def test_smart_log_02_comes_back_whole() -> None:
    log = next(
        p.values
        for p in read_capture(disk(**{"smart-log-02": COMPREHENSIVE})).pages
        if p.kind == "ata-errors-comprehensive"
    )
    assert [e.lba for e in log.errors] == [111 - i for i in range(12)]  # type: ignore[attr-defined]
    assert log.count == 12  # type: ignore[attr-defined]


@pytest.mark.parametrize(
    ("page", "status", "numbers"),
    [
        (encode.nvme_namespaces([1]), "decoded", (1,)),
        (encode.nvme_namespaces([2, 5, 900]), "decoded", (2, 5, 900)),
        (encode.nvme_namespaces([]), "decoded", ()),
        (encode.nvme_namespaces([3, 2]), "broken", None),
        (bytes(100), "broken", None),
    ],
)
def test_the_namespace_list(page: bytes, status: str, numbers: tuple[int, ...] | None) -> None:
    files = {
        "nvme0/id-ctrl.bin": encode.nvme_controller(model="FLINT", serial="F1", capacity=10**12),
        "nvme0/ns-list.bin": page,
    }
    found = next(p for p in read_document(files)["pages"] if p["kind"] == "nvme-namespaces")
    assert found["status"] == status
    assert numbers is None or tuple(found["values"]["numbers"]) == numbers


def test_what_is_no_drives_page_makes_no_drive() -> None:
    files = {
        "sysblock/sda.txt": b"size=100\n",
        "dmesg.txt": b"ata1: up",
        "sda/lba0-33.bin": bytes(17408),
        "sda/smart-log-dir.bin": bytes(512),
    }
    capture = read_capture(files)
    assert capture.drives == ()
    assert {p.path: p.status for p in capture.pages} == {
        "sysblock/sda.txt": "decoded",
        "dmesg.txt": "decoded",
        "sda/lba0-33.bin": "empty",
        "sda/smart-log-dir.bin": "empty",
    }
    assert all(BY_ID[p.kind].scope != DRIVE or p.kind == "log-directory" for p in capture.pages)


@pytest.mark.parametrize("text", [b"sda\nsdz\n", b"plain words of somebody", b"status: all is well\r\n"])
def test_text_is_never_taken_for_sense_data(text: bytes) -> None:
    """Sense data begins with 70h to 73h, and so do words with p, q, r and s."""
    assert kind_of("notes.txt", text) is None
