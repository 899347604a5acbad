"""How a move is done step by step, and how its answer is read."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from gatecheck.core.knowledge.instruments import FactTest, Ids
from gatecheck.core.knowledge.toml_table import Table

INSTRUMENTS = ("volume", "path", "records")


class Read(Struct, frozen=True):
    """What stands on the machine's screen. `outcome`: of the move, None where it only goes on the tape; `means`: what
    to make of it."""

    says: str
    outcome: str | None
    means: str


class Way(Struct, frozen=True):
    """`works`: how often it comes to what the move is for; `opens`: an instrument that does it; `when`: facts that must
    be so, or not known; `prints_code`: the machine prints a code of its maker's."""

    id: str
    move: str
    name: str
    when: FactTest
    minutes: float
    unattended: float
    works: float
    steps: tuple[str, ...]
    reads: tuple[Read, ...]
    opens: str | None
    prints_code: bool


def load_ways(file: Table, ids: Ids) -> tuple[Way, ...]:
    """Raises KnowledgeError for anything unknown."""
    file.only("ways")
    raw = file.values.get("ways", [])
    if not isinstance(raw, list) or not raw:
        raise file.error("ways", "a list of tables", repr(raw)[:40])
    found = tuple(_way(Table(file.file, file.text, "ways", own), ids) for own in raw)
    if len({w.id for w in found}) < len(found):
        raise file.error("ways", "ids of their own", "one that stands twice")
    return found


def _way(own: Table, ids: Ids) -> Way:
    own.only("id", "move", "name", "when", "minutes", "unattended", "works", "steps", "reads", "opens", "prints_code")
    move = own.one_of("move", ids.outcomes)
    steps = own.values.get("steps", [])
    if not isinstance(steps, list) or not steps or not all(isinstance(s, str) and s for s in steps):
        raise own.error("steps", "a list of sentences", repr(steps)[:40])
    reads = own.values.get("reads", [])
    if not isinstance(reads, list):
        raise own.error("reads", "a list of tables", repr(reads)[:40])
    when: dict[str, tuple[str, ...]] = {}
    for fact in own.sub("when", optional=True).values:
        if fact not in ids.facts:
            raise own.error(f"when.{fact}", "a known fact", repr(fact))
        when[fact] = own.sub("when").ids(fact, ids.facts[fact])
    return Way(
        own.string("id"),
        move,
        own.string("name"),
        when,
        own.number("minutes"),
        own.number("unattended"),
        own.number("works", high=1.0),
        tuple(steps),
        tuple(_read(Table(own.file, own.text, "ways.reads", one), ids.outcomes[move]) for one in reads),
        own.one_of("opens", INSTRUMENTS) if "opens" in own.values else None,
        own.flag("prints_code"),
    )


def _read(own: Table, outcomes: tuple[str, ...]) -> Read:
    own.only("says", "outcome", "means")
    return Read(
        own.string("says"), own.one_of("outcome", outcomes) if "outcome" in own.values else None, own.string("means")
    )


def ways_of(ways: tuple[Way, ...], move: str, facts: Mapping[str, object]) -> tuple[Way, ...]:
    """Those of a move that may fit a machine: a fact that is not known rules nothing out."""
    return tuple(
        w
        for w in ways
        if w.move == move and all(facts.get(fact) in (None, "unknown", *allowed) for fact, allowed in w.when.items())
    )
