"""The codes that machines' own tests print: what the shop has seen of one, and what it turned out to be."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass

from gatecheck.core.instruments.keys import LEVELS, KeyedMachine


@dataclass(frozen=True, slots=True)
class Printed:
    """A code on a tape. `proven`: the faults its machine turned out to have (none: nothing was wrong); None where
    nobody has said yet."""

    machine: KeyedMachine
    code: str
    ticket: int
    proven: tuple[str, ...] | None


@dataclass(frozen=True, slots=True)
class KnownCode:
    """What the shop knows of a code. `level`: how near to the machine at hand it was seen (model, series, maker);
    `turned_out`: fault -> on how many of the `settled` tickets it was there; a ticket on which nothing was wrong counts
    for no fault."""

    code: str
    level: str
    tickets: int
    settled: int
    turned_out: tuple[tuple[str, int], ...]


def plain(code: str) -> str:
    """A code as it is compared: makers print it with and without spaces and dashes, and hands type it in either
    case."""
    return "".join(c for c in code.upper() if c.isalnum())


def known(printed: Iterable[Printed], machine: KeyedMachine, code: str) -> KnownCode | None:
    """What is known of this code at the nearest level that has seen it; None where the shop has not. A ticket counts
    once, however often it printed it."""
    wanted = plain(code)
    same = [p for p in printed if plain(p.code) == wanted] if wanted else []
    for level in reversed(LEVELS[1:]):  # another maker's code means something else
        wider = LEVELS[: LEVELS.index(level) + 1]
        near = {p.ticket: p for p in same if all(p.machine.at(w) == machine.at(w) for w in wider)}
        if near:
            settled = [p.proven for p in near.values() if p.proven is not None]
            counts = Counter(fault for faults in settled for fault in dict.fromkeys(faults))
            return KnownCode(
                code.strip(),
                level,
                len(near),
                len(settled),
                tuple(sorted(counts.items(), key=lambda item: (-item[1], item[0]))),
            )
    return None


def seen_of(printed: Iterable[Printed], machine: KeyedMachine) -> list[str]:
    """Codes that this maker's machines have printed here, the most frequent first, as they were first typed."""
    spelled: dict[str, str] = {}
    counts: Counter[str] = Counter()
    for p in printed:
        if p.machine.maker == machine.maker:
            spelled.setdefault(plain(p.code), p.code)
            counts[plain(p.code)] += 1
    return [spelled[code] for code, _ in counts.most_common()]
