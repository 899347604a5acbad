"""What is still worth something after all that was done since: looks that still describe the machine, looks made on a
dock, fixes not used up yet."""

from __future__ import annotations

from msgspec import Struct

from gatecheck.core.belief.model import Model
from gatecheck.core.tape.entries import PutBack, Reading, is_done
from gatecheck.core.tape.standing import EffectiveEntries

_NONE: frozenset[str] = frozenset()
_SEEN = ("seen-dock", "seen-live", "seen-setup")
_MOST_TRIES = 2
"""how often a fix that changed nothing is worth another try"""
_MOST_FAILED, _MOST_FAILED_OF_A_CALL = 1, 2
"""what could not be done can mostly not be done at all; what a whole call hangs on is tried once more"""
_ANEW = ("screen",)
"""what is looked at again before a fix without a look of its own is tried once more"""


def current_of(model: Model, deeds: EffectiveEntries) -> tuple[frozenset[str], frozenset[str]]:
    """Checks whose last reading still describes the machine, and those of them that showed the same two times over."""
    looks = model.sight.looks
    current: set[str] = set()
    showed: dict[str, str | None] = {}
    confirmed: set[str] = set()
    for _, entry in deeds:
        if type(entry) is PutBack:
            current -= model.deeds.affects.get(entry.fix, _NONE)
            continue
        move = entry.move
        if move in looks:
            if move in current and entry.outcome is not None and showed.get(move) == entry.outcome:
                confirmed.add(move)
            else:
                confirmed.discard(move)
            showed[move] = entry.outcome
            current.add(move)
        elif is_done(entry):
            current -= model.invalidated_checks(move, entry.outcome)
    return frozenset(current), frozenset(confirmed & current)


def on_dock(model: Model, deeds: EffectiveEntries) -> frozenset[int]:
    """Places of looks that can only have been made on a dock: the drive was seen there, and in its own machine it is
    absent. What says that it could not be read says nothing of where it lay."""
    start = next(
        (n for n, (_, entry) in enumerate(deeds) if type(entry) is Reading and entry.move in _SEEN), len(deeds)
    )
    if not any(type(entry) is Reading and entry.move == "seen-dock" for _, entry in deeds[start:]):
        return frozenset()
    shown: dict[str, str | None] = {}
    docked: set[int] = set()
    away = False
    looks, affects, at_dock, checks = model.sight.looks, model.deeds.affects, model.sight.docked, model.knowledge.checks
    for index, entry in deeds[start:]:
        if type(entry) is Reading and entry.move in looks:
            if entry.move in _SEEN:
                shown[entry.move] = entry.outcome
                away = shown.get("seen-dock") == "right" and shown.get("seen-live", shown.get("seen-setup")) == "absent"
            if away and entry.move in at_dock and entry.outcome not in checks[entry.move].table.hidden_row:
                docked.add(index)
        elif shown and (type(entry) is PutBack or is_done(entry)):
            gone = (
                affects.get(entry.fix, _NONE)
                if type(entry) is PutBack
                else model.invalidated_checks(entry.move, entry.outcome)
            )
            if not gone.isdisjoint(shown):
                shown = {check: outcome for check, outcome in shown.items() if check not in gone}
                away = shown.get("seen-dock") == "right" and shown.get("seen-live", shown.get("seen-setup")) == "absent"
    return frozenset(docked)


class Tries(Struct, frozen=True):
    """Fixes used up; those that changed nothing at one try, where their table says that another one may still help; and
    the places of second tries."""

    tried: frozenset[str]
    once: frozenset[str]
    seconds: frozenset[int]


def tried_of(model: Model, deeds: EffectiveEntries) -> Tries:
    """Fixes not worth making again as things are: those that changed nothing, until something they rest on changes.

    A setting that was put back and then looked at again may be tried once more: the first try may have been a slip.
    """
    tried: set[str] = set()
    back: set[str] = set()
    tries: dict[str, int] = {}
    failed: dict[str, int] = {}
    once: set[str] = set()
    seconds: set[int] = set()
    checks, fixes = model.knowledge.checks, model.knowledge.fixes
    for index, entry in deeds:
        if type(entry) is PutBack:
            back.add(entry.fix)  # known not to help as things are: it stays tried until another fix changes something
            continue
        if back and entry.move in checks:
            again = {f for f in back if entry.move in (fixes[f].look_first or _ANEW) and tries[f] < _MOST_TRIES}
            tried -= again
            back -= again
        if entry.move in fixes:
            tries[entry.move] = tries.get(entry.move, 0) + is_done(entry)
            if entry.move in ("replace-drive", "reinstall") and is_done(entry):
                tried = {f for f in tried if not (fixes[f].writes or f in ("reseat", "swap-cable"))}
                once &= tried
            if entry.outcome in ("now-seen", "other-screen"):
                tried -= back
                back.clear()
            if entry.outcome != "could-not":
                if entry.move in once:
                    seconds.add(index)
                once.discard(entry.move)
                tried.add(entry.move)
                if entry.outcome == "no-change" and tries[entry.move] == 1 and model.may_help_again(entry.move):
                    once.add(entry.move)
                failed.pop(entry.move, None)
                continue
            failed[entry.move] = failed.get(entry.move, 0) + 1
            verdict = fixes[entry.move].verdict or entry.move == "copy-data"
            if failed[entry.move] >= (_MOST_FAILED_OF_A_CALL if verdict else _MOST_FAILED):
                once.discard(entry.move)
                tried.add(entry.move)
    return Tries(frozenset(tried - once), frozenset(once), frozenset(seconds))
