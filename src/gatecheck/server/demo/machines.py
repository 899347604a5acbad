"""The demo's machines on the bench: facts and tapes. Everything in them is invented."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from gatecheck.core.storage import encode
from gatecheck.server.demo.pages import disk_capture, disk_readings, flash_capture, growing_surface


@dataclass(frozen=True, slots=True)
class Row:
    """A row of the settings sheet as somebody read it."""

    id: str
    value: str


@dataclass(frozen=True, slots=True)
class DriveSeen:
    """A drive at a vantage point."""

    at: str
    value: str
    what: str = "drive"


@dataclass(frozen=True, slots=True)
class Action:
    """A step of the job, answered."""

    step: str
    answer: str
    value: str | int | None = None


@dataclass(frozen=True, slots=True)
class DemoIntake:
    """A group that came off the machine."""

    name: str
    count: int
    kind: str
    fields: tuple[int, ...]
    what: str = "screw"


@dataclass(frozen=True, slots=True)
class Outcome:
    """The last group that lies out is in its place again."""


@dataclass(frozen=True, slots=True)
class SoundHeard:
    """The drive was held to a microphone."""

    kind: str
    name: str


@dataclass(frozen=True, slots=True)
class Choice:
    """A drive of the shelf."""

    name: str
    serial: str


@dataclass(frozen=True, slots=True)
class DemoPicture:
    """A picture of a drive's lid."""

    says: str
    dent: tuple[float, float]


@dataclass(frozen=True, slots=True)
class HandedOver:
    """The machine is handed over: what it was, and why lines of its proof stay open, where they do."""

    faults: tuple[str, ...]
    waive: str | None = None


Line = (
    dict[str, Any]
    | tuple[str, bytes]
    | Row
    | DriveSeen
    | Action
    | DemoIntake
    | Outcome
    | Choice
    | DemoPicture
    | HandedOver
    | SoundHeard
)

SHELF = """kind,name,interface,form,key,height_mm,length_mm,flash,size_gb,price,count
drive,QUARRY FLINT S250,sata,2.5,,7,,yes,250,38,3
drive,QUARRY FLINT S500,sata,2.5,,7,,yes,500,62,3
drive,QUARRY FLINT S1000,sata,2.5,,7,,yes,1000,94,2
drive,QUARRY SPINDLE 500,sata,2.5,,9.5,,no,500,41,1
drive,QUARRY SPINDLE 1000,sata,3.5,,26.1,,no,1000,48,4
drive,QUARRY SPINDLE 2000,sata,3.5,,26.1,,no,2000,66,1
drive,QUARRY FLINT N250,nvme,m2,m,2.2,80,yes,250,39,2
drive,QUARRY FLINT N500,nvme,m2,m,2.2,80,yes,500,64,2
drive,QUARRY FLINT N1000,nvme,m2,m,2.2,80,yes,1000,97,1
cable,Data cable 30 cm,sata,other,,,300,no,,4,9
"""

_OPENED = (
    DemoIntake("Under the rear feet", 2, "9 mm", (1, 3)),
    DemoIntake("Base cover", 7, "6 mm", (1, 3, 4, 6, 7, 9)),
    DemoIntake("Pad cable", 1, "latch up", (8,), "cable"),
    DemoIntake("Carrier", 2, "4 mm", (4,)),
)


@dataclass(frozen=True, slots=True)
class DemoMachine:
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
    practice: str | None = None
    """the practice machine that is linked to it once the server runs"""


def reading(*moves: str) -> Iterable[dict[str, Any]]:
    """`move=outcome` as entries."""
    for text in moves:
        move, _, outcome = text.partition("=")
        yield {"move": move, "outcome": outcome}


def machines() -> list[DemoMachine]:
    """Twenty machines at different points of the line; the instruments of a gate have theirs, and so has each stage of
    the work after the call."""
    return [
        DemoMachine(
            "Harbour office",
            "Ferrow Adze-22",
            "Moved to another desk on Friday, now it asks for a boot device.",
            {
                "platform": "pc",
                "form": "desktop",
                "installed_os": "windows-10",
                "drive_kind": "hdd",
                "drive_year": 2021,
                "data": "unknown",
                "drive_size_gb": 1000,
            },
            (
                *reading(
                    "story=knock",
                    "screen=no-boot-device",
                    "setup-entry=reached",
                    "clock=right",
                    "seen-setup=absent",
                    "seen-picker=absent",
                ),
            ),
            bay=1,
            taken_in=48,
            by=("KT", "MO"),
        ),
        DemoMachine(
            "Choir office",
            "Ferrow Lathe-14",
            "It slid off a music stand. All the concert photos are on it.",
            {
                "platform": "pc",
                "form": "laptop",
                "installed_os": "windows-10",
                "drive_kind": "hdd",
                "drive_year": 2016,
                "data": "irreplaceable",
                "drive_size_gb": 500,
                "mains": "connected",
            },
            (
                *reading(
                    "story=knock",
                    "screen=no-boot-device",
                    "sound=ticking",
                    "setup-entry=reached",
                    "seen-setup=zero-size",
                ),
                SoundHeard("ticking", "lathe-14.wav"),
            ),
            bay=2,
            taken_in=26,
        ),
        DemoMachine(
            "Bakery on Quay Street",
            "Ostler Tarn Mini",
            "Slow for weeks, then it stopped in the middle of the orders.",
            {
                "platform": "pc",
                "form": "desktop",
                "installed_os": "windows-10",
                "drive_kind": "hdd",
                "drive_year": 2019,
                "data": "irreplaceable",
                "drive_size_gb": 1000,
            },
            (
                *reading("story=slow-lately", "screen=repair-loop", "live-start=runs", "seen-live=right"),
                (
                    "tarn-mini-sda.gcap",
                    disk_capture(
                        "QUARRY SPINDLE 1000", "QS7-310222", 1000, disk_readings(31_010, pending=2, reallocated=9)
                    ),
                ),
                *reading("copy-data=complete"),
                (
                    "tarn-mini-surface.gcap",
                    disk_capture(
                        "QUARRY SPINDLE 1000",
                        "QS7-310222",
                        1000,
                        disk_readings(31_012, pending=2, reallocated=9),
                        surface=growing_surface(later=False),
                    ),
                ),
                (
                    "tarn-mini-surface-2.gcap",
                    disk_capture(
                        "QUARRY SPINDLE 1000",
                        "QS7-310222",
                        1000,
                        disk_readings(31_020, pending=31, reallocated=9),
                        surface=growing_surface(later=True),
                    ),
                ),
                {"started": "read-scan", "minutes": 75},
            ),
            bay=3,
            taken_in=112,
            every=12,
            by=("MO",),
            practice="growing",
        ),
        DemoMachine(
            "School lab 3",
            "Ostler Bracken-15",
            "Somebody looked at the settings.",
            {
                "platform": "pc",
                "form": "laptop",
                "installed_os": "windows-11",
                "drive_kind": "sata-ssd",
                "drive_year": 2023,
                "data": "none",
                "mains": "connected",
            },
            (
                *reading(
                    "story=settings-touched",
                    "screen=network-boot",
                    "setup-entry=reached",
                    "clock=right",
                    "boot-mode=fits",
                    "seen-setup=right",
                    "boot-order=other-first",
                ),
            ),
            bay=4,
            taken_in=19,
            every=2,
            by=("MO",),
        ),
        DemoMachine(
            "Boatbuilder Larsund & Daughters, drawing office on the slip",
            "Ferrow Lathe-14",
            "Power cut during the storm, then a blue screen.",
            {
                "platform": "pc",
                "form": "laptop",
                "installed_os": "windows-10",
                "drive_kind": "nvme",
                "drive_year": 2022,
                "data": "irreplaceable",
                "mains": "connected",
            },
            (
                *reading("story=power-cut", "screen=volume-stop", "live-start=runs"),
                (
                    "lathe-nvme.gcap",
                    flash_capture(
                        "QUARRY FLINT N512",
                        "QF5-118802",
                        512,
                        used=11,
                        power_on_hours=5210,
                        power_cycles=980,
                        unsafe_shutdowns=41,
                        units_read=21_400_000,
                        units_written=15_900_000,
                    ),
                ),
                *reading("volume-look=damaged"),
                {"started": "copy-data", "minutes": 60},
            ),
            bay=5,
            taken_in=70,
            every=8,
            by=("KT",),
        ),
        DemoMachine(
            "Tide library",
            "Ostler Bracken-15",
            "It warns about the drive at every start.",
            {
                "platform": "pc",
                "form": "laptop",
                "installed_os": "windows-10",
                "drive_kind": "nvme",
                "drive_year": 2018,
                "data": "backed-up",
                "mains": "connected",
                "machine_value": 320,
            },
            (
                *reading("story=routine", "screen=health-warning"),
                (
                    "bracken-nvme.gcap",
                    flash_capture(
                        "QUARRY FLINT N256",
                        "QF2-009914",
                        256,
                        critical_warning=1,
                        spare=4,
                        used=104,
                        power_on_hours=21900,
                        power_cycles=3100,
                        unsafe_shutdowns=77,
                        units_read=98_000_000,
                        units_written=301_000_000,
                    ),
                ),
            ),
            taken_in=35,
            by=("KT",),
        ),
        DemoMachine(
            "Net loft co-operative",
            "Ferrow Adze-22",
            "Updated overnight, now it only offers repairs.",
            {
                "platform": "pc",
                "form": "desktop",
                "installed_os": "windows-11",
                "drive_kind": "nvme",
                "drive_year": 2024,
                "data": "backed-up",
            },
            (
                *reading("story=after-update", "screen=repair-loop", "live-start=runs"),
                (
                    "adze-nvme.gcap",
                    flash_capture(
                        "QUARRY FLINT N1000",
                        "QF9-300127",
                        1000,
                        used=3,
                        power_on_hours=1900,
                        power_cycles=410,
                        unsafe_shutdowns=4,
                        units_read=9_000_000,
                        units_written=7_500_000,
                    ),
                ),
                *reading("disk-layout=sound", "loader-look=sound", "volume-look=clean", "reduced-start=works"),
            ),
            taken_in=95,
            every=7,
            by=("MO",),
        ),
        DemoMachine(
            "Lighthouse trust",
            "Ostler Tarn Mini",
            "A brand-new drive, and still a warning at every start.",
            {
                "platform": "pc",
                "form": "desktop",
                "installed_os": "linux",
                "drive_kind": "sata-ssd",
                "drive_year": 2026,
                "data": "backed-up",
            },
            (
                *reading("story=after-service", "screen=health-warning", "live-start=runs"),
                (
                    "tarn-ssd.gcap",
                    disk_capture(
                        "QUARRY FLINT S480",
                        "QF4-771200",
                        480,
                        [
                            encode.SmartAttribute(5, 0, threshold=10, prefailure=True),
                            encode.SmartAttribute(9, 31),
                            encode.SmartAttribute(12, 14),
                            encode.SmartAttribute(177, 0, now=100, worst=100),
                            encode.SmartAttribute(199, 0),
                        ],
                        rotation=0,
                    ),
                ),
                *reading("long-test=passed"),
            ),
            taken_in=240,
            every=15,
            by=("KT",),
        ),
        DemoMachine(
            "Ferry kiosk",
            "Ferrow Lathe-14",
            "It stopped after the till stick was plugged in.",
            {
                "platform": "pc",
                "form": "laptop",
                "installed_os": "windows-10",
                "drive_kind": "sata-ssd",
                "drive_year": 2023,
                "data": "backed-up",
                "mains": "connected",
            },
            (
                *reading(
                    "story=routine",
                    "screen=wrong-boot-device",
                    "pull-externals=boots",
                    "setup-entry=reached",
                    "clock=right",
                    "boot-order=system-first",
                    "seen-setup=right",
                    "screen=boots",
                ),
                {"signed": "release", "fix": None},
            ),
            taken_in=55,
            every=5,
            by=("MO", "KT"),
        ),
        DemoMachine(
            "Rope walk museum",
            "Ostler Tarn Mini",
            "It stood unplugged all winter. Now it asks for a boot device.",
            {
                "platform": "pc",
                "form": "desktop",
                "installed_os": "windows-10",
                "drive_kind": "sata-ssd",
                "drive_year": 2022,
                "data": "backed-up",
                "disk_layout": "gpt",
            },
            (
                *reading("story=routine", "screen=no-boot-device"),
                {"tried_key": "Esc", "opens": "setup", "worked": False},
                {"tried_key": "Del", "opens": "setup", "worked": True},
                *reading("setup-entry=reached"),
                Row("clock", "reset"),
                Row("boot-mode", "legacy"),
                Row("secure-boot", "on"),
                Row("storage-mode", "ahci"),
                Row("port", "on"),
                DriveSeen("setup", "right"),
            ),
            taken_in=32,
            every=2,
            by=("MO",),
        ),
        DemoMachine(
            "Sail loft",
            "Fathom Sill-24",
            "A grey screen with a question mark since this morning.",
            {
                "platform": "mac",
                "form": "all-in-one",
                "installed_os": "macos",
                "drive_kind": "hdd",
                "drive_year": 2015,
                "data": "irreplaceable",
            },
            (
                *reading("story=slow-lately", "screen=missing-disk-symbol", "sound=steady"),
                {"tried_key": "Alt", "opens": "picker", "worked": True},
                DriveSeen("picker", "absent"),
                {"tried_key": "Cmd+R", "opens": "recovery", "worked": True},
                *reading("recovery-start=from-network"),
            ),
            taken_in=44,
            every=4,
            by=("KT",),
        ),
        DemoMachine(
            "Pilot station",
            "Ferrow Adze-22",
            "Stops with a code since the battery was changed.",
            {
                "platform": "pc",
                "form": "desktop",
                "installed_os": "windows-7",
                "drive_kind": "hdd",
                "drive_year": 2014,
                "data": "backed-up",
                "mains": "connected",
            },
            (
                *reading("story=after-service", "screen=volume-stop"),
                {"tried_key": "F10", "opens": "setup", "worked": True},
                *reading("setup-entry=reached", "clock=right"),
                DriveSeen("setup", "right"),
                Row("boot-mode", "legacy"),
                Row("secure-boot", "off"),
                Row("storage-mode", "raid"),
                Row("boot-order", "system-first"),
                {"changed": "set-storage-mode", "before": "raid", "after": "ahci", "walk": True},
                {"move": "set-storage-mode", "outcome": "no-change"},
                {"put_back": "set-storage-mode"},
                {"changed": "set-storage-mode", "before": "raid", "after": "compatible", "walk": True},
            ),
            taken_in=38,
            every=2,
            by=("KT", "MO"),
        ),
        DemoMachine(
            "Salt Lane surgery",
            "Ferrow Lathe-14",
            "A cousin put a bigger drive in and copied everything over.",
            {
                "platform": "pc",
                "form": "laptop",
                "installed_os": "windows-11",
                "drive_kind": "nvme",
                "drive_year": 2026,
                "drive_size_gb": 1000,
                "data": "backed-up",
                "mains": "connected",
            },
            (
                *reading("story=after-service", "screen=no-boot-device"),
                {"tried_key": "F2", "opens": "setup", "worked": True},
                *reading("setup-entry=reached"),
                DriveSeen("setup", "right"),
                DriveSeen("picker", "absent"),
            ),
            taken_in=28,
            every=3,
            by=("MO",),
            practice="stale-entry",
        ),
        DemoMachine(
            "Sextant bookshop",
            "Ferrow Lathe-14",
            "It fell from the ladder with the order list open.",
            {
                "platform": "pc",
                "form": "laptop",
                "installed_os": "windows-10",
                "drive_kind": "hdd",
                "drive_year": 2019,
                "drive_size_gb": 500,
                "used_gb": 212,
                "data": "backed-up",
                "mains": "connected",
                "account": "local",
            },
            (
                *reading(
                    "story=knock",
                    "screen=no-boot-device",
                    "sound=ticking",
                    "setup-entry=reached",
                    "seen-setup=zero-size",
                ),
                {"signed": "replace", "fix": "replace-drive"},
                Action("way-replace", "install"),
                Action("edition", "home"),
                Action("licence", "firmware"),
                Action("missed", "noted", "the till program, its printer, mail of the last year"),
                Choice("QUARRY FLINT S500", "QF7-500231"),
                Action("mains", "connected"),
                Action("power-off", "dead"),
                *_OPENED,
                Action("strip", "open"),
                Action("marks", "dented", "the hinge's screw post"),
                Action("label", "read", "QS5-120774"),
                Action("made", "year", 2019),
            ),
            bay=6,
            taken_in=74,
            every=3,
            by=("KT",),
        ),
        DemoMachine(
            "Kelp and Daughter, dyers",
            "Ostler Bracken-15",
            "Blue screens since the last update, then nothing but repairs.",
            {
                "platform": "pc",
                "form": "laptop",
                "installed_os": "windows-11",
                "drive_kind": "nvme",
                "drive_year": 2023,
                "drive_size_gb": 500,
                "data": "backed-up",
                "consent": "given",
                "mains": "connected",
                "account": "online",
                "disk_layout": "gpt",
            },
            (
                *reading("story=after-update", "screen=repair-loop", "live-start=runs"),
                (
                    "bracken-nvme.gcap",
                    flash_capture(
                        "QUARRY FLINT N500",
                        "QF6-771203",
                        500,
                        used=6,
                        power_on_hours=2890,
                        power_cycles=760,
                        unsafe_shutdowns=12,
                        units_read=11_000_000,
                        units_written=8_200_000,
                    ),
                ),
                *reading(
                    "disk-layout=sound",
                    "loader-look=sound",
                    "volume-look=clean",
                    "reduced-start=fails",
                    "roll-back=no-change",
                    "reset-keep=could-not",
                ),
                {"signed": "reinstall", "fix": "reinstall"},
                Action("way-other", "as-called"),
                Action("edition", "home"),
                Action("licence", "account"),
                Action("missed", "noted", "pattern program, colour printer"),
                Action("customer-yes", "given"),
                Action("mains", "connected"),
                Action("media", "started"),
                Action("right-drive", "this", "1203"),
                Action("unallocate", "done"),
                Action("begin", "running"),
            ),
            taken_in=79,
            every=4,
            by=("MO",),
        ),
        DemoMachine(
            "Ferryman's almanac",
            "Ferrow Adze-22",
            "Sometimes it starts, sometimes there is no drive.",
            {
                "platform": "pc",
                "form": "desktop",
                "installed_os": "windows-10",
                "drive_kind": "hdd",
                "drive_year": 2020,
                "drive_size_gb": 1000,
                "data": "irreplaceable",
            },
            (
                *reading(
                    "story=knock",
                    "screen=no-boot-device",
                    "sound=steady",
                    "setup-entry=reached",
                    "clock=wrong",
                    "seen-setup=absent",
                ),
                {"signed": "repair", "fix": "reseat"},
                Action("way-other", "as-called"),
                Action("power-off", "dead"),
                DemoIntake("Side panel", 2, "thumb", (3, 9)),
                Action("strip", "open"),
                Action("marks", "none"),
                Action("reseat", "loose"),
                Action("detected", "right"),
                Outcome(),
                Action("close", "closed"),
                Action("cold-1", "starts"),
            ),
            taken_in=82,
            every=4,
            by=("KT", "MO"),
        ),
        DemoMachine(
            "Oar and Anchor, inn",
            "Ferrow Lathe-14",
            (
                "A barrel rolled against it. Since then it ticks and finds nothing to start from. All the bookings of "
                "the "
                "summer are on it."
            ),
            {
                "platform": "pc",
                "form": "laptop",
                "installed_os": "windows-10",
                "drive_kind": "hdd",
                "drive_year": 2018,
                "drive_size_gb": 500,
                "used_gb": 140,
                "data": "backed-up",
                "mains": "connected",
                "account": "local",
                "machine_value": 450,
            },
            (
                *reading(
                    "story=knock",
                    "screen=no-boot-device",
                    "sound=ticking",
                    "setup-entry=reached",
                    "seen-setup=zero-size",
                ),
                {"signed": "replace", "fix": "replace-drive"},
                Action("way-replace", "install"),
                Action("edition", "home"),
                Action("licence", "firmware"),
                Action("missed", "noted", "the bookings, two printers"),
                Choice("QUARRY FLINT S500", "QF7-500198"),
                Action("mains", "connected"),
                Action("power-off", "dead"),
                DemoIntake("Base cover", 8, "6 mm", (1, 2, 3, 7, 8, 9)),
                DemoIntake("Carrier", 2, "4 mm", (4,)),
                Action("strip", "open"),
                DemoPicture("The lid of the drive, with the dent of the blow", (0.66, 0.4)),
                Action("marks", "dented", "the corner where the barrel hit"),
                Action("label", "read", "QS5-118340"),
                Action("made", "year", 2018),
                Action("carrier", "label-up-left"),
                Action("new-in", "in"),
                Action("detected", "right"),
                Outcome(),
                Outcome(),
                Action("close", "closed"),
                Action("new-pages", "clean"),
                Action("media", "started"),
                Action("right-drive", "this", "0198"),
                Action("unallocate", "done"),
                Action("begin", "running"),
                Action("stick-out", "out"),
                Action("account", "local"),
                Action("order-again", "first"),
                Action("updates", "round", 31),
                Action("updates", "round", 6),
                Action("updates", "none"),
                Action("drivers", "none"),
                Action("activation", "active"),
                Action("data-back", "checked", "bookings, mail and pictures: 9,214 files, 138 GB"),
                Action("old-drive", "back"),
                Action("cold-1", "starts"),
                Action("cold-2", "starts"),
                Action("size", "right"),
                Action("new-short", "passed"),
                Action("data-seen", "seen"),
            ),
            taken_in=130,
            every=2,
            by=("KT",),
        ),
        DemoMachine(
            "Barnacle cleaners",
            "Ostler Tarn Mini",
            "It clunks and stays black. It has been slow for a year.",
            {
                "platform": "pc",
                "form": "desktop",
                "installed_os": "windows-7",
                "drive_kind": "hdd",
                "drive_year": 2013,
                "drive_size_gb": 500,
                "data": "none",
                "machine_value": 60,
            },
            (
                *reading(
                    "story=slow-lately",
                    "screen=no-boot-device",
                    "sound=clunking",
                    "setup-entry=reached",
                    "seen-setup=zero-size",
                ),
                {"signed": "replace", "fix": "replace-drive"},
                Action("way-replace", "nothing"),
                {"note": "The repair costs more than the machine: they keep it for its case."},
                Action("as-found", "as-found"),
                HandedOver(("drive.mechanical",)),
            ),
            taken_in=180,
            every=6,
            by=("MO",),
        ),
        DemoMachine(
            "Chapel accounts",
            "Ferrow Adze-22",
            "The power went while it was saving. Since then it stops half-way.",
            {
                "platform": "pc",
                "form": "desktop",
                "installed_os": "windows-10",
                "drive_kind": "sata-ssd",
                "drive_year": 2021,
                "drive_size_gb": 32,
                "data": "backed-up",
                "consent": "given",
            },
            (*reading("story=power-cut", "screen=volume-stop"),),
            taken_in=35,
            every=3,
            by=("MO",),
            practice="torn-volume",
        ),
        DemoMachine(
            "Berit's photographs",
            "Ostler Tarn Mini",
            "Thirty years of photographs, and it makes a face at half of them.",
            {
                "platform": "pc",
                "form": "desktop",
                "installed_os": "windows-10",
                "drive_kind": "hdd",
                "drive_year": 2016,
                "drive_size_gb": 80,
                "data": "irreplaceable",
            },
            (*reading("story=slow-lately", "screen=other-stop", "sound=steady"),),
            taken_in=48,
            every=3,
            by=("MO",),
            practice="fading-photos",
        ),
    ]
