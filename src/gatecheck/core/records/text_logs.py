"""Text logs of a Linux that keeps no journal: lines of the kernel and of the first process, with a time of either form
(RFC 3164, which has no year and no zone, or RFC 3339)."""

from __future__ import annotations

import re
import zlib
from collections.abc import Iterator
from dataclasses import dataclass

from gatecheck.core.records.moments import of_text, of_unix, seconds_of, year_of
from gatecheck.core.records.source import Files
from gatecheck.core.records.zone import Zone

_PATHS = ("var/log/messages", "var/log/syslog", "var/log/kern.log")
_OLDER = (".2.gz", ".1", "")
"""of each, the older ones first"""
_LARGEST, _MOST_LINES, _LONGEST_LINE = 32 << 20, 2_000_000, 4096
_MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
_CLASSIC = re.compile(r"^([A-Z][a-z]{2}) +(\d{1,2}) (\d\d):(\d\d):(\d\d) (\S+) ([^:\[]+)(?:\[\d+\])?: ?(.*)$")
_MODERN = re.compile(r"^(\d{4}-\d\d-\d\dT\S+) (\S+) ([^:\[]+)(?:\[\d+\])?: ?(.*)$")
_SINCE_START = re.compile(r"^\[ *\d+\.\d+\] ")


@dataclass(frozen=True, slots=True)
class LogLine:
    """at: seconds since 1970, UTC."""

    path: str
    at: float
    source: str
    text: str


def read_text_logs(files: Files, zone: Zone | None, latest: float | None) -> Iterator[LogLine]:
    """Every line with a time that is known. zone: of local times; latest: the newest moment that the system is known to
    have seen, for times without a year. Times that need what is not known are left out."""
    seen = 0
    for own in _PATHS:
        for end in _OLDER:
            raw = files.read(own + end)
            if raw is None:
                continue
            for line in _plain(raw[0]).split(b"\n"):
                seen += 1
                if seen > _MOST_LINES:
                    return
                found = line_of(line[:_LONGEST_LINE].decode("utf-8", "replace"), zone, latest)
                if found is not None:
                    yield LogLine(own + end, *found)


def _plain(raw: bytes) -> bytes:
    """Its newest part, unpacked where it is packed."""
    if raw[:2] != b"\x1f\x8b":
        return raw[-_LARGEST:]
    try:
        return zlib.decompressobj(wbits=31).decompress(raw, _LARGEST)
    except zlib.error:
        return b""


def line_of(line: str, zone: Zone | None, latest: float | None) -> tuple[float, str, str] | None:
    """(seconds since 1970, who wrote it, text) of a line whose time is known; None of others."""
    classic = _CLASSIC.match(line)
    if classic is not None:
        month, day, hour, minute, second, _, source, text = classic.groups()
        if latest is None or zone is None or month not in _MONTHS or not 1 <= int(day) <= 31:
            return None
        at = _with_year(_MONTHS.index(month) + 1, int(day), (int(hour), int(minute), int(second)), zone, latest)
    else:
        modern = _MODERN.match(line)
        told = of_text(modern[1]) if modern else None
        if modern is None or told is None or not (told[1] or zone):
            return None
        at, (_, _, source, text) = told[0] if told[1] or zone is None else zone.utc(told[0]), modern.groups()
    if of_unix(at) is None:
        return None
    return at, source, _SINCE_START.sub("", text)


def _with_year(month: int, day: int, clock: tuple[int, int, int], zone: Zone, latest: float) -> float:
    """In the last year in which it is not after the latest moment."""
    year = year_of(latest)
    at = zone.utc(seconds_of(year, month, day, *clock))
    return at if at <= latest + 86_400 else zone.utc(seconds_of(year - 1, month, day, *clock))
