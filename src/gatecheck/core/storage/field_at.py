"""Which field of a page stands at a byte: its name and its extent, from the same layouts that the readers use."""

from __future__ import annotations

from collections.abc import Sequence

from gatecheck.core.fields import Field
from gatecheck.core.storage import layout as at
from gatecheck.core.storage import log_layout as log

# kind -> (where its entries begin, size of one, what one is called)
_ENTRIES = {
    "smart-data": (at.SMART_FIRST_ENTRY, at.SMART_ENTRY_SIZE, at.SMART_ENTRY_COUNT, "attribute"),
    "smart-thresholds": (at.SMART_FIRST_ENTRY, at.SMART_ENTRY_SIZE, at.SMART_ENTRY_COUNT, "threshold"),
    "ata-errors": (log.SUMMARY_ERRORS_AT, log.SUMMARY_ERROR_SIZE, log.SUMMARY_ERRORS, "error"),
    "ata-self-tests": (log.SELF_TEST_AT, log.SELF_TEST_SIZE, log.SELF_TESTS, "self-test"),
    "nvme-self-tests": (log.NVME_SELF_TEST_AT, log.NVME_SELF_TEST_SIZE, log.NVME_SELF_TESTS, "self-test"),
    "nvme-errors": (0, log.NVME_ERROR_SIZE, 1 << 10, "error"),
}
# the same, page of 512 bytes by page
_PAGED = {
    "ata-errors-ext": (log.EXTENDED_ERRORS_AT, log.EXTENDED_ERROR_SIZE, log.EXTENDED_ERRORS, "error"),
    "ata-self-tests-ext": (log.EXTENDED_SELF_TEST_AT, log.EXTENDED_SELF_TEST_SIZE, log.EXTENDED_SELF_TESTS, "self-test"),
    "device-statistics": (8, log.STATISTIC_SIZE, 63, "statistic"),
}
_FIELDS: dict[str, Sequence[Field]] = {
    "ata-identify": at.ATA_IDENTIFY, "smart-data": at.SMART_TAIL, "nvme-controller": at.NVME_CONTROLLER, "nvme-namespace": at.NVME_NAMESPACE,
    "nvme-health": at.NVME_HEALTH,
}  # fmt: skip


def field_at(kind: str, byte: int) -> tuple[str, int, int] | None:
    """(name, first byte, size) of what stands there; None where the layouts name nothing."""
    base = byte // at.SECTOR * at.SECTOR if kind in _PAGED else 0
    start, size, count, name = _PAGED.get(kind) or _ENTRIES.get(kind) or (0, 0, 0, "")
    if size and start <= byte - base < start + size * count:
        number = (byte - base - start) // size
        return f"{name} {number + 1}", base + start + number * size, size
    for field in _FIELDS.get(kind, ()):
        if field.at <= byte < field.at + field.size:
            return field.name.replace("_", " "), field.at, field.size
    return None
