"""The very stick in the emulator: its image, a network of its own on which the host is the bench, a keyboard and a
screen."""

from __future__ import annotations

import fcntl
import hashlib
import os
import shutil
import socket
import struct
import subprocess
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from guest import CACHE, OVMF, LabMissing

from gatecheck.stick.build import NotBuildableError, parts, with_bench
from gatecheck.stick.image import write_image

HOST, GUEST = "10.77.{}.1", "10.77.{}.2"
NEEDED = ("qemu-system-x86_64", "ip", "mkfs.fat", "mcopy", "syslinux", "cpio", "zstd", "apt-get", "depmod")


def stick_image(key: str = "") -> Path:
    """The image, built once a run of the lab. `key`: of the bench that it is made by. Raises LabMissing."""
    missing = [
        name for name in NEEDED if shutil.which(name, path=os.environ.get("PATH", "") + ":/usr/sbin:/sbin") is None
    ]
    if missing:
        raise LabMissing(f"{', '.join(missing)}: not installed; `make lab` installs Debian's packages for it")
    CACHE.mkdir(parents=True, exist_ok=True)
    target = CACHE / f"stick{'-' + key[:12] if key else ''}.img"
    with (CACHE / "stick.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        try:
            made = parts(CACHE / "stick", print)
            if key:
                (CACHE / f"pinned-{key[:12]}").mkdir(exist_ok=True)
                made = with_bench(made, key, CACHE / f"pinned-{key[:12]}")
            newest = max(file.stat().st_ctime for file in made.files.values() if file.exists())
            if not target.exists() or target.stat().st_mtime < newest:
                write_image(target, made)
        except NotBuildableError as error:
            raise LabMissing(str(error)) from error
    return target


class Wire(threading.Thread):
    """A network port of the emulator whose other end is this host, with addresses given out (RFC 2131): just enough for
    one machine."""

    def __init__(self, number: int) -> None:
        """Raises LabMissing where this host makes no such port."""
        super().__init__(daemon=True)
        self.name_, self.host, self.guest = f"gctap{number}", HOST.format(number), GUEST.format(number)
        for command in (
            ("tuntap", "add", self.name_, "mode", "tap"),
            ("addr", "add", f"{self.host}/24", "dev", self.name_),
            ("link", "set", self.name_, "up"),
        ):
            done = subprocess.run(["ip", *command], capture_output=True, text=True)
            if done.returncode and "exists" not in done.stderr and "assigned" not in done.stderr:
                raise LabMissing(f"ip {' '.join(command)}: {done.stderr.strip()}")
        self.asked = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.asked.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        self.asked.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
        self.asked.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, self.name_.encode())
        self.asked.bind(("", 67))
        self.ends = False

    def run(self) -> None:
        self.asked.settimeout(0.5)
        while not self.ends:
            try:
                raw, _ = self.asked.recvfrom(2048)
            except TimeoutError:
                continue
            except OSError:
                return
            kind = raw[raw.index(b"\x35\x01") + 2] if b"\x35\x01" in raw[240:] else 0
            if kind in (1, 3):
                self._answer(raw, 2 if kind == 1 else 5)

    def _answer(self, raw: bytes, kind: int) -> None:
        here, there = socket.inet_aton(self.host), socket.inet_aton(self.guest)
        head = (
            struct.pack("!BBBB4sHH4s4s4s4s", 2, 1, 6, 0, raw[4:8], 0, 0x8000, bytes(4), there, here, bytes(4))
            + raw[28:44]
            + bytes(192)
        )
        options = (
            bytes([53, 1, kind, 54, 4])
            + here
            + bytes([51, 4, 0, 0, 14, 16, 1, 4, 255, 255, 255, 0, 3, 4])
            + here
            + b"\xff"
        )
        self.asked.sendto(head + b"\x63\x82\x53\x63" + options, ("255.255.255.255", 68))

    def stop(self) -> None:
        self.ends = True
        self.asked.close()
        subprocess.run(["ip", "link", "del", self.name_], capture_output=True)


_KEYS = {".": "dot", ":": "shift-semicolon", "-": "minus", "/": "slash", "\n": "ret"}


@dataclass
class StickMachine:
    """A machine that is started from the stick. `mode`: uefi, secure, legacy; `drives`: the emulator's own options."""

    folder: Path
    mode: str
    image: Path
    drives: list[str]
    wire: Wire | None = None
    memory: int = 512
    process: subprocess.Popen[bytes] | None = None
    began: float = field(default_factory=time.monotonic)

    @property
    def stick(self) -> Path:
        return self.folder / "stick.img"

    def start(self) -> None:
        self.folder.mkdir(parents=True, exist_ok=True)
        subprocess.run(["cp", "--sparse=always", str(self.image), str(self.stick)], check=True)
        machine = "q35,smm=on" if self.mode == "secure" else "q35"
        command = [
            "qemu-system-x86_64",
            "-accel",
            "tcg,thread=multi",
            "-machine",
            machine,
            "-cpu",
            "max",
            "-smp",
            "2",
            "-m",
            str(self.memory),
            "-display",
            "none",
            "-vga",
            "std",
            "-no-reboot",
        ]
        command += [
            "-serial",
            f"file:{self.folder / 'serial.txt'}",
            "-monitor",
            f"unix:{self.folder / 'monitor'},server,nowait",
        ]
        command += (
            ["-netdev", f"tap,id=n,ifname={self.wire.name_},script=no,downscript=no", "-device", "e1000e,netdev=n"]
            if self.wire
            else ["-nic", "none"]
        )
        if self.mode != "legacy":
            code, variables = (
                ("OVMF_CODE_4M.secboot.fd", "OVMF_VARS_4M.ms.fd")
                if self.mode == "secure"
                else ("OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd")
            )
            shutil.copy(OVMF / variables, self.folder / "vars.fd")
            command += ["-global", "driver=cfi.pflash01,property=secure,value=on"] if self.mode == "secure" else []
            command += [
                "-drive",
                f"if=pflash,format=raw,unit=0,readonly=on,file={OVMF / code}",
                "-drive",
                f"if=pflash,format=raw,unit=1,file={self.folder / 'vars.fd'}",
            ]
        command += [
            "-device",
            "qemu-xhci",
            "-drive",
            f"file={self.stick},format=raw,if=none,id=stick",
            "-device",
            "usb-storage,drive=stick,bootindex=1,removable=on,serial=STICK-7",
            *self.drives,
        ]
        self.began = time.monotonic()
        with (self.folder / "emulator.txt").open("w") as said:
            self.process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=said)

    def shown(self) -> str:
        """The screen as it stands last, as text."""
        place = self.folder / "serial.txt"
        return place.read_text("utf-8", "replace").rpartition("--- screen")[2] if place.exists() else ""

    def ever(self) -> str:
        place = self.folder / "serial.txt"
        return place.read_text("utf-8", "replace") if place.exists() else ""

    def until(self, text: str, seconds: float = 1200) -> float:
        """Seconds from its start until that stands on the screen."""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            if text in self.ever():
                return time.monotonic() - self.began
            if self.process and self.process.poll() is not None:
                break
            time.sleep(0.3)
        raise AssertionError(
            f"{text!r} is not on the screen: {self.shown()[-900:]} {(self.folder / 'emulator.txt').read_text()[-300:]}"
        )

    def tell(self, command: str) -> None:
        """The emulator's own monitor."""
        with socket.socket(socket.AF_UNIX) as asked:
            asked.connect(str(self.folder / "monitor"))
            asked.settimeout(5)
            asked.recv(4096)
            asked.sendall(command.encode() + b"\n")
            time.sleep(0.3)
            asked.recv(4096)

    def type(self, text: str) -> None:
        for letter in text:
            self.tell(f"sendkey {_KEYS.get(letter, letter)}")

    def agree(self, shown: Callable[[], str]) -> None:
        """Somebody stands at the machine, and sees the number that the bench's screen shows: compares it, or types it
        where the bench did not make the stick."""
        self.until("takes this machine in")
        number = ""
        while not number:
            number = shown()
        time.sleep(0.6)
        if "Type the six digits" in self.shown():
            self.type(number + "\n")
        else:
            assert f"{number[:3]} {number[3:]}" in self.shown()
            self.tell("sendkey y")
        self.until("Linked to")

    def stop(self) -> None:
        if self.process:
            self.process.kill()
            self.process.wait()


def sum_of(file: Path) -> str:
    total = hashlib.sha256()
    with file.open("rb") as own:
        while block := own.read(4 << 20):
            total.update(block)
    return total.hexdigest()
