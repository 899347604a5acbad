"""Records put together: systems, events, crashes, findings with their weight, and one sentence.

What was not there or is torn is left out and named; nothing is said to be fine because it was not read."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from gatecheck.core.errors import DecodeError
from gatecheck.core.records import event_kinds
from gatecheck.core.records.dump import NAMES, Crash, read_dump
from gatecheck.core.records.evtx import Log, read_events
from gatecheck.core.records.linux import LinuxSystem, read_linux
from gatecheck.core.records.moments import iso
from gatecheck.core.records.source import Files
from gatecheck.core.records.windows import CLASSES, Update, WindowsSystem, read_windows, roots
from gatecheck.core.words.said import Said, say

_TOGETHER, _GOOD_RUN, _DAY = 3600.0, 120.0, 86_400.0
_MOST_EVENTS, _MOST_DUMPS = 1000, 50
_FOLDERS = ("Windows/System32/winevt/Logs", "Windows/System32/Winevt/Logs", "")
_LOGS = ("System.evtx", "Application.evtx", "Microsoft-Windows-Chkdsk%4Operational.evtx")


@dataclass(frozen=True, slots=True)
class Happened:
    """One event, or several alike within an hour. `count`: how many."""

    at: float | None
    kind: str
    source: str
    id: int
    what: str
    count: int = 1
    until: float | None = None

    @property
    def text(self) -> Said:
        return say(f"records.{self.kind}", what=self.what)


@dataclass(frozen=True, slots=True)
class RecordFinding:
    """`weight`: 0 to 1, how much it says of the fault that it points to."""

    id: str
    where: str
    weight: float
    text: Said


@dataclass(frozen=True, slots=True)
class LogRead:
    path: str
    records: int
    first: float | None
    last: float | None
    torn: tuple[str, ...]


@dataclass(slots=True)
class Records:
    """Of one place: at most one Windows or Linux. `last_good_start`: of a run of two minutes or more."""

    root: str
    windows: WindowsSystem | None = None
    linux: LinuxSystem | None = None
    events: list[Happened] = field(default_factory=list)
    crashes: list[Crash] = field(default_factory=list)
    logs: list[LogRead] = field(default_factory=list)
    findings: list[RecordFinding] = field(default_factory=list)
    updates: list[Update] = field(default_factory=list)
    last_good_start: float | None = None
    last_shutdown: float | None = None
    clean: bool | None = None
    sentence: Said = field(default_factory=lambda: say("records.said-no-system"))


def read_records(files: Files, controllers: Sequence[str] = ()) -> list[Records]:
    """What each system there says of itself. `controllers`: PCI classes (six hex digits) of the machine that it is
    started on."""
    modes = [CLASSES[c[:4]] for c in controllers if c[:4] in CLASSES]
    found = [_of_windows(files, root, tuple(dict.fromkeys(modes))) for root in roots(files)]
    linux = read_linux(files)
    return [*found, *([_of_linux(linux)] if linux is not None else [])]


def _joined(root: str, path: str) -> str:
    return "/".join(part for part in (root, path) if part)


def _of_windows(files: Files, root: str, modes: tuple[str, ...]) -> Records:
    own = Records(root)
    own.windows, hives = read_windows(files, root)
    own.logs += [LogRead(h.path, 0, None, None, tuple(h.torn)) for h in hives]
    moments: list[float] = []
    happened: list[Happened] = []
    for name in _LOGS:
        for folder in _FOLDERS:
            path = _joined(root, _joined(folder, name))
            raw = files.read(path)
            if raw is None:
                continue
            log = Log()
            if raw[1]:
                log.note(f"{raw[1]} bytes could not be read")
            try:
                for event in read_events(raw[0], log):
                    if event.at is not None and name == "System.evtx":
                        moments.append(event.at)
                    told = event_kinds.kind_of(event)
                    if told is not None:
                        happened.append(Happened(event.at, told[0], event.source, event.id, told[1]))
            except DecodeError as error:
                log.note(str(error))
            own.logs.append(LogRead(path, log.records, log.first, log.last, tuple(log.torn)))
            break
    happened.sort(key=lambda e: e.at or 0)
    own.events = _grouped(happened)
    _runs(own, happened, sorted(moments))
    own.crashes = [*_crashes(happened), *_dumps(files, root)]
    own.crashes = sorted(
        {(c.at and round(c.at / 300), c.code): c for c in own.crashes}.values(), key=lambda c: c.at or 0
    )
    own.updates = sorted(
        [
            *own.windows.updates,
            *(
                Update(e.at, e.what, "installed" if e.kind == "update-installed" else "failed")
                for e in happened
                if e.kind in ("update-installed", "update-failed")
            ),
        ],
        key=lambda u: u.at or 0,
    )
    own.findings = _findings(own, happened, modes)
    own.sentence = _sentence(own)
    return own


def _grouped(happened: Iterable[Happened]) -> list[Happened]:
    """Alike within an hour as one."""
    out: list[Happened] = []
    latest: dict[tuple[str, str, int, str], int] = {}
    for event in happened:
        key = (event.kind, event.source, event.id, event.what)
        place = latest.get(key)
        before = out[place] if place is not None else None
        if place is not None and before is not None and (event.at or 0) - (before.until or before.at or 0) <= _TOGETHER:
            out[place] = Happened(before.at, *key, count=before.count + 1, until=event.at)
        else:
            latest[key] = len(out)
            out.append(event)
    return out[-_MOST_EVENTS:]


def _runs(own: Records, happened: list[Happened], moments: list[float]) -> None:
    """The last good start, and how the last run ended."""
    starts = _apart([e.at for e in happened if e.kind == "start" and e.at is not None])
    stops = [e.at for e in happened if e.kind == "stop" and e.at is not None]
    for start in reversed(starts):
        ends = [s for s in starts if s > start + 1]
        until = ends[0] if ends else float("inf")
        if any(start + _GOOD_RUN <= m < until for m in moments):
            own.last_good_start = start
            break
    if starts:
        after = [s for s in stops if s >= starts[-1]]
        own.clean = bool(after)
        own.last_shutdown = after[-1] if after else (moments[-1] if moments else None)
    else:
        assert own.windows is not None
        own.last_shutdown = stops[-1] if stops else own.windows.last_shutdown


def _apart(starts: list[float]) -> list[float]:
    """A start is told by two sources within a minute or so."""
    out: list[float] = []
    for at in sorted(starts):
        if not out or at - out[-1] > 90:
            out.append(at)
    return out


def _crashes(happened: Iterable[Happened]) -> list[Crash]:
    found = []
    for event in happened:
        if event.kind == "stop-code":
            digits = event.what.partition("(")[0].strip().lower()
            try:
                code = int(digits, 16)
            except ValueError:
                continue
            found.append(Crash(event.at, code, NAMES.get(code)))
    return found


def _dumps(files: Files, root: str) -> list[Crash]:
    folder = _joined(root, "Windows/Minidump")
    paths = [_joined(root, "Windows/MEMORY.DMP")]
    paths += [f"{folder}/{n}" for n in files.names(folder) if n.lower().endswith(".dmp")][-_MOST_DUMPS:]
    found = []
    for path in paths:
        head = files.head(path, 8192)
        if head is not None:
            try:
                found.append(read_dump(head))
            except DecodeError:
                continue
    return found


def _findings(own: Records, happened: list[Happened], modes: tuple[str, ...]) -> list[RecordFinding]:
    system = own.windows
    assert system is not None
    found: list[RecordFinding] = []

    def add(id: str, weight: float, where: str = "", **values: object) -> None:
        found.append(RecordFinding(id, where, round(weight, 2), Said(f"records.{id}", values)))

    update = _last_before_trouble(own)
    if update is not None:
        add("update-before", 0.8, update.name, what=update.name, at=iso(update.at))
    for id, kinds, start, step in (
        ("power-cuts", ("power-lost", "unexpected-shutdown"), 0.2, 0.1),
        ("disk-errors", ("disk-error", "disk-failing"), 0.4, 0.1),
        ("file-system-errors", ("file-system-error",), 0.4, 0.1),
        ("memory-errors", ("memory-error", "machine-check"), 0.5, 0.1),
    ):
        own_kind = [e for e in happened if e.kind in kinds and e.at is not None]
        count = sum(e.kind == "power-lost" for e in own_kind) or len(own_kind) if id == "power-cuts" else len(own_kind)
        if own_kind:
            first, last = iso(own_kind[0].at), iso(own_kind[-1].at)
            add(id, min(0.95, start + step * count), count=count, first=first, at=last)
    if own.crashes:
        last_crash = own.crashes[-1]
        what = last_crash.name or f"0x{last_crash.code:08X}"
        add("crashes", min(0.9, 0.4 + 0.1 * len(own.crashes)), count=len(own.crashes), at=iso(last_crash.at), what=what)
    if system.drivers:
        if system.installed_for:
            add("installed-for", 0.6, modes=", ".join(m.upper() for m in system.installed_for))
        elif not any(d.starts_with_boot for d in system.drivers):
            add("no-boot-driver", 0.9)
        ready = {d.serves for d in system.drivers if d.starts_with_boot and d.present is not False}
        if modes and not ready.intersection(modes):
            there = ", ".join(m.upper() for m in modes)
            add(
                "driver-not-started", 0.9, modes=there, ready=", ".join(sorted(m.upper() for m in ready if m)) or "none"
            )
        for driver in system.drivers:
            if driver.starts_with_boot and driver.present is False:
                add("driver-file-gone", 0.7, driver.file, name=driver.name)
    if system.pending:
        add("pending", 0.4, what="; ".join(system.pending))
    if system.failed_set:
        add("control-set-failed", 0.5, count=system.failed_set)
    if system.hibernated:
        add("hibernated", 0.3)
    if system.universal:
        add("clock-universal", 0.1)
    if system.filters:
        add("storage-filters", 0.3, what=", ".join(system.filters))
    if own.clean is False:
        add("not-clean", 0.3)
    return sorted(found, key=lambda f: -f.weight)


def _last_before_trouble(own: Records) -> Update | None:
    """The last update that was installed in the last good run, or less than two days before its end."""
    if own.last_good_start is None:
        return None
    good = own.last_good_start
    later = [e for e in own.events if e.kind == "start" and (e.at or 0) > good + 90]
    trouble = later or own.clean is False or any((c.at or 0) > good for c in own.crashes)
    near = [
        u for u in own.updates if u.at is not None and u.at >= good - 2 * _DAY and u.result in ("installed", "pending")
    ]
    return near[-1] if trouble and near else None


def _sentence(own: Records) -> Said:
    good, at = iso(own.last_good_start), iso(own.last_shutdown)
    update = next((f for f in own.findings if f.id == "update-before"), None)
    if good and update is not None:
        return Said("records.said-update", {**update.text.values, "good": good})
    if good:
        return say("records.said-started", good=good, at=at) if own.clean else say("records.said-not-clean", good=good)
    return say("records.said-shutdown", at=at) if at else say("records.said-nothing")


def _of_linux(system: LinuxSystem) -> Records:
    own = Records("", linux=system)
    for kind, moments in (("start", system.starts), ("stop", system.stops)):
        own.events += [Happened(at, kind, "wtmp", 0, "") for at in moments]
    own.events.sort(key=lambda e: e.at or 0)
    if system.starts:
        last = max(system.starts)
        own.last_good_start = last
        stops = [s for s in system.stops if s >= last]
        own.clean = bool(stops)
        own.last_shutdown = max(stops) if stops else None
        if not stops:
            own.findings.append(RecordFinding("not-clean", "", 0.3, say("records.not-clean")))
    own.logs.append(
        LogRead("var/log/wtmp", len(own.events), min((e.at or 0 for e in own.events), default=None),
                max((e.at or 0 for e in own.events), default=None), ("cut short",) if system.torn else ())
    )  # fmt: skip
    own.sentence = _sentence(own)
    return own
