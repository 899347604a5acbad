"""What the installed system of a practice machine has written down of itself. All of it is made up, and ends two
evenings ago."""

from __future__ import annotations

import plistlib
import random
import struct
import time
from collections.abc import Callable, Iterator, Mapping
from datetime import UTC, datetime
from typing import Any

from gatecheck.core.records.encode_evtx import Made, event_log
from gatecheck.core.records.encode_hive import hive
from gatecheck.core.records.encode_journal import journal
from gatecheck.core.records.own_repair import PATH

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


def _repair_loop(end: float) -> list[Made]:
    made = _used(end, 40, 6)
    for n in range(4):
        made += [Made(end + 600 + 900 * n, "EventLog", 6005), Made(end + 640 + 900 * n, "EventLog", 6006)]
    return made


def _trail(attempts: int) -> bytes:
    """What its own repair left: blocks, a count, and a code behind each test; the words are made up."""
    lines = ["Made-up trail", "-" * 27, "Seen well: long ago", f"Turns taken: {attempts}", ""]
    for turn in range(attempts):
        lines += ["Turn", "-" * 27, "Disk = \\Device\\Harddisk0", "Place = W", ""]
        for name, code in (
            ("Room", 0),
            ("Table of parts", 0),
            ("Files of the start", 0x490 if turn else 0),
            ("Catalogue", 0x2),
        ):
            lines += ["Look", "-" * 27, f"What: {name}", f"End: made up. Code = 0x{code:x}", "Took = 15 ms", ""]
    return "\r\n".join(lines).encode("utf-16")


def _mode_changed(end: float) -> list[Made]:
    """Its firmware lost its settings one evening; since then it stops before it can write down anything."""
    return _used(end, 40, 8)


_KINDS: Mapping[str, Callable[[float], list[Made]]] = {
    "update-broke": _update_broke,
    "power-cuts": _power_cuts,
    "disk-weeks": _disk_weeks,
    "repair-loop": _repair_loop,
    "mode-changed": _mode_changed,
}


def record_files(kind: str) -> dict[str, bytes]:
    """Hives and log of a machine that this happened to: update-broke, power-cuts, disk-weeks, repair-loop,
    mode-changed."""
    end = last_evening()
    control: dict[str, Any] = {
        "PEFirmwareType": 2,
        "TimeZoneInformation": {"TimeZoneKeyName": "Made-Up Standard Time"},
        "Windows": {"ShutdownTime": struct.pack("<Q", _ticks(end))},
    }
    services: dict[str, dict[str, Any]] = {
        "storahci": {"Start": 0, "Type": 1, "Group": "SCSI Miniport"},
        "stornvme": {"Start": 3, "Type": 1, "Group": "SCSI Miniport"},
    }
    drivers = ["storahci"]
    if kind == "mode-changed":  # installed for RAID: its driver starts, the other is set not to
        services["storahci"] |= {"Start": 0, "StartOverride": {"0": 3}}
        services["iastorvd"] = {"Start": 0, "Type": 1, "Group": "SCSI Miniport"}
        drivers.append("iastorvd")
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
        **{f"Windows/System32/drivers/{name}.sys": b"MZ" + bytes(400) for name in drivers},
        "Windows/System32/winevt/Logs/System.evtx": event_log(made),
        **({PATH: _trail(4)} if kind == "repair-loop" else {}),
    }


_REACHED, _STOPPED = "b07a249cd024414a82dd00cd181378ff", "d93fb3c9c24d451a97cea615ce59c00b"
GONE = "6d0c1f4e-7b52-4f0a-9c3d-0e51b7c2a9f4"
"""UUID of a volume that went with the drive it was on"""


def _line(text: str, source: str = "systemd", **more: str) -> dict[str, str]:
    return {"MESSAGE": text, "PRIORITY": "6", "SYSLOG_IDENTIFIER": source, **more}


def linux_records(root: str) -> dict[str, bytes]:
    """Of a Linux whose table of volumes names a disk that was taken out yesterday. root: UUID of its own volume."""
    end, chance, entries = last_evening(), random.Random(5), list[tuple[float, str, Mapping[str, str]]]()
    for number, (start, stop) in enumerate(_days(end - 3600, 30, chance), 1):
        entries += [
            (start, f"{number:032x}", _line("Linux version 6.1.0-39-amd64", "kernel", _TRANSPORT="kernel")),
            (start + 21, f"{number:032x}", _line("Startup finished in 9.1s (kernel) + 11.4s.", MESSAGE_ID=_REACHED)),
            (start + 1800, f"{number:032x}", _line("Finished Discard unused blocks.")),
            (stop, f"{number:032x}", _line("Journal stopped", "systemd-journald", MESSAGE_ID=_STOPPED)),
        ]
    for number in range(2):
        run, start = f"{200 + number:032x}", end + 3600 + 900 * number
        entries += [
            (start, run, _line("Linux version 6.1.0-39-amd64", "kernel", _TRANSPORT="kernel")),
            (start + 90, run, _line(f"Timed out waiting for device /dev/disk/by-uuid/{GONE}.")),
            (start + 91, run, _line("Dependency failed for srv-photos.mount - /srv/photos.")),
            (start + 92, run, _line("Started emergency.service - Emergency Shell.")),
            (start + 500, run, _line("Journal stopped", "systemd-journald", MESSAGE_ID=_STOPPED)),
        ]
    return {
        "etc/os-release": b'NAME="Loft Linux"\nVERSION_ID="12"\n',
        "etc/fstab": f"UUID={root} / ext4 errors=remount-ro 0 1\nUUID={GONE} /srv/photos ext4 defaults 0 2\n".encode(),
        "etc/adjtime": b"0.0 0 0.0\n0\nUTC\n",
        "var/log/journal/2b1e/system.journal": journal(entries, packed="zstd", compact=True),
        "var/log/dpkg.log": b"2026-01-12 19:02:11 status installed linux-image-6.1.0-39-amd64:amd64 6.1.170-1\n",
        "boot/vmlinuz-6.1.0-39-amd64": bytes(4000),
        "boot/initrd.img-6.1.0-39-amd64": bytes(6000),
        "lib/modules/6.1.0-39-amd64/modules.dep": b"kernel/fs/ext4/ext4.ko:\n",
        "sbin/init": b"\x7fELF" + bytes(4000),
    }


_ZONE_FILE = b"TZif2" + bytes(15) + struct.pack(">6I", 0, 0, 0, 0, 1, 4) + bytes(6) + b"UTC\0"
_ZONE_FILE += b"TZif2" + bytes(15) + struct.pack(">6I", 0, 0, 0, 0, 1, 4) + bytes(6) + b"UTC\0\nUTC0\n"


def mac_records() -> dict[str, bytes]:
    """Of a Mac whose disk has failed to read for weeks: its log, and what was installed."""
    end, chance, lines = last_evening(), random.Random(21), list[tuple[float, str]]()
    for start, stop in _days(end, 34, chance):
        lines.append((start, f"bootlog[0]: BOOT_TIME {int(start)} 0"))
        lines += [(at, "albumd[211]: catalogue saved") for at in (start + 300, stop - 90)]
        if end - start < 20 * _DAY:
            lines += [(start + n, "kernel[0]: disk0s2: I/O error.") for n in (700, 1900)[: chance.randint(0, 2)]]
        if stop < end - _DAY:
            lines.append((stop, f"shutdown[402]: SHUTDOWN_TIME: {int(stop)} 0"))
    text = "".join(f"{time.strftime('%b %e %H:%M:%S', time.gmtime(at))} album {line}\n" for at, line in sorted(lines))
    installed = [
        {
            "date": datetime.fromtimestamp(end - days * _DAY, UTC).replace(tzinfo=None),
            "displayName": name,
            "displayVersion": version,
        }
        for days, name, version in ((210, "Album 4", "4.2"), (95, "Security Update 2", "10.13.6"))
    ]
    return {
        "private/var/log/system.log": text.encode(),
        "private/etc/localtime": _ZONE_FILE,
        "Library/Receipts/InstallHistory.plist": plistlib.dumps(installed),
    }
