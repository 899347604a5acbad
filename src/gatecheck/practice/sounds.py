"""Drives to be heard: sounds and supply currents made from their mechanics, for practice, for comparing by ear, and for
judging the judge.

A motor is a comb at its speed with lines of its poles, a bearing's hiss that beats a little; an arm's stop is a damped
knock of the case's resonances; a room has fans, hum, voices."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.signal import butter, lfilter, sosfilt

KINDS = ("steady", "ticking", "clunking", "scraping", "restarting", "silent")
SPEEDS = (5400, 5900, 7200, 10_000)


@dataclass(frozen=True, slots=True)
class Scene:
    """`snr`: dB of the drive's own sound over the room's; `start`: the recording begins before the drive does."""

    kind: str
    rpm: int = 5400
    seconds: float = 12.0
    rate: int = 48_000
    snr: float = 20.0
    start: bool = False
    fan: float = 0.0
    hum: int = 0
    voices: float = 0.0
    seeks: float = 0.0
    keys: float = 0.0


def sound(scene: Scene, seed: int) -> np.ndarray:
    """float64, shape (seconds * rate,), within ±1."""
    rng = np.random.default_rng(seed)
    count = int(scene.seconds * scene.rate)
    own = _drive(scene, rng, count)
    room = _room(scene, rng, count)
    own_power, room_power = _loud(own), float(np.sqrt(np.mean(room**2))) + 1e-12
    gain = 10 ** (scene.snr / 20) * room_power / own_power if scene.kind != "silent" else 0.0
    mixed = own * gain + room
    # no recorder makes a quiet room loud
    top = rng.uniform(0.15, 0.8) if scene.kind != "silent" else rng.uniform(0.02, 0.2)
    return np.asarray(mixed / (np.max(np.abs(mixed)) + 1e-9) * top)


def _loud(own: np.ndarray) -> float:
    """Of its louder half: a drive that ticks is not as quiet as its pauses."""
    hop = 2048
    frames = (
        np.sqrt(np.mean(own[: len(own) // hop * hop].reshape(-1, hop) ** 2, axis=1))
        if len(own) >= hop
        else np.array([1.0])
    )
    return float(np.percentile(frames, 75)) + 1e-12


def _speed(scene: Scene, rng: np.random.Generator, count: int) -> np.ndarray:
    """Turns a second at each sample."""
    full = scene.rpm / 60 * (1 + rng.normal(0, 0.0004))
    time = np.arange(count) / scene.rate
    if scene.kind == "restarting":
        period, up = rng.uniform(3.0, 7.0), rng.uniform(1.2, 2.4)
        reach = rng.uniform(0.4, 0.9)
        phase = np.mod(time + rng.uniform(0, 1), period)
        rise = np.clip(phase / up, 0, 1) * (phase < up)
        fall = np.exp(-(phase - up) / 0.35) * (phase >= up)
        return np.asarray(full * reach * (rise + fall))
    if scene.start:
        begin, up = rng.uniform(0.5, 2.0), rng.uniform(2.0, 5.0)
        return np.asarray(full * np.clip((time - begin) / up, 0, 1) ** 0.7)
    return np.full(count, full)


def _drive(scene: Scene, rng: np.random.Generator, count: int) -> np.ndarray:
    if scene.kind == "silent":
        return np.zeros(count)
    speed = _speed(scene, rng, count)
    turned = np.cumsum(speed) / scene.rate
    share = np.clip(speed / (scene.rpm / 60), 0, 1)
    own = np.zeros(count)
    for n in range(1, 13):
        own += rng.uniform(0.3, 1.0) / n**0.7 * np.sin(2 * np.pi * (n * turned + rng.random()))
    for poles in (4, 6, 12, 24):
        own += rng.uniform(0.0, 0.25) * np.sin(2 * np.pi * (poles * turned + rng.random()))
    hiss = _band(rng.normal(0, 1, count), scene.rate, 500, 6000) * rng.uniform(0.3, 0.9)
    own = (own * 0.4 + hiss * (1 + 0.05 * np.sin(2 * np.pi * turned))) * share**1.5
    if scene.kind == "scraping":
        contact = _band(rng.normal(0, 1, count), scene.rate, 1200, 7000)
        beat = np.clip(np.sin(2 * np.pi * turned + rng.random()), 0, None) ** rng.uniform(1, 4) + 0.25 * np.clip(
            np.sin(4 * np.pi * turned), 0, None
        )
        own += rng.uniform(1.5, 4) * contact * beat * share
    if scene.kind == "ticking":
        rate = rng.uniform(0.7, 2.2)
        _train(
            own,
            rng,
            scene,
            1 / rate,
            jitter=0.02,
            tone=(rng.uniform(1800, 4500), rng.uniform(900, 1800)),
            decay=rng.uniform(0.003, 0.008),
            loud=rng.uniform(2.5, 6),
        )
        if rng.random() < 0.3:
            own *= 1.0
    if scene.kind == "clunking":
        _train(
            own,
            rng,
            scene,
            rng.uniform(0.8, 2.6),
            jitter=0.03,
            tone=(rng.uniform(130, 320), rng.uniform(320, 650)),
            decay=rng.uniform(0.025, 0.07),
            loud=rng.uniform(3, 7),
        )
    for at in np.sort(rng.uniform(0, scene.seconds, rng.poisson(scene.seeks * scene.seconds))):
        _knock(
            own,
            rng,
            scene.rate,
            at,
            (rng.uniform(1500, 3500), rng.uniform(700, 1400)),
            rng.uniform(0.002, 0.006),
            rng.uniform(0.6, 2.5),
        )
    return own


def _train(
    own: np.ndarray,
    rng: np.random.Generator,
    scene: Scene,
    period: float,
    *,
    jitter: float,
    tone: tuple[float, float],
    decay: float,
    loud: float,
) -> None:
    at = rng.uniform(0.1, period)
    while at < scene.seconds:
        _knock(own, rng, scene.rate, at, tone, decay, loud * rng.uniform(0.88, 1.12))
        at += period * (1 + rng.normal(0, jitter))


def _knock(
    own: np.ndarray,
    rng: np.random.Generator,
    rate: int,
    at: float,
    tone: tuple[float, float],
    decay: float,
    loud: float,
) -> None:
    start, length = int(at * rate), int(8 * decay * rate)
    if start >= len(own):
        return
    time = np.arange(min(length, len(own) - start)) / rate
    body = sum(np.sin(2 * np.pi * f * time + rng.random()) for f in tone) + 0.7 * rng.normal(0, 1, len(time)) * np.exp(
        -time / (decay * 0.5)
    )
    own[start : start + len(time)] += loud * body * np.exp(-time / decay)


def _band(noise: np.ndarray, rate: int, low: float, high: float) -> np.ndarray:
    return np.asarray(sosfilt(butter(2, [low, min(high, rate * 0.45)], "bandpass", fs=rate, output="sos"), noise))


def _room(scene: Scene, rng: np.random.Generator, count: int) -> np.ndarray:
    time = np.arange(count) / scene.rate
    pink = lfilter([0.05], [1, -0.95], rng.normal(0, 1, count)) + 0.15 * rng.normal(0, 1, count)
    room = pink * rng.uniform(0.5, 1.0)
    if scene.hum:
        room += 0.4 * sum(np.sin(2 * np.pi * scene.hum * n * time + rng.random()) / n for n in (1, 2, 3, 5))
    if scene.fan:
        blades = rng.uniform(150, 420) * (1 + 0.004 * np.sin(2 * np.pi * 0.2 * time))
        turned = np.cumsum(blades) / scene.rate
        room += scene.fan * (
            sum(np.sin(2 * np.pi * n * turned) / n for n in (1, 2, 3)) * 0.4
            + _band(rng.normal(0, 1, count), scene.rate, 200, 3000)
        )
    if scene.voices:
        room += scene.voices * _voice(rng, scene, count)
    for at in rng.uniform(0, scene.seconds, rng.poisson(scene.keys * scene.seconds)):
        _knock(
            room,
            rng,
            scene.rate,
            at,
            (rng.uniform(900, 3000), rng.uniform(2000, 5000)),
            rng.uniform(0.004, 0.02),
            rng.uniform(0.5, 3),
        )
    return np.asarray(room)


def _voice(rng: np.random.Generator, scene: Scene, count: int) -> np.ndarray:
    out, at = np.zeros(count), 0.0
    while at < scene.seconds:
        length = rng.uniform(0.1, 0.4)
        start, size = int(at * scene.rate), int(length * scene.rate)
        size = min(size, count - start)
        if size > 0:
            time = np.arange(size) / scene.rate
            pitch = (
                np.cumsum(rng.uniform(90, 240) * (1 + 0.1 * np.sin(2 * np.pi * 3 * time + rng.random()))) / scene.rate
            )
            body = sum(
                np.sin(2 * np.pi * n * pitch) * np.exp(-(((n * 150 - rng.uniform(400, 900)) / 500) ** 2))
                for n in range(1, 14)
            )
            out[start : start + size] += body * np.hanning(size)
        at += length + rng.exponential(0.25)
    return out


@dataclass(frozen=True, slots=True)
class Trace:
    """`form`: 2.5 or 3.5; `hz`: values a second."""

    kind: str
    form: str = "2.5"
    seconds: float = 15.0
    hz: float = 100.0
    noise: float = 0.01


def trace(own: Trace, seed: int) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    """(seconds, rail -> ampere)."""
    rng = np.random.default_rng(seed)
    time = np.arange(int(own.seconds * own.hz)) / own.hz
    motor, logic = np.zeros(len(time)), np.zeros(len(time))
    peak, level = (
        (rng.uniform(1.4, 2.4), rng.uniform(0.3, 0.6))
        if own.form == "3.5"
        else (rng.uniform(0.7, 1.1), rng.uniform(0.12, 0.3))
    )
    begin = rng.uniform(0.3, 1.5)
    if own.kind != "flat":
        logic += rng.uniform(0.12, 0.3) * (time > begin - 0.2)
        logic += rng.uniform(0.2, 0.5) * np.exp(-(((time - begin + 0.15) / 0.02) ** 2))
    if own.kind == "normal":
        up = rng.uniform(2.0, 6.0) if own.form == "3.5" else rng.uniform(1.0, 3.0)
        motor += _spin(time, begin, up, peak, level)
        at = begin + up + 0.6
        while at < own.seconds:
            motor += rng.uniform(0.05, 0.25) * peak * 0.4 * np.exp(-(((time - at) / 0.03) ** 2))
            at += rng.exponential(0.7) + 0.1
    elif own.kind == "restarting":
        at, period, up = begin, rng.uniform(2.5, 6.0), rng.uniform(0.7, 1.8)
        while at < own.seconds:
            motor += np.where(
                (time > at) & (time < at + up), peak * rng.uniform(0.85, 1.0) * np.exp(-(time - at) / 3), 0
            )
            at += period
    elif own.kind == "no-spin" and rng.random() < 0.5:
        motor += np.where((time > begin) & (time < begin + rng.uniform(0.4, 1.2)), peak, 0)
    rails = {"a5": logic + (motor if own.form == "2.5" else 0), **({"a12": motor} if own.form == "3.5" else {})}
    return time, {name: values + rng.normal(0, own.noise, len(time)) for name, values in rails.items()}


def _spin(time: np.ndarray, begin: float, up: float, peak: float, level: float) -> np.ndarray:
    since = np.clip(time - begin, 0, None)
    surge = peak * np.clip(since / 0.15, 0, 1) * (1 - 0.25 * np.clip(since / up, 0, 1))
    settled = level + (0.75 * peak - level) * np.exp(-np.clip(since - up, 0, None) / 0.25)
    return np.where(time < begin, 0, np.where(since < up, surge, settled))
