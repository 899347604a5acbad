"""Mending through the link on a machine that runs from the stick: a real kernel writes to a real block device that it
had set read-only, every byte comes back, and real firmware starts what was mended."""

from __future__ import annotations

import shutil
import time
from pathlib import Path
from typing import Any

import pytest
from boot_images import LOADER, TEXT, efi_app, need_tools, system
from guest import Emulator, LabMissing
from stick_lab import StickMachine, Wire, stick_image, sum_of
from test_firmware_verdict import starts

from serving import Served


def drive(image: Path) -> list[str]:
    return [
        "-drive",
        f"file={image},format=raw,if=none,id=a,cache=writethrough",
        "-device",
        "ide-hd,drive=a,bus=ide.0,serial=QX-100417,model=QUARRY SPINDLE 50,ver=QA10",
    ]


class Linked:
    """A machine that runs from the stick, linked to a ticket, its path read."""

    def __init__(self, folder: Path, image: Path, wire: Wire) -> None:
        try:
            stick = stick_image()
        except LabMissing as error:
            pytest.skip(str(error))
        self.server = Served(folder / "data", by_command=True, host="0.0.0.0")
        self.server.start()
        self.machine = StickMachine(folder / "vm", "uefi", stick, drive(image), wire)
        self.machine.start()
        try:
            self._linked()
        except BaseException:  # nothing of it is left for the next test to find
            self.stop()
            raise

    def _linked(self) -> None:
        self.machine.until("Bench found")
        self.number = self.server.take_in(platform="pc", data="backed-up", installed_os="linux", drive_kind="hdd")
        self.server.call(
            "POST",
            f"/api/knocks/{self.server.call('GET', '/api/knocks')['knocks'][0]['token']}",
            json={"ticket": self.number, "by": "KT"},
        )
        self.machine.agree(lambda: str(self.server.call("GET", f"/api/tickets/{self.number}/link")["number"]))
        self.settled(1)
        self.do("read", device="sda")

    def settled(self, least: int) -> None:
        for _ in range(4000):
            link = self.server.call("GET", f"/api/tickets/{self.number}/link")
            orders = link["orders"]
            if link["progress"] and link["progress"]["waits_for_key"]:  # the first write to this drive
                self.machine.until("Press Y to allow it")  # the screen is drawn a moment after the bench is told
                assert "QX-100417" in self.machine.ever(), "its serial number stands on the machine's screen"
                self.machine.tell("sendkey y")
            if len(orders) >= least and all(o["state"] != "waiting" for o in orders):
                return
            time.sleep(0.3)
        raise AssertionError(orders)

    def do(self, what: str, more: int = 1, **body: Any) -> Any:
        orders = len(self.server.call("GET", f"/api/tickets/{self.number}/link")["orders"])
        self.server.call("POST", f"/api/tickets/{self.number}/path/{what}", json={**body, "by": "KT"})
        self.settled(orders + more)
        return self.path()

    def path(self) -> Any:
        return self.server.call("GET", f"/api/tickets/{self.number}/path?device=sda")

    def stop(self) -> None:
        self.machine.stop()
        self.server.stop()


@pytest.mark.lab
def test_a_torn_table_is_mended_on_the_device_taken_back_and_mended_again(wire: Wire, tmp_path: Path) -> None:
    need_tools()
    image = tmp_path / "disk.img"
    system({LOADER: efi_app()})(image)
    with image.open("rb+") as file:
        file.write(bytes(34 * 512))
    own = Linked(tmp_path, image, wire)
    try:
        before = sum_of(image)  # only now: a firmware may mend a table by itself, before anything of ours runs
        path = own.path()
        assert path["boots"] is False
        plan = next(p["id"] for p in path["plans"] if p["boots_after"])
        path = own.do("mend", device="sda", plan=plan)
        assert (path["boots"], path["mends"][0]["state"]) == (True, "done"), path["mends"]
        assert sum_of(image) != before
        path = own.do("take-back", order=path["mends"][0]["order"])
        assert path["boots"] is False
        assert sum_of(image) == before  # every byte
        path = own.do("mend", device="sda", plan=plan)
        assert path["boots"] is True
    finally:
        own.stop()
    assert starts(image, "uefi")


@pytest.mark.lab_all
def test_a_boot_entry_that_was_written_is_what_firmware_starts(wire: Wire, tmp_path: Path) -> None:
    need_tools()
    image = tmp_path / "disk.img"
    system({"EFI/loft/start.efi": efi_app()})(image)
    assert not starts(image, "uefi")
    before = sum_of(image)
    own = Linked(tmp_path, image, wire)
    try:
        path = own.path()
        assert next(p["id"] for p in path["plans"]) == "entry"
        path = own.do("mend", more=2, device="sda", plan="entry")
        assert (path["boots"], path["mends"][0]["state"]) == (True, "done"), path["mends"]
        own.machine.tell("sendkey p")
        time.sleep(6)
    finally:
        own.stop()
    assert sum_of(image) == before  # the disk was left alone
    folder = tmp_path / "again"
    folder.mkdir()
    shutil.copy(own.machine.folder / "vars.fd", folder / "vars.fd")
    machine = Emulator(folder, True, drive(image))
    machine.start(None, "")
    try:
        for _ in range(240):
            if machine.console.exists() and TEXT in machine.console.read_text("utf-8", "replace"):
                return
            time.sleep(0.5)
        raise AssertionError(machine.console.read_text("utf-8", "replace")[-600:])
    finally:
        machine.stop()
