"""A made-up repair counter: Gullhaven Repair Loft. Everything in it is invented; its tapes run through the engine."""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from importlib import resources
from typing import Any

from gatecheck.core.storage import encode
from gatecheck.server.bench import Bench

SHOP, PREFIX, BAYS = "Gullhaven Repair Loft", "GL", 6
_GB = 10**9

Line = dict[str, Any] | tuple[str, bytes]


def closed_tickets() -> list[dict[str, Any]]:
    """Tickets handed over in the last weeks, as `make_closed` wrote them: machines of a rehearsal under the planner."""
    text = (resources.files("gatecheck.server") / "closed.json").read_text(encoding="utf-8")
    records: list[dict[str, Any]] = json.loads(text)
    return records


@dataclass(frozen=True, slots=True)
class Machine:
    """A machine of the demo. Lines: an entry, or (file name, bytes) dropped on the ticket."""

    customer: str
    machine: str
    words: str
    facts: Mapping[str, Any]
    lines: tuple[Line, ...]
    bay: int | None = None
    taken_in: int = 60
    """minutes ago"""
    every: int = 4
    """minutes between entries"""
    by: tuple[str, ...] = field(default=("KT",))


def reading(*moves: str) -> Iterable[dict[str, Any]]:
    """`move=outcome` as entries."""
    for text in moves:
        move, _, outcome = text.partition("=")
        yield {"move": move, "outcome": outcome}


def capture(device: str, pages: Mapping[str, bytes]) -> bytes:
    """A capture file with the pages of one drive."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in {"manifest.json": json.dumps({"format": 1, "pages": sorted(pages)}).encode(), **pages}.items():
            entry = zipfile.ZipInfo(name if name == "manifest.json" else f"{device}/{name}")
            entry.compress_type = zipfile.ZIP_DEFLATED
            archive.writestr(entry, data)
    return buffer.getvalue()


def disk_capture(
    model: str, serial: str, size_gb: int, attributes: list[encode.Attribute], *, exceeded: bool = False, rotation: int = 5400
) -> bytes:
    """Pages of an ATA drive as a capture."""
    return capture("sda", {
        "identify.bin": encode.ata_identify(model=model, serial=serial, sectors=size_gb * _GB // 512, rotation=rotation),
        "smart-data.bin": encode.smart_data(attributes),
        "smart-thresh.bin": encode.smart_thresholds(attributes),
        "smart-status.bin": encode.smart_status(exceeded=exceeded),
    })  # fmt: skip


def flash_capture(model: str, serial: str, size_gb: int, **health: int) -> bytes:
    """Pages of an NVMe drive as a capture."""
    return capture("nvme0", {
        "id-ctrl.bin": encode.nvme_controller(model=model, serial=serial, capacity=size_gb * _GB),
        "log-02.bin": encode.nvme_health(**{"temperature": 311, "spare": 100, "spare_threshold": 10, **health}),
    })  # fmt: skip


def _disk_readings(hours: int, **counts: int) -> list[encode.Attribute]:
    pending, moved, crc = counts.get("pending", 0), counts.get("reallocated", 0), counts.get("crc", 0)
    return [
        encode.Attribute(1, 0, threshold=51, prefailure=True),
        encode.Attribute(5, moved, now=100 - min(moved // 4, 90), worst=100 - min(moved // 4, 90), threshold=36, prefailure=True),
        encode.Attribute(9, hours, now=max(1, 100 - hours // 900), worst=max(1, 100 - hours // 900)),
        encode.Attribute(10, 0, threshold=97, prefailure=True),
        encode.Attribute(12, 2140),
        encode.Attribute(187, 0),
        encode.Attribute(194, 36, now=64, worst=52),
        encode.Attribute(197, pending),
        encode.Attribute(198, pending),
        encode.Attribute(199, crc, now=200, worst=200),
    ]


def machines() -> list[Machine]:
    """Nine machines at different points of the line."""
    return [
        Machine(
            "Harbour office", "Ferrow Adze-22", "Moved to another desk on Friday, now it asks for a boot device.",
            {"platform": "pc", "form": "desktop", "installed_os": "windows-10", "drive_kind": "hdd", "drive_year": 2021, "data": "unknown", "drive_size_gb": 1000},
            (*reading("story=knock", "screen=no-boot-device", "setup-entry=reached", "clock=right", "seen-setup=absent", "seen-picker=absent"),),
            bay=1, taken_in=48, by=("KT", "MO"),
        ),
        Machine(
            "Choir office", "Ferrow Lathe-14", "It slid off a music stand. All the concert photos are on it.",
            {"platform": "pc", "form": "laptop", "installed_os": "windows-10", "drive_kind": "hdd", "drive_year": 2016, "data": "irreplaceable", "drive_size_gb": 500, "mains": "connected"},
            (*reading("story=knock", "screen=no-boot-device", "sound=ticking", "setup-entry=reached", "seen-setup=zero-size"),),
            bay=2, taken_in=26,
        ),
        Machine(
            "Bakery on Quay Street", "Ostler Tarn Mini", "Slow for weeks, then it stopped in the middle of the orders.",
            {"platform": "pc", "form": "desktop", "installed_os": "windows-10", "drive_kind": "hdd", "drive_year": 2019, "data": "irreplaceable", "drive_size_gb": 1000},
            (
                *reading("story=slow-lately", "screen=repair-loop", "live-start=runs", "seen-live=right"),
                ("tarn-mini-sda.gcap", disk_capture("QUARRY SPINDLE 1000", "QS7-204417", 1000, _disk_readings(31240, pending=3, reallocated=12))),
                *reading("copy-data=complete"),
                {"started": "read-scan", "minutes": 75},
            ),
            bay=3, taken_in=112, every=12, by=("MO",),
        ),
        Machine(
            "School lab 3", "Ostler Bracken-15", "Somebody looked at the settings.",
            {"platform": "pc", "form": "laptop", "installed_os": "windows-11", "drive_kind": "sata-ssd", "drive_year": 2023, "data": "none", "mains": "connected"},
            (*reading("story=settings-touched", "screen=network-boot", "setup-entry=reached", "clock=right", "boot-mode=fits", "seen-setup=right", "boot-order=other-first"),),
            bay=4, taken_in=19, every=2, by=("MO",),
        ),
        Machine(
            "Boatbuilder Larsund & Daughters, drawing office on the slip", "Ferrow Lathe-14", "Power cut during the storm, then a blue screen.",
            {"platform": "pc", "form": "laptop", "installed_os": "windows-10", "drive_kind": "nvme", "drive_year": 2022, "data": "irreplaceable", "mains": "connected"},
            (
                *reading("story=power-cut", "screen=volume-stop", "live-start=runs"),
                ("lathe-nvme.gcap", flash_capture("QUARRY FLINT N512", "QF5-118802", 512, used=11, power_on_hours=5210, power_cycles=980, unsafe_shutdowns=41, units_read=21_400_000, units_written=15_900_000)),
                *reading("volume-look=damaged"),
                {"started": "copy-data", "minutes": 60},
            ),
            bay=5, taken_in=70, every=8, by=("KT",),
        ),
        Machine(
            "Tide library", "Ostler Bracken-15", "It warns about the drive at every start.",
            {"platform": "pc", "form": "laptop", "installed_os": "windows-10", "drive_kind": "nvme", "drive_year": 2018, "data": "backed-up", "mains": "connected", "machine_value": 320},
            (
                *reading("story=routine", "screen=health-warning"),
                ("bracken-nvme.gcap", flash_capture("QUARRY FLINT N256", "QF2-009914", 256, critical_warning=1, spare=4, used=104, power_on_hours=21900, power_cycles=3100, unsafe_shutdowns=77, units_read=98_000_000, units_written=301_000_000)),
            ),
            bay=6, taken_in=35, by=("KT",),
        ),
        Machine(
            "Net loft co-operative", "Ferrow Adze-22", "Updated overnight, now it only offers repairs.",
            {"platform": "pc", "form": "desktop", "installed_os": "windows-11", "drive_kind": "nvme", "drive_year": 2024, "data": "backed-up"},
            (
                *reading("story=after-update", "screen=repair-loop", "live-start=runs"),
                ("adze-nvme.gcap", flash_capture("QUARRY FLINT N1000", "QF9-300127", 1000, used=3, power_on_hours=1900, power_cycles=410, unsafe_shutdowns=4, units_read=9_000_000, units_written=7_500_000)),
                *reading("disk-layout=sound", "loader-look=sound", "volume-look=clean", "reduced-start=works"),
            ),
            taken_in=95, every=7, by=("MO",),
        ),
        Machine(
            "Lighthouse trust", "Ostler Tarn Mini", "A brand-new drive, and still a warning at every start.",
            {"platform": "pc", "form": "desktop", "installed_os": "linux", "drive_kind": "sata-ssd", "drive_year": 2026, "data": "backed-up"},
            (
                *reading("story=after-service", "screen=health-warning", "live-start=runs"),
                ("tarn-ssd.gcap", disk_capture("QUARRY FLINT S480", "QF4-771200", 480, [encode.Attribute(5, 0, threshold=10, prefailure=True), encode.Attribute(9, 31), encode.Attribute(12, 14), encode.Attribute(177, 0, now=100, worst=100), encode.Attribute(199, 0)], rotation=0)),
                *reading("long-test=passed"),
            ),
            taken_in=240, every=15, by=("KT",),
        ),
        Machine(
            "Ferry kiosk", "Ferrow Lathe-14", "It stopped after the till stick was plugged in.",
            {"platform": "pc", "form": "laptop", "installed_os": "windows-10", "drive_kind": "sata-ssd", "drive_year": 2023, "data": "backed-up", "mains": "connected"},
            (
                *reading("story=routine", "screen=wrong-boot-device", "pull-externals=boots", "setup-entry=reached", "clock=right", "boot-order=system-first", "seen-setup=right", "screen=boots"),
                {"signed": "release", "fix": None},
            ),
            taken_in=55, every=5, by=("MO", "KT"),
        ),
    ]  # fmt: skip


def fill(bench: Bench) -> None:
    """Take all demo machines in and lay their tapes; behind them the tickets of the last weeks, already handed over."""
    started = datetime.now(UTC)
    for machine in machines():
        moment = started - timedelta(minutes=machine.taken_in)
        first = [line for line in machine.lines[:2] if isinstance(line, dict)]
        ticket = bench.take_in(
            customer=machine.customer, machine=machine.machine, words=machine.words, facts=machine.facts, entries=first,
            bay=machine.bay, by=machine.by[0], at=moment.isoformat(timespec="milliseconds"),
        )  # fmt: skip
        for index, line in enumerate(machine.lines[len(first) :]):
            moment += timedelta(minutes=machine.every)
            by, at = machine.by[index % len(machine.by)], moment.isoformat(timespec="milliseconds")
            if isinstance(line, dict):
                bench.append(ticket.id, line, by=by, at=at)
            else:
                bench.add_file(ticket.id, line[0], line[1], by=by, at=at)
    bench.bring_in_closed(closed_tickets(), started)
