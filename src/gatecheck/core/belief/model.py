"""Knowledge compiled into matrices over the hypothesis space, by named parts."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping
from typing import Any, TypeVar

import numpy as np
from msgspec import Struct, field

from gatecheck.core.belief.facts import Facts, all_odds, fact_test
from gatecheck.core.belief.space import Flags, Floats, Ints, Light, Space
from gatecheck.core.belief.transitions import Transition
from gatecheck.core.knowledge.tables import Knowledge

T = TypeVar("T")
How = Mapping[str, tuple[str, ...]]
AGAIN, STARTS = "again", "starts"
"""beside a fix's own cases: it was tried in vain, and it is made on a machine that starts"""
_MOST_KEPT = 2000
_MOST_PRIORS = 256
_SHOWN_BY_THE_FIX = frozenset({"screen", "reduced-start"})


class Observation(Struct, frozen=True):
    """What is seen: every check, and every fix with outcomes of its own, compiled over n hypotheses."""

    looks: Mapping[str, Floats]
    """check (or fix with outcomes of its own) -> P(outcome | h), shape (outcomes, n)"""
    still_starts: Floats
    """P(what the screen shows | h) of a machine that was seen to start just before, shape (outcomes, n): what is there
    for good goes on letting it start, what comes and goes does not"""
    docked: Mapping[str, Floats]
    """the same for checks whose drive lies on another machine's dock: cable, port and settings of its own machine hide
    nothing there"""
    reach: Mapping[str, Floats]
    """visibility table -> probability that the thing can be reached, shape (n,)"""
    depends: Mapping[str, frozenset[str]]
    """check -> faults that change what it shows"""
    rows: Light
    """all checks' outcomes side by side, shape (n, r): a hypothesis is a row"""
    columns: Mapping[str, Ints]
    """check -> its columns in `rows`"""
    boots: Flags
    """shape (r,): the outcome is a start"""
    keeps_booted: Flags
    """shape (r,): the outcome is of a look at a machine that starts, which goes on starting"""


class Final(Struct, frozen=True):
    """Where a fix ends: per fault, shape (f,), the chance that it is gone and the share of the data lost; and the
    price. What follows a fix in any case (a lab is followed by a new drive) counts in."""

    gone: Floats
    lost: Floats
    price: float


class TransitionTable(Struct, frozen=True):
    """What is done: every fix compiled. Its x columns are the fixes that cure or resolve something (`fix_ids`)."""

    acts: Mapping[str, Transition]
    affects: Mapping[str, frozenset[str]]
    """fix -> checks that may show something else after it"""
    fix_ids: tuple[str, ...]
    cure: Floats
    """shape (f, x): probability that the fix (or whom it sends the machine to) removes the fault"""
    may_help: Floats
    """shape (n, x): 1.0 where the fix cures or resolves something that is there"""
    finals: Mapping[str, Final]
    stress: Mapping[str, Floats]
    """stress class -> share of the data's worth at stake per fault, shape (f,)"""


class Start(Struct, frozen=True):
    """How far a machine gets by itself."""

    passes: Floats
    """shape (n,): probability that the machine starts"""
    stop_gate: Ints
    """shape (n,): the gate of the earliest fault that stops the boot, -1 for none"""


class Model(Struct, frozen=True):
    """The tables over the hypothesis space: what is seen, what is done, how far it starts, and how likely it is
    beforehand."""

    knowledge: Knowledge
    space: Space
    start: Start
    sight: Observation
    deeds: TransitionTable
    base: Floats
    """shape (n,): couplings, scale and the sound machine's odds; contexts are still to be multiplied"""
    vary: Callable[[str, tuple[str, ...]], tuple[Transition | None, Final]]
    """a fix as it is in some cases of its own (compile.variant_of)"""
    one_member: Light
    """shape (n, 1 + f): a one and `space.member`"""
    _priors: dict[tuple[float, ...], Floats] = field(default_factory=dict)
    _having: dict[tuple[str, ...], Floats] = field(default_factory=dict)
    _kept: dict[Hashable, Any] = field(default_factory=dict)
    _looks: dict[tuple[str, str, bool], Floats] = field(default_factory=dict)

    def prior(self, facts: Facts) -> Floats:
        """P(h) for a machine with these facts, shape (n,), sums to one."""
        odds = all_odds(self.knowledge, facts)
        log_odds = np.log([max(odds[fault], 1e-9) for fault in self.space.fault_ids])
        key = tuple(log_odds.tolist())
        if key not in self._priors:
            prior = self.base * np.exp(self.space.member @ log_odds)
            if len(self._priors) > _MOST_PRIORS:
                self._priors.clear()
            self._priors[key] = prior / prior.sum()
        return self._priors[key]

    def fault_mask(self, *faults: str) -> Floats:
        """Shape (n,): 1.0 where any of the faults is in the hypothesis."""
        if faults not in self._having:
            self._having[faults] = self.space.any_of(faults)
        return self._having[faults]

    def applicable(self, facts: Facts) -> frozenset[str]:
        """Moves that the machine's facts do not rule out."""
        moves = (*self.knowledge.checks.values(), *self.knowledge.fixes.values())
        asked = self.keep(
            "asked", lambda: sorted({f for m in moves for test in (m.only_when, m.not_when) for f in test})
        )

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

    def act(self, fix: str, how: How) -> Transition:
        """What the fix does now; `how`: fix -> the cases of its own that hold, and AGAIN where it was tried in vain."""
        own = self._variant(fix, how)[0] if fix in how else None
        return own or self.deeds.acts[fix]

    def final(self, fix: str, how: How) -> Final:
        """Where the fix ends now; `how` as for `act`."""
        return self._variant(fix, how)[1] if fix in how else self.deeds.finals[fix]

    def _variant(self, fix: str, how: How) -> tuple[Transition | None, Final]:
        return self.keep(("variant", fix, how[fix]), lambda: self.vary(fix, how[fix]))

    def may_help_again(self, fix: str) -> bool:
        """A second try can come to something, by its table."""
        return fix in self.deeds.acts and self.knowledge.fixes[fix].same_cause < 1.0

    def behind(self, fix: str, how: How) -> Light:
        """What a fix leaves (`how` as for `act`), as a linear map: shape (n, 4 * (1 + f)), per outcome but could-not
        its probability and, times that, the probability of every fault afterwards."""

        def make() -> Light:
            act = self.act(fix, how)
            maps = act.stay[:4].T[:, :, None].astype(np.float32) * self.one_member[:, None, :]
            if len(act.moved_src):
                by_src = np.argsort(act.moved_src, kind="stable")
                src, dst = act.moved_src[by_src], act.moved_dst[by_src]
                first = np.flatnonzero(np.diff(src, prepend=-1))
                gone = act.moved[:4, by_src].T[:, :, None].astype(np.float32) * self.one_member[dst][:, None, :]
                maps[src[first]] += np.add.reduceat(gone, first)
            return np.asarray(maps.reshape(len(maps), -1))

        return self.keep(("behind", fix, how.get(fix)), make)

    def invalidated_checks(self, fix: str, outcome: str | None) -> frozenset[str]:
        """Checks that may show something else after the fix; one that changed nothing left the screen as it was."""
        affected = self.deeds.affects.get(fix, frozenset())
        return affected - _SHOWN_BY_THE_FIX if outcome == "no-change" else affected

    def look(self, check: str, outcome: str, docked: bool = False) -> Floats:
        """P(outcome | h), shape (n,)."""
        row = self._looks.get((check, outcome, docked))
        if row is None:
            table = self.sight.docked if docked else self.sight.looks
            row = self._looks[check, outcome, docked] = table[check][self.knowledge.move(check).outcomes.index(outcome)]
        return row
