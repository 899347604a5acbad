"""The one table of page kinds: how each is named, recognised, read, judged, and what it weighs.

A new kind of page is a row here and a decoder. `docs/capture-format.md` lists them for people; a test holds the two
together."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from gatecheck.core.capture.facts import read_block_facts, read_block_names, read_pci, read_text_page
from gatecheck.core.fields import Field
from gatecheck.core.findings import Finding
from gatecheck.core.firmware.smbios import read_entry_point, read_smbios
from gatecheck.core.firmware.variables import read_variable
from gatecheck.core.knowledge.judging import Findings
from gatecheck.core.scan.evidence import scanned
from gatecheck.core.scan.map_page import MAGIC, read_map_page
from gatecheck.core.storage import judge, judge_logs, judge_scsi, log_layout, logs, read, scsi, scsi_layout
from gatecheck.core.storage import layout as at
from gatecheck.core.storage.pages import DrivePages

DRIVE, DISK, PARTITION, FIRMWARE, MACHINE, ABOUT = "drive", "disk", "partition", "firmware", "machine", "about"
"""whose a page is: a drive's own, sectors of its medium, a partition's, the firmware's, the machine's, or about the
capture"""


@dataclass(frozen=True, slots=True)
class PageFile:
    """A page to be read. `known`: what was decoded of the same drive before it, by kind."""

    path: str
    data: bytes
    known: Mapping[str, object]

    @property
    def name(self) -> str:
        return self.path.rsplit("/", 1)[-1]


@dataclass(frozen=True, slots=True)
class Repeated:
    """A run of equal entries in a page, for marking bytes. `paged`: it starts anew in every 512 bytes."""

    start: int
    size: int
    count: int
    name: str
    paged: bool = False


Reader = Callable[[PageFile], object]
Judge = Callable[[Any, str, DrivePages, Findings], Iterable[Finding]]
Weigh = Callable[[Any, DrivePages, Findings], dict[str, dict[str, float]]]


@dataclass(frozen=True, slots=True)
class PageKind:
    """One kind of page.

    named: pattern that a path fits (in lower case; in its last part, or anywhere where the pattern holds a slash).
    topic: pages of one topic say the same thing; only the richest that was read is judged and weighed. optional: a
    drive may well do without it, and it is told by its name only. blank: zeros are an answer, not a missing one. early:
    read before the others of its drive, because it says how they are to be read."""

    id: str
    scope: str
    named: str
    read: Reader
    judge: Judge | None = None
    weigh: Weigh | None = None
    looks_like: Callable[[bytes], bool] | None = None
    topic: str = ""
    richness: int = 0
    optional: bool = False
    blank: bool = False
    early: bool = False
    fields: Sequence[Field] = ()
    repeated: Repeated | None = None

    def fits(self, path: str) -> bool:
        return bool(re.search(self.named, path if "/" in self.named else path.rsplit("/", 1)[-1]))


def _bytes(reader: Callable[[bytes], object]) -> Reader:
    return lambda page: reader(page.data)


def _smart_data(page: PageFile) -> object:
    identity, thresholds = page.known.get("ata-identify"), page.known.get("smart-thresholds")
    is_flash = (
        identity.rotation == 0 if isinstance(identity, read.AtaIdentity) and identity.rotation is not None else None
    )
    known = thresholds if isinstance(thresholds, read.SmartThresholds) else None
    return read.read_smart_data(page.data, known, is_flash=is_flash)


# --- recognised by content -----------------------------------------------------------------------------------------


def _printable(raw: bytes) -> bool:
    return all(0x20 <= b < 0x7F for b in raw.rstrip(b"\x00")) and bool(raw.strip(b" \x00"))


def _is_controller(data: bytes) -> bool:
    return len(data) == at.NVME_PAGE and data[512] & 0xF == 6 and _printable(data[4:64])


def _is_namespace(data: bytes) -> bool:
    return len(data) == at.NVME_PAGE and 9 <= data[130] <= 16 and any(data[:8])


def _is_identify(data: bytes) -> bool:
    return len(data) == at.SECTOR and _printable(data[54:94]) and any(data[54:94])


def _is_smart(data: bytes, *, thresholds: bool) -> bool:
    if len(data) != at.SECTOR or sum(data) & 0xFF or not any(data):
        return False
    reserved = all(not any(data[2 + 12 * i + 2 : 14 + 12 * i]) for i in range(at.SMART_ENTRY_COUNT))
    return reserved if thresholds else any(data[362:386])


def _is_health(data: bytes) -> bool:
    kelvin = int.from_bytes(data[1:3], "little")
    return len(data) == at.SECTOR and 220 <= kelvin <= 420 and data[3] <= 100


def _is_sense(data: bytes) -> bool:
    is_text = all(9 <= b < 0x7F for b in data)
    return 8 <= len(data) <= 252 and not is_text and data[0] & 0x7F in (*at.SENSE_FIXED, *at.SENSE_DESCRIPTOR)


# --- the table -----------------------------------------------------------------------------------------------------

_ENTRY = (at.SMART_FIRST_ENTRY, at.SMART_ENTRY_SIZE, at.SMART_ENTRY_COUNT)

KINDS: tuple[PageKind, ...] = (
    # what is told by where it stands
    PageKind("uefi-variable", FIRMWARE, r"(^|/)efivars/[^/]+$", lambda page: read_variable(page.name, page.data)),
    PageKind("smbios", FIRMWARE, r"(^|/)dmi/dmi$", _bytes(read_smbios)),
    PageKind("smbios-entry-point", FIRMWARE, r"(^|/)dmi/smbios_entry_point$", _bytes(read_entry_point)),
    PageKind("block-device", MACHINE, r"(^|/)sysblock/", _bytes(read_block_facts), blank=True),
    PageKind("block-devices", MACHINE, r"^block[-_]devices", _bytes(read_block_names), blank=True),
    PageKind("kernel-messages", MACHINE, r"dmesg", _bytes(read_text_page), blank=True),
    PageKind("kernel-command-line", MACHINE, r"cmdline", _bytes(read_text_page), blank=True),
    PageKind("disk-start", DISK, r"^lba0(?!\d)", _bytes(bytes), blank=True),
    PageKind("disk-sectors", DISK, r"^lba\d+", _bytes(bytes), blank=True),
    PageKind("disk-end", DISK, r"^lba[-_]?last", _bytes(bytes), blank=True),
    PageKind(
        "read-map",
        DISK,
        r"\.gcm$",
        lambda page: scanned(read_map_page(page.data)),
        looks_like=lambda data: data[:8] == MAGIC,
    ),
    PageKind("sector-list", DISK, r"^(listing|group)-part\d+", _bytes(read_text_page), blank=True),
    PageKind("partition-start", PARTITION, r"^part\d+", _bytes(bytes), blank=True),
    PageKind("machine-state", MACHINE, r"^machine\.txt$", _bytes(read_block_facts), blank=True),
    PageKind("pci-devices", MACHINE, r"^pci\.txt$", _bytes(read_pci), blank=True),
    PageKind("description", ABOUT, r"manifest\.json$|readme", _bytes(read_text_page), blank=True),
    # a drive's logs
    PageKind(
        "log-directory",
        DRIVE,
        r"log[-_]?dir|^(smart|gp|ext)[-_]?log[-_]?00",
        _bytes(logs.read_log_directory),
        optional=True,
    ),
    PageKind(
        "ata-errors",
        DRIVE,
        r"^smart[-_]?log[-_]?01|summary[-_]?error",
        _bytes(logs.read_summary_errors),
        judge_logs.judge_errors,
        judge_logs.weigh_errors,
        topic="errors",
        optional=True,
        repeated=Repeated(
            log_layout.SUMMARY_ERRORS_AT, log_layout.SUMMARY_ERROR_SIZE, log_layout.SUMMARY_ERRORS, "error"
        ),
    ),
    PageKind(
        "ata-errors-comprehensive",
        DRIVE,
        r"^smart[-_]?log[-_]?02|(?<!ext[-_])comprehensive[-_]?error",
        _bytes(logs.read_comprehensive_errors),
        judge_logs.judge_errors,
        judge_logs.weigh_errors,
        topic="errors",
        richness=1,
        optional=True,
        repeated=Repeated(
            log_layout.SUMMARY_ERRORS_AT, log_layout.SUMMARY_ERROR_SIZE, log_layout.SUMMARY_ERRORS, "error", paged=True
        ),
    ),
    PageKind(
        "ata-errors-ext",
        DRIVE,
        r"^(smart|gp|ext)[-_]?log[-_]?03|ext[-_]?(comprehensive[-_]?)?error",
        _bytes(logs.read_extended_errors),
        judge_logs.judge_errors,
        judge_logs.weigh_errors,
        topic="errors",
        richness=2,
        optional=True,
        repeated=Repeated(
            log_layout.EXTENDED_ERRORS_AT,
            log_layout.EXTENDED_ERROR_SIZE,
            log_layout.EXTENDED_ERRORS,
            "error",
            paged=True,
        ),
    ),
    PageKind(
        "device-statistics",
        DRIVE,
        r"^(smart|gp|ext)[-_]?log[-_]?04|device[-_]?stat|devstat",
        _bytes(logs.read_statistics),
        judge_logs.judge_statistics,
        optional=True,
        repeated=Repeated(8, log_layout.STATISTIC_SIZE, 63, "statistic", paged=True),
    ),
    PageKind(
        "ata-self-tests",
        DRIVE,
        r"^smart[-_]?log[-_]?06|^self[-_]?test",
        _bytes(logs.read_self_tests),
        judge_logs.judge_tests,
        judge_logs.weigh_tests,
        topic="self-tests",
        optional=True,
        repeated=Repeated(log_layout.SELF_TEST_AT, log_layout.SELF_TEST_SIZE, log_layout.SELF_TESTS, "self-test"),
    ),
    PageKind(
        "ata-self-tests-ext",
        DRIVE,
        r"^(smart|gp|ext)[-_]?log[-_]?07|ext[-_]?self[-_]?test",
        _bytes(logs.read_extended_self_tests),
        judge_logs.judge_tests,
        judge_logs.weigh_tests,
        topic="self-tests",
        richness=1,
        optional=True,
        repeated=Repeated(
            log_layout.EXTENDED_SELF_TEST_AT,
            log_layout.EXTENDED_SELF_TEST_SIZE,
            log_layout.EXTENDED_SELF_TESTS,
            "self-test",
            paged=True,
        ),
    ),
    PageKind(
        "nvme-errors",
        DRIVE,
        r"^log[-_]?01|nvme[-_]?error",
        _bytes(logs.read_nvme_errors),
        judge_logs.judge_errors,
        judge_logs.weigh_errors,
        topic="errors",
        optional=True,
        blank=True,
        repeated=Repeated(0, log_layout.NVME_ERROR_SIZE, 1 << 10, "error"),
    ),
    PageKind("nvme-firmware", DRIVE, r"^log[-_]?03|firmware[-_]?slot", _bytes(logs.read_firmware_slots), optional=True),
    PageKind(
        "nvme-self-tests",
        DRIVE,
        r"^log[-_]?06|nvme[-_]?self[-_]?test",
        _bytes(logs.read_nvme_self_tests),
        judge_logs.judge_tests,
        judge_logs.weigh_tests,
        topic="self-tests",
        optional=True,
        repeated=Repeated(
            log_layout.NVME_SELF_TEST_AT, log_layout.NVME_SELF_TEST_SIZE, log_layout.NVME_SELF_TESTS, "self-test"
        ),
    ),
    PageKind(
        "nvme-namespaces",
        DRIVE,
        r"ns[-_]?list|nvme[-_]?namespaces",
        _bytes(read.read_nvme_namespaces),
        optional=True,
        blank=True,
    ),
    # a SCSI drive's pages
    PageKind(
        "scsi-inquiry", DRIVE, r"^inquiry", _bytes(scsi.read_scsi_inquiry), fields=scsi_layout.INQUIRY, early=True
    ),
    PageKind("scsi-vpd-00", DRIVE, r"^vpd[-_]?00", _bytes(scsi.read_vital_pages), optional=True),
    PageKind("scsi-vpd-80", DRIVE, r"^vpd[-_]?80", _bytes(scsi.read_scsi_serial), optional=True),
    PageKind("scsi-vpd-83", DRIVE, r"^vpd[-_]?83", _bytes(scsi.read_scsi_names), optional=True),
    PageKind(
        "scsi-vpd-b0", DRIVE, r"^vpd[-_]?b0", _bytes(scsi.read_scsi_limits), optional=True, fields=scsi_layout.LIMITS
    ),
    PageKind(
        "scsi-vpd-b1",
        DRIVE,
        r"^vpd[-_]?b1",
        _bytes(scsi.read_scsi_characteristics),
        optional=True,
        fields=scsi_layout.CHARACTERISTICS,
    ),
    PageKind(
        "scsi-capacity",
        DRIVE,
        r"^capacity",
        _bytes(scsi.read_scsi_capacity),
        judge_scsi.judge_capacity,
        optional=True,
        fields=scsi_layout.CAPACITY,
    ),
    PageKind(
        "scsi-log-2f",
        DRIVE,
        r"^scsi[-_]?log[-_]?2f",
        _bytes(scsi.read_scsi_exceptions),
        judge_scsi.judge_exceptions,
        optional=True,
    ),
    PageKind("scsi-log-00", DRIVE, r"^scsi[-_]?log[-_]?00", _bytes(scsi.read_log_pages), optional=True),
    PageKind(
        "scsi-log-02",
        DRIVE,
        r"^scsi[-_]?log[-_]?02",
        _bytes(scsi.read_scsi_errors),
        judge_scsi.judge_counters,
        optional=True,
    ),
    PageKind(
        "scsi-log-03",
        DRIVE,
        r"^scsi[-_]?log[-_]?03",
        _bytes(scsi.read_scsi_errors),
        judge_scsi.judge_counters,
        optional=True,
    ),
    PageKind(
        "scsi-log-05",
        DRIVE,
        r"^scsi[-_]?log[-_]?05",
        _bytes(scsi.read_scsi_errors),
        judge_scsi.judge_counters,
        optional=True,
    ),
    PageKind(
        "scsi-log-0d",
        DRIVE,
        r"^scsi[-_]?log[-_]?0d",
        _bytes(scsi.read_scsi_temperature),
        judge_scsi.judge_temperature,
        optional=True,
    ),
    PageKind(
        "scsi-log-10",
        DRIVE,
        r"^scsi[-_]?log[-_]?10",
        _bytes(scsi.read_scsi_self_tests),
        judge_logs.judge_tests,
        judge_logs.weigh_tests,
        topic="self-tests",
        optional=True,
    ),
    PageKind(
        "scsi-log-11",
        DRIVE,
        r"^scsi[-_]?log[-_]?11",
        _bytes(scsi.read_scsi_endurance),
        judge_scsi.judge_endurance,
        optional=True,
    ),
    PageKind(
        "scsi-log-15", DRIVE, r"^scsi[-_]?log[-_]?15", _bytes(scsi.read_scsi_scan), judge_scsi.judge_scan, optional=True
    ),
    # who it is, and how it is
    PageKind(
        "nvme-controller",
        DRIVE,
        r"id[-_]?ctrl|identify[-_]?controller|nvme[-_]?controller",
        _bytes(read.read_nvme_controller),
        looks_like=_is_controller,
        fields=at.NVME_CONTROLLER,
    ),
    PageKind(
        "nvme-namespace",
        DRIVE,
        r"id[-_]?ns|identify[-_]?namespace|nvme[-_]?namespace",
        _bytes(read.read_nvme_namespace),
        looks_like=_is_namespace,
        fields=at.NVME_NAMESPACE,
    ),
    PageKind(
        "nvme-health",
        DRIVE,
        r"nvme[-_]?health|health[-_]?log|^log[-_]?02|^smart[-_]?log(?![-_]?(dir|0))",
        _bytes(read.read_nvme_health),
        judge.judge_nvme,
        looks_like=_is_health,
        fields=at.NVME_HEALTH,
    ),
    PageKind(
        "smart-status",
        DRIVE,
        r"smart[-_]?status|return[-_]?status",
        _bytes(read.read_smart_status),
        judge.judge_status,
        looks_like=_is_sense,
    ),
    PageKind(
        "smart-data",
        DRIVE,
        r"smart[-_]?data|smart[-_]?values|^attributes",
        _smart_data,
        judge.judge_smart,
        looks_like=lambda data: _is_smart(data, thresholds=False),
        fields=at.SMART_TAIL,
        repeated=Repeated(*_ENTRY, "attribute"),
    ),
    PageKind(
        "smart-thresholds",
        DRIVE,
        r"thresh",
        _bytes(read.read_smart_thresholds),
        judge.judge_thresholds,
        looks_like=lambda data: _is_smart(data, thresholds=True),
        early=True,
        repeated=Repeated(*_ENTRY, "threshold"),
    ),
    PageKind(
        "ata-identify",
        DRIVE,
        r"identify|^ident",
        _bytes(read.read_ata_identify),
        judge.judge_identity,
        looks_like=_is_identify,
        early=True,
        fields=at.ATA_IDENTIFY,
    ),
)

BY_ID: Mapping[str, PageKind] = {kind.id: kind for kind in KINDS}
DRIVE_KINDS = tuple(kind.id for kind in KINDS if kind.scope == DRIVE)

# the order in which content is asked: the most telling marks first
_BY_CONTENT = (
    "read-map",
    "nvme-controller",
    "nvme-namespace",
    "ata-identify",
    "smart-thresholds",
    "smart-data",
    "nvme-health",
    "smart-status",
)


def kind_of(path: str, data: bytes) -> PageKind | None:
    """The kind of a page by its name, or by its content where the name says nothing; None where neither helps."""
    low = path.lower()
    for kind in KINDS:
        if kind.fits(low):
            return kind
    for name in _BY_CONTENT:
        looks_like = BY_ID[name].looks_like
        if looks_like and looks_like(data):
            return BY_ID[name]
    return None


def field_at(kind: str, byte: int) -> tuple[str, int, int] | None:
    """(name, first byte, size) of what stands at a byte of such a page; None where the layouts name nothing."""
    known = BY_ID.get(kind)
    if known is None:
        return None
    run = known.repeated
    if run:
        base = byte // at.SECTOR * at.SECTOR if run.paged else 0
        if run.start <= byte - base < run.start + run.size * run.count:
            number = (byte - base - run.start) // run.size
            return f"{run.name} {number + 1}", base + run.start + number * run.size, run.size
    for field in known.fields:
        if field.at <= byte < field.at + field.size:
            return field.name.replace("_", " "), field.at, field.size
    return None
