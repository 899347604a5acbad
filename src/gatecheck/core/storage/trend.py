"""Several captures of one drive, compared: what grew, how fast per power-on hour, and which warnings are new."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from gatecheck.core.findings import Finding
from gatecheck.core.storage.capture import Drive

CONNECTION, PHYSICAL, WEAR = "connection", "physical", "wear"
NOTE, SIGN, FAILING = "note", "sign", "failing"
_FAST_PER_1000_H = 50.0
"""from this growth on a drive that keeps losing places is failing, whatever its numbers are; bench judgement"""
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


def same_drive(one: Drive, other: Drive) -> bool:
    """By serial and model, and by WWN where both have one. A drive without a serial is nobody's."""
    a, b = one.identity or {}, other.identity or {}
    if not a.get("serial") or (a.get("serial"), a.get("model")) != (b.get("serial"), b.get("model")):
        return False
    return not (a.get("wwn") and b.get("wwn")) or a["wwn"] == b["wwn"]


def trend_of(captures: Sequence[tuple[str, Drive]]) -> Trend | None:
    """The trend over (moment, drive), oldest first, all of one drive; None for fewer than two."""
    if len(captures) < 2:
        return None
    series: dict[str, tuple[str, str, list[Point]]] = {}
    for moment, drive in captures:
        for name, (kind, unit, value) in _counters(drive).items():
            series.setdefault(name, (kind, unit, []))[2].append(Point(drive.logs.hours, value, moment))
    lines = [_line(name, kind, unit, points) for name, (kind, unit, points) in series.items() if len(points) > 1]
    before = {f.id for _, drive in captures[:-1] for f in drive.findings if f.severity != NOTE}
    now = {f.id for f in captures[-1][1].findings if f.severity != NOTE}
    last_before = {f.id for f in captures[-2][1].findings if f.severity != NOTE}
    findings = [f for line in lines for f in _judge(line)]
    rank = {FAILING: 0, SIGN: 1, NOTE: 2}
    return Trend(tuple(lines), tuple(sorted(findings, key=lambda f: rank[f.severity])), tuple(sorted(now - before)), tuple(sorted(last_before - now)))


def _counters(drive: Drive) -> dict[str, tuple[str, str, int]]:
    """Readings that only ever grow: name -> (kind, unit, value)."""
    found: dict[str, tuple[str, str, int]] = {}
    if drive.pages.smart:
        for r in drive.pages.smart.readings:
            if r.value is not None and (r.kind in (PHYSICAL, CONNECTION) or r.id == 12):
                found[r.name] = (r.kind, r.unit, r.value)
    for s in drive.logs.statistics.values if drive.logs.statistics else ():
        if s.name in ("reallocated sectors", "reported uncorrectable errors", "interface CRC errors", "mechanical start failures", "rated life used"):
            kind = CONNECTION if "CRC" in s.name else WEAR if "life" in s.name else PHYSICAL
            found.setdefault(s.name, (kind, s.unit, s.value))
    health = drive.pages.nvme
    if health:
        found |= {
            "media errors": (PHYSICAL, "", health.media_errors), "rated life used": (WEAR, "%", health.used),
            "unsafe shutdowns": ("", "", health.unsafe_shutdowns), "data written": (WEAR, "B", health.bytes_written),
        }  # fmt: skip
    return found


def _line(name: str, kind: str, unit: str, points: Sequence[Point]) -> TrendLine:
    first, last = points[0], points[-1]
    grown = last.value - first.value
    hours = None if first.hours is None or last.hours is None else last.hours - first.hours
    rate = grown / hours * 1000 if hours is not None and hours >= _LEAST_HOURS else None
    return TrendLine(name, kind, unit, tuple(points), grown, rate)


def _judge(line: TrendLine) -> list[Finding]:
    page = "trend"
    if line.grown < 0 and line.kind == PHYSICAL and line.name not in ("pending sectors", "offline uncorrectable sectors", "pending errors"):
        return [Finding("went-back", "reading", NOTE, f"{line.name} fell by {-line.grown} between captures", "Its firmware was reset or the page is not what it seems", page)]
    if line.kind == CONNECTION:
        if line.grown > 0:
            return [Finding("link-still-loses", CONNECTION, SIGN, f"{line.name}: {line.grown} more{_rate(line)}", "The link still loses bits: cable, contacts or port", page)]
        return [Finding("link-quiet", CONNECTION, NOTE, f"{line.name}: none new since {line.points[0].at[:10]}", "The old ones may be an earlier cable's", page)] if line.points[0].value else []
    if line.kind != PHYSICAL or line.grown <= 0:
        return []
    fast = line.per_1000_hours is not None and line.per_1000_hours >= _FAST_PER_1000_H and line.grown > 1
    text = f"{line.name}: {line.grown} more{_rate(line)}"
    means = "It keeps losing places: copy what matters, then replace it" if fast else "It grows: a drive that loses places goes on losing them"
    return [Finding("growing", PHYSICAL, FAILING if fast else SIGN, text, means, page)]


def _rate(line: TrendLine) -> str:
    first, last = line.points[0], line.points[-1]
    if line.per_1000_hours is None or first.hours is None or last.hours is None:
        return ""
    return f" in {last.hours - first.hours} h of running"
