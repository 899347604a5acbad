"""Events of Windows that matter on a bench: which source and number says what.

Numbers as the systems' own documentation has them; a source that gives one number two meanings has its level, or its
text, in `needs`."""

from __future__ import annotations

from gatecheck.core.records.evtx import Event

_G, _P = "microsoft-windows-kernel-general", "microsoft-windows-kernel-power"
_TABLE: tuple[tuple[str, tuple[int, ...], str, str], ...] = (
    ("eventlog", (6005,), "start", ""),
    (_G, (12,), "start", ""),
    ("eventlog", (6006,), "stop", ""),
    (_G, (13,), "stop", ""),
    ("eventlog", (6008,), "unexpected-shutdown", ""),
    (_P, (41,), "power-lost", ""),
    (_G, (1,), "time-change", ""),
    ("disk", (7,), "disk-error", "bad block"),
    ("disk", (11,), "disk-error", "controller error"),
    ("disk", (15,), "disk-error", "not ready"),
    ("disk", (51,), "disk-error", "error during paging"),
    ("disk", (52,), "disk-failing", ""),
    ("disk", (153,), "disk-error", "request repeated"),
    ("disk", (154,), "disk-error", "request failed"),
    ("disk", (157,), "disk-error", "removed while in use"),
    ("storahci", (129,), "disk-error", "port reset"),
    ("stornvme", (129,), "disk-error", "controller reset"),
    ("stornvme", (11,), "disk-error", "controller error"),
    ("nvme", (129,), "disk-error", "controller reset"),
    ("atapi", (5, 9, 11), "disk-error", "controller error"),
    ("volmgr", (46, 161), "disk-error", "crash dump could not be written"),
    ("ntfs", (55, 130, 137, 140), "file-system-error", ""),
    ("microsoft-windows-ntfs", (55, 130, 137, 140), "file-system-error", ""),
    ("fastfat", (55,), "file-system-error", ""),
    ("chkdsk", (1001,), "file-system-repair", ""),
    ("wininit", (1001,), "file-system-repair", ""),
    ("microsoft-windows-wininit", (1001,), "file-system-repair", ""),
    ("microsoft-windows-chkdsk", (26212, 26214, 26226), "file-system-repair", ""),
    ("microsoft-windows-memorydiagnostics-results", (1101, 1201), "memory-passed", ""),
    ("microsoft-windows-memorydiagnostics-results", (1102, 1202), "memory-error", ""),
    ("microsoft-windows-whea-logger", (1, 17, 18, 19, 20, 46, 47), "machine-check", ""),
    ("microsoft-windows-wer-systemerrorreporting", (1001,), "stop-code", ""),
    ("bugcheck", (1001,), "stop-code", ""),
    ("service control manager", (7026,), "driver-failed", ""),
    ("service control manager", (7045,), "driver-installed", ""),
    ("microsoft-windows-kernel-pnp", (219,), "driver-failed", ""),
    ("microsoft-windows-userpnp", (20001,), "driver-installed", ""),
    ("microsoft-windows-windowsupdateclient", (19,), "update-installed", ""),
    ("microsoft-windows-windowsupdateclient", (20,), "update-failed", ""),
)
_KINDS = {(source, number): (kind, what) for source, numbers, kind, what in _TABLE for number in numbers}
_TOLD = {
    "stop-code": ("param1", "0"),
    "update-installed": ("updateTitle", "0"),
    "update-failed": ("updateTitle", "1"),
    "driver-failed": ("DriverName", "param1", "0"),
    "driver-installed": ("ServiceName", "DriverName", "param1"),
    "file-system-error": ("DriveName", "VolumeName"),
}


def kind_of(event: Event) -> tuple[str, str] | None:
    """(kind, what it tells), None for what does not matter here."""
    own = _KINDS.get((event.source.lower(), event.id))
    if own is None and event.id == 129 and event.source.lower().startswith("iastor"):
        own = ("disk-error", "controller reset")
    if own is None:
        return None
    kind, what = own
    told = next((event.data[name] for name in _TOLD.get(kind, ()) if event.data.get(name)), "")
    return kind, (what or told)[:160]
