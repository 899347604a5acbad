"""Several captures of one drive, compared: what grew, how fast per power-on hour, and which warnings are new."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from gatecheck.core.findings import CONNECTION, FAILING, NOTE, PHYSICAL, READING, SIGN, WEAR, Finding, ranked
from gatecheck.core.knowledge.judging import Findings
from gatecheck.core.storage.pages import DrivePages
from gatecheck.core.words.said import Said, say

_LEAST_HOURS = 1.0


@dataclass(frozen=True, slots=True)
class Point:
    """One capture's value. `hours`: the drive's power-on time then, `at`: when the file came in."""

    hours: int | None
    value: int
    at: str


@dataclass(frozen=True, slots=True)
class TrendLine:
    """One reading over the captures, oldest first. `per_1000_hours` is None where the power-on time did not move."""

    name: str
    kind: str
    unit: str
    points: tuple[Point, ...]
    grown: int
    per_1000_hours: float | None


@dataclass(frozen=True, slots=True)
class Trend:
    lines: tuple[TrendLine, ...]
    findings: tuple[Finding, ...]
    new: tuple[str, ...]
    """ids of findings of the newest capture that no earlier one had"""
    gone: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Snapshot:
    """A drive in one capture: when the file came in, its pages, and what they meant."""

    at: str
    pages: DrivePages
    findings: tuple[Finding, ...]


def same_drive(one: Mapping[str, object] | None, other: Mapping[str, object] | None) -> bool:
    """By serial and model of their identities, and by WWN where both have one. A drive without a serial is nobody's."""
    a, b = one or {}, other or {}
    if not a.get("serial") or (a.get("serial"), a.get("model")) != (b.get("serial"), b.get("model")):
        return False
    return not (a.get("wwn") and b.get("wwn")) or a["wwn"] == b["wwn"]


def trend_of(captures: Sequence[Snapshot], rules: Findings) -> Trend | None:
    """The trend over captures of one drive, oldest first; None for fewer than two."""
    if len(captures) < 2:
        return None
    series: dict[str, tuple[str, str, list[Point]]] = {}
    for capture in captures:
        for name, (kind, unit, value) in _counters(capture.pages).items():
            series.setdefault(name, (kind, unit, []))[2].append(Point(capture.pages.hours, value, capture.at))
    lines = [_line(name, kind, unit, points) for name, (kind, unit, points) in series.items() if len(points) > 1]
    before = {f.id for capture in captures[:-1] for f in capture.findings if f.severity != NOTE}
    now = {f.id for f in captures[-1].findings if f.severity != NOTE}
    last_before = {f.id for f in captures[-2].findings if f.severity != NOTE}
    findings = ranked(f for line in lines for f in _judge(line, rules))
    return Trend(tuple(lines), tuple(findings), tuple(sorted(now - before)), tuple(sorted(last_before - now)))


def _counters(pages: DrivePages) -> dict[str, tuple[str, str, int]]:
    """Readings that only ever grow: name -> (kind, unit, value)."""
    found: dict[str, tuple[str, str, int]] = {}
    if pages.smart:
        for r in pages.smart.readings:
            if r.value is not None and (r.kind in (PHYSICAL, CONNECTION) or r.id == 12):
                found[r.name] = (r.kind, r.unit, r.value)
    for s in pages.statistics.values if pages.statistics else ():
        if s.name in (
            "reallocated sectors",
            "reported uncorrectable errors",
            "interface CRC errors",
            "mechanical start failures",
            "rated life used",
        ):
            kind = CONNECTION if "CRC" in s.name else WEAR if "life" in s.name else PHYSICAL
            found.setdefault(s.name, (kind, s.unit, s.value))
    health = pages.nvme
    if health:
        found |= {
            "media errors": (PHYSICAL, "", health.media_errors),
            "rated life used": (WEAR, "%", health.used),
            "unsafe shutdowns": ("", "", health.unsafe_shutdowns),
            "data written": (WEAR, "B", health.bytes_written),
        }
    return found


def _line(name: str, kind: str, unit: str, points: Sequence[Point]) -> TrendLine:
    first, last = points[0], points[-1]
    grown = last.value - first.value
    hours = None if first.hours is None or last.hours is None else last.hours - first.hours
    rate = grown / hours * 1000 if hours is not None and hours >= _LEAST_HOURS else None
    return TrendLine(name, kind, unit, tuple(points), grown, rate)


def _judge(line: TrendLine, rules: Findings) -> list[Finding]:
    page = "trend"
    values = {"name": line.name, "more": abs(line.grown), "in": _running(line)}
    if line.grown < 0 and line.kind == PHYSICAL and line.name not in _MAY_FALL:
        return [Finding("went-back", READING, NOTE, page, None, values)]
    if line.kind == CONNECTION:
        if line.grown > 0:
            return [Finding("link-still-loses", CONNECTION, SIGN, page, None, values)]
        quiet = Finding(
            "link-quiet", CONNECTION, NOTE, page, None, {"name": line.name, "since": line.points[0].at[:10]}
        )
        return [quiet] if line.points[0].value else []
    if line.kind != PHYSICAL or line.grown <= 0:
        return []
    fast = line.per_1000_hours is not None and line.per_1000_hours >= rules.limits["fast_per_1000_h"] and line.grown > 1
    return [Finding("growing", PHYSICAL, FAILING if fast else SIGN, page, None, values, "growing-fast" if fast else "")]


_MAY_FALL = ("pending sectors", "offline uncorrectable sectors", "pending errors")
"""a rewrite takes these away"""


def _running(line: TrendLine) -> Said | str:
    first, last = line.points[0], line.points[-1]
    if line.per_1000_hours is None or first.hours is None or last.hours is None:
        return ""
    return say("when.of-running", hours=last.hours - first.hours)
