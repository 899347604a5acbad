"""What Linux has written down: which system, its clock, starts and shutdowns (wtmp and the journal), what its kernel
and its first process reported, what fstab asks for, kernels and what belongs to them."""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from gatecheck.core.errors import DecodeError
from gatecheck.core.records.evtx import Log
from gatecheck.core.records.journal import JournalEntry, journal_head, read_journal
from gatecheck.core.records.moments import of_unix
from gatecheck.core.records.packages import Packages, read_packages
from gatecheck.core.records.rules import RecordRules
from gatecheck.core.records.source import Files
from gatecheck.core.records.text_logs import read_text_logs
from gatecheck.core.records.zone import Zone, read_zone

_ENTRY = 384
_RUN_LEVEL, _BOOT = 1, 2
_OPTIONAL = ("nofail", "noauto")
_JOURNALS = "var/log/journal"
_FIELDS = frozenset({"MESSAGE", "MESSAGE_ID", "PRIORITY", "SYSLOG_IDENTIFIER", "_TRANSPORT"})
_OF_RUNS = ("start", "stop")
"""kinds of lines that tell of a run, not of what happened in it"""
_MOST_JOURNAL = 192 << 20
"""bytes of journals that are read, the newest first"""


@dataclass(frozen=True, slots=True)
class Mount:
    """A line of fstab. what: the device as it is named there; waits: the start waits for it."""

    what: str
    where: str
    waits: bool


@dataclass(frozen=True, slots=True)
class Kernel:
    """has_modules, has_initrd: None where the place of those cannot be looked at."""

    version: str
    has_modules: bool | None
    has_initrd: bool | None


@dataclass(slots=True)
class JournalRun:
    """A run by its journal. ended: it was shut down."""

    id: str
    first: float
    last: float
    ended: bool = False


@dataclass(frozen=True, slots=True)
class JournalLine:
    """A line of the journal that matters, by table."""

    at: float
    kind: str
    source: str
    says: str
    what: str


@dataclass(frozen=True, slots=True)
class JournalRead:
    path: str
    log: Log
    is_open: bool


@dataclass(frozen=True, slots=True)
class LinuxSystem:
    name: str | None
    version: str | None
    zone: str | None
    universal: bool | None
    starts: tuple[float, ...]
    stops: tuple[float, ...]
    moments: tuple[float, ...]
    """of every entry of wtmp, in order"""
    torn: bool
    mounts: tuple[Mount, ...]
    kernels: tuple[Kernel, ...]
    packages: Packages
    boots: tuple[JournalRun, ...] = ()
    told: tuple[JournalLine, ...] = ()
    journals: tuple[JournalRead, ...] = field(default=())


def _text(files: Files, path: str) -> str | None:
    raw = files.read(path)
    return None if raw is None or len(raw[0]) > 1 << 20 else raw[0].decode("utf-8", "replace")


def read_linux(files: Files, rules: RecordRules) -> LinuxSystem | None:
    told = _text(files, "etc/os-release") or _text(files, "usr/lib/os-release")
    if told is None:
        return None
    fields = dict(line.split("=", 1) for line in told.splitlines() if "=" in line and not line.startswith("#"))
    names = {key: value.strip().strip("\"'") for key, value in fields.items()}
    name, zone = _zone(files)
    adjusted = _text(files, "etc/adjtime")
    raw = files.read("var/log/wtmp")
    starts, stops, moments = _sessions(raw[0]) if raw else ([], [], [])
    packages = read_packages(files, rules.start_packages, zone)
    boots, lines, journals = _journals(files, rules)
    if not journals:
        known = [*moments, *(u.at for u in packages.updates if u.at is not None)]
        boots, lines, journals = _text_logs(files, rules, zone, max(known, default=None))
    return LinuxSystem(
        names.get("NAME"),
        names.get("VERSION_ID") or names.get("VERSION"),
        name,
        None if adjusted is None else "LOCAL" not in adjusted.split(),
        tuple(sorted(starts)),
        tuple(sorted(stops)),
        tuple(sorted(moments)),
        bool(raw and (raw[1] or len(raw[0]) % _ENTRY)),
        tuple(_mounts(_text(files, "etc/fstab") or "")),
        tuple(_kernels(files)),
        packages,
        tuple(boots),
        tuple(lines),
        tuple(journals),
    )


def _zone(files: Files) -> tuple[str | None, Zone | None]:
    """The zone's name, and the zone by its own file: UTC where none was ever set, None where it cannot be read."""
    link = files.link("etc/localtime")
    name = (_text(files, "etc/timezone") or "").strip() or link.partition("zoneinfo/")[2] or None
    for path in ([f"usr/share/zoneinfo/{name}"] if name else []) + ["etc/localtime"]:
        raw = files.read(path)
        zone = read_zone(raw[0]) if raw else None
        if zone is not None:
            return name, zone
    is_set = name is not None or bool(link) or "localtime" in files.names("etc")
    return name, None if is_set else Zone()


def _mounts(text: str) -> Iterator[Mount]:
    for line in text.splitlines():
        words = line.split()
        if len(words) < 3 or words[0].startswith("#"):
            continue
        options = words[3].split(",") if len(words) > 3 else []
        yield Mount(words[0], words[1], words[2] != "swap" and not any(o in options for o in _OPTIONAL))


def _kernels(files: Files) -> Iterator[Kernel]:
    boot = files.names("boot")
    modules = files.names("lib/modules") or files.names("usr/lib/modules")
    for name in boot:
        version = name.partition("-")[2]
        if (
            name.startswith(("vmlinuz-", "vmlinux-")) and version[:1].isdigit()
        ):  # others do not say where their modules are
            first = (f"initrd.img-{version}", f"initramfs-{version}.img", f"initrd-{version}")
            others = any(n.startswith(("initrd", "initramfs")) for n in boot)
            yield Kernel(
                version, version in modules if modules else None, any(n in boot for n in first) if others else None
            )


def _sessions(raw: bytes) -> tuple[list[float], list[float], list[float]]:
    """(starts, shutdowns, all moments) of wtmp, where it has the 64-bit layout that all current systems share."""
    starts: list[float] = []
    stops: list[float] = []
    moments: list[float] = []
    for at in range(0, len(raw) - _ENTRY + 1, _ENTRY):
        kind = struct.unpack_from("<h", raw, at)[0]
        user = raw[at + 44 : at + 76].partition(b"\0")[0]
        when = of_unix(struct.unpack_from("<i", raw, at + 340)[0])
        if when is None:
            continue
        moments.append(when)
        if kind == _BOOT and user == b"reboot":
            starts.append(when)
        elif kind == _RUN_LEVEL and user == b"shutdown":
            stops.append(when)
    return starts, stops, moments


def _journals(files: Files, rules: RecordRules) -> tuple[list[JournalRun], list[JournalLine], list[JournalRead]]:
    """Runs, lines that matter, and what was read, from the journals of the system itself; those of users are left."""
    found: list[tuple[float, str]] = []
    read: list[JournalRead] = []
    for folder in files.names(_JOURNALS):
        for name in files.names(f"{_JOURNALS}/{folder}"):
            path = f"{_JOURNALS}/{folder}/{name}"
            if not name.startswith("system") or not name.endswith((".journal", ".journal~")):
                continue
            head = files.head(path, 256)
            try:
                found.append((journal_head(head or b"").last or 0.0, path))
            except DecodeError as error:
                read.append(JournalRead(path, Log(torn=[str(error)], lost=True), is_open=False))
    boots: dict[str, JournalRun] = {}
    lines: dict[tuple[str, int], JournalLine] = {}
    room = _MOST_JOURNAL
    for _, path in sorted(found, reverse=True):
        raw = files.read(path) if room > 0 else None
        log = Log()
        if raw is None:
            log.note("older than what is read", lost=False)
            read.append(JournalRead(path, log, is_open=False))
            continue
        room -= len(raw[0])
        if raw[1]:
            log.note(f"{raw[1]} bytes could not be read", lost=True)
        for entry in read_journal(raw[0], log, _FIELDS):
            _entry(entry, rules, boots, lines)
        read.append(JournalRead(path, log, journal_head(raw[0]).is_open))
    return sorted(boots.values(), key=lambda b: b.first), sorted(lines.values(), key=lambda t: t.at), read


def _entry(
    entry: JournalEntry, rules: RecordRules, boots: dict[str, JournalRun], lines: dict[tuple[str, int], JournalLine]
) -> None:
    run = boots.setdefault(entry.boot, JournalRun(entry.boot, entry.at, entry.at))
    run.first, run.last = min(run.first, entry.at), max(run.last, entry.at)
    fields = entry.fields
    kind = rules.messages.get(fields.get("MESSAGE_ID", ""))
    source = "kernel" if fields.get("_TRANSPORT") == "kernel" else fields.get("SYSLOG_IDENTIFIER", "")
    said = rules.line_of(source, fields.get("MESSAGE", ""))
    run.ended |= "stop" in (kind, said and said[0])
    if said is not None and said[0] not in _OF_RUNS:
        lines[entry.boot, entry.number] = JournalLine(entry.at, said[0], source, said[1], said[2])
    elif kind == "time-change":
        lines[entry.boot, entry.number] = JournalLine(entry.at, kind, source, "", "")


def _text_logs(
    files: Files, rules: RecordRules, zone: Zone | None, latest: float | None
) -> tuple[list[JournalRun], list[JournalLine], list[JournalRead]]:
    """The same from text logs, where there is no journal. A run begins with the kernel's first line."""
    runs: list[JournalRun] = []
    lines: list[JournalLine] = []
    logs: dict[str, Log] = {}
    for line in sorted(read_text_logs(files, zone, latest), key=lambda own: own.at):
        log = logs.setdefault(line.path, Log(first=line.at))
        log.records, log.last = log.records + 1, line.at
        said = rules.line_of(line.source, line.text)
        kind = said[0] if said else ""
        if kind == "start" and (not runs or line.at - runs[-1].last > 1 or runs[-1].ended):
            runs.append(JournalRun(str(len(runs)), line.at, line.at))
        if runs:
            runs[-1].last = max(runs[-1].last, line.at)
            runs[-1].ended |= kind == "stop"
        if (
            said is not None
            and kind not in _OF_RUNS
            and (not lines or (lines[-1].at, lines[-1].what) != (line.at, said[2]))
        ):
            lines.append(JournalLine(line.at, said[0], line.source, said[1], said[2]))
    return runs, lines, [JournalRead(path, log, is_open=False) for path, log in logs.items()]


def mounts_missing(mounts: Sequence[Mount], there: Sequence[str]) -> list[Mount]:
    """Those that name a volume by an id (UUID=, PARTUUID=, LABEL=, PARTLABEL=, /dev/disk/by-...) that no volume there
    has. there: ids as fstab would write them, in small letters; labels as they are."""
    known = {name.lower() for name in there}
    out = []
    for mount in mounts:
        own = mount.what
        if own.startswith("/dev/disk/by-"):
            kind, _, value = own.removeprefix("/dev/disk/by-").partition("/")
            own = f"{kind}={value}"
        kind, mark, value = own.partition("=")
        by_id = mark and kind.lower() in ("uuid", "partuuid", "label", "partlabel")
        if by_id and f"{kind}={value.strip(chr(34))}".lower() not in known:
            out.append(mount)
    return out
