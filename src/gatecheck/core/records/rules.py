"""What records mean, by table (records.toml): events, storage drivers, states of updates, stop codes, weights."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from fnmatch import fnmatchcase

from gatecheck.core.records.evtx import Event


@dataclass(frozen=True, slots=True)
class FindingWeight:
    """Of a finding: `start`, and `each` more for every event of it up to `most`."""

    start: float
    each: float
    most: float

    def of(self, count: int) -> float:
        return round(min(self.most, self.start + self.each * count), 2)


@dataclass(frozen=True, slots=True)
class RecordRules:
    """Times in seconds. `events`: (source, number) -> (kind, id of what it says)."""

    good_run: float
    together: float
    update_before: float
    events: Mapping[tuple[str, int], tuple[str, str]]
    patterns: Sequence[tuple[str, int, tuple[str, str]]]
    told: Mapping[str, Sequence[str]]
    drivers: Mapping[str, Sequence[str]]
    classes: Mapping[str, str]
    package_states: Mapping[int, str]
    stop_codes: Mapping[int, str]
    weights: Mapping[str, FindingWeight]
    messages: Mapping[str, str]
    """message id of a journal -> what it says of the run"""
    start_packages: Sequence[str]
    lines: Sequence[tuple[Sequence[str], re.Pattern[str], tuple[str, str]]]
    """(who writes it, what it looks like, (kind, id of what it says))"""

    def line_of(self, source: str, text: str) -> tuple[str, str, str] | None:
        """(kind, id of what it says, what it names) of a line of a journal, None for what does not matter here."""
        for sources, like, own in self.lines:
            if any(fnmatchcase(source, name) for name in sources):
                found = like.search(text)
                if found is not None:
                    return (*own, (found.groupdict().get("what") or "")[:160])
        return None

    def kind_of(self, event: Event) -> tuple[str, str, str] | None:
        """(kind, id of what it says, what it names), None for what does not matter here."""
        source = event.source.lower()
        own = self.events.get((source, event.id)) or next(
            (said for like, number, said in self.patterns if number == event.id and fnmatchcase(source, like)), None
        )
        if own is None:
            return None
        named = next((event.data[name] for name in self.told.get(own[0], ()) if event.data.get(name)), "")
        return (*own, re.sub(r"\s+", " ", named)[:160])

    def serves(self, driver: str) -> str | None:
        """The storage mode or kind of drive that a driver serves."""
        name = driver.lower()
        return next((mode for mode, names in self.drivers.items() if any(fnmatchcase(name, n) for n in names)), None)

    def mode_of(self, pci_class: str) -> str | None:
        """Of a controller's class: six hex digits, or four."""
        return self.classes.get(pci_class[:4])


def read_record_rules(text: str) -> RecordRules:
    """Raises tomllib.TOMLDecodeError, KeyError."""
    own = tomllib.loads(text)
    rows = [(e["source"], n, (e["kind"], e.get("what", ""))) for e in own["events"] for n in e["ids"]]
    return RecordRules(
        float(own["good_run"]),
        float(own["together"]),
        float(own["update_before"]),
        {(source, number): said for source, number, said in rows if "*" not in source},
        [row for row in rows if "*" in row[0]],
        own["told"],
        own["drivers"],
        own["classes"],
        {int(state): word for state, word in own["package-states"].items()},
        {int(code, 16): name for code, name in own["stop-codes"].items()},
        {
            id: FindingWeight(w["start"], w.get("each", 0.0), w.get("most", w["start"]))
            for id, w in own["weights"].items()
        },
        own["messages"],
        own["packages"]["start"],
        [(e["source"], re.compile(e["like"]), (e["kind"], e.get("what", ""))) for e in own["lines"]],
    )
