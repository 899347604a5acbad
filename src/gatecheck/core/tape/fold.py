"""`fold`: a ticket's facts and tape become its state. Pure: the same tape always gives the same state."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from functools import partial
from typing import TypedDict, overload

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from gatecheck.core.belief.facts import Facts, FactValue, fact_test
from gatecheck.core.belief.filter import Particles, summed
from gatecheck.core.belief.model import AGAIN, STARTS, Model
from gatecheck.core.belief.space import Floats
from gatecheck.core.errors import TapeError
from gatecheck.core.tape.entries import (
    Changed,
    Entry,
    Override,
    Proven,
    PutBack,
    Reading,
    Signed,
    Started,
    StepDone,
    is_done,
)
from gatecheck.core.tape.standing import (
    EffectiveEntries,
    effective_entries,
    fact_places,
    merge_facts,
    standing,
    weighed,
)
from gatecheck.core.tape.validity import current_of, on_dock, tried_of


class FoldStep(Struct, frozen=True):
    """One entry that moved the belief: its place on the tape and the belief before and after, shape (n,), up to a
    factor."""

    index: int
    reading: Reading | PutBack
    before: Floats
    after: Floats


class Steps(Sequence[FoldStep]):
    """The entries that moved the belief, in order: worked out when somebody first asks what one of them did, for a long
    tape has as many beliefs."""

    def __init__(self, make: Callable[[], list[FoldStep]]) -> None:
        self._make: Callable[[], list[FoldStep]] | None = make
        self._made: list[FoldStep] = []

    @property
    def _all(self) -> list[FoldStep]:
        if self._make is not None:
            self._made, self._make = self._make(), None
        return self._made

    def __len__(self) -> int:
        return len(self._all)

    @overload
    def __getitem__(self, place: int) -> FoldStep: ...
    @overload
    def __getitem__(self, place: slice) -> list[FoldStep]: ...
    def __getitem__(self, place: int | slice) -> FoldStep | list[FoldStep]:
        return self._all[place]


class Trial(Struct, frozen=True):
    """A changed firmware setting. `open` until it is put back; `no_effect` when it changed nothing; no `outcome` while
    the machine has not been started with it."""

    index: int
    fix: str
    outcome: str | None
    open: bool
    no_effect: bool
    worse: bool = False
    """it changed something, the machine does not start, and what it may have broken is now likelier broken than not"""
    before: str | None = None
    after: str | None = None
    walk: bool = False

    @property
    def to_put_back(self) -> bool:
        return self.open and (self.no_effect or self.worse)

    @property
    def standing(self) -> str:
        """pending (not started yet), open (changed nothing: to be put back), kept, or put-back."""
        if not self.open:
            return "put-back"
        return "pending" if self.outcome is None else "open" if self.to_put_back else "kept"


class TicketState(Struct, frozen=True):
    """What the tape says: facts as they stand, belief over hypotheses, and what was done."""

    facts: Mapping[str, FactValue]
    facts_from: Mapping[str, int]
    """fact -> place of the entry that said it last, where one did"""
    belief: Floats
    marginals: Floats
    """shape (f,): probability of every fault"""
    reached: Mapping[str, float]
    """visibility table -> probability that the thing can be reached"""
    applicable: frozenset[str]
    """moves that the facts do not rule out"""
    steps: Steps
    readings: tuple[tuple[int, Reading], ...]
    """every standing reading with its place, in order"""
    latest: Mapping[str, tuple[int, Reading]]
    """move -> its last standing reading with its place"""
    trials: tuple[Trial, ...]
    overrides: frozenset[tuple[str, str]]
    """(interlock, move) pairs overridden with a reason"""
    confirmed: frozenset[str]
    """checks whose last two readings, with nothing changed in between, showed the same"""
    current: frozenset[str]
    """checks whose last reading still describes the machine: repeating them would be the same evidence"""
    tried: frozenset[str]
    """fixes that were tried and not put back: trying them again would change nothing"""
    once: frozenset[str]
    """fixes that were tried once, changed nothing, and may help at a second try"""
    how: Mapping[str, tuple[str, ...]]
    """fix -> what makes it come to it more or less often now: cases of its own, AGAIN for a second try"""
    visit: str | None
    """where the technician is: setup, live, media or None"""
    is_open: bool
    """the case was opened"""
    booted: int | None
    """place of the last start that succeeded, unless a later one failed"""
    running: int | None
    """place of the entry that started a move which still runs on its own"""
    signed: int | None
    """place of the last call that was signed and not followed by a new reading"""

    proven: tuple[str, ...] | None
    """the faults it turned out to have, once somebody has said so"""

    def last(self, move: str) -> Reading | None:
        found = self.latest.get(move)
        return found[1] if found else None


def fold(model: Model, facts: Facts, entries: Sequence[Entry]) -> TicketState:
    """Fold a tape. Raises TapeError where a put-back has no trial before it."""
    stands = standing(entries)
    own = [(index, entry) for index, entry in enumerate(entries) if stands[index]]
    deeds = effective_entries(entries, stands)
    counts = weighed(deeds, stands, model)
    merged = merge_facts(facts, entries, stands)
    trials, back_of = _trials(model, own, counts)
    tries = tried_of(model, deeds)
    readings = tuple([(i, e) for i, e in deeds if type(e) is Reading])
    latest = {own[1].move: own for own in readings}
    cases = cases_of(model, latest, merged)
    read = partial(
        _weighed_in_turn,
        facts=merged,
        deeds=[d for d in deeds if counts[d[0]]],
        back_of=back_of,
        how=_how_then(readings, cases, tries.seconds),
        docked=on_dock(model, deeds),
    )
    belief = _believed(Particles(model, model.prior(merged)), read)
    current, confirmed = current_of(model, deeds)
    visit, is_open = _whereabouts(model, readings)
    booted = _booted(readings)
    if booted is None:
        trials = tuple(replace(t, worse=t.open and not t.no_effect and _broke(model, belief, t.fix)) for t in trials)
    return TicketState(
        facts=merged,
        facts_from=fact_places(entries, stands),
        belief=belief,
        **_sums(model, belief),
        applicable=model.applicable(merged),
        steps=Steps(lambda: _steps(Particles(model, model.prior(merged)), read)),
        readings=readings,
        latest=latest,
        trials=trials,
        overrides=frozenset([(e.interlock, e.move) for _, e in own if type(e) is Override]),
        confirmed=confirmed,
        current=current,
        tried=tries.tried,
        once=tries.once,
        how=_how_now(model, cases, tries.once, booted is not None),
        visit=visit,
        is_open=is_open,
        booted=booted,
        running=_running(own),
        signed=_signed(own),
        proven=next((e.faults for _, e in reversed(own) if type(e) is Proven), None),
    )


def cases_of(model: Model, latest: Mapping[str, tuple[int, Reading]], facts: Facts) -> dict[str, tuple[str, ...]]:
    """Fix -> its cases that hold by the last readings and the facts."""
    found = {}
    for fix in model.knowledge.fixes.values():
        held = tuple(
            c.id
            for c in fix.cases
            if all(move in latest and latest[move][1].outcome in outcomes for move, outcomes in c.readings.items())
            and fact_test(c.facts, facts)
        )
        if held:
            found[fix.id] = held
    return found


def _how_then(
    readings: Sequence[tuple[int, Reading]], cases: Mapping[str, tuple[str, ...]], seconds: Collection[int]
) -> dict[int, tuple[str, ...]]:
    """Place of a fix's reading -> the cases that held: those of now, for what a fix rests on hardly changes under
    it; and whether the machine started just before. A look that only says the same again is the look before it."""
    found, starts = {}, False
    last: tuple[str | None, tuple[str, ...]] | None = None
    for i, e in readings:
        if e.move == "screen" and last is not None and last[0] == e.outcome:
            how = last[1]
        else:
            how = (*cases.get(e.move, ()), *((AGAIN,) if i in seconds else ()), *((STARTS,) if starts else ()))
        if e.move == "screen":
            last = (e.outcome, how)
        elif e.outcome == "boots" or e.outcome in _DOES_NOT_START:
            last = None
        if how:
            found[i] = how
        starts = _starts_after(e, starts)
    return found


def _how_now(
    model: Model, cases: Mapping[str, tuple[str, ...]], once: Collection[str], starts: bool
) -> dict[str, tuple[str, ...]]:
    """Fix -> the cases that hold now and change how often it works or what it shows."""
    fixes = {*cases, *once, *(model.deeds.acts if starts else ())}
    return {
        fix: (*cases.get(fix, ()), *((AGAIN,) if fix in once else ()), *((STARTS,) if starts else ())) for fix in fixes
    }


def _starts_after(reading: Reading, before: bool) -> bool:
    """Whether the machine is known to start after this reading."""
    if reading.outcome == "boots":
        return True
    if reading.move == "screen" or reading.outcome in _DOES_NOT_START:
        return False
    return before


_DOES_NOT_START = ("no-change", "other-screen", "now-seen")


class _Sums(TypedDict):
    marginals: Floats
    reached: dict[str, float]


def _sums(model: Model, belief: Floats) -> _Sums:
    return {
        "marginals": belief @ model.space.member,
        "reached": {name: float(belief @ reach) for name, reach in model.sight.reach.items()},
    }


_LIKELIER = 0.5


def _broke(model: Model, belief: Floats, fix: str) -> bool:
    broken = model.knowledge.fixes[fix].breaks
    return bool(broken) and float(belief @ model.fault_mask(*broken)) > _LIKELIER


def _booted(readings: Sequence[tuple[int, Reading]]) -> int | None:
    for index, reading in reversed(readings):
        if reading.outcome == "boots":
            return index
        if not _starts_after(reading, True):
            return None
    return None


Standing = Sequence[tuple[int, Entry]]
"""the entries that stand, each with its place on the tape"""


def _running(own: Standing) -> int | None:
    running: dict[str, int] = {}
    for index, entry in own:
        if type(entry) is Started:
            running[entry.move] = index
        elif running and type(entry) is Reading:
            running.pop(entry.move, None)
            if entry.move == "power-down" and entry.outcome == "off":
                running.clear()
    return max(running.values(), default=None)


TRIAGE = "triage"
"""where an answered step leads that has gone wrong"""


def _signed(own: Standing) -> int | None:
    for place in range(len(own) - 1, -1, -1):
        if type(own[place][1]) is Signed:
            return None if any(_overturns(entry) for _, entry in own[place:]) else own[place][0]
    return None


_BESIDE_THE_CALL = (("live-start", "runs"), ("clock", "right"))
"""what is seen whenever a live system is started, and says nothing against what was called"""


def _overturns(entry: Entry) -> bool:
    """A step that went wrong, or a reading that is none of the job's own and does not say that it starts."""
    if type(entry) is StepDone:
        return entry.leads == TRIAGE
    if type(entry) is not Reading or entry.belongs is not None or entry.outcome == "boots":
        return False
    return (entry.move, entry.outcome) not in _BESIDE_THE_CALL


def _trials(model: Model, own: Standing, counts: Sequence[bool]) -> tuple[tuple[Trial, ...], dict[int, int]]:
    """All trials, and for every put-back of a reading the entry it takes back."""
    fixes, acts = model.knowledge.fixes, model.deeds.acts
    open_at: dict[str, list[int]] = {}
    back_of: dict[int, int] = {}
    pending: dict[str, tuple[int, Changed]] = {}
    trials: dict[int, Trial] = {}
    for index, entry in own:
        if not counts[index]:
            continue
        if type(entry) is Changed:
            pending[entry.fix] = (index, entry)
            trials[index] = Trial(
                index, entry.fix, None, True, False, before=entry.before, after=entry.after, walk=entry.walk
            )
        elif type(entry) is Reading:
            if entry.move not in acts:
                continue
            started = pending.pop(entry.move, None)
            if started:
                del trials[started[0]]
            if not is_done(entry):
                continue
            open_at.setdefault(entry.move, []).append(index)
            if fixes[entry.move].trial:
                change = started[1] if started else Changed(entry.move, None, None, False)
                trials[index] = Trial(
                    index,
                    entry.move,
                    entry.outcome,
                    True,
                    entry.outcome == "no-change",
                    before=entry.before or change.before,
                    after=entry.after or change.after,
                    walk=change.walk,
                )
        elif type(entry) is PutBack:
            if entry.fix in pending:
                place = pending.pop(entry.fix)[0]
            elif open_at.get(entry.fix):
                place = open_at[entry.fix].pop()
                back_of[index] = place
            else:
                raise TapeError(
                    f"entry {index}.put_back",
                    expected=f"a change by {entry.fix} earlier in the log",
                    got="none that is open",
                )
            if place in trials:
                trials[place] = replace(trials[place], open=False)
    return tuple(trials[place] for place in sorted(trials)), back_of


def _whereabouts(model: Model, readings: Sequence[tuple[int, Reading]]) -> tuple[str | None, bool]:
    move = model.knowledge.move
    return _visit(model, readings), any(move(reading.move).visit == "open" for _, reading in readings)


def _visit(model: Model, readings: Sequence[tuple[int, Reading]]) -> str | None:
    for _, reading in reversed(readings):
        move = model.knowledge.move(reading.move)
        entered = move.enters or move.visit
        if reading.outcome == "boots" or entered == "open" or move.id in ("power-down", "screen"):
            return None
        if entered and reading.outcome not in ("fails", "not-reached", "locked", "could-not"):
            return entered
    return None


def after_reading(model: Model, state: TicketState, check: str, outcome: str) -> TicketState:
    """The state if this check were made now and showed that; for asking what would be, not for the tape."""
    reading = Reading(check, {outcome: 1.0})
    place = max((i for i, _ in state.readings), default=-1) + 1
    spec = model.knowledge.checks[check]
    belief = (
        state.belief
        if fact_test(spec.says_nothing_when, state.facts) and spec.says_nothing_when
        else state.belief * model.look(check, outcome)
    )
    readings = (*state.readings, (place, reading))
    belief = belief / belief.sum()
    visit, is_open = _whereabouts(model, readings)
    return replace(
        state,
        belief=belief,
        **_sums(model, belief),
        readings=readings,
        latest={**state.latest, check: (place, reading)},
        current=state.current | {check},
        visit=visit,
        is_open=is_open,
        booted=_booted(readings),
    )


def intake_prior(model: Model, facts: Facts, entries: Sequence[Entry]) -> Floats:
    """What the machine had when it was brought in, in the light of the whole tape: P(hypothesis at intake), shape (n,).

    The filter with every particle remembering where it started. Raises TapeError as `fold` does.
    """
    stands = standing(entries)
    own = [(index, entry) for index, entry in enumerate(entries) if stands[index]]
    deeds = effective_entries(entries, stands)
    counts = weighed(deeds, stands, model)
    merged = merge_facts(facts, entries, stands)
    _, back_of = _trials(model, own, counts)
    particles = Particles(model, model.prior(merged))
    particles.remember(-1)
    readings = [(i, e) for i, e in deeds if type(e) is Reading]
    cases = cases_of(model, {e.move: (i, e) for i, e in readings}, merged)
    how, docked = _how_then(readings, cases, tried_of(model, deeds).seconds), on_dock(model, deeds)
    for _ in _weighed_in_turn(particles, merged, [d for d in deeds if counts[d[0]]], back_of, how, docked):
        pass
    before = summed(particles.stash[-1], particles.weight, model.space.size)
    return np.asarray(before / before.sum())


def _weighed_in_turn(
    particles: Particles,
    facts: Facts,
    deeds: EffectiveEntries,
    back_of: Mapping[int, int],
    how: Mapping[int, tuple[str, ...]],
    docked: Collection[int],
) -> Iterator[tuple[int, Reading | PutBack]]:
    """Read one deed after the other; each is given as soon as it has weighed."""
    wanted_later = set(back_of.values())
    for index, entry in deeds:
        if type(entry) is Reading:
            if index in wanted_later:
                particles.remember(index)
            particles.weigh(facts, entry.move, entry.weights, how.get(index, ()), index in docked)
        elif type(entry) is PutBack and index in back_of:
            particles.put_back(back_of[index], particles.model.deeds.acts[entry.fix])
        else:
            continue
        yield index, entry


Read = Callable[[Particles], Iterable[tuple[int, Reading | PutBack]]]


def _believed(particles: Particles, read: Read) -> Floats:
    """The belief after the whole tape, shape (n,), sums to one."""
    particles.into = np.empty_like(particles.weight)
    for _ in read(particles):
        pass
    belief = particles.belief
    return np.asarray(belief / belief.sum())


def _steps(particles: Particles, read: Read) -> list[FoldStep]:
    """Every entry that weighed, with the belief before and after it."""
    steps: list[FoldStep] = []
    before = particles.belief
    for index, entry in read(particles):
        after = particles.belief
        steps.append(FoldStep(index, entry, before, after))
        before = after
    return steps
