"""Builders of firmware and disk pages, byte group by byte group."""

from __future__ import annotations

import struct
import zlib

from gatecheck.core.firmware.variables import GLOBAL
from gatecheck.core.guid import guid_bytes

ESP, DATA = "0F2F0A6B-3D5C-4E4B-9A51-1D2C3B4A5968", "7B5E90C1-52A4-4A0E-8A0C-8D1F00A1B2C3"
END = bytes.fromhex("7fff0400")


def node(kind: int, subtype: int, data: bytes = b"") -> bytes:
    return struct.pack("<BBH", kind, subtype, len(data) + 4) + data


def partition(guid: str, number: int = 1) -> bytes:
    return node(4, 1, struct.pack("<IQQ", number, 0x800, 0x32000) + guid_bytes(guid) + bytes([2, 2]))


ROOT = node(2, 1, struct.pack("<II", 0x0A0341D0, 0))
LOADER = node(4, 4, "\\EFI\\net\\loader.efi\0".encode("utf-16-le"))


def load_option(name: str, *nodes: bytes, active: bool = True) -> bytes:
    path = b"".join(nodes) + END
    return struct.pack("<IH", int(active), len(path)) + (name + "\0").encode("utf-16-le") + path


def variable(name: str, data: bytes) -> tuple[str, bytes]:
    return f"efivars/{name}-{GLOBAL}", struct.pack("<I", 7) + data


def disk(*guids: str) -> bytes:
    """The first 34 sectors of a disk with these partitions."""
    entries = b"".join(
        guid_bytes("C12A7328-F81F-11D2-BA4B-00A0C93EC93B") + guid_bytes(g) + struct.pack("<QQQ", 2048, 4095, 0) + "EFI".encode("utf-16-le").ljust(72, b"\0")
        for g in guids
    )
    header = bytearray(struct.pack("<8sIIIIQQQQ16sQIII", b"EFI PART", 0x10000, 92, 0, 0, 1, 8191, 34, 8158, guid_bytes(DATA), 2, 128, 128, zlib.crc32(entries.ljust(128 * 128, b"\0"))))
    header[16:20] = struct.pack("<I", zlib.crc32(header))
    return bytes(512) + bytes(header).ljust(512, b"\0") + entries.ljust(32 * 512, b"\0")
