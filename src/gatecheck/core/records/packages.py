"""What a Linux package manager has written down: what it installed and when, and what it left half done.

Sources: dpkg's status file and log, the logs of rpm's front ends (dnf, zypper), and pacman's log."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from fnmatch import fnmatchcase

from gatecheck.core.records.moments import of_text
from gatecheck.core.records.source import Files
from gatecheck.core.records.windows import Update
from gatecheck.core.records.zone import Zone

_TOGETHER = 900.0
"""seconds within which what was installed counts as one update"""
_MOST_NAMED = 3
_LARGEST = 32 << 20
Read = Callable[[str], str | None]


@dataclass(frozen=True, slots=True)
class Packages:
    """updates: of packages that the start needs, by table; half_done: packages that are neither installed nor gone."""

    updates: tuple[Update, ...]
    half_done: tuple[str, ...]
    logs: tuple[tuple[str, int], ...]
    """(path, lines that told something)"""


def read_packages(files: Files, needed: Sequence[str], zone: Zone | None) -> Packages:
    """needed: patterns of the names that the start needs; zone: of local times, which are left out where it is not
    known."""
    done: list[tuple[float, str, str]] = []
    logs: list[tuple[str, int]] = []
    for path, lines in _LOGS.items():
        for own in [path, f"{path}.1"]:
            raw = files.read(own)
            if raw is None or len(raw[0]) > _LARGEST:
                continue
            told = 0
            for line in raw[0].decode("utf-8", "replace").splitlines():
                found = lines(line)
                if found is None:
                    continue
                told += 1
                at, has_zone, name, result = found
                if not has_zone and zone is None:
                    continue
                if any(fnmatchcase(name, like) for like in needed):
                    done.append((at if has_zone or zone is None else zone.utc(at), name, result))
            logs.append((own, told))
    return Packages(tuple(_together(sorted(done))), tuple(_half_done(files)), tuple(logs))


def _together(done: Sequence[tuple[float, str, str]]) -> Iterator[Update]:
    group: list[tuple[float, str, str]] = []
    for one in [*done, None]:
        if group and (one is None or one[0] - group[-1][0] > _TOGETHER or one[2] != group[0][2]):
            names = list(dict.fromkeys(name for _, name, _ in group))
            rest = f" and {len(names) - _MOST_NAMED} more" if len(names) > _MOST_NAMED else ""
            yield Update(group[-1][0], ", ".join(names[:_MOST_NAMED]) + rest, group[0][2])
            group = []
        if one is not None:
            group.append(one)


_Found = tuple[float, bool, str, str] | None


def _dpkg(line: str) -> _Found:
    """`2026-11-03 18:40:01 status installed NAME:ARCH VERSION`."""
    at, words = of_text(line), line.split()
    if at is None or len(words) < 5 or words[2:4] != ["status", "installed"]:
        return None
    return (*at, words[4].partition(":")[0], "installed")


def _dnf(line: str) -> _Found:
    """`2026-11-03T18:40:01+0100 SUBDEBUG Upgraded: NAME-VERSION`."""
    at = of_text(line)
    found = re.search(r" (?:Installed|Upgraded?|Upgrade|Reinstalled): (\S+?)-\d", line)
    return (*at, found[1], "installed") if at and found else None


def _zypper(line: str) -> _Found:
    """`2026-11-03 18:40:01|install|NAME|VERSION|...`."""
    at, parts = of_text(line), line.split("|")
    return (*at, parts[2], "installed") if at and len(parts) > 3 and parts[1] == "install" else None


def _pacman(line: str) -> _Found:
    """`[2026-11-03T18:40:01+0100] [ALPM] upgraded NAME (OLD -> NEW)`."""
    at = of_text(line[1:])
    found = re.search(r"\[ALPM\] (?:installed|upgraded|reinstalled) (\S+) ", line)
    return (*at, found[1], "installed") if at and found else None


_LOGS: dict[str, Callable[[str], _Found]] = {
    "var/log/dpkg.log": _dpkg,
    "var/log/dnf.rpm.log": _dnf,
    "var/log/zypp/history": _zypper,
    "var/log/pacman.log": _pacman,
}


def _half_done(files: Files) -> Iterator[str]:
    raw = files.read("var/lib/dpkg/status")
    if raw is None or len(raw[0]) > _LARGEST:
        return
    for block in raw[0].decode("utf-8", "replace").split("\n\n"):
        status = re.search(r"^Status: \S+ (\S+) (\S+)$", block, re.MULTILINE)
        name = re.search(r"^Package: (\S+)$", block, re.MULTILINE)
        if status and name and (status[2] in ("half-installed", "half-configured", "unpacked") or status[1] != "ok"):
            yield name[1]
