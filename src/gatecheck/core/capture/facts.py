"""Plain text pages of a capture: a block device's facts as the kernel tells them, and text that is kept as it is."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

from gatecheck.core.storage import kernel

_LARGEST, _LARGEST_TEXT = 1 << 18, 1 << 20
"""bytes of a page of facts, and of text, that are read: a kernel keeps no more of either"""
_MOST_LINES, _LONGEST, _MOST_NAMES, _MOST_WORDS = 400, 400, 2000, 20
_DRIVE = re.compile(r"(sd|vd|xvd|hd)[a-z]+|nvme\d+n\d+|mmcblk\d+")
_OF_ONE_UNIT = re.compile(r"/host\d+/.*/\d+:(\d+):\d+:\d+/block/")
# controllers whose disks are volumes of theirs: from which SCSI channel on (the driver's own numbering)
_VOLUMES_FROM = {"megaraid_sas": 2, "aacraid": 0, "arcmsr": 0, "3w-9xxx": 0, "3w-sas": 0, "ips": 0, "mptraid": 0}


@dataclass(frozen=True, slots=True)
class BlockFacts:
    """What the kernel says of a block device: `told` by the names it has in sysfs."""

    told: Mapping[str, str]

    @property
    def path(self) -> str:
        return self.told.get("path", "")

    @property
    def bus(self) -> str:
        """How it is connected, by its place in the device tree; `unknown` where the kernel's facts do not tell."""
        if not self.path:
            return kernel.UNKNOWN
        for bus, mark in ((kernel.USB, r"/usb\d"), (kernel.ATA, r"/ata\d"), (kernel.NVME, r"/nvme")):
            if re.search(mark, self.path):
                return bus
        if "/mmc_host/" in self.path or "device/cid" in self.told:
            return {"SD": kernel.SD, "MMC": kernel.EMMC}.get(self.told.get("device/type", ""), kernel.UNKNOWN)
        if re.search(r"/virtio\d+/block/", self.path):
            return kernel.VIRTIO
        driver = self.told.get("host/proc_name", "")
        if driver.startswith("ufs"):
            return kernel.UFS
        if "/host" not in self.path:
            return kernel.UNKNOWN
        return kernel.RAID if self._is_volume(driver) else kernel.SCSI

    def _is_volume(self, driver: str) -> bool:
        """A volume that a controller makes of drives behind it: it says so, or its driver puts nothing else there."""
        if self.told.get("device/raid_level", "N/A").upper() not in ("N/A", "NA", "UNKNOWN", "") or self.told.get(
            "raid_devices/level"
        ):
            return True
        unit = _OF_ONE_UNIT.search(self.path)
        return driver in _VOLUMES_FROM and unit is not None and int(unit[1]) >= _VOLUMES_FROM[driver]

    @property
    def drive_facts(self) -> kernel.KernelFacts:
        """Who the drive is, as the kernel tells it."""
        bus = self.bus
        maker = self.told.get("device/vendor", "")
        model = self.told.get("device/model") or self.told.get("device/name", "")
        if maker and not maker.startswith(("0x", "ATA")) and not model.startswith(maker):
            model = f"{maker} {model}".strip()
        life = kernel.flash_life(
            [
                *self.told.get("device/life_time", "").split(),
                self.told.get("ufs/life_time_estimation_a", ""),
                self.told.get("ufs/life_time_estimation_b", ""),
            ],
            self.told.get("device/pre_eol_info") or self.told.get("ufs/eol_info", ""),
        )
        return kernel.KernelFacts(
            bus,
            model,
            self.told.get("device/serial") or self.told.get("serial") or self.told.get("device/vpd_pg80", ""),
            self.told.get("device/rev") or self.told.get("device/fwrev", ""),
            self.size,
            self.sector,
            self.told.get("raid_devices/level") or self.told.get("device/raid_level", ""),
            life if bus in kernel.SOLDERED else None,
        )

    @property
    def is_virtual(self) -> bool:
        return "/virtual/" in self.path

    @property
    def sector(self) -> int | None:
        """Bytes of a logical sector."""
        return self._number("queue/logical_block_size")

    @property
    def size(self) -> int | None:
        """In bytes: the kernel counts in 512, whatever the sector."""
        count = self._number("size")
        return None if count is None else count * 512

    def _number(self, name: str) -> int | None:
        text = self.told.get(name, "")
        return int(text) if text.isdigit() and len(text) < 20 else None


@dataclass(frozen=True, slots=True)
class TextPage:
    """Text as it was read; what is no UTF-8 in it is replaced."""

    text: str

    @property
    def lines(self) -> list[str]:
        return self.text.splitlines()


def read_block_facts(data: bytes) -> BlockFacts:
    """`name=value`, one a line. Lines that are not so are left out."""
    told = {}
    for line in data[:_LARGEST].decode("utf-8", "replace").splitlines()[:_MOST_LINES]:
        name, equals, value = line.partition("=")
        if equals and name:
            told[name.strip()[:_LONGEST]] = value.strip()[:_LONGEST]
    return BlockFacts(told)


@dataclass(frozen=True, slots=True)
class BlockNames:
    """Every block device that the kernel lists; none is an answer too."""

    names: tuple[str, ...]


def read_block_names(data: bytes) -> BlockNames:
    """One name a line."""
    lines = data[:_LARGEST].decode("utf-8", "replace").splitlines()[:_MOST_NAMES]
    return BlockNames(tuple(line.strip()[:_LONGEST] for line in lines if line.strip()))


def read_text_page(data: bytes) -> TextPage:
    return TextPage(data[:_LARGEST_TEXT].decode("utf-8", "replace"))


def is_a_drive(name: str) -> bool:
    """True for the kernel's name of something that holds data for good: no loop, no memory, no optical or floppy drive,
    no part of a card."""
    return bool(_DRIVE.fullmatch(name))


@dataclass(frozen=True, slots=True)
class PciDevice:
    """One PCI function. `kind`: class, subclass and interface as six hex digits; `remapped`: NVMe drives that it hides
    behind itself."""

    place: str
    kind: str
    vendor: str
    device: str
    driver: str
    remapped: int


@dataclass(frozen=True, slots=True)
class PciDevices:
    devices: tuple[PciDevice, ...]


def read_pci(data: bytes) -> PciDevices:
    """One function a line: its place, then `name=value` words. Lines that are not so are left out."""
    found = []
    for line in data[:_LARGEST].decode("utf-8", "replace").splitlines()[:_MOST_NAMES]:
        place, *words = line.split()[:_MOST_WORDS] or [""]
        told = dict(word.split("=", 1) for word in words if "=" in word)
        if re.fullmatch(r"[0-9a-f]{6}", told.get("class", "")):
            remapped = told.get("remapped_nvme", "0")
            found.append(
                PciDevice(
                    place[:_LONGEST],
                    told["class"],
                    told.get("vendor", "")[:8],
                    told.get("device", "")[:8],
                    told.get("driver", "")[:40],
                    int(remapped) if remapped.isdigit() and len(remapped) < 4 else 0,
                )
            )
    return PciDevices(tuple(found))
