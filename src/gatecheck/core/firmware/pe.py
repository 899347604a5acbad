"""What a file's first bytes say of it as an EFI application: the machine type of its PE/COFF header.

Microsoft, "PE Format": offset of the header at 3Ch, signature, machine; UEFI Specification 2.10, 2.1.1 for the types.
"""

from __future__ import annotations

MACHINES = {0x014C: "ia32", 0x8664: "x64", 0x01C2: "arm", 0xAA64: "aa64", 0x5064: "riscv64"}
FALLBACK = {"ia32": "EFI/BOOT/BOOTIA32.EFI", "x64": "EFI/BOOT/BOOTX64.EFI", "arm": "EFI/BOOT/BOOTARM.EFI", "aa64": "EFI/BOOT/BOOTAA64.EFI"}
"""where firmware looks on a disk that no entry names a file of (UEFI 2.10, 3.5.1.1)"""
HEAD = 1024
"""bytes within which the header of every loader seen so far stands"""


def machine_of(head: bytes) -> str | None:
    """x64, ia32, aa64 …, or the code in hex; None where it is no PE image."""
    if head[:2] != b"MZ" or len(head) < 0x40:
        return None
    at = int.from_bytes(head[0x3C:0x40], "little")
    if head[at : at + 4] != b"PE\0\0" or len(head) < at + 6:
        return None
    code = int.from_bytes(head[at + 4 : at + 6], "little")
    return MACHINES.get(code, f"{code:04X}h")


def image_head(machine: int = 0x8664, size: int = 4096) -> bytes:
    """First bytes of an EFI application, for practice disks."""
    raw = bytearray(size)
    raw[:2] = b"MZ"
    raw[0x3C:0x40] = (0x80).to_bytes(4, "little")
    raw[0x80:0x86] = b"PE\0\0" + machine.to_bytes(2, "little")
    return bytes(raw)
