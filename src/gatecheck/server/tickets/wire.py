"""Tickets on the wire. Names and shapes are the contract with the front end; its types are generated from here."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, ConfigDict, Field

from gatecheck.server.wire import LARGEST_ID, By, Wire


class GateOut(Wire):
    id: str
    state: str
    why: str
    mass: float = Field(description="Probability that some fault of this gate is there, 0 to 1")
    entries: list[int]


class WeightOut(Wire):
    entry: int
    factor: float = Field(description="What the entry multiplied the suspect's odds by")


class SuspectOut(Wire):
    fault: str
    p: float
    weights: list[WeightOut] = Field(default=[])


class OutlookOut(Wire):
    outcome: str
    p: float
    leaves: str
    leaves_p: float


class NextOut(Wire):
    move: str
    kind: str
    minutes: float
    hands_on_minutes: float
    why: str
    gain: float | None = Field(description="None where a rule put it first and nobody weighed it")
    cost: float
    separates: list[str]
    outlook: list[OutlookOut]


class HeldOut(Wire):
    move: str
    interlock: str
    why: str
    release: str
    entries: list[int]


class OptionOut(Wire):
    choice: str
    fix: str | None
    fixes: list[str]
    held_fix: str | None
    held_by: list[str]
    p_success: float
    minutes: float
    hands_on_minutes: float
    cost: float
    data_outcome: str
    expected_loss: float
    p_starts: float = Field(description="Probability that the machine starts then")
    comeback_risk: float = Field(description="Probability that it starts and comes back within the month")
    unattended_minutes: float
    parts: float = Field(description="Parts, and what others charge, in the shop's currency")


class TipOut(Wire):
    move: str
    outcome: str
    choice: str
    p: float


class CallOut(Wire):
    choice: str | None
    fix: str | None
    fixes: list[str]
    held_fix: str | None
    held_by: list[str]
    confidence: float
    leans: str
    why: str
    rule: str | None
    note: str
    balance: dict[str, float]
    options: list[OptionOut]
    tips: list[TipOut] = Field(default=[])


class TrialOut(Wire):
    """A changed setting. `standing`: pending (not started with it yet), open (to be put back), kept, put-back."""

    fix: str
    entry: int
    outcome: str | None
    open: bool
    no_effect: bool
    standing: str
    before: str | None
    after: str | None
    walk: bool


class QuestionOut(Wire):
    fact: str
    why: str


class DoubtOut(Wire):
    """Entries that do not fit together."""

    entries: list[int]
    why: str
    take_back: int | None = Field(description="The entry that the rest of the tape speaks against; null: look again")


class EntryOut(Wire):
    place: int
    body: dict[str, Any]
    made_by: str
    made_at: str
    stands: bool = Field(description="False once an undo took it back")
    counts: bool = Field(description="False for a repeated reading: the same evidence counts once")
    note: str = Field(
        description="The entry's note in words, whether somebody wrote it or it was kept as a sentence's id"
    )
    broken: str | None = Field(
        default=None, description="Why a kept entry cannot be read any more; it weighs nothing, and undo heals the tape"
    )
    from_file: str | None = Field(description="SHA-256 of the file it rests on: entries of one reading share it")


class AttachmentOut(Wire):
    sha256: str
    name: str
    size: int
    added_by: str
    added_at: str


class RunningOut(Wire):
    move: str
    started_at: str
    minutes: float


class JobRowOut(Wire):
    """The job in one line: which step is in hand, and when hands are wanted for it."""

    name: str
    step: str | None = Field(description="Id of the step in hand; none when all are settled")
    step_name: str
    done: int
    of: int
    minutes_left: float
    due_at: str | None = Field(description="Until then it runs on its own")
    waits: str | None = Field(description="What others have to do first, such as deliver a part")
    lies_out: int = Field(description="Screws on the tray")
    unproven: int


class HowReadOut(Wire):
    """What stands on the machine's screen. `outcome`: of the move; null: it is noted, and the move goes on."""

    says: str
    outcome: str | None
    means: str


class HowOut(Wire):
    """How a move is done. `works`: share of the cases in which it comes to what it is for; `opens`: an instrument that
    does it."""

    id: str
    name: str
    minutes: float
    unattended: float
    works: float
    steps: list[str]
    reads: list[HowReadOut]
    opens: str | None
    prints_code: bool


class TicketOut(Wire):
    id: int
    number: str
    customer: str
    machine: str
    words: str
    bay: int | None
    opened_by: str
    opened_at: str
    closed_at: str | None
    facts: dict[str, str | float | int | bool]
    tape: list[EntryOut]
    gates: list[GateOut]
    suspects: list[SuspectOut]
    sound: float
    next: list[NextOut]
    held: list[HeldOut]
    call: CallOut
    trials: list[TrialOut]
    questions: list[QuestionOut]
    doubts: list[DoubtOut]
    running: RunningOut | None
    job: JobRowOut | None = None
    unproven: list[str] = Field(description="Final checks that are still to be done before it is handed over")
    signed: int | None
    proven: list[str] | None = Field(description="Faults it turned out to have, once somebody has said so")
    comeback_of: int | None = Field(description="Ticket of the visit it comes back from")
    files: list[AttachmentOut]


class SheetRowOut(Wire):
    """A way out under the customer's terms."""

    option: OptionOut
    price: float
    loss: float
    over_budget: bool
    over_worth: bool
    is_call: bool
    because: list[str] = Field(description="What makes its fixes come to it more or less often here")


class OverturnOut(Wire):
    """Readings that together would change the call, how likely they are, and the call then."""

    readings: list[tuple[str, str]]
    choice: str
    fix: str | None
    p: float


class BarredOut(Wire):
    """Fixes that are no way out on this evidence."""

    interlock: str
    why: str
    release: str
    fixes: list[str]


class SheetOut(Wire):
    """The call sheet: all ways out ranked under the terms, what is none, and what would overturn the call."""

    terms: dict[str, str | float | int | bool]
    call: CallOut
    rows: list[SheetRowOut]
    barred: list[BarredOut]
    plain: str
    overturns: list[OverturnOut]


class TicketIn(BaseModel):
    """A machine taken in. `entries` are what was already asked and seen (story, screen)."""

    model_config = ConfigDict(extra="forbid")
    customer: str = Field(min_length=1, max_length=200)
    machine: str = Field(min_length=1, max_length=200)
    words: str = Field(default="", max_length=4000)
    facts: dict[str, Any] = {}
    entries: list[dict[str, Any]] = Field(default=[], max_length=50)
    bay: int | None = Field(default=None, ge=1, le=99)
    by: By
    comeback_of: int | None = Field(default=None, ge=1, le=LARGEST_ID)
    key: str | None = Field(default=None, max_length=80, description="Makes a repeated request harmless")


class TermsIn(BaseModel):
    """What the customer decides; facts that are tried on the call sheet and not kept."""

    model_config = ConfigDict(extra="forbid")
    terms: dict[str, Any] = {}


class EntryIn(BaseModel):
    """An entry for the tape, or several that stand or fall together. `key` makes a repeated request harmless."""

    model_config = ConfigDict(extra="forbid")
    entry: dict[str, Any] | None = None
    entries: list[dict[str, Any]] = Field(default=[], max_length=10)
    by: By
    key: str | None = Field(default=None, max_length=80)


class BayIn(BaseModel):
    model_config = ConfigDict(extra="forbid")
    bay: int | None = Field(ge=1, le=99)
