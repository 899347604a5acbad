"""Capture files of made-up drives, as page bytes."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Mapping
from typing import Any, cast

from gatecheck.core.capture.manifest import NAME, write_manifest
from gatecheck.core.storage import encode
from gatecheck.practice.surfaces import Patch, Surface
from gatecheck.probe.read_map import BAD_ROW, READ_ROW, MapWriter

GB = 10**9
_BLOCK, _SMALLEST = 1 << 16, 512
"""sectors"""


def capture(device: str, pages: Mapping[str, bytes]) -> bytes:
    """A capture file with the pages of one drive."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in {NAME: write_manifest([], probe="demo", machine={}), **pages}.items():
            entry = zipfile.ZipInfo(name if name == NAME else f"{device}/{name}")
            entry.compress_type = zipfile.ZIP_DEFLATED
            archive.writestr(entry, data)
    return buffer.getvalue()


def disk_capture(
    model: str,
    serial: str,
    size_gb: int,
    attributes: list[encode.SmartAttribute],
    *,
    exceeded: bool = False,
    rotation: int = 5400,
    surface: bytes = b"",
) -> bytes:
    """Pages of an ATA drive as a capture."""
    return capture(
        "sda",
        {
            "identify.bin": encode.ata_identify(
                model=model, serial=serial, sectors=size_gb * GB // 512, rotation=rotation
            ),
            "smart-data.bin": encode.smart_data(attributes),
            "smart-thresh.bin": encode.smart_thresholds(attributes),
            "smart-status.bin": encode.smart_status(exceeded=exceeded),
            **({"surface.gcm": surface} if surface else {}),
        },
    )


def surface_page(surface: Surface, size_gb: int, *, upto: float = 1.0) -> bytes:
    """The map of a timed read of such a surface, up to a share of the disk, in large blocks; what fails is taken
    apart."""
    sectors = size_gb * GB // 512
    writer = cast(Any, MapWriter)(512, sectors)

    def read(lba: int, size: int) -> None:
        if not surface.fails(lba, size, sectors):
            writer.add(READ_ROW, lba, size, surface.milliseconds(lba, size, 512, sectors))
        elif size <= _SMALLEST:
            writer.add(BAD_ROW, lba, size, 2600.0)
        else:
            read(lba, size // 2)
            read(lba + size // 2, size - size // 2)

    for lba in range(0, int(sectors * upto), _BLOCK):
        read(lba, min(_BLOCK, sectors - lba))
    return bytes(writer.take())


def flash_capture(model: str, serial: str, size_gb: int, **health: int) -> bytes:
    """Pages of an NVMe drive as a capture."""
    return capture(
        "nvme0",
        {
            "id-ctrl.bin": encode.nvme_controller(model=model, serial=serial, capacity=size_gb * GB),
            "log-02.bin": encode.nvme_health(**{"temperature": 311, "spare": 100, "spare_threshold": 10, **health}),
        },
    )


def disk_readings(hours: int, **counts: int) -> list[encode.SmartAttribute]:
    pending, moved, crc = counts.get("pending", 0), counts.get("reallocated", 0), counts.get("crc", 0)
    return [
        encode.SmartAttribute(1, 0, threshold=51, prefailure=True),
        encode.SmartAttribute(
            5, moved, now=100 - min(moved // 4, 90), worst=100 - min(moved // 4, 90), threshold=36, prefailure=True
        ),
        encode.SmartAttribute(9, hours, now=max(1, 100 - hours // 900), worst=max(1, 100 - hours // 900)),
        encode.SmartAttribute(10, 0, threshold=97, prefailure=True),
        encode.SmartAttribute(12, 2140),
        encode.SmartAttribute(187, 0),
        encode.SmartAttribute(194, 36, now=64, worst=52),
        encode.SmartAttribute(197, pending),
        encode.SmartAttribute(198, pending),
        encode.SmartAttribute(199, crc, now=200, worst=200),
    ]


_NARROW = (Patch(904_100_000, 904_160_000, slow=0.8, tries=25), Patch(904_120_000, 904_124_000, dead=0.01))
_WIDE = (
    Patch(903_000_000, 905_400_000, slow=0.6, tries=30),
    Patch(904_100_000, 904_400_000, dead=0.0003),
    Patch(390_000, 470_000, slow=0.5, tries=25),
)


def growing_surface(*, later: bool) -> bytes:
    """A patch in the middle of a disk, and the same some hours on."""
    return surface_page(Surface(seed=3, patches=_WIDE if later else _NARROW), 1000)
