"""What was carried out on a machine, folded from its log: every fix and every act of the job with what came of it,
whatever that was."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.tape.entries import Changed, Entry, Note, PutBack, Reading, Signed, StepDone
from gatecheck.core.words.said import Said, Value

DONE, BEGUN, FAILED, UNDONE, COULD_NOT = "done", "begun", "failed", "undone", "could-not"
"""results that no outcome of a fix says: carried out, started and not known to have ended, stopped with an error,
taken back, not possible"""
NEW_DRIVE, INSTALL, ERASE, IMAGE_BACK = "new-drive", "install", "erase", "image-back"
FIX = "$fix"

_OF_A_STEP: Mapping[tuple[str, str], tuple[str, str]] = {
    ("reseat", "loose"): ("reseat", DONE),
    ("reseat", "firm"): ("reseat", DONE),
    ("reseat", "damaged"): ("reseat", DONE),
    ("cable", "cable"): ("swap-cable", DONE),
    ("cable", "port"): ("swap-cable", DONE),
    ("battery", "changed"): ("replace-battery", DONE),
    ("memory", "changed"): ("swap-memory", DONE),
    ("supply", "changed"): ("repair-power", DONE),
    ("pull", "pulled"): ("pull-externals", DONE),
    ("setting", "changed"): (FIX, DONE),
    ("rebuild", "written"): (FIX, DONE),
    ("run", "started"): (FIX, BEGUN),
    ("run", "refused"): (FIX, BEGUN),
    ("run-through", "through"): (FIX, DONE),
    ("run-through", "failed"): (FIX, FAILED),
    ("new-in", "in"): (NEW_DRIVE, DONE),
    ("unallocate", "done"): (ERASE, DONE),
    ("begin", "running"): (INSTALL, BEGUN),
    ("begin", "stops"): (INSTALL, FAILED),
    ("account", "local"): (INSTALL, DONE),
    ("account", "online"): (INSTALL, DONE),
    ("account", "waits"): (INSTALL, DONE),
    ("bring-back", "done"): (IMAGE_BACK, DONE),
    ("bring-back", "partly"): (IMAGE_BACK, "partial"),
    ("bring-back", "could-not"): (IMAGE_BACK, FAILED),
    ("order-again", "changed"): ("set-order", DONE),
    ("settings-again", "changed"): ("set-order", DONE),
}
"""step and answer -> what it did, and how that stands then"""
_ENDS = ("account", "run-through")
"""steps that only end what another one began"""
_STANDS_FOR: Mapping[str, tuple[str, ...]] = {
    "replace-drive": (IMAGE_BACK, INSTALL, NEW_DRIVE, "replace-drive"),
    "reinstall": (INSTALL, "reinstall"),
}
"""fix of a job -> the acts that it is made of, the last one first"""
_OF_A_NOTE: Mapping[str, tuple[str, str]] = {
    "path.mend-done": ("mend", DONE),
    "path.mend-maybe": ("mend", FAILED),
    "path.mend-stopped": ("mend", COULD_NOT),
    "path.mend-taken-back": ("mend", UNDONE),
    "fill.done": ("fill", DONE),
    "fill.done-part": ("fill", "partial"),
    "fill.failed": ("fill", FAILED),
    "fill.left": ("fill", FAILED),
    "rescue.saved": ("rescue", DONE),
    "copy.whole": ("image", DONE),
    "copy.part": ("image", "partial"),
}
"""sentence that an instrument of ours put in the log -> what it did, and how that stands"""
_NOT_YET = (DONE, BEGUN)
"""results that the start of the machine may still better"""


@dataclass(frozen=True, slots=True)
class Deed:
    """`what`: a fix, or one of the acts above. `result`: an outcome of the fix, or one of the results above. `places`:
    the entries it rests on; `values`: what an instrument said of it."""

    what: str
    result: str
    places: tuple[int, ...]
    values: Mapping[str, Value] = field(default_factory=dict)

    @property
    def was_done(self) -> bool:
        """It changed something on the machine or its drive, for a while at least."""
        return self.result not in (COULD_NOT, "declined", "left-on")

    @property
    def stands(self) -> bool:
        """And that is still so."""
        return self.was_done and self.result != UNDONE


def deeds_of(knowledge: Knowledge, entries: Sequence[Entry], stands: Sequence[bool]) -> tuple[Deed, ...]:
    """Every deed in the order it was begun. Raises nothing: what is no deed is left out."""
    log = _Log(knowledge, entries)
    for place, entry in enumerate(entries):
        if stands[place]:
            log.read(place, entry)
    return tuple(log.deeds)


class _Log:
    def __init__(self, knowledge: Knowledge, entries: Sequence[Entry]) -> None:
        self.knowledge, self.entries = knowledge, entries
        self.deeds: list[Deed] = []
        self.fix: str | None = None
        """of the last signature"""

    def read(self, place: int, entry: Entry) -> None:
        fixes = self.knowledge.fixes
        if isinstance(entry, Reading) and entry.move in fixes:
            self._fixed(place, entry)
        elif isinstance(entry, Changed):
            self._add(entry.fix, BEGUN, place)
        elif isinstance(entry, PutBack):
            self._better((entry.fix,), UNDONE, place)
        elif isinstance(entry, StepDone):
            act = _OF_A_STEP.get((entry.step, entry.answer))
            if act:
                what = self.fix if act[0] == FIX else act[0]
                if what and not self._better((what,), act[1], place, only=(BEGUN,)) and entry.step not in _ENDS:
                    self._add(what, act[1], place)
        elif isinstance(entry, Note) and entry.said is not None:
            self._noted(place, entry.said)
        elif isinstance(entry, Signed):
            self.fix = entry.fix

    def _fixed(self, place: int, entry: Reading) -> None:
        outcome = entry.outcome or DONE
        if entry.belongs is not None and self._better(
            _STANDS_FOR.get(entry.move, (entry.move,)), outcome, place, only=_NOT_YET
        ):
            return
        if any(d.result == FAILED and entry.belongs in d.places for d in self.deeds):
            return  # a step said better what came of it
        if self._better((entry.move,), outcome, place, only=(BEGUN,)):
            return
        last = self.deeds[-1] if self.deeds else None
        if last and (last.what, last.result) == (entry.move, outcome):
            self.deeds[-1] = replace(last, places=(*last.places, place))
            return
        self._add(entry.move, outcome, place)

    def _noted(self, place: int, said: Said) -> None:
        act = _OF_A_NOTE.get(said.id)
        if act is None:
            return
        if act[1] == UNDONE and self._better((act[0],), UNDONE, place):
            return
        self.deeds.append(Deed(act[0], act[1], (place,), dict(said.values)))

    def _add(self, what: str, result: str, place: int) -> None:
        self.deeds.append(Deed(what, result, (place,)))

    def _better(self, whats: Sequence[str], result: str, place: int, only: Sequence[str] | None = None) -> bool:
        """Give the last deed of one of these kinds another result. False where there is none to better."""
        for what in whats:
            for at in range(len(self.deeds) - 1, -1, -1):
                deed = self.deeds[at]
                if deed.what == what and deed.result != UNDONE:
                    if only is not None and deed.result not in only:
                        break
                    self.deeds[at] = replace(deed, result=result, places=(*deed.places, place))
                    return True
        return False
