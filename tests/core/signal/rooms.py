"""Sounds of drives put together from what makes them: resonances struck by a head that parks or by an actuator that
hits its stop, a spindle whose balls pass, a room whose echo follows, and what a telephone does to it: noise gates,
compression, clipping, few values a second.

Not the generator of gatecheck.practice.sounds: neither knows the other."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from scipy.signal import fftconvolve, lfilter

Floats = NDArray[np.float64]
KINDS = ("steady", "ticking", "clunking", "scraping", "restarting", "silent")
_RATE = 48_000


@dataclass
class Heard:
    """samples at rate; kind; rpm, 0 where nothing turns; beats a second of what repeats, 0 where nothing does."""

    samples: Floats
    rate: int
    kind: str
    rpm: int
    beat: float
    snr: float
    said: dict[str, float] = field(default_factory=dict)


def _struck(rng: np.random.Generator, tones: list[tuple[float, float, float]]) -> Floats:
    """A few resonances (Hz, seconds until they are gone, strength), struck once."""
    time = np.arange(int(0.25 * _RATE)) / _RATE
    out = np.zeros(len(time))
    for hz, gone, strength in tones:
        out += strength * np.exp(-6.9 * time / gone) * np.sin(2 * np.pi * hz * time + rng.uniform(0, 6.28))
    return out


def _spindle(rng: np.random.Generator, turns: Floats) -> Floats:
    """Spindle and bearing. turns: revolutions a second at each moment."""
    phase = 2 * np.pi * np.cumsum(turns) / _RATE
    out = np.zeros(len(turns))
    for order in range(1, 14):
        out += rng.uniform(0.2, 1.0) / order**0.7 * np.sin(order * phase + rng.uniform(0, 6.28))
    out += 0.25 * np.sin(rng.uniform(4.2, 5.6) * phase)  # the balls' cage
    hiss = lfilter([1, -0.95], [1], rng.normal(0, 1, len(turns)))
    return out + 0.25 * hiss * (turns / max(turns.max(), 1e-9)) ** 2


def _placed(out: Floats, at: float, struck: Floats, loud: float) -> None:
    first = int(at * _RATE)
    part = struck[: max(len(out) - first, 0)]
    out[first : first + len(part)] += loud * part


def heard(kind: str, seed: int) -> Heard:
    rng = np.random.default_rng([seed, KINDS.index(kind)])
    seconds = float(rng.uniform(9, 22))
    count = int(seconds * _RATE)
    rpm = int(rng.choice([4200, 5400, 5900, 7200, 10_000, 15_000]))
    turns = np.full(count, rpm / 60.0)
    time = np.arange(count) / _RATE
    drive, beat = np.zeros(count), 0.0
    tick = [
        (rng.uniform(1800, 2600), 0.012, 0.6),
        (rng.uniform(3000, 5500), 0.008, 1.0),
        (rng.uniform(500, 900), 0.01, 0.3),
    ]
    thump = [
        (rng.uniform(110, 190), 0.1, 1.0),
        (rng.uniform(240, 420), 0.06, 0.8),
        (rng.uniform(900, 1600), 0.02, 0.35),
    ]
    is_turning = kind not in ("silent", "restarting") and not (kind in ("ticking", "clunking") and rng.random() < 0.4)
    if kind == "silent":
        rpm = 0
    elif kind == "restarting":
        beat = 1.0 / rng.uniform(2.2, 6.5)
        turns = np.zeros(count)
        at = rng.uniform(0.2, 1.0)
        while at < seconds:
            up, hold = rng.uniform(0.8, 1.6), rng.uniform(0.2, 0.6)
            rise = np.clip((time - at) / up, 0, 1)
            fall = np.exp(-np.clip(time - at - up - hold, 0, None) / rng.uniform(0.2, 0.5))
            turns = np.maximum(turns, np.where(time >= at, rise * fall * 0.45 * rpm / 60, 0))
            at += 1.0 / beat * rng.uniform(0.93, 1.07)
        rpm = 0
    if is_turning or kind == "restarting":
        drive += _spindle(rng, turns)
    if kind in ("ticking", "clunking"):
        struck = _struck(rng, tick if kind == "ticking" else thump)
        beat = float(rng.uniform(0.3, 4.0) if kind == "ticking" else rng.uniform(0.3, 1.6))
        at, drift = float(rng.uniform(0.1, 1.0)), float(rng.uniform(-0.01, 0.01))
        times: list[float] = []
        while at < seconds - 0.1:
            times.append(at)
            _placed(drive, at, struck, float(rng.uniform(5, 9)) * (1.0 if is_turning else 0.6))
            if kind == "clunking" and rng.random() < 0.4:
                _placed(drive, at + 0.06, struck, 3.0)
            at += 1.0 / beat * (1 + drift * at) * rng.uniform(0.985, 1.015)
        beat = (len(times) - 1) / max(times[-1] - times[0], 0.1)
    elif kind == "scraping":
        phase = np.cumsum(turns) / _RATE
        rub = np.clip(np.sin(2 * np.pi * phase + rng.uniform(0, 6.28)), 0, 1) ** rng.uniform(0.6, 2.5)
        noise = lfilter([1, -0.8], [1], rng.normal(0, 1, count))
        drive += noise * (0.15 + rub) * rng.uniform(1.2, 3.0)
    if is_turning and kind == "steady" and rng.random() < 0.6:  # seeks, as they come
        at = rng.uniform(0.5, 3)
        while at < seconds - 0.3:
            for _ in range(int(rng.integers(1, 14))):
                _placed(drive, at, _struck(rng, tick), float(rng.uniform(1.0, 3.0)))
                at += rng.uniform(0.012, 0.07)
            at += rng.exponential(0.8)
    if not is_turning and kind in ("ticking", "clunking"):
        rpm = 0
    drive /= max(float(np.sqrt(np.mean(drive**2))), 1e-9)
    snr = float(rng.choice([30, 20, 15, 10, 5]))
    room = _surroundings(rng, time, seconds)
    mixed = (0.0 if kind == "silent" else 1.0) * drive + room * 10 ** (-snr / 20)
    said: dict[str, float] = {}
    if rng.random() < 0.5:  # an echo
        long = rng.uniform(0.05, 0.4)
        tail = rng.normal(0, 1, int(long * _RATE)) * np.exp(-6.9 * np.arange(int(long * _RATE)) / (long * _RATE))
        tail *= rng.uniform(0.2, 0.7) / max(float(np.sqrt((tail**2).sum())), 1e-9)
        mixed = mixed + fftconvolve(mixed, tail)[:count]
        said["echo"] = long
    mixed *= 0.05 / max(float(np.sqrt(np.mean(mixed**2))), 1e-9)
    mixed, said = _telephone(rng, mixed, said)
    rate = int(rng.choice([8000, 16_000, 22_050, 44_100, 48_000]))
    if rate != _RATE:
        spectrum = np.fft.rfft(mixed)
        size = int(count * rate / _RATE)
        mixed = np.fft.irfft(spectrum[: size // 2 + 1], size) * size / count
    return Heard(np.clip(mixed, -1, 1), rate, kind, rpm if is_turning else 0, beat, snr, said)


def _surroundings(rng: np.random.Generator, time: Floats, seconds: float) -> Floats:
    """A fan, mains hum, somebody who speaks, another machine's drive: of unit strength together."""
    count = len(time)
    pink = lfilter([1], [1, -0.97], rng.normal(0, 1, count))
    out = pink / float(np.sqrt(np.mean(pink**2)))
    if rng.random() < 0.5:  # a fan: air, and its blades
        blades = rng.uniform(90, 260)
        for order in range(1, 5):
            out += 0.5 / order * np.sin(2 * np.pi * blades * order * time + rng.uniform(0, 6.28))
    if rng.random() < 0.3:
        hum = 50 if rng.random() < 0.5 else 60
        for order in (1, 2, 3, 4, 6):
            out += 0.4 / order * np.sin(2 * np.pi * hum * order * time + rng.uniform(0, 6.28))
    if rng.random() < 0.25:  # somebody speaks
        at = rng.uniform(0, 2)
        while at < seconds - 1:
            long, pitch = rng.uniform(0.12, 0.35), rng.uniform(95, 220)
            first, size = int(at * _RATE), int(long * _RATE)
            own = time[:size]
            syllable = np.zeros(size)
            for order in range(1, 18):
                formant = np.exp(-(((order * pitch - rng.uniform(400, 800)) / 350) ** 2)) + 0.4 * np.exp(
                    -(((order * pitch - rng.uniform(1200, 2400)) / 500) ** 2)
                )
                syllable += formant * np.sin(2 * np.pi * order * pitch * own)
            out[first : first + size] += 1.2 * syllable * np.hanning(size)
            at += long + rng.exponential(0.15)
    return out / float(np.sqrt(np.mean(out**2)))


def _telephone(rng: np.random.Generator, samples: Floats, said: dict[str, float]) -> tuple[Floats, dict[str, float]]:
    if rng.random() < 0.2:  # a gate shuts what is quiet
        level = np.sqrt(lfilter([0.002], [1, -0.998], samples**2))
        samples = samples * np.clip((level / max(float(np.percentile(level, 40)), 1e-9)), 0, 1) ** 2
        said["gate"] = 1
    if rng.random() < 0.25:  # compression: what is loud is turned down
        level = np.sqrt(lfilter([0.001], [1, -0.999], samples**2)) + 1e-4
        samples = samples * (level / float(np.median(level))) ** -0.4
        said["compressed"] = 1
    if rng.random() < 0.15:
        limit = float(np.percentile(np.abs(samples), 99.6))
        samples = np.clip(samples, -limit, limit) * (0.9 / max(limit, 1e-9))
        said["clipped"] = 1
    return samples, said
