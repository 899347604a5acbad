"""The kernel's messages: lines as kernels write them, and what is told by each."""

from __future__ import annotations

from typing import Any

import pytest

from gatecheck.core.capture.messages import judge_drive, told_by
from reading import read_capture, read_document

BLOCK = b"size=2097152\npath=/sys/devices/pci0000:00/0000:00:17.0/ata1/host0/target0:0:0/0:0:0:0/block/sda\n"

# a line -> (finding, device)
LINES: list[tuple[str, str | None, str]] = [
    (
        "[  12.3] critical medium error, dev sda, sector 4711 op 0x0:(READ) flags 0x0 phys_seg 1 prio class 2",
        "kernel-unreadable",
        "sda",
    ),
    (
        "[  12.3] I/O error, dev sda, sector 0 op 0x0:(READ) flags 0x80700 phys_seg 1 prio class 2",
        "kernel-failed",
        "sda",
    ),
    (
        "[  12.3] blk_update_request: I/O error, dev sda, sector 0 op 0x0:(READ) flags 0x0 phys_seg 1",
        "kernel-failed",
        "sda",
    ),
    ("[   3.1] ata1.00: error: { ICRC ABRT } ata1: SError: { UnrecovData BadCRC Handshk }", "kernel-link", "sda"),
    ("[   3.1] ata1: limiting SATA link speed to 1.5 Gbps", "kernel-link", "sda"),
    (
        "[   5.0] EXT4-fs error (device sda2): ext4_lookup:1787: inode #2: comm ls: deleted inode referenced: 12",
        "kernel-volume",
        "sda",
    ),
    ('[   5.0] ntfs3: sda3: volume is dirty and "force" flag is not set!', "kernel-volume", "sda"),
    ("[   9.9] ata2: COMRESET failed (errno=-16)", "kernel-never-ready", "machine"),
    ("[   9.9] nvme nvme0: Device not ready; aborting initialisation, CSTS=0x0", "kernel-never-ready", "machine"),
    ("[   9.9] mmc0: error -110 whilst initialising SD card", "kernel-never-ready", "machine"),
    ("[   2.2] GPT:Primary header thinks Alt. header is not at the end of the disk.", "kernel-table", "machine"),
    ("[   1.0] mce: [Hardware Error]: Machine check events logged", "kernel-memory", "machine"),
    ("[   1.0] EDAC MC0: 1 CE memory read error on CPU_SrcID#0_Channel#1_DIMM#0", "kernel-memory", "machine"),
    ("[   1.0] pcieport 0000:00:1d.0: AER: Corrected error received: 0000:3d:00.0", "kernel-bus", "machine"),
    # what says nothing
    ("[   1.0] ata1: SATA link up 6.0 Gbps (SStatus 133 SControl 300)", None, ""),
    ("[   1.0] sd 0:0:0:0: [sda] 2097152 512-byte logical blocks: (1.07 GB/1.00 GiB)", None, ""),
    ("[   1.0] EXT4-fs (sda2): mounted filesystem with ordered data mode", None, ""),
    ("[   1.0] EDAC MC: Ver: 3.0.0", None, ""),
    ("[   1.0] critical medium error, dev sdb, sector 1", None, ""),
]


@pytest.mark.parametrize(("line", "finding", "device"), LINES)
def test_a_line_says_what_it_says(line: str, finding: str | None, device: str) -> None:
    said: Any = read_document({"sysblock/sda.txt": BLOCK, "dmesg.txt": line.encode()})["findings"]
    assert [(f["id"], f["device"]) for f in said if f["id"].startswith("kernel")] == (
        [(finding, device)] if finding else []
    )


def weighed(*lines: str) -> str | None:
    drive = read_capture({"sysblock/sda.txt": BLOCK, "dmesg.txt": "\n".join(lines).encode()}).drives[0]
    return max(drive.weights, key=lambda o: (drive.weights or {})[o]) if drive.weights else None


def test_only_what_the_drive_itself_said_is_weighed() -> None:
    assert weighed("critical medium error, dev sda, sector 4711") == "early-signs"
    assert weighed("I/O error, dev sda, sector 4711 op 0x0:(READ)") is None
    assert weighed("ata1: SError: { BadCRC }", "ata1: SError: { BadCRC }") == "link-errors"


def test_a_port_on_which_a_drive_was_found_did_get_ready() -> None:
    said: Any = read_document({"sysblock/sda.txt": BLOCK, "dmesg.txt": b"ata1: COMRESET failed (errno=-16)"})[
        "findings"
    ]
    assert [f["id"] for f in said] == []


def test_endless_messages_cost_little() -> None:
    line = "critical medium error, dev sda, sector %d op 0x0:(READ)\n"
    drive = read_capture(
        {"sysblock/sda.txt": BLOCK, "dmesg.txt": "".join(line % n for n in range(60_000)).encode()}
    ).drives[0]
    assert drive.findings[0].values["count"] == 8_000


def test_what_was_said_of_a_disk_that_is_gone_is_not_blamed_on_the_next() -> None:
    lines = [
        "critical medium error, dev sdb, sector 80",
        "usb 2-1: USB disconnect, device number 3",
        "sd 7:0:0:0: [sdb] 7814037168 512-byte logical blocks: (4.00 TB/3.64 TiB)",
        "I/O error, dev sdb, sector 16 op 0x0:(READ)",
    ]
    told = told_by(lines)
    assert (told.unreadable, told.failed) == ({}, {"sdb": 1})


def test_sectors_are_the_drives_own() -> None:
    told = told_by(["critical medium error, dev sda, sector 80", "critical medium error, dev sda, sector 84"])
    found = [f for f in judge_drive(told, ["sda"], None, 4096) if f.id == "kernel-unreadable"]
    assert found[0].values == {"count": 1, "lbas": [10]}
