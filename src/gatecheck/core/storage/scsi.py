"""Bytes of a SCSI drive's pages -> typed values, or one located DecodeError. Sources: scsi_layout."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.fields import Value, clean_text, read_fields
from gatecheck.core.storage import scsi_layout as at
from gatecheck.core.storage.logs import NOT_DONE, OTHER_FAILURE, PASSED, READ_FAILURE, SelfTestEntry, SelfTestLog

_NO_LBA = (1 << 64) - 1
_MOST_SCANNED = 2048


@dataclass(frozen=True, slots=True)
class ScsiInquiry:
    """`is_ata`: an ATA drive behind a translation, which writes ATA in the place of a maker (SAT-4, 10.3)."""

    type: str
    vendor: str
    product: str
    revision: str
    removable: bool

    @property
    def is_ata(self) -> bool:
        return self.vendor == "ATA"

    @property
    def model(self) -> str:
        return self.product if self.is_ata else f"{self.vendor} {self.product}".strip()


@dataclass(frozen=True, slots=True)
class ScsiPageList:
    """Numbers of the pages there are."""

    numbers: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class ScsiSerial:
    serial: str


@dataclass(frozen=True, slots=True)
class ScsiNames:
    """`wwn`: the unit's own NAA or EUI-64 name in hex; `transport`: the protocol that a designator is of."""

    wwn: str | None
    transport: str | None


@dataclass(frozen=True, slots=True)
class ScsiLimits:
    largest_transfer: int
    largest_unmap: int


@dataclass(frozen=True, slots=True)
class ScsiCharacteristics:
    """`rotation`: rpm; 0 for flash; None where the drive does not say."""

    rotation: int | None
    form_factor: str | None


@dataclass(frozen=True, slots=True)
class ScsiCapacity:
    """`physical`: bytes of a physical block, of which several logical ones may share one."""

    blocks: int
    block: int
    physical: int

    @property
    def capacity(self) -> int:
        return self.blocks * self.block


@dataclass(frozen=True, slots=True)
class ScsiErrors:
    """Error counters of reads, writes or verifies, by what is counted."""

    counts: dict[str, int]


@dataclass(frozen=True, slots=True)
class ScsiTemperature:
    """Degrees Celsius; None where the drive does not measure."""

    temperature: int | None
    limit: int | None


@dataclass(frozen=True, slots=True)
class ScsiEndurance:
    """Rated life used, in percent."""

    used: int | None


@dataclass(frozen=True, slots=True)
class ScanError:
    """What the drive's own scan of its medium met. `minutes`: power-on time then; `is_medium`: it could not read."""

    minutes: int
    lba: int
    is_medium: bool
    at: int


@dataclass(frozen=True, slots=True)
class ScsiScan:
    """Background scan of the medium: power-on time in minutes, scans done, errors met."""

    minutes: int
    scans: int
    errors: tuple[ScanError, ...]


@dataclass(frozen=True, slots=True)
class ScsiExceptions:
    """What the drive last reported about itself. `predicted`: its own failure; `warning`: heat or another limit."""

    code: int
    qualifier: int
    temperature: int | None

    @property
    def predicted(self) -> bool:
        return self.code == at.FAILURE_PREDICTED

    @property
    def warning(self) -> bool:
        return self.code == at.WARNING


def _int(fields: dict[str, Value], name: str) -> int:
    value = fields[name]
    assert isinstance(value, int)
    return value


def read_scsi_inquiry(page: bytes) -> ScsiInquiry:
    """Standard INQUIRY data, at least 36 bytes. Raises DecodeError if short, or where no device is at this unit."""
    what = "INQUIRY"
    fields = read_fields(at.INQUIRY, page, what, size=at.INQUIRY_BYTES)
    peripheral = _int(fields, "peripheral")
    if peripheral >> 5 or peripheral & 0x1F == 0x1F:
        raise DecodeError(
            f"{what} peripheral device type", at=0, expected="a device that is connected", got=f"{peripheral:02X}h"
        )
    kind = at.DEVICE_TYPES.get(peripheral & 0x1F, f"type {peripheral & 0x1F:02X}h")
    text = {name: str(fields[name]) for name in ("vendor", "product", "revision")}
    return ScsiInquiry(kind, text["vendor"], text["product"], text["revision"], bool(_int(fields, "removable") & 0x80))


def _vital(page: bytes, number: int) -> bytes:
    """The data of a vital product data page. Raises DecodeError if short or another page."""
    what = f"vital product data {number:02X}h"
    if len(page) < at.PAGE_HEAD:
        raise DecodeError(what, at=len(page), expected=f"{at.PAGE_HEAD} bytes", got=f"{len(page)} bytes")
    if page[1] != number:
        raise DecodeError(f"{what} page code", at=1, expected=f"{number:02X}h", got=f"{page[1]:02X}h")
    return page[: at.PAGE_HEAD + int.from_bytes(page[2:4], "big")]


def read_vital_pages(page: bytes) -> ScsiPageList:
    """Page 00h: which vital product data there is."""
    return ScsiPageList(tuple(_vital(page, 0x00)[at.PAGE_HEAD :]))


def read_scsi_serial(page: bytes) -> ScsiSerial:
    """Page 80h: the unit's serial number, without the blanks it may be set off by on either side (SPC-4, 7.8.15)."""
    return ScsiSerial(clean_text(_vital(page, 0x80)[at.PAGE_HEAD :]))


def read_scsi_names(page: bytes) -> ScsiNames:
    """Page 83h: designation descriptors (SPC-4, 7.8.5). Only names of the unit itself count, not those of a port."""
    own, place = _vital(page, 0x83), at.PAGE_HEAD
    wwn: dict[int, str] = {}
    transport = None
    while place + 4 <= len(own):
        protocol, kind, length = own[place] >> 4, own[place + 1], own[place + 3]
        name = own[place + 4 : place + 4 + length]
        if kind & 0x80:
            transport = transport or at.TRANSPORTS.get(protocol, f"transport {protocol:X}h")
        if kind >> 4 & 3 == 0 and kind & 0xF in (at.NAA, at.EUI) and len(name) == length and any(name):
            wwn.setdefault(kind & 0xF, name.hex())
        place += 4 + length
    return ScsiNames(wwn.get(at.NAA) or wwn.get(at.EUI), transport)


def read_scsi_limits(page: bytes) -> ScsiLimits:
    """Page B0h, block limits."""
    own = _vital(page, 0xB0)
    fields = read_fields(at.LIMITS[:1] if len(own) < 24 else at.LIMITS, own, "block limits", size=16)
    return ScsiLimits(
        _int(fields, "largest_transfer"), _int(fields, "largest_unmap") if "largest_unmap" in fields else 0
    )


def read_scsi_characteristics(page: bytes) -> ScsiCharacteristics:
    """Page B1h, block device characteristics: 1 is non-rotating, 0401h to FFFEh is rpm, the rest says nothing."""
    fields = read_fields(at.CHARACTERISTICS, _vital(page, 0xB1), "block device characteristics", size=8)
    rate = _int(fields, "rotation_rate")
    rotation = 0 if rate == 1 else rate if 0x0401 <= rate <= 0xFFFE else None
    return ScsiCharacteristics(rotation, at.FORM_FACTORS.get(_int(fields, "form_factor") & 0xF))


def read_scsi_capacity(page: bytes) -> ScsiCapacity:
    """READ CAPACITY (16). Raises DecodeError if short or with an unusable block size."""
    what = "READ CAPACITY (16)"
    fields = read_fields(at.CAPACITY, page, what, size=at.CAPACITY_BYTES)
    block, last = _int(fields, "block_bytes"), _int(fields, "last_lba")
    if not 256 <= block <= 65536:
        raise DecodeError(f"{what} block length", at=8, expected="256 to 65536 bytes", got=block)
    exponent = page[13] & 0xF if len(page) > 13 else 0
    return ScsiCapacity(0 if last == _NO_LBA else last + 1, block, block << exponent)


# --- log pages -----------------------------------------------------------------------------------------------------


def _parameters(page: bytes, number: int) -> Iterator[tuple[int, bytes, int]]:
    """(code, data, byte in the page) of each parameter. Raises DecodeError if short or another page."""
    what = f"log page {number:02X}h"
    if len(page) < at.PAGE_HEAD:
        raise DecodeError(what, at=len(page), expected=f"{at.PAGE_HEAD} bytes", got=f"{len(page)} bytes")
    if page[0] & 0x3F != number:
        raise DecodeError(f"{what} page code", at=0, expected=f"{number:02X}h", got=f"{page[0] & 0x3F:02X}h")
    return _each(page[: at.PAGE_HEAD + int.from_bytes(page[2:4], "big")])


def _each(own: bytes) -> Iterator[tuple[int, bytes, int]]:
    place = at.PAGE_HEAD
    while place + at.PARAMETER_HEAD <= len(own):
        length = own[place + 3]
        data = own[place + at.PARAMETER_HEAD : place + at.PARAMETER_HEAD + length]
        if len(data) < length:
            return
        yield int.from_bytes(own[place : place + 2], "big"), data, place
        place += at.PARAMETER_HEAD + length


def read_log_pages(page: bytes) -> ScsiPageList:
    """Page 00h: which log pages there are."""
    if len(page) < at.PAGE_HEAD or page[0] & 0x3F:
        raise DecodeError(
            "list of log pages", at=0, expected="page 00h, at least 4 bytes", got=page[:4].hex() or "nothing"
        )
    return ScsiPageList(tuple(page[at.PAGE_HEAD : at.PAGE_HEAD + int.from_bytes(page[2:4], "big")]))


def read_scsi_errors(page: bytes) -> ScsiErrors:
    """Pages 02h, 03h, 05h: error counters of writes, reads, verifies."""
    if not page or page[0] & 0x3F not in (2, 3, 5):
        raise DecodeError("error counter page code", at=0, expected="02h, 03h or 05h", got=page[:1].hex() or "nothing")
    own = _parameters(page, page[0] & 0x3F)
    return ScsiErrors({at.COUNTERS[code]: int.from_bytes(data, "big") for code, data, _ in own if code in at.COUNTERS})


def read_scsi_temperature(page: bytes) -> ScsiTemperature:
    """Page 0Dh. 255: not measured."""
    values = {code: data[1] for code, data, _ in _parameters(page, 0x0D) if len(data) >= 2 and data[1] != 0xFF}
    return ScsiTemperature(values.get(0), values.get(1))


def read_scsi_endurance(page: bytes) -> ScsiEndurance:
    """Page 11h, solid state media."""
    return ScsiEndurance(
        next((data[3] for code, data, _ in _parameters(page, 0x11) if code == 1 and len(data) >= 4), None)
    )


def read_scsi_self_tests(page: bytes) -> SelfTestLog:
    """Page 10h: the newest twenty self-tests, newest first."""
    tests = []
    for code, data, place in _parameters(page, 0x10):
        if not 1 <= code <= 20 or len(data) < 16 or not any(data):
            continue
        fields = read_fields(at.SELF_TEST, data, "self-test", size=16)
        result, lba, key = _int(fields, "code_and_result") & 0xF, _int(fields, "lba"), _int(fields, "sense_key") & 0xF
        kind = at.SELF_TEST_CODES.get(_int(fields, "code_and_result") >> 5, "unknown")
        failed = READ_FAILURE if key == at.MEDIUM_ERROR else OTHER_FAILURE
        outcome = PASSED if result == 0 else failed if 3 <= result <= 7 else NOT_DONE
        words = at.SELF_TEST_RESULTS.get(result, f"code {result}")
        tests.append(
            SelfTestEntry(kind, words, outcome, 0, _int(fields, "hours"), None if lba == _NO_LBA else lba, place)
        )
    return SelfTestLog(tuple(tests), None, None)


def read_scsi_scan(page: bytes) -> ScsiScan:
    """Page 15h, background scan results."""
    minutes = scans = 0
    errors: list[ScanError] = []
    for code, data, place in _parameters(page, 0x15):
        if code == 0 and len(data) >= 10:
            fields = read_fields(at.SCAN_STATUS, data, "background scan", size=10)
            minutes, scans = _int(fields, "power_on_minutes"), _int(fields, "scans")
        elif 1 <= code <= 0x800 and len(data) >= 20 and len(errors) < _MOST_SCANNED:
            own = read_fields(at.SCAN_ERROR, data, "scanned place", size=20)
            errors.append(
                ScanError(
                    _int(own, "power_on_minutes"),
                    _int(own, "lba"),
                    _int(own, "reassign_and_key") & 0xF == at.MEDIUM_ERROR,
                    place,
                )
            )
    return ScsiScan(minutes, scans, tuple(errors))


def read_scsi_exceptions(page: bytes) -> ScsiExceptions:
    """Page 2Fh, informational exceptions. Raises DecodeError where its general parameter is missing."""
    for code, data, _ in _parameters(page, 0x2F):
        if code == 0 and len(data) >= 2:
            return ScsiExceptions(data[0], data[1], data[2] if len(data) > 2 and data[2] not in (0, 0xFF) else None)
    raise DecodeError("log page 2Fh", at=at.PAGE_HEAD, expected="parameter 0000h", got="none")
