"""The tray: the groups that came off the machine, in the order they came; on the way back it walks in reverse."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from gatecheck.core.tape.entries import Entry, RefittedGroup, RemovedGroup


@dataclass(frozen=True, slots=True)
class TrayGroup:
    """A group with the place of its entry. `back`: the entry that put it in its place again; `missing`: so many of it
    are not."""

    entry: int
    out: RemovedGroup
    back: int | None
    missing: int

    @property
    def is_removed(self) -> bool:
        return self.back is None


def tray_of(entries: Sequence[Entry], stands: Sequence[bool]) -> tuple[TrayGroup, ...]:
    """Every group of the tape in the order it came off."""
    groups: dict[int, TrayGroup] = {}
    for index, entry in enumerate(entries):
        if not stands[index]:
            continue
        if isinstance(entry, RemovedGroup):
            groups[index] = TrayGroup(index, entry, None, 0)
        elif isinstance(entry, RefittedGroup) and entry.out in groups:
            was = groups[entry.out]
            groups[entry.out] = TrayGroup(was.entry, was.out, index, entry.missing)
    return tuple(groups.values())


def lying(groups: Sequence[TrayGroup]) -> tuple[TrayGroup, ...]:
    """What lies out, last out first: so it goes back."""
    return tuple(g for g in reversed(groups) if g.is_removed)


def screws(groups: Sequence[TrayGroup]) -> int:
    """How many screws lie out."""
    return sum(g.out.count for g in groups if g.is_removed and g.out.what == "screw")
