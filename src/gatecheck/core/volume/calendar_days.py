"""Days of the calendar, for volumes that write their times as dates."""

from __future__ import annotations


def days_of(year: int, month: int, day: int) -> int:
    """Days from 1970-01-01, by the calendar of Gregory."""
    year -= month <= 2
    era, of_era = divmod(year, 400)
    of_year = (153 * (month + (-3 if month > 2 else 9)) + 2) // 5 + day - 1
    return era * 146097 + of_era * 365 + of_era // 4 - of_era // 100 + of_year - 719468
