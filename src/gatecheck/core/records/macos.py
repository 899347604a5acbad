"""What macOS has written down: which system, its clock, starts and shutdowns (its log names both by the second), disk
errors of its kernel, what was installed, reports of a kernel that stopped.

Read where the volume can be read: HFS Plus. A system whose log is kept in another form says nothing here of its
starts."""

from __future__ import annotations

import bz2
import plistlib
import re
import zlib
from xml.parsers.expat import ExpatError

from gatecheck.core.records.moments import iso, of_unix, seconds_of
from gatecheck.core.records.report import (
    Happened,
    LogRead,
    MacSystem,
    RecordFinding,
    Records,
    apart,
    counted,
    grouped,
    last_before_trouble,
    last_good,
    sentence_of,
)
from gatecheck.core.records.rules import RecordRules
from gatecheck.core.records.source import Files
from gatecheck.core.records.text_logs import line_of
from gatecheck.core.records.windows import Update
from gatecheck.core.records.zone import Zone, read_zone
from gatecheck.core.words.said import Said

_VERSION = "System/Library/CoreServices/SystemVersion.plist"
_HISTORY = "Library/Receipts/InstallHistory.plist"
_REPORTS = "Library/Logs/DiagnosticReports"
_LOG, _OLDER = "private/var/log/system.log", (*(f".{n}.{end}" for n in range(7, -1, -1) for end in ("gz", "bz2")), "")
_ZONE = "private/etc/localtime"
_LARGEST, _MOST_LINES, _LONGEST, _MOST_REPORTS, _MOST_PLIST = 32 << 20, 1_000_000, 4096, 50, 8 << 20
_START = re.compile(r"BOOT_TIME:? (\d{9,10})\b")
_STOP = re.compile(r"(?:SHUTDOWN|REBOOT)_TIME:? (\d{9,10})\b")
_DISK = re.compile(r"\b(disk\d+(?:s\d+)?): I/O error")
_REPORT = re.compile(r"(\d{4})-(\d\d)-(\d\d)-(\d\d)(\d\d)(\d\d)")
_PANIC = re.compile(r"panic\(cpu \d+ caller 0x[0-9A-Fa-f]+\): \\?\"?([^\"\n\\]{1,120})")


def macos_records(files: Files, rules: RecordRules) -> Records | None:
    """None where there is no such system."""
    told = _plist(files, _VERSION)
    if not isinstance(told, dict):
        return None
    name, zone = _zone_of(files)
    own = Records("")
    version, build = (_text(told.get(key)) for key in ("ProductVersion", "ProductBuildVersion"))
    own.mac = MacSystem(str(told.get("ProductName") or "macOS"), version, build, name)
    own.updates = _installed(files)
    happened, moments = _log(files, own, zone)
    happened += [Happened(u.at, "update-installed", "installer", 0, "", u.name) for u in own.updates if u.at]
    happened += _panics(files, zone)
    happened.sort(key=lambda e: e.at or 0)
    own.events = grouped(happened, rules)
    starts = apart([e.at for e in happened if e.kind == "start" and e.at is not None])
    stops = [e.at for e in happened if e.kind == "stop" and e.at is not None]
    own.last_good_start = last_good(starts, sorted(moments), rules)
    if starts:
        after = [s for s in stops if s >= starts[-1]]
        own.clean = True if after else False if own.log_whole else None
        own.last_shutdown = after[-1] if after else max(moments, default=None)
    own.findings = _findings(own, happened, rules)
    own.sentence = sentence_of(own)
    return own


def _text(value: object) -> str | None:
    return None if value is None else str(value)


def _plist(files: Files, path: str) -> object:
    raw = files.read(path)
    if raw is None or raw[1] or len(raw[0]) > _MOST_PLIST:
        return None
    try:
        return plistlib.loads(raw[0])
    except (ValueError, ExpatError, RecursionError):
        return None


def _zone_of(files: Files) -> tuple[str | None, Zone | None]:
    link = files.link(_ZONE)
    name = link.partition("zoneinfo/")[2] or None
    for path in (_ZONE, link.lstrip("/"), f"usr/share/zoneinfo/{name}", f"private{link}"):
        raw = files.read(path) if path else None
        if raw is not None:
            return name, read_zone(raw[0])
    return name, None


def _installed(files: Files) -> list[Update]:
    rows = _plist(files, _HISTORY)
    found = []
    for row in rows if isinstance(rows, list) else ():
        date = row.get("date") if isinstance(row, dict) else None
        parts = [getattr(date, part, None) for part in ("year", "month", "day", "hour", "minute", "second")]
        if not isinstance(row, dict) or not all(isinstance(part, int) for part in parts):
            continue
        at = of_unix(seconds_of(*(int(part) for part in parts if part is not None)))
        name = " ".join(str(row[key]) for key in ("displayName", "displayVersion") if row.get(key))
        found.append(Update(at, name[:120], "installed"))
    return sorted(found, key=lambda u: u.at or 0)


def _log(files: Files, own: Records, zone: Zone | None) -> tuple[list[Happened], list[float]]:
    """(events, moments at which something was written)."""
    texts = [(path, raw) for path, raw in ((_LOG + end, files.read(_LOG + end)) for end in _OLDER) if raw is not None]
    plain = [(path, _plain(raw[0]), raw[1]) for path, raw in texts]
    exact = [int(n) for _, data, _ in plain for n in re.findall(rb"(?:BOOT|SHUTDOWN|REBOOT)_TIME:? (\d{9,10})\b", data)]
    latest = max(exact, default=None)
    found, moments, seen = list[Happened](), list[float](), 0
    for path, data, lost in plain:
        lines, first, last = 0, None, None
        for line in data.split(b"\n"):
            seen += 1
            if seen > _MOST_LINES:
                break
            text = line[:_LONGEST].decode("utf-8", "replace")
            event = _event(text, zone, latest)
            at = event.at if event else None
            if event is not None:
                found.append(event)
            if at is None:
                told = line_of(text, zone, latest)
                at = told[0] if told else None
            if at is not None:
                moments.append(at)
                lines, first, last = lines + 1, first if first is not None else at, at
        torn = (f"{lost} bytes could not be read",) if lost else () if data or path == _LOG else ("cannot be unpacked",)
        own.log_whole &= not torn
        own.logs.append(LogRead(path, lines, first, last, torn))
    return found, moments


def _plain(raw: bytes) -> bytes:
    """Its newest part, unpacked where it is packed."""
    try:
        if raw[:2] == b"\x1f\x8b":
            return zlib.decompressobj(wbits=31).decompress(raw, _LARGEST)
        if raw[:3] == b"BZh":
            return bz2.BZ2Decompressor().decompress(raw, _LARGEST)
    except (zlib.error, OSError, ValueError):
        return b""
    return raw[-_LARGEST:]


def _event(text: str, zone: Zone | None, latest: float | None) -> Happened | None:
    for kind, pattern in (("start", _START), ("stop", _STOP)):
        found = pattern.search(text)
        if found:
            at = of_unix(int(found[1]))
            return Happened(at, kind, "system.log", 0, "", "") if at is not None else None
    disk = _DISK.search(text)
    told = line_of(text, zone, latest) if disk else None
    if disk is None or told is None:
        return None
    return Happened(told[0], "disk-error", disk[1], 0, "request-failed", "")


def _panics(files: Files, zone: Zone | None) -> list[Happened]:
    found = []
    names = [n for n in files.names(_REPORTS) if n.lower().endswith((".panic", ".ips"))]
    for name in names[-_MOST_REPORTS:]:
        raw = files.head(f"{_REPORTS}/{name}", 1 << 16)
        said = _PANIC.search(raw.decode("utf-8", "replace")) if raw else None
        if said is None:
            continue  # a report of a program
        when = _REPORT.search(name)
        local = of_unix(seconds_of(*(int(part) for part in when.groups()))) if when else None
        at = zone.utc(local) if zone is not None and local is not None else None
        found.append(Happened(at, "stop-code", "panic", 0, "", said[1].strip()))
    return found


def _findings(own: Records, happened: list[Happened], rules: RecordRules) -> list[RecordFinding]:
    found = list(counted(happened, rules))

    def add(id: str, where: str = "", events: int = 0, **values: object) -> None:
        found.append(RecordFinding(id, where, rules.weights[id].of(events), Said(f"records.{id}", values)))

    update = last_before_trouble(own, rules)
    if update is not None:
        add("update-before", update.name, what=update.name, at=iso(update.at))
    stops = [e for e in happened if e.kind == "stop-code"]
    if stops:
        add("crashes", events=len(stops), count=len(stops), at=iso(stops[-1].at), what=stops[-1].what)
    if own.clean is False:
        add("not-clean")
    return sorted(found, key=lambda f: -f.weight)
