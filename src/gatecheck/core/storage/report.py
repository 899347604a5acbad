"""A decoded capture as plain JSON-ready values: for the command line, the server and the Pages instrument."""

from __future__ import annotations

from dataclasses import asdict, is_dataclass

from gatecheck.core.storage.capture import DECODED, Capture, Drive, Page
from gatecheck.core.storage.judge_logs import events, log_weights
from gatecheck.core.storage.layout import NVME_HEALTH

Json = dict[str, object]


def capture_document(capture: Capture) -> Json:
    """`identity`, `pages`, `findings` as the contract says, and `devices` with the same per drive."""
    drives = [_drive(d, capture) for d in capture.drives]
    identities = {d.device: d.identity for d in capture.drives}
    single = len(capture.drives) == 1
    return {
        "identity": next(iter(identities.values()), None) if single or not identities else identities,
        "pages": [_page(p) for p in capture.pages],
        "findings": [{"device": d.device, **asdict(f)} for d in capture.drives for f in d.findings],
        "devices": drives,
    }


def _drive(drive: Drive, capture: Capture) -> Json:
    pages = drive.pages
    return {
        "device": drive.device,
        "bus": drive.bus,
        "identity": drive.identity,
        "verdict": drive.verdict,
        "passes_pages": not pages.hidden,
        "weights": drive.weights,
        "findings": [asdict(f) for f in drive.findings],
        "readings": _readings(drive),
        "pages": [_page(p) for p in capture.pages if p.device == drive.device],
        "hours": drive.logs.hours,
        "events": [asdict(e) for e in events(drive.logs)],
        "statistics": [asdict(s) for s in drive.logs.statistics.values] if drive.logs.statistics else [],
        "log_weights": log_weights(drive.logs),
    }


def _readings(drive: Drive) -> list[Json]:
    """All readings in one shape, whatever the drive speaks."""
    pages = drive.pages
    if pages.smart:
        return [
            {**asdict(r), "below_now": r.below_now, "below_ever": r.below_ever, "page": "smart-data"} for r in pages.smart.readings
        ]
    if not pages.nvme:
        return []
    health = pages.nvme
    rows: list[tuple[str, int, str, str]] = [
        ("temperature", health.temperature, "degC", "temperature"), ("spare blocks left", health.spare, "%", "spare"),
        ("rated life used", health.used, "%", "used"), ("data read", health.bytes_read, "B", "units_read"),
        ("data written", health.bytes_written, "B", "units_written"), ("power cycles", health.power_cycles, "", "power_cycles"),
        ("power-on time", health.power_on_hours, "h", "power_on_hours"), ("unsafe shutdowns", health.unsafe_shutdowns, "", "unsafe_shutdowns"),
        ("media errors", health.media_errors, "", "media_errors"), ("error log entries", health.error_log_count, "", "error_log_count"),
    ]  # fmt: skip
    places = {field.name: field.at for field in NVME_HEALTH}
    return [{"name": name, "value": value, "unit": unit, "page": "nvme-health", "at": places[field]} for name, value, unit, field in rows]


def _page(page: Page) -> Json:
    values = asdict(page.values) if is_dataclass(page.values) and not isinstance(page.values, type) else None
    return {
        "path": page.path, "device": page.device, "kind": page.kind, "status": page.status, "size": page.size,
        "detail": page.detail, "decoded": page.status == DECODED, "values": values,
    }  # fmt: skip
