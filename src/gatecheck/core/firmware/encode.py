"""Values -> bytes of UEFI variables, load options, device path nodes and SMBIOS tables: the readers' mirror."""

from __future__ import annotations

import struct
from collections.abc import Mapping, Sequence

from gatecheck.core.firmware.variables import GLOBAL
from gatecheck.core.guid import guid_bytes

END_PATH = bytes.fromhex("7fff0400")


def node(kind: int, subtype: int, data: bytes = b"") -> bytes:
    """One device path node (UEFI 2.10, 10.2)."""
    return struct.pack("<BBH", kind, subtype, len(data) + 4) + data


def pci_root(number: int = 0) -> bytes:
    """ACPI node of a PCI root bridge (10.3.3.1)."""
    return node(2, 1, struct.pack("<II", 0x0A0341D0, number))


def pci(device: int, function: int = 0) -> bytes:
    """PCI node (10.3.2.1)."""
    return node(1, 1, bytes([function, device]))


def sata(port: int) -> bytes:
    """SATA node of a drive straight on a port (10.3.4.6)."""
    return node(3, 18, struct.pack("<HHH", port, 0xFFFF, 0))


def nvme(namespace: int = 1) -> bytes:
    """NVM Express namespace node (10.3.4.20); the vendor's identifier is left zero."""
    return node(3, 23, struct.pack("<I8x", namespace))


def usb(port: int, interface: int = 0) -> bytes:
    """USB node (10.3.4.5)."""
    return node(3, 5, bytes([port, interface]))


def network(mac: bytes = b"\x02\x00\x00\x00\x00\x01") -> bytes:
    """MAC address node (10.3.4.11)."""
    return node(3, 11, mac.ljust(32, b"\0") + b"\1")


def partition(guid: str, number: int = 1, first: int = 0x800, size: int = 0x32000) -> bytes:
    """Hard drive node of a GPT partition (10.3.5.1)."""
    return node(4, 1, struct.pack("<IQQ", number, first, size) + guid_bytes(guid) + bytes([2, 2]))


def file_path(text: str) -> bytes:
    """File path node (10.3.5.4)."""
    return node(4, 4, f"{text}\0".encode("utf-16-le"))


def load_option(name: str, *nodes: bytes, active: bool = True) -> bytes:
    """EFI_LOAD_OPTION (3.1.3)."""
    path = b"".join(nodes) + END_PATH
    return struct.pack("<IH", int(active), len(path)) + f"{name}\0".encode("utf-16-le") + path


def variable(name: str, data: bytes, guid: str = GLOBAL) -> tuple[str, bytes]:
    """Path in a capture and bytes as a kernel gives them: non-volatile, boot and run time."""
    return f"efivars/{name}-{guid}", struct.pack("<I", 7) + data


def boot_variables(
    entries: Mapping[int, bytes],
    order: Sequence[int],
    *,
    current: int | None = None,
    secure_boot: bool = False,
    timeout: int = 3,
) -> dict[str, bytes]:
    """All that a firmware keeps about booting: Boot####, BootOrder, BootCurrent, SecureBoot, SetupMode, Timeout."""
    found = [variable(f"Boot{number:04X}", option) for number, option in entries.items()]
    found.append(variable("BootOrder", struct.pack(f"<{len(order)}H", *order)))
    if current is not None:
        found.append(variable("BootCurrent", struct.pack("<H", current)))
    found += [
        variable("SecureBoot", bytes([secure_boot])),
        variable("SetupMode", b"\0"),
        variable("Timeout", struct.pack("<H", timeout)),
    ]
    return dict(found)


def smbios_structure(kind: int, handle: int, body: bytes, *texts: str) -> bytes:
    """One structure (DSP0134 6.1): header, formatted area `body`, then its texts."""
    area = b"".join(t.encode("ascii", "replace") + b"\0" for t in texts) + b"\0" if texts else b"\0\0"
    return struct.pack("<BBH", kind, len(body) + 4, handle) + body + area


def smbios_table(
    *, maker: str, product: str, serial: str, firmware: str, date: str, chassis: int, memory_mib: int
) -> bytes:
    """BIOS, system, baseboard, chassis, one memory device and the end (7.1 to 7.4, 7.18, 7.45)."""
    bios = struct.pack("<BBHBB8s2s", 1, 2, 0xE000, 3, 0xFF, bytes(8), bytes(2))
    system = struct.pack("<BBBB16sBBB", 1, 2, 0, 3, bytes(range(16)), 6, 0, 0)
    board = struct.pack("<BBBB", 1, 2, 0, 3)
    case = struct.pack("<BBBBB", 1, chassis, 0, 2, 0)
    memory = struct.pack(
        "<HHHHHBBBBBHHBBBB", 0x1000, 0xFFFE, 64, 64, memory_mib, 0x0D, 0, 1, 0, 0x1A, 0x80, 3200, 2, 0, 0, 3
    )
    return b"".join(
        (
            smbios_structure(0, 0, bios, maker, firmware, date),
            smbios_structure(1, 1, system, maker, product, serial),
            smbios_structure(2, 2, board, maker, product, serial),
            smbios_structure(3, 3, case, maker, serial),
            smbios_structure(17, 4, memory, "SLOT 0", "Quarry", "QM-16"),
            smbios_structure(127, 5, b""),
        )
    )


def smbios_entry_point(length: int) -> bytes:
    """64-bit entry point (5.2.2) for a table of that length."""
    raw = bytearray(struct.pack("<5sBBBBBBBIQ", b"_SM3_", 0, 24, 3, 7, 0, 1, 0, length, 0x1000))
    raw[5] = -sum(raw) & 0xFF
    return bytes(raw)
