"""Times as records write them, in UTC."""

from __future__ import annotations

import re

from gatecheck.core.volume.calendar_days import days_of

_FROM_1601 = 11_644_473_600
_FIRST, _LAST = 315_532_800, 7_258_118_400  # 1980 to 2200: anything else was never a time of such a machine


def of_filetime(ticks: int) -> float | None:
    """Seconds since 1970 of 100 ns since 1601; None where that is no time."""
    return of_unix(ticks / 10_000_000 - _FROM_1601)


def of_unix(seconds: float) -> float | None:
    return seconds if _FIRST <= seconds < _LAST else None


def iso(seconds: float | None) -> str | None:
    """ISO 8601 with seconds, in UTC."""
    if seconds is None:
        return None
    days, rest = divmod(int(seconds), 86_400)
    year, month, day = _civil(days)
    return f"{year:04d}-{month:02d}-{day:02d}T{rest // 3600:02d}:{rest // 60 % 60:02d}:{rest % 60:02d}Z"


def _civil(days: int) -> tuple[int, int, int]:
    """The date of a day since 1970 (Gregorian; H. Hinnant, days to civil)."""
    days += 719_468
    era, doe = divmod(days, 146_097)
    yoe = (doe - doe // 1460 + doe // 36_524 - doe // 146_096) // 365
    doy = doe - (365 * yoe + yoe // 4 - yoe // 100)
    mp = (5 * doy + 2) // 153
    month = mp + 3 if mp < 10 else mp - 9
    return yoe + era * 400 + (month <= 2), month, doy - (153 * mp + 2) // 5 + 1


def seconds_of(year: int, month: int, day: int, hour: int = 0, minute: int = 0, second: int = 0) -> int:
    """Seconds since 1970 of a civil time, as if it were UTC."""
    return days_of(year, month, day) * 86_400 + hour * 3600 + minute * 60 + second


def year_of(seconds: float) -> int:
    return _civil(int(seconds // 86_400))[0]


_WRITTEN = re.compile(r"(\d{4})-(\d\d)-(\d\d)[T ](\d\d):(\d\d)(?::(\d\d))?(?:[.,]\d+)?\s?(Z|[+-]\d\d:?\d\d)?", re.ASCII)


def of_text(text: str) -> tuple[float, bool] | None:
    """(seconds since 1970, whether it says its own zone) of a time at the start of a line; None where there is none."""
    found = _WRITTEN.match(text)
    if found is None:
        return None
    year, month, day, hour, minute, second = (int(part or 0) for part in found.groups()[:6])
    if not (1 <= month <= 12 and 1 <= day <= 31 and hour < 24 and minute < 60 and second <= 60):
        return None
    own = of_unix(seconds_of(year, month, day, hour, minute, second))
    if own is None:
        return None
    zone = found[7]
    if zone in (None, "Z"):
        return own, zone == "Z"
    away = int(zone[1:3]) * 3600 + int(zone[-2:]) * 60
    return own + (away if zone[0] == "-" else -away), True
