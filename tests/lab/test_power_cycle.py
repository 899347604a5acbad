"""In a real kernel: the drive loses its power in the middle of a read or a copy and comes back, five times, and it ends
complete, and equal to one that nothing ended; a new drive is filled from the copy."""

from __future__ import annotations

import hashlib
import json
import random
import sys
import time
from pathlib import Path
from typing import Any

import pytest

sys.path.insert(0, str(Path(__file__).parent))
from guest import Emulator, Guest
from lab_ticket import Ticket, done
from machines import MIB, ata, drive, image
from test_surface import _found

from serving import Served

pytestmark = pytest.mark.lab_all

SERIAL, TIMES = "QX6-LAB-8", 5
BAD = (60_001, 60_002, 120_000)
DEVICE = {
    "driver": "scsi-hd",
    "id": "d0",
    "drive": "slow",
    "bus": "c0.0",
    "serial": SERIAL,
    "vendor": "QUARRY",
    "product": "SPINDLE S600",
    "ver": "QS02",
    "rotation_rate": 10000,
}


def _slow_drive(folder: Path) -> list[str]:
    """A SCSI disk that gives 6 MB/s and can be pulled and plugged: its image stays with the emulator."""
    place = image(folder, "s0", size=96 * MIB)
    rng = random.Random(4)
    with place.open("r+b") as file:
        for at in range(40, 90, 2):
            file.seek(at * MIB)
            file.write(rng.randbytes(MIB))
    refused = {
        "driver": "blkdebug",
        "image": {"driver": "file", "filename": str(place)},
        "inject-error": [{"event": "read_aio", "sector": lba, "errno": 5} for lba in BAD],
    }
    nodes = (
        {"driver": "raw", "node-name": "s0", "file": refused},
        {"driver": "throttle", "node-name": "slow", "throttle-group": "six", "file": "s0"},
    )
    return [
        "-object",
        json.dumps({"qom-type": "throttle-group", "id": "six", "limits": {"bps-read": 6_000_000}}),
        *(part for node in nodes for part in ("-blockdev", json.dumps(node))),
        "-device",
        "virtio-scsi-pci,id=c0",
        "-device",
        json.dumps(DEVICE),
    ]


def _ordered(system: Guest, server: Served, folder: Path, order: dict[str, Any], cycles: int) -> tuple[Ticket, Any]:
    """The order carried out on a machine whose drive was without power so often in between: its ticket and the order at
    the end."""
    emulated = Emulator(folder, uefi=False, options=_slow_drive(folder))
    ticket = Ticket(server, installed_os="linux", drive_kind="hdd", data="backed-up")
    emulated.start(system, ticket.command_line)
    try:
        ticket.until(done(1), emulated.console)
        own = ticket.call("POST", f"/api/tickets/{ticket.id}/orders", json={**order, "device": "sda", "by": "KT"})[
            "orders"
        ][-1]["id"]
        for cycle in range(cycles):
            ticket.until(
                lambda link, least=(cycle + 1) * 20_000: (
                    bool(link["progress"])
                    and link["progress"]["unit"] == "sectors"
                    and link["progress"]["done"] >= least
                ),
                emulated.console,
            )
            emulated.tell("device_del", id="d0")
            ticket.until(lambda link: link["orders"][-1]["state"] == "paused", emulated.console)
            said = ticket.call("GET", f"/api/tickets/{ticket.id}/link")["orders"][-1]["detail"]
            assert "dropped off the bus" in said, said
            _plug(emulated)
            time.sleep(2)
            ticket.call("POST", f"/api/tickets/{ticket.id}/orders/{own}", json={"do": "go-on", "by": "KT"})
        link = ticket.until(lambda link: link["orders"][-1]["state"] not in ("waiting", "paused"), emulated.console)
        return ticket, link["orders"][-1]
    finally:
        emulated.stop()


def _plug(emulated: Emulator) -> None:
    """As soon as the system has let go of the old one."""
    for _ in range(60):
        try:
            emulated.tell("device_add", **DEVICE)
            return
        except RuntimeError as refused:
            assert "Duplicate" in str(refused) or "in use" in str(refused), refused
            time.sleep(0.5)
    raise AssertionError("the drive was never let go of")


def test_a_read_goes_on_where_it_was_when_the_drive_comes_back(system: Guest, server: Served, tmp_path: Path) -> None:
    ticket, order = _ordered(system, server, tmp_path, {"order": "scan"}, TIMES)
    assert order["state"] == "done", order
    bad, share, _ = _found(server, ticket, "sda")
    assert (bad, share) == (set(BAD), 1.0)


def test_a_copy_goes_on_where_it_was_when_the_drive_comes_back(system: Guest, server: Served, tmp_path: Path) -> None:
    ticket, order = _ordered(system, server, tmp_path, {"order": "copy", "tight": True}, TIMES)
    assert order["state"] == "done", order
    assert "3 sectors are missing" in order["detail"]
    wanted = bytearray((tmp_path / "s0.img").read_bytes())
    for lba in BAD:
        wanted[lba * 512 : (lba + 1) * 512] = bytes(512)
    copy = server.data / "copies" / str(ticket.id) / f"{order['id']}.img"
    assert hashlib.sha256(copy.read_bytes()).digest() == hashlib.sha256(wanted).digest()


def test_a_new_drive_holds_the_copy_to_the_byte_and_what_lies_behind_it_stays(
    system: Guest, server: Served, tmp_path: Path
) -> None:
    source = image(tmp_path, "s0", size=96 * MIB)
    with source.open("r+b") as file:
        file.seek(60 * MIB)
        file.write(random.Random(6).randbytes(3 * MIB))
    options = [
        *drive(source, "s0"),
        "-device",
        "virtio-scsi-pci,id=c0",
        "-device",
        json.dumps({**DEVICE, "drive": "s0"}),
        *ata(tmp_path, serial="QS7-LAB-2", size=128 * MIB, layout="none"),
    ]
    target = tmp_path / "d0.img"
    old = random.Random(7).randbytes(128 * MIB)
    target.write_bytes(old)
    emulated = Emulator(tmp_path, uefi=False, options=options)
    ticket = Ticket(server, installed_os="linux", drive_kind="hdd", data="backed-up")
    emulated.start(system, ticket.command_line)
    try:
        ticket.until(done(1), emulated.console)
        devices = {
            d["bus"]: d["device"] for d in ticket.call("GET", f"/api/tickets/{ticket.id}/captures")[0]["devices"]
        }
        copy = ticket.call(
            "POST",
            f"/api/tickets/{ticket.id}/orders",
            json={"order": "copy", "device": devices["scsi"], "by": "KT", "tight": True},
        )["orders"][-1]["id"]
        link = ticket.until(done(2), emulated.console)
        assert link["orders"][-1]["state"] == "done", link["orders"][-1]
        targets = {t["device"]: t for t in ticket.call("GET", f"/api/tickets/{ticket.id}/copies/{copy}/targets")}
        assert targets[devices["scsi"]]["against"]
        assert targets[devices["ata"]]["against"] is None
        ticket.call(
            "POST",
            f"/api/tickets/{ticket.id}/copies/{copy}/fill",
            json={"device": devices["ata"], "ends": "AB-2", "over": True, "by": "KT"},
        )
        link = ticket.until(
            done(3),
            emulated.console,
            asked=lambda: emulated.tell("send-key", keys=[{"type": "qcode", "data": "y"}]) and None,
        )
        assert link["orders"][-1]["state"] == "done", link["orders"][-1]
        assert "QS7-LAB-2" in emulated.console.read_text("utf-8", "replace"), "what the machine's own screen asked"
    finally:
        emulated.stop()
    held = target.read_bytes()
    assert hashlib.sha256(held[: 96 * MIB]).digest() == hashlib.sha256(source.read_bytes()).digest()
    assert held[96 * MIB :] == old[96 * MIB :]
