"""Times that a system wrote in its own zone, as UTC: by the zone's own file (TZif, RFC 9636), with the rule behind it
for years that its table does not reach."""

from __future__ import annotations

import re
import struct
from bisect import bisect_right
from dataclasses import dataclass

from gatecheck.core.records.moments import seconds_of, year_of

_CLOCK, _DATE = r"[+-]?\d{1,3}(?::\d{1,2}){0,2}", r"M(?:1[0-2]|[1-9])\.[1-5]\.[0-6]"
_RULE = re.compile(
    rf"^(?:<[^>]+>|[A-Za-z]+)({_CLOCK})(?:(?:<[^>]+>|[A-Za-z]+)({_CLOCK})?,({_DATE})(?:/({_CLOCK}))?,({_DATE})(?:/({_CLOCK}))?)?$",
    re.ASCII,
)


@dataclass(frozen=True, slots=True)
class Zone:
    """moments: seconds since 1970 from which on an offset (seconds east) holds, in order; before: the first offset;
    rule: what holds after them."""

    moments: tuple[int, ...] = ()
    offsets: tuple[int, ...] = ()
    before: int = 0
    rule: str = ""

    def utc(self, local: float) -> float:
        """Of a local time; of one that was twice, the earlier."""
        for offset in sorted({self.offset(local - 50_400), self.offset(local + 50_400)}, reverse=True):
            if self.offset(local - offset) == offset:
                return local - offset
        return local - self.offset(local)

    def offset(self, at: float) -> int:
        place = bisect_right(self.moments, at)
        if place == len(self.moments) and self.rule:
            own = _by_rule(self.rule, at)
            if own is not None:
                return own
        return self.offsets[place - 1] if place else self.before


def read_zone(raw: bytes) -> Zone | None:
    """None for what is no such file."""
    if raw[:4] != b"TZif" or len(raw) < 44:
        return None
    try:
        at, width = 0, 4
        counts = struct.unpack_from(">6I", raw, 20)
        if raw[4:5] >= b"2":
            at = 44 + _length(counts, 4)
            if raw[at : at + 4] != b"TZif":
                return None
            counts, width = struct.unpack_from(">6I", raw, at + 20), 8
        _, _, _, times, types, _ = counts
        at += 44
        moments = struct.unpack_from(f">{times}{'q' if width == 8 else 'i'}", raw, at)
        kinds = raw[at + times * width : at + times * width + times]
        table = at + times * (width + 1)
        offsets = [struct.unpack_from(">i", raw, table + 6 * n)[0] for n in range(types)]
        rule = (
            raw[at - 44 + 44 + _length(counts, width) :].strip(b"\n").decode("ascii", "replace") if width == 8 else ""
        )
        return Zone(moments, tuple(offsets[k] for k in kinds), offsets[0] if offsets else 0, rule)
    except (struct.error, IndexError):
        return None


def _length(counts: tuple[int, ...], width: int) -> int:
    utc, std, leaps, times, types, letters = counts
    return times * (width + 1) + types * 6 + letters + leaps * (width + 4) + std + utc


def _by_rule(rule: str, at: float) -> int | None:
    """Seconds east by a rule of POSIX (TZ), with dates as Mm.w.d; None where it is written otherwise."""
    found = _RULE.match(rule)
    if found is None:
        return None
    standard = -_clock(found[1])
    if found[3] is None:
        return standard
    summer = -_clock(found[2]) if found[2] else standard + 3600
    year = year_of(at + standard)
    begins = _day(year, found[3]) + _clock(found[4] or "2") - standard
    ends = _day(year, found[5]) + _clock(found[6] or "2") - summer
    is_summer = begins <= at < ends if begins < ends else not ends <= at < begins
    return summer if is_summer else standard


def _clock(text: str) -> int:
    sign = -1 if text.startswith("-") else 1
    parts = [int(p) for p in text.lstrip("+-").split(":")] + [0, 0]
    return sign * (parts[0] * 3600 + parts[1] * 60 + parts[2])


def _day(year: int, text: str) -> int:
    """Seconds since 1970 of the w-th weekday d of a month, the fifth being the last."""
    month, week, day = (int(p) for p in text[1:].split("."))
    first = seconds_of(year, month, 1)
    after = (seconds_of(year + month // 12, month % 12 + 1, 1) - first) // 86_400
    weekday = (first // 86_400 + 4) % 7  # 1970 began on a Thursday
    own = 1 + (day - weekday) % 7 + (week - 1) * 7
    while own > after:
        own -= 7
    return first + (own - 1) * 86_400
