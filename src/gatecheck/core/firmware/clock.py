"""What a machine's hardware clock says beside ours: right, wrong, or fallen back to its first day.

The clock may keep local time or UTC, and nobody can tell which from its digits: an offset of whole quarters of an hour,
up to fourteen hours, is no error (time zones run from UTC-12 to UTC+14 in quarters). All moments are seconds since 1970
as if the digits were UTC."""

from __future__ import annotations

import calendar
import re
from dataclasses import dataclass

RIGHT, WRONG, RESET = "right", "wrong", "reset"
_ZONE, _FURTHEST, _SLACK, _DAY = 900, 50_700, 180, 86_400
_A_YEAR = 330 * _DAY
_FIRST_DAYS = 7
"""a clock in the first days of a year that is long over fell back"""


@dataclass(frozen=True, slots=True)
class Clock:
    year: int
    month: int
    day: int
    seconds: int


def parsed(text: str) -> Clock | None:
    """`YYYY-MM-DDTHH:MM:SS`; None for anything else."""
    digits = re.match(r"(\d{4})-(\d\d)-(\d\d)[T ](\d\d):(\d\d):(\d\d)", text)
    if digits is None:
        return None
    year, month, day, hour, minute, second = (int(d) for d in digits.groups())
    if not (year >= 1 and 1 <= month <= 12 and 1 <= day <= 31 and hour < 24 and minute < 60 and second < 61):
        return None
    return Clock(year, month, day, calendar.timegm((year, month, day, hour, minute, second)))


def firmware_date(text: str) -> int | None:
    """SMBIOS writes MM/DD/YYYY, once MM/DD/YY (DSP0134, 7.1); seconds since 1970, None where it is neither."""
    digits = re.fullmatch(r"(\d\d)/(\d\d)/(\d{4}|\d\d)", text.strip())
    if digits is None or not (1 <= int(digits[1]) <= 12 and 1 <= int(digits[2]) <= 31):
        return None
    year = int(digits[3]) + (1900 if len(digits[3]) == 2 else 0)
    return calendar.timegm((year, int(digits[1]), int(digits[2]), 0, 0, 0))


def judge_clock(clock: Clock, now: int | None, made: int | None, oldest: float) -> str | None:
    """`right`, `wrong`, `reset`, or None where it cannot be told. `now`: ours, None where nobody knows when the clock
    was read; `made`: the firmware's own date, before which no clock of this machine can stand; `oldest`: year before
    which no clock of a machine that is repaired now can."""
    if clock.year < oldest or (made is not None and clock.seconds < made - 2 * _DAY):
        return RESET
    if now is None:
        return None
    off = clock.seconds - now
    if abs(off) <= _FURTHEST and abs(off - round(off / _ZONE) * _ZONE) <= _SLACK:
        return RIGHT
    fell_back = off < -_A_YEAR and clock.month == 1 and clock.day <= _FIRST_DAYS
    return RESET if fell_back else WRONG
