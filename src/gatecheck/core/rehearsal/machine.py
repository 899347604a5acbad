"""A simulated machine: a hidden hypothesis that answers checks and fixes as a world's tables say.

The world may be another model than the one the policy believes in. The same check with nothing changed in between
gives the same answer; after a fix that may have changed it, it is drawn anew.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from gatecheck.core.belief.facts import Facts, FactValue, fact_test
from gatecheck.core.belief.model import AGAIN, STARTS, Model
from gatecheck.core.decide.costs import SAFE_DATA

Rng = np.random.Generator
Entry = dict[str, Any]
_THIS_YEAR = 2026
"""rehearsed machines come in in this year, whenever the rehearsal runs: the same seed gives the same machines"""


def draw_facts(world: Model, rng: Rng) -> dict[str, FactValue]:
    """Facts of one machine as they stand at intake."""
    facts: dict[str, FactValue] = {}
    for name, shares in world.knowledge.intake.shares.items():
        values = list(shares)
        facts[name] = values[int(rng.choice(len(values), p=np.array(list(shares.values())) / sum(shares.values())))]
    if facts["platform"] == "mac":
        facts["installed_os"] = "macos"
    return {
        **facts,
        "drive_year": _THIS_YEAR - int(rng.integers(0, world.knowledge.intake.oldest + 1)),
        "as_of_year": _THIS_YEAR,
        "mains": "connected",
    }


@dataclass
class RehearsedMachine:
    """One machine on the bench. `faults` is the hidden hypothesis; `lost` says whether data was lost by a move."""

    world: Model
    facts: Facts
    faults: int
    precious: bool
    rng: Rng
    answers: dict[str, str] = field(default_factory=dict)
    before: dict[str, int] = field(default_factory=dict)
    safe: bool = False
    lost: bool = False
    given_up: bool = False
    """the customer let the data go"""
    once: set[str] = field(default_factory=set)
    """fixes that were made in vain"""
    slips: int = 0
    """readings that were written wrong"""
    starts: bool = False
    """it was seen to start, and nothing that changed it was done since"""
    lasting: set[str] = field(default_factory=set)
    """fixes that cannot be done on this machine at all"""
    running: bool = False
    """it was started and not switched off since: who listens now starts nothing"""

    @classmethod
    def draw(cls, world: Model, facts: Facts, rng: Rng) -> RehearsedMachine:
        prior = world.prior(facts)
        unknown = facts.get("data") == "unknown" and rng.random() < world.knowledge.intake.unknown_is_precious
        precious = facts.get("data") == "irreplaceable" or unknown
        return cls(world, facts, int(rng.choice(len(prior), p=prior)), bool(precious), rng, safe=not precious)

    @property
    def data(self) -> str:
        """What the customer says of the data when asked."""
        kept = self.facts.get("data")
        return "irreplaceable" if self.precious else str(kept) if kept in SAFE_DATA else "none"

    def fault_names(self) -> list[str]:
        return [self.world.space.fault_ids[i] for i in self.world.space.order[self.faults] if i >= 0]

    def make(self, move: str) -> Entry:
        """Make a move; returns the entry a technician would write."""
        if not (move == "sound" and self.running):
            self._stress(move)
        outcome = self._act(move) if move in self.world.deeds.acts else self._look(move)
        if move == "screen" or move in self.world.deeds.acts:
            self.running = True
        elif move == "power-down" or self.world.knowledge.move(move).visit == "open":
            self.running = False
        entry = {"move": move, "outcome": outcome}
        shown = self.answers["screen"] if move == "screen" else outcome
        if shown == "boots":
            self.starts = True
        elif move == "screen" or outcome in ("no-change", "other-screen", "now-seen"):
            self.starts = False
        if move == "copy-data" and outcome == "complete":
            self.safe = True
        if move == "refer-lab" and outcome == "sent":
            self._rescue()
        return entry

    def put_back(self, fix: str) -> Entry:
        """Undo a trial: the settings are as they were before it."""
        space = self.world.space
        for component in self.world.deeds.acts[fix].components:
            now, before = np.array([self.faults]), np.array([self.before.pop(fix, self.faults)])
            self.faults = int(space.with_component_of(now, before, component)[0])
        for check in self.world.deeds.affects[fix]:
            self.answers.pop(check, None)
        return {"put_back": fix}

    def _look(self, move: str) -> str:
        outcomes: tuple[str, ...] = self.world.knowledge.move(move).outcomes
        if move not in self.answers:
            again = move == "screen" and self.starts
            shares = (self.world.sight.still_starts if again else self.world.sight.looks[move])[:, self.faults]
            self.answers[move] = outcomes[int(self.rng.choice(len(outcomes), p=shares / shares.sum()))]
        return self._told(move, outcomes)

    def _told(self, move: str, outcomes: tuple[str, ...]) -> str:
        """What the technician writes of it: now and then something else, misread or mistyped, each time anew."""
        misread = self.world.knowledge.misread
        share = misread.get(move, misread[""]) if move in self.world.knowledge.checks else 0.0
        if share and self.rng.random() < share:
            others = [o for o in outcomes if o != self.answers[move]]
            self.slips += 1
            return others[int(self.rng.integers(len(others)))]
        return self.answers[move]

    def _act(self, move: str) -> str:
        act = self.world.act(move, {move: how} if (how := self._how(move)) else {})
        if move in self.lasting:
            return "could-not"
        if self.rng.random() < act.could_not:
            if self.rng.random() < self.world.knowledge.intake.lasting:
                self.lasting.add(move)
            return "could-not"
        edges = slice(int(act.first[self.faults]), int(act.first[self.faults + 1]))
        shares = act.weight[:4, edges]
        drawn = int(self.rng.choice(shares.size, p=(shares / shares.sum()).ravel()))
        outcome, edge = divmod(drawn, shares.shape[1])
        self.before[move] = self.faults
        if self.world.may_help_again(move) and int(act.dst[edges][edge]) == self.faults:
            self.once.add(move)  # whatever it was that did not help is mostly still there
        self.faults = int(act.dst[edges][edge])
        done: str = self.world.knowledge.fixes[move].outcomes[outcome]
        for check in self.world.invalidated_checks(move, done):
            self.answers.pop(check, None)
        return done

    def _how(self, move: str) -> tuple[str, ...]:
        """Cases of the fix that hold, by what is really so."""
        cases = self.world.knowledge.fixes[move].cases
        held = [
            c.id
            for c in cases
            if all(self.answers.get(m) in outcomes for m, outcomes in c.readings.items())
            and fact_test(c.facts, self.facts)
        ]
        return (*held, *((AGAIN,) if move in self.once else ()), *((STARTS,) if self.starts else ()))

    def _stress(self, move: str) -> None:
        """A move may cost what is on a failing drive; one that destroys costs what has no copy."""
        spec = self.world.knowledge.move(move)
        shares = self.world.knowledge.stress[spec.stress]
        # a copy loses nothing that the drive could still give, and what the customer gave up is not lost by a move
        at_stake = self.precious and not (self.safe or self.lost or self.given_up or move == "copy-data")
        for fault in self.fault_names():
            if at_stake and self.rng.random() < shares.get(fault, 0.0):
                self.lost = True
        if at_stake and getattr(spec, "destroys", False):
            self.lost = True

    def _rescue(self) -> None:
        rescues = self.world.knowledge.fixes["refer-lab"].rescues
        if all(self.rng.random() < rescues.get(fault, 1.0) for fault in self.fault_names()):
            self.safe = True
