"""UEFI variables as a kernel exposes them: four bytes of attributes, then the data (UEFI 2.10, 8.2 and 3.3)."""

from __future__ import annotations

import re
import struct
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.firmware.device_path import DevicePath, read_device_path

GLOBAL = "8be4df61-93ca-11d2-aa0d-00e098032b8c"
_NAME = re.compile(r"(?P<name>.+)-(?P<guid>[0-9a-fA-F]{8}(?:-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12})$")
_NUMBERED = re.compile(r"(Boot|Driver|SysPrep|PlatformRecovery)[0-9A-F]{4}$")
ACTIVE, HIDDEN = 0x1, 0x8
# OsIndications (8.5.4)
OS_INDICATIONS = {
    0x01: "boot to firmware setup",
    0x02: "timestamp revocation",
    0x04: "capsule from file",
    0x08: "firmware management",
    0x10: "capsule result variable",
    0x20: "start OS recovery",
    0x40: "start platform recovery",
    0x80: "configuration data refresh",
}

Value = int | str | bytes | list[int] | list[str] | DevicePath


@dataclass(frozen=True, slots=True)
class LoadOption:
    """A boot entry (3.1.3). `optional` are the bytes behind the paths, handed to what is started."""

    attributes: int
    description: str
    path: DevicePath
    optional: bytes

    @property
    def is_active(self) -> bool:
        return bool(self.attributes & ACTIVE)


@dataclass(frozen=True, slots=True)
class Variable:
    """One variable with its decoded value; `value` is the bytes themselves where its meaning is not known."""

    name: str
    guid: str
    attributes: int
    data: bytes
    value: Value | LoadOption


def split_name(file_name: str) -> tuple[str, str]:
    """`Name-GUID` -> name and GUID in lower case. Raises DecodeError where it is no such name."""
    found = _NAME.match(file_name)
    if not found:
        raise DecodeError(f"variable name {file_name!r}", at=0, expected="Name-GUID", got=file_name[:60])
    return found["name"], found["guid"].lower()


def read_variable(file_name: str, raw: bytes) -> Variable:
    """Decode one variable. Raises DecodeError where it is shorter or other than its kind asks for."""
    name, guid = split_name(file_name)
    if len(raw) < 4:
        raise DecodeError(f"variable {name}", at=0, expected="4 bytes of attributes", got=f"{len(raw)} bytes")
    (attributes,) = struct.unpack_from("<I", raw)
    data = raw[4:]
    is_known = guid == GLOBAL and len(data) <= _LARGEST_VALUE
    return Variable(name, guid, attributes, data, _value(name, data) if is_known else data)


_LARGEST_VALUE = 1 << 16
"""bytes up to which a value is decoded; firmware keeps none that is larger (EDK II allows 64 KiB), and such a one
stands for itself"""


def _value(name: str, data: bytes) -> Value | LoadOption:
    if _NUMBERED.match(name):
        return read_load_option(data, 4)
    if name in ("BootOrder", "DriverOrder", "SysPrepOrder"):
        if len(data) % 2:
            raise DecodeError(name, at=4, expected="an even number of bytes", got=f"{len(data)} bytes")
        return list(struct.unpack(f"<{len(data) // 2}H", data))
    for names, form in _NUMBERS:
        if name in names:
            if len(data) != struct.calcsize(form):
                raise DecodeError(name, at=4, expected=f"{struct.calcsize(form)} bytes", got=f"{len(data)} bytes")
            number: int = struct.unpack(form, data)[0]
            return number
    if name in ("ConIn", "ConOut", "ErrOut", "ConInDev", "ConOutDev", "ErrOutDev"):
        return read_device_path(data, 4)
    if name in ("PlatformLang", "PlatformLangCodes", "Lang", "LangCodes"):
        return data.split(b"\0")[0].decode("ascii", "replace")
    return data


_NUMBERS: tuple[tuple[tuple[str, ...], str], ...] = (
    (("BootCurrent", "BootNext", "Timeout"), "<H"),
    (("SecureBoot", "SetupMode", "AuditMode", "DeployedMode", "VendorKeys"), "<B"),
    (("OsIndications", "OsIndicationsSupported"), "<Q"),
    (("BootOptionSupport",), "<I"),
)


def read_load_option(data: bytes, at: int = 0) -> LoadOption:
    """EFI_LOAD_OPTION: attributes, length of the paths, description in UTF-16, paths, optional data.

    `at` is where `data` stands in its page, for messages. Raises DecodeError.
    """
    if len(data) < 6:
        raise DecodeError("load option", at=at, expected="at least 6 bytes", got=f"{len(data)} bytes")
    attributes, length = struct.unpack_from("<IH", data)
    end = next((i for i in range(6, len(data) - 1, 2) if data[i : i + 2] == b"\0\0"), None)
    if end is None:
        raise DecodeError("load option description", at=at + 6, expected="text that ends in a zero", got="no end")
    paths = end + 2
    if paths + length > len(data):
        raise DecodeError(
            "load option paths", at=at + 4, expected=f"up to {len(data) - paths} bytes", got=f"{length} bytes"
        )
    path = read_device_path(data[paths : paths + length], at + paths)
    return LoadOption(attributes, data[6:end].decode("utf-16-le", "replace"), path, data[paths + length :])


def indications(value: int) -> list[str]:
    """What the bits of OsIndications ask for."""
    return [text for bit, text in OS_INDICATIONS.items() if value & bit]
