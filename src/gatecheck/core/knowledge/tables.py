"""What the knowledge files hold, as typed values. Numbers and texts only; no logic."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from gatecheck.core.knowledge.instruments import Keys, Settings, Sightings
from gatecheck.core.knowledge.judging import Findings
from gatecheck.core.knowledge.proofs import Proof
from gatecheck.core.knowledge.ways import Way
from gatecheck.core.knowledge.work import WorkTables

Row = Mapping[str, float]
FactTest = Mapping[str, tuple[str, ...]]
"""fact -> values; true when every named fact has one of its values"""


class Gate(Struct, frozen=True):
    id: str
    name: str
    asks: str


class Fault(Struct, frozen=True):
    id: str
    gate: str
    name: str
    text: str
    odds: float
    source: str
    intermittent: float = 0.0
    """share of the machines with this fault on which it comes and goes"""

    @property
    def component(self) -> str:
        return self.id.split(".")[0]


class Context(Struct, frozen=True):
    """Facts that move odds: `is_` for worded facts, `over`/`under` for numbers (exclusive)."""

    fact: str
    is_: tuple[str, ...]
    over: float | None
    under: float | None
    times: Row
    source: str


class Coupling(Struct, frozen=True):
    """The first fault makes each of the others likelier by `times` (odds of the pair)."""

    faults: tuple[str, ...]
    times: float
    name: str
    source: str


class Visibility(Struct, frozen=True):
    id: str
    by: Row
    source: str
    intermittent: Row
    """the same while the fault comes and goes, where that differs"""


class Move(Struct, frozen=True):
    """What checks and fixes share. Minutes are hands-on; `unattended` minutes run on their own."""

    id: str
    gate: str
    name: str
    outcomes: tuple[str, ...]
    minutes: float
    unattended: float
    visit: str | None
    enters: str | None
    stress: str
    needs: tuple[str, ...]
    only_when: FactTest
    not_when: FactTest
    ask: str
    why: str
    say: Mapping[str, str]
    source: str


class Likelihood(Struct, frozen=True):
    """P(outcome | faults) written sparsely; see checks.toml for the ways to combine."""

    combine: str
    normal: str
    sound: Row
    rows: Mapping[str, Row]
    aside: Row
    hidden_by: str | None
    hidden_row: Row
    intermittent: Mapping[str, Row]
    """rows of faults that come and go, where they differ from `rows`"""


class Check(Move, frozen=True):
    table: Likelihood
    says_nothing_when: FactTest
    opens: Mapping[str, tuple[str, ...]]
    points_at: Mapping[str, tuple[str, ...]]
    on_dock: str | None
    """what hides it where it is read on another machine's dock"""


class FixCase(Struct, frozen=True):
    """What makes a fix come to it more or less often: last readings and facts, any value of each; `times`: its cures.
    `says`: in words, for the call sheet."""

    id: str
    says: str
    readings: FactTest
    facts: FactTest
    times: float


class Fix(Move, frozen=True):
    call: str
    parts: float
    cured_minutes: float
    """hands-on minutes and parts that are spent only when the fix turns out to be the cure"""
    cured_parts: float
    burden: float
    """what it takes from the customer besides money, in currency: programs and settings to be set up again"""
    cures: Row
    breaks: Row
    could_not: float
    same_cause: float
    """how much of a failed try is the same cause at the next one: 1 where another try never helps"""
    cases: tuple[FixCase, ...]
    table: Likelihood | None
    resolves: Row
    rescues: Row
    trial: bool
    setting: bool
    verdict: bool
    writes: bool
    destroys: bool
    long_write: bool
    look_first: tuple[str, ...]
    look_twice: FactTest
    """what is seen a second time before this is tried: check -> outcomes"""
    follow_up: str | None


class Likely(Struct, frozen=True):
    faults: tuple[str, ...]
    at_least: float


class Interlock(Struct, frozen=True):
    """A declarative predicate; decisions.toml explains each key."""

    id: str
    text: str
    release: str
    moves: frozenset[str]
    seen: FactTest
    seen_needs: Likely | None
    likely: Likely | None
    renewed_by: tuple[str, ...]
    facts: FactTest
    unless_facts: FactTest
    exceptions: tuple[tuple[frozenset[str], FactTest], ...]
    open_trial: bool
    while_pending: str
    """its words where the machine has not been started with the change yet"""
    released_by: tuple[str, ...]
    """moves that may release what it holds, the first to be thought of first"""
    proof_all: FactTest
    proof_any: FactTest
    proof_below: Likely | None
    disproof: FactTest
    disproof_likely: Likely | None
    source: str


class TradeRule(Struct, frozen=True):
    """A rule above the numbers: the call it asks for, its limits, and the readings it looks for, by name."""

    id: str
    choice: str
    fix: str | None
    limits: Row
    readings: Mapping[str, FactTest]
    source: str


class Contradiction(Struct, frozen=True):
    """What does not fit together: facts or readings (`one`), and the readings that they exclude (`other`)."""

    id: str
    facts: FactTest
    one: FactTest
    other: FactTest
    source: str


class Doubts(Struct, frozen=True):
    """When entries of one tape do not fit together. `twice`: looks compared between a hand and a machine."""

    clashes: tuple[Contradiction, ...]
    twice: frozenset[str]
    limits: Row


class Visit(Struct, frozen=True):
    minutes: float
    desktop: float
    share: float
    text: str


class Need(Struct, frozen=True):
    visibility: str | None
    at_least: float
    blocked_by: FactTest
    text: str


class Intake(Struct, frozen=True):
    """How machines come in: per fact the share of each value, and what customers are like. For rehearsals only."""

    shares: Mapping[str, Row]
    unknown_is_precious: float
    consents: float
    oldest: int
    lasting: float
    """share of the things that could not be done once that cannot be done at all"""


class Knowledge(Struct, frozen=True):
    """Everything the engine believes before it sees a machine."""

    gates: tuple[Gate, ...]
    faults: tuple[Fault, ...]
    contexts: tuple[Context, ...]
    couplings: tuple[Coupling, ...]
    sound_odds: float
    shared_scale: float
    visibility: Mapping[str, Visibility]
    checks: Mapping[str, Check]
    fixes: Mapping[str, Fix]
    check_floor: float
    misread: Mapping[str, float]
    """check -> share of its readings that are mistyped or misread; "" for those without a share of their own"""
    fix_floor: float
    calls: Mapping[str, str]
    call_names: Mapping[str, str]
    interlocks: Mapping[str, Interlock]
    facts: Mapping[str, tuple[str, ...]]
    rates: Row
    visits: Mapping[str, Visit]
    needs: Mapping[str, Need]
    gate_limits: Row
    plan: Row
    rules: Mapping[str, TradeRule]
    open: Row
    offer: Row
    doubts: Doubts
    proof: Proof
    findings: Findings
    stress: Mapping[str, Row]
    lost_on_replace: Row
    data_outcome: Mapping[str, str]
    intake: Intake
    settings: Settings
    sightings: Sightings
    keys: Keys
    work: WorkTables
    ways: tuple[Way, ...]
    platform_words: Mapping[str, Mapping[str, Mapping[str, str]]]
    """platform -> move -> name, ask or why, where that platform has its own"""

    def why(self, move: Check | Fix, facts: Mapping[str, object]) -> str:
        """Why to make the move, in the words of the ticket's platform."""
        return self.platform_words.get(str(facts.get("platform")), {}).get(move.id, {}).get("why", move.why)

    def move(self, move_id: str) -> Check | Fix:
        """The check or fix of that id. Raises KeyError."""
        return self.checks.get(move_id) or self.fixes[move_id]
