"""The machines of the lab: what the emulator is told to be, and what the server must show, fact by fact."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from gatecheck.core.disk.encode import mbr_start, system_disk
from gatecheck.core.disk.volume import volume_start
from gatecheck.core.volume.fat.encode import fat_volume
from gatecheck.practice.patients import LOADER

ESP, SYSTEM = "5A1F0C3D-88B4-4E27-9D61-70C2E4B8A911", "C3E9D210-6F4A-4B58-A1D7-25E09B63F84C"
MIB = 1 << 20
SIZE = 128 * MIB


def image(folder: Path, name: str, *, size: int = SIZE, sector: int = 512, layout: str = "gpt") -> Path:
    """A disk as a system is installed on it, with a FAT system partition that lists; or an empty one."""
    place = folder / f"{name}.img"
    with place.open("wb") as file:
        file.truncate(size)
        if layout == "gpt":
            file.write(system_disk(ESP, SYSTEM, sectors=size // sector, sector=sector))
            file.seek(2048 * sector)
            file.write(fat_start(sector))
            for at, data in fat_volume(LOADER, sectors=204_800, sector=sector, cluster_sectors=1).items():
                if (2048 + at) * sector + len(data) < size:
                    file.seek((2048 + at) * sector)
                    file.write(data)
        elif layout == "mbr":
            file.write(mbr_start([(7, True, 2048, size // 512 - 4096)]))
            file.seek(2048 * 512)
            file.write(volume_start("ntfs"))
    return place


def fat_start(sector: int) -> bytes:
    return fat_volume({}, sectors=204_800, sector=sector, cluster_sectors=1)[0]


def drive(place: Path, name: str, *, bad: Sequence[int] = ()) -> list[str]:
    """A drive over an image. `bad`: sectors of 512 bytes that cannot be read."""
    if not bad:
        return ["-drive", f"if=none,id={name},format=raw,file={place}"]
    errors = "".join(
        f",file.inject-error.{n}.event=read_aio,file.inject-error.{n}.sector={lba},file.inject-error.{n}.errno=5"
        for n, lba in enumerate(bad)
    )
    return [
        "-drive",
        f"if=none,id={name},driver=raw,file.driver=blkdebug,file.image.driver=file,file.image.filename={place}{errors}",
    ]


def ata(
    folder: Path,
    name: str = "d0",
    *,
    bus: str = "ide.0",
    serial: str = "QS7-LAB-1",
    bad: Sequence[int] = (),
    **more: Any,
) -> list[str]:
    device = f"ide-hd,drive={name},bus={bus},serial={serial},model=QUARRY SPINDLE LAB,ver=QA10,rotation_rate=5400"
    return [*drive(image(folder, name, **more), name, bad=bad), "-device", device]


def scsi(folder: Path, controller: str, name: str = "s0", *, serial: str = "QX6-LAB-3", **more: Any) -> list[str]:
    """A SCSI disk behind a controller of this kind."""
    device = (
        f"scsi-hd,drive={name},bus={name}c.0,vendor=QUARRY,product=SPINDLE "
        f"S600,ver=QS02,serial={serial},rotation_rate=10000,wwn=0x5000c500300417ab"
    )
    return [*drive(image(folder, name, **more), name), "-device", f"{controller},id={name}c", "-device", device]


def _virtio_scsi(folder: Path) -> list[str]:
    return scsi(folder, "virtio-scsi-pci")


def _raid_and_virtio(folder: Path) -> list[str]:
    virtual = [*drive(image(folder, "v0", size=96 * MIB), "v0"), "-device", "virtio-blk-pci,drive=v0,serial=QV1-LAB-9"]
    return [*scsi(folder, "megasas"), *virtual]


def _uas(folder: Path) -> list[str]:
    stick = [
        *drive(image(folder, "u0", layout="none"), "u0"),
        "-device",
        "qemu-xhci",
        "-device",
        "usb-uas,id=uc",
        "-device",
        "scsi-hd,drive=u0,bus=uc.0,vendor=QUARRY,product=DOCK 2,serial=QD2-LAB-4",
    ]
    return [*ata(folder), *stick]


def _no_start(folder: Path) -> list[str]:
    last = SIZE // 512 - 1
    return ata(folder, bad=(0, last))


def _large(folder: Path) -> list[str]:
    place = image(folder, "n0", size=896 * MIB, sector=4096)
    return [
        *drive(place, "n0"),
        "-device",
        "nvme,id=c0,serial=QF7-LAB-6",
        "-device",
        "nvme-ns,drive=n0,bus=c0,nsid=1,logical_block_size=4096,physical_block_size=4096",
    ]


def _paths(folder: Path) -> list[str]:
    first, second = image(folder, "n1", size=256 * MIB), image(folder, "n2", size=64 * MIB, layout="none")
    subsystem = [
        "-device",
        "nvme-subsys,id=sub",
        "-device",
        "nvme,id=c1,serial=QF8-LAB-7,subsys=sub",
        "-device",
        "nvme,id=c2,serial=QF8-LAB-7,subsys=sub",
    ]
    return [
        *drive(first, "n1"),
        *drive(second, "n2"),
        *subsystem,
        "-device",
        "nvme-ns,drive=n1,bus=c1,nsid=3,shared=on",
        "-device",
        "nvme-ns,drive=n2,bus=c1,nsid=5,shared=on",
    ]


def _card(folder: Path) -> list[str]:
    return [
        *drive(image(folder, "k0", size=64 * MIB), "k0"),
        "-device",
        "sdhci-pci",
        "-device",
        "sd-card,drive=k0",
        "-device",
        "ide-cd,bus=ide.1",
        "-device",
        "isa-fdc,id=fd",
        "-drive",
        f"if=none,id=f0,format=raw,file={_floppy(folder)}",
        "-device",
        "floppy,bus=fd.0,drive=f0,drive-type=144",
    ]


def _floppy(folder: Path) -> Path:
    place = folder / "floppy.img"
    place.write_bytes(bytes(1_474_560))
    return place


@dataclass(frozen=True)
class LabMachine:
    """`told`: fact -> what the server must show; a callable judges what it gets. `seconds`: how long its reading may
    take."""

    id: str
    options: Callable[[Path], list[str]]
    told: Mapping[str, object]
    facts: Mapping[str, Any] = field(default_factory=lambda: {"drive_kind": "hdd", "installed_os": "linux"})
    uefi: bool = False
    every_day: bool = True
    clock: str = ""
    seconds: float = 1200


def has(*ids: str) -> Callable[[object], bool]:
    """A list that holds all of these."""

    def holds(shown: object) -> bool:
        return isinstance(shown, list) and set(ids) <= set(shown)

    holds.__doc__ = f"with {', '.join(ids)}"
    return holds


SCSI_DISK: Mapping[str, object] = {
    "sda.bus": "scsi",
    "sda.model": "QUARRY SPINDLE S600",
    "sda.serial": "QX6-LAB-3",
    "sda.wwn": "5000c500300417ab",
    "sda.firmware": "QS02",
    "sda.capacity": SIZE,
    "sda.rotation": 10_000,
    "sda.findings": ["no-pages"],
    "disk sda": "gpt",
    "live": "right",
    "asks": [],
    "health-pages": None,
}

MACHINES: tuple[LabMachine, ...] = (
    LabMachine("scsi", _virtio_scsi, {**SCSI_DISK, "clock": "reset-to-default"}, clock="2006-01-01T00:00:30"),
    LabMachine(
        "raid-and-virtio",
        _raid_and_virtio,
        {
            "sda.bus": "raid",
            "sda.findings": ["raid-volume"],
            "sda.capacity": SIZE,
            "vda.bus": "virtio",
            "vda.serial": "QV1-LAB-9",
            "vda.capacity": 96 * MIB,
            "vda.findings": ["no-pages"],
            "asks": ["sda", "vda"],
            "live": None,
            "health-pages": None,
        },
        facts={"installed_os": "linux"},
    ),
    LabMachine(
        "uas",
        _uas,
        {
            "sda.bus": "ata",
            "sda.serial": "QS7-LAB-1",
            "sdb.bus": "usb",
            "sdb.model": "QUARRY DOCK 2",
            "sdb.serial": "QD2-LAB-4",
            "live": "right",
            "loader-look": None,
            "asks": [],
            "storage-mode": "unsure",
        },
    ),
    LabMachine(
        "no-start",
        _no_start,
        {
            "sda.serial": "QS7-LAB-1",
            "sda.findings": has("lba0-unreadable", "gpt-backup-unreadable"),
            "health-pages": "early-signs",
            "disk-layout": "table-damaged",
            "live": "right",
        },
    ),
    LabMachine(
        "large-sectors",
        _large,
        {
            "nvme0.bus": "nvme",
            "nvme0.serial": "QF7-LAB-6",
            "nvme0.namespaces": 1,
            "nvme0.capacity": 896 * MIB,
            "disk nvme0n1": "gpt",
            "live": "right",
            "nvme0n1/listing-part1.txt": "decoded",
            "health-pages": "clean",
            "asks": [],
        },
        facts={"drive_kind": "nvme", "installed_os": "windows-11"},
        uefi=True,
    ),
    LabMachine(
        "namespaces",
        _paths,
        {
            "nvme0.serial": "QF8-LAB-7",
            "nvme0.namespaces": 2,
            "nvme0.numbers": [3, 5],
            "drives": ["nvme0"],
            "live": "right",
        },
        facts={"drive_kind": "nvme", "installed_os": "windows-11"},
        every_day=False,
    ),
    LabMachine(
        "card-only",
        _card,
        {
            "mmcblk0.bus": "sd",
            "mmcblk0.capacity": 64 * MIB,
            "drives": ["mmcblk0"],
            "live": "absent",
            "asks": [],
            "health-pages": None,
            "weighed": None,
        },
        facts={"drive_kind": "nvme", "installed_os": "windows-11"},
        every_day=False,
    ),
    LabMachine(
        "clock-1979",
        ata,
        {"clock": "reset-to-default", "sda.serial": "QS7-LAB-1", "live": "right"},
        clock="1979-01-01T00:00:30",
        every_day=False,
    ),
    LabMachine(
        "clock-2046",
        ata,
        {"clock": "wrong", "sda.serial": "QS7-LAB-1", "live": "right"},
        clock="2046-06-01T00:00:30",
        every_day=False,
    ),
    LabMachine("sas-1068", lambda folder: scsi(folder, "mptsas1068"), SCSI_DISK, every_day=False),
    LabMachine("pvscsi", lambda folder: scsi(folder, "pvscsi"), SCSI_DISK, every_day=False),
    LabMachine("parallel-scsi", lambda folder: scsi(folder, "lsi53c895a"), SCSI_DISK, every_day=False),
    LabMachine(
        "header",
        lambda folder: ata(folder, bad=(1,)),
        {
            "sda.findings": has("gpt-header-unreadable"),
            "disk-layout": "table-damaged",
            "live": "right",
            "health-pages": "early-signs",
        },
        every_day=False,
    ),
    LabMachine(
        "backup-header",
        lambda folder: ata(folder, bad=(SIZE // 512 - 1,)),
        {
            "sda.findings": has("gpt-backup-unreadable"),
            "disk sda": "gpt",
            "disk-layout": None,
            "live": "right",
        },
        every_day=False,
    ),
)
