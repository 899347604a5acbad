"""What the installed Windows of a practice machine has written down of itself. All of it is made up, and ends two
evenings ago."""

from __future__ import annotations

import random
import struct
import time
from collections.abc import Callable, Iterator, Mapping
from typing import Any

from gatecheck.core.records.encode_evtx import Made, event_log
from gatecheck.core.records.encode_hive import hive

_DAY, _EVENING, _FROM_1601 = 86_400, 18.2 * 3600, 11_644_473_600
_UPDATES, _STOPS = "Microsoft-Windows-WindowsUpdateClient", "Microsoft-Windows-WER-SystemErrorReporting"
_CONFIG = "Windows/System32/config"


def last_evening() -> float:
    """Seconds since 1970."""
    return time.time() // _DAY * _DAY - 2 * _DAY + _EVENING


def _ticks(at: float) -> int:
    return int((at + _FROM_1601) * 10_000_000)


def _days(end: float, count: int, chance: random.Random) -> Iterator[tuple[float, float]]:
    """(start, stop) of so many days on which it was used, the last of them at `end`."""
    for day in reversed(range(count)):
        if day and chance.random() < 0.2:
            continue
        start = end - day * _DAY - chance.uniform(2, 7) * 3600
        yield start, start + chance.uniform(1, 4) * 3600


def _used(end: float, count: int, seed: int) -> list[Made]:
    chance, made = random.Random(seed), list[Made]()
    for start, stop in _days(end, count, chance):
        made += [Made(start, "EventLog", 6005), Made(start + 400, "Service Control Manager", 7036)]
        made += [Made(stop - 60, "Service Control Manager", 7036), Made(stop, "EventLog", 6006)]
    return made


def _update_broke(end: float) -> list[Made]:
    made = _used(end - _DAY, 40, 1)
    made += [
        Made(end - 5400, "EventLog", 6005),
        Made(end - 5000, "Service Control Manager", 7036),
        Made(end - 1500, "Microsoft-Windows-WindowsUpdateClient", 19, {"updateTitle": "Quarry storage driver 4.11"}),
        Made(
            end - 1400, "Microsoft-Windows-WindowsUpdateClient", 19, {"updateTitle": "Cumulative update for November"}
        ),
        Made(end, "EventLog", 6006),
    ]
    for n in range(3):
        made += [
            Made(end + 300 + 240 * n, "EventLog", 6005),
            Made(
                end + 310 + 240 * n, "Microsoft-Windows-WER-SystemErrorReporting", 1001, {"param1": "0x0000007b (0x1)"}
            ),
        ]
    return made


def _power_cuts(end: float) -> list[Made]:
    made = _used(end, 50, 2)
    for day in (31, 17, 9, 3, 0):
        at = end - day * _DAY + 1800
        made += [
            Made(at, "EventLog", 6005),
            Made(at + 200, "Service Control Manager", 7036),
            Made(at + 3600, "EventLog", 6005),
            Made(at + 3610, "Microsoft-Windows-Kernel-Power", 41, {"BugcheckCode": "0"}),
            Made(at + 3612, "EventLog", 6008),
        ]
    made.append(Made(end + 5500, "Ntfs", 55, {"DriveName": "C:"}))
    return made


def _disk_weeks(end: float) -> list[Made]:
    made, chance = _used(end, 60, 3), random.Random(4)
    for day in range(45):
        for _ in range(chance.choice((0, 0, 1, 2, 5)) * (1 + (45 - day) // 15)):
            at = end - day * _DAY - chance.uniform(0, 5000)
            made.append(Made(at, "disk", chance.choice((7, 7, 7, 51, 153)), {}))
    return made


_KINDS: Mapping[str, Callable[[float], list[Made]]] = {
    "update-broke": _update_broke,
    "power-cuts": _power_cuts,
    "disk-weeks": _disk_weeks,
}


def record_files(kind: str) -> dict[str, bytes]:
    """Hives and log of a machine that this happened to: update-broke, power-cuts, disk-weeks."""
    end = last_evening()
    control: dict[str, Any] = {
        "PEFirmwareType": 2,
        "TimeZoneInformation": {"TimeZoneKeyName": "Made-Up Standard Time"},
        "Windows": {"ShutdownTime": struct.pack("<Q", _ticks(end))},
    }
    services = {
        "storahci": {"Start": 0, "Type": 1, "Group": "SCSI Miniport"},
        "stornvme": {"Start": 3, "Type": 1, "Group": "SCSI Miniport"},
    }
    version = {
        "ProductName": "Windows 11 Home",
        "EditionID": "Core",
        "CurrentBuild": "22631",
        "UBR": 4317,
        "DisplayVersion": "23H2",
        "InstallDate": 1_700_000_000,
    }
    made = sorted(_KINDS[kind](end), key=lambda own: own.at)
    return {
        f"{_CONFIG}/SYSTEM": hive(
            {"Select": {"Current": 1}, "ControlSet001": {"Control": control, "Services": services}}
        ),
        f"{_CONFIG}/SOFTWARE": hive({"Microsoft": {"Windows NT": {"CurrentVersion": version}}}),
        "Windows/System32/drivers/storahci.sys": b"MZ" + bytes(400),
        "Windows/System32/winevt/Logs/System.evtx": event_log(made),
    }
