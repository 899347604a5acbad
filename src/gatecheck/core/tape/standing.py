"""Which entries of a tape stand, which of them weigh, and the facts as they stand after all of them."""

from __future__ import annotations

from collections.abc import Sequence

from gatecheck.core.belief.facts import Facts, FactValue
from gatecheck.core.belief.model import Model
from gatecheck.core.tape.entries import Entry, FactChange, PutBack, Reading, Undo, is_done

EffectiveEntries = Sequence[tuple[int, Reading | PutBack]]
"""entries that are something done or looked at, each with its place"""
_NONE: frozenset[str] = frozenset()


def effective_entries(entries: Sequence[Entry], stands: Sequence[bool]) -> list[tuple[int, Reading | PutBack]]:
    """Those that stand. (Here and below an entry is asked for its type itself: `isinstance` takes several times as
    long, and a tape is gone through a dozen times.)"""
    return [
        (index, entry)
        for index, entry in enumerate(entries)
        if (type(entry) is Reading or type(entry) is PutBack) and stands[index]
    ]


def standing(entries: Sequence[Entry]) -> list[bool]:
    """Which entries stand after all undos (an undo that was itself undone takes nothing back)."""
    stands = [True] * len(entries)
    for index, undo in reversed([(index, entry) for index, entry in enumerate(entries) if type(entry) is Undo]):
        if stands[index]:
            stands[undo.entry] = False
    for index, entry in enumerate(entries):  # what followed from a step falls with it
        if (
            (type(entry) is Reading or type(entry) is FactChange)
            and entry.belongs is not None
            and not stands[entry.belongs]
        ):
            stands[index] = False
    return stands


def weighed(deeds: EffectiveEntries, stands: Sequence[bool], model: Model) -> list[bool]:
    """Which readings weigh on the belief: the same check repeated with nothing changed in between counts once.

    The later reading of such a pair is the one that counts, so a correction replaces what was mistyped. A fix repeated
    with the same outcome right after itself is the same evidence too.
    """
    counts = list(stands)
    looks, acts = model.sight.looks, model.deeds.acts
    affects = model.deeds.affects
    again: set[str] = set()
    for index, entry in reversed(deeds):
        if type(entry) is PutBack:
            again -= affects.get(entry.fix, _NONE)
        elif entry.move in looks:
            if entry.move in again:
                counts[index] = False
            again.add(entry.move)
        elif is_done(entry):
            again -= model.invalidated_checks(entry.move, entry.outcome)
    last: Reading | None = None
    for index, entry in deeds:
        if type(entry) is PutBack:
            last = None
        elif entry.move in acts:
            if last is not None and last.move == entry.move and last == entry:
                counts[index] = False
            last = entry
        elif last is not None and model.may_help_again(last.move):
            last = None  # something was looked at in between: the next one is a second try
    return counts


def fact_places(entries: Sequence[Entry], stands: Sequence[bool]) -> dict[str, int]:
    """Fact -> the entry that said it last; those that the ticket came with are not among them."""
    return {
        name: index
        for index, entry in enumerate(entries)
        if type(entry) is FactChange and stands[index]
        for name in entry.facts
    }


def merge_facts(facts: Facts, entries: Sequence[Entry], stands: Sequence[bool]) -> dict[str, FactValue]:
    """The ticket's facts after every standing fact entry and every complete copy."""
    merged = dict(facts)
    for entry, stand in zip(entries, stands, strict=True):
        if type(entry) is FactChange:
            if stand:
                merged.update(entry.facts)
        elif stand and type(entry) is Reading and entry.move == "copy-data" and entry.outcome == "complete":
            merged["data"] = "backed-up"
    if merged.get("mains") is None and merged.get("form") in ("desktop", "all-in-one"):
        merged["mains"] = "connected"
    return {name: value for name, value in merged.items() if value is not None}
