"""Values -> page bytes: the readers' mirror, for practice drives and round-trip tests."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from gatecheck.core.fields import Value, write_fields
from gatecheck.core.storage import layout as at


@dataclass(frozen=True, slots=True)
class SmartAttribute:
    """One SMART attribute to be written. `threshold` goes into the thresholds page."""

    id: int
    raw: int
    now: int = 100
    worst: int = 100
    threshold: int = 0
    prefailure: bool = False


def with_checksum(page: bytearray) -> bytes:
    """Set the last byte so that all 512 add up to a multiple of 256."""
    page[at.SECTOR - 1] = -sum(page[: at.SECTOR - 1]) & 0xFF
    return bytes(page)


def ata_identify(
    *, model: str, serial: str, firmware: str = "F1", sectors: int, rotation: int = 5400, smart: bool = True
) -> bytes:
    """IDENTIFY DEVICE with 48-bit addressing, 512-byte sectors and the given rotation (0: flash); with `smart`: error
    log, self-tests and general purpose logs too."""
    values: dict[str, Value] = {
        "general_configuration": 0x0040,
        "model": model,
        "serial": serial,
        "firmware": firmware,
        "sectors_28bit": min(sectors, 0x0FFFFFFF),
        "sectors_48bit": sectors,
        "command_set_1": int(smart),
        "command_set_2": 0x7400,
        "command_set_ext": 0x4023 if smart else 0x4000,
        "enabled_1": int(smart),
        "sector_size_word": 0x4000,
        "form_factor": 3,
        "rotation_rate": rotation or 1,
        "integrity_signature": 0xA5,
    }
    return with_checksum(write_fields(at.ATA_IDENTIFY, values, size=at.SECTOR))


def smart_data(
    attributes: Sequence[SmartAttribute],
    *,
    self_test_status: int = 0,
    long_minutes: int = 110,
    conveyance_minutes: int = 0,
) -> bytes:
    """SMART READ DATA with these attributes."""
    page = write_fields(
        at.SMART_TAIL,
        {
            "self_test_status": self_test_status,
            "short_test_minutes": 2,
            "long_test_minutes": long_minutes,
            "offline_capability": 0x20 if conveyance_minutes else 0,
            "conveyance_test_minutes": conveyance_minutes,
            "smart_capability": 3,
            "error_logging": 1,
        },
        size=at.SECTOR,
    )
    page[0] = 0x10
    for index, attribute in enumerate(attributes):
        start = at.SMART_FIRST_ENTRY + index * at.SMART_ENTRY_SIZE
        entry: Mapping[str, Value] = {
            "id": attribute.id,
            "flags": 0x02 | int(attribute.prefailure),
            "now": attribute.now,
            "worst": attribute.worst,
            "raw": attribute.raw,
        }
        page[start : start + at.SMART_ENTRY_SIZE] = write_fields(at.SMART_ENTRY, dict(entry), size=at.SMART_ENTRY_SIZE)
    return with_checksum(page)


def smart_thresholds(attributes: Sequence[SmartAttribute]) -> bytes:
    """SMART READ THRESHOLDS for the same attributes."""
    page = bytearray(at.SECTOR)
    page[0] = 0x10
    for index, attribute in enumerate(attributes):
        start = at.SMART_FIRST_ENTRY + index * at.SMART_ENTRY_SIZE
        page[start], page[start + 1] = attribute.id, attribute.threshold
    return with_checksum(page)


def smart_status(*, exceeded: bool) -> bytes:
    """Sense data with an ATA status return descriptor (SAT-4, 12.2.2.7)."""
    middle, high = (0xF4, 0x2C) if exceeded else (0x4F, 0xC2)
    descriptor = bytes([at.ATA_STATUS_DESCRIPTOR, 12, 0, 0, 0, 0, 0, 0, 0, middle, 0, high, 0, 0x50])
    return bytes([0x72, 1, 0, 0x1D, 0, 0, 0, 14]) + descriptor


def nvme_controller(*, model: str, serial: str, firmware: str = "F1", capacity: int) -> bytes:
    """Identify Controller of a version 1.4 drive with one namespace."""
    values: dict[str, Value] = {
        "pci_vendor": 0x1DE5,
        "serial": serial,
        "model": model,
        "firmware": firmware,
        "version": 0x00010400,
        "admin_commands": 0x0010,
        "capacity_bytes": capacity,
        "namespaces": 1,
        "warning_temperature": 343,
        "critical_temperature": 358,
        "long_test_minutes": 42,
    }
    page = write_fields(at.NVME_CONTROLLER, values, size=at.NVME_PAGE)
    page[512] = 0x66
    return bytes(page)


def nvme_health(**values: int) -> bytes:
    """Health log; names and units as in the layout, the temperature in kelvin."""
    return bytes(write_fields(at.NVME_HEALTH, dict(values), size=at.SECTOR))


def nvme_namespace(*, blocks: int, block_size: int = 512) -> bytes:
    """Identify Namespace with one LBA format."""
    values: dict[str, Value] = {"size_blocks": blocks, "capacity_blocks": blocks, "used_blocks": blocks // 2}
    page = write_fields(at.NVME_NAMESPACE, values, size=at.NVME_PAGE)
    page[130] = block_size.bit_length() - 1
    return bytes(page)


def nvme_namespaces(numbers: Sequence[int]) -> bytes:
    """Active Namespace ID list."""
    return b"".join(n.to_bytes(4, "little") for n in numbers).ljust(at.NVME_PAGE, b"\0")
