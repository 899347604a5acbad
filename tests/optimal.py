"""Small repair problems cut from the shipped knowledge, their optimal policy by exhaustive search, and what the
planner's own choices cost on them. The search is the oracle that the planner is measured against; it shares nothing
with it but the tables of a move's likelihood and a fix's transition.

The problem: pay for every look (once, until a fix may have changed what it shows) and every fix (once); stop a machine
that starts by handing it back, which costs a comeback and the mending of whatever is left in it; stop any other machine
by giving it up at a fixed price.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace

from gatecheck.adapters.shipped_tables import shipped_model
from gatecheck.core.belief.compile import compile_model
from gatecheck.core.belief.model import Model
from gatecheck.core.belief.space import Floats
from gatecheck.core.decide.costs import economy
from gatecheck.core.decide.plan import make_plan
from gatecheck.core.knowledge.tables import Check, Fix, Knowledge, Likelihood
from gatecheck.core.tape.fold import fold
from gatecheck.core.tape.parse import parse_entries, parse_facts

FACTS = {"platform": "pc", "form": "laptop", "data": "none"}
_NEVER = 0.005
"""outcomes rarer than this are left out of the problem, for both policies"""


@dataclass(frozen=True, slots=True)
class Problem:
    """A sub-model and the screen the machine was brought in with."""

    model: Model
    screen: str


def _jitter(rng: np.random.Generator, row: dict[str, float]) -> dict[str, float]:
    names = list(row)
    drawn = rng.dirichlet(np.array([row[n] for n in names]) * 40 + 0.02)
    return dict(zip(names, drawn.tolist(), strict=True))


_MOST_OUTCOMES = 3


def _only(row: Mapping[str, float], outcomes: Sequence[str]) -> dict[str, float]:
    kept = {o: row.get(o, 0.0) + 0.001 for o in outcomes}
    total = sum(kept.values())
    return {o: p / total for o, p in kept.items()}


def _small_check(check: Check, faults: set[str], rng: np.random.Generator, most: int = _MOST_OUTCOMES) -> Check:
    """The check with its likeliest outcomes only, the normal one among them, and every row drawn around the shipped
    one."""
    table = check.table
    told = [dict(r) for f, r in table.rows.items() if f in faults]
    mass = {o: sum(r.get(o, 0.0) for r in told) for o in check.outcomes if o not in table.aside}
    ranked = sorted(mass, key=lambda o: (o != table.normal, -mass[o]))[:most]
    outcomes = tuple(o for o in check.outcomes if o in ranked)
    rows = {f: _jitter(rng, _only(r, outcomes)) for f, r in table.rows.items() if f in faults}
    hidden = _only(table.hidden_row, outcomes) if table.hidden_by else {}
    small = Likelihood(
        table.combine, table.normal, _jitter(rng, _only(table.sound, outcomes)), rows, {}, table.hidden_by, hidden, {}
    )
    check = replace(check, outcomes=outcomes)
    minutes = float(check.minutes * rng.uniform(0.5, 2.5))
    return replace(
        check, table=small, minutes=minutes, needs=(), stress="none", only_when={}, not_when={}, says_nothing_when={}
    )


def _small_fix(fix: Fix, faults: set[str], rng: np.random.Generator) -> Fix:
    cures = {f: float(np.clip(c * rng.uniform(0.85, 1.1), 0.02, 0.99)) for f, c in fix.cures.items() if f in faults}
    return replace(
        fix,
        cures=cures,
        minutes=float(fix.minutes * rng.uniform(0.5, 2.0)),
        needs=(),
        look_first=(),
        breaks={},
        trial=False,
        verdict=False,
        writes=False,
        destroys=False,
        stress="none",
        could_not=0.0,
        only_when={},
        not_when={},
    )


def small_problem(knowledge: Knowledge, seed: int, faults: int = 4, checks: int = 2, fixes: int = 3) -> Problem:
    """A random sub-model: some faults, looks that tell at least one of them, fixes that cure at least one."""
    rng = np.random.default_rng(seed)
    chosen = [knowledge.faults[i] for i in sorted(rng.choice(len(knowledge.faults), faults, replace=False))]
    names = {f.id for f in chosen}
    telling = [c for c in knowledge.checks.values() if c.id not in ("screen", "story") and names & set(c.table.rows)]
    curing = [f for f in knowledge.fixes.values() if f.table is None and any(f.cures.get(n, 0.0) >= 0.3 for n in names)]
    if not telling or not curing:
        return small_problem(knowledge, seed + 100_000, faults, checks, fixes)
    looks = [telling[i] for i in rng.choice(len(telling), min(checks, len(telling)), replace=False)]
    acts = [curing[i] for i in rng.choice(len(curing), min(fixes, len(curing)), replace=False)]
    screen = _small_check(knowledge.checks["screen"], names, rng, most=4)
    small = replace(
        knowledge,
        faults=tuple(replace(f, odds=float(f.odds * rng.lognormal(0.0, 0.7)), intermittent=0.0) for f in chosen),
        contexts=(),
        couplings=tuple(
            replace(c, faults=tuple(f for f in c.faults if f in names))
            for c in knowledge.couplings
            if c.faults[0] in names and names & set(c.faults[1:])
        ),
        checks={"screen": screen, **{c.id: _small_check(c, names, rng) for c in looks}},
        fixes={f.id: replace(_small_fix(f, names, rng), same_cause=1.0) for f in acts}
        | {"copy-data": knowledge.fixes["copy-data"]},
        interlocks={},
        sound_odds=0.02,
        plan={**knowledge.plan, "software_stop": 2.0},
    )
    # a sound machine starts: what it was brought in with is not explained by luck
    sure = {o: 0.999 if o == "boots" else 0.001 / (len(screen.outcomes) - 1) for o in screen.outcomes}
    small.checks["screen"] = replace(screen, table=replace(screen.table, sound=sure))
    model = compile_model(small)
    chance = model.sight.looks["screen"] @ model.prior(FACTS)
    outcomes = small.checks["screen"].outcomes
    stops = np.array([0.0 if o == "boots" else p for o, p in zip(outcomes, chance, strict=True)])
    return Problem(model, outcomes[int(rng.choice(len(outcomes), p=stops / stops.sum()))])


MOST_NODES = 15_000


class TooLargeError(Exception):
    """The problem is too large to be searched to its end; another one is drawn."""


class _At(NamedTuple):
    """Where the search stands besides the belief."""

    current: frozenset[str]
    tried: frozenset[str]
    visit: str | None
    is_open: bool
    booted: bool


class Search:
    """Expected cost of the best policy, or of the planner's, by walking the whole tree of outcomes."""

    def __init__(self, problem: Problem) -> None:
        self.model = model = problem.model
        self.knowledge = model.knowledge
        self.screen = problem.screen
        self.first = {"move": "screen", "outcome": problem.screen}
        state = self._fold(())
        costs = economy(model, state, ())
        self.left_in, self.give_up = costs.left_in, self.knowledge.rates["board_unknown"]
        self.checks = list(self.knowledge.checks.values())
        self.fixes = [self.knowledge.fixes[f] for f in model.deeds.acts]
        self.start = (state.belief, _At(frozenset({"screen"}), frozenset(), None, False, False))
        self.nodes = 0
        self._known: dict[tuple[bytes, _At], tuple[float, bool]] = {}
        self._floors: dict[frozenset[str], Floats] = {}

    def _fold(self, made: tuple[tuple[str, str], ...]):  # type: ignore[no-untyped-def]
        tape = [self.first, *({"move": m, "outcome": o} for m, o in made)]
        return fold(self.model, parse_facts(FACTS, self.knowledge), parse_entries(tape, self.knowledge))

    # --- what moves cost and do --------------------------------------------------------------------------------

    def stopping(self, belief: Floats, at: _At) -> float:
        return float(belief @ self.model.space.member @ self.left_in) if at.booted else self.give_up

    def _entry(self, move: Check | Fix, at: _At) -> float:
        if move.visit is None or move.visit == at.visit or (move.visit == "open" and at.is_open):
            return 0.0
        return self.knowledge.visits[move.visit].minutes

    def cost(self, move: Check | Fix, belief: Floats, at: _At) -> float:
        rates = self.knowledge.rates
        minutes = move.minutes + self._entry(move, at) + rates["unattended_share"] * move.unattended
        if isinstance(move, Check):
            return minutes * rates["bench_minute"]
        marginals = belief @ self.model.space.member
        cured = min(1.0, sum(c * marginals[self.model.space.index(f)] for f, c in move.cures.items()))
        return float(
            minutes * rates["bench_minute"]
            + move.parts
            + move.burden
            + (move.cured_minutes * rates["bench_minute"] + move.cured_parts) * cured
        )

    def after(self, move: Check | Fix, belief: Floats, at: _At) -> list[tuple[str, float, Floats, _At]]:
        """(outcome, probability, belief, place) for every outcome that can happen."""
        found = []
        for index, outcome in enumerate(move.outcomes):
            if isinstance(move, Check):
                post = self.model.sight.looks[move.id][index] * belief
            elif outcome == "could-not":
                continue
            else:
                post = self.model.deeds.acts[move.id].apply(belief, index)
            p = float(post.sum())
            if p > _NEVER:
                found.append((outcome, p, post / p, self._moved(move, outcome, at)))
        total = sum(p for _, p, _, _ in found)
        return [(outcome, p / total, post, there) for outcome, p, post, there in found]

    def _moved(self, move: Check | Fix, outcome: str, at: _At) -> _At:
        is_open = at.is_open or move.visit == "open"
        entered = move.enters or move.visit
        visit = at.visit
        if entered == "open":
            visit = None
        elif entered and outcome not in ("fails", "not-reached", "locked", "could-not"):
            visit = entered
        if move.id == "screen":
            return at._replace(current=at.current | {"screen"}, visit=None, booted=outcome == "boots")
        if isinstance(move, Check):
            return at._replace(current=at.current | {move.id}, visit=visit, is_open=is_open)
        booted = outcome == "boots"
        gone = self.model.invalidated_checks(move.id, outcome)
        tried = at.tried - ({"reseat", "swap-cable"} if move.id in ("replace-drive", "reinstall") else set())
        return _At(at.current - gone, tried | {move.id}, None if booted else visit, is_open, booted)

    # --- the best policy ---------------------------------------------------------------------------------------

    def least(self, belief: Floats, at: _At) -> float:
        """What nobody can stay below, even told the faults: the cheapest fix of the dearest one, or stopping."""
        if at.tried not in self._floors:
            member, stop = self.model.space.member, min(self.give_up, self.knowledge.rates["comeback"])
            per_fault = np.full(member.shape[1], stop)
            for fix in self.fixes:
                if fix.id not in at.tried:
                    price = (
                        fix.minutes + self.knowledge.rates["unattended_share"] * fix.unattended + fix.parts + fix.burden
                    )
                    for fault in fix.cures:
                        place = self.model.space.index(fault)
                        per_fault[place] = min(per_fault[place], price)
            self._floors[at.tried] = (member * per_fault).max(axis=1)
        return float(belief @ self._floors[at.tried])

    def best(self, belief: Floats, at: _At, limit: float = np.inf) -> float:
        """Expected cost from here on under the best policy; where that is `limit` or more, any number from `limit`
        on."""
        key = (np.round(belief, 6).tobytes(), at)
        value, is_exact = self._known.get(key, (self.least(belief, at), False))
        if is_exact or value >= limit:
            return value
        self.nodes += 1
        if self.nodes > MOST_NODES:
            raise TooLargeError(f"more than {MOST_NODES} places to stand")
        stop = self.stopping(belief, at)
        cutoff = min(stop, limit)
        ways = []
        for move in (
            *(c for c in self.checks if c.id not in at.current),
            *(f for f in self.fixes if f.id not in at.tried),
        ):
            price = self.cost(move, belief, at)
            if price >= cutoff:
                continue
            outcomes = self.after(move, belief, at)
            ways.append((price + sum(p * self.least(post, there) for _, p, post, there in outcomes), outcomes))
        for total, outcomes in sorted(ways, key=lambda w: w[0]):
            for _, p, post, there in sorted(outcomes, key=lambda o: -o[1]):
                if total >= cutoff:
                    break
                floor = self.least(post, there)
                total += p * (self.best(post, there, floor + (cutoff - total) / p) - floor)
            cutoff = min(cutoff, total)
        self._known[key] = (cutoff, cutoff < limit or stop <= limit)
        return cutoff

    # --- the planner's -----------------------------------------------------------------------------------------

    def planned(self, belief: Floats, at: _At, made: tuple[tuple[str, str], ...] = ()) -> float:
        """Expected cost from here on when every move is the planner's."""
        plan = make_plan(self.model, self._fold(made), [])
        first = plan.ranked[0] if plan.ranked else None
        stop = plan.releasing if at.booted else plan.waiting - self.give_up
        if first is None or stop >= first.net:
            return self.stopping(belief, at)
        move = self.knowledge.move(first.move)
        total = self.cost(move, belief, at)
        for outcome, p, post, there in self.after(move, belief, at):
            total += p * (
                self.planned(post, there, (*made, (move.id, outcome))) if p > 1e-4 else self.stopping(post, there)
            )
        return total


SIZES = ((4, 1, 3), (4, 2, 2), (6, 1, 2), (5, 2, 2))
"""faults, checks beside the screen, and fixes of the problems in turn"""


def ratio_of(seed: int) -> float | None:
    """Planner's expected cost over the optimal one on the problem of that seed; None where it is too large to
    search."""
    faults, checks, fixes = SIZES[seed % len(SIZES)]
    search = Search(small_problem(shipped_model().knowledge, seed, faults, checks, fixes))
    try:
        best = search.best(*search.start)
    except TooLargeError:
        return None
    return search.planned(*search.start) / best
