"""A simulated machine with the methods the probe expects of the real one."""

from __future__ import annotations

import base64
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import partial

from gatecheck.practice.drives import (
    AtaDrive,
    BridgedDrive,
    Drive,
    NvmeDrive,
    PracticeDisk,
    ScsiDrive,
    SlowError,
    SolderedDrive,
)
from gatecheck.practice.surfaces import Surface
from gatecheck.probe.identity import Identity
from gatecheck.probe.writing import put_bytes

HOURS_PER_SECOND = 1.0
"""practice time: a second here is an hour of running there"""
READS_PER_SECOND = 400.0
"""and, while a surface is read, so many seconds: a disk is read in half a minute"""


@dataclass(frozen=True, slots=True)
class PracticeBlock:
    """A block device as the probe's own class has it."""

    name: str
    bus: str
    facts: str
    optical: bool = False


@dataclass
class FilledDisk:
    """A practice drive that is being filled; what is zeros takes no room."""

    disk: PracticeDisk
    who: Callable[[], Identity]

    def write(self, at: int, data: bytes) -> None:
        self.disk.write(at // self.disk.sector, data)

    def zero(self, at: int, length: int) -> None:
        first, end = at // self.disk.sector, (at + length) // self.disk.sector
        if end > self.disk.sectors:
            raise OSError(28, "no space left on device")
        self.disk.written = {place: data for place, data in self.disk.written.items() if not first <= place < end}
        covered = [
            place
            for place, data in self.disk.content.items()
            if place < end and first < place + -(-len(data) // self.disk.sector)
        ]
        for place in covered:
            raw = self.disk.content.pop(place)
            count = -(-len(raw) // self.disk.sector)
            raw = raw.ljust(count * self.disk.sector, b"\0")
            for n in range(count):
                if not first <= place + n < end:
                    self.disk.content[place + n] = raw[n * self.disk.sector : (n + 1) * self.disk.sector]

    def read(self, at: int, length: int) -> bytes:
        return self.disk.read(at // self.disk.sector, length // self.disk.sector)

    def is_zero(self, at: int, length: int) -> bool:
        first, end = at // self.disk.sector, (at + length) // self.disk.sector
        held = [data for place, data in self.disk.written.items() if first <= place < end]
        held += [
            data
            for place, data in self.disk.content.items()
            if place < end and first < place + -(-len(data) // self.disk.sector)
        ]
        return not any(map(any, held))

    def flush(self) -> None:
        """There is no cache."""


@dataclass
class PracticeMachine:
    """Drives by device name (`sda`, `nvme0`), firmware pages by path, and what the machine calls itself."""

    name: str
    drives: Mapping[str, Drive]
    pages: Mapping[str, bytes]
    named: Mapping[str, str]
    messages: str = ""
    state: Mapping[str, str] = field(default_factory=dict)
    """pages of text about the machine: what the kernel knows of it, its PCI functions"""
    since: float = field(default_factory=time.time)
    """when it was first connected, seconds of the epoch: from there its drives age"""
    pace: float = READS_PER_SECOND

    def _drive(self, device: str) -> Drive:
        own = self.drives.get(device) or self.drives.get(device.rsplit("n", 1)[0])
        if own is None:
            raise FileNotFoundError(2, "no such device", device)
        own.age = max(0.0, time.time() - self.since) * HOURS_PER_SECOND
        return own

    def nvme_controllers(self) -> list[str]:
        """Names of the NVMe controllers that the kernel drives."""
        return [name for name, drive in self.drives.items() if drive.bus == "nvme"]

    def blocks(self) -> list[PracticeBlock]:
        """Every drive that the kernel would list: a controller without a namespace shows none."""
        buses = {"emmc": "mmc", "sd": "mmc", "scsi": "other", "raid": "other"}
        return [
            PracticeBlock(
                f"{name}n1" if drive.bus == "nvme" else name, buses.get(drive.bus, drive.bus), self._facts(name, drive)
            )
            for name, drive in self.drives.items()
            if getattr(drive, "namespace", 1)
        ]

    def _facts(self, name: str, drive: Drive) -> str:
        place = {
            "ata": f"0000:00:17.0/ata1/host0/block/{name}",
            "usb": f"0000:00:14.0/usb2/2-1/host6/block/{name}",
            "nvme": f"0000:3d:00.0/nvme/{name}/{name}n1",
            "scsi": f"0000:01:00.0/host0/target0:0:0/0:0:0:0/block/{name}",
            "raid": f"0000:01:00.0/host0/target0:2:0/0:2:0:0/block/{name}",
            "emmc": f"0000:00:1a.0/mmc_host/mmc0/mmc0:0001/block/{name}",
            "sd": f"0000:00:1b.0/mmc_host/mmc1/mmc1:0001/block/{name}",
        }
        lines = [
            f"size={drive.disk.capacity // 512}",
            f"removable={int(drive.bus == 'usb')}",
            f"queue/logical_block_size={drive.disk.sector}",
        ]
        if isinstance(drive, SolderedDrive):
            lines += [
                f"device/type={drive.kind}",
                f"device/name={drive.name}",
                f"device/serial={drive.serial}",
                f"device/cid=5a0100{int(drive.serial, 16):026x}",
            ]
            lines += (
                [f"device/life_time={drive.life}", f"device/pre_eol_info={drive.reserve}"]
                if drive.kind == "MMC"
                else []
            )
        elif isinstance(drive, ScsiDrive):
            lines += [
                f"device/vendor={drive.vendor}",
                f"device/model={drive.model}",
                f"device/vpd_pg80={drive.serial}",
                f"device/wwid=naa.{drive.wwn}",
            ]
            lines += [
                "host/proc_name=" + ("megaraid_sas" if drive.bus == "raid" else "mpt3sas"),
                *([f"raid_devices/level={drive.level}"] if drive.level else []),
            ]
        elif not isinstance(drive, BridgedDrive):
            lines += [
                f"device/model={drive.model}",
                f"queue/rotational={int(isinstance(drive, AtaDrive) and drive.rotation > 0)}",
            ]
        if isinstance(drive, NvmeDrive):
            lines += ["device/transport=pcie", f"nsid={drive.namespace}", f"device/serial={drive.serial}"]
        return "\n".join([*lines, f"path=/sys/devices/pci0000:00/{place[drive.bus]}"])

    def scsi(self, device: str, command: bytes, length: int) -> tuple[int, bytes, bytes]:
        """One SCSI command. Raises OSError for a drive that takes none."""
        drive = self._drive(device)
        if isinstance(drive, NvmeDrive | SolderedDrive):
            raise OSError(25, "inappropriate ioctl for device")
        return drive.scsi(command, length)

    def is_free(self, device: str) -> bool:
        """Nobody else uses a practice drive."""
        return device in self.drives

    def nvme(self, device: str, opcode: int, namespace: int, words: list[int], length: int) -> tuple[int, bytes]:
        """One NVMe admin command. Raises OSError for a drive that takes none."""
        drive = self._drive(device)
        if not isinstance(drive, NvmeDrive):
            raise OSError(25, "inappropriate ioctl for device")
        return drive.nvme(opcode, namespace, words, length)

    def read_at(self, device: str, sector: int, count: int, size: int = 512) -> bytes:
        """Sectors of the medium. Raises OSError."""
        disk = self._drive(device).disk
        if size != disk.sector:
            raise OSError(22, "invalid argument")
        return disk.read(sector, count)

    def block_reader(self, device: str, size: int, keep: bool = False) -> Callable[[int, int, memoryview], float]:
        """A call that reads (LBA, sectors) into a buffer and says how long that took on this machine, whose hours pass
        quicker than ours. `keep`: the bytes are wanted too."""
        drive = self._drive(device)
        disk = drive.disk
        if size != disk.sector:
            raise OSError(22, "invalid argument")
        disk.surface = disk.surface or _sound_surface(drive)
        owed = 0.0

        def read(lba: int, count: int, into: memoryview) -> float:
            nonlocal owed
            try:
                ms = disk.timed(lba, count, into if keep else None)
            except SlowError as error:
                time.sleep(error.ms / 1e3 / self.pace)
                raise
            owed += ms / 1e3 / self.pace
            if owed > 0.004:
                time.sleep(owed)
                owed = 0.0
            return ms

        return read

    def read_sector(self, device: str, lba: int, size: int) -> bytes:
        """One sector. Raises OSError."""
        return self.read_at(device, lba, 1, size)

    def rewrite(
        self, device: str, writes: list[tuple[int, bytes, bytes]], size: int, sure: Callable[[Identity], None]
    ) -> list[tuple[int, bytes]]:
        """Bytes onto the medium, by the probe's own way. Raises OSError, and what that raises."""
        opened = self._drive(device)
        sure(self._who(device, opened))
        disk = opened.disk
        return put_bytes(
            lambda at, length: disk.read(at // size, length // size),
            lambda at, data: disk.write(at // size, data),
            writes,
            size,
        )

    @contextmanager
    def filled(self, disk: str) -> Iterator[FilledDisk]:
        """A disk to be written whole, by the probe's own way."""
        opened = self._drive(disk)
        yield FilledDisk(opened.disk, partial(self._who, disk, opened))

    def _who(self, device: str, opened: Drive) -> Identity:
        """Who the drive is that was opened under this name, whatever stands there by now."""
        name = device if device in self.drives else device.rsplit("n", 1)[0]
        alone = PracticeMachine(self.name, {name: opened}, {}, {}, since=self.since)
        found: Identity = Identity.of(alone, alone.blocks()[0], name)  # type: ignore[no-untyped-call]
        return found

    def confirm(self, lines: list[str], going: Callable[[], bool]) -> bool:
        """Somebody stands at a practice machine, reads what is asked and presses the key."""
        return going()

    def variable(self, name: str) -> bytes | None:
        """A UEFI variable with its attributes; None where there is none."""
        return self.pages.get(f"efivars/{name}")

    def put_variable(self, name: str, data: bytes | None) -> None:
        """Write one, or take it away."""
        pages = {path: own for path, own in self.pages.items() if path != f"efivars/{name}"}
        self.pages = pages if data is None else {**pages, f"efivars/{name}": data}

    def take_writes(self, writes: list[tuple[str, int, str]]) -> None:
        """What was written to it before it was connected again: disk, byte, bytes as base64."""
        for device, at, data in writes:
            if at < 0:  # a UEFI variable by that name
                self.put_variable(device, base64.b64decode(data) if data else None)
                continue
            disk = self._drive(device).disk
            disk.write(at // disk.sector, base64.b64decode(data))

    def files(self) -> dict[str, str]:
        """Firmware pages: path -> where they stand."""
        return {path: path for path in self.pages}

    def told(self) -> dict[str, Callable[[], bytes]]:
        """What the kernel would know of the machine, by page."""
        return {path: partial(text.encode) for path, text in self.state.items()}

    def read_file(self, place: str) -> bytes:
        return self.pages[place]

    def kernel_messages(self) -> bytes:
        return self.messages.encode()

    def facts(self) -> dict[str, str]:
        """What the machine calls itself."""
        return {"rtc": time.strftime("%Y-%m-%dT%H:%M:%S", time.gmtime()), **self.named}

    def sleep(self, seconds: float) -> None:
        time.sleep(min(seconds, 1.0))


def _sound_surface(drive: Drive) -> Surface:
    if isinstance(drive, NvmeDrive):
        return Surface(mb_s=2400.0, rpm=0)
    if isinstance(drive, AtaDrive):
        return Surface(rpm=drive.rotation) if drive.rotation else Surface(mb_s=510.0, rpm=0)
    return Surface(mb_s=180.0, rpm=drive.rotation) if isinstance(drive, ScsiDrive) else Surface(mb_s=90.0, rpm=0)


def with_new_drive(machine: PracticeMachine, name: str, serial: str, size_gb: float | None) -> PracticeMachine:
    """The machine with a drive fresh from its bag in the place of its own: blank, and no hour old at this moment."""
    place = next(device for device, drive in machine.drives.items() if drive.bus != "usb")
    old = machine.drives[place]
    disk = PracticeDisk(int((size_gb or 500) * 10**9) // 512, {})
    young = -int((time.time() - machine.since) * HOURS_PER_SECOND)
    serial = serial or "NEW-0001"
    fresh: Drive = (
        NvmeDrive(name, serial, disk, young, used=0)
        if isinstance(old, NvmeDrive)
        else AtaDrive(name, serial, disk, young, rotation=0)
    )
    machine.drives = {device: fresh if device == place else drive for device, drive in machine.drives.items()}
    return machine
