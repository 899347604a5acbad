"""Facts of a machine: what they may hold, tests on them, and the odds they give."""

from __future__ import annotations

from collections.abc import Mapping

from gatecheck.core.knowledge.tables import Knowledge

FactValue = str | float | int | bool | None
Facts = Mapping[str, FactValue]


def all_odds(knowledge: Knowledge, facts: Facts) -> dict[str, float]:
    """Prior odds of every fault given the facts."""
    odds = {f.id: f.odds for f in knowledge.faults}
    for context in knowledge.contexts:
        if _applies(context.fact, context.is_, context.over, context.under, facts):
            for fault, times in context.times.items():
                odds[fault] *= times
    return odds


def _applies(fact: str, is_: tuple[str, ...], over: float | None, under: float | None, facts: Facts) -> bool:
    value = facts.get(fact)
    if fact == "drive_age":
        year, now = facts.get("drive_year"), facts.get("as_of_year")
        value = now - year if isinstance(year, int | float) and isinstance(now, int | float) else None
    if is_:
        return value in is_
    if not isinstance(value, int | float) or isinstance(value, bool):
        return False
    return (over is None or value > over) and (under is None or value < under)


def fact_test(test: Mapping[str, tuple[str, ...]], facts: Facts) -> bool:
    """True when every named fact has one of the values; an empty test is true."""
    return all(facts.get(fact) in values for fact, values in test.items())
