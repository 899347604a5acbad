"""What a file's first bytes say of it as an EFI application: the machine type of its PE/COFF header.

Microsoft, "PE Format": offset of the header at 3Ch, signature, machine; UEFI Specification 2.10, 2.1.1 for the types.
"""

from __future__ import annotations

import struct

MACHINES = {0x014C: "ia32", 0x8664: "x64", 0x01C2: "arm", 0xAA64: "aa64", 0x5064: "riscv64"}
FALLBACK = {
    "ia32": "EFI/BOOT/BOOTIA32.EFI",
    "x64": "EFI/BOOT/BOOTX64.EFI",
    "arm": "EFI/BOOT/BOOTARM.EFI",
    "aa64": "EFI/BOOT/BOOTAA64.EFI",
}
"""where firmware looks on a disk that no entry names a file of (UEFI 2.10, 3.5.1.1)"""
_OPTIONAL, _APPLICATION = 0xF0, 10
_ENDS = bytes.fromhex("31C0C390")
"""xor eax,eax; ret: a program that does nothing"""
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


def image_head(machine: int = 0x8664, size: int = 4096, *, text: bytes = b"") -> bytes:
    """An EFI application for practice disks: headers that firmware loads, one section, a certificate table of its own
    (nobody's), `text` in it."""
    raw = bytearray(max(size, 1024 + len(_ENDS) + len(text)))
    raw[:2] = b"MZ"
    raw[0x3C:0x40] = (0x80).to_bytes(4, "little")
    raw[0x80:0x98] = b"PE\0\0" + struct.pack("<HHIIIHH", machine, 1, 0, 0, 0, _OPTIONAL, 0x22)
    optional = 0x98
    struct.pack_into("<H", raw, optional, 0x20B)
    struct.pack_into("<I", raw, optional + 16, 0x1000)  # the entry point: the section's start
    struct.pack_into("<I", raw, optional + 60, 0x200)  # SizeOfHeaders
    struct.pack_into("<H", raw, optional + 68, _APPLICATION)
    struct.pack_into("<II", raw, optional + 112 + 4 * 8, len(raw) - 64, 64)  # the fifth directory: certificates
    struct.pack_into("<8sIIII", raw, optional + _OPTIONAL, b".text", 0x200, 0x1000, 0x200, 0x200)
    code = _ENDS + text
    raw[0x200 : 0x200 + len(code)] = code
    return bytes(raw)
