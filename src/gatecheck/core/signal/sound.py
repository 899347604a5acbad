"""What a drive's sound says: which of the sounds a technician knows, how sure, and on what that rests.

Rests on the mechanics: a motor that turns (comb of harmonics), one that tries again and again (level rising and falling
in like stretches), an arm that searches (short, high, alike, once or twice a second), heads at their stop (longer,
lower, in a rhythm), contact (broad noise that beats with the turning). Anything else stays undecided."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
from scipy.ndimage import median_filter
from scipy.signal import resample_poly

from gatecheck.core.signal.events import HOP, Rhythm, SoundEvent, bands, envelope_of, events_of, rhythm_of
from gatecheck.core.signal.rotation import SPEEDS, Rotation, rotation_of
from gatecheck.core.words.said import Said, say

OUTCOMES = ("steady", "ticking", "clunking", "scraping", "restarting", "silent", "no-moving-parts")
RATE, SHORTEST, LONGEST = 16_000, 2.0, 125.0
_TOO_QUIET, _CLIPPED = -75.0, 0.02
_HEAVY, _SURE_DESPITE, _FEW_LINES, _SLOW_BEAT = 20.0, 0.95, 5, 0.5
_MOST_OF_A_ROOM = 5
"""deep sounds in a row that make a beat where no motor turns: a voice makes three or four by chance"""
_SURE, _CONTACT, _LOUD_ROOM = 0.5, 0.07, -26.0
_FINE_HOP, _BROAD, _TONE, _STANDS_OUT = 0.001, (1200.0, 7000.0), 3.0, 5.0
"""of contact: seconds of a value of its envelope, its band in Hz, how far a line may stand out of the noise around it,
and how far a beat has to"""


@dataclass(frozen=True, slots=True)
class Quality:
    """`level` and `noise` in dB of full scale (whole recording, its quietest tenth); `clipped`: share of samples at
    full scale."""

    level: float
    clipped: float
    noise: float


@dataclass(frozen=True, slots=True)
class Heard:
    """`outcome` None where nothing can be told. `weights`: over the outcomes of `sound`, empty then."""

    outcome: str | None
    weights: Mapping[str, float]
    events: tuple[tuple[float, str], ...]
    rpm: int | None
    rhythm: Rhythm
    quality: Quality
    why: tuple[Said, ...] = field(default_factory=tuple)


def judge_sound(samples: np.ndarray, rate: int) -> Heard:
    """`samples`: float, shape (n,), full scale 1. Never raises for what is in them."""
    samples = np.nan_to_num(np.asarray(samples, float), nan=0.0, posinf=1.0, neginf=-1.0)[: int(rate * LONGEST)]
    quality = _quality(samples, rate)
    nothing = Rhythm(0.0, 0.0, 0.0)
    reason = _no_verdict(samples, rate, quality)
    if reason is not None:
        return Heard(None, {}, (), None, nothing, quality, (reason,))
    samples -= float(np.mean(samples))  # a copy by now: two minutes at a high rate need not be held twice
    own = _resampled(samples, rate)
    del samples
    at = min(rate, RATE)
    high, low, _ = bands(own, at)
    events = events_of(high, low)
    rotation = rotation_of(_without_events(own, events, at), at)
    scores, why, rhythm = _scores(own, at, high, low, events, rotation, quality)
    total = sum(np.exp(v) for v in scores.values())
    weights = {name: round(float(np.exp(value) / total), 4) for name, value in scores.items()}
    best = max(weights, key=lambda n: weights[n])
    told = tuple((round(e.at, 3), _kind(e, best)) for e in events)
    beats = any(w.id in ("sound.ticks", "sound.clunks") for w in why)
    if weights[best] < (
        _SURE_DESPITE if best == "steady" and beats else _SURE
    ):  # a beat that is half heard is not called healthy
        return Heard(None, {}, told, rotation.rpm, rhythm, quality, (say("sound.undecided"), *why))
    return Heard(best, weights, told, rotation.rpm, rhythm, quality, tuple(why))


def _kind(event: SoundEvent, outcome: str) -> str:
    if event.is_low:
        return "clunk" if outcome == "clunking" else "thud"
    return "tick" if outcome == "ticking" else "seek"


def _quality(samples: np.ndarray, rate: int) -> Quality:
    if not len(samples):
        return Quality(-120.0, 0.0, -120.0)
    top = float(max(samples.max(), -samples.min()))
    limit = max(0.985, top * 0.999)
    clipped = (
        float(np.count_nonzero(samples >= limit) + np.count_nonzero(samples <= -limit)) / len(samples)
        if top > 0.5
        else 0.0
    )
    hop = max(1, rate // 20)
    count = len(samples) // hop
    pieces = samples[: count * hop].reshape(count, hop)
    frames = np.sqrt(np.einsum("ij,ij->i", pieces, pieces) / hop) if count else np.array([top])
    return Quality(
        round(_db(float(np.sqrt(np.dot(samples, samples) / len(samples)))), 1),
        round(clipped, 4),
        round(_db(float(np.percentile(frames, 10))), 1),
    )


def _db(value: float) -> float:
    return max(-120.0, float(20 * np.log10(value + 1e-12)))


def _no_verdict(samples: np.ndarray, rate: int, quality: Quality) -> Said | None:
    if len(samples) < SHORTEST * rate:
        return say("sound.too-short", seconds=round(len(samples) / rate, 1), least=SHORTEST)
    if quality.level < _TOO_QUIET:
        return say("sound.too-quiet", level=quality.level)
    if quality.clipped > _CLIPPED:
        return say("sound.clipped", share=quality.clipped)
    return None


def _resampled(samples: np.ndarray, rate: int) -> np.ndarray:
    if rate <= RATE:
        return samples
    common = int(np.gcd(rate, RATE))
    return np.asarray(resample_poly(samples, RATE // common, rate // common))


def _without_events(samples: np.ndarray, events: list[SoundEvent], rate: int) -> np.ndarray:
    """Turned down where a single sound stands, so that it does not hide what turns."""
    out = samples.copy()
    for event in events:
        low, high = int((event.at - 0.02) * rate), int((event.at + event.length + 0.05) * rate)
        out[max(0, low) : high] *= 0.1
    return out


def _level(low: np.ndarray, high: np.ndarray) -> np.ndarray:
    """Level in dB, one each 0.1 s, single sounds taken out."""
    step = int(0.1 / HOP)
    count = len(low) // step
    frames = np.sqrt(
        np.median(
            low[: count * step].reshape(count, step) ** 2 + 0.3 * high[: count * step].reshape(count, step) ** 2, axis=1
        )
    )
    return np.asarray(median_filter(20 * np.log10(frames + 1e-12), size=7, mode="nearest"))


@dataclass(frozen=True, slots=True)
class _Swings:
    """`ups`: how often the level rose and stayed; `again`: how often it fell after that; `alike`: how little the
    stretches differ; `span` in dB."""

    ups: int
    again: int
    alike: float
    span: float


def _swings(level: np.ndarray) -> _Swings:
    if len(level) < 20:
        return _Swings(0, 0, 0.0, 0.0)
    bottom, top = np.percentile(level, [8, 92])
    span = float(top - bottom)
    if span < 5:
        return _Swings(0, 0, 0.0, span)
    upper, lower = bottom + 0.6 * span, bottom + 0.35 * span
    is_up, stretches, start = bool(level[0] > upper), list[int](), 0
    ups, again = 0, 0
    for place, value in enumerate(level):
        if not is_up and value > upper:
            is_up, start, ups = True, place, ups + 1
        elif is_up and value < lower:
            is_up, again = False, again + 1
            stretches.append(place - start)
    long = [s for s in stretches if s >= 7]
    alike = float(np.exp(-2.2 * np.std(long) / np.mean(long))) if len(long) >= 2 else 0.0
    return _Swings(
        ups, len(long), alike if len(long) == len(stretches) else alike * len(long) / max(1, len(stretches)), span
    )


def _contact(samples: np.ndarray, rate: int, rotation: Rotation) -> float:
    """How deep broad noise beats at a turning speed, as a share of its own strength; 0 where no beat stands out."""
    fs = 1 / _FINE_HOP
    high = envelope_of(_without_tones(samples), rate, _BROAD, max(1, int(rate * _FINE_HOP)))
    usual = median_filter(high[::8], size=int(0.2 / _FINE_HOP / 8) | 1, mode="nearest").repeat(8)
    own = np.clip(high[: len(usual)] / (usual[: len(high)] + 1e-12), 0, 4)
    if len(own) < fs:
        return 0.0
    # while it spins up the beat has no one speed: what comes after that is looked at by itself too
    late = own[int(0.55 * len(own)) :]
    return max(_beat(own, int(4 * fs), rotation), _beat(late, int(2.2 * fs), rotation) if len(late) > 2.2 * fs else 0.0)


def _without_tones(samples: np.ndarray) -> np.ndarray:
    """Lines turned down to the noise around them: tones of a spindle beat with each other as contact does."""
    spectrum = np.fft.rfft(samples)
    strength = np.abs(spectrum)
    part = max(1, len(strength) // 20_000)
    coarse = strength[: len(strength) // part * part].reshape(-1, part)
    level = median_filter(np.median(coarse, axis=1), size=101, mode="nearest") * _TONE
    limit = np.interp(np.arange(len(strength)), (np.arange(len(level)) + 0.5) * part, level)
    return np.asarray(np.fft.irfft(spectrum * np.minimum(1.0, limit / (strength + 1e-30)), len(samples)))


def _beat(own: np.ndarray, size: int, rotation: Rotation) -> float:
    """The same for what is heard at one speed. `own`: the envelope against what is usual around it; `size`: of the
    pieces that are looked at."""
    fs, size = 1 / _FINE_HOP, min(len(own), size)
    window = np.hanning(size)
    pieces = [own[s : s + size] for s in range(0, len(own) - size + 1, size // 2)]
    power = np.median(
        [np.abs(np.fft.rfft((p - p.mean()) * window)) * 2 / window.sum() / p.mean() for p in pieces], axis=0
    )
    step, best = fs / size, 0.0
    for rpm in (rotation.rpm,) if rotation.rpm else SPEEDS:
        place = round(rpm / 60 / step)
        if place + 40 >= len(power):
            continue
        line = float(power[place - 3 : place + 4].max())
        beside = float(np.median(np.concatenate([power[place - 40 : place - 6], power[place + 7 : place + 41]])))
        if line > _STANDS_OUT * beside:
            best = max(best, line)
    return best


def _scores(
    samples: np.ndarray,
    rate: int,
    high: np.ndarray,
    low: np.ndarray,
    events: list[SoundEvent],
    rotation: Rotation,
    quality: Quality,
) -> tuple[dict[str, float], list[Said], Rhythm]:
    """Log-odds of each outcome, before they are made to sum to one."""
    seconds = len(samples) / rate
    deep, edges = [e for e in events if e.is_low], [e for e in events if not e.is_low]
    beats = {"deep": rhythm_of(deep), "edges": rhythm_of(edges)}
    swings = _swings(_level(low, high))
    depth = _contact(samples, rate, rotation)
    why: list[Said] = []
    scores = dict.fromkeys(OUTCOMES, 0.0)
    scores |= dict.fromkeys(("ticking", "clunking", "scraping", "restarting"), -1.5) | {"no-moving-parts": -3.0}
    rhythm = max(beats.values(), key=lambda b: b.regularity * b.alike)

    if rotation.rpm:
        few = rotation.lines < _FEW_LINES  # a fan has a comb too, of a few lines
        scores["steady"] += 0.8 if few else 3.0 + min(2.0, rotation.clear / 6)
        scores["silent"] -= 0.3 if few else 3.0
        why.append(say("sound.turns", rpm=rotation.rpm, lines=rotation.lines))
    else:
        scores["silent"] += 1.4
        scores["steady"] += 0.2
        why.append(say("sound.no-turning"))
    ticks = _regular(beats["edges"], (0.25, 4.5), seconds, _least(5, beats["edges"], rotation))
    if ticks:
        scores["ticking"] += 6.5 * ticks
        scores["steady"] -= 2.5 * ticks
        scores["silent"] -= 3
        why.append(
            say(
                "sound.ticks",
                count=beats["edges"].count,
                rate=beats["edges"].rate,
                regularity=beats["edges"].regularity,
            )
        )
    few_are = 3 if seconds < 9 else _least(4, beats["deep"], rotation)
    clunks = _regular(beats["deep"], (0.15, 3.0), seconds, few_are if rotation.rpm else _MOST_OF_A_ROOM)
    if clunks and beats["deep"].count == len(deep) and float(np.median([e.low for e in deep])) > _HEAVY:
        clunks = min(1.0, clunks + 0.3)  # slow ones are few: all of them keep the beat, and stand far out
    if clunks:
        scores["clunking"] += 6.8 * clunks
        scores["steady"] -= 2.5 * clunks
        scores["silent"] -= 3
        why.append(
            say("sound.clunks", count=beats["deep"].count, rate=beats["deep"].rate, regularity=beats["deep"].regularity)
        )
    if edges and not ticks and len(edges) / seconds > 0.5:
        scores["steady"] += 0.8
        scores["silent"] -= 0.8
        why.append(say("sound.seeks", count=len(edges)))
    if swings.again >= 2 and swings.alike > 0.45:
        scores["restarting"] += 2.0 + 3.5 * swings.alike + 0.4 * min(3, swings.again)
        scores["silent"] -= 2.5
        why.append(say("sound.tries", count=swings.ups))
    elif swings.ups == 1 and swings.again == 0 and swings.span > 8:
        scores["steady"] += 1.0
        why.append(say("sound.spins-up"))
    if swings.span > 8:
        scores["silent"] -= 2.0  # something comes and goes
    if depth > _CONTACT:
        share = min(1.0, (depth - _CONTACT) / 0.08)
        scores["scraping"] += 2.5 + 5.0 * share
        scores["steady"] -= 2.0 * share
        scores["silent"] -= 2
        why.append(say("sound.beats", depth=round(depth, 3)))
    if scores["silent"] > max(v for k, v in scores.items() if k != "silent") and quality.noise > _LOUD_ROOM:
        scores["silent"] -= 2.5
        why.append(say("sound.drowned", level=quality.noise))
    return scores, why, rhythm


def _least(usual: int, beat: Rhythm, rotation: Rotation) -> int:
    """How many sounds make a beat: one fewer of slow ones, where a motor turns."""
    return usual - 1 if beat.rate < _SLOW_BEAT and rotation.rpm else usual


def _regular(beat: Rhythm, rates: tuple[float, float], seconds: float, least: int) -> float:
    """How much of a rhythm that is, 0 to 1: regular, alike, of a rate that mechanics have, through a good part of the
    recording."""
    if beat.count < least or not rates[0] <= beat.rate <= rates[1] or beat.regularity < 0.5 or beat.alike < 0.4:
        return 0.0
    through = min(1.0, (beat.span + 1 / beat.rate) / max(1.0, 0.6 * seconds))
    many = min(1.0, (beat.count - least + 1.6) / 2.6)
    return float(
        np.clip((beat.regularity - 0.45) / 0.35, 0, 1) * np.clip((beat.alike - 0.25) / 0.35, 0, 1) * through**2 * many
    )
