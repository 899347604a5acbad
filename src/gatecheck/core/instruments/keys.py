"""The book of keys: which key opens what on this model, from every try the shop has made."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from gatecheck.core.knowledge.instruments import Keys

LEVELS = ("platform", "maker", "series", "model")
_MOST = 6


@dataclass(frozen=True, slots=True)
class KeyedMachine:
    """A model's place in the book, as its name gives it: maker, series and model, in lower case."""

    platform: str
    maker: str
    series: str
    model: str

    def at(self, level: str) -> str:
        return str(getattr(self, level))


@dataclass(frozen=True, slots=True)
class Try:
    machine: KeyedMachine
    purpose: str
    key: str
    worked: bool


@dataclass(frozen=True, slots=True)
class KeyCandidate:
    """A key with the chance that it works, and the nearest level that has tried it: (`worked` of `tried`), or
    `general`."""

    key: str
    p: float
    level: str
    worked: int
    tried: int


def machine_of(name: str, platform: str) -> KeyedMachine:
    """`Ferrow Lathe-14` -> maker ferrow, series lathe, model lathe-14. The first word is the maker, the rest the model;
    the series is the model's first word without its number."""
    words = name.lower().split()
    maker, model = (words[0], " ".join(words[1:])) if words else ("", "")
    series = re.match(r"[^\d\s]*[^\d\s-]", model)
    return KeyedMachine(platform, maker, series[0] if series else model, model)


def candidates(keys: Keys, tries: Iterable[Try], machine: KeyedMachine, purpose: str) -> list[KeyCandidate]:
    """Keys to try on this machine, best first; at most six.

    Each level's share is its own tries plus the wider level's share at a weight of `keys.weight` tries:
    p = (worked + weight * p_wider) / (tried + weight), from the general list down to the model.
    """
    counts = _counts(tries, machine, purpose)
    general = keys.general.get(machine.platform, {}).get(purpose, {})
    found = []
    for key in dict.fromkeys([*general, *counts]):
        worked, tried = general.get(key, (0.0, 10.0))
        p = (worked + 0.1) / (tried + 0.5)
        nearest = ("general", 0, 0)
        for level in LEVELS:
            w, n = counts.get(key, {}).get(level, (0, 0))
            p = (w + keys.weight * p) / (n + keys.weight)
            if n:
                nearest = (level, w, n)
        found.append(KeyCandidate(key, p, *nearest))
    found.sort(key=lambda c: (-c.p, c.key))
    return found[:_MOST]


def _counts(tries: Iterable[Try], machine: KeyedMachine, purpose: str) -> dict[str, dict[str, tuple[int, int]]]:
    """key -> level -> (worked, tried); every level counts what stands below it."""
    counts: dict[str, dict[str, tuple[int, int]]] = {}
    for attempt in tries:
        if attempt.purpose != purpose:
            continue
        for level in LEVELS:
            if not all(attempt.machine.at(wider) == machine.at(wider) for wider in LEVELS[: LEVELS.index(level) + 1]):
                break
            w, n = counts.setdefault(attempt.key, {}).get(level, (0, 0))
            counts[attempt.key][level] = (w + attempt.worked, n + 1)
    return counts


def book(tries: Sequence[Try]) -> Mapping[tuple[str, str], Mapping[str, Mapping[str, tuple[int, int]]]]:
    """(maker, model) -> purpose -> key -> (worked, tried): everything the shop has tried, for looking it up."""
    found: dict[tuple[str, str], dict[str, dict[str, tuple[int, int]]]] = {}
    for t in tries:
        keys = found.setdefault((t.machine.maker, t.machine.model), {}).setdefault(t.purpose, {})
        w, n = keys.get(t.key, (0, 0))
        keys[t.key] = (w + t.worked, n + 1)
    return found
