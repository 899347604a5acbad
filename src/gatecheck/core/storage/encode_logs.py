"""Values -> bytes of the drives' logs: the readers' mirror, for practice drives and round-trip tests."""

from __future__ import annotations

import struct
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from gatecheck.core.fields import Field, Value, write_fields
from gatecheck.core.storage import log_layout as at
from gatecheck.core.storage.encode import with_checksum
from gatecheck.core.storage.layout import SECTOR


@dataclass(frozen=True, slots=True)
class AtaError:
    """An error to be written. `error`: the error register's bits."""

    hours: int
    lba: int
    error: int = 0x40
    command: int = 0x25
    state: int = 3


@dataclass(frozen=True, slots=True)
class AtaTest:
    """A self-test to be written. `kind`: 1 short, 2 long; `result`: the high nibble of its status."""

    hours: int
    kind: int = 1
    result: int = 0
    left: int = 0
    lba: int | None = None


def log_directory(pages: Mapping[int, int]) -> bytes:
    """Log 00h with these addresses."""
    raw = bytearray(SECTOR)
    raw[0] = 1
    for address, count in pages.items():
        struct.pack_into("<H", raw, 2 * address, count)
    return bytes(raw)


def summary_errors(errors: Sequence[AtaError], *, count: int | None = None) -> bytes:
    """SMART log 01h; errors oldest first, the newest five are kept."""
    return _errors(
        errors,
        count,
        1,
        at.SUMMARY_HEAD,
        at.SUMMARY_COMMAND,
        at.SUMMARY_ERROR,
        at.SUMMARY_ERRORS_AT,
        at.SUMMARY_ERROR_SIZE,
        at.SUMMARY_COMMAND_SIZE,
        at.SUMMARY_ERRORS,
    )


def comprehensive_errors(errors: Sequence[AtaError], *, count: int | None = None, pages: int = 1) -> bytes:
    """SMART log 02h: the summary's structures, five in each of its sectors."""
    return _errors(
        errors,
        count,
        pages,
        at.SUMMARY_HEAD,
        at.SUMMARY_COMMAND,
        at.SUMMARY_ERROR,
        at.SUMMARY_ERRORS_AT,
        at.SUMMARY_ERROR_SIZE,
        at.SUMMARY_COMMAND_SIZE,
        at.SUMMARY_ERRORS,
    )


def extended_errors(errors: Sequence[AtaError], *, count: int | None = None, pages: int = 1) -> bytes:
    """General purpose log 03h."""
    return _errors(
        errors,
        count,
        pages,
        at.EXTENDED_HEAD,
        at.EXTENDED_COMMAND,
        at.EXTENDED_ERROR,
        at.EXTENDED_ERRORS_AT,
        at.EXTENDED_ERROR_SIZE,
        at.EXTENDED_COMMAND_SIZE,
        at.EXTENDED_ERRORS,
    )


def _errors(
    errors: Sequence[AtaError],
    count: int | None,
    pages: int,
    head: Sequence[Field],
    command: Sequence[Field],
    error: Sequence[Field],
    start: int,
    size: int,
    command_size: int,
    per_page: int,
) -> bytes:
    slots = pages * per_page
    raw = bytearray(pages * SECTOR)
    for number, item in enumerate(errors):
        slot = number % slots
        place = slot // per_page * SECTOR + start + slot % per_page * size
        tail = place + at.COMMANDS_PER_ERROR * command_size
        shared: dict[str, Value] = {
            "device": 0x40 | (item.lba >> 24 & 0xF if size == at.SUMMARY_ERROR_SIZE else 0),
            **_lba(item.lba, size),
        }
        raw[tail - command_size : tail] = write_fields(
            command, {**shared, "command": item.command, "timestamp": 1000}, size=command_size
        )
        own: dict[str, Value] = {
            **shared,
            "error": item.error,
            "status": 0x51,
            "state": item.state,
            "lifetime_hours": item.hours,
        }
        raw[tail : place + size] = write_fields(error, own, size=place + size - tail)
    total = len(errors) if count is None else count
    values: dict[str, Value] = {
        "version": 1,
        "index": (len(errors) - 1) % slots + 1 if errors else 0,
        "device_error_count": min(total, 0xFFFF),
    }
    for field in head:
        struct.pack_into(field.format, raw, field.at, values[field.name])
    return b"".join(with_checksum(raw[page * SECTOR : (page + 1) * SECTOR]) for page in range(pages))


def _lba(lba: int, size: int) -> dict[str, Value]:
    if size == at.SUMMARY_ERROR_SIZE:
        return {"lba": lba & 0xFFFFFF}
    parts = lba.to_bytes(6, "little")
    stored = bytearray(6)
    for index, place in enumerate(at.LBA_ORDER):
        stored[place] = parts[index]
    return {"lba_parts": bytes(stored)}


def self_tests(tests: Sequence[AtaTest]) -> bytes:
    """SMART log 06h; tests oldest first, the newest 21 are kept."""
    return _tests(tests, at.SELF_TEST_HEAD, at.SELF_TEST, at.SELF_TEST_AT, at.SELF_TEST_SIZE, at.SELF_TESTS, 0xFFFFFFFF)


def extended_self_tests(tests: Sequence[AtaTest]) -> bytes:
    """General purpose log 07h, one page."""
    return _tests(
        tests,
        at.EXTENDED_SELF_TEST_HEAD,
        at.EXTENDED_SELF_TEST,
        at.EXTENDED_SELF_TEST_AT,
        at.EXTENDED_SELF_TEST_SIZE,
        at.EXTENDED_SELF_TESTS,
        0xFFFFFFFFFFFF,
    )


def _tests(
    tests: Sequence[AtaTest],
    head: Sequence[Field],
    layout: Sequence[Field],
    start: int,
    size: int,
    slots: int,
    no_lba: int,
) -> bytes:
    raw = bytearray(SECTOR)
    for number, test in enumerate(tests):
        place = start + number % slots * size
        values: dict[str, Value] = {
            "kind": test.kind,
            "status": test.result << 4 | test.left // 10,
            "lifetime_hours": test.hours,
            "lba": no_lba if test.lba is None else test.lba,
        }
        raw[place : place + size] = write_fields(layout, values, size=size)
    heads: dict[str, int] = {"revision": 1, "index": (len(tests) - 1) % slots + 1 if tests else 0}
    for field in head:
        struct.pack_into(field.format, raw, field.at, heads[field.name])
    return with_checksum(raw)


def statistics(values: Mapping[str, int]) -> bytes:
    """General purpose log 04h: the list page and every page that has one of these values, by the layout's names."""
    pages = {number: bytearray(SECTOR) for number in (0, *at.STATISTICS)}
    used = [0]
    for number, layout in at.STATISTICS.items():
        for offset, size, name, unit in layout:
            if name in values:
                pages[number][offset : offset + size] = values[name].to_bytes(size, "little", signed=unit == "degC")
                pages[number][offset + at.STATISTIC_FLAGS] = at.SUPPORTED | at.VALID
                if number not in used:
                    used.append(number)
    for number in used:
        struct.pack_into("<HB", pages[number], 0, 1, number)
    pages[0][8] = len(used)
    pages[0][9 : 9 + len(used)] = bytes(used)
    return b"".join(bytes(pages[number]) for number in used)


def nvme_errors(errors: Sequence[tuple[int, int, int]], *, entries: int = 4) -> bytes:
    """Error information log; errors newest first as (status code type, status code, LBA)."""
    raw = bytearray(entries * at.NVME_ERROR_SIZE)
    for number, (kind, code, lba) in enumerate(errors[:entries]):
        values: dict[str, Value] = {
            "error_count": len(errors) - number,
            "queue": 1,
            "status": (kind << 8 | code) << 1,
            "lba": lba,
            "namespace": 1,
        }
        raw[number * at.NVME_ERROR_SIZE : (number + 1) * at.NVME_ERROR_SIZE] = write_fields(
            at.NVME_ERROR, values, size=at.NVME_ERROR_SIZE
        )
    return bytes(raw)


def firmware_slots(*slots: str, active: int = 1) -> bytes:
    """Firmware slot log with these revisions in slots 1, 2, …"""
    raw = bytearray(SECTOR)
    raw[0] = active
    for number, text in enumerate(slots, 1):
        raw[8 * number : 8 * number + 8] = text.encode("ascii").ljust(8)[:8]
    return bytes(raw)


def nvme_self_tests(tests: Sequence[tuple[int, int, int, int | None]], *, running: int | None = None) -> bytes:
    """Device self-test log; tests newest first as (kind, result, power-on hours, failing LBA)."""
    raw = bytearray(at.NVME_SELF_TEST_LOG)
    if running is not None:
        raw[0], raw[1] = 1, running
    for number in range(at.NVME_SELF_TESTS):
        place = at.NVME_SELF_TEST_AT + number * at.NVME_SELF_TEST_SIZE
        if number >= len(tests):
            raw[place] = 0x0F
            continue
        kind, result, hours, lba = tests[number]
        values: dict[str, Value] = {
            "status": kind << 4 | result,
            "valid": 0 if lba is None else 0x0F,
            "power_on_hours": hours,
            "namespace": 1,
            "lba": lba or 0,
            "status_type": 0 if lba is None else 2,
            "status_code": 0 if lba is None else 0x81,
        }
        raw[place : place + at.NVME_SELF_TEST_SIZE] = write_fields(
            at.NVME_SELF_TEST, values, size=at.NVME_SELF_TEST_SIZE
        )
    return bytes(raw)
