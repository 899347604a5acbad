"""Carrying out on the wire."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict, Field

from gatecheck.server.wire import By, Wire

_KEY = Field(default=None, max_length=80, description="Makes a repeated request harmless")


class AnswerOut(Wire):
    """`asks`: text, count, serial, last4 or screen, where something is told with it. `leads`: on, again, triage."""

    id: str
    say: str
    leads: str
    asks: str | None


class HeldStepOut(Wire):
    interlock: str
    why: str
    release: str


class StepOut(Wire):
    """A step. `state`: done, waived, now, later."""

    id: str
    phase: str
    name: str
    do: str
    why: str
    minutes: float
    guard: str
    wants: list[str]
    screen: str | None
    state: str
    answers: list[AnswerOut]
    answer: str | None
    value: str | int | None
    said_at: str | None
    entry: int | None
    tries: int
    held: list[HeldStepOut]
    due_at: str | None
    may_lead: bool = Field(description="It may be brought forward: nothing before it forbids it")
    hints: list[str]


class GroupOut(Wire):
    """A group on the tray, or back in its place."""

    entry: int
    name: str
    what: str
    count: int
    kind: str
    fields: list[int]
    back: bool
    missing: int


class KnownGroupOut(Wire):
    name: str
    what: str
    count: int
    kind: str
    fields: list[int]


class GuideOut(Wire):
    """How machines like this one open. `level`: model, series, maker or form; none where nobody here has opened one."""

    level: str | None
    machines: int
    minutes: float | None
    first_minutes: float | None
    next: KnownGroupOut | None
    general: list[str]
    known_as: str | None = Field(description="A machine of the book that this name may be a slip of")


class ChosenOut(Wire):
    shelf: int | None
    name: str
    serial: str
    size_gb: float | None
    price: float
    left: int | None


class ProofOut(Wire):
    """A line of the proof list. `state`: proven, open, failed, waived."""

    id: str
    name: str
    state: str
    why: str
    reason: str
    entries: list[int]


class WorkOut(Wire):
    """The job of the signed call; `steps` is empty while none is signed. The tray is there in any case."""

    name: str
    choice: str | None
    fix: str | None
    phases: dict[str, str]
    steps: list[StepOut]
    done: int
    minutes_left: float
    tray: list[GroupOut]
    lies_out: int
    guide: GuideOut
    part: ChosenOut | None
    old_serial: str | None
    proof: list[ProofOut]


class AnswerIn(BaseModel):
    model_config = ConfigDict(extra="forbid")
    answer: str = Field(max_length=60)
    value: str | int | None = Field(default=None, description="What is told with it, where the answer asks")
    by: By
    key: str | None = _KEY


class WaiveIn(BaseModel):
    model_config = ConfigDict(extra="forbid")
    reason: str = Field(min_length=1, max_length=400)
    by: By
    key: str | None = _KEY


class StepByIn(BaseModel):
    model_config = ConfigDict(extra="forbid")
    by: By
    key: str | None = _KEY


class GroupIn(BaseModel):
    """What came off: `what` is screw, cable, clip or part; `fields` 1 to 9 of the side that lies up."""

    model_config = ConfigDict(extra="forbid")
    name: str = Field(min_length=1, max_length=120)
    what: str = "screw"
    count: int = Field(default=1, ge=1, le=200)
    kind: str = Field(default="", max_length=60)
    fields: list[int] = Field(default=[], max_length=9)
    by: By
    key: str | None = _KEY


class BackIn(BaseModel):
    model_config = ConfigDict(extra="forbid")
    missing: int = Field(default=0, ge=0, le=200)
    by: By
    key: str | None = _KEY


class PartIn(BaseModel):
    """`shelf`: a number of the shelf; without it the customer brought one, and its name and size are said."""

    model_config = ConfigDict(extra="forbid")
    shelf: int | None = Field(default=None, ge=1)
    name: str = Field(default="", max_length=120)
    serial: str = Field(default="", max_length=60)
    size_gb: float | None = Field(default=None, ge=0, le=1e7)
    by: By
    key: str | None = _KEY


class ItemOut(Wire):
    id: int
    kind: str
    name: str
    interface: str
    form: str
    key: str
    height_mm: float
    length_mm: float
    flash: bool
    size_gb: float
    price: float
    count: int
    left: int


class FitOut(Wire):
    item: ItemOut
    fits: bool
    why: list[str]


class WantedOut(Wire):
    interface: str
    form: str
    key: str
    height_mm: float | None
    length_mm: float | None
    used_gb: float | None
    old_gb: float | None


class PartsOut(Wire):
    """Which drives of the shelf fit this machine."""

    wants: WantedOut
    drives: list[FitOut]
    cables: list[ItemOut]
    chosen: ChosenOut | None


class ShelfIn(BaseModel):
    """The shelf as CSV."""

    model_config = ConfigDict(extra="forbid")
    csv: str = Field(max_length=1_000_000)
    by: By


class ShelfOut(Wire):
    items: list[ItemOut]
    columns: list[str]
