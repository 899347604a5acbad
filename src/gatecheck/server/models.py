"""What goes over the wire. Names and shapes are the contract with the front end; its types are generated from here."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, ConfigDict, Field


class Wire(BaseModel):
    """Base of all answers."""

    model_config = ConfigDict(extra="ignore")


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
    weights: list[WeightOut] = []


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
    gain: float
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
    tips: list[TipOut] = []


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


class EntryOut(Wire):
    place: int
    body: dict[str, Any]
    made_by: str
    made_at: str
    stands: bool = Field(description="False once an undo took it back")
    counts: bool = Field(description="False for a repeated reading: the same evidence counts once")


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
    running: RunningOut | None
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


class OverturnOut(Wire):
    """Readings that together would change the call, how likely they are, and the call then."""

    readings: list[tuple[str, str]]
    choice: str
    fix: str | None
    p: float


class SheetOut(Wire):
    """The call sheet: all ways out ranked under the terms, and what would overturn the call."""

    terms: dict[str, str | float | int | bool]
    call: CallOut
    rows: list[SheetRowOut]
    plain: str
    overturns: list[OverturnOut]


class GuessOut(Wire):
    """A set of faults the machine may have come in with, in the light of the whole tape."""

    faults: list[str]
    p: float


class RateOut(Wire):
    fault: str
    shipped: float
    counted: float
    blended: float


class BinOut(Wire):
    low: float
    high: float
    count: int
    predicted: float
    observed: float


class LearningOut(Wire):
    """What the shop's own tickets taught, and how the odds held."""

    lessons: int
    comebacks: int
    weight: float = Field(description="The shipped odds weigh as much as so many tickets")
    last_reset: str | None
    rates: list[RateOut]
    calls: list[BinOut]
    suspects: list[BinOut]
    brier: float | None


class LinkRowOut(Wire):
    """A linked machine on the bench. `state`: linked, away. `of` is 0 while it waits for orders."""

    state: str
    done: int
    of: int
    text: str


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
    signed: bool
    started: bool = Field(description="The machine starts")
    open_trials: int
    running: RunningOut | None
    link: LinkRowOut | None = None


class BenchOut(Wire):
    shop: str
    bays: int
    rows: list[BenchRow]


class FoundOut(Wire):
    id: int
    number: str
    customer: str
    machine: str
    bay: int | None
    closed: bool


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


class FaultWords(Wire):
    id: str
    gate: str
    name: str
    text: str


class SettingValueOut(Wire):
    """A value a row may stand at. `state`: what the row would be with it. `entry`: ready for the tape."""

    id: str
    name: str
    state: str
    entry: dict[str, Any]


class SettingRowOut(Wire):
    """A row of the settings sheet. `state`: fits, differs, unsure, not-shown, unread. `now`: after the changes made since."""

    id: str
    name: str
    gate: str
    check: str | None
    fix: str | None
    want: str | None
    why: str
    because: str
    values: list[SettingValueOut]
    found: str | None
    now: str | None
    state: str
    entry: int | None
    from_file: bool


class TogetherOut(Wire):
    """What several rows say together. `kind`: contradiction, root, hint."""

    id: str
    kind: str
    rows: list[str]
    text: str
    means: str


class WalkOut(Wire):
    row: str
    tried: list[str]
    next: str | None
    restore: str | None


class WayOut(Wire):
    move: str
    name: str
    how: str
    minutes: float


class LeftOut(Wire):
    """A setting at handover: as found and as left."""

    row: str
    name: str
    found: str | None
    left: str | None
    tried: list[str]


class BootEntryOut(Wire):
    """A captured boot entry in the order the firmware tries it."""

    name: str
    description: str
    active: bool
    place: int | None
    leads_to: str
    target: str
    path: str


class CapturedFirmwareOut(Wire):
    file: str
    sha256: str
    entries: list[BootEntryOut]
    secure_boot: bool | None
    maker: str
    product: str
    firmware: str
    findings: list[str]


class SettingsOut(Wire):
    """The settings sheet; on a machine without a text setup `rows` is empty and `ways` says what there is."""

    rows: list[SettingRowOut]
    together: list[TogetherOut]
    walks: list[WalkOut]
    walkable: dict[str, list[str]]
    ways: list[WayOut]
    left: list[LeftOut]
    captured: CapturedFirmwareOut | None


class LinkProgressOut(Wire):
    done: int
    of: int
    text: str
    minutes_left: float | None


class LinkOrderOut(Wire):
    id: int
    order: str
    device: str | None = None
    kind: str | None = None
    state: str
    detail: str
    made_by: str
    made_at: str


class LinkOfferOut(Wire):
    """An order that can be given. `held`: why its move is held back now, empty where it is not."""

    order: str
    kind: str
    move: str
    held: str


class LinkOut(Wire):
    """The link of a ticket. `state`: none, waiting (no probe yet), linked, away, ended. `qr`: SVG of the address."""

    state: str
    secret: str
    address: str
    command: str
    qr: str
    local_only: bool
    practice: str | None
    machine: dict[str, str]
    progress: LinkProgressOut | None
    orders: list[LinkOrderOut]
    offers: list[LinkOfferOut]


class PatientOut(Wire):
    id: str
    title: str
    machine: str
    words: str


class VantageOut(Wire):
    id: str
    name: str
    check: str
    asks: str


class SeenOut(Wire):
    id: str
    name: str
    entry: dict[str, Any]


class CellOut(Wire):
    at: str
    value: str | None
    entry: int | None
    from_file: bool
    note: str
    choices: list[SeenOut]


class DriveLineOut(Wire):
    what: str
    name: str
    cells: list[CellOut]


class PatternOut(Wire):
    id: str
    text: str
    means: str
    gate: str
    faults: list[str]


class SightingsOut(Wire):
    """Which drive is seen where, and what the pattern means. `more`: kinds of drive that may be added to the grid."""

    vantages: list[VantageOut]
    lines: list[DriveLineOut]
    more: list[DriveLineOut]
    pattern: PatternOut | None


class KeyOut(Wire):
    """A key to try. `level`: the nearest that has tried it (model, series, maker, platform, general)."""

    key: str
    p: float
    level: str
    worked: int
    tried: int


class PurposeOut(Wire):
    purpose: str
    name: str
    keys: list[KeyOut]


class KeysOut(Wire):
    """Keys for one machine, best first, for each thing they open."""

    machine: str
    platform: str
    purposes: list[PurposeOut]


class BookModelOut(Wire):
    maker: str
    model: str
    platform: str
    tries: int


class GateWords(Wire):
    id: str
    name: str
    asks: str


class WordsOut(Wire):
    """The catalogue the screens speak from."""

    gates: list[GateWords]
    faults: list[FaultWords]
    moves: list[MoveWords]
    calls: dict[str, str]
    call_names: dict[str, str]
    interlocks: dict[str, str]
    facts: dict[str, list[str]]
    platforms: dict[str, dict[str, dict[str, str]]] = Field(description="platform -> move -> name, ask, why where it has its own")
    values: dict[str, str] = Field(description="names of setting values and of what is seen")
    instruments: dict[str, str] = Field(description="names of setting rows, kinds of drive and vantage points")
    purposes: dict[str, str] = Field(description="names of what keys open")
    key_moves: dict[str, str] = Field(description="move -> what its key opens")


class TicketIn(BaseModel):
    """A machine taken in. `entries` are what was already asked and seen (story, screen)."""

    model_config = ConfigDict(extra="forbid")
    customer: str = Field(min_length=1, max_length=200)
    machine: str = Field(min_length=1, max_length=200)
    words: str = Field(default="", max_length=4000)
    facts: dict[str, Any] = {}
    entries: list[dict[str, Any]] = Field(default=[], max_length=50)
    bay: int | None = Field(default=None, ge=1, le=99)
    by: str = Field(min_length=1, max_length=20)
    comeback_of: int | None = None


class HandOverIn(BaseModel):
    """The machine goes back. `proven`: faults it turned out to have; null where nobody can say."""

    model_config = ConfigDict(extra="forbid")
    proven: list[str] | None = Field(default=None, max_length=3)
    by: str = Field(default="?", min_length=1, max_length=20)


class ByIn(BaseModel):
    model_config = ConfigDict(extra="forbid")
    by: str = Field(min_length=1, max_length=20)


class TermsIn(BaseModel):
    """What the customer decides; facts that are tried on the call sheet and not kept."""

    model_config = ConfigDict(extra="forbid")
    terms: dict[str, Any] = {}


class EntryIn(BaseModel):
    """An entry for the tape. `key` makes a repeated request harmless."""

    model_config = ConfigDict(extra="forbid")
    entry: dict[str, Any]
    by: str = Field(min_length=1, max_length=20)
    key: str | None = Field(default=None, max_length=80)


class OrderIn(BaseModel):
    """An order for the probe: read, or self-test with a device and a kind (short, long)."""

    model_config = ConfigDict(extra="forbid")
    order: str = Field(max_length=20)
    device: str | None = Field(default=None, max_length=40, pattern=r"^[a-z0-9]+$")
    kind: str | None = Field(default=None, max_length=10)
    by: str = Field(min_length=1, max_length=20)


class PracticeIn(BaseModel):
    """A practice machine; with a bay where it is to be taken in there."""

    model_config = ConfigDict(extra="forbid")
    machine: str = Field(max_length=40)
    bay: int | None = Field(default=None, ge=1, le=99)
    by: str = Field(min_length=1, max_length=20)


class HelloIn(BaseModel):
    """A probe reports to its ticket. `has`: pages it keeps of this session."""

    protocol: int
    probe: str = Field(max_length=20)
    machine: dict[str, str] = Field(max_length=40)
    session: str = Field(min_length=8, max_length=64, pattern=r"^[0-9a-f]+$")
    has: int = Field(default=0, ge=0)


class PageIn(BaseModel):
    """One page as the probe read it, or the fact that it could not. `data`: base64."""

    session: str = Field(max_length=64)
    seq: int = Field(ge=1)
    order: str = Field(max_length=40)
    path: str = Field(max_length=200)
    kind: str = Field(max_length=40)
    device: str = Field(max_length=40)
    how: str = Field(max_length=200)
    status: str = Field(max_length=20)
    detail: str = Field(default="", max_length=300)
    size: int = Field(default=0, ge=0)
    sha256: str | None = Field(default=None, max_length=64)
    data: str = Field(max_length=6 << 20)


class ProgressIn(BaseModel):
    session: str = Field(max_length=64)
    order: str = Field(max_length=40)
    done: int = Field(ge=0)
    of: int = Field(ge=0)
    text: str = Field(max_length=200)
    minutes_left: float | None = None


class DoneIn(BaseModel):
    session: str = Field(max_length=64)
    order: str = Field(max_length=40)
    result: str = Field(pattern=r"^(done|refused|failed)$")
    detail: str = Field(default="", max_length=1000)


class BayIn(BaseModel):
    model_config = ConfigDict(extra="forbid")
    bay: int | None = Field(ge=1, le=99)


class WeighIn(BaseModel):
    """Weigh one drive of a capture that lies on the ticket."""

    model_config = ConfigDict(extra="forbid")
    sha256: str
    device: str
    by: str = Field(min_length=1, max_length=20)


class FindingOut(Wire):
    id: str
    kind: str
    severity: str
    text: str
    means: str
    page: str
    at: int | None


class PageOut(Wire):
    path: str
    kind: str
    status: str
    detail: str
    size: int


class EventOut(Wire):
    """Something in the drive's logs. `hours`: its power-on time then; `ago`: hours of running before now, where known."""

    kind: str
    hours: int | None
    ago: int | None
    text: str
    lba: int | None
    severity: str
    page: str
    at: int


class TrendLineOut(Wire):
    name: str
    kind: str
    unit: str
    grown: int
    per_1000_hours: float | None


class TrendOut(Wire):
    """This drive against its earlier captures."""

    captures: int
    lines: list[TrendLineOut]
    findings: list[FindingOut]
    new: list[str]
    gone: list[str]


class RawOut(Wire):
    """The bytes of a page, `hex` in lower case; `field` at the byte that was asked for."""

    path: str
    size: int
    hex: str
    field: str | None
    start: int
    length: int


class DriveOut(Wire):
    device: str
    bus: str
    identity: dict[str, Any] | None
    verdict: str
    passes_pages: bool
    weights: dict[str, float] | None
    findings: list[FindingOut]
    readings: list[dict[str, Any]]
    pages: list[PageOut]
    hours: int | None = None
    events: list[EventOut] = []
    statistics: list[dict[str, Any]] = []
    trend: TrendOut | None = None


class CaptureOut(Wire):
    """A decoded file of the ticket. `weighed`: device whose pages were put on the tape at once, if it was clear which."""

    sha256: str
    name: str
    added_at: str
    devices: list[DriveOut]
    other_pages: list[PageOut]
    weighed: str | None = None


class Problem(Wire):
    """RFC 9457."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str
