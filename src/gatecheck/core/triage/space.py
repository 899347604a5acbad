"""The hypothesis space: every set of at most three faults in different components, and the empty set.

Index 0 is the sound machine. All tables are NumPy arrays over that index, so that transitions are look-ups.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from gatecheck.core.knowledge.tables import Fault

MOST_FAULTS = 3
Floats = NDArray[np.float64]
Ints = NDArray[np.intp]


@dataclass(frozen=True, slots=True)
class Space:
    """n hypotheses over f faults in c components; faults stand in the order of the boot line."""

    fault_ids: tuple[str, ...]
    components: tuple[str, ...]
    gate_of: Ints
    """shape (f,), index of the fault's gate"""
    component_of: Ints
    """shape (f,)"""
    order: Ints
    """shape (n, 3): the faults of a hypothesis in boot order, -1 where there is none"""
    member: Floats
    """shape (n, f), 1.0 where the fault is in the hypothesis"""
    remove: Ints
    """shape (n, f): the hypothesis without that fault (itself where it is not in it)"""
    add: Ints
    """shape (n, f): with that fault (itself where its component is not sound or three faults are there)"""
    fault_in: Ints
    """shape (n, c): the fault in that component, -1 for none"""

    @property
    def size(self) -> int:
        return len(self.order)

    def index(self, fault: str) -> int:
        return self.fault_ids.index(fault)

    def any_of(self, faults: Sequence[str]) -> Floats:
        """Shape (n,): 1.0 where any of the faults is in the hypothesis; a small space need not have them all."""
        columns = [self.index(f) for f in faults if f in self.fault_ids]
        return np.asarray(self.member[:, columns].max(axis=1)) if columns else np.zeros(self.size)

    def with_component_of(self, now: Ints, before: Ints, component: int) -> Ints:
        """Hypotheses `now` with that component's state taken from `before`; both shape (k,)."""
        current = self.fault_in[now, component]
        stripped = np.where(current >= 0, self.remove[now, np.maximum(current, 0)], now)
        wanted = self.fault_in[before, component]
        return np.where(wanted >= 0, self.add[stripped, np.maximum(wanted, 0)], stripped)


def build_space(faults: Sequence[Fault], gates: Sequence[str]) -> Space:
    """All hypotheses for these faults; gates in boot order."""
    ranked = sorted(range(len(faults)), key=lambda i: (gates.index(faults[i].gate), i))
    ordered = [faults[i] for i in ranked]
    components = tuple(dict.fromkeys(f.component for f in ordered))
    component_of = [components.index(f.component) for f in ordered]
    sets: list[tuple[int, ...]] = [()]
    for size in range(1, MOST_FAULTS + 1):
        sets += [combo for combo in combinations(range(len(ordered)), size) if len({component_of[i] for i in combo}) == size]
    where = {combo: index for index, combo in enumerate(sets)}
    n, f = len(sets), len(ordered)
    order = np.full((n, MOST_FAULTS), -1, dtype=np.intp)
    member = np.zeros((n, f))
    itself = np.arange(n, dtype=np.intp)
    remove, add = np.tile(itself[:, None], (1, f)), np.tile(itself[:, None], (1, f))
    fault_in = np.full((n, len(components)), -1, dtype=np.intp)
    for index, combo in enumerate(sets):
        order[index, : len(combo)] = combo
        member[index, list(combo)] = 1.0
        for position, fault in enumerate(combo):
            smaller = where[combo[:position] + combo[position + 1 :]]
            remove[index, fault] = smaller
            add[smaller, fault] = index
            fault_in[index, component_of[fault]] = fault
    return Space(
        tuple(x.id for x in ordered), components,
        np.array([gates.index(x.gate) for x in ordered], dtype=np.intp), np.array(component_of, dtype=np.intp),
        order, member, remove, add, fault_in,
    )  # fmt: skip
