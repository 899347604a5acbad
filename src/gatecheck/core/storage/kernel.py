"""What the kernel tells of a drive that it has: who it is where the drive itself is not asked or does not say, and the
life of soldered flash.

eMMC: JEDEC JESD84-B51, 7.4.41 to 7.4.43 (EXT_CSD 267 to 269); UFS: JESD220, 14.1.6.7 (health descriptor); both in the
same codes."""

from __future__ import annotations

from dataclasses import dataclass

USB, ATA, NVME, SCSI, RAID, VIRTIO, EMMC, SD, UFS, UNKNOWN = (
    "usb",
    "ata",
    "nvme",
    "scsi",
    "raid",
    "virtio",
    "emmc",
    "sd",
    "ufs",
    "unknown",
)
SOLDERED = (EMMC, UFS)
OUTSIDE = (USB, SD)
"""what somebody may have plugged in: never the machine's own drive while another can be"""
WITHOUT_PAGES = (VIRTIO, EMMC, SD, UFS)
"""what keeps no pages that a probe could ask for"""

_EXCEEDED = 0x0B
PRE_EOL = {1: "normal", 2: "warning", 3: "urgent"}


@dataclass(frozen=True, slots=True)
class FlashLife:
    """`used`: lower and upper bound of the rated life used, in percent, the worse of the two kinds of cells, upper None
    where the life is exceeded; None where the device does not say. `reserve`: normal, warning (80 % of the reserved
    blocks consumed), urgent (90 %), or empty."""

    used: tuple[int, int | None] | None
    reserve: str


@dataclass(frozen=True, slots=True)
class KernelFacts:
    """`capacity` and `sector` in bytes, None where the kernel does not say; `level`: of a RAID volume, where its
    controller tells it."""

    bus: str
    model: str = ""
    serial: str = ""
    firmware: str = ""
    capacity: int | None = None
    sector: int | None = None
    level: str = ""
    life: FlashLife | None = None


def flash_life(estimates: list[str], reserve: str) -> FlashLife | None:
    """From the kernel's texts, such as `0x01`, `0x03`; what is no such number says nothing. None where nothing is
    said."""
    codes = [code for code in (_code(text) for text in estimates) if 0 < code <= _EXCEEDED]
    worst = max(codes, default=0)
    used = None if not worst else (100, None) if worst == _EXCEEDED else ((worst - 1) * 10, worst * 10)
    state = PRE_EOL.get(_code(reserve), "")
    return FlashLife(used, state) if used or state else None


def _code(text: str) -> int:
    try:
        return int(text, 16)
    except ValueError:
        return 0
