"""Entries of a ticket's tape, as values.

An entry is one of: a reading (`move` with `outcome` or `weights`), `put_back`, `override`, `fact`, `undo`; or one that
weighs nothing: `started` (a move that runs on its own), `changed` (a setting just changed, its result still to come),
`saw` (a setting or a drive seen, where no check asks for it), `tried_key`, `signed` (the call somebody signed),
`proven` (what it turned out to be), `note`; and those of the work after the call: `step` (one answered), `waive` (one
left out, with why), `first` (one brought forward), `out` and `back` (what lies on the tray), `part` (what takes the old
one's place), `reopened` (the ticket was taken up again after it was handed over); `picture`, and `spent` (minutes as
corrected).

A reading or a fact that follows from a step's answer `belongs` to that step's entry and stands as long as that does.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import final

from msgspec import Struct

from gatecheck.core.belief.facts import FactValue
from gatecheck.core.belief.transitions import NOT_DONE
from gatecheck.core.words.said import Said

DIRECT_SHARE = 0.6
"""a soft reading names an outcome when that outcome holds at least this share of its weights"""


@final
@dataclass(frozen=True, slots=True)
class Reading:
    """A check or fix with what it showed. `weights` are over the move's outcomes and sum to one."""

    move: str
    weights: Mapping[str, float]
    outcome: str | None = field(init=False, compare=False)
    """the outcome it names directly, if any"""
    found: str | None = field(default=None, compare=False)
    """what was read to come to it: a value of the settings sheet, or what a sightings cell shows"""
    before: str | None = field(default=None, compare=False)
    after: str | None = field(default=None, compare=False)
    """of a changed setting: the values before and after it"""
    belongs: int | None = field(default=None, compare=False)
    """place of the step it follows from"""

    def __post_init__(self) -> None:
        best = max(self.weights, key=lambda o: self.weights[o])
        object.__setattr__(self, "outcome", best if self.weights[best] >= DIRECT_SHARE else None)

    @property
    def is_soft(self) -> bool:
        return len(self.weights) > 1


@final
class PutBack(Struct, frozen=True):
    fix: str


class Override(Struct, frozen=True):
    interlock: str
    move: str
    reason: str


class FactChange(Struct, frozen=True):
    facts: Mapping[str, FactValue]
    belongs: int | None = None


class Undo(Struct, frozen=True):
    entry: int


class Started(Struct, frozen=True):
    """A move that runs on its own: what and for about how many minutes. Its reading, or a stop, ends it."""

    move: str
    minutes: float


class Signed(Struct, frozen=True):
    """The call as somebody signed it. `reason` (one of RETURN_REASONS): it goes back unrepaired, whatever it has."""

    choice: str
    fix: str | None
    reason: str | None = None


RETURN_REASONS = ("declined", "not-worth", "cannot-wait", "lab-declined", "refused")
"""why a machine goes back unrepaired: the customer does not want it, it is not worth it, they cannot wait, they do not
want the lab, they refuse to lose what is on it"""


class Reopened(Struct, frozen=True):
    """The ticket was handed over and taken up again: checks that were skipped to hand it over count anew."""


class Proven(Struct, frozen=True):
    """The faults that turned out to be there, as the technician says when the machine goes back; none: nothing was
    wrong."""

    faults: tuple[str, ...]


class Changed(Struct, frozen=True):
    """A setting was changed; the machine has not been started with it yet. `walk`: one of all its values is being
    tried."""

    fix: str
    before: str | None
    after: str | None
    walk: bool


class Saw(Struct, frozen=True):
    """A row of the settings sheet, or a drive at a vantage point (`at`), as seen. It weighs nothing."""

    what: str
    value: str
    at: str | None


class TriedKey(Struct, frozen=True):
    """A key that was tried to open something at power-on."""

    key: str
    opens: str
    worked: bool


class StepDone(Struct, frozen=True):
    """A step of the job with its answer, and what was told with it. `leads`: on, again, or triage."""

    step: str
    answer: str
    value: str | int | None
    leads: str


class Waived(Struct, frozen=True):
    step: str
    reason: str


class PartBrought(Struct, frozen=True):
    """A step that was taken before its turn."""

    step: str


class RemovedGroup(Struct, frozen=True):
    """A group that came off the machine. `fields`: where it was, 1 to 9 as on a telephone, of the side that lies up."""

    name: str
    what: str
    count: int
    kind: str
    fields: tuple[int, ...]


class RefittedGroup(Struct, frozen=True):
    """The group that came off with that entry is in its place again; `missing`: so many of it are not."""

    out: int
    missing: int


class Part(Struct, frozen=True):
    """The part that takes the old one's place. `shelf`: its number on the shop's shelf, None where the customer brought
    it."""

    shelf: int | None
    name: str
    serial: str
    size_gb: float | None
    price: float


class Photo(Struct, frozen=True):
    """A picture by its file's SHA-256, with what it shows. `evidence`: it goes on the customer's page."""

    file: str
    says: str
    evidence: bool


class Spent(Struct, frozen=True):
    """The hands-on minutes of the whole ticket as somebody corrected them."""

    minutes: float


class Note(Struct, frozen=True):
    text: str
    """empty where it was kept as the id of a sentence"""
    said: Said | None = None
    """that sentence: what an instrument of ours did"""


class Broken(Struct, frozen=True):
    """A stored entry that cannot be read any more, with why. It weighs nothing; taking it back heals the tape."""

    why: str


Entry = (
    Broken
    | Reading
    | PutBack
    | Override
    | FactChange
    | Undo
    | Started
    | Changed
    | Saw
    | TriedKey
    | Signed
    | Proven
    | Note
    | StepDone
    | Waived
    | PartBrought
    | RemovedGroup
    | RefittedGroup
    | Part
    | Photo
    | Spent
    | Reopened
)


def is_done(reading: Reading) -> bool:
    """True when the fix was carried out (not could-not, declined or left on)."""
    return reading.outcome not in NOT_DONE
