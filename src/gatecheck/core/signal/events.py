"""Single sounds in a recording: ticks, clunks and seeks, by when, how long, how high, and how alike and how regular
they are."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import maximum_filter1d, median_filter, uniform_filter1d
from scipy.signal import butter, sosfiltfilt

HOP = 0.002
"""seconds between values of an envelope"""
_LOW, _HIGH = (70.0, 700.0), (1200.0, 7000.0)
_MOST, _SHORTEST, _FITS, _LIKE = 250, 3, 0.1, 7.0
_APART, _BACKGROUND, _STANDS_OUT = 0.06, 1.2, 9.0


@dataclass(frozen=True, slots=True)
class SoundEvent:
    """`at`, `length` in seconds; `high`, `low`: dB above what is around it in either band; `edge`, `body`: amplitude of
    its own in either band."""

    at: float
    length: float
    high: float
    low: float
    edge: float
    body: float

    @property
    def strength(self) -> float:
        return max(self.high, self.low)

    @property
    def is_low(self) -> bool:
        """Body rather than edge: a head hitting its stop, not an arm that turns back."""
        return self.body > 1.6 * self.edge or (self.body > self.edge and self.length > 0.04)

    @property
    def loud(self) -> float:
        """dB of its amplitude."""
        return float(20 * np.log10(max(self.edge, self.body) + 1e-12))


@dataclass(frozen=True, slots=True)
class Rhythm:
    """`rate` in Hz, 0 where there is none; `regularity`: share of its beats that are heard, times its share of all
    sounds as loud; `alike`: how little strengths and lengths differ, 0 to 1; `count` sounds over `span` seconds."""

    rate: float
    regularity: float
    alike: float
    count: int = 0
    span: float = 0.0
    period: float = 0.0
    """seconds from beat to beat, not rounded; 0 where there is none"""


def bands(samples: np.ndarray, rate: int) -> tuple[np.ndarray, np.ndarray, int]:
    """Envelopes (amplitude, one each HOP) of the high and the low band, and samples of a hop."""
    hop = max(1, int(rate * HOP))
    return envelope_of(samples, rate, _HIGH, hop), envelope_of(samples, rate, _LOW, hop), hop


def envelope_of(samples: np.ndarray, rate: int, band: tuple[float, float], hop: int) -> np.ndarray:
    """Amplitude in a band (Hz), a value for each `hop` samples."""
    high = min(band[1], rate * 0.45)
    sos = butter(4, [band[0], high], "bandpass", fs=rate, output="sos")
    own = np.abs(sosfiltfilt(sos, samples))
    count = len(own) // hop
    return np.asarray(np.sqrt((own[: count * hop].reshape(count, hop) ** 2).mean(axis=1)) + 1e-12)


def above(envelope: np.ndarray) -> np.ndarray:
    """dB over what is usual around each place."""
    wide = max(3, int(_BACKGROUND / HOP) | 1)
    step = 8
    coarse = median_filter(envelope[::step], size=max(3, wide // step | 1), mode="nearest")
    usual = np.interp(np.arange(len(envelope)), np.arange(len(coarse)) * step, coarse)
    return np.asarray(20 * np.log10(uniform_filter1d(envelope, 3) / (usual + 1e-12) + 1e-12))


def events_of(high: np.ndarray, low: np.ndarray) -> list[SoundEvent]:
    """Peaks that stand out of both bands' backgrounds."""
    over_high, over_low = above(high), above(low)
    # what noise alone does is taken from its own spread, so that a rough background is not full of events
    limits = [
        max(_STANDS_OUT, 4.2 * float(np.median(np.abs(o - np.median(o)))) * 1.48 + float(np.median(o)))
        for o in (over_high, over_low)
    ]
    joined = np.maximum(over_high - limits[0], over_low - limits[1])
    apart = max(3, int(_APART / HOP) | 1)
    peaks = np.nonzero((joined == maximum_filter1d(joined, apart)) & (joined > 0))[0]
    found: list[SoundEvent] = []
    for place in peaks:
        own = over_high if over_high[place] - limits[0] >= over_low[place] - limits[1] else over_low
        half = own[place] - 6
        start, end = place, place
        while start > 0 and own[start - 1] > half and place - start < 200:
            start -= 1
        while end + 1 < len(own) and own[end + 1] > half and end - place < 200:
            end += 1
        window = slice(max(0, place - 8), place + 9)
        wide = slice(max(0, place - 150), place + 151)
        edge, body = (
            float(max(0.0, np.sqrt(np.mean(e[max(0, place - 4) : place + 12] ** 2)) - np.median(e[wide])))
            for e in (high, low)
        )
        event = SoundEvent(
            float(place) * HOP,
            (end - start + 1) * HOP,
            float(over_high[window].max()),
            float(over_low[window].max()),
            edge,
            body,
        )
        if found and event.at - found[-1].at < _APART:
            if event.strength > found[-1].strength:
                found[-1] = event
        else:
            found.append(event)
    return found


def rhythm_of(events: list[SoundEvent]) -> Rhythm:
    """The beat of the longest chain of like sounds whose gaps are one period, now and then two; what else is heard
    between them does not break it."""
    own = sorted(sorted(events, key=lambda e: e.strength, reverse=True)[:_MOST], key=lambda e: e.at)
    if len(own) < _SHORTEST:
        return Rhythm(0.0, 0.0, 0.0)
    times, loud = np.array([e.at for e in own]), np.array([e.loud for e in own])
    best: tuple[float, float, list[int]] = (0.0, 0.0, [])
    regularity = 0.0
    for period in np.geomspace(0.22, 4.0, 110):
        chain = _chain(times, loud, float(period))
        if len(chain) < _SHORTEST:
            continue
        span = float(times[chain[-1]] - times[chain[0]])
        gaps = np.diff(times[chain])
        real = float(np.median(gaps / np.maximum(1, np.round(gaps / period))))
        hits = min(1.0, len(chain) / (span / real + 1))
        middle = float(np.median(loud[chain]))
        like = int(np.sum((np.abs(loud - middle) < _LIKE) & (times >= times[chain[0]]) & (times <= times[chain[-1]])))
        fit = hits * len(chain) / max(like, len(chain))
        value = fit * min(1.0, (len(chain) - 1) / 5) * min(1.0, span / (0.6 * (times[-1] - times[0]) + 1e-9))
        if value > best[0] + 1e-6:
            best = (value, real, chain)
            regularity = fit
    if not best[2]:
        return Rhythm(0.0, 0.0, 0.0)
    chosen = np.array(best[2])
    lengths = np.array([own[n].length for n in chosen])
    alike = float(np.exp(-_spread(loud[chosen]) / 5) * np.exp(-0.4 * _spread(np.log(lengths))))
    return Rhythm(
        round(1 / best[1], 2),
        round(float(regularity), 2),
        round(alike, 2),
        len(chosen),
        float(times[chosen[-1]] - times[chosen[0]]),
        _period(times[chosen], best[1]),
    )


def _period(times: np.ndarray, about: float) -> float:
    """The period that the whole chain fits best: its beats against their numbers, least squares."""
    beats = np.round((times - times[0]) / about)
    return float(np.polyfit(beats, times, 1)[0]) if beats[-1] > 1 else about


def _chain(times: np.ndarray, loud: np.ndarray, period: float) -> list[int]:
    """Places of the longest chain of this period."""
    count = len(times)
    length, before = [1] * count, [-1] * count
    for n in range(count):
        low = int(np.searchsorted(times, times[n] - 2 * period * (1 + _FITS)))
        for m in range(low, n):
            steps = (times[n] - times[m]) / period
            if (
                (abs(steps - 1) < _FITS or abs(steps - 2) < _FITS)
                and abs(loud[n] - loud[m]) < _LIKE
                and length[m] + 1 > length[n]
            ):
                length[n], before[n] = length[m] + 1, m
    at = int(np.argmax(length))
    found = []
    while at >= 0:
        found.append(at)
        at = before[at]
    return found[::-1]


def _spread(values: np.ndarray) -> float:
    """Standard deviation, of the middle."""
    return float(np.percentile(values, 75) - np.percentile(values, 25)) / 1.35
