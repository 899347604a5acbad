"""Opening a machine: what the shop knows of this model from those it has opened, else what holds for machines of its
form."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from difflib import get_close_matches

from gatecheck.core.instruments.keys import LEVELS, KeyedMachine
from gatecheck.core.tape.entries import RemovedGroup
from gatecheck.core.work.tray import TrayGroup

_ALIKE = 0.82


@dataclass(frozen=True, slots=True)
class OpenedMachine:
    """A machine that was opened here: its groups as they came off, and the minutes from the first to the last."""

    machine: KeyedMachine
    name: str
    form: str
    groups: tuple[RemovedGroup, ...]
    minutes: float | None


@dataclass(frozen=True, slots=True)
class Guide:
    """How this one opens. `level`: model, series, maker or form; `machines`: how many of it were opened; `groups`: as
    the last one came."""

    level: str
    machines: int
    groups: tuple[RemovedGroup, ...]
    minutes: float | None
    first_minutes: float | None


def guide_for(opened: Sequence[OpenedMachine], machine: KeyedMachine, form: str) -> Guide | None:
    """The nearest level that was opened before; the latest of it speaks. None where nothing like it ever was."""
    for level in (*reversed(LEVELS[1:]), "form"):
        alike = [o for o in opened if _same(o, machine, form, level)]
        if alike:
            minutes = [o.minutes for o in alike if o.minutes is not None]
            return Guide(
                level,
                len(alike),
                alike[-1].groups,
                minutes[-1] if minutes else None,
                minutes[0] if len(minutes) > 1 else None,
            )
    return None


def _same(opened: OpenedMachine, machine: KeyedMachine, form: str, level: str) -> bool:
    if level == "form":
        return bool(form) and opened.form == form
    if level != "model" and form and opened.form and opened.form != form:
        return False  # one maker's desktop says nothing of its laptop
    wider = LEVELS[: LEVELS.index(level) + 1]
    return opened.machine.at(level) != "" and all(opened.machine.at(w) == machine.at(w) for w in wider)


def next_group(guide: Guide | None, tray: Sequence[TrayGroup]) -> RemovedGroup | None:
    """The group that came next on the machine before: the first whose name has not come off yet."""
    if guide is None:
        return None
    have = {g.out.name.casefold() for g in tray}
    return next((out for out in guide.groups if out.name.casefold() not in have), None)


def known_as(name: str, known: Sequence[str]) -> str | None:
    """A machine the shop knows that this name may be a slip of; None where the name itself is known, or none is
    near."""
    by_fold = {k.casefold().strip(): k for k in known}
    if name.casefold().strip() in by_fold:
        return None
    near = get_close_matches(name.casefold().strip(), by_fold, n=1, cutoff=_ALIKE)
    return by_fold[near[0]] if near else None
