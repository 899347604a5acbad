"""Tables behind carrying out: steps with their answers, what proves a job, what opens a machine, which drive fits, and
how they are read."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from gatecheck.core.knowledge.instruments import FactTest, Ids
from gatecheck.core.knowledge.toml_table import Table

LEADS = ("on", "again", "triage")
ASKS = ("text", "count", "serial", "last4", "screen")
SCREENS = ("parts", "tray", "settings", "link")
WANTS = ("mains", "stick", "part", "driver")
HINTS = (
    "system",
    "licence",
    "strip",
    "screws",
    "serial",
    "carrier",
    "size",
    "left-over",
    "reset",
    "baseline",
    "media",
    "picker",
    "right-drive",
    "drives",
    "age",
    "account",
    "rounds",
    "edition",
    "settings",
    "stale",
)
AUTOMATIC = ("trials", "settings", "tray")
OUT = ("screw", "cable", "clip", "part")
FIX, SCREEN_NOW, VALUE = "$fix", "$screen", "$value"
_COUNTED: Mapping[str, tuple[str, ...]] = {"drive_year": (VALUE,), "drive_size_gb": (VALUE,)}
"""facts that are what was counted"""
_OF_A_JOB = ("call", "fix", "way", "system", "opens", "open", "battery", "done", "stale")


class Answer(Struct, frozen=True):
    """What a step may be answered with. `leads`: on, again (the step stays), or triage (the job ends, what was seen
    weighs).

    weighs: (move, outcome) pairs, each may name `$fix`, `$value`, `$screen`. sets: (fact, value) pairs. asks: what is
    told with it."""

    id: str
    say: str
    leads: str
    weighs: tuple[tuple[str, str], ...]
    not_weighed: FactTest | None
    sets: tuple[tuple[str, str], ...]
    asks: str | None
    proves: bool
    waits: bool
    """it is others who have to do something now: nobody's hands are wanted"""


class Due(Struct, frozen=True):
    """Hands are wanted again so many minutes after the last answer of the step `after`."""

    after: str
    minutes: float


class Step(Struct, frozen=True):
    """One thing to do. `when`: row of the job's context -> values; all have to hold."""

    id: str
    phase: str
    name: str
    do: str
    why: str
    minutes: float
    counts: bool
    when: FactTest
    answers: Mapping[str, Answer]
    needs: tuple[str, ...]
    guard: str
    held_by: tuple[str, ...]
    wants: tuple[str, ...]
    screen: str | None
    hints: tuple[str, ...]
    due: Due | None
    is_way: bool
    empties: bool
    """it cannot be answered while something lies on the tray"""
    proof: bool


class JobName(Struct, frozen=True):
    name: str
    when: FactTest


class Automatic(Struct, frozen=True):
    """A line of the proof list that the tape answers by itself. `needs`: trials, settings or tray."""

    id: str
    name: str
    needs: str


class DriveSlot(Struct, frozen=True):
    """What takes the drive of such a machine. `height` and `length` in mm, where they limit; `key` of M.2."""

    when: FactTest
    interface: str
    form: str
    key: str
    height: float | None
    length: float | None


class WorkTables(Struct, frozen=True):
    phases: Mapping[str, str]
    steps: Mapping[str, Step]
    jobs: tuple[JobName, ...]
    automatic: tuple[Automatic, ...]
    resets: Mapping[str, str]
    strip: Mapping[str, tuple[str, ...]]
    slots: tuple[DriveSlot, ...]


def load_work(
    file: Table, ids: Ids, fixes: tuple[str, ...], calls: tuple[str, ...], locks: tuple[str, ...]
) -> WorkTables:
    """Raises KnowledgeError for anything unknown, and for a step that waits for one that is not there."""
    file.only("phases", "jobs", "steps", "auto", "resets", "strip", "slots")
    phases = {name: file.sub("phases").string(name) for name in file.sub("phases").values}
    raw = _listed(file, "steps")
    names = tuple(own.string("id") for own in raw)
    if len(set(names)) < len(names):
        raise file.error("steps", "ids of their own", "one that stands twice")
    allowed: dict[str, tuple[str, ...] | None] = dict.fromkeys(_OF_A_JOB)
    allowed |= {
        "call": calls,
        "fix": (*fixes, ""),
        "opens": ("yes", "no"),
        "open": ("yes", "no"),
        "battery": ("yes", "no"),
        "done": ("yes", "no"),
        "stale": ("yes", "no"),
    }
    allowed |= {fact: (*values, "") for fact, values in ids.facts.items()}
    steps = {own.string("id"): _step(own, phases, names, allowed, ids, locks) for own in raw}
    jobs = tuple(JobName(own.string("name"), _when(own, "when", allowed)) for own in _listed(file, "jobs"))
    if not jobs or jobs[-1].when:
        raise file.error("jobs", "a last name without conditions", "none")
    slots = tuple(
        DriveSlot(
            _when(own, "when", allowed),
            own.string("interface"),
            own.string("form"),
            str(own.values.get("key", "")),
            own.number("height") if "height" in own.values else None,
            own.number("length") if "length" in own.values else None,
        )
        for own in _listed(file, "slots")
    )
    return WorkTables(
        phases,
        steps,
        jobs,
        tuple(
            Automatic(own.string("id"), own.string("name"), own.one_of("needs", AUTOMATIC))
            for own in _listed(file, "auto")
        ),
        {fix: file.sub("resets").string(fix) for fix in file.sub("resets").values},
        _guidance(file.sub("strip"), ids),
        slots,
    )


def _listed(own: Table, key: str) -> list[Table]:
    rows = own.values.get(key, [])
    if not isinstance(rows, list):
        raise own.error(key, "a list of tables", type(rows).__name__)
    return [Table(own.file, own.text, f"{key}.{i}", row) for i, row in enumerate(rows)]


def _when(own: Table, key: str, allowed: Mapping[str, tuple[str, ...] | None]) -> dict[str, tuple[str, ...]]:
    sub = own.sub(key, optional=True)
    found = {}
    for row, values in sub.values.items():
        known = allowed.get(row, ())
        if known == ():
            raise sub.error(row, f"one of {', '.join(allowed)}", repr(row))
        found[row] = sub.ids(row, known if known is not None else [v for v in values if isinstance(v, str)])
    return found


def _step(
    own: Table,
    phases: Mapping[str, str],
    names: tuple[str, ...],
    allowed: Mapping[str, tuple[str, ...] | None],
    ids: Ids,
    locks: tuple[str, ...],
) -> Step:
    own.only(
        "id",
        "phase",
        "name",
        "do",
        "why",
        "minutes",
        "counts",
        "way",
        "when",
        "answers",
        "leads",
        "weighs",
        "not_weighed",
        "sets",
        "asks",
        "proves",
        "waits",
        "needs",
        "guard",
        "held_by",
        "wants",
        "screen",
        "hints",
        "due",
        "empties",
        "proof",
        "source",
    )
    own.string("source")
    say = own.sub("answers")
    leads, asks, unless = (
        own.sub("leads", optional=True),
        own.sub("asks", optional=True),
        own.sub("not_weighed", optional=True),
    )
    for sub in (leads, asks, unless, own.sub("weighs", optional=True), own.sub("sets", optional=True)):
        for answer in sub.values:
            if answer not in say.values:
                raise sub.error(answer, f"one of {', '.join(say.values)}", repr(answer))
    proves, waiting = own.ids("proves", say.values), own.ids("waits", say.values)
    answers = {
        answer: Answer(
            answer,
            say.string(answer),
            leads.one_of(answer, LEADS, "on"),
            _pairs(own, "weighs", answer, ids.outcomes),
            _when(unless, answer, allowed) if answer in unless.values else None,
            _pairs(own, "sets", answer, {**ids.facts, **_COUNTED}),
            asks.one_of(answer, ASKS) if answer in asks.values else None,
            answer in proves,
            answer in waiting,
        )
        for answer in say.values
    }
    due = own.sub("due", optional=True)
    return Step(
        own.string("id"),
        own.one_of("phase", phases),
        own.string("name"),
        own.string("do"),
        own.string("why"),
        own.number("minutes"),
        own.flag("counts"),
        _when(own, "when", allowed),
        answers,
        own.ids("needs", names),
        str(own.values.get("guard", "")),
        own.ids("held_by", locks),
        own.ids("wants", WANTS),
        own.one_of("screen", SCREENS) if "screen" in own.values else None,
        own.ids("hints", HINTS),
        Due(due.one_of("after", names), due.number("minutes")) if due.values else None,
        own.flag("way"),
        own.flag("empties"),
        own.flag("proof"),
    )


def _pairs(own: Table, key: str, answer: str, known: Mapping[str, tuple[str, ...]]) -> tuple[tuple[str, str], ...]:
    sub = own.sub(key, optional=True)
    pairs = sub.values.get(answer, [])
    if not isinstance(pairs, list):
        raise sub.error(answer, "a list of what=value", repr(pairs))
    found = []
    for text in pairs:
        left, _, right = str(text).partition("=")
        if not (left == FIX or (left in known and (right in known[left] or right in (VALUE, SCREEN_NOW)))):
            raise sub.error(answer, "a known id and one of its values, as what=value", repr(text))
        found.append((left, right))
    return tuple(found)


def _guidance(own: Table, ids: Ids) -> dict[str, tuple[str, ...]]:
    found = {}
    for form, lines in own.values.items():
        if form not in ids.facts["form"]:
            raise own.error(form, f"one of {', '.join(ids.facts['form'])}", repr(form))
        if not isinstance(lines, list) or not all(isinstance(line, str) for line in lines):
            raise own.error(form, "a list of texts", repr(lines))
        found[form] = tuple(lines)
    return found
