"""What the shop's own closed tickets teach: base rates, and whether the odds that were given held.

Every closed ticket with proven faults is a lesson. Faults are counted against what the shipped odds expected of just
these machines: a Dirichlet whose prior is the shipped share of each fault with the weight of some tickets
(`lessons_weight`), first over all lessons, then within each kind of drive on top of that. A fault seen twice as often
as expected gets odds that rise towards twice, the nearer the more tickets there are."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from msgspec.structs import replace

from gatecheck.core.belief.facts import FactValue
from gatecheck.core.belief.model import Model
from gatecheck.core.belief.space import Floats
from gatecheck.core.decide.ways import CHOICES, right_choices
from gatecheck.core.knowledge.tables import Context, Knowledge
from gatecheck.core.tape.fold import fold

CONTEXT_FACT = "drive_kind"
SOURCE = "this shop's closed tickets"
_EDGES = (0.0, 0.1, 0.25, 0.5, 0.75, 0.9, 1.0)
_COUNTED_FROM = 0.02
"""a suspect less likely than this was never named: it is left out of the reliability count"""


@dataclass(frozen=True, slots=True)
class Lesson:
    """One closed ticket. `expected`: what the shipped odds expected of a machine with these facts, share per fault;
    `suspects`: odds when the call was signed; `came_back`: within the warranty period."""

    context: str
    faults: tuple[str, ...]
    expected: Mapping[str, float]
    choice: str
    confidence: float
    suspects: Mapping[str, float]
    was_right: bool
    came_back: bool


@dataclass(frozen=True, slots=True)
class Rate:
    """A fault's share among the shop's machines: shipped, the shop's own count, and both blended."""

    fault: str
    shipped: float
    counted: float
    blended: float


@dataclass(frozen=True, slots=True)
class Bin:
    """Predictions between two odds: how many, what they said on average, and how often it was so."""

    low: float
    high: float
    count: int
    predicted: float
    observed: float


@dataclass(frozen=True, slots=True)
class Reliability:
    """Predicted against observed, for calls and for suspects, and the mean squared error of the suspects' odds
    (Brier)."""

    calls: tuple[Bin, ...]
    suspects: tuple[Bin, ...]
    brier: float | None


def expected_shares(model: Model, facts: Mapping[str, FactValue]) -> dict[str, float]:
    """Share of each fault in a machine with these facts; with the share of sound machines they sum to one."""
    prior = model.prior(facts)
    marginals = prior @ model.space.member
    total = float(marginals.sum() + prior[0])
    return {f: float(p) / total for f, p in zip(model.space.fault_ids, marginals, strict=True)}


def call_was_right(
    model: Model, facts: Mapping[str, FactValue], faults: Sequence[str], choice: str, started: bool
) -> bool:
    """The signed choice is one that these faults ask for, before anything was tried; releasing, where it had
    `started`."""
    right, space = right_choices(model, fold(model, facts, [])), model.space
    asked = {CHOICES[int(right[space.add[0, space.index(f)]])] for f in faults} or {"release"}
    return choice in asked or (choice == "release" and started)


def relearned(model: Model, lessons: Sequence[Lesson]) -> Model:
    """The same model with the shop's base rates blended in. Without lessons it is the model itself."""
    counted = [x for x in lessons if not x.came_back]
    if not counted:
        return model
    knowledge = model.knowledge
    overall, by_context = _factors(model, counted)
    own = [Context(CONTEXT_FACT, (value,), None, None, times, SOURCE) for value, times in by_context.items() if value]
    contexts = (*knowledge.contexts, *own)
    faults = tuple(replace(f, odds=f.odds * overall[f.id]) for f in knowledge.faults)
    learned: Knowledge = replace(knowledge, faults=faults, contexts=contexts)
    return replace(model, knowledge=learned, _priors={}, _having={}, _kept={})


def _factors(model: Model, lessons: Sequence[Lesson]) -> tuple[dict[str, float], dict[str, dict[str, float]]]:
    """Factors on the odds: for every machine, and on top of that for each kind of drive (none for an unnamed one)."""
    weight = model.knowledge.rates["lessons_weight"]
    overall = _times(model, lessons, weight, {})
    kinds = sorted({x.context for x in lessons})
    by_kind = {k: _times(model, [x for x in lessons if x.context == k], weight, overall) if k else {} for k in kinds}
    return _between(model, lessons, overall, by_kind), by_kind


def _between(
    model: Model, lessons: Sequence[Lesson], overall: dict[str, float], by_kind: Mapping[str, Mapping[str, float]]
) -> dict[str, float]:
    """The factors for every machine, such that with those of the kinds of drive on top no fault is expected more or
    less often than both the shipped odds and the shop's own count say."""
    expected, seen = _counts(model, lessons)
    found = {}
    for column, fault in enumerate(model.space.fault_ids):
        used = overall[fault] * sum(x.expected.get(fault, 0.0) * by_kind[x.context].get(fault, 1.0) for x in lessons)
        low, high = sorted((float(expected[column]), float(seen[column])))
        found[fault] = overall[fault] * min(max(used, low), high) / used if used > 0 else overall[fault]
    return found


def _counts(model: Model, lessons: Sequence[Lesson]) -> tuple[Floats, Floats]:
    """Expected and observed counts, shape (f,) each; a ticket with two faults counts half for each."""
    ids = model.space.fault_ids
    expected, seen = np.zeros(len(ids)), np.zeros(len(ids))
    for lesson in lessons:
        expected += [lesson.expected.get(f, 0.0) for f in ids]
        for fault in lesson.faults:
            seen[model.space.index(fault)] += 1.0 / len(lesson.faults)
    return expected, seen


def _times(model: Model, lessons: Sequence[Lesson], weight: float, above: Mapping[str, float]) -> dict[str, float]:
    """What the odds of each fault are to be multiplied with; `above` are factors that apply already."""
    expected, seen = _counts(model, lessons)
    expected *= [above.get(f, 1.0) for f in model.space.fault_ids]
    prior = weight * expected / max(len(lessons), 1)
    times = np.where(prior > 0, (prior + seen) / np.maximum(prior + expected, 1e-12), 1.0)
    return dict(zip(model.space.fault_ids, times.tolist(), strict=True))


def base_rates(model: Model, lessons: Sequence[Lesson]) -> list[Rate]:
    """Shares per fault over the shop's lessons, most frequent first; `model` is the shipped one."""
    counted = [x for x in lessons if not x.came_back]
    if not counted:
        return []
    expected, seen = _counts(model, counted)
    overall, by_context = _factors(model, counted)
    n = len(counted)
    rows = []
    for column, fault in enumerate(model.space.fault_ids):
        used = sum(x.expected.get(fault, 0.0) * overall[fault] * by_context[x.context].get(fault, 1.0) for x in counted)
        rows.append(Rate(fault, float(expected[column]) / n, float(seen[column]) / n, used / n))
    return sorted(rows, key=lambda r: -r.blended)


def reliability(lessons: Sequence[Lesson]) -> Reliability:
    """How the odds given at signing held. A comeback counts against its call."""
    calls = [(x.confidence, x.was_right and not x.came_back) for x in lessons if x.choice]
    suspects = [
        (p, fault in x.faults)
        for x in lessons
        if not x.came_back
        for fault, p in x.suspects.items()
        if p >= _COUNTED_FROM
    ]
    brier = float(np.mean([(p - hit) ** 2 for p, hit in suspects])) if suspects else None
    return Reliability(_bins(calls), _bins(suspects), brier)


def _bins(pairs: Sequence[tuple[float, bool]]) -> tuple[Bin, ...]:
    found = []
    for low, high in pairwise(_EDGES):
        inside = [(p, hit) for p, hit in pairs if low <= p < high or (high == 1.0 and p == 1.0)]
        if inside:
            mean, share = np.mean([p for p, _ in inside]), np.mean([hit for _, hit in inside])
            found.append(Bin(low, high, len(inside), float(mean), float(share)))
    return tuple(found)
