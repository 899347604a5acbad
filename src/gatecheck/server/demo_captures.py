"""Capture files of made-up drives and machines, as page bytes."""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Mapping

from gatecheck.core.disk import encode as disk
from gatecheck.core.firmware import encode as firmware
from gatecheck.core.storage import encode

GB = 10**9


def capture(device: str, pages: Mapping[str, bytes]) -> bytes:
    """A capture file with the pages of one drive."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in {"manifest.json": json.dumps({"format": 1, "pages": sorted(pages)}).encode(), **pages}.items():
            entry = zipfile.ZipInfo(name if name == "manifest.json" else f"{device}/{name}")
            entry.compress_type = zipfile.ZIP_DEFLATED
            archive.writestr(entry, data)
    return buffer.getvalue()


def disk_capture(
    model: str, serial: str, size_gb: int, attributes: list[encode.Attribute], *, exceeded: bool = False, rotation: int = 5400
) -> bytes:
    """Pages of an ATA drive as a capture."""
    return capture("sda", {
        "identify.bin": encode.ata_identify(model=model, serial=serial, sectors=size_gb * GB // 512, rotation=rotation),
        "smart-data.bin": encode.smart_data(attributes),
        "smart-thresh.bin": encode.smart_thresholds(attributes),
        "smart-status.bin": encode.smart_status(exceeded=exceeded),
    })  # fmt: skip


def flash_capture(model: str, serial: str, size_gb: int, **health: int) -> bytes:
    """Pages of an NVMe drive as a capture."""
    return capture("nvme0", {
        "id-ctrl.bin": encode.nvme_controller(model=model, serial=serial, capacity=size_gb * GB),
        "log-02.bin": encode.nvme_health(**{"temperature": 311, "spare": 100, "spare_threshold": 10, **health}),
    })  # fmt: skip


def disk_readings(hours: int, **counts: int) -> list[encode.Attribute]:
    pending, moved, crc = counts.get("pending", 0), counts.get("reallocated", 0), counts.get("crc", 0)
    return [
        encode.Attribute(1, 0, threshold=51, prefailure=True),
        encode.Attribute(5, moved, now=100 - min(moved // 4, 90), worst=100 - min(moved // 4, 90), threshold=36, prefailure=True),
        encode.Attribute(9, hours, now=max(1, 100 - hours // 900), worst=max(1, 100 - hours // 900)),
        encode.Attribute(10, 0, threshold=97, prefailure=True),
        encode.Attribute(12, 2140),
        encode.Attribute(187, 0),
        encode.Attribute(194, 36, now=64, worst=52),
        encode.Attribute(197, pending),
        encode.Attribute(198, pending),
        encode.Attribute(199, crc, now=200, worst=200),
    ]


def machine_capture(files: Mapping[str, bytes]) -> bytes:
    """A whole machine's capture: its drives' pages, its firmware's variables, what the live system lists."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in {"manifest.json": json.dumps({"format": 1, "pages": sorted(files)}).encode(), **files}.items():
            archive.writestr(name, data)
    return buffer.getvalue()


def surgery_laptop() -> bytes:
    """A laptop whose drive was changed elsewhere: its boot entry still points at the old drive's partition."""
    old, esp, data = "3C1E77A2-04B9-4D35-8E0B-5F8A2D16C901", "A95B0E34-7C18-4F6E-93D2-1B7E60F4A2C5", "D2F8316B-5E9C-47A1-B03D-88C46E12F7A0"
    entries = {
        0: firmware.load_option("Installed system", firmware.partition(old), firmware.file_path("\\EFI\\system\\start.efi")),
        1: firmware.load_option("Network card", firmware.pci_root(), firmware.pci(31, 6), firmware.network()),
        2: firmware.load_option("Live stick", firmware.pci_root(), firmware.pci(20), firmware.usb(3)),
    }
    table = firmware.smbios_table(maker="Ferrow", product="Lathe-14", serial="FL14-20871", firmware="1.14", date="06/12/2023", chassis=10, memory_mib=16384)
    pci = "/sys/devices/pci0000:00/0000:00"
    return machine_capture({
        **firmware.boot_variables(entries, (0, 2, 1), current=2, secure_boot=True),
        "dmi/DMI": table, "dmi/smbios_entry_point": firmware.smbios_entry_point(len(table)),
        "sysblock/nvme0n1.txt": f"path={pci}:1d.0/0000:3d:00.0/nvme/nvme0/nvme0n1\ndevice/transport=pcie".encode(),
        "sysblock/sda.txt": f"path={pci}:14.0/usb1/1-3/1-3:1.0/host2/block/sda".encode(),
        "nvme0/id-ctrl.bin": encode.nvme_controller(model="QUARRY FLINT N1000", serial="QF9-310442", capacity=1000 * GB),
        "nvme0/log-02.bin": encode.nvme_health(used=1, power_on_hours=96, power_cycles=40, unsafe_shutdowns=2, units_read=410_000, units_written=390_000),
        "nvme0n1/lba0-33.bin": disk.system_disk(esp, data),
        "sda/identify.bin": encode.ata_identify(model="PLAIN STICK 32", serial="PS32-7", sectors=62_500_000, rotation=0),
    })  # fmt: skip
