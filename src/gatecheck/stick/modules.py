"""Which of the kernel's modules go on the stick: storage controllers, wired network, keyboards. Nothing that needs
firmware files, no file system but FAT, nothing that assembles arrays or volume groups: what is not there cannot mount,
replay or assemble anything."""

from __future__ import annotations

import re
import shutil
from collections.abc import Callable
from pathlib import Path

_FOLDERS = (
    "drivers/ata",
    "drivers/nvme/host",
    "drivers/usb/host",
    "drivers/usb/storage",
    "drivers/mmc/host",
    "drivers/mmc/core",
    "drivers/hid",
    "drivers/input/keyboard",
    "drivers/net/ethernet",
    "drivers/net/usb",
    "drivers/net/phy",
    "drivers/net/mdio",
    "drivers/virtio",
    "drivers/scsi",
    "drivers/message/fusion",
    "drivers/firmware/efi",
    "fs/efivarfs",
    "drivers/pci/controller",
    "drivers/misc/cardreader",
)
_ALSO = (
    "sg",
    "sd_mod",
    "sr_mod",
    "virtio_net",
    "virtio_blk",
    "virtio_scsi",
    "vfat",
    "fat",
    "nls_cp437",
    "nls_ascii",
    "nls_utf8",
    "nls_iso8859-1",
    "efivarfs",
    "floppy",
    "vmd",
    "pinctrl-intel",
    "i2c-hid-acpi",
    "hid-generic",
    "usbhid",
    "xhci-pci",
    "ehci-pci",
    "uhci-hcd",
    "ohci-pci",
    "uas",
    "af_packet",
)
_NOT = (
    "drivers/scsi/qla2xxx",
    "drivers/scsi/lpfc",
    "drivers/scsi/bfa",
    "drivers/scsi/fcoe",
    "drivers/scsi/libfc",
    "drivers/scsi/bnx2",
    "drivers/scsi/be2iscsi",
    "drivers/scsi/cxgbi",
    "drivers/scsi/device_handler",
    "drivers/scsi/aic94xx",
    "drivers/scsi/qedi",
    "drivers/scsi/qedf",
    "drivers/scsi/csiostor",
    "drivers/scsi/elx",
    "drivers/scsi/iscsi",
    "drivers/scsi/libiscsi",
    "/cxgb",
    "/mellanox",
    "/netronome",
    "/qlogic",
    "/bnx2x",
    "/cavium",
    "/chelsio",
    "/pensando",
    "/fungible",
)
_WITHOUT_FIRMWARE = ("r8169", "tg3", "e100", "r8152", "smsc75xx", "starfire", "typhoon")
"""modules that name firmware files and do without"""
_LARGEST = 1_600_000
Run = Callable[..., bytes]


def copy_modules(source: Path, target: Path, run: Run) -> None:
    """The modules and what they depend on, with a list of their own. `run`: a command of the building computer."""
    target.mkdir(parents=True)
    for name in ("modules.order", "modules.builtin", "modules.builtin.modinfo"):
        shutil.copy(source / name, target / name)
    run("depmod", "-b", str(source.parents[2]), source.name)
    depends = {
        path: needs.split()
        for path, _, needs in (line.partition(":") for line in (source / "modules.dep").read_text().splitlines())
    }
    chosen = {path for path in depends if _fits(source, path)}
    for path in list(chosen):
        chosen |= set(depends[path])
    for path in sorted(chosen):
        place = target / path
        place.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(source / path, place)
    run("depmod", "-b", str(target.parents[2]), target.name)
    for name in (
        "modules.dep",
        "modules.alias",
        "modules.symbols",
        "modules.devname",
        "modules.softdep",
        "modules.builtin.alias",
    ):
        (target / name).unlink(missing_ok=True)  # the .bin forms are read


def _fits(source: Path, path: str) -> bool:
    name = Path(path).name.split(".")[0].replace("_", "-")
    if name in {also.replace("_", "-") for also in _ALSO}:
        return True
    inside = path.removeprefix("kernel/")
    if not inside.startswith(tuple(f"{folder}/" for folder in _FOLDERS)) or any(part in path for part in _NOT):
        return False
    file = source / path
    if file.stat().st_size > _LARGEST:
        return False
    return name in {own.replace("_", "-") for own in _WITHOUT_FIRMWARE} or not re.search(
        rb"\0firmware=", file.read_bytes()
    )
