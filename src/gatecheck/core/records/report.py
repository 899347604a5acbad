"""Records put together: systems, events, crashes, findings with their weight, and one sentence.

What was not there or is torn is left out and named; nothing is said to be fine because it was not read."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

from gatecheck.core.errors import DecodeError
from gatecheck.core.records.dump import Crash, read_dump
from gatecheck.core.records.evtx import Log, read_events
from gatecheck.core.records.linux import LinuxSystem
from gatecheck.core.records.moments import iso
from gatecheck.core.records.own_repair import OwnRepair, read_own_repair
from gatecheck.core.records.rules import RecordRules
from gatecheck.core.records.source import Files
from gatecheck.core.records.windows import Update, WindowsSystem, read_windows
from gatecheck.core.words.said import Said, say

_MOST_EVENTS, _MOST_DUMPS = 1000, 50
_ONE_START = 90.0
"""seconds within which several sources tell of one start"""
_COUNTED: dict[str, tuple[str, ...]] = {
    "power-cuts": ("power-lost", "unexpected-shutdown"),
    "disk-errors": ("disk-error", "disk-failing"),
    "file-system-errors": ("file-system-error",),
    "memory-errors": ("memory-error", "machine-check"),
}
"""finding -> event kinds that it counts; a power cut makes two records: one of it, one of the start after it"""
_FOLDERS = ("Windows/System32/winevt/Logs", "")
_LOGS = ("System.evtx", "Application.evtx", "Microsoft-Windows-Chkdsk%4Operational.evtx")


@dataclass(frozen=True, slots=True)
class Happened:
    """One event, or several alike within an hour. `says`: id of what it says; `what`: what it names; `count`: how
    many."""

    at: float | None
    kind: str
    source: str
    id: int
    says: str
    what: str
    count: int = 1
    until: float | None = None

    @property
    def text(self) -> Said:
        return say(f"records.{self.kind}", what=say(f"records.what-{self.says}") if self.says else self.what)


@dataclass(frozen=True, slots=True)
class RecordFinding:
    """`weight`: 0 to 1, how much it says of the fault that it points to."""

    id: str
    where: str
    weight: float
    text: Said


@dataclass(frozen=True, slots=True)
class MacSystem:
    """`build`: as the system calls it; `zone`: its name, where it is told."""

    name: str
    version: str | None
    build: str | None
    zone: str | None


@dataclass(frozen=True, slots=True)
class LogRead:
    path: str
    records: int
    first: float | None
    last: float | None
    torn: tuple[str, ...]


@dataclass(slots=True)
class Records:
    """Of one place: at most one Windows, Linux or macOS. `last_good_start`: of a run of two minutes or more."""

    root: str
    windows: WindowsSystem | None = None
    linux: LinuxSystem | None = None
    mac: MacSystem | None = None
    events: list[Happened] = field(default_factory=list)
    crashes: list[Crash] = field(default_factory=list)
    logs: list[LogRead] = field(default_factory=list)
    findings: list[RecordFinding] = field(default_factory=list)
    updates: list[Update] = field(default_factory=list)
    own_repair: OwnRepair | None = None
    last_good_start: float | None = None
    last_shutdown: float | None = None
    clean: bool | None = None
    log_whole: bool = True
    """no record of the log of starts was lost"""
    sentence: Said = field(default_factory=lambda: say("records.said-no-system"))


def _joined(root: str, path: str) -> str:
    return "/".join(part for part in (root, path) if part)


def windows_records(files: Files, root: str, modes: tuple[str, ...], rules: RecordRules) -> Records:
    """`modes`: storage modes of the machine's controllers, none where they are not known."""
    own = Records(root)
    own.windows, hives = read_windows(files, root, rules)
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
                log.note(f"{raw[1]} bytes could not be read", lost=True)
            try:
                for event in read_events(raw[0], log):
                    if event.at is not None and name == "System.evtx":
                        moments.append(event.at)
                    told = rules.kind_of(event)
                    if told is not None:
                        happened.append(Happened(event.at, told[0], event.source, event.id, *told[1:]))
            except DecodeError as error:
                log.note(str(error), lost=True)
            if name == "System.evtx" and log.lost:
                own.log_whole = False
            own.logs.append(LogRead(path, log.records, log.first, log.last, tuple(log.torn)))
            break
    happened.sort(key=lambda e: e.at or 0)
    own.events = grouped(happened, rules)
    _runs(own, happened, sorted(moments), rules)
    own.crashes = [*_crashes(happened, rules), *_dumps(files, root, rules)]
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
    own.own_repair = read_own_repair(files, root)
    own.findings = _findings(own, happened, modes, rules)
    own.sentence = sentence_of(own)
    return own


def grouped(happened: Iterable[Happened], rules: RecordRules) -> list[Happened]:
    """Alike within an hour as one."""
    out: list[Happened] = []
    latest: dict[tuple[str, str, int, str, str], int] = {}
    for event in happened:
        key = (event.kind, event.source, event.id, event.says, event.what)
        place = latest.get(key)
        before = out[place] if place is not None else None
        if (
            place is not None
            and before is not None
            and (event.at or 0) - (before.until or before.at or 0) <= rules.together
        ):
            out[place] = Happened(before.at, *key, count=before.count + 1, until=event.at)
        else:
            latest[key] = len(out)
            out.append(event)
    return out[-_MOST_EVENTS:]


def _runs(own: Records, happened: list[Happened], moments: list[float], rules: RecordRules) -> None:
    """The last good start, and how the last run ended."""
    starts = apart([e.at for e in happened if e.kind == "start" and e.at is not None])
    stops = [e.at for e in happened if e.kind == "stop" and e.at is not None]
    own.last_good_start = last_good(starts, moments, rules)
    if starts:
        after = [s for s in stops if s >= starts[-1]]
        own.clean = True if after else False if own.log_whole else None
        own.last_shutdown = after[-1] if after else (moments[-1] if moments else None)
    else:
        assert own.windows is not None
        own.last_shutdown = stops[-1] if stops else own.windows.last_shutdown


def last_good(starts: Sequence[float], moments: Sequence[float], rules: RecordRules) -> float | None:
    """The last start whose run lasted, by what was written in it. Both in order."""
    for place in reversed(range(len(starts))):
        until = starts[place + 1] if place + 1 < len(starts) else float("inf")
        if any(starts[place] + rules.good_run <= m < until for m in moments):
            return starts[place]
    return None


def apart(starts: list[float]) -> list[float]:
    """A start is told by two sources within a minute or so."""
    out: list[float] = []
    for at in sorted(starts):
        if not out or at - out[-1] > _ONE_START:
            out.append(at)
    return out


def _crashes(happened: Iterable[Happened], rules: RecordRules) -> list[Crash]:
    found = []
    for event in happened:
        if event.kind == "stop-code":
            digits = event.what.partition("(")[0].strip().lower()
            try:
                code = int(digits, 16)
            except ValueError:
                continue
            found.append(Crash(event.at, code, rules.stop_codes.get(code)))
    return found


def _dumps(files: Files, root: str, rules: RecordRules) -> list[Crash]:
    folder = _joined(root, "Windows/Minidump")
    paths = [_joined(root, "Windows/MEMORY.DMP")]
    paths += [f"{folder}/{n}" for n in files.names(folder) if n.lower().endswith(".dmp")][-_MOST_DUMPS:]
    found = []
    for path in paths:
        head = files.head(path, 8192)
        if head is not None:
            try:
                found.append(read_dump(head, rules.stop_codes))
            except DecodeError:
                continue
    return found


def _findings(
    own: Records, happened: list[Happened], modes: tuple[str, ...], rules: RecordRules
) -> list[RecordFinding]:
    system = own.windows
    assert system is not None
    found: list[RecordFinding] = []

    def add(id: str, where: str = "", events: int = 0, **values: Any) -> None:
        found.append(RecordFinding(id, where, rules.weights[id].of(events), Said(f"records.{id}", values)))

    update = last_before_trouble(own, rules)
    if update is not None:
        add("update-before", update.name, what=update.name, at=iso(update.at))
    found += counted(happened, rules)
    if own.crashes:
        last, count = own.crashes[-1], len(own.crashes)
        add("crashes", events=count, count=count, at=iso(last.at), what=last.name or f"0x{last.code:08X}")
    for id, where, values in _storage(system, modes):
        add(id, where, **values)
    tried = own.own_repair
    if tried is not None:
        times = tried.attempts or tried.sessions
        if tried.failed:
            add("repair-tried", tried.path, events=times, count=times, failed=len(tried.failed), tests=tried.tests)
        else:
            add("repair-done", tried.path, count=times)
    if system.pending:
        add("pending", what=say("sentences", sentences=list(system.pending)))
    if system.failed_set:
        add("control-set-failed", count=system.failed_set)
    if system.hibernated:
        add("hibernated")
    if system.universal:
        add("clock-universal")
    if system.filters:
        add("storage-filters", what=", ".join(system.filters))
    if own.clean is False:
        add("not-clean")
    return sorted(found, key=lambda f: -f.weight)


def counted(happened: Sequence[Happened], rules: RecordRules) -> Iterator[RecordFinding]:
    """Findings that weigh by how many events there were."""
    for id, kinds in _COUNTED.items():
        alike = [e for e in happened if e.kind in kinds and e.at is not None]
        if alike:
            count = sum(e.kind == kinds[0] for e in alike) or len(alike) if id == "power-cuts" else len(alike)
            values = {"count": count, "first": iso(alike[0].at), "at": iso(alike[-1].at)}
            yield RecordFinding(id, "", rules.weights[id].of(count), Said(f"records.{id}", values))


def _storage(system: WindowsSystem, modes: tuple[str, ...]) -> Iterator[tuple[str, str, dict[str, Any]]]:
    """(finding, where, values) of the drivers that start with the boot. One that the table does not know may serve any
    controller: then nothing is said to be missing."""
    starting = [d for d in system.drivers if d.starts_with_boot]
    ready = [d.serves for d in starting if d.present is not False]
    if system.installed_for:
        yield "installed-for", "", {"modes": _names(system.installed_for)}
    elif system.drivers and not starting:
        yield "no-boot-driver", "", {}
    known = sorted({mode for mode in ready if mode})
    if system.drivers and modes and None not in ready and not set(modes) & set(known):
        yield "driver-not-started", "", {"modes": _names(modes), "ready": _names(known) or "none"}
    for driver in starting:
        if driver.present is False:
            yield "driver-file-gone", driver.file, {"name": driver.name}


def _names(modes: Sequence[str]) -> str:
    return ", ".join(mode.upper() for mode in modes)


def last_before_trouble(own: Records, rules: RecordRules) -> Update | None:
    """The last update that was installed in the last good run, or shortly before it. None where the log is not whole:
    a good start may stand in what is missing."""
    good = own.last_good_start
    if good is None or not own.log_whole:
        return None
    later = any(e.kind == "start" and (e.at or 0) > good + _ONE_START for e in own.events)
    trouble = later or own.clean is False or any((c.at or 0) > good for c in own.crashes)
    near = [
        u
        for u in own.updates
        if u.at is not None and u.at >= good - rules.update_before and u.result in ("installed", "pending")
    ]
    return near[-1] if trouble and near else None


_LEADS = (
    "driver-not-started", "no-boot-driver",
    "disk-errors", "memory-errors", "power-cuts", "volume-gone", "kernel-without-modules", "kernel-without-initrd",
    "packages-half-done", "repair-tried",
)  # fmt: skip
_LEADS_FROM = 0.65
"""findings that stand before all else in the sentence, and the weight from which on they do"""


def sentence_of(own: Records) -> Said:
    """The last good start, and what weighs most."""
    said = _of_starts(own)
    lead = next((f for f in own.findings if f.id in _LEADS and f.weight >= _LEADS_FROM), None)
    return say("records.said-first", what=lead.text, rest=said) if lead and said.id != "records.said-update" else said


def _of_starts(own: Records) -> Said:
    good, at = iso(own.last_good_start), iso(own.last_shutdown)
    update = next((f for f in own.findings if f.id == "update-before"), None)
    if not own.log_whole:
        return say("records.said-torn", good=good) if good else say("records.said-torn-nothing")
    if good and update is not None:
        return Said("records.said-update", {**update.text.values, "good": good})
    if good:
        return say("records.said-started", good=good, at=at) if own.clean else say("records.said-not-clean", good=good)
    return say("records.said-shutdown", at=at) if at else say("records.said-nothing")
