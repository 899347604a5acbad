"""The hypothesis space: every set of at most three faults in different components, and the empty set.

A fault that may come and go stands in it twice, there for good and intermittent: the same fault to whoever asks what is
wrong, but another one to whoever looks. Index 0 is the sound machine. All tables are NumPy arrays over that index, so
that transitions are look-ups.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations
from typing import TYPE_CHECKING, TypeAlias

import numpy as np
from msgspec import Struct

from gatecheck.core.knowledge.tables import Fault

if TYPE_CHECKING:  # a command that starts cold has no use for it
    from numpy.typing import NDArray

MOST_FAULTS = 3
Floats: TypeAlias = "NDArray[np.float64]"
Light: TypeAlias = "NDArray[np.float32]"
"""seven digits are more than any odds here have, and they take half the time: for what is weighed ahead, never for the
belief itself"""
Ints: TypeAlias = "NDArray[np.intp]"
Flags: TypeAlias = "NDArray[np.bool_]"


class State(Struct, frozen=True):
    """A way in which a fault can be there: `fault` is its column."""

    fault: int
    intermittent: bool


class Space(Struct, frozen=True):
    """n hypotheses over f faults in c components; faults stand in the order of the boot line, and so do their s
    states."""

    fault_ids: tuple[str, ...]
    components: tuple[str, ...]
    states: tuple[State, ...]
    gate_of: Ints
    """shape (f,), index of the fault's gate"""
    component_of: Ints
    """shape (f,)"""
    order: Ints
    """shape (n, 3): the faults of a hypothesis in boot order, -1 where there is none"""
    state: Ints
    """shape (n, 3): their states, in the same places"""
    member: Floats
    """shape (n, f), 1.0 where the fault is in the hypothesis"""
    in_state: Floats
    """shape (n, s), 1.0 where a fault is there in that state"""
    remove: Ints
    """shape (n, f): the hypothesis without that fault (itself where it is not in it)"""
    add: Ints
    """shape (n, f): with that fault for good (itself where its component is not sound or three faults are there)"""
    add_state: Ints
    """shape (n, s): the same in every state"""
    fault_in: Ints
    """shape (n, c): the fault in that component, -1 for none"""
    state_in: Ints
    """shape (n, c): its state"""

    @property
    def size(self) -> int:
        return len(self.order)

    def index(self, fault: str) -> int:
        return self.fault_ids.index(fault)

    def any_of(self, faults: Sequence[str]) -> Floats:
        """Shape (n,): 1.0 where any of the faults is in the hypothesis; a small space need not have them all."""
        columns = [self.index(f) for f in faults if f in self.fault_ids]
        return np.asarray(self.member[:, columns].max(axis=1)) if columns else np.zeros(self.size)

    def by_faults(self, belief: Floats) -> dict[tuple[str, ...], float]:
        """Probability of every set of faults, in boot order, whether they come and go or not; belief: shape (n,)."""
        odds: dict[tuple[str, ...], float] = {}
        for places, p in zip(self.order.tolist(), belief.tolist(), strict=True):
            faults = tuple(self.fault_ids[i] for i in places if i >= 0)
            odds[faults] = odds.get(faults, 0.0) + p
        return odds

    def with_component_of(self, now: Ints, before: Ints, component: int) -> Ints:
        """Hypotheses `now` with that component's state taken from `before`; both shape (k,)."""
        current = self.fault_in[now, component]
        stripped = np.where(current >= 0, self.remove[now, np.maximum(current, 0)], now)
        wanted = self.state_in[before, component]
        return np.where(wanted >= 0, self.add_state[stripped, np.maximum(wanted, 0)], stripped)


def build_space(faults: Sequence[Fault], gates: Sequence[str]) -> Space:
    """All hypotheses for these faults; gates in boot order."""
    ranked = sorted(range(len(faults)), key=lambda i: (gates.index(faults[i].gate), i))
    ordered = [faults[i] for i in ranked]
    components = tuple(dict.fromkeys(f.component for f in ordered))
    component_of = [components.index(f.component) for f in ordered]
    states = tuple(State(i, now) for i, f in enumerate(ordered) for now in (False, True)[: 2 if f.intermittent else 1])
    parts = [component_of[s.fault] for s in states]
    sets: list[tuple[int, ...]] = [()]
    for size in range(1, MOST_FAULTS + 1):
        sets += [combo for combo in combinations(range(len(states)), size) if len({parts[i] for i in combo}) == size]
    where = {combo: index for index, combo in enumerate(sets)}
    n = len(sets)
    order, state = np.full((2, n, MOST_FAULTS), -1, dtype=np.intp)
    in_state = np.zeros((n, len(states)))
    itself = np.arange(n, dtype=np.intp)
    remove, add_state = np.tile(itself[:, None], (1, len(ordered))), np.tile(itself[:, None], (1, len(states)))
    fault_in, state_in = np.full((2, n, len(components)), -1, dtype=np.intp)
    for index, combo in enumerate(sets):
        order[index, : len(combo)] = [states[s].fault for s in combo]
        state[index, : len(combo)] = combo
        in_state[index, list(combo)] = 1.0
        for position, s in enumerate(combo):
            smaller = where[combo[:position] + combo[position + 1 :]]
            remove[index, states[s].fault] = smaller
            add_state[smaller, s] = index
            fault_in[index, parts[s]], state_in[index, parts[s]] = states[s].fault, s
    fault_of = np.array([[s.fault == f for f in range(len(ordered))] for s in states], dtype=np.float64)
    return Space(
        tuple(x.id for x in ordered),
        components,
        states,
        np.array([gates.index(x.gate) for x in ordered], dtype=np.intp),
        np.array(component_of, dtype=np.intp),
        order,
        state,
        in_state @ fault_of,
        in_state,
        remove,
        add_state[:, [i for i, s in enumerate(states) if not s.intermittent]],
        add_state,
        fault_in,
        state_in,
    )
