"""A set of raw pages (path -> bytes) sorted by drive, decoded and judged. Damaged pages leave the good ones alone."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass

from gatecheck.core.errors import DecodeError
from gatecheck.core.findings import Finding
from gatecheck.core.manifest import Listed, read_manifest
from gatecheck.core.storage import layout as at
from gatecheck.core.storage import logs, read
from gatecheck.core.storage.judge import DrivePages, health_weights, judge, ranked
from gatecheck.core.storage.judge_logs import Logs, judge_logs
from gatecheck.core.storage.logs import ErrorLog, SelfTestLog, Statistics

DECODED, EMPTY, REFUSED, FAILED, BROKEN, UNKNOWN = "decoded", "empty", "refused", "failed", "broken", "unknown"
"""`failed`: there are no bytes, because a call never came back or went wrong; the manifest says how"""

# kind -> (words in a file's name that suggest it, size in bytes or None)
KINDS: Mapping[str, tuple[str, int | None]] = {
    "ata-identify": (r"identify|^ident", at.SECTOR),
    "smart-data": (r"smart[-_]?data|smart[-_]?values|^attributes", at.SECTOR),
    "smart-thresholds": (r"thresh", at.SECTOR),
    "smart-status": (r"smart[-_]?status|return[-_]?status", None),
    "nvme-controller": (r"id[-_]?ctrl|identify[-_]?controller|nvme[-_]?controller", at.NVME_PAGE),
    "nvme-namespace": (r"id[-_]?ns|identify[-_]?namespace|nvme[-_]?namespace", at.NVME_PAGE),
    "nvme-health": (r"nvme[-_]?health|health[-_]?log|^log[-_]?02|^smart[-_]?log(?![-_]?(dir|0))", at.SECTOR),
    "log-directory": (r"log[-_]?dir|^(smart|gp|ext)[-_]?log[-_]?00", at.SECTOR),
    "ata-errors": (r"^smart[-_]?log[-_]?01|summary[-_]?error", at.SECTOR),
    "ata-errors-ext": (r"^(smart|gp|ext)[-_]?log[-_]?03|(ext|comprehensive)[-_]?error", None),
    "device-statistics": (r"^(smart|gp|ext)[-_]?log[-_]?04|device[-_]?stat|devstat", None),
    "ata-self-tests": (r"^smart[-_]?log[-_]?06|^self[-_]?test", at.SECTOR),
    "ata-self-tests-ext": (r"^(smart|gp|ext)[-_]?log[-_]?07|ext[-_]?self[-_]?test", None),
    "nvme-errors": (r"^log[-_]?01|nvme[-_]?error", None),
    "nvme-firmware": (r"^log[-_]?03|firmware[-_]?slot", at.SECTOR),
    "nvme-self-tests": (r"^log[-_]?06|nvme[-_]?self[-_]?test", None),
}
_LOGS = ("log-directory", "ata-errors", "ata-errors-ext", "device-statistics", "ata-self-tests", "ata-self-tests-ext", "nvme-errors", "nvme-firmware", "nvme-self-tests")
"""pages that a drive may well do without; they are told by their name only"""
_ORDER = (*_LOGS, "nvme-controller", "nvme-namespace", "nvme-health", "smart-thresholds", "smart-status", "smart-data", "ata-identify")

# what other files in a capture are, so that a page that cannot be decoded yet is at least named
_OTHER = (
    (r"(^|/)efivars/", "UEFI variable"),
    (r"(^|/)dmi/", "SMBIOS table"),
    (r"(^|/)sysblock/", "block device facts"),
    (r"dmesg", "kernel messages"),
    (r"cmdline", "kernel command line"),
    (r"lba0", "first sectors of the disk"),
    (r"lba[-_]?last", "last sectors of the disk"),
    (r"part\d+[-_]", "first sectors of a partition"),
    (r"manifest\.json$|README", "description of the capture"),
)
_NOT_A_DRIVE = (r"^efivars$", r"^dmi$", r"^sysblock$", r"^$")


@dataclass(frozen=True, slots=True)
class Page:
    """One file of a capture. `values` is set where it was decoded, `detail` where it was not."""

    path: str
    device: str
    kind: str
    status: str
    detail: str
    values: object | None
    size: int


@dataclass(frozen=True, slots=True)
class Drive:
    """One drive of a capture with everything that could be said about it."""

    device: str
    bus: str
    pages: DrivePages
    logs: Logs
    findings: tuple[Finding, ...]
    weights: dict[str, float] | None
    verdict: str

    @property
    def identity(self) -> dict[str, object] | None:
        if self.pages.ata:
            ata = self.pages.ata
            return {**asdict(ata), "capacity": ata.capacity, "bus": self.bus}
        if self.pages.controller:
            capacity = self.pages.controller.capacity or (self.pages.namespace.capacity if self.pages.namespace else 0)
            return {**asdict(self.pages.controller), "capacity": capacity, "rotation": 0, "bus": self.bus}
        return None


@dataclass(frozen=True, slots=True)
class Capture:
    pages: tuple[Page, ...]
    drives: tuple[Drive, ...]


def kind_of(path: str, data: bytes) -> str | None:
    """The kind of a page by its name, or by its content where the name says nothing; None where neither helps."""
    name = path.rsplit("/", 1)[-1].lower()
    parents = path.lower()
    if any(re.search(pattern, parents) for pattern, _ in _OTHER):
        return None
    for kind in _ORDER:
        if re.search(KINDS[kind][0], name):
            return kind
    return _kind_by_content(data)


def _kind_by_content(data: bytes) -> str | None:
    for kind in (
        "nvme-controller",
        "nvme-namespace",
        "ata-identify",
        "smart-thresholds",
        "smart-data",
        "nvme-health",
        "smart-status",
    ):
        if _looks_like(kind, data):
            return kind
    return None


def _looks_like(kind: str, data: bytes) -> bool:
    if kind == "nvme-controller":
        return len(data) == at.NVME_PAGE and data[512] & 0xF == 6 and _printable(data[4:64])
    if kind == "nvme-namespace":
        return len(data) == at.NVME_PAGE and 9 <= data[130] <= 16 and any(data[:8])
    if kind == "ata-identify":
        return len(data) == at.SECTOR and _printable(data[54:94]) and any(data[54:94])
    if kind in ("smart-data", "smart-thresholds"):
        if len(data) != at.SECTOR or sum(data) & 0xFF or not any(data):
            return False
        reserved = all(not any(data[2 + 12 * i + 2 : 14 + 12 * i]) for i in range(30))
        return reserved if kind == "smart-thresholds" else any(data[362:386])
    if kind == "nvme-health":
        kelvin = int.from_bytes(data[1:3], "little")
        return len(data) == at.SECTOR and 220 <= kelvin <= 420 and data[3] <= 100
    return 8 <= len(data) <= 252 and data[0] & 0x7F in (*at.SENSE_FIXED, *at.SENSE_DESCRIPTOR)


def _printable(raw: bytes) -> bool:
    return all(0x20 <= b < 0x7F for b in raw.rstrip(b"\x00")) and bool(raw.strip(b" \x00"))


def read_capture(files: Mapping[str, bytes], *, kind: str | None = None) -> Capture:
    """Decode all pages. `kind` overrides detection (for a single page). Never raises for damaged pages."""
    listed = read_manifest(files)
    by_device: dict[str, dict[str, bytes]] = {}
    for path in sorted({*files, *(path for path, page in listed.items() if page.status != "ok")}):
        by_device.setdefault(_device_of(path), {})[path] = files.get(path, b"")
    pages: list[Page] = []
    drives: list[Drive] = []
    for device, own in by_device.items():
        facts = files.get(f"sysblock/{_disk_of(device, files)}.txt", b"").decode("ascii", "replace")
        found, drive = _read_device(device, own, facts, kind, listed)
        pages += found
        if drive:
            drives.append(drive)
    return Capture(tuple(pages), tuple(drives))


def _device_of(path: str) -> str:
    folder = path.rsplit("/", 1)[0] if "/" in path else ""
    return "" if any(re.search(pattern, folder) for pattern in _NOT_A_DRIVE) else folder


def _disk_of(device: str, files: Mapping[str, bytes]) -> str:
    """nvme0 in a capture is the controller; its facts stand under its first namespace."""
    name = device.rsplit("/", 1)[-1]
    return name if f"sysblock/{name}.txt" in files else f"{name}n1"


def _read_device(
    device: str, files: Mapping[str, bytes], facts: str, kind: str | None, listed: Mapping[str, Listed]
) -> tuple[list[Page], Drive | None]:
    pages: list[Page] = []
    decoded: dict[str, object] = {}
    failed = 0
    kinds = {path: kind or kind_of(path, data) for path, data in files.items()}
    # identity and thresholds first: they say how the readings are to be read; later pages replace earlier ones
    rank = {"ata-identify": 0, "smart-thresholds": 1}
    for path in sorted(files, key=lambda p: (rank.get(kinds[p] or "", 2), "after" in p, p)):
        page = _unread(path, device, kinds[path], files[path], listed.get(path)) or _read_page(path, device, kinds[path], files[path], decoded)
        pages.append(page)
        if page.status == DECODED and page.values is not None:
            decoded[page.kind] = page.values
        elif page.kind in KINDS and page.kind not in _LOGS:
            failed += 1
    known = [page for page in pages if page.kind in KINDS]
    if not known or all(page.kind == "log-directory" for page in known):
        return pages, None
    hidden = not decoded.keys() - {"smart-status", "nvme-errors"} and all(page.status in (EMPTY, REFUSED) for page in known if page.kind not in ("smart-status", "nvme-errors"))
    drive_pages = _drive_pages(decoded, hidden, failed)
    findings = judge(drive_pages)
    own_logs = _logs(decoded, drive_pages)
    findings = ranked([*findings, *judge_logs(own_logs, findings)])
    weights = health_weights(drive_pages, findings)
    bus = _bus(facts, drive_pages)
    return pages, Drive(device, bus, drive_pages, own_logs, tuple(findings), weights, _verdict(drive_pages, findings, weights))


def _logs(decoded: Mapping[str, object], pages: DrivePages) -> Logs:
    errors = {k: v for k, v in decoded.items() if isinstance(v, ErrorLog)}
    tests = {k: v for k, v in decoded.items() if isinstance(v, SelfTestLog)}
    statistics = decoded.get("device-statistics")
    known = statistics if isinstance(statistics, Statistics) else None
    hours = pages.nvme.power_on_hours if pages.nvme else pages.smart.power_on_hours if pages.smart else None
    if hours is None and known:
        hours = known.get("power-on time")
    return Logs(errors, tests, known, hours, is_nvme=pages.controller is not None or pages.nvme is not None)


def _unread(path: str, device: str, kind: str | None, data: bytes, listed: Listed | None) -> Page | None:
    """A page that the manifest says was not read, or whose bytes are not the ones it lists; None for any other."""
    if listed is None:
        return None
    what = kind or next((words for pattern, words in _OTHER if re.search(pattern, path.lower())), "unknown page")
    if listed.status != "ok":
        status = REFUSED if listed.status == "refused" else FAILED
        return Page(path, device, what, status, f"{listed.status}: {listed.detail}", None, len(data))
    if listed.sha256 and hashlib.sha256(data).hexdigest() != listed.sha256:
        detail = f"{what}: expected the bytes that the manifest lists ({listed.sha256[:12]}), got others"
        return Page(path, device, what, BROKEN, detail, None, len(data))
    return None


def _drive_pages(decoded: Mapping[str, object], hidden: bool, failed: int) -> DrivePages:
    def of(kind: str, cls: type) -> object | None:
        value = decoded.get(kind)
        return value if isinstance(value, cls) else None

    return DrivePages(
        ata=of("ata-identify", read.AtaIdentity),  # type: ignore[arg-type]
        smart=of("smart-data", read.SmartData),  # type: ignore[arg-type]
        thresholds=of("smart-thresholds", read.SmartThresholds),  # type: ignore[arg-type]
        status=of("smart-status", read.SmartStatus),  # type: ignore[arg-type]
        controller=of("nvme-controller", read.NvmeController),  # type: ignore[arg-type]
        namespace=of("nvme-namespace", read.NvmeNamespace),  # type: ignore[arg-type]
        nvme=of("nvme-health", read.NvmeHealth),  # type: ignore[arg-type]
        hidden=hidden,
        unreadable_pages=failed,
    )


def _read_page(path: str, device: str, kind: str | None, data: bytes, decoded: Mapping[str, object]) -> Page:
    def page(kind: str, status: str, detail: str, values: object | None = None) -> Page:
        return Page(path, device, kind, status, detail, values, len(data))

    refusal = _refusal(path)
    if kind is None:
        what = next((words for pattern, words in _OTHER if re.search(pattern, path.lower())), "unknown page")
        if refusal:
            return page(what, REFUSED, f"{what}: the controller refused it ({refusal})")
        return page(what, UNKNOWN, f"{what}: {len(data)} bytes, not decoded")
    if refusal:
        return page(kind, REFUSED, f"the controller refused it ({refusal})")
    if len(data) >= at.SECTOR and read.is_blank(data) and kind != "nvme-errors":
        return page(kind, EMPTY, "zeros only: the drive keeps nothing here" if kind in _LOGS else "zeros only: the bridge passed nothing on")
    identity, thresholds = decoded.get("ata-identify"), decoded.get("smart-thresholds")
    is_flash = identity.rotation == 0 if isinstance(identity, read.AtaIdentity) and identity.rotation is not None else None
    known = thresholds if isinstance(thresholds, read.SmartThresholds) else None
    readers: dict[str, Callable[[bytes], object]] = {
        "ata-identify": read.read_ata_identify,
        "smart-data": lambda raw: read.read_smart_data(raw, known, is_flash=is_flash),
        "smart-thresholds": read.read_smart_thresholds,
        "smart-status": read.read_smart_status,
        "nvme-controller": read.read_nvme_controller,
        "nvme-namespace": read.read_nvme_namespace,
        "nvme-health": read.read_nvme_health,
        "log-directory": logs.read_log_directory,
        "ata-errors": logs.read_summary_errors,
        "ata-errors-ext": logs.read_extended_errors,
        "device-statistics": logs.read_statistics,
        "ata-self-tests": logs.read_self_tests,
        "ata-self-tests-ext": logs.read_extended_self_tests,
        "nvme-errors": logs.read_nvme_errors,
        "nvme-firmware": logs.read_firmware_slots,
        "nvme-self-tests": logs.read_nvme_self_tests,
    }
    try:
        values = readers[kind](data)
    except DecodeError as error:
        return page(kind, BROKEN, str(error))
    if isinstance(values, read.SmartStatus) and values.refused:
        return page(kind, REFUSED, f"the bridge refused the command ({values.detail})", values)
    return page(kind, DECODED, "", values)


def _refusal(path: str) -> str | None:
    """NVMe completion status from a name such as `log-06.r16386.bin`; 0 is success."""
    match = re.search(r"\.r(\d+)\.", path)
    return f"status {int(match[1]):04X}h" if match and int(match[1]) else None


def _bus(facts: str, pages: DrivePages) -> str:
    if "/usb" in facts:
        return "usb"
    if pages.controller or "transport=pcie" in facts:
        return "nvme"
    return "ata" if pages.ata else "unknown"


def _verdict(pages: DrivePages, findings: list[Finding], weights: dict[str, float] | None) -> str:
    """One sentence that a technician can read at a glance."""
    if pages.hidden:
        return "This bridge passes no drive pages; the drive's health is unknown."
    if weights is None:
        worst = next((f.text for f in findings if f.severity == "failing"), "")
        return f"{worst}." if worst else "Identity only; nothing about its health was read."
    top = max(weights, key=lambda o: weights[o])
    worst = next((f.text for f in findings if f.severity != "note"), "")
    sentences = {
        "clean": "No reading out of order. That is weak proof of health.",
        "early-signs": f"Early signs: {worst}.",
        "failing": f"Failing: {worst}.",
        "link-errors": f"The link loses bits: {worst}. Look at cable and contacts first.",
        "worn-out": f"Worn out: {worst}.",
        "unreadable": "No health page could be read.",
    }
    return sentences[top]
