"""The very image that a technician gets: started in each mode, found by multicast, read, taken to a ticket; not one
byte of an internal disk is another afterwards."""

from __future__ import annotations

import os
import random
import time
from pathlib import Path
from typing import Any

import pytest
from guest import LabMissing
from stick_lab import StickMachine, Wire, stick_image, sum_of

from gatecheck.adapters.capture_files import pages_of
from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.adapters.shipped_tables import shipped_model
from gatecheck.core.capture.read import read_capture
from gatecheck.core.volume.fat.layout import listing, read_fat
from gatecheck.server.bench_key import BenchKey
from serving import Served


@pytest.fixture(scope="module")
def image() -> Path:
    try:
        return stick_image()
    except LabMissing as error:
        pytest.skip(str(error))


@pytest.fixture
def disks(tmp_path: Path) -> list[Path]:
    """Two internal disks: one with a table and volumes, one full of what means nothing."""
    noise = random.Random(7)
    found = []
    for name, size in (("ahci.img", 96), ("nvme.img", 64)):
        place = tmp_path / name
        place.write_bytes(noise.randbytes(size << 20))
        found.append(place)
    with found[0].open("rb+") as file:
        file.write(bytes(1 << 20))
    for command in ("sgdisk -n 1:2048:+32M -t 1:ef00 -n 2:0:0 -t 2:8300", "mkfs.fat -F 16 --offset 2048"):
        os.system(f"{command} {found[0]} {'32768' if 'fat' in command else ''} >/dev/null 2>&1")
    os.system(f"mkfs.ext4 -q -E offset={34 << 20} {found[0]} 60M >/dev/null 2>&1")
    return found


def drives(disks: list[Path]) -> list[str]:
    return [
        "-drive",
        f"file={disks[0]},format=raw,if=none,id=a,cache=writethrough",
        "-device",
        "ide-hd,drive=a,bus=ide.0,serial=QX-100417,model=QUARRY SPINDLE 96,ver=QA10",
        "-drive",
        f"file={disks[1]},format=raw,if=none,id=b,cache=writethrough",
        "-device",
        "nvme,drive=b,serial=QN-771",
    ]


def _bench(folder: Path) -> Served:
    server = Served(folder / "data", by_command=True, host="0.0.0.0")
    server.start()
    return server


def _first_order_done(server: Served, ticket: int) -> dict[str, Any]:
    link: dict[str, Any] = {}
    for _ in range(2400):
        link = server.call("GET", f"/api/tickets/{ticket}/link")
        if link["orders"] and link["orders"][0]["state"] == "done":
            return link
        time.sleep(0.5)
    raise AssertionError(f"not done in time: {link.get('orders')}")


DAILY, LATER = pytest.mark.lab, pytest.mark.lab_all


@pytest.mark.parametrize(
    "mode",
    [pytest.param("uefi", marks=DAILY), pytest.param("legacy", marks=DAILY), pytest.param("secure", marks=LATER)],
)
def test_it_starts_finds_the_bench_and_reads_and_touches_nothing(
    mode: str, image: Path, wire: Wire, disks: list[Path], tmp_path: Path
) -> None:
    before = [sum_of(disk) for disk in disks]
    server = _bench(tmp_path)
    own = stick_image(BenchKey(server.data).public) if mode == "uefi" else image  # made by this bench, or by nobody's
    machine = StickMachine(tmp_path / "vm", mode, own, drives(disks), wire)
    try:
        machine.start()
        screen = machine.until("You may remove the stick")
        found = machine.until("Bench found")
        knocks = server.call("GET", "/api/knocks")["knocks"]
        assert len(knocks) == 1
        ticket = server.take_in()
        server.call("POST", f"/api/knocks/{knocks[0]['token']}", json={"ticket": ticket, "by": "KT"})
        machine.until("takes this machine in")
        time.sleep(2)
        assert server.call("GET", f"/api/tickets/{ticket}/link")["state"] == "waiting", (
            "nothing goes on without a key at the machine"
        )
        machine.agree(lambda: str(server.call("GET", f"/api/tickets/{ticket}/link")["number"]))
        assert ("that made this stick." in machine.ever()) is (mode == "uefi")
        link = _first_order_done(server, ticket)
        read = time.monotonic() - machine.began
        captures = server.call("GET", f"/api/tickets/{ticket}/captures")
        serials = {str((d["identity"] or {}).get("serial")) for d in captures[0]["devices"]}
        assert {"QX-100417", "QN-771"} <= serials
        assert link["machine"]["mode"] == ("legacy" if mode == "legacy" else "uefi")
        for name in ("sda", "nvme0n1"):
            assert "shut: nothing can be written" in machine.ever(), name
        assert "COULD NOT BE SHUT" not in machine.ever()
        assert ("Secure Boot on" in machine.ever()) is (mode == "secure")
        print(
            f"stick, {mode}, 512 MB: screen after {screen:.0f} s, bench found after {found:.0f} s, first reading "
            f"after "
            f"{read:.0f} s from the start of firmware"
        )
    finally:
        machine.stop()  # as a power cut would
        server.stop()
    assert [sum_of(disk) for disk in disks] == before


@pytest.mark.parametrize("mode", [pytest.param("uefi", marks=DAILY), pytest.param("legacy", marks=LATER)])
def test_without_a_network_it_reads_onto_itself_a_new_file_each_time(
    mode: str, image: Path, disks: list[Path], tmp_path: Path
) -> None:
    before = [sum_of(disk) for disk in disks]
    machine = StickMachine(tmp_path / "vm", mode, image, drives(disks))
    try:
        machine.start()
        machine.until("You may remove the stick")
        assert "No wired network port" in machine.ever()
        machine.tell("sendkey o")
        machine.until("-1.gcap")
        machine.tell("sendkey o")
        machine.until("-2.gcap")
        machine.tell("sendkey p")
        for _ in range(60):
            if machine.process is None or machine.process.poll() is not None:
                break
            time.sleep(0.5)
        assert machine.process is not None
        assert machine.process.poll() is not None  # power off, by its own key
    finally:
        machine.stop()
    assert [sum_of(disk) for disk in disks] == before
    sectors = ImageSectors(str(machine.stick))
    volume = read_fat(sectors, 2048)
    files = {path: file for path, file in listing(volume).files.items() if path.lower().endswith(".gcap")}
    assert len(files) == 2
    each = volume.cluster_sectors * volume.sector
    for path, file in files.items():
        data = b"".join(volume.cluster(c, path) for c in volume.chain(file.cluster, -(-file.size // each)))[: file.size]
        capture = read_capture(pages_of("reading.gcap", data), shipped_model().knowledge.findings)
        assert {"QX-100417", "QN-771"} <= {str((d.identity or {}).get("serial")) for d in capture.drives}


@pytest.mark.lab_all
def test_a_code_typed_at_it_links_it_and_a_wrong_one_is_said(
    image: Path, wire: Wire, disks: list[Path], tmp_path: Path
) -> None:
    server = _bench(tmp_path)
    machine = StickMachine(tmp_path / "vm", "legacy", image, drives(disks), wire)
    try:
        machine.start()
        machine.until("Bench found")
        machine.type("czzzzz-zzzzz\n")
        machine.until("does not take the code")
        ticket = server.take_in()
        code = server.call("POST", f"/api/tickets/{ticket}/link", json={"by": "KT"})["code"]
        machine.type(f"c{code}\n")
        machine.until("takes this machine in")
        machine.agree(lambda: str(server.call("GET", f"/api/tickets/{ticket}/link")["number"]))
        assert server.call("GET", f"/api/tickets/{ticket}/link")["state"] in ("waiting", "linked")
    finally:
        machine.stop()
        server.stop()


def _taken(server: Served, machine: StickMachine, ticket: int) -> None:
    machine.until("Bench found")
    for _ in range(1200):
        knocks = server.call("GET", "/api/knocks")["knocks"]
        if knocks:
            server.call("POST", f"/api/knocks/{knocks[-1]['token']}", json={"ticket": ticket, "by": "KT"})
            machine.agree(lambda: str(server.call("GET", f"/api/tickets/{ticket}/link")["number"]))
            return
        time.sleep(0.25)
    raise AssertionError("no machine knocks")


@pytest.mark.lab_all
def test_cut_in_the_middle_of_its_reading_it_leaves_every_byte_and_reads_all_at_the_next_start(
    image: Path, wire: Wire, disks: list[Path], tmp_path: Path
) -> None:
    before = [sum_of(disk) for disk in disks]
    server = _bench(tmp_path)
    ticket = server.take_in()
    machine = StickMachine(tmp_path / "vm", "legacy", image, drives(disks), wire)
    link: dict[str, Any] = {}
    try:
        machine.start()
        _taken(server, machine, ticket)
        for _ in range(4000):
            link = server.call("GET", f"/api/tickets/{ticket}/link")
            if link["progress"]:
                break
            time.sleep(0.02)
        assert link["progress"], "it is reading"
        assert link["orders"][0]["state"] == "waiting"
        machine.stop()
        assert [sum_of(disk) for disk in disks] == before
        machine = StickMachine(tmp_path / "vm again", "legacy", image, drives(disks), wire)
        machine.start()
        _taken(server, machine, ticket)
        _first_order_done(server, ticket)
        captures = server.call("GET", f"/api/tickets/{ticket}/captures")
        assert {"QX-100417", "QN-771"} <= {str((d["identity"] or {}).get("serial")) for d in captures[0]["devices"]}
    finally:
        machine.stop()
        server.stop()
    assert [sum_of(disk) for disk in disks] == before


@pytest.mark.lab_all
def test_what_spins_is_stopped_by_a_real_kernel_where_the_ticket_holds_its_drive(
    image: Path, wire: Wire, disks: list[Path], tmp_path: Path
) -> None:
    server = _bench(tmp_path)
    ticket = server.take_in("screen=no-boot-device", "sound=ticking", drive_kind="hdd", data="irreplaceable")
    machine = StickMachine(tmp_path / "vm", "legacy", image, drives(disks), wire)
    try:
        machine.start()
        _taken(server, machine, ticket)
        machine.until("sda is stopped")
        link = _first_order_done(server, ticket)
        assert (link["orders"][0]["order"], link["orders"][0]["state"], link["orders"][0]["detail"]) == (
            "look",
            "done",
            "sda is stopped",
        )
    finally:
        machine.stop()
        server.stop()


# where the keys of a keyboard are that an English one has elsewhere, by the names that the emulator gives to places
PLACES = {
    "German": {"y": "z", "z": "y", "-": "slash"},
    "French": {"a": "q", "q": "a", "z": "w", "w": "z", "m": "semicolon", "-": "6"},
}


@pytest.mark.lab_all
@pytest.mark.parametrize(("keyboard", "tabs"), [("German", 1), ("French", 2)])
def test_a_code_typed_on_a_keyboard_of_another_country_links_it(
    keyboard: str, tabs: int, image: Path, wire: Wire, disks: list[Path], tmp_path: Path
) -> None:
    server = _bench(tmp_path)
    machine = StickMachine(tmp_path / "vm", "legacy", image, drives(disks), wire)
    places = PLACES[keyboard]
    try:
        machine.start()
        machine.until("Bench found")
        ticket, code = 0, ""
        while not {"-"} | set(code) & set(places) > {"-"}:  # one with a letter that stands elsewhere
            ticket = server.take_in()
            code = server.call("POST", f"/api/tickets/{ticket}/link", json={"by": "KT"})["code"]
        machine.tell("sendkey c")
        for _ in range(tabs):
            machine.tell("sendkey tab")
        for letter in code:
            # digits of a French keyboard need Shift, those of the others do not
            place = (
                f"shift-{letter}"
                if keyboard == "French" and letter.isdigit()
                else places.get(letter, "minus" if letter == "-" else letter)
            )
            machine.tell(f"sendkey {place}")
        # the line and the 6 are one key there
        machine.until(f"Code: {code.replace('-', '6') if keyboard == 'French' else code}_")
        machine.tell("sendkey ret")
        machine.until("Linked to")
        assert server.call("GET", f"/api/tickets/{ticket}/link")["state"] in ("waiting", "linked")
    finally:
        machine.stop()
        server.stop()


@pytest.mark.lab_all
def test_a_self_test_a_timed_read_and_a_copy_are_made_from_it(
    image: Path, wire: Wire, disks: list[Path], tmp_path: Path
) -> None:
    before = [sum_of(disk) for disk in disks]
    server = _bench(tmp_path)
    ticket = server.take_in("screen=no-boot-device", platform="pc", drive_kind="hdd", data="backed-up")
    machine = StickMachine(tmp_path / "vm", "uefi", image, drives(disks), wire)
    try:
        machine.start()
        _taken(server, machine, ticket)
        _first_order_done(server, ticket)
        ends = {}
        for order in (
            {"order": "self-test", "device": "sda", "kind": "short"},
            {"order": "scan", "device": "nvme0n1"},
            {"order": "copy", "device": "nvme0n1"},
        ):
            server.call("POST", f"/api/tickets/{ticket}/orders", json={**order, "by": "KT"})
            own: dict[str, Any] = {}
            for _ in range(600):
                own = server.call("GET", f"/api/tickets/{ticket}/link")["orders"][-1]
                if own["state"] != "waiting":
                    break
                time.sleep(0.3)
            ends[order["order"]] = (own["state"], own["detail"], own["id"])
        assert {name: end[0] for name, end in ends.items()} == {"self-test": "done", "scan": "done", "copy": "done"}, (
            ends
        )
        assert ends["copy"][1] == "Full image, verified"
        copied = next((tmp_path / "data").rglob(f"{ends['copy'][2]}.img"))
        assert sum_of(copied) == before[1]
        reads = server.call("GET", f"/api/tickets/{ticket}/surfaces")["reads"]
        assert [r["state"] for r in reads] == ["done"] * 2, "what was copied was timed as well"
    finally:
        machine.stop()
        server.stop()
    assert [sum_of(disk) for disk in disks] == before
