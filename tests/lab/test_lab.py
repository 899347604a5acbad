"""The probe inside an emulated machine: what the server shows is what the emulator was told.

Real kernel, real firmware (UEFI and legacy), emulated AHCI, NVMe and USB drives; the probe is the one that the server
hands out."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import pytest

from gatecheck.core.disk.encode import mbr_start, system_disk
from gatecheck.core.disk.volume import volume_start

sys.path.insert(0, str(Path(__file__).parent))
from guest import Emulator, Guest
from lab_ticket import Ticket, done

from serving import Served

pytestmark = pytest.mark.lab

ESP, SYSTEM = "5A1F0C3D-88B4-4E27-9D61-70C2E4B8A911", "C3E9D210-6F4A-4B58-A1D7-25E09B63F84C"
MIB = 1 << 20
DISK, FLASH, STICK = 64 * MIB, 48 * MIB, 32 * MIB
LARGE = 4096
"""bytes of a sector of the flash drive"""
BAD_SECTOR = DISK // 512 - 10


def images(folder: Path, start: bytes) -> None:
    """A disk, a flash drive and a stick, with something on them."""
    flash = system_disk(ESP, SYSTEM, sectors=FLASH // LARGE, sector=LARGE)
    for name, size, content in (("disk", DISK, start), ("flash", FLASH, flash), ("stick", STICK, b"")):
        with (folder / f"{name}.img").open("wb") as file:
            file.truncate(size)
            file.write(content)
            file.seek(2048 * 512)
            file.write(volume_start("ntfs" if name == "disk" else "fat"))


def drives(folder: Path, *, bad: bool) -> list[str]:
    disk = f"if=none,id=d0,format=raw,file={folder / 'disk.img'}"
    if bad:
        disk = (
            "if=none,id=d0,driver=raw,file.driver=blkdebug,file.image.driver=file,"
            f"file.image.filename={folder / 'disk.img'},"
            f"file.inject-error.0.event=read_aio,file.inject-error.0.sector={BAD_SECTOR},file.inject-error.0.errno=5"
        )
    return [
        "-smbios",
        "type=1,manufacturer=Ferrow,product=Lathe-14,serial=FL14-LAB",
        "-drive",
        disk,
        "-device",
        "ide-hd,drive=d0,bus=ide.0,serial=QS7-LAB-1,model=QUARRY SPINDLE LAB,ver=QA10,rotation_rate=5400",
        "-drive",
        f"if=none,id=n0,format=raw,file={folder / 'flash.img'}",
        "-device",
        "nvme,id=c0,serial=QF5-LAB-2",
        "-device",
        f"nvme-ns,drive=n0,bus=c0,nsid=3,logical_block_size={LARGE},physical_block_size={LARGE}",
        "-device",
        "qemu-xhci",
        "-drive",
        f"if=none,id=u0,format=raw,file={folder / 'stick.img'}",
        "-device",
        "usb-storage,drive=u0,removable=on",
    ]


def by_device(ticket: Ticket) -> dict[str, dict[str, Any]]:
    return {d["device"]: d for d in ticket.call("GET", f"/api/tickets/{ticket.id}/captures")[0]["devices"]}


def check_drives(ticket: Ticket) -> dict[str, dict[str, Any]]:
    """The drives, as the emulator was told."""
    found = by_device(ticket)
    disk = found["sda"]["identity"]
    assert (disk["serial"], disk["model"], disk["firmware"]) == ("QS7-LAB-1", "QUARRY SPINDLE LAB", "QA10")
    assert (disk["capacity"], disk["rotation"], found["sda"]["bus"]) == (DISK, 5400, "ata")
    flash = found["nvme0"]["identity"]
    assert (flash["serial"], flash["capacity"], found["nvme0"]["bus"]) == ("QF5-LAB-2", FLASH, "nvme")
    assert found["sdb"]["bus"] == "usb"
    assert [f["id"] for f in found["sdb"]["findings"]] == ["bridge-hides-pages"]
    read = {p["path"]: p["status"] for d in found.values() for p in d["pages"]}
    for path in (
        "sda/smart-data.bin",
        "sda/smart-thresh.bin",
        "sda/smart-status.bin",
        "sda/smart-log-06.bin",
        "nvme0/log-02.bin",
        "nvme0/log-03.bin",
    ):
        assert read[path] == "decoded", path
    assert not [p for p in read if p in ("nvme0/log-06.bin", "sda/gp-log-00.bin")], (
        "what these emulated drives do not announce is not asked for"
    )
    refused = [p for p, status in read.items() if status == "refused" and p.startswith(("sda/", "nvme0/"))]
    assert not [p for p in refused if "listing" not in p], (
        "a system partition without a file system is the only one that says no"
    )
    others = {p["path"]: p for p in ticket.call("GET", f"/api/tickets/{ticket.id}/captures")[0]["other_pages"]}
    start = others["nvme0n1/lba0-33.bin"]
    assert (start["status"], start["size"]) == ("decoded", 34 * LARGE), "its table is found with sectors of 4096 bytes"
    return found


def test_uefi_firmware_and_all_three_kinds_of_drives(system: Guest, server: Served, tmp_path: Path) -> None:
    images(tmp_path, system_disk(ESP, SYSTEM, sectors=DISK // 512))
    machine = Emulator(tmp_path, uefi=True, options=drives(tmp_path, bad=False))
    ticket = Ticket(server, drive_kind="hdd", installed_os="windows-10")
    try:
        machine.variables()
        machine.start(system, ticket.command_line)
        link = ticket.until(done(1), machine.console)
        assert (link["machine"]["mode"], link["machine"]["product_name"], link["machine"]["product_serial"]) == (
            "uefi",
            "Lathe-14",
            "FL14-LAB",
        )
        check_drives(ticket)
        captured = ticket.call("GET", f"/api/tickets/{ticket.id}/settings")["captured"]
        assert (captured["maker"], captured["product"], captured["secure_boot"]) == ("Ferrow", "Lathe-14", False)
        entries = {e["description"]: e for e in captured["entries"]}
        told = [text for text in entries if "QS7-LAB-1" in text or "QF5-LAB-2" in text]
        assert len(told) >= 2, f"the firmware made an entry for each drive it saw: {sorted(entries)}"
        assert ticket.call("GET", f"/api/tickets/{ticket.id}")["facts"]["disk_layout"] == "gpt"
        grid = ticket.call("GET", f"/api/tickets/{ticket.id}/sightings")["lines"]
        live = next(c for c in grid[0]["cells"] if c["at"] == "live")
        assert (live["value"], "QS7-LAB-1" in live["note"]) == ("right", True)
        ticket.call(
            "POST",
            f"/api/tickets/{ticket.id}/orders",
            json={"order": "self-test", "device": "sda", "kind": "short", "by": "KT"},
        )
        link = ticket.until(done(2), machine.console)
        assert link["orders"][1]["state"] == "done", link["orders"][1]["detail"]
        tests = [e for e in by_device(ticket)["sda"]["events"] if e["kind"] == "test"]
        assert [e["text"] for e in tests] == ["short self-test completed"]
        ticket.call("DELETE", f"/api/tickets/{ticket.id}/link")
        assert machine.process is not None
        machine.process.wait(60)  # the probe ends, the guest powers off
    finally:
        machine.stop()


def test_legacy_firmware_and_a_place_that_cannot_be_read(system: Guest, server: Served, tmp_path: Path) -> None:
    images(tmp_path, mbr_start([(7, True, 2048, DISK // 512 - 4096)]))
    machine = Emulator(tmp_path, uefi=False, options=drives(tmp_path, bad=True))
    ticket = Ticket(server, drive_kind="hdd", installed_os="windows-7")
    try:
        machine.start(system, ticket.command_line)
        link = ticket.until(done(1), machine.console)
        assert (link["machine"]["mode"], link["machine"]["product_name"]) == ("legacy", "Lathe-14")
        found = check_drives(ticket)
        captured = ticket.call("GET", f"/api/tickets/{ticket.id}/settings")["captured"]
        assert (captured["product"], captured["entries"]) == ("Lathe-14", [])
        assert ticket.call("GET", f"/api/tickets/{ticket.id}")["facts"]["disk_layout"] == "mbr"
        pages = {p["path"]: p for p in found["sda"]["pages"]}
        assert (
            pages["sda/lba-last-34.bin"]["status"],
            "Input/output error" in pages["sda/lba-last-34.bin"]["detail"],
        ) == ("failed", True)
        assert pages["sda/part1-0-7.bin"]["size"] == 4096
        last = DISK // 512 - 1
        alone = {path: p["status"] for path, p in pages.items() if path.startswith(f"sda/lba{last // 1000}")}
        assert alone == {
            f"sda/lba{BAD_SECTOR}.bin": "failed",
            f"sda/lba{last - 33}-{BAD_SECTOR - 1}.bin": "decoded",
            f"sda/lba{BAD_SECTOR + 1}-{last}.bin": "decoded",
        }, "only the one sector is lost"
        assert "sectors-unreadable" in [f["id"] for f in found["sda"]["findings"]]
    finally:
        machine.stop()


def test_a_machine_without_any_drive_says_so(system: Guest, server: Served, tmp_path: Path) -> None:
    machine = Emulator(tmp_path, uefi=False, options=[])
    ticket = Ticket(server, drive_kind="nvme", installed_os="windows-11")
    try:
        machine.start(system, ticket.command_line)
        ticket.until(done(1), machine.console)
        tape = ticket.call("GET", f"/api/tickets/{ticket.id}")["tape"]
        live = next(e["body"] for e in tape if e["body"].get("move") == "seen-live")
        assert (live.get("outcome") or max(live["weights"], key=live["weights"].get)) == "absent"
    finally:
        machine.stop()
