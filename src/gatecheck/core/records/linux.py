"""What Linux has written down: which system, its clock, starts and shutdowns (wtmp), and what fstab asks for."""

from __future__ import annotations

import struct
from dataclasses import dataclass

from gatecheck.core.records.moments import of_unix
from gatecheck.core.records.source import Files

_ENTRY = 384
_RUN_LEVEL, _BOOT = 1, 2
_OPTIONAL = ("nofail", "noauto")


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
    needs: tuple[str, ...]
    """devices of fstab that the start waits for"""
    kernels: tuple[str, ...]


def _text(files: Files, path: str) -> str | None:
    raw = files.read(path)
    return None if raw is None or len(raw[0]) > 1 << 20 else raw[0].decode("utf-8", "replace")


def read_linux(files: Files) -> LinuxSystem | None:
    told = _text(files, "etc/os-release") or _text(files, "usr/lib/os-release")
    if told is None:
        return None
    fields = dict(line.split("=", 1) for line in told.splitlines() if "=" in line and not line.startswith("#"))
    names = {key: value.strip().strip("\"'") for key, value in fields.items()}
    zone = (_text(files, "etc/timezone") or "").strip() or None
    adjusted = _text(files, "etc/adjtime")
    raw = files.read("var/log/wtmp")
    starts, stops, moments = _sessions(raw[0]) if raw else ([], [], [])
    mounts = [
        line.split() for line in (_text(files, "etc/fstab") or "").splitlines() if not line.lstrip().startswith("#")
    ]
    needs = tuple(m[0] for m in mounts if len(m) >= 4 and not any(o in m[3].split(",") for o in _OPTIONAL))
    kernels = tuple(name for name in files.names("boot") if name.startswith("vmlinuz"))
    return LinuxSystem(
        names.get("NAME"),
        names.get("VERSION_ID") or names.get("VERSION"),
        zone,
        None if adjusted is None else "LOCAL" not in adjusted.split(),
        tuple(sorted(starts)),
        tuple(sorted(stops)),
        tuple(sorted(moments)),
        bool(raw and (raw[1] or len(raw[0]) % _ENTRY)),
        needs,
        kernels,
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
