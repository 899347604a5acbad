"""Headers of crash dumps: the stop code, its parameters, and when."""

from __future__ import annotations

import struct
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.records.moments import of_filetime

NAMES = {
    0x0A: "IRQL_NOT_LESS_OR_EQUAL", 0x1A: "MEMORY_MANAGEMENT", 0x1E: "KMODE_EXCEPTION_NOT_HANDLED",
    0x24: "NTFS_FILE_SYSTEM", 0x3B: "SYSTEM_SERVICE_EXCEPTION", 0x50: "PAGE_FAULT_IN_NONPAGED_AREA",
    0x77: "KERNEL_STACK_INPAGE_ERROR", 0x7A: "KERNEL_DATA_INPAGE_ERROR", 0x7B: "INACCESSIBLE_BOOT_DEVICE",
    0x7E: "SYSTEM_THREAD_EXCEPTION_NOT_HANDLED", 0x7F: "UNEXPECTED_KERNEL_MODE_TRAP",
    0x9C: "MACHINE_CHECK_EXCEPTION", 0x9F: "DRIVER_POWER_STATE_FAILURE", 0xC4: "DRIVER_VERIFIER_DETECTED_VIOLATION",
    0xC2: "BAD_POOL_CALLER", 0xD1: "DRIVER_IRQL_NOT_LESS_OR_EQUAL", 0xED: "UNMOUNTABLE_BOOT_VOLUME",
    0xEF: "CRITICAL_PROCESS_DIED", 0xF4: "CRITICAL_OBJECT_TERMINATION", 0x116: "VIDEO_TDR_FAILURE",
    0x124: "WHEA_UNCORRECTABLE_ERROR", 0x133: "DPC_WATCHDOG_VIOLATION", 0x139: "KERNEL_SECURITY_CHECK_FAILURE",
    0x154: "UNEXPECTED_STORE_EXCEPTION", 0xC000021A: "STATUS_SYSTEM_PROCESS_TERMINATED",
    0xC0000098: "STATUS_FILE_INVALID",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Crash:
    """`name`: of the stop code, None where it is not known here."""

    at: float | None
    code: int
    name: str | None
    driver: str | None = None


def read_dump(head: bytes) -> Crash:
    """Of the first 8192 bytes of a dump. Raises DecodeError."""
    if head[:8] == b"PAGEDU64" and len(head) >= 0xFB0:
        code, at = struct.unpack_from("<I", head, 0x38)[0], struct.unpack_from("<Q", head, 0xFA8)[0]
    elif head[:8] == b"PAGEDUMP" and len(head) >= 0xFC8:
        code, at = struct.unpack_from("<I", head, 0x28)[0], struct.unpack_from("<Q", head, 0xFC0)[0]
    else:
        raise DecodeError("crash dump", at=0, expected="PAGEDU64 or PAGEDUMP", got=head[:8].hex() or "nothing")
    return Crash(of_filetime(at), code, NAMES.get(code))
