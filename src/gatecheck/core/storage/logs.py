"""Bytes of a drive's log -> typed entries, or one located DecodeError. An unknown code stays its number."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.fields import Field, Value, clean_text, read_fields
from gatecheck.core.storage import log_layout as at
from gatecheck.core.storage.layout import SECTOR, SELF_TEST_RESULTS
from gatecheck.core.storage.read import Checksum, checksum_of, is_blank

MOST_ENTRIES = 400
"""newest entries of one log that are decoded: what is older says nothing more, and a hostile page may claim a quarter
of a million"""
_MOST_NVME_ERRORS = 256
"""Error Log Page Entries has 8 bits and counts from 0 (NVMe 1.4, figure 247)"""
_MOST_STATISTICS_PAGES = 256
PASSED, READ_FAILURE, OTHER_FAILURE, NOT_DONE = "passed", "read-failure", "other-failure", "not-done"


@dataclass(frozen=True, slots=True)
class LoggedError:
    """One error as the drive wrote it. `hours`: its power-on time then (16 bits on ATA: it wraps after 65,535);
    `causes`: bits of the error register, or the status code; `command`: what was being done; `at`: byte in the page."""

    hours: int | None
    lba: int | None
    causes: tuple[str, ...]
    command: str
    state: str
    at: int

    @property
    def is_media(self) -> bool:
        return any(c in ("uncorrectable data", "address not found") or c.startswith("media:") for c in self.causes)

    @property
    def is_link(self) -> bool:
        return "interface CRC" in self.causes


@dataclass(frozen=True, slots=True)
class ErrorLog:
    """`count`: errors over the drive's life; the log keeps the newest few, newest first."""

    count: int
    errors: tuple[LoggedError, ...]
    checksum: Checksum | None


@dataclass(frozen=True, slots=True)
class SelfTestEntry:
    """One self-test. `result`: in words; `outcome`: passed, read-failure, other-failure, not-done; `left`: percent not
    run."""

    kind: str
    result: str
    outcome: str
    left: int
    hours: int
    lba: int | None
    at: int


@dataclass(frozen=True, slots=True)
class SelfTestLog:
    """Newest first. `running`: percent done of a test under way, or None."""

    tests: tuple[SelfTestEntry, ...]
    running: int | None
    checksum: Checksum | None


@dataclass(frozen=True, slots=True)
class Statistic:
    """One value of the device statistics. `alarmed`: the drive says that its monitored condition is met."""

    page: int
    name: str
    value: int
    unit: str
    alarmed: bool
    at: int


@dataclass(frozen=True, slots=True)
class Statistics:
    values: tuple[Statistic, ...]

    def get(self, name: str) -> int | None:
        return next((s.value for s in self.values if s.name == name), None)


@dataclass(frozen=True, slots=True)
class LogDirectory:
    """Address -> number of 512-byte pages of the logs there are."""

    pages: dict[int, int]

    @property
    def names(self) -> dict[int, str]:
        return {address: at.LOG_NAMES.get(address, f"log {address:02X}h") for address in self.pages}


@dataclass(frozen=True, slots=True)
class FirmwareSlots:
    active: int
    next: int
    slots: dict[int, str]


def read_log_directory(page: bytes) -> LogDirectory:
    """SMART or general purpose log 00h, 512 bytes. Raises DecodeError if short, blank or of another version. ACS-4,
    9.2."""
    what = "log directory"
    _page(page, what)
    version = int.from_bytes(page[:2], "little")
    if version != 1:
        raise DecodeError(f"{what} version", at=0, expected=1, got=version)
    pages = {address: int.from_bytes(page[2 * address : 2 * address + 2], "little") for address in range(1, 256)}
    return LogDirectory({address: count for address, count in pages.items() if count})


def read_summary_errors(page: bytes) -> ErrorLog:
    """SMART log 01h, 512 bytes: the newest five errors. Raises DecodeError if short, blank or with an index out of
    range. ACS-2, A.22."""
    return _ata_errors(
        page,
        "summary error log",
        at.SUMMARY_HEAD,
        at.SUMMARY_COMMAND,
        at.SUMMARY_ERROR,
        start=at.SUMMARY_ERRORS_AT,
        size=at.SUMMARY_ERROR_SIZE,
        command_size=at.SUMMARY_COMMAND_SIZE,
        per_page=at.SUMMARY_ERRORS,
    )


def read_comprehensive_errors(page: bytes) -> ErrorLog:
    """SMART log 02h, up to 51 sectors of 512 bytes with five errors each, one ring over all of them. Raises DecodeError
    as above. ACS-2, A.4."""
    return _ata_errors(
        page[: at.COMPREHENSIVE_SECTORS * SECTOR],
        "comprehensive error log",
        at.SUMMARY_HEAD,
        at.SUMMARY_COMMAND,
        at.SUMMARY_ERROR,
        start=at.SUMMARY_ERRORS_AT,
        size=at.SUMMARY_ERROR_SIZE,
        command_size=at.SUMMARY_COMMAND_SIZE,
        per_page=at.SUMMARY_ERRORS,
    )


def read_extended_errors(page: bytes) -> ErrorLog:
    """General purpose log 03h, one or more pages of 512 bytes with four errors each. Raises DecodeError as above.
    ACS-4, 9.7."""
    return _ata_errors(
        page,
        "extended error log",
        at.EXTENDED_HEAD,
        at.EXTENDED_COMMAND,
        at.EXTENDED_ERROR,
        start=at.EXTENDED_ERRORS_AT,
        size=at.EXTENDED_ERROR_SIZE,
        command_size=at.EXTENDED_COMMAND_SIZE,
        per_page=at.EXTENDED_ERRORS,
    )


def _ata_errors(
    page: bytes,
    what: str,
    head: Sequence[Field],
    command: Sequence[Field],
    error: Sequence[Field],
    *,
    start: int,
    size: int,
    command_size: int,
    per_page: int,
) -> ErrorLog:
    """Both ATA error logs are one ring of structures over all pages; the index counts from 1, 0 means empty."""
    _page(page, what)
    fields = read_fields(head, page, what, size=SECTOR)
    slots = len(page) // SECTOR * per_page
    index, count = _int(fields, "index"), _int(fields, "device_error_count")
    if index > slots:
        raise DecodeError(f"{what} index", at=1, expected=f"0 to {slots}", got=index)
    errors: list[LoggedError] = []
    for step in range(slots if index else 0):
        if len(errors) >= MOST_ENTRIES:
            break
        slot = (index - 1 - step) % slots
        place = slot // per_page * SECTOR + start + slot % per_page * size
        if is_blank(page[place : place + size]):
            continue
        errors.append(_ata_error(page[place : place + size], place, what, command, error, command_size))
    return ErrorLog(count, tuple(errors), checksum_of(page))


def _ata_error(
    raw: bytes, place: int, what: str, command: Sequence[Field], error: Sequence[Field], command_size: int
) -> LoggedError:
    tail = at.COMMANDS_PER_ERROR * command_size
    last = read_fields(command, raw[tail - command_size : tail], what, size=command_size)
    own = read_fields(error, raw[tail:], what, size=len(raw) - tail)
    register = _int(own, "error")
    code = _int(last, "command")
    causes = tuple(name for bit, name in at.ERROR_BITS.items() if register >> bit & 1)
    state = _int(own, "state") & 0xF
    return LoggedError(
        _int(own, "lifetime_hours"),
        _lba(own),
        causes or (f"error {register:02X}h",),
        at.COMMANDS.get(code, f"command {code:02X}h"),
        at.ERROR_STATES.get(state, f"state {state:X}h"),
        place + tail,
    )


def _lba(fields: dict[str, Value]) -> int:
    if "lba" in fields:
        # 28-bit: the top four bits stand in the device register
        return _int(fields, "lba") | (_int(fields, "device") & 0xF) << 24
    parts = fields["lba_parts"]
    assert isinstance(parts, bytes)
    return int.from_bytes(bytes(parts[place] for place in at.LBA_ORDER), "little")


def read_self_tests(page: bytes) -> SelfTestLog:
    """SMART log 06h, 512 bytes: the newest 21 self-tests. Raises DecodeError if short, blank or with an index out of
    range. ACS-2, A.20."""
    return _ata_tests(
        page,
        "self-test log",
        at.SELF_TEST_HEAD,
        at.SELF_TEST,
        at.SELF_TEST_AT,
        at.SELF_TEST_SIZE,
        at.SELF_TESTS,
        0xFFFFFFFF,
    )


def read_extended_self_tests(page: bytes) -> SelfTestLog:
    """General purpose log 07h, pages of 512 bytes with 19 self-tests each. Raises DecodeError as above. ACS-4, 9.9."""
    return _ata_tests(
        page,
        "extended self-test log",
        at.EXTENDED_SELF_TEST_HEAD,
        at.EXTENDED_SELF_TEST,
        at.EXTENDED_SELF_TEST_AT,
        at.EXTENDED_SELF_TEST_SIZE,
        at.EXTENDED_SELF_TESTS,
        0xFFFFFFFFFFFF,
    )


def _ata_tests(
    page: bytes,
    what: str,
    head: Sequence[Field],
    layout: Sequence[Field],
    start: int,
    size: int,
    per_page: int,
    no_lba: int,
) -> SelfTestLog:
    _page(page, what)
    slots = len(page) // SECTOR * per_page
    index = _int(read_fields(head, page, what, size=SECTOR), "index")
    if index > slots:
        raise DecodeError(
            f"{what} index", at=508 if per_page == at.SELF_TESTS else 2, expected=f"0 to {slots}", got=index
        )
    tests: list[SelfTestEntry] = []
    running = None
    for step in range(slots if index else 0):
        if len(tests) >= MOST_ENTRIES:
            break
        slot = (index - 1 - step) % slots
        place = slot // per_page * SECTOR + start + slot % per_page * size
        raw = page[place : place + size]
        if is_blank(raw):
            continue
        own = read_fields(layout, raw, what, size=size)
        status, lba = _int(own, "status"), _int(own, "lba")
        outcome = _ata_outcome(status >> 4)
        if status >> 4 == 0xF:
            running = 100 - min(10, status & 0xF) * 10
        result = SELF_TEST_RESULTS.get(status >> 4, f"code {status >> 4}")
        failed = outcome in (READ_FAILURE, OTHER_FAILURE)
        kind = _int(own, "kind")
        tests.append(
            SelfTestEntry(
                at.SELF_TEST_KINDS.get(kind, f"kind {kind:02X}h"),
                result,
                outcome,
                min(10, status & 0xF) * 10,
                _int(own, "lifetime_hours"),
                lba if failed and lba not in (0, no_lba) else None,
                place,
            )
        )
    return SelfTestLog(tuple(tests), running, checksum_of(page))


def _ata_outcome(code: int) -> str:
    if code == 0:
        return PASSED
    if code == 7:
        return READ_FAILURE
    return OTHER_FAILURE if code in (3, 4, 5, 6, 8) else NOT_DONE


def read_statistics(page: bytes) -> Statistics:
    """General purpose log 04h: any run of its 512-byte pages, each with its number in byte 2. Raises DecodeError if
    short or where a page's number is none that the standard has. ACS-4, 9.5."""
    what = "device statistics"
    _page(page, what)
    values = []
    for start in range(0, min(len(page) // SECTOR, _MOST_STATISTICS_PAGES) * SECTOR, SECTOR):
        own = page[start : start + SECTOR]
        number = own[2]
        if is_blank(own):
            continue
        if number not in at.STATISTIC_PAGES and number != 0xFF:
            raise DecodeError(f"{what} page number", at=start + 2, expected="0 to 7 or FFh", got=f"{number:02X}h")
        for offset, size, name, unit in at.STATISTICS.get(number, ()):
            flags = own[offset + at.STATISTIC_FLAGS]
            if flags & (at.SUPPORTED | at.VALID) == at.SUPPORTED | at.VALID:
                value = int.from_bytes(own[offset : offset + size], "little", signed=unit == "degC")
                values.append(Statistic(number, name, value, unit, bool(flags & at.CONDITION_MET), start + offset))
    return Statistics(tuple(values))


def read_nvme_errors(page: bytes) -> ErrorLog:
    """Error information log (01h), entries of 64 bytes, newest first; all zeros is an empty log. Raises DecodeError
    where it holds not even one entry. NVM Express 1.4, figure 193."""
    what = "NVMe error log"
    if len(page) < at.NVME_ERROR_SIZE:
        raise DecodeError(what, at=len(page), expected=f"at least {at.NVME_ERROR_SIZE} bytes", got=f"{len(page)} bytes")
    errors, most = [], 0
    for place in range(
        0, min(len(page) // at.NVME_ERROR_SIZE, _MOST_NVME_ERRORS) * at.NVME_ERROR_SIZE, at.NVME_ERROR_SIZE
    ):
        own = read_fields(at.NVME_ERROR, page[place : place + at.NVME_ERROR_SIZE], what, size=at.NVME_ERROR_SIZE)
        if not _int(own, "error_count"):
            continue
        most = max(most, _int(own, "error_count"))
        status = _int(own, "status") >> 1  # bit 0 is the phase tag
        code, kind = status & 0xFF, status >> 8 & 7
        media = kind == 2
        name = at.NVME_MEDIA_STATUS.get(code, f"status {code:02X}h") if media else f"status {code:02X}h"
        lba = _int(own, "lba")
        errors.append(
            LoggedError(
                None,
                lba if media else None,
                (f"{at.NVME_STATUS_TYPES.get(kind, f'type {kind}')}: {name}",),
                "admin command" if _int(own, "queue") == 0 else "input or output",
                "",
                place,
            )
        )
    return ErrorLog(most, tuple(errors), None)


def read_firmware_slots(page: bytes) -> FirmwareSlots:
    """Firmware slot log (03h), 512 bytes. Raises DecodeError if short or blank. NVM Express 1.4, figure 196."""
    what = "NVMe firmware slot log"
    _page(page, what)
    active = page[0]
    slots = {n: clean_text(page[8 * n : 8 * n + 8]) for n in range(1, at.NVME_FIRMWARE_SLOTS + 1)}
    return FirmwareSlots(active & 7, active >> 4 & 7, {n: text for n, text in slots.items() if text})


def read_nvme_self_tests(page: bytes) -> SelfTestLog:
    """Device self-test log (06h), 564 bytes. Raises DecodeError if short. NVM Express 1.4, figures 198 and 199."""
    what = "NVMe self-test log"
    head = read_fields(at.NVME_SELF_TEST_HEAD, page, what, size=at.NVME_SELF_TEST_LOG)
    tests = []
    for number in range(at.NVME_SELF_TESTS):
        place = at.NVME_SELF_TEST_AT + number * at.NVME_SELF_TEST_SIZE
        own = read_fields(
            at.NVME_SELF_TEST, page[place : place + at.NVME_SELF_TEST_SIZE], what, size=at.NVME_SELF_TEST_SIZE
        )
        kind, code, valid = _int(own, "status") >> 4, _int(own, "status") & 0xF, _int(own, "valid")
        if code == 0xF or not kind:
            continue
        media = bool(valid & 0x4) and _int(own, "status_type") == 2
        outcome = (
            PASSED
            if code == 0
            else READ_FAILURE
            if code in (6, 7) and (media or valid & 2)
            else OTHER_FAILURE
            if code in (5, 6, 7)
            else NOT_DONE
        )
        tests.append(
            SelfTestEntry(
                at.NVME_SELF_TEST_KINDS.get(kind, f"kind {kind:X}h"),
                at.NVME_SELF_TEST_RESULTS.get(code, f"code {code}"),
                outcome,
                0,
                _int(own, "power_on_hours"),
                _int(own, "lba") if valid & 2 else None,
                place,
            )
        )
    running = _int(head, "completion") & 0x7F if _int(head, "running") & 0xF else None
    return SelfTestLog(tuple(tests), running, None)


def _page(page: bytes, what: str) -> None:
    if len(page) < SECTOR:
        raise DecodeError(what, at=len(page), expected=f"{SECTOR} bytes", got=f"{len(page)} bytes")
    if is_blank(page):
        raise DecodeError(what, at=0, expected="a page", got="zeros only")


def _int(fields: dict[str, Value], name: str) -> int:
    value = fields[name]
    assert isinstance(value, int)
    return value
