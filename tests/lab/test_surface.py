"""The timed read in a real kernel: sectors that the emulator was told to refuse are found to the sector, and no others,
on ATA, SCSI and NVMe; what ends it in between changes nothing."""

from __future__ import annotations

import sys
import time
from pathlib import Path
from typing import Any

import pytest

sys.path.insert(0, str(Path(__file__).parent))
from guest import Emulator, Guest
from lab_ticket import Ticket, done
from machines import MIB, ata, drive, image

from gatecheck.adapters.capture_files import pages_of
from gatecheck.core.scan.evidence import scanned
from gatecheck.core.scan.map_page import read_map_page
from gatecheck.core.scan.read import UNREADABLE
from serving import HTTP, Served

pytestmark = pytest.mark.lab

# in units of 512 bytes, as the emulator counts
BAD_ATA = (4_097, 4_098, 90_000, *range(150_000, 150_006), 262_143)
BAD_SCSI = (2_048, 77_777)
BAD_NVME = (8 * 700, 8 * 5_000, 8 * 5_001)


def _drives(folder: Path) -> list[str]:
    return [
        *ata(folder, bad=BAD_ATA),
        *drive(image(folder, "s0", size=96 * MIB), "s0", bad=BAD_SCSI),
        "-device",
        "virtio-scsi-pci,id=s0c",
        "-device",
        "scsi-hd,drive=s0,bus=s0c.0,vendor=QUARRY,product=SPINDLE S600,ver=QS02,serial=QX6-LAB-3,rotation_rate=10000",
        *drive(image(folder, "n0", size=128 * MIB, sector=4096), "n0", bad=BAD_NVME),
        "-device",
        "nvme,id=c0,serial=QF7-LAB-6",
        "-device",
        "nvme-ns,drive=n0,bus=c0,nsid=1,logical_block_size=4096,physical_block_size=4096",
    ]


def _found(server: Served, ticket: Ticket, device: str) -> tuple[set[int], float, int]:
    """(sectors that do not read, share that was tried, bytes of a sector) of the drive's newest map."""
    for capture in ticket.call("GET", f"/api/tickets/{ticket.id}/captures"):
        files = pages_of(
            capture["name"],
            (server.data / "files" / capture["sha256"]).read_bytes()
            if (server.data / "files" / capture["sha256"]).exists()
            else _bytes(server, capture["sha256"]),
        )
        for path, data in files.items():
            if path == f"{device}/surface.gcm":
                own = scanned(read_map_page(data))
                blocks = own.page.blocks
                bad = blocks.state == UNREADABLE
                return (
                    {
                        lba + n
                        for lba, size in zip(blocks.lba[bad].tolist(), blocks.sectors[bad].tolist(), strict=True)
                        for n in range(size)
                    },
                    own.share,
                    own.page.sector,
                )
    raise AssertionError(f"no map of {device}")


def _bytes(server: Served, sha256: str) -> bytes:

    return bytes(HTTP.get(f"{server.url}/api/files/{sha256}", timeout=30).content)


def test_what_the_emulator_refuses_is_found_to_the_sector(system: Guest, server: Served, tmp_path: Path) -> None:
    emulated = Emulator(tmp_path, uefi=False, options=_drives(tmp_path))
    ticket = Ticket(server, installed_os="linux", data="backed-up")
    emulated.start(system, ticket.command_line)
    try:
        ticket.until(done(1), emulated.console)
        devices = {
            d["device"]: d["bus"] for d in ticket.call("GET", f"/api/tickets/{ticket.id}/captures")[0]["devices"]
        }
        by_bus: dict[str, Any] = {bus: device for device, bus in devices.items()}
        wanted = {
            by_bus["ata"]: set(BAD_ATA),
            by_bus["scsi"]: set(BAD_SCSI),
            by_bus["nvme"]: {lba // 8 for lba in BAD_NVME},
        }
        for count, device in enumerate(wanted, start=2):
            began = time.monotonic()
            ticket.call(
                "POST", f"/api/tickets/{ticket.id}/orders", json={"order": "scan", "device": device, "by": "KT"}
            )
            ticket.until(done(count), emulated.console)
            bad, share, sector = _found(server, ticket, device)
            print(
                f"{device:<8} {devices[device]:<6} sectors of {sector}: {len(wanted[device])} injected, "
                f"{len(bad & wanted[device])} found, {len(bad - wanted[device])} invented, {share:.0%} tried, "
                f"{time.monotonic() - began:.0f} s"
            )
            assert bad == wanted[device]
            assert share == 1.0
    finally:
        emulated.stop()
