"""The bench on the wire: rows, search, and the catalogue the screens speak from."""

from __future__ import annotations

from pydantic import Field

from gatecheck.server.link.wire import LinkRowOut
from gatecheck.server.tickets.wire import GateOut, JobRowOut, RunningOut
from gatecheck.server.wire import Wire


class BenchRow(Wire):
    """One line of the bench. `turn`: hands (a person is wanted), running (on its own), done."""

    id: int
    number: str
    bay: int | None
    customer: str
    machine: str
    facts: dict[str, str | float | int | bool]
    gates: list[GateOut]
    turn: str
    urgent: bool
    next_move: str | None
    next_kind: str | None
    next_minutes: float | None
    next_why: str
    choice: str | None
    leans: str
    fix: str | None
    signed: str | None = Field(description="The verdict that was signed off")
    started: bool = Field(description="The machine starts")
    open_trials: int
    running: RunningOut | None
    job: JobRowOut | None = None
    link: LinkRowOut | None = None
    broken: str | None = Field(
        default=None, description="What of this ticket cannot be read any more; the others are not touched by it"
    )


class BenchOut(Wire):
    shop: str
    bays: int
    rows: list[BenchRow]
    notices: list[str] = Field(default=[], description="What has to be known of the shop itself")


class FoundOut(Wire):
    id: int
    number: str
    customer: str
    machine: str
    bay: int | None
    closed: bool


class KnownEntryOut(Wire):
    """A customer or machine of an earlier ticket; `machine` and `facts` as they were then."""

    name: str
    machine: str
    facts: dict[str, str]


class KnownOut(Wire):
    """What the first letters at the counter may become."""

    customers: list[KnownEntryOut]
    machines: list[KnownEntryOut]


class MoveWords(Wire):
    id: str
    kind: str
    gate: str
    name: str
    ask: str
    why: str
    outcomes: list[str]
    say: dict[str, str]
    minutes: float
    unattended: float
    visit: str | None
    verdict: bool
    trial: bool
    ways: bool = Field(description="it is written down how this is done")


class FaultWords(Wire):
    id: str
    gate: str
    name: str
    text: str


class GateWords(Wire):
    id: str
    name: str
    asks: str


class StepWords(Wire):
    """A step of the work, as the tape speaks of it."""

    name: str
    answers: dict[str, str]


class WordsOut(Wire):
    """The catalogue the screens speak from."""

    gates: list[GateWords]
    faults: list[FaultWords]
    moves: list[MoveWords]
    calls: dict[str, str]
    call_names: dict[str, str]
    interlocks: dict[str, str]
    facts: dict[str, list[str]]
    platforms: dict[str, dict[str, dict[str, str]]] = Field(
        description="platform -> move -> name, ask, why where it has its own"
    )
    values: dict[str, str] = Field(description="names of setting values and of what is seen")
    instruments: dict[str, str] = Field(description="names of setting rows, kinds of drive and vantage points")
    purposes: dict[str, str] = Field(description="names of what keys open")
    steps: dict[str, StepWords]
    out_kinds: list[str] = Field(description="what may come off a machine")
    key_moves: dict[str, str] = Field(description="move -> what its key opens")
