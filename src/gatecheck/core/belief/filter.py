"""The filter: the belief over hypotheses as moves and their outcomes are read in order.

A check multiplies the belief; a fix moves it from hypothesis to hypothesis and then multiplies it by what its outcome
says; a trial put back restores the components it touched exactly.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from gatecheck.core.belief.facts import Facts, fact_test
from gatecheck.core.belief.model import STARTS, Model
from gatecheck.core.belief.space import Floats, Ints
from gatecheck.core.belief.transitions import Transition


def summed(places: Ints, weights: Floats, size: int) -> Floats:
    return np.bincount(places, weights, minlength=size).astype(np.float64, copy=False)


_RESCALE_EVERY = 16
"""every factor is at least a floor of about 1e-4, so that 16 of them stay far above the smallest float"""


class Particles:
    """The belief, kept over (hypothesis now, hypothesis before each trial that will be put back)."""

    def __init__(self, model: Model, prior: Floats) -> None:
        self.model = model
        self.now: Ints = np.arange(len(prior), dtype=np.intp)
        self.weight = prior
        self.stash: dict[int, Ints] = {}
        self.moves = 0
        self.into: Floats | None = None
        """where the next weights may be written, shape (n,), those of now or not: who keeps them gives another place
        each time"""

    @property
    def belief(self) -> Floats:
        if not self.stash:
            return self.weight
        return summed(self.now, self.weight, self.model.space.size)

    def apply(self, transition: Transition, outcome: int) -> None:
        """Move along the fix's edges for a plain outcome; only while no trial has to be remembered."""
        self._set(transition.apply(self.weight, outcome, self.into))

    def act(self, transition: Transition, outcome: Floats) -> None:
        """Move along the fix's edges; `outcome` is the weight of each edge, shape (e,)."""
        if not self.stash:
            moved = self.weight[transition.src] * outcome
            self._set(summed(transition.dst, moved, self.model.space.size))
            return
        first, last = transition.first[self.now], transition.first[self.now + 1]
        count = last - first
        owner = np.repeat(np.arange(len(self.now)), count)
        edge = np.arange(count.sum()) - np.repeat(np.cumsum(count) - count, count) + np.repeat(first, count)
        weight = self.weight[owner] * outcome[edge]
        keep = weight > weight.sum() * 1e-15
        self.now = transition.dst[edge][keep]
        self.stash = {trial: before[owner][keep] for trial, before in self.stash.items()}
        self._set(weight[keep])

    def remember(self, trial: int) -> None:
        self.stash[trial] = self.now.copy()

    def put_back(self, trial: int, transition: Transition) -> None:
        before = self.stash.pop(trial)
        for component in transition.components:
            self.now = self.model.space.with_component_of(self.now, before, component)
        if not self.stash:
            self.weight = summed(self.now, self.weight, self.model.space.size)
            self.now = np.arange(self.model.space.size, dtype=np.intp)

    def weigh(
        self, facts: Facts, move: str, weights: Mapping[str, float], how: tuple[str, ...] = (), docked: bool = False
    ) -> None:
        """Read a move that showed one of its outcomes, or weights over them that sum to one. With these facts it may
        say nothing. `how`: the cases of a fix that hold; `docked`: a look at a drive on a dock."""
        model = self.model
        is_soft = len(weights) > 1
        first = next(iter(weights))
        if move in model.sight.looks:
            check = model.knowledge.checks.get(move)
            if check is not None and check.says_nothing_when and fact_test(check.says_nothing_when, facts):
                return
            likelihood = (
                model.sight.still_starts[model.knowledge.checks[move].outcomes.index(first)]
                if move == "screen" and STARTS in how and not is_soft
                else np.sum([w * model.look(move, o, docked) for o, w in weights.items()], axis=0)
                if is_soft
                else model.look(move, first, docked)
            )
            self._set(
                self.weight * likelihood[self.now]
                if self.stash
                else np.multiply(self.weight, likelihood, out=self.into)
            )
            return
        transition, outcomes = model.act(move, {move: how} if how else {}), model.knowledge.fixes[move].outcomes
        not_done = weights.get("could-not", 0.0)
        if not_done == 1.0:  # could not be done: nothing moves, nothing is learned
            return
        if not self.stash and not is_soft:
            self.apply(transition, outcomes.index(first))
            return
        done = [w * transition.weight[outcomes.index(o)] for o, w in weights.items() if o != "could-not"]
        edges = done[0] if len(done) == 1 else np.sum(done, axis=0)
        if not_done:
            edges = edges + not_done * transition.could_not * _share_unmoved(transition)
        self.act(transition, edges)

    def _set(self, weight: Floats) -> None:
        """Weights are kept up to a factor; they are brought back to one before they run out of digits."""
        self.moves += 1
        self.weight = weight
        if self.moves % _RESCALE_EVERY == 0:
            weight /= weight.sum()


def _share_unmoved(transition: Transition) -> Floats:
    """Shape (e,): spreads a weight of one per hypothesis over its edges that stay."""
    stays = (transition.src == transition.dst).astype(np.float64)
    per_source = np.bincount(transition.src, stays)
    return np.asarray(stays / np.maximum(per_source[transition.src], 1.0))
