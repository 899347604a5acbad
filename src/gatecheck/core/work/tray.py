"""The tray: the groups that came off the machine, in the order they came; on the way back it walks in reverse."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from gatecheck.core.tape.entries import Back, Entry, Out


@dataclass(frozen=True, slots=True)
class Group:
    """A group with the place of its entry. `back`: the entry that put it in its place again; `missing`: so many of it are not."""

    entry: int
    out: Out
    back: int | None
    missing: int

    @property
    def lies_out(self) -> bool:
        return self.back is None


def tray_of(entries: Sequence[Entry], stands: Sequence[bool]) -> tuple[Group, ...]:
    """Every group of the tape in the order it came off."""
    groups: dict[int, Group] = {}
    for index, entry in enumerate(entries):
        if not stands[index]:
            continue
        if isinstance(entry, Out):
            groups[index] = Group(index, entry, None, 0)
        elif isinstance(entry, Back) and entry.out in groups:
            was = groups[entry.out]
            groups[entry.out] = Group(was.entry, was.out, index, entry.missing)
    return tuple(groups.values())


def lying(groups: Sequence[Group]) -> tuple[Group, ...]:
    """What lies out, last out first: so it goes back."""
    return tuple(g for g in reversed(groups) if g.lies_out)


def screws(groups: Sequence[Group]) -> int:
    """How many screws lie out."""
    return sum(g.out.count for g in groups if g.lies_out and g.out.what == "screw")
