"""Pages that the tests of firmware share, from the core's own encoders."""

from __future__ import annotations

from gatecheck.core.disk.encode import gpt_start
from gatecheck.core.disk.gpt import EFI_SYSTEM
from gatecheck.core.firmware.encode import END_PATH, file_path, load_option, node, partition, pci_root, variable

ESP, DATA = "0F2F0A6B-3D5C-4E4B-9A51-1D2C3B4A5968", "7B5E90C1-52A4-4A0E-8A0C-8D1F00A1B2C3"
END, ROOT, LOADER = END_PATH, pci_root(), file_path("\\EFI\\net\\loader.efi")

__all__ = ["DATA", "END", "ESP", "LOADER", "ROOT", "disk", "load_option", "node", "partition", "variable"]


def disk(*guids: str) -> bytes:
    """The first 34 sectors of a disk with these partitions."""
    return gpt_start(DATA, [(g, EFI_SYSTEM, 2048, 4095, "EFI") for g in guids])
