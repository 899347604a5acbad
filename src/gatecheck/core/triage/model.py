"""Knowledge compiled into matrices over the hypothesis space."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping
from dataclasses import dataclass, field
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from gatecheck.core.knowledge.tables import Check, Fix, Knowledge, Likelihood, Row, Visibility
from gatecheck.core.triage.space import Floats, Ints, Space, build_space

T = TypeVar("T")
_MOST_KEPT = 2000

FactValue = str | float | int | bool | None
Facts = Mapping[str, FactValue]

NOT_DONE = ("could-not", "declined", "left-on")
"""outcomes of a fix after which nothing on the machine has changed"""

_SHOWN_BY_THE_FIX = frozenset({"screen", "reduced-start"})

_ANOTHER_SCREEN, _ANOTHER_SCREEN_THEN = 0.70, 0.97
"""a machine that now stops at a later gate shows another screen this often; nearly always when it had not come up at all"""

_BARELY_STOPS = 0.8
"""a hypothesis that boots with this probability does not stop the boot"""


@dataclass(frozen=True, slots=True)
class Transition:
    """What a fix does: edges from hypothesis `src` to `dst`; `weight[o]` is P(dst, outcome o | src).

    src, dst: shape (e,), sorted by src; weight: shape (outcomes, e); first: shape (n + 1,), edges of h are
    first[h]:first[h + 1].
    """

    src: Ints
    dst: Ints
    weight: Floats
    first: Ints
    stay: Floats
    """shape (outcomes, n): the weight of the edges that stay where they are"""
    moved_src: Ints
    moved_dst: Ints
    moved: Floats
    """the edges that lead elsewhere, shape (m,), (m,) and (outcomes, m)"""
    shown: Floats
    """shape (outcomes, n): probability of the outcome for a machine that was src, whatever it is now"""
    could_not: float
    touches: frozenset[str]
    components: tuple[int, ...]

    def apply_all(self, belief: Floats) -> Floats:
        """Belief after each outcome but could-not, not normalised, shape (4, n)."""
        n = len(belief)
        places = (self.moved_dst + n * np.arange(4)[:, None]).ravel()
        there = np.bincount(places, (belief[self.moved_src] * self.moved[:4]).ravel(), minlength=4 * n)
        return np.asarray(belief * self.stay[:4] + there.reshape(4, n))

    def apply(self, belief: Floats, outcome: int) -> Floats:
        """Belief after that outcome, not normalised, shape (n,)."""
        there = np.bincount(self.moved_dst, belief[self.moved_src] * self.moved[outcome], minlength=len(belief))
        return np.asarray(belief * self.stay[outcome] + there)


@dataclass(frozen=True, slots=True)
class Model:
    knowledge: Knowledge
    space: Space
    looks: Mapping[str, Floats]
    """check (or fix with outcomes of its own) -> P(outcome | h), shape (outcomes, n)"""
    acts: Mapping[str, Transition]
    reach: Mapping[str, Floats]
    """visibility table -> probability that the thing can be reached, shape (n,)"""
    passes: Floats
    """shape (n,): probability that the machine starts"""
    stop_gate: Ints
    """shape (n,): the gate of the earliest fault that stops the boot, -1 for none"""
    base: Floats
    """shape (n,): couplings, scale and the sound machine's odds; contexts are still to be multiplied"""
    depends: Mapping[str, frozenset[str]]
    """check -> faults that change what it shows"""
    affects: Mapping[str, frozenset[str]]
    """fix -> checks that may show something else after it"""
    rows: Floats
    """all checks' outcomes side by side, shape (n, r): a hypothesis is a row"""
    columns: Mapping[str, Ints]
    """check -> its columns in `rows`"""
    boots: NDArray[np.bool_]
    """shape (r,): the outcome is a start"""
    keeps_booted: NDArray[np.bool_]
    """shape (r,): the outcome is of a look at a machine that starts, which goes on starting"""
    one_member: Floats
    """shape (n, 1 + f): a one and `space.member`"""
    fix_ids: tuple[str, ...]
    """fixes that cure or resolve something; the columns of `cure`"""
    may_help: Floats
    """shape (n, x): 1.0 where the fix cures or resolves something that is there"""
    cure: Floats
    """shape (f, x): probability that the fix (or whom it sends the machine to) removes the fault"""
    stress: Mapping[str, Floats]
    """stress class -> share of the data's worth at stake per fault, shape (f,)"""
    finals: Mapping[str, tuple[Floats, Floats, float]]
    """fix -> per fault the chance that it is gone in the end and the share of the data lost; and the price.
    What follows a fix in any case (a lab is followed by a new drive) counts in."""
    _priors: dict[tuple[float, ...], Floats] = field(default_factory=dict)
    _having: dict[tuple[str, ...], Floats] = field(default_factory=dict)
    _kept: dict[Hashable, Any] = field(default_factory=dict)

    def prior(self, facts: Facts) -> Floats:
        """P(h) for a machine with these facts, shape (n,), sums to one."""
        odds = all_odds(self.knowledge, facts)
        log_odds = np.log([max(odds[fault], 1e-9) for fault in self.space.fault_ids])
        key = tuple(log_odds.tolist())
        if key not in self._priors:
            prior = self.base * np.exp(self.space.member @ log_odds)
            if len(self._priors) > 256:
                self._priors.clear()
            self._priors[key] = prior / prior.sum()
        return self._priors[key]

    def having(self, *faults: str) -> Floats:
        """Shape (n,): 1.0 where any of the faults is in the hypothesis."""
        if faults not in self._having:
            self._having[faults] = self.space.any_of(faults)
        return self._having[faults]

    def applicable(self, facts: Facts) -> frozenset[str]:
        """Moves that the machine's facts do not rule out."""
        moves = (*self.knowledge.checks.values(), *self.knowledge.fixes.values())
        asked = self.keep("asked", lambda: sorted({f for m in moves for test in (m.only_when, m.not_when) for f in test}))

        def make() -> frozenset[str]:
            ruled_out = {m.id for m in moves if any(facts.get(fact) in values for fact, values in m.not_when.items())}
            return frozenset(m.id for m in moves if fact_test(m.only_when, facts)) - ruled_out

        return self.keep(("applicable", *(facts.get(fact) for fact in asked)), make)

    def keep(self, key: Hashable, make: Callable[[], T]) -> T:
        """What `make` gives, kept under a key that names everything it depends on besides the model."""
        if key not in self._kept:
            if len(self._kept) > _MOST_KEPT:
                self._kept.clear()
            self._kept[key] = make()
        kept: T = self._kept[key]
        return kept

    def behind(self, fix: str) -> Floats:
        """What a fix leaves, as a linear map: shape (n, 4 * (1 + f)), per outcome but could-not its probability and, times
        that, the probability of every fault afterwards."""

        def make() -> Floats:
            act = self.acts[fix]
            there = self.one_member[act.dst]
            maps = [np.add.reduceat(act.weight[o][:, None] * there, act.first[:-1]) for o in range(4)]
            return np.concatenate(maps, axis=1)

        return self.keep(("behind", fix), make)

    def voided(self, fix: str, outcome: str | None) -> frozenset[str]:
        """Checks that may show something else after the fix; one that changed nothing left the screen as it was."""
        affected = self.affects.get(fix, frozenset())
        return affected - _SHOWN_BY_THE_FIX if outcome == "no-change" else affected

    def look(self, check: str, outcome: str) -> Floats:
        move = self.knowledge.move(check)
        return np.asarray(self.looks[check][move.outcomes.index(outcome)])


def all_odds(knowledge: Knowledge, facts: Facts) -> dict[str, float]:
    """Prior odds of every fault given the facts."""
    odds = {f.id: f.odds for f in knowledge.faults}
    for context in knowledge.contexts:
        if _applies(context.fact, context.is_, context.over, context.under, facts):
            for fault, times in context.times.items():
                odds[fault] *= times
    return odds


def _applies(fact: str, is_: tuple[str, ...], over: float | None, under: float | None, facts: Facts) -> bool:
    value = facts.get(fact)
    if fact == "drive_age":
        year, now = facts.get("drive_year"), facts.get("as_of_year")
        value = now - year if isinstance(year, int | float) and isinstance(now, int | float) else None
    if is_:
        return value in is_
    if not isinstance(value, int | float) or isinstance(value, bool):
        return False
    return (over is None or value > over) and (under is None or value < under)


def fact_test(test: Mapping[str, tuple[str, ...]], facts: Facts) -> bool:
    """True when every named fact has one of the values; an empty test is true."""
    return all(facts.get(fact) in values for fact, values in test.items())


def compile_model(knowledge: Knowledge) -> Model:
    """Compile all tables. Pure; about 0.1 s."""
    space = build_space(knowledge.faults, [g.id for g in knowledge.gates])
    reach = {v.id: 1.0 - hidden_share(space, v) for v in knowledge.visibility.values()}
    looks: dict[str, Floats] = {}
    for check in knowledge.checks.values():
        looks[check.id] = _look(space, check.table, check.outcomes, reach, knowledge.check_floor)
    passes = looks["screen"][knowledge.checks["screen"].outcomes.index("boots")]
    acts = {}
    for fix in knowledge.fixes.values():
        if fix.table is not None:
            looks[fix.id] = _look(space, fix.table, fix.outcomes, reach, knowledge.fix_floor)
        else:
            acts[fix.id] = _act(space, fix, passes, reach["unseen"], knowledge.fix_floor)
    depends = {c.id: _depends(c, knowledge) for c in knowledge.checks.values()}
    rows: list[Floats] = []
    columns: dict[str, Ints] = {}
    for name in knowledge.checks:
        columns[name] = np.arange(len(rows), len(rows) + len(looks[name]))
        rows.extend(looks[name])
    outcomes = [(c.id, o) for c in knowledge.checks.values() for o in c.outcomes]
    fix_ids = tuple(f.id for f in knowledge.fixes.values() if f.cures or f.resolves)
    cure = np.array([
        [max(f.cures.get(fault, 0.0), f.resolves.get(fault, 0.0)) for f in map(knowledge.fixes.__getitem__, fix_ids)]
        for fault in space.fault_ids
    ])  # fmt: skip
    stress = {name: np.array([row.get(f, 0.0) for f in space.fault_ids]) for name, row in knowledge.stress.items()}
    return Model(
        knowledge, space, looks, acts, reach, passes, stop_gates(space, passes), _base(space, knowledge), depends,
        {f: frozenset(c for c, faults in depends.items() if act.touches & faults) for f, act in acts.items()},
        np.ascontiguousarray(np.array(rows).T), columns,
        np.array([o == "boots" for _, o in outcomes]), np.array([c != "screen" for c, _ in outcomes]),
        np.concatenate([np.ones((space.size, 1)), space.member], axis=1), fix_ids, (space.member @ (cure > 0) > 0).astype(np.float64), cure, stress, {f: _final(knowledge, space, knowledge.fixes[f]) for f in fix_ids},
    )  # fmt: skip


def _final(knowledge: Knowledge, space: Space, fix: Fix) -> tuple[Floats, Floats, float]:
    after = knowledge.fixes[fix.follow_up] if fix.follow_up else None
    followed = after.cures if after else {}
    cure = [max(fix.cures.get(f, 0.0), fix.resolves.get(f, followed.get(f, 0.0))) for f in space.fault_ids]
    lost = [1.0 - fix.rescues[f] if f in fix.rescues else 0.0 for f in space.fault_ids]
    if fix.id == "replace-drive":
        lost = [knowledge.lost_on_replace.get(f, 0.0) for f in space.fault_ids]
    stress = [knowledge.stress[fix.stress].get(f, 0.0) for f in space.fault_ids]
    minutes = fix.minutes + knowledge.rates["unattended_share"] * fix.unattended + (after.minutes if after else 0.0)
    price = (minutes + fix.cured_minutes) * knowledge.rates["bench_minute"] + fix.parts + fix.cured_parts + fix.burden
    price += after.parts + after.burden if after else 0.0
    return np.array(cure), np.maximum(lost, stress), price


def hidden_share(space: Space, visibility: Visibility) -> Floats:
    """Shape (n,): 1 - product over the faults present of (1 - share)."""
    shares = per_state(space, visibility.by, visibility.intermittent)
    return 1.0 - np.exp(space.in_state @ np.log(1.0 - np.array([share or 0.0 for share in shares]) + 1e-12))


def per_state(space: Space, rows: Mapping[str, T], intermittent: Mapping[str, T]) -> list[T | None]:
    """What a table says of every state of every fault, None where it says nothing; an intermittent one for which it has
    nothing of its own is like the fault that is there for good."""
    names = [space.fault_ids[state.fault] for state in space.states]
    return [intermittent[f] if s.intermittent and f in intermittent else rows.get(f) for f, s in zip(names, space.states, strict=True)]


def _base(space: Space, knowledge: Knowledge) -> Floats:
    count = space.member.sum(axis=1)
    base = np.where(count > 1, knowledge.shared_scale ** np.maximum(count - 1, 0), 1.0)
    base[0] = knowledge.sound_odds
    comes_and_goes = {f.id: f.intermittent for f in knowledge.faults}
    shares = [comes_and_goes[space.fault_ids[s.fault]] for s in space.states]
    base *= np.where(space.in_state > 0, [share if s.intermittent else 1.0 - share for s, share in zip(space.states, shares, strict=True)], 1.0).prod(axis=1)
    for coupling in knowledge.couplings:
        root = space.member[:, space.index(coupling.faults[0])]
        followers = space.member[:, [space.index(f) for f in coupling.faults[1:]]].sum(axis=1)
        base *= coupling.times ** (root * followers)
    return base


def _depends(check: Check, knowledge: Knowledge) -> frozenset[str]:
    if check.id == "story":  # what happened before does not change with what is done now
        return frozenset()
    hidden = knowledge.visibility[check.table.hidden_by] if check.table.hidden_by else None
    told = frozenset(check.table.rows) | frozenset(check.table.intermittent)
    return told | frozenset(hidden.by) | frozenset(hidden.intermittent) if hidden else told


# --- checks ----------------------------------------------------------------------------------------------------


def _look(space: Space, table: Likelihood, outcomes: tuple[str, ...], reach: Mapping[str, Floats], floor: float) -> Floats:
    def vector(row: Row) -> Floats:
        return np.array([row.get(o, 0.0) for o in outcomes])

    sound = vector(table.sound)
    told = per_state(space, table.rows, table.intermittent)
    rows = np.array([sound if row is None else vector(row) for row in told])
    has_row = np.array([row is not None for row in told])
    if table.combine == "earliest-gate":
        shares = _earliest_gate(space, sound, rows, has_row, outcomes.index(table.normal))
    elif table.combine == "any-abnormal":
        shares = _any_abnormal(space, sound, rows, has_row, outcomes.index(table.normal))
    else:
        shares = _blend(space, sound, rows, has_row)
    if table.hidden_by:
        seen = reach[table.hidden_by][:, None]
        shares = seen * shares + (1.0 - seen) * vector(table.hidden_row)
    shares = shares + floor
    aside = vector(table.aside)
    shares = shares * (aside == 0)
    shares = shares / shares.sum(axis=1, keepdims=True) * (1.0 - aside.sum()) + aside
    return np.ascontiguousarray(shares.T)


def _earliest_gate(space: Space, sound: Floats, rows: Floats, has_row: NDBool, passing: int) -> Floats:
    """Faults speak in boot order; the share `passing` of each goes on to the next, the rest of the way to `sound`."""
    shares = np.zeros((space.size, len(sound)))
    onward = np.ones(space.size)
    for position in range(space.state.shape[1]):
        state = space.state[:, position]
        speaks = (state >= 0) & has_row[np.maximum(state, 0)]
        row = rows[np.maximum(state, 0)] * speaks[:, None]
        passed = row[:, passing].copy()
        row[:, passing] = 0.0
        shares += onward[:, None] * row
        onward = np.where(speaks, onward * passed, onward)
    return shares + onward[:, None] * sound


def _any_abnormal(space: Space, sound: Floats, rows: Floats, has_row: NDBool, normal: int) -> Floats:
    """`normal` needs every fault to look normal; what is left is shared by the abnormal outcomes of the faults."""
    present = space.in_state * has_row
    any_present = present.sum(axis=1) > 0
    looks_normal = np.exp(present @ np.log(rows[:, normal] + 1e-12))
    abnormal = rows.copy()
    abnormal[:, normal] = 0.0
    mixed = present @ abnormal
    total = mixed.sum(axis=1, keepdims=True)
    shares = (1.0 - looks_normal)[:, None] * np.divide(mixed, total, out=np.zeros_like(mixed), where=total > 0)
    shares[:, normal] += looks_normal
    shares[~any_present] = sound
    return np.asarray(shares)


def _blend(space: Space, sound: Floats, rows: Floats, has_row: NDBool) -> Floats:
    present = space.in_state * has_row
    count = present.sum(axis=1, keepdims=True)
    return np.where(count > 0, (present @ rows) / np.maximum(count, 1), sound)


# --- fixes -----------------------------------------------------------------------------------------------------


def _act(space: Space, fix: Fix, passes: Floats, seen: Floats, floor: float) -> Transition:
    src = np.arange(space.size, dtype=np.intp)
    dst, chance = src.copy(), np.ones(space.size)
    sound_before = {f: space.fault_in[:, space.component_of[space.index(f)]] < 0 for f in fix.breaks}
    for fault, cured in fix.cures.items():
        there = space.member[dst, space.index(fault)] > 0
        src, dst, chance = _split(src, dst, chance, there, space.remove[dst, space.index(fault)], cured)
    for fault, broken in fix.breaks.items():
        other = space.add[dst, space.index(fault)]
        src, dst, chance = _split(src, dst, chance, sound_before[fault][src] & (other != dst), other, broken)
    by_src = np.argsort(src, kind="stable")
    src, dst, chance = src[by_src], dst[by_src], chance[by_src]
    outcome = _outcome_shares(space, src, dst, passes, seen) + floor
    outcome /= outcome.sum(axis=0)
    weight = np.zeros((len(fix.outcomes), len(src)))
    weight[:4] = outcome * chance * (1.0 - fix.could_not)
    touched = {f: space.index(f) for f in (*fix.cures, *fix.breaks)}
    leaves = src != dst
    stay = np.array([np.bincount(src[~leaves], row[~leaves], minlength=space.size) for row in weight])
    return Transition(
        src=src,
        dst=dst,
        weight=weight,
        first=np.searchsorted(src, np.arange(space.size + 1)),
        stay=stay,
        shown=np.array([np.bincount(src, row, minlength=space.size) for row in weight]),
        moved_src=src[leaves],
        moved_dst=dst[leaves],
        moved=np.ascontiguousarray(weight[:, leaves]),
        could_not=fix.could_not,
        touches=frozenset(touched),
        components=tuple(sorted({int(space.component_of[i]) for i in touched.values()})),
    )


def _split(src: Ints, dst: Ints, chance: Floats, where: NDBool, target: Ints, share: float) -> tuple[Ints, Ints, Floats]:
    stays = np.where(where, chance * (1.0 - share), chance)
    return (
        np.concatenate([src, src[where]]),
        np.concatenate([dst, target[where]]),
        np.concatenate([stays, chance[where] * share]),
    )


def _outcome_shares(space: Space, src: Ints, dst: Ints, passes: Floats, seen: Floats) -> Floats:
    """P(boots, now-seen, other-screen, no-change | src, dst), shape (4, e)."""
    changed = src != dst
    # a machine on which nothing was cured shows what it showed before: partial passes are mostly used up
    unchanged_boots = np.where(passes[src] > _BARELY_STOPS, passes[src], 0.1 * passes[src])
    boots = np.where(changed, passes[dst], unchanged_boots)
    rest = 1.0 - boots
    now_seen = rest * np.where(changed, np.clip(seen[dst] - seen[src], 0.0, 1.0), 0.0)
    stop = stop_gates(space, passes)
    moved = np.where(changed, np.where(stop[src] != stop[dst], np.where(stop[src] == 0, _ANOTHER_SCREEN_THEN, _ANOTHER_SCREEN), 0.12), 0.03)
    other = (rest - now_seen) * moved
    return np.array([boots, now_seen, other, rest - now_seen - other])


def stop_gates(space: Space, passes: Floats) -> Ints:
    """Shape (n,): the gate of the earliest fault that stops the boot, -1 for none."""
    alone = passes[space.add_state[0]]
    stop = np.full(space.size, -1, dtype=np.intp)
    for position in range(space.order.shape[1]):
        state = space.state[:, position]
        blocks = (state >= 0) & (alone[np.maximum(state, 0)] <= _BARELY_STOPS) & (stop < 0)
        stop[blocks] = space.gate_of[space.order[blocks, position]]
    return stop


NDBool = np.ndarray[tuple[int, ...], np.dtype[np.bool_]]
