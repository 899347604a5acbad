"""What a Linux says of itself, put together: runs, events, findings, the sentence."""

from __future__ import annotations

from gatecheck.core.records.linux import LinuxSystem, Mount, mounts_missing
from gatecheck.core.records.moments import iso
from gatecheck.core.records.report import (
    Happened,
    LogRead,
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
from gatecheck.core.words.said import Said, say

_BY_ID = ("uuid", "label")
_WTMP = "var/log/wtmp"
Volumes = tuple[tuple[str, ...], bool]


def linux_records(system: LinuxSystem, rules: RecordRules, volumes: Volumes | None = None) -> Records:
    """volumes: (the names of all volumes on the disk as fstab would write them, whether some may be hidden); None where
    the disk was not looked at."""
    own = Records("", linux=system)
    own.log_whole = not system.torn and not any(j.log.lost for j in system.journals)
    happened = _happened(system, own)
    own.events = grouped(happened, rules)
    own.updates = list(system.packages.updates)
    _runs(system, own, rules)
    own.logs = list(_logs(system))
    own.findings = _findings(system, own, happened, rules, volumes)
    own.sentence = sentence_of(own)
    return own


def _happened(system: LinuxSystem, own: Records) -> list[Happened]:
    found = [Happened(t.at, t.kind, t.source, 0, t.says, t.what) for t in system.told]
    found += [Happened(u.at, "update-installed", "packages", 0, "", u.name) for u in system.packages.updates]
    if system.boots:
        found += [Happened(b.first, "start", "journal", 0, "", "") for b in system.boots]
        found += [Happened(b.last, "stop", "journal", 0, "", "") for b in system.boots if b.ended]
        if own.log_whole:  # a run whose end is missing from the log may have been shut down
            found += [
                Happened(after.first, "power-lost", "journal", 0, "", "")
                for before, after in zip(system.boots, system.boots[1:], strict=False)
                if not before.ended
            ]
    known = [b.first for b in system.boots]
    known += [b.last for b in system.boots]
    found += [
        Happened(at, kind, "wtmp", 0, "", "")
        for kind, times in (("start", system.starts), ("stop", system.stops))
        for at in times
        if not any(abs(at - other) < 120 for other in known)
    ]
    return sorted(found, key=lambda e: e.at or 0)


def _runs(system: LinuxSystem, own: Records, rules: RecordRules) -> None:
    """The last good start: of a run that lasted and did not stop in the emergency mode; and how the last one ended."""
    starts = apart([*system.starts, *(b.first for b in system.boots)])
    troubled = {
        b.first for b in system.boots for t in system.told if t.kind == "emergency-mode" and b.first <= t.at <= b.last
    }
    moments = sorted(
        [*system.moments, *(at for b in system.boots for at in (b.first, b.last) if b.first not in troubled)]
    )
    good = [s for s in starts if not any(abs(s - t) < 90 for t in troubled)]
    own.last_good_start = last_good(good, moments, rules)
    if not starts:
        return
    stops = sorted([*system.stops, *(b.last for b in system.boots if b.ended)])
    after = [s for s in stops if s >= starts[-1]]
    own.clean = True if after else False if own.log_whole else None
    last = max((b.last for b in system.boots), default=None)
    own.last_shutdown = after[-1] if after else last


def _logs(system: LinuxSystem) -> list[LogRead]:
    out = [LogRead(j.path, j.log.records, j.log.first, j.log.last, tuple(j.log.torn)) for j in system.journals]
    out += [LogRead(path, lines, None, None, ()) for path, lines in system.packages.logs]
    if system.moments or system.torn:
        first, last = min(system.moments, default=None), max(system.moments, default=None)
        torn = ("its last entry is cut short",) if system.torn else ()
        out.append(LogRead(_WTMP, len(system.moments), first, last, torn))
    return out


def _findings(
    system: LinuxSystem, own: Records, happened: list[Happened], rules: RecordRules, volumes: Volumes | None
) -> list[RecordFinding]:
    found = list(counted(happened, rules))

    def add(id: str, where: str = "", **values: object) -> None:
        found.append(RecordFinding(id, where, rules.weights[id].of(0), Said(f"records.{id}", values)))

    update = last_before_trouble(own, rules)
    if update is not None:
        add("update-before", update.name, what=update.name, at=iso(update.at))
    stops = [e for e in happened if e.kind == "stop-code"]
    if stops:
        values = {"count": len(stops), "at": iso(stops[-1].at), "what": stops[-1].what}
        weight = rules.weights["crashes"].of(len(stops))
        found.append(RecordFinding("crashes", "", weight, Said("records.crashes", values)))
    emergency = [e for e in happened if e.kind == "emergency-mode"]
    if emergency:
        add("emergency", at=iso(emergency[-1].at))
    last = system.boots[-1].first if system.boots else 0.0
    waited = any(e.kind in ("device-missing", "emergency-mode") and (e.at or 0.0) >= last for e in happened)
    for mount in _gone(system, volumes):
        id = "volume-gone" if mount.waits else "volume-gone-optional"
        values = {"what": mount.what, "place": mount.where}
        weight = rules.weights[id].of(int(mount.waits and waited))
        found.append(RecordFinding(id, "etc/fstab", weight, Said(f"records.{id}", values)))
    for kernel in system.kernels:
        if kernel.has_modules is False:
            add("kernel-without-modules", f"boot/vmlinuz-{kernel.version}", what=kernel.version)
        if kernel.has_initrd is False:
            add("kernel-without-initrd", f"boot/vmlinuz-{kernel.version}", what=kernel.version)
    if system.packages.half_done:
        names = system.packages.half_done
        add("packages-half-done", "var/lib/dpkg/status", what=", ".join(names[:6]) + (" ..." if len(names) > 6 else ""))
    if system.universal is False:
        found.append(
            RecordFinding("clock-local", "etc/adjtime", rules.weights["clock-local"].of(0), say("records.clock-local"))
        )
    if own.clean is False:
        add("not-clean")
    return sorted(found, key=lambda f: -f.weight)


def _gone(system: LinuxSystem, volumes: Volumes | None) -> list[Mount]:
    if volumes is None:
        return []
    names, hidden = volumes
    missing = mounts_missing(system.mounts, names)
    if hidden:  # a volume's own names may be those of one inside; a partition's are not
        missing = [m for m in missing if "part" in m.what.lower().partition("=")[0].rpartition("by-")[2]]
    return missing
