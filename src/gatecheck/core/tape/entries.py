"""Entries of a ticket's tape, as values.

An entry is one of: a reading (`move` with `outcome` or `weights`), `put_back`, `override`, `fact`, `undo`; or one that
weighs nothing: `started` (a move that runs on its own), `changed` (a setting just changed, its result still to come),
`saw` (a setting or a drive seen, where no check asks for it), `tried_key`, `signed` (the call somebody signed), `proven`
(what it turned out to be), `note`; and those of the work after the call: `step` (one answered), `waive` (one left out, with why), `first`
(one brought forward), `out` and `back` (what lies on the tray), `part` (what takes the old one's place);
`picture`, and `spent` (minutes as corrected).

A reading or a fact that follows from a step's answer `belongs` to that step's entry and stands as long as that does.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from gatecheck.core.belief.acts import NOT_DONE
from gatecheck.core.belief.facts import FactValue

DIRECT_SHARE = 0.6
"""a soft reading names an outcome when that outcome holds at least this share of its weights"""


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


@dataclass(frozen=True, slots=True)
class PutBack:
    fix: str


@dataclass(frozen=True, slots=True)
class Override:
    interlock: str
    move: str
    reason: str


@dataclass(frozen=True, slots=True)
class FactChange:
    facts: Mapping[str, FactValue]
    belongs: int | None = None


@dataclass(frozen=True, slots=True)
class Undo:
    entry: int


@dataclass(frozen=True, slots=True)
class Started:
    """A move that runs on its own: what and for about how many minutes. Its reading, or a stop, ends it."""

    move: str
    minutes: float


@dataclass(frozen=True, slots=True)
class Signed:
    """The call as somebody signed it."""

    choice: str
    fix: str | None


@dataclass(frozen=True, slots=True)
class Proven:
    """The faults that turned out to be there, as the technician says when the machine goes back; none: nothing was wrong."""

    faults: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Changed:
    """A setting was changed; the machine has not been started with it yet. `walk`: one of all its values is being tried."""

    fix: str
    before: str | None
    after: str | None
    walk: bool


@dataclass(frozen=True, slots=True)
class Saw:
    """A row of the settings sheet, or a drive at a vantage point (`at`), as seen. It weighs nothing."""

    what: str
    value: str
    at: str | None


@dataclass(frozen=True, slots=True)
class TriedKey:
    """A key that was tried to open something at power-on."""

    key: str
    opens: str
    worked: bool


@dataclass(frozen=True, slots=True)
class StepDone:
    """A step of the job with its answer, and what was told with it. `leads`: on, again, or triage."""

    step: str
    answer: str
    value: str | int | None
    leads: str


@dataclass(frozen=True, slots=True)
class Waived:
    step: str
    reason: str


@dataclass(frozen=True, slots=True)
class Brought:
    """A step that was taken before its turn."""

    step: str


@dataclass(frozen=True, slots=True)
class Out:
    """A group that came off the machine. `fields`: where it was, 1 to 9 as on a telephone, of the side that lies up."""

    name: str
    what: str
    count: int
    kind: str
    fields: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Back:
    """The group that came off with that entry is in its place again; `missing`: so many of it are not."""

    out: int
    missing: int


@dataclass(frozen=True, slots=True)
class Part:
    """The part that takes the old one's place. `shelf`: its number on the shop's shelf, None where the customer brought it."""

    shelf: int | None
    name: str
    serial: str
    size_gb: float | None
    price: float


@dataclass(frozen=True, slots=True)
class Photo:
    """A picture by its file's SHA-256, with what it shows. `evidence`: it goes on the customer's page."""

    file: str
    says: str
    evidence: bool


@dataclass(frozen=True, slots=True)
class Spent:
    """The hands-on minutes of the whole ticket as somebody corrected them."""

    minutes: float


@dataclass(frozen=True, slots=True)
class Note:
    text: str
    """empty where it was kept as the id of a sentence"""


@dataclass(frozen=True, slots=True)
class Broken:
    """A stored entry that cannot be read any more, with why. It weighs nothing; taking it back heals the tape."""

    why: str


Entry = (
    Broken | Reading | PutBack | Override | FactChange | Undo | Started | Changed | Saw | TriedKey | Signed | Proven | Note
    | StepDone | Waived | Brought | Out | Back | Part | Photo | Spent
)  # fmt: skip


def is_done(reading: Reading) -> bool:
    """True when the fix was carried out (not could-not, declined or left on)."""
    return reading.outcome not in NOT_DONE
