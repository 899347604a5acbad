"""Bytes of a drive's page -> a typed value, or one located DecodeError.

Readers take bytes, never a path. An unknown code stays its number; a page that a bridge filled with zeros is said to be
empty rather than healthy.
"""

from __future__ import annotations

from dataclasses import dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.fields import Value, read_fields, swap_words
from gatecheck.core.storage import layout as at
from gatecheck.core.storage.readings import Meaning, meaning_of


@dataclass(frozen=True, slots=True)
class Checksum:
    """A two's complement checksum: all 512 bytes add up to a multiple of 256 (ACS-2, 7.52.6)."""

    ok: bool
    total: int


@dataclass(frozen=True, slots=True)
class AtaIdentity:
    model: str
    serial: str
    firmware: str
    wwn: str | None
    sectors: int
    logical_sector: int
    physical_sector: int
    rotation: int | None
    """rpm; 0 for flash; None where the drive does not say"""
    form_factor: str | None
    sata_speed: str | None
    smart_supported: bool
    smart_enabled: bool
    security: tuple[str, ...]
    trim: bool
    checksum: Checksum | None
    transport: str | None = None
    features: tuple[str, ...] = ()

    @property
    def capacity(self) -> int:
        return self.sectors * self.logical_sector


@dataclass(frozen=True, slots=True)
class SmartReading:
    """One attribute. `value` is what `raw` means in `unit`, or None where only the maker knows."""

    id: int
    name: str
    kind: str
    now: int
    worst: int
    threshold: int | None
    raw: int
    value: int | None
    unit: str
    prefailure: bool
    at: int
    lowest: int | None = None
    highest: int | None = None
    """lifetime extremes, where the raw value packs them beside the reading"""

    @property
    def below_now(self) -> bool:
        return bool(self.threshold) and self.now <= (self.threshold or 0)

    @property
    def below_ever(self) -> bool:
        return bool(self.threshold) and self.worst <= (self.threshold or 0)


@dataclass(frozen=True, slots=True)
class SmartData:
    revision: int
    readings: tuple[SmartReading, ...]
    self_test: str
    self_test_left: int
    """share still to run, in percent"""
    short_test_minutes: int
    long_test_minutes: int
    conveyance_test_minutes: int
    """0 where there is no such test"""
    checksum: Checksum

    @property
    def power_on_hours(self) -> int | None:
        return next((r.value for r in self.readings if r.kind == "age"), None)


@dataclass(frozen=True, slots=True)
class SmartThresholds:
    revision: int
    by_id: dict[int, int]
    checksum: Checksum


@dataclass(frozen=True, slots=True)
class SmartStatus:
    """What SMART RETURN STATUS answered: `exceeded` is None where the bridge gave no answer."""

    exceeded: bool | None
    refused: bool
    detail: str


@dataclass(frozen=True, slots=True)
class NvmeController:
    model: str
    serial: str
    firmware: str
    version: str
    capacity: int
    namespaces_limit: int
    """how many it could have; how many there are its list tells"""
    warning_temperature: int | None
    critical_temperature: int | None
    has_self_test: bool
    long_test_minutes: int


@dataclass(frozen=True, slots=True)
class NvmeNamespace:
    blocks: int
    used_blocks: int
    block_size: int

    @property
    def capacity(self) -> int:
        return self.blocks * self.block_size


@dataclass(frozen=True, slots=True)
class NvmeNamespaces:
    """Numbers of the namespaces that are active, rising."""

    numbers: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class NvmeHealth:
    """Temperatures in degrees Celsius, data in bytes, times as the log counts them."""

    warnings: tuple[str, ...]
    temperature: int
    spare: int
    spare_threshold: int
    used: int
    bytes_read: int
    bytes_written: int
    power_cycles: int
    power_on_hours: int
    unsafe_shutdowns: int
    media_errors: int
    error_log_count: int
    busy_minutes: int
    warning_minutes: int
    critical_minutes: int


def checksum_of(page: bytes) -> Checksum:
    """The checksum of a 512-byte structure."""
    total = sum(page[: at.SECTOR]) & 0xFF
    return Checksum(total == 0, total)


def is_blank(page: bytes) -> bool:
    """True for a page of nothing but zeros: what bridges hand out that do not pass the command on."""
    return not any(page)


def _not_blank(page: bytes, what: str) -> None:
    if len(page) >= at.SECTOR and is_blank(page):
        raise DecodeError(what, at=0, expected="a page", got="zeros only")


def _int(fields: dict[str, Value], name: str) -> int:
    value = fields[name]
    assert isinstance(value, int)
    return value


def _text(fields: dict[str, Value], name: str) -> str:
    value = fields[name]
    assert isinstance(value, str)
    return value


def read_ata_identify(page: bytes) -> AtaIdentity:
    """IDENTIFY DEVICE (ECh), 512 bytes. Raises DecodeError if short, blank, or not an ATA device. ACS-4, 7.13."""
    what = "IDENTIFY DEVICE"
    fields = read_fields(at.ATA_IDENTIFY, page, what, size=at.SECTOR)
    _not_blank(page, what)
    if _int(fields, "general_configuration") & 0x8000:
        raise DecodeError(
            f"{what} general configuration", at=0, expected="bit 15 clear (an ATA device)", got="bit 15 set"
        )
    word_106 = _int(fields, "sector_size_word")
    valid_106 = word_106 & 0xC000 == 0x4000
    logical = _int(fields, "logical_sector_words") * 2 if valid_106 and word_106 & 0x1000 else at.SECTOR
    per_physical = 1 << (word_106 & 0xF) if valid_106 and word_106 & 0x2000 else 1
    large = _int(fields, "command_set_2") & 0xC400 == 0x4400
    sectors = _int(fields, "sectors_48bit") if large else _int(fields, "sectors_28bit")
    security = _int(fields, "security_status")
    return AtaIdentity(
        model=_text(fields, "model"),
        serial=_text(fields, "serial"),
        firmware=_text(fields, "firmware"),
        wwn=_wwn(fields),
        sectors=sectors or _int(fields, "sectors_28bit"),
        logical_sector=logical if 512 <= logical <= 65536 else at.SECTOR,
        physical_sector=(logical if 512 <= logical <= 65536 else at.SECTOR) * per_physical,
        rotation=_rotation(_int(fields, "rotation_rate")),
        form_factor=at.FORM_FACTORS.get(_int(fields, "form_factor") & 0xF),
        sata_speed=at.SATA_SPEEDS.get(_int(fields, "sata_negotiated") >> 1 & 7),
        smart_supported=bool(_int(fields, "command_set_1") & 1),
        smart_enabled=bool(_int(fields, "enabled_1") & 1),
        security=tuple(
            name
            for bit, name in enumerate(("supported", "enabled", "locked", "frozen", "expired"))
            if security >> bit & 1
        ),
        trim=bool(_int(fields, "trim_support") & 1),
        checksum=checksum_of(page) if _int(fields, "integrity_signature") == 0xA5 else None,
        transport=_transport(_int(fields, "transport_major")),
        features=tuple(name for word, bit, name in at.FEATURES if _int(fields, word) >> bit & 1),
    )


def _transport(word: int) -> str | None:
    """Word 222 (ACS-4, table 55): bits 15:12 the kind, and the newest version whose bit is set."""
    if word in (0, 0xFFFF):
        return None
    if word >> 12 == 1:
        newest = max((bit for bit in at.SATA_VERSIONS if word >> bit & 1), default=None)
        return "Serial ATA" if newest is None else at.SATA_VERSIONS[newest]
    return "Parallel ATA" if word >> 12 == 0 else f"transport {word >> 12:X}h"


def _wwn(fields: dict[str, Value]) -> str | None:
    raw = fields["wwn_raw"]
    assert isinstance(raw, bytes)
    number = swap_words(raw).hex()
    has_wwn = _int(fields, "command_set_ext") & 0xC100 == 0x4100
    return number if has_wwn and any(raw) else None


def _rotation(code: int) -> int | None:
    """Word 217 (ACS-4, table 55): 1 is non-rotating, 0401h to FFFEh is rpm, the rest says nothing."""
    if code == 1:
        return 0
    return code if 0x0401 <= code <= 0xFFFE else None


def read_smart_data(
    page: bytes, thresholds: SmartThresholds | None = None, *, is_flash: bool | None = None
) -> SmartData:
    """SMART READ DATA (B0h/D0h), 512 bytes; the checksum is verified and reported, a wrong one is not fatal.

    Raises DecodeError if short or blank. SFF-8035i rev. 2.0 for the attributes, ACS-2 table 93 for the rest.
    """
    what = "SMART data"
    tail = read_fields(at.SMART_TAIL, page, what, size=at.SECTOR)
    _not_blank(page, what)
    readings = []
    for index in range(at.SMART_ENTRY_COUNT):
        start = at.SMART_FIRST_ENTRY + index * at.SMART_ENTRY_SIZE
        entry = read_fields(at.SMART_ENTRY, page[start : start + at.SMART_ENTRY_SIZE], what, size=at.SMART_ENTRY_SIZE)
        if entry["id"]:
            readings.append(_reading(entry, start, thresholds, is_flash))
    status = _int(tail, "self_test_status")
    long_minutes = _int(tail, "long_test_minutes")
    return SmartData(
        revision=int.from_bytes(page[:2], "little"),
        readings=tuple(readings),
        self_test=at.SELF_TEST_RESULTS.get(status >> 4, f"code {status >> 4}"),
        self_test_left=(status & 0xF) * 10,
        short_test_minutes=_int(tail, "short_test_minutes"),
        long_test_minutes=_int(tail, "long_test_minutes_word") if long_minutes == 0xFF else long_minutes,
        conveyance_test_minutes=max(_int(tail, "conveyance_test_minutes"), 1)
        if _int(tail, "offline_capability") & 0x20
        else 0,
        checksum=checksum_of(page),
    )


def _reading(
    entry: dict[str, Value], start: int, thresholds: SmartThresholds | None, is_flash: bool | None
) -> SmartReading:
    number, raw = _int(entry, "id"), _int(entry, "raw")
    meaning = meaning_of(number, is_flash=is_flash)
    value, unit = _interpreted(meaning, raw, _int(entry, "now"))
    lowest, highest = _extremes(raw) if meaning.how == "temperature" else (None, None)
    return SmartReading(
        id=number,
        name=meaning.name,
        kind=meaning.kind,
        now=_int(entry, "now"),
        worst=_int(entry, "worst"),
        threshold=thresholds.by_id.get(number) if thresholds else None,
        raw=raw,
        value=value,
        unit=unit,
        prefailure=bool(_int(entry, "flags") & 1),
        at=start,
        lowest=lowest,
        highest=highest,
    )


_HOTTEST = 0x7F


def _extremes(raw: int) -> tuple[int | None, int | None]:
    """Lowest and highest temperature packed above the reading: in two words, or in two bytes. Only where they enclose
    it."""
    now = raw & 0xFF
    for pair in ((raw >> 16 & 0xFFFF, raw >> 32 & 0xFFFF), (raw >> 16 & 0xFF, raw >> 24 & 0xFF)):
        low, high = sorted(pair)
        if 0 < low <= now <= high <= _HOTTEST:
            return low, high
    return None, None


_MOST_PLAUSIBLE_COUNT = 1 << 32
_HOURS_IN_A_CENTURY = 876_600


def _interpreted(meaning: Meaning, raw: int, now: int) -> tuple[int | None, str]:
    """Raw values are read only where it is safe: upper bytes often hold something else."""
    if meaning.how == "count":
        return (raw, "") if raw < _MOST_PLAUSIBLE_COUNT else (None, "")
    if meaning.how == "hours":
        hours = raw & 0xFFFFFFFF
        return (hours, "h") if hours < _HOURS_IN_A_CENTURY else (None, "h")
    if meaning.how == "temperature":
        degrees = raw & 0xFF
        return (degrees if degrees < 0x80 else degrees - 0x100), "degC"
    return (now, "%") if meaning.how == "normalised" else (None, "")


def read_smart_thresholds(page: bytes) -> SmartThresholds:
    """SMART READ THRESHOLDS (B0h/D1h), 512 bytes. Raises DecodeError if short or blank. SFF-8035i rev. 2.0."""
    what = "SMART thresholds"
    read_fields((), page, what, size=at.SECTOR)
    _not_blank(page, what)
    by_id = {}
    for index in range(at.SMART_ENTRY_COUNT):
        start = at.SMART_FIRST_ENTRY + index * at.SMART_ENTRY_SIZE
        entry = read_fields(
            at.SMART_THRESHOLD, page[start : start + at.SMART_ENTRY_SIZE], what, size=at.SMART_ENTRY_SIZE
        )
        if entry["id"]:
            by_id[_int(entry, "id")] = _int(entry, "threshold")
    return SmartThresholds(int.from_bytes(page[:2], "little"), by_id, checksum_of(page))


def read_smart_status(sense: bytes) -> SmartStatus:
    """Sense data of SMART RETURN STATUS through a SCSI layer. Raises DecodeError if it is no sense data.

    SAT-4, 12.2.2.7: LBA mid/high C24Fh = threshold not exceeded, 2CF4h = exceeded. Fixed format carries only a refusal.
    """
    what = "SMART status sense data"
    if len(sense) < 8:
        raise DecodeError(what, at=len(sense), expected="at least 8 bytes", got=f"{len(sense)} bytes")
    code = sense[0] & 0x7F
    if code in at.SENSE_FIXED:
        key = at.SENSE_KEYS.get(sense[2] & 0xF, f"key {sense[2] & 0xF:X}h")
        additional = f"{sense[12]:02X}h/{sense[13]:02X}h" if len(sense) > 13 else "none"
        return SmartStatus(None, True, f"{key}, additional sense {additional}")
    if code not in at.SENSE_DESCRIPTOR:
        raise DecodeError(f"{what} response code", at=0, expected="70h to 73h", got=f"{code:02X}h")
    position, end = 8, min(len(sense), 8 + sense[7])
    while position + 2 <= end:
        kind, length = sense[position], sense[position + 1] + 2
        if kind == at.ATA_STATUS_DESCRIPTOR and position + 14 <= len(sense):
            # descriptor bytes 9 and 11 are LBA bits 15:8 and 23:16
            middle, high = sense[position + 9], sense[position + 11]
            answers = {(0x4F, 0xC2): False, (0xF4, 0x2C): True}
            detail = f"LBA mid/high {middle:02X}h/{high:02X}h"
            return SmartStatus(answers.get((middle, high)), False, detail)
        position += length
    key = at.SENSE_KEYS.get(sense[1] & 0xF, f"key {sense[1] & 0xF:X}h")
    return SmartStatus(None, True, f"{key}, no ATA status in it")


def read_nvme_controller(page: bytes) -> NvmeController:
    """Identify Controller (06h, CNS 01h), 4096 bytes. Raises DecodeError if short or blank. NVMe 1.4, figure 247."""
    what = "Identify Controller"
    fields = read_fields(at.NVME_CONTROLLER, page, what, size=at.NVME_PAGE)
    _not_blank(page, what)
    version = _int(fields, "version")
    return NvmeController(
        model=_text(fields, "model"),
        serial=_text(fields, "serial"),
        firmware=_text(fields, "firmware"),
        version=f"{version >> 16}.{version >> 8 & 0xFF}" + (f".{version & 0xFF}" if version & 0xFF else ""),
        capacity=_int(fields, "capacity_bytes"),
        namespaces_limit=_int(fields, "namespaces"),
        warning_temperature=_celsius(_int(fields, "warning_temperature")),
        critical_temperature=_celsius(_int(fields, "critical_temperature")),
        has_self_test=bool(_int(fields, "admin_commands") & 0x10),
        long_test_minutes=_int(fields, "long_test_minutes"),
    )


def _celsius(kelvin: int) -> int | None:
    return kelvin - 273 if kelvin else None


def read_nvme_namespace(page: bytes) -> NvmeNamespace:
    """Identify Namespace (06h, CNS 00h), 4096 bytes. Raises DecodeError if short, blank or with an unusable block size.

    NVMe 1.4, figure 245; LBA formats are 4 bytes each from byte 128.
    """
    what = "Identify Namespace"
    fields = read_fields(at.NVME_NAMESPACE, page, what, size=at.NVME_PAGE)
    _not_blank(page, what)
    place = 128 + 4 * (_int(fields, "format_now") & 0xF)
    exponent = page[place + 2]
    if not 9 <= exponent <= 16:
        raise DecodeError(f"{what} LBA data size", at=place + 2, expected="9 to 16 (a power of two)", got=exponent)
    return NvmeNamespace(_int(fields, "size_blocks"), _int(fields, "used_blocks"), 1 << exponent)


def read_nvme_namespaces(page: bytes) -> NvmeNamespaces:
    """Active Namespace ID list (Identify 06h, CNS 02h), 4096 bytes: up to 1,024 numbers in rising order, ended by zero.
    Raises DecodeError if short or not in order. NVMe 1.4, 5.15.2.3."""
    what = "namespace list"
    read_fields((), page, what, size=at.NVME_PAGE)
    numbers: list[int] = []
    for place in range(0, at.NVME_PAGE, 4):
        number = int.from_bytes(page[place : place + 4], "little")
        if not number:
            break
        if numbers and number <= numbers[-1]:
            raise DecodeError(f"{what} entry", at=place, expected=f"a number above {numbers[-1]}", got=number)
        numbers.append(number)
    return NvmeNamespaces(tuple(numbers))


def read_nvme_health(page: bytes) -> NvmeHealth:
    """Health information log (02h), 512 bytes. Raises DecodeError if short or blank. NVMe 1.4, figure 194."""
    what = "NVMe health log"
    fields = read_fields(at.NVME_HEALTH, page, what, size=at.SECTOR)
    _not_blank(page, what)
    warning = _int(fields, "critical_warning")
    unit = 1000 * 512
    return NvmeHealth(
        warnings=tuple(at.NVME_WARNINGS.get(bit, f"warning bit {bit}") for bit in range(8) if warning >> bit & 1),
        temperature=_int(fields, "temperature") - 273,
        spare=_int(fields, "spare"),
        spare_threshold=_int(fields, "spare_threshold"),
        used=_int(fields, "used"),
        bytes_read=_int(fields, "units_read") * unit,
        bytes_written=_int(fields, "units_written") * unit,
        power_cycles=_int(fields, "power_cycles"),
        power_on_hours=_int(fields, "power_on_hours"),
        unsafe_shutdowns=_int(fields, "unsafe_shutdowns"),
        media_errors=_int(fields, "media_errors"),
        error_log_count=_int(fields, "error_log_count"),
        busy_minutes=_int(fields, "busy_minutes"),
        warning_minutes=_int(fields, "warning_minutes"),
        critical_minutes=_int(fields, "critical_minutes"),
    )
