"""Times as records write them, in UTC."""

from __future__ import annotations

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
