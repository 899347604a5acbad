"""Simulated drives. They answer the commands a probe sends with page bytes from the core's encoders, and age with time.

An ATA drive understands ATA PASS-THROUGH (12) and (16) (SAT-4, 12.2.2); an NVMe drive the admin commands Identify, Get
Log Page and Device Self-test (NVM Express 1.4, clause 5); a SCSI drive INQUIRY, READ CAPACITY (16) and LOG SENSE. What
is not understood is refused as the standard says; an ATA drive writes what it refused into its error log, as real ones
do."""

from __future__ import annotations

import mmap
import struct
import time
from bisect import bisect_left, bisect_right
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from gatecheck.core.storage import encode, encode_logs, encode_scsi
from gatecheck.core.storage.encode import SmartAttribute
from gatecheck.core.storage.encode_logs import AtaError, AtaTest
from gatecheck.practice.surfaces import Surface, chance

SECTOR = 512
CHECK_CONDITION = 2
ILLEGAL_REQUEST = bytes([0x70, 0, 5, 0, 0, 0, 0, 10, 0, 0, 0, 0, 0x20, 0, 0, 0, 0, 0])
ABORTED = bytes([0x72, 0x0B, 0, 0, 0, 0, 0, 14, 9, 12, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0x40, 0x51])
NVME_INVALID_FIELD = 0x4002
NVME_INVALID_LOG = 0x4109
_FOREVER = 3600.0
_STARTED = struct.Struct("dqd")
_TEST_HOURS = 4 / 3600
"""a practice self-test is over in four seconds of the bench's time"""

Grow = Callable[[float], int]


def still(value: int) -> Grow:
    """A count that does not change."""
    return lambda hours: value


def grows(start: int, per_hour: float) -> Grow:
    """A count that grows with the hours since the machine was first connected."""
    return lambda hours: start + int(hours * per_hour)


@dataclass
class SelfTest:
    """The drive's own test: when it was started (seconds of this machine), and how it ends. A probe calls its drive
    from a child of its own, and the drive remembers all the same: what was started stands in memory that both share."""

    result: int = 0
    lba: int | None = None
    _shared: mmap.mmap = field(default_factory=lambda: mmap.mmap(-1, _STARTED.size), repr=False)

    def start(self, kind: int) -> None:
        """Another one, or the end of the one that runs."""
        if kind in (0x7F, 0xF):
            began, running, _ = _STARTED.unpack_from(self._shared)
            if began and self.left():
                _STARTED.pack_into(self._shared, 0, began, running, time.monotonic())
            return
        _STARTED.pack_into(self._shared, 0, time.monotonic(), kind, 0.0)

    @property
    def started(self) -> float | None:
        return _STARTED.unpack_from(self._shared)[0] or None

    @property
    def kind(self) -> int:
        return int(_STARTED.unpack_from(self._shared)[1])

    @property
    def ending(self) -> int:
        """How it ended: aborted by a command, or as it is to end."""
        return 1 if _STARTED.unpack_from(self._shared)[2] else self.result

    def left(self) -> int:
        """Tenths still to run."""
        if self.started is None or _STARTED.unpack_from(self._shared)[2]:
            return 0
        return max(0, 9 - int((time.monotonic() - self.started) / (_TEST_HOURS * 3600) * 10))


_FAILS_AFTER_MS = 2600.0


class SlowError(OSError):
    """A read that failed, and how many milliseconds the drive took over it."""

    def __init__(self, ms: float) -> None:
        super().__init__(5, "input/output error")
        self.ms = ms


@dataclass
class PracticeDisk:
    """The medium: `sectors` of `sector` bytes that hold something, read as zeros elsewhere; `bad` ones cannot be
    read."""

    sectors: int
    content: dict[int, bytes] = field(default_factory=dict)
    bad: frozenset[int] = frozenset()
    sector: int = SECTOR
    surface: Surface | None = None
    """how it reads; None: as a sound one of its kind"""
    stalled: bool = False
    written: dict[int, bytes] = field(default_factory=dict)
    """sectors that were written since"""
    _order: list[tuple[int, int, int]] = field(default_factory=list, repr=False, compare=False)

    @property
    def capacity(self) -> int:
        """Bytes."""
        return self.sectors * self.sector

    def timed(self, lba: int, count: int, into: memoryview | None) -> float:
        """Read a block as the surface has it: milliseconds that it takes. Raises SlowError, an OSError that says how
        long it took to fail."""
        surface = self.surface or Surface()
        self.stalled = self.stalled or (surface.stalls_from is not None and lba >= surface.stalls_from * self.sectors)
        ms = surface.milliseconds(lba, count, self.sector, self.sectors, stalled=self.stalled)
        if any(lba <= place < lba + count for place in self.bad) or surface.fails(lba, count, self.sectors):
            raise SlowError(ms + _FAILS_AFTER_MS * (0.7 + 0.6 * chance(surface.seed, lba)))
        if into is not None:
            blank = not self.written and not self._near(lba, count)
            into[:] = bytes(len(into)) if blank else self.read(lba, count)
        return ms

    def _near(self, first: int, count: int) -> list[tuple[int, bytes]]:
        """(first sector, bytes) of what these sectors hold; what was put there later comes later."""
        if len(self._order) != len(self.content):
            self._order, reach = [], 0
            for at, number in sorted((at, number) for number, at in enumerate(self.content)):
                reach = max(reach, at + -(-len(self.content[at]) // self.sector))
                self._order.append((at, reach, number))
        low = bisect_right(self._order, first, key=lambda one: one[1])
        near = self._order[low : bisect_left(self._order, first + count, key=lambda one: one[0])]
        return [(at, self.content[at]) for at, _, _ in sorted(near, key=lambda one: one[2])]

    def read(self, sector: int, count: int) -> bytes:
        """From the end where `sector` is negative. Raises OSError for an unreadable place, or a disk without any."""
        if not self.sectors:
            raise OSError(123, "no medium found")
        first = sector if sector >= 0 else max(0, self.sectors + sector)
        if any(first <= place < first + count for place in self.bad) or (
            self.surface is not None and self.surface.fails(first, count, self.sectors)
        ):
            raise OSError(5, "input/output error")
        size = self.sector
        raw = bytearray(count * size)
        for at, data in self._near(first, count):
            low, high = max(at, first), min(at + -(-len(data) // size), first + count)
            if low < high:
                part = data[(low - at) * size : (high - at) * size]
                raw[(low - first) * size : (low - first) * size + len(part)] = part
        for at in range(first, first + count) if self.written else ():
            if at in self.written:
                raw[(at - first) * size : (at - first + 1) * size] = self.written[at]
        return bytes(raw)

    def write(self, sector: int, data: bytes) -> None:
        """Whole sectors. Raises OSError for a place that cannot be read either."""
        for place in range(len(data) // self.sector):
            if sector + place in self.bad or sector + place >= self.sectors:
                raise OSError(5, "input/output error")
            self.written[sector + place] = data[place * self.sector : (place + 1) * self.sector]


@dataclass
class AtaDrive:
    """A drive on a SATA port. Counts are functions of the hours since it was first connected."""

    model: str
    serial: str
    disk: PracticeDisk
    hours: int
    rotation: int = 5400
    firmware: str = "QA10"
    counts: dict[int, Grow] = field(default_factory=dict)
    errors: Sequence[AtaError] = ()
    tests: Sequence[AtaTest] = ()
    wear_now: int = 100
    temperature: int = 34
    exceeded: bool = False
    dead: bool = False
    hangs_on: str | None = None
    """kind of page on which a call never returns"""
    self_test: SelfTest = field(default_factory=SelfTest)
    refused: int = 0
    """commands that it did not know: a real drive keeps them in its error log for good"""
    age: float = 0.0
    bus: str = "ata"

    def scsi(self, command: bytes, length: int) -> tuple[int, bytes, bytes]:
        """(status, sense, data) of one pass-through command."""
        if command[0] == 0x85:
            features, count, lba, code = command[3] << 8 | command[4], command[6], self._lba_16(command), command[14]
        elif command[0] == 0xA1:
            features, count, lba, code = (
                command[3],
                command[4],
                command[5] | command[6] << 8 | command[7] << 16,
                command[9],
            )
        elif command[0] == 0x1B:  # START STOP UNIT, as its translation takes it
            return (CHECK_CONDITION, ABORTED, b"") if self.dead else (0, b"", b"")
        else:
            return CHECK_CONDITION, ILLEGAL_REQUEST, b""
        return self._answer(code, features, count, lba, length)

    @staticmethod
    def _lba_16(c: bytes) -> int:
        return c[8] | c[10] << 8 | c[12] << 16 | c[7] << 24 | c[9] << 32 | c[11] << 40

    def _answer(self, code: int, features: int, count: int, lba: int, length: int) -> tuple[int, bytes, bytes]:
        if code == 0xB0 and features == 0xDA:
            return (
                (CHECK_CONDITION, ABORTED, b"")
                if self.dead
                else (CHECK_CONDITION, encode.smart_status(exceeded=self.exceeded), b"")
            )
        if code == 0xB0 and features == 0xD4:
            self.self_test.start(lba & 0xFF)
            return 0, b"", b""
        page = self._page(code, features, lba)
        if page is None:
            self.refused += not self.dead
            return CHECK_CONDITION, ABORTED, bytes(length)
        return 0, b"", page.ljust(length, b"\0")[:length]

    def _page(self, code: int, features: int, lba: int) -> bytes | None:
        if code == 0xEC:
            return self.page("ata-identify")
        if self.dead:
            return None
        if code == 0xB0:
            log = {0x00: "log-directory", 0x01: "ata-errors", 0x06: "ata-self-tests"}.get(lba & 0xFF, "")
            return self.page({0xD0: "smart-data", 0xD1: "smart-thresholds", 0xD5: log}.get(features, ""))
        if code == 0x2F:
            log = {
                0x00: "log-directory",
                0x03: "ata-errors-ext",
                0x04: "device-statistics",
                0x07: "ata-self-tests-ext",
            }.get(lba & 0xFF, "")
            return self.page(log, lba >> 8 & 0xFF)
        return None

    def page(self, kind: str, number: int = 0) -> bytes | None:
        """The bytes of a page now; None where the drive has no such page."""
        if kind == self.hangs_on:
            time.sleep(_FOREVER)
        attributes = self.attributes()
        left = self.self_test.left()
        if kind == "ata-identify":
            return encode.ata_identify(
                model=self.model,
                serial=self.serial,
                firmware=self.firmware,
                sectors=self.disk.sectors,
                rotation=self.rotation,
            )
        if kind == "smart-data":
            return encode.smart_data(
                attributes,
                self_test_status=0xF0 | left if left else 0x10 if self.self_test.ending == 1 else 0,
                conveyance_minutes=5 if self.rotation else 0,
            )
        if kind == "smart-thresholds":
            return encode.smart_thresholds(attributes)
        if kind == "log-directory":
            return encode_logs.log_directory({0x01: 1, 0x03: 1, 0x04: 8, 0x06: 1, 0x07: 1})
        if kind == "ata-errors":
            return encode_logs.summary_errors(self.errors)
        if kind == "ata-errors-ext":
            return encode_logs.extended_errors(self.errors)
        if kind == "ata-self-tests":
            return encode_logs.self_tests(self._tests(left))
        if kind == "ata-self-tests-ext":
            return encode_logs.extended_self_tests(self._tests(left))
        if kind == "device-statistics":
            return self._statistics(number)
        return None

    def attributes(self) -> list[SmartAttribute]:
        """SMART attributes at this age."""
        found = [
            SmartAttribute(9, self.hours + int(self.age)),
            SmartAttribute(12, 900 + int(self.age / 8)),
            SmartAttribute(194, self.temperature),
        ]
        if self.rotation == 0:
            found.append(SmartAttribute(177, 0, now=self.wear_now, worst=self.wear_now))
        names = {1: 6, 3: 0, 5: 36, 10: 97, 197: 0, 198: 0, 199: 0}
        for number, threshold in names.items():
            if self.rotation or number in (5, 199):
                value = self.counts.get(number, still(0))(self.age)
                now = max(1, 100 - value // 20) if number in (5, 10) else 100
                found.append(
                    SmartAttribute(
                        number, value, now=now, worst=now, threshold=threshold, prefailure=number in (1, 5, 10)
                    )
                )
        return sorted(found, key=lambda a: a.id)

    def _statistics(self, number: int) -> bytes | None:
        values = {
            "power-on time": self.hours + int(self.age),
            "reallocated sectors": self.counts.get(5, still(0))(self.age),
            "interface CRC errors": self.counts.get(199, still(0))(self.age),
            "temperature": self.temperature,
            "highest temperature": self.temperature + 14,
        }
        raw = encode_logs.statistics(values)
        pages = [raw[i : i + SECTOR] for i in range(0, len(raw), SECTOR)]
        return next((page for page in pages if page[2] == number), None)

    def _tests(self, left: int) -> list[AtaTest]:
        now, own = self.hours + int(self.age), self.self_test
        if own.started is None:
            return list(self.tests)
        latest = (
            AtaTest(now, own.kind, 15, left * 10)
            if left
            else AtaTest(now, own.kind, own.ending, 60 if own.ending else 0, own.lba if own.ending > 1 else None)
        )
        return [*self.tests, latest]


@dataclass
class BridgedDrive:
    """A drive behind a USB bridge that passes no drive pages: it refuses the command, or hands out zeros. Who the
    bridge is it says."""

    disk: PracticeDisk
    zeros: bool = False
    product: str = "DOCK"
    bus: str = "usb"
    age: float = 0.0

    def scsi(self, command: bytes, length: int) -> tuple[int, bytes, bytes]:
        if command[0] == 0x12 and not command[1] & 1:
            return 0, b"", encode_scsi.inquiry(vendor="QUARRY", product=self.product)[:length]
        return (0, b"", bytes(length)) if self.zeros and length else (CHECK_CONDITION, ILLEGAL_REQUEST, b"")


@dataclass
class ScsiDrive:
    """A disk with SCSI's own pages: behind a SAS controller, or a RAID volume of a controller that makes one of
    several."""

    vendor: str
    model: str
    serial: str
    wwn: str
    disk: PracticeDisk
    hours: int
    rotation: int = 10_000
    firmware: str = "QS02"
    temperature: int = 36
    predicted: bool = False
    uncorrected: int = 0
    scanned: Sequence[tuple[int, int]] = ()
    """(power-on minutes, LBA) of places that its own scan could not read"""
    tests: Sequence[tuple[int, int, int, int | None]] = ()
    keeps_logs: bool = True
    level: str = ""
    """of a RAID volume, as its controller tells it"""
    age: float = 0.0
    bus: str = "scsi"

    def scsi(self, command: bytes, length: int) -> tuple[int, bytes, bytes]:
        """(status, sense, data) of one command."""
        page = self._page(command)
        return (CHECK_CONDITION, ILLEGAL_REQUEST, b"") if page is None else (0, b"", page[:length])

    def _page(self, c: bytes) -> bytes | None:
        if c[0] == 0x12 and not c[1] & 1:
            return encode_scsi.inquiry(vendor=self.vendor, product=self.model, revision=self.firmware)
        if c[0] == 0x12:
            return self._vital().get(c[2])
        if c[0] == 0x9E and c[1] & 0x1F == 0x10:
            return encode_scsi.capacity(self.disk.sectors, self.disk.sector)
        return self._logs().get(c[2] & 0x3F) if c[0] == 0x4D and self.keeps_logs else None

    def _vital(self) -> dict[int, bytes]:
        pages = {
            0x80: encode_scsi.serial(self.serial),
            0x83: encode_scsi.names(self.wwn),
            0xB1: encode_scsi.characteristics(self.rotation),
        }
        return {0x00: encode_scsi.vital(0, bytes([0, *pages])), **pages}

    def _logs(self) -> dict[int, bytes]:
        minutes = (self.hours + int(self.age)) * 60
        pages = {
            0x02: encode_scsi.errors(2, {"corrected": 0, "uncorrected": 0}),
            0x03: encode_scsi.errors(3, {"corrected": 900 + self.hours, "uncorrected": self.uncorrected}),
            0x0D: encode_scsi.temperature(self.temperature),
            0x10: encode_scsi.self_tests(self.tests),
            0x15: encode_scsi.scan(minutes, self.scanned),
            0x2F: encode_scsi.exceptions(predicted=self.predicted, degrees=self.temperature),
        }
        return {0x00: encode_scsi.log_pages([0, *pages]), **pages}


@dataclass
class SolderedDrive:
    """Flash on the board, or a card in a reader: it keeps no pages; what is known of it the kernel tells."""

    name: str
    serial: str
    disk: PracticeDisk
    kind: str = "MMC"
    life: str = "0x01 0x01"
    reserve: str = "0x01"
    age: float = 0.0

    @property
    def bus(self) -> str:
        return "emmc" if self.kind == "MMC" else "sd"


@dataclass
class NvmeDrive:
    """A drive on PCI Express with one namespace."""

    model: str
    serial: str
    disk: PracticeDisk
    hours: int
    firmware: str = "QN04"
    namespace: int = 1
    """number of its only one; 0: it has none"""
    used: int = 3
    spare: int = 100
    warning: int = 0
    media_errors: Grow = field(default_factory=lambda: still(0))
    temperature: int = 311
    errors: Sequence[tuple[int, int, int]] = ()
    self_test: SelfTest = field(default_factory=SelfTest)
    hangs_on: str | None = None
    age: float = 0.0
    bus: str = "nvme"

    def nvme(self, opcode: int, namespace: int, words: Sequence[int], length: int) -> tuple[int, bytes]:
        """(status, data) of one admin command."""
        if opcode == 6:
            kind = {1: "nvme-controller", 0: "nvme-namespace", 2: "nvme-namespaces"}.get(words[0] & 0xFF)
            if kind == "nvme-namespace" and namespace != self.namespace:
                return 0, bytes(length)  # one that is not active
        elif opcode == 2:
            kind = {1: "nvme-errors", 2: "nvme-health", 3: "nvme-firmware", 6: "nvme-self-tests"}.get(words[0] & 0xFF)
            if kind is None:
                return NVME_INVALID_LOG, b""
        elif opcode == 0x14:
            self.self_test.start(words[0] & 0xF)
            return 0, b""
        else:
            return NVME_INVALID_FIELD, b""
        return (0, self.page(kind).ljust(length, b"\0")[:length]) if kind else (NVME_INVALID_FIELD, b"")

    def page(self, kind: str) -> bytes:
        """The bytes of a page now."""
        if kind == self.hangs_on:
            time.sleep(_FOREVER)
        hours = self.hours + int(self.age)
        if kind == "nvme-controller":
            return encode.nvme_controller(
                model=self.model, serial=self.serial, firmware=self.firmware, capacity=self.disk.capacity
            )
        if kind == "nvme-namespace":
            return encode.nvme_namespace(blocks=self.disk.sectors, block_size=self.disk.sector)
        if kind == "nvme-namespaces":
            return encode.nvme_namespaces([self.namespace])
        if kind == "nvme-errors":
            return encode_logs.nvme_errors(self.errors)
        if kind == "nvme-firmware":
            return encode_logs.firmware_slots(self.firmware)
        if kind == "nvme-self-tests":
            return self._tests(hours)
        return encode.nvme_health(
            critical_warning=self.warning,
            temperature=self.temperature,
            spare=self.spare,
            spare_threshold=10,
            used=self.used,
            power_on_hours=hours,
            power_cycles=700 + hours // 30,
            unsafe_shutdowns=12,
            media_errors=self.media_errors(self.age),
            units_read=hours * 4000,
            units_written=hours * 3000,
            error_log_count=len(self.errors),
        )

    def _tests(self, hours: int) -> bytes:
        own = self.self_test
        if own.started is None:
            return encode_logs.nvme_self_tests([])
        left = own.left()
        if left:
            return encode_logs.nvme_self_tests([], running=100 - left * 10)
        return encode_logs.nvme_self_tests([(own.kind, own.ending, hours, own.lba if own.ending > 1 else None)])


Drive = AtaDrive | BridgedDrive | NvmeDrive | ScsiDrive | SolderedDrive
