"""Supply currents worked out from a motor: a driver that limits its current while the motor gains speed against its
back-EMF, friction that is left at speed, a controller that wakes, heads that load and seek. And what a bench does to
such a trace: clamps the wrong way round, offsets that drift, rates from 10 Hz to 5 kHz, gaps, rails not traced.

Not the generator of gatecheck.practice.sounds, which draws surges by their shape: neither knows the other."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

Rng = np.random.Generator
Floats = NDArray[np.float64]
KINDS = ("normal", "no-spin", "restarting", "flat")


@dataclass
class Current:
    """times in seconds, rails in ampere; form: what was drawn where, None where nothing starts."""

    times: Floats
    rails: dict[str, Floats]
    kind: str
    form: str | None
    said: dict[str, float] = field(default_factory=dict)


def _motor(rng: Rng, times: Floats, begin: float, three: bool, *, until: float = 1e9) -> tuple[Floats, float]:
    """Ampere of a motor that starts, and when it is at speed. until: seconds after which the driver gives up."""
    most = rng.uniform(1.3, 2.3) if three else rng.uniform(0.65, 1.1)
    running = most * rng.uniform(0.16, 0.34)
    up = rng.uniform(3.0, 9.0) if three else rng.uniform(1.2, 3.6)
    out = np.zeros(len(times))
    since = times - begin
    speed = np.clip(since / up, 0, 1) ** rng.uniform(0.8, 1.2)
    drawn = np.minimum(most, running + (most * 1.35 - running) * (1 - speed**3))
    drawn *= 1 + 0.02 * np.sin(2 * np.pi * 5 * since)
    align = rng.uniform(0.05, 0.5)  # the driver finds where the rotor stands
    drawn = np.where(since < align, most * rng.uniform(0.5, 0.9), drawn)
    drawn = np.where(since < 0.01, 0, drawn)
    out[since >= 0] = drawn[since >= 0]
    out[since > until] = 0
    return out, up


def _logic(rng: Rng, times: Floats, begin: float, three: bool) -> Floats:
    level = rng.uniform(0.15, 0.5) if three else rng.uniform(0.12, 0.3)
    out = np.where(times > begin, level, 0.0)
    out += rng.uniform(0.3, 1.5) * np.exp(-np.clip(times - begin, 0, None) / 0.004) * (times >= begin)
    for _ in range(int(rng.integers(0, 4))):  # firmware at work
        at, wide = begin + rng.uniform(0.1, 6), rng.uniform(0.05, 1.0)
        out += level * rng.uniform(0.1, 0.35) * ((times > at) & (times < at + wide))
    return out


def current(kind: str, seed: int) -> Current:
    rng = np.random.default_rng([seed, KINDS.index(kind)])
    three = bool(rng.random() < 0.5)
    hz = float(np.exp(rng.uniform(np.log(10), np.log(5000))))
    seconds = float(rng.uniform(12, 40))
    times = np.arange(int(seconds * hz)) / hz
    begin = float(rng.uniform(0.3, 3.0))
    motor, logic = np.zeros(len(times)), _logic(rng, times, begin, three)
    form: str | None = "3.5" if three else "2.5"
    if kind == "normal":
        motor, up = _motor(rng, times, begin + 0.1, three)
        at = begin + up + 0.4
        motor += rng.uniform(0.1, 0.4) * np.exp(-(((times - at) / 0.15) ** 2))  # heads load
        while at < seconds:
            at += rng.exponential(1.2) + 0.15
            for _ in range(int(rng.integers(1, 12))):
                motor += rng.uniform(0.05, 0.3) * ((times > at) & (times < at + 0.006))
                at += rng.uniform(0.01, 0.05)
    elif kind == "restarting":
        at, apart, until = begin + 0.1, rng.uniform(2.0, 7.0), rng.uniform(0.5, 1.6)
        while at < seconds:
            motor += _motor(rng, times, at, three, until=until)[0]
            at += apart * rng.uniform(0.9, 1.1)
    elif kind == "no-spin":
        how = int(rng.integers(0, 3))
        if how == 0:  # stalled: the driver holds its limit, then gives up
            most = rng.uniform(1.0, 2.0) if three else rng.uniform(0.5, 1.0)
            motor += most * ((times > begin + 0.1) & (times < begin + 0.1 + rng.uniform(0.4, 2.5)))
        elif how == 1:
            form = None  # only the controller wakes
        else:
            motor += rng.uniform(0.4, 0.9) * ((times > begin + 0.1) & (times < begin + rng.uniform(0.3, 0.5)))
    else:
        logic, form = np.zeros(len(times)), None
        if rng.random() < 0.4:
            logic += rng.uniform(0.002, 0.02)  # what leaks
    rails = {"a5": logic + (0 if three else motor), "a12": motor if three else np.zeros(len(times))}
    said: dict[str, float] = {"hz": hz, "three": float(three)}
    if not three and rng.random() < 0.5:
        del rails["a12"]
        said["only5"] = 1
    elif three and rng.random() < 0.2 and kind in ("normal", "restarting"):
        del rails["a5"]
        said["only12"] = 1
    noise = float(rng.choice([0.002, 0.008, 0.02]))
    for name in rails:
        rails[name] = rails[name] + rng.normal(0, noise, len(times))
        if rng.random() < 0.25:
            rails[name] = rails[name] + rng.uniform(-0.02, 0.04) + rng.uniform(-0.02, 0.02) * times / seconds
            said["offset"] = 1
    if rng.random() < 0.2:
        said["reversed"] = 1
        for name in rails:
            rails[name] = -rails[name]
    if rng.random() < 0.3:
        for _ in range(int(rng.integers(1, 4))):
            at, wide = rng.uniform(6, seconds - 1), rng.uniform(0.1, 0.8)
            for name in rails:
                rails[name] = np.where((times > at) & (times < at + wide), np.nan, rails[name])
        said["gaps"] = 1
    return Current(times, rails, kind, form, said)
