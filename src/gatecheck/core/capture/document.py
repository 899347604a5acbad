"""A capture as plain JSON-ready values: for the command line, the server and the Pages instrument."""

from __future__ import annotations

from dataclasses import asdict, is_dataclass

from gatecheck.core.capture.drive import Drive
from gatecheck.core.capture.facts import TextPage
from gatecheck.core.capture.medium import CapturedDisk, CapturedVolume
from gatecheck.core.capture.page import DECODED, Page
from gatecheck.core.capture.read import Capture
from gatecheck.core.findings import finding_document
from gatecheck.core.firmware.read import firmware_document
from gatecheck.core.firmware.variables import Variable
from gatecheck.core.storage.judge_logs import LogEvent, events
from gatecheck.core.storage.layout import NVME_HEALTH
from gatecheck.core.words.catalogue import Words

Json = dict[str, object]
_LONGEST_TEXT, _MOST_EVENTS = 20_000, 200


def capture_document(capture: Capture, words: Words) -> Json:
    """`identity`, `pages`, `findings` as the contract says; `devices` with the same per drive; `disks`, `volumes`,
    `firmware`."""
    drives = [drive_document(d, capture, words) for d in capture.drives]
    named = [d for d in capture.drives if d.pages.decoded or not _is_nameless(d)]
    identities = {d.device: d.identity for d in named or capture.drives}
    findings = [{"device": d.device, **finding_document(f, words)} for d in capture.drives for f in d.findings]
    findings += [{"device": "machine", **finding_document(f, words)} for f in capture.notes]
    if capture.firmware:
        findings += [{"device": "firmware", **finding_document(f, words)} for f in capture.firmware.findings]
    return {
        "identity": next(iter(identities.values()), None) if len(identities) < 2 else identities,
        "pages": [page_document(p, words) for p in capture.pages],
        "findings": findings,
        "devices": drives,
        "disks": [_disk(d) for d in capture.disks],
        "volumes": [volume_document(v) for v in capture.volumes],
        "firmware": firmware_document(capture.firmware, words) if capture.firmware else None,
    }


def _is_nameless(drive: Drive) -> bool:
    """Told by the kernel alone, and no more than its size."""
    own = drive.identity
    return own is not None and own.get("told_by") == "kernel" and not own.get("model") and not own.get("serial")


def _disk(disk: CapturedDisk) -> Json:
    table = disk.layout.gpt if disk.layout.kind == "gpt" else disk.layout.mbr if disk.layout.kind == "mbr" else None
    partitions = [asdict(p) for p in table.partitions] if table else []
    return {"device": disk.device, "layout": disk.layout.kind, "sector": disk.sectors.sector, "partitions": partitions}


def volume_document(found: CapturedVolume) -> Json:
    return {
        "device": found.device,
        "partition": found.partition,
        "within": found.within,
        "programs": list(found.programs),
        "volume": asdict(found.volume) if found.volume else None,
    }


def drive_document(drive: Drive, capture: Capture, words: Words) -> Json:
    """One drive with its readings, findings, log and pages; of a long log the newest part."""
    pages = drive.pages
    own_events = events(pages)
    return {
        "device": drive.device,
        "bus": drive.bus,
        "identity": drive.identity,
        "verdict": words.say(drive.verdict),
        "passes_pages": not pages.hidden,
        "weights": drive.weights,
        "findings": [finding_document(f, words) for f in drive.findings],
        "readings": _readings(drive),
        "pages": [page_document(p, words) for p in capture.pages if p.device == drive.device],
        "hours": pages.hours,
        "events": [event_document(e, words) for e in own_events[-_MOST_EVENTS:]],
        "events_in_all": len(own_events),
        "statistics": [asdict(s) for s in pages.statistics.values] if pages.statistics else [],
        "tests": _tests(drive),
        "log_weights": drive.log_weights,
        "namespaces": [
            {"number": number, "capacity": own.capacity, "sector": own.block_size} for number, own in pages.namespaces
        ],
    }


def _tests(drive: Drive) -> dict[str, int]:
    """The self-tests that the drive offers, and the minutes that it says each takes; 0 where it does not say."""
    smart, controller = drive.pages.smart, drive.pages.controller
    if smart:
        own = {
            "short": smart.short_test_minutes,
            "long": smart.long_test_minutes,
            "conveyance": smart.conveyance_test_minutes,
        }
        return {kind: minutes for kind, minutes in own.items() if minutes}
    return {"short": 2, "long": controller.long_test_minutes} if controller and controller.has_self_test else {}


def event_document(event: LogEvent, words: Words) -> Json:
    return {
        "kind": event.kind,
        "hours": event.hours,
        "ago": event.ago,
        "text": words.say(event.text),
        "lba": event.lba,
        "severity": event.severity,
        "page": event.page,
        "at": event.at,
    }


def _readings(drive: Drive) -> list[Json]:
    """All readings in one shape, whatever the drive speaks."""
    pages = drive.pages
    if pages.smart:
        return [
            {**asdict(r), "below_now": r.below_now, "below_ever": r.below_ever, "page": "smart-data"}
            for r in pages.smart.readings
        ]
    if not pages.nvme:
        return [
            {"name": name, "value": value, "unit": unit, "page": kind}
            for name, value, unit, kind in pages.scsi_readings()
        ]
    health = pages.nvme
    rows: list[tuple[str, int, str, str]] = [
        ("temperature", health.temperature, "degC", "temperature"),
        ("spare blocks left", health.spare, "%", "spare"),
        ("rated life used", health.used, "%", "used"),
        ("data read", health.bytes_read, "B", "units_read"),
        ("data written", health.bytes_written, "B", "units_written"),
        ("power cycles", health.power_cycles, "", "power_cycles"),
        ("power-on time", health.power_on_hours, "h", "power_on_hours"),
        ("unsafe shutdowns", health.unsafe_shutdowns, "", "unsafe_shutdowns"),
        ("media errors", health.media_errors, "", "media_errors"),
        ("error log entries", health.error_log_count, "", "error_log_count"),
    ]
    places = {field.name: field.at for field in NVME_HEALTH}
    return [
        {"name": name, "value": value, "unit": unit, "page": "nvme-health", "at": places[field]}
        for name, value, unit, field in rows
    ]


def page_document(page: Page, words: Words) -> Json:
    """One page: what it is, what became of it, and its values where it was decoded."""
    return {
        "path": page.path,
        "device": page.device,
        "kind": page.kind or "unknown",
        "status": page.status,
        "size": page.size,
        "detail": words.say(page.detail),
        "decoded": page.status == DECODED,
        "values": _values(page.values),
    }


def _values(value: object) -> object:
    if isinstance(value, TextPage):
        return {"text": value.text[:_LONGEST_TEXT]}
    if not is_dataclass(value) or isinstance(value, type):
        return None
    return None if isinstance(value, Variable) else asdict(value)  # a variable stands decoded under `firmware`
