"""What a drive's supply current says while it starts: form factor, inrush, spin-up, plateau, seeks, tries again, or
nothing.

A 3.5-inch disk turns its motor on 12 V, a 2.5-inch one on 5 V; a spin-up is a surge of a second or several, then a
plateau below it; head load and seeks are small bumps on that."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
from scipy.ndimage import median_filter

from gatecheck.core.words.said import Said, say

OUTCOMES = ("normal", "no-spin", "restarting", "flat")
SHORTEST, LONGEST, STEP = 1.0, 6 * 3600.0, 0.05
_GAP, _GAP_STEPS = 30.0, 20.0
"""seconds, and usual steps, without a row that break a trace in two"""
_FLAT, _SURGE, _DROPPED = 0.03, 0.25, 0.8
_LEAK, _MOTOR = 0.09, 0.2
"""ampere: what a clamp that is off, or a leak, may show all the time; and from where on a motor is at work on a rail"""
_UNTRACED = 0.55
"""no motor on 5 V, and 12 V was not traced: it may turn there"""
_CUT = 0.8
"""a surge that loses so much of its height at once was cut by the driver: a motor that gains speed lets go slowly"""


@dataclass(frozen=True, slots=True)
class SupplyVerdict:
    """`outcome` None where nothing can be told; `events`: (second, kind); `form_factor`: 2.5, 3.5 or None."""

    outcome: str | None
    weights: Mapping[str, float]
    events: tuple[tuple[float, str], ...]
    form_factor: str | None
    why: tuple[Said, ...]


def judge_supply(times: np.ndarray, rails: Mapping[str, np.ndarray]) -> SupplyVerdict:
    """`times` in seconds, rising; `rails`: a5, a12 in ampere, v5, v12 in volt, NaN in gaps. Never raises for what is in
    them.

    Where nothing was traced for long, the stretch with the most rows is judged, and that is said.
    """
    times, unit = in_seconds(times, rails)
    if unit != "s":
        seen = judge_supply(times, rails)
        return replace(seen, why=(*seen.why, say("supply.unit", unit=unit)))
    own = _unbroken(times)
    if own.stop - own.start < len(times):
        seen = judge_supply(times[own], {name: values[own] for name, values in rails.items()})
        said = say("supply.gap", first=round(float(times[own.start]), 2), last=round(float(times[own.stop - 1]), 2))
        return replace(seen, why=(*seen.why, said))
    amperes = {name: values for name, values in rails.items() if name in ("a5", "a12") and np.isfinite(values).any()}
    span = float(times[-1] - times[0]) if len(times) else 0.0
    if not amperes:
        return SupplyVerdict(None, {}, (), None, (say("supply.no-current"),))
    if span < SHORTEST or len(times) < 10:
        return SupplyVerdict(None, {}, (), None, (say("supply.too-short", seconds=round(span, 2), least=SHORTEST),))
    if span > LONGEST:
        return SupplyVerdict(
            None, {}, (), None, (say("supply.too-long", hours=round(span / 3600, 1), most=LONGEST / 3600),)
        )
    step = max(STEP, float(np.median(np.diff(times))))
    grid = np.arange(times[0], times[-1] + step / 2, step)
    lines = {name: _even(times, values, grid, step) for name, values in amperes.items()}
    turned = [name for name, values in lines.items() if _is_reversed(values, step)]
    lines.update({name: -lines[name] for name in turned})
    dropped = [
        (float(grid[place]), "dropped-rail")
        for name, nominal in (("v5", 5.0), ("v12", 12.0))
        if name in rails and np.isfinite(rails[name]).any()
        for place in _falls(_even(times, rails[name], grid, step), nominal)
    ]
    on_twelve = "a12" in lines and _most(lines["a12"], step) > _MOTOR
    motor = lines["a12"] if on_twelve or "a5" not in lines else lines["a5"]
    # a rail that was not traced is not known; one without a motor's current is none
    form = "3.5" if on_twelve else "2.5" if "a5" in lines and _most(lines["a5"], step) > 1.4 * _MOTOR else None
    seen = _judged(grid, motor, lines, step, form, dropped)
    if seen.outcome == "no-spin" and "a12" not in lines and form is None:
        seen = replace(seen, weights=_weights("no-spin", _UNTRACED), why=(*seen.why, say("supply.only-five")))
    also = [say("supply.reversed", rail="5 V" if name == "a5" else "12 V") for name in turned]
    return replace(seen, why=(*seen.why, *also)) if also else seen


def in_seconds(times: np.ndarray, rails: Mapping[str, np.ndarray]) -> tuple[np.ndarray, str]:
    """The times in seconds, and the unit they were in: s, ms or us. No start is seen at less than five values a second
    over the better part of an hour, with a surge of many values: then they are a thousandth or a millionth of it."""
    if len(times) < 50:
        return times, "s"
    step, span = float(np.median(np.diff(times))), float(times[-1] - times[0])
    if step < 0.19 or span < 3000:
        return times, "s"
    longest = 0
    for name in ("a5", "a12"):
        drawn = np.abs(np.nan_to_num(rails.get(name, np.zeros(0))))
        high = drawn > max(0.6 * float(drawn.max(initial=0.0)), _MOTOR)
        edges = np.flatnonzero(np.diff(np.concatenate([[0], high.astype(int), [0]])))
        longest = max(longest, int((edges[1::2] - edges[::2]).max()) if len(edges) else 0)
    if not 8 <= longest <= 0.6 * len(times):
        return times, "s"
    unit, scale = ("us", 1e6) if step >= 190 and span > 3e6 else ("ms", 1e3)
    return times / scale, unit


def _is_reversed(values: np.ndarray, step: float) -> bool:
    """The clamp was the wrong way round: what is drawn stands below zero."""
    smooth = median_filter(values, size=max(3, int(0.15 / step) | 1), mode="nearest")
    return float(smooth.min()) < -_FLAT - 0.05 and -float(smooth.min()) > 2.0 * float(smooth.max())


def _most(values: np.ndarray, step: float) -> float:
    """The most that was drawn for longer than an inrush, above what was drawn most of the time."""
    smooth = median_filter(values, size=max(3, int(0.25 / step) | 1), mode="nearest")
    return float(smooth.max() - np.median(smooth))


def _unbroken(times: np.ndarray) -> slice:
    """The stretch with the most rows between gaps."""
    steps = np.diff(times)
    cuts = (
        np.flatnonzero(steps > max(_GAP, _GAP_STEPS * float(np.median(steps)))) + 1
        if len(steps)
        else np.zeros(0, dtype=int)
    )
    edges = [0, *cuts.tolist(), len(times)]
    return max((slice(a, b) for a, b in pairwise(edges)), key=lambda s: s.stop - s.start)


def _even(times: np.ndarray, values: np.ndarray, grid: np.ndarray, step: float) -> np.ndarray:
    """Means over steps; a gap is bridged."""
    good = np.isfinite(values)
    place = np.clip(((times[good] - grid[0]) / step + 0.5).astype(int), 0, len(grid) - 1)
    count = np.bincount(place, minlength=len(grid))
    total = np.bincount(place, weights=values[good], minlength=len(grid))
    known = count > 0
    return np.asarray(np.interp(grid, grid[known], total[known] / count[known]))


def _falls(volts: np.ndarray, nominal: float) -> list[int]:
    """Where a rail that was up breaks down."""
    up = volts > 0.9 * nominal
    return [int(n) for n in np.nonzero(up[:-1] & (volts[1:] < _DROPPED * nominal))[0]]


def _judged(
    grid: np.ndarray,
    motor: np.ndarray,
    lines: Mapping[str, np.ndarray],
    step: float,
    form: str | None,
    dropped: list[tuple[float, str]],
) -> SupplyVerdict:
    total = np.sum(list(lines.values()), axis=0)
    top = float(np.percentile(total, 99))
    noise = 1.48 * float(np.median(np.abs(np.diff(total)))) / 1.41
    steady = median_filter(total, size=max(5, int(0.4 / step) | 1), mode="nearest")
    low, high = float(np.percentile(steady, 1)), float(steady.max())
    if high < max(_FLAT, 2.5 * noise if top < 0.12 else 0) or (
        high < _LEAK and abs(low) < _LEAK and high - low < max(_FLAT + 0.02, 2.5 * noise)
    ):
        return SupplyVerdict(
            "flat", _weights("flat", 0.95), tuple(dropped), None, (say("supply.flat", most=round(top, 3)),)
        )
    smooth = median_filter(motor, size=max(5, int(0.3 / step) | 1), mode="nearest")
    surges = _surges(smooth, step, noise)
    events = [(float(grid[start]), "surge") for start, _, _, _ in surges]
    idle = float(np.percentile(smooth, 5))
    tail = float(np.median(smooth[int(0.8 * len(smooth)) :]))
    first = next(iter(surges), None)
    span = float(grid[-1] - grid[0])
    plateau = [s for s in surges if s[2] > 0.3 * (s[1] - idle) and s[2] > 0.06]
    why: list[Said] = []
    if first is None:
        return SupplyVerdict(
            "no-spin",
            _weights("no-spin", 0.85),
            tuple(sorted([(float(grid[int(np.argmax(total > _FLAT))]), "inrush"), *dropped])),
            form,
            (say("supply.no-surge", level=round(tail, 2)),),
        )
    if len(surges) >= 3 or (len(surges) == 2 and not plateau and span < 60):
        why.append(say("supply.tries", count=len(surges)))
        return SupplyVerdict(
            "restarting",
            _weights("restarting", 0.93 if len(surges) > 2 else 0.75),
            tuple(sorted([*events, *dropped])),
            form,
            tuple(why),
        )
    last = surges[-1]
    held = last[2]
    after = float(grid[-1]) - float(grid[last[0]])
    if after < 2.5:
        return SupplyVerdict(None, {}, tuple(sorted([*events, *dropped])), form, (say("supply.cut-short"),))
    seeks = _seeks(grid, lines, float(grid[last[0]]) + 1.5, step)
    only_logic = (held > 0.7 * last[1] and last[1] < 0.45) or form is None
    brief = last[3] < 1.3 and not seeks and held < 0.45 * last[1]
    if (
        held < 0.12 * last[1]
        or (held < idle + 0.03 and held < 0.06)
        or only_logic
        or brief
        or _is_cut(motor, last, step)
    ):
        return SupplyVerdict(
            "no-spin",
            _weights("no-spin", 0.85),
            tuple(sorted([*events, *dropped])),
            form,
            (say("supply.gave-up", peak=round(last[1], 2), level=round(held, 2)),),
        )
    if len(surges) == 2:
        why.append(say("supply.second-try"))
    why.append(say("supply.spins", peak=round(last[1], 2), level=round(held, 2)))
    if seeks:
        why.append(say("supply.seeks", count=len(seeks)))
        events += [(s, "seek") for s in seeks]
    events.append((float(grid[min(len(grid) - 1, last[0] + int(1.0 / step))]), "plateau"))
    return SupplyVerdict(
        "normal",
        _weights("normal", 0.92 if len(surges) == 1 else 0.7),
        tuple(sorted([*events, *dropped])),
        form,
        tuple(why),
    )


def _surges(smooth: np.ndarray, step: float, noise: float) -> list[tuple[int, float, float, float]]:
    """(place, peak, what is drawn once it has settled, seconds) of each surge: a rise well over what was drawn just
    before, that lasts more than a moment."""
    found: list[tuple[int, float, float, float]] = []
    top = float(np.percentile(smooth, 99.5))
    upper, rise = max(0.12, 0.6 * top), max(_SURGE * top, 0.08, 5 * noise)
    is_up, start, peak = False, 0, 0.0
    lowest = float(smooth[0])
    for place, value in enumerate(smooth):
        if not is_up:
            lowest = min(lowest, float(value))
            if value > upper and value > lowest + rise:
                is_up, start, peak = True, place, float(value)
            continue
        peak = max(peak, float(value))
        if value < 0.8 * upper or value < 0.62 * peak:
            if (place - start) * step >= 0.25:
                rest = smooth[min(len(smooth) - 1, place + int(0.6 / step)) : min(len(smooth), place + int(3.5 / step))]
                found.append(
                    (
                        start,
                        float(smooth[start:place].max()),
                        float(np.median(rest)) if len(rest) else float(value),
                        (place - start) * step,
                    )
                )
            is_up, lowest = False, float(value)
    if is_up and (len(smooth) - start) * step >= 0.25:
        found.append(
            (
                start,
                float(smooth[start:].max()),
                float(np.median(smooth[max(start, len(smooth) - int(2 / step)) :])),
                (len(smooth) - start) * step,
            )
        )
    return found


def _is_cut(motor: np.ndarray, surge: tuple[int, float, float, float], step: float) -> bool:
    """Does the surge end from one moment to the next? A motor at speed draws ever less on the way there."""
    start, peak, held, seconds = surge
    end = start + int((seconds + 0.5) / step)
    own = median_filter(motor[start : min(end, len(motor))], size=3, mode="nearest")
    wide = max(2, round(0.15 / step))
    if len(own) <= wide or peak - held < 0.1:
        return False
    return float((own[:-wide] - own[wide:]).max()) > _CUT * (float(own.max()) - held)


def _seeks(grid: np.ndarray, lines: Mapping[str, np.ndarray], after: float, step: float) -> list[float]:
    """Short bumps on the plateau."""
    found: set[float] = set()
    for values in lines.values():
        own = values - median_filter(values, size=max(3, int(1.5 / step) | 1), mode="nearest")
        late = grid > after
        if late.sum() < 20:
            continue
        limit = max(0.02, 5 * 1.48 * float(np.median(np.abs(own[late] - np.median(own[late])))))
        up = (own > limit) & late
        found |= {round(float(grid[n]), 2) for n in np.nonzero(up[1:] & ~up[:-1])[0] + 1}
    return sorted(found)


def _weights(outcome: str, share: float) -> dict[str, float]:
    rest = (1 - share) / (len(OUTCOMES) - 1)
    return {name: round(share if name == outcome else rest, 4) for name in OUTCOMES}
