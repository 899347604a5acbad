"""In a real kernel: the image is written to a USB stick by its serial number and to nothing else; what was written
starts a machine. Sticks are the emulator's."""

from __future__ import annotations

import functools
import io
import json
import shutil
import sys
import tarfile
import threading
import time
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest

sys.path.insert(0, str(Path(__file__).parent))
from guest import Emulator, Guest, LabMissing
from machines import MIB, ata
from stick_lab import StickMachine, stick_image, sum_of

import gatecheck

pytestmark = pytest.mark.lab_all

NEEDED = ("__init__.py", "core/__init__.py", "core/errors.py", "stick/__init__.py", "stick/device.py")
SHELL = """cd /tmp
for f in gatecheck.tar stick.img; do /bin/busybox wget -q http://10.0.2.2:{port}/$f || echo "TO cannot fetch $f"; done
/bin/busybox tar xf gatecheck.tar
python3 task.py
"""
# what runs in the guest; each line that begins with TO is an answer
TASK = """
import json, os, shutil, time
from gatecheck.core.errors import InputError
from gatecheck.stick.device import facts_of, write_stick
from pathlib import Path

def by_serial(serial):
    for place in Path("/sys/block").glob("sd*"):
        try:
            if facts_of("/dev/" + place.name)[2] == serial:
                return "/dev/" + place.name
        except InputError:
            pass
    return ""

def tried(name, device, serial):
    def make(image, most):
        shutil.copy("stick.img", image)
        return os.path.getsize(image) >> 20
    try:
        size = os.path.getsize("stick.img") >> 20
        said = write_stick(device, serial, size, make, lambda text: print("TO said", text, flush=True))
    except InputError as error:
        said = {"error": str(error)}
    print("TO", json.dumps({"name": name, **said}), flush=True)

own = next("/dev/" + p.name for p in Path("/sys/block").glob("sd*") if "/usb" not in str(p.resolve()))
tried("own drive", own, "QS7-LAB-1")
right, small, pulled = by_serial("STICK-7"), by_serial("STICK-3"), by_serial("STICK-9")
tried("no serial", right, "")
tried("another serial", right, "STICK-3")
tried("too small", small, "STICK-3")
held = os.open(right, os.O_RDONLY | os.O_EXCL)
tried("in use", right, "STICK-7")
os.close(held)
print("TO said the next one is pulled", flush=True)
tried("pulled", pulled, "STICK-9")
tried("right", right, "stick-7")
print("TO end", flush=True)
"""


def _usb(folder: Path, name: str, serial: str, size: int, slow: bool = False) -> list[str]:
    place = folder / f"{name}.img"
    with place.open("wb") as file:
        file.write(b"\x5a" * MIB)
        file.truncate(size)
    throttled = (
        ["-object", json.dumps({"qom-type": "throttle-group", "id": "slow", "limits": {"bps-write": 4_000_000}})]
        if slow
        else []
    )
    nodes: list[dict[str, Any]] = [
        {"driver": "raw", "node-name": name, "file": {"driver": "file", "filename": str(place)}}
    ]
    nodes += (
        [{"driver": "throttle", "node-name": f"{name}-slow", "throttle-group": "slow", "file": name}] if slow else []
    )
    device = {
        "driver": "usb-storage",
        "id": f"usb-{name}",
        "drive": nodes[-1]["node-name"],
        "serial": serial,
        "removable": True,
        "bus": "x.0",
    }
    return [
        *throttled,
        *(part for node in nodes for part in ("-blockdev", json.dumps(node))),
        "-device",
        json.dumps(device),
    ]


@pytest.fixture
def shelf(tmp_path: Path) -> Any:
    """A web server with what the guest fetches; its port."""
    folder = tmp_path / "shelf"
    folder.mkdir()
    try:
        shutil.copy(stick_image(), folder / "stick.img")
    except LabMissing as error:
        pytest.skip(str(error))
    with tarfile.open(folder / "gatecheck.tar", "w") as tar:
        for name in NEEDED:
            tar.add(Path(gatecheck.__file__).parent / name, f"gatecheck/{name}")
        task = tarfile.TarInfo("task.py")
        task.size = len(TASK.encode())
        tar.addfile(task, io.BytesIO(TASK.encode()))
    server = ThreadingHTTPServer(("127.0.0.1", 0), functools.partial(SimpleHTTPRequestHandler, directory=str(folder)))
    threading.Thread(target=server.serve_forever, daemon=True).start()
    (folder / "start").write_text(SHELL.format(port=server.server_port))
    yield server.server_port
    server.shutdown()
    server.server_close()


def test_only_the_stick_that_was_named_is_written_to_and_it_starts_a_machine(
    system: Guest, shelf: int, tmp_path: Path
) -> None:
    own = ata(tmp_path)
    internal, before = tmp_path / "d0.img", sum_of(tmp_path / "d0.img")
    small = _usb(tmp_path, "small", "STICK-3", 32 * MIB)
    emulated = Emulator(
        tmp_path,
        uefi=False,
        options=[
            *own,
            "-device",
            "qemu-xhci,id=x",
            *_usb(tmp_path, "right", "STICK-7", 256 * MIB),
            *small,
            *_usb(tmp_path, "pulled", "STICK-9", 256 * MIB, slow=True),
        ],
    )
    untouched = sum_of(tmp_path / "small.img")
    emulated.start(system, f"gatecheck=http://10.0.2.2:{shelf}/start")
    try:
        said = _console(emulated, "the next one is pulled")
        _console(emulated, "Writing", after=said)
        time.sleep(4)
        emulated.tell("device_del", id="usb-pulled")
        answers = {a["name"]: a for a in _answers(_console(emulated, "TO end", seconds=400))}
    finally:
        emulated.stop()
    expected = {
        "own drive": "expected a stick that is plugged in from outside, got a drive of this computer",
        "no serial": "expected --serial STICK-7",
        "another serial": "expected --serial STICK-7",
        "too small": "expected a stick of at least",
        "in use": "expected a stick that takes what is written, got Device or resource busy",
        "pulled": "what is on it is neither the old nor the new",
    }
    for name, words in expected.items():
        assert words in answers[name].get("error", ""), answers[name]
    assert answers["right"] == {
        "name": "right",
        "stick": answers["right"]["stick"],
        "serial": "STICK-7",
        "mib": answers["right"]["mib"],
        "starts": ["uefi", "secure-boot", "legacy"],
    }
    assert (sum_of(internal), sum_of(tmp_path / "small.img")) == (before, untouched)
    made = stick_image()
    with (tmp_path / "right.img").open("rb") as file:
        assert file.read(made.stat().st_size) == made.read_bytes()
    machine = StickMachine(tmp_path / "vm", "uefi", tmp_path / "right.img", [])
    try:
        machine.start()
        machine.until("You may remove the stick")
    finally:
        machine.stop()


def _console(emulated: Emulator, text: str, *, after: str = "", seconds: float = 240) -> str:
    """All that the console said, once that stands on it behind what stood there before."""
    end, found = time.monotonic() + seconds, ""
    while time.monotonic() < end:
        found = emulated.console.read_text("utf-8", "replace") if emulated.console.exists() else ""
        if text in found[len(after) :]:
            return found
        time.sleep(0.3)
    raise AssertionError(f"{text!r} is not on the console: {found[-1500:]}")


def _answers(console: str) -> list[dict[str, Any]]:
    return [json.loads(line[3:]) for line in console.splitlines() if line.startswith("TO {")]
