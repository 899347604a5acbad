"""Fixes compiled over the hypothesis space: where each leads from every hypothesis, and what is seen then."""

from __future__ import annotations

import numpy as np
from msgspec import Struct

from gatecheck.core.belief.space import Flags, Floats, Ints, Space
from gatecheck.core.knowledge.tables import Fix

NOT_DONE = ("could-not", "declined", "left-on")
"""outcomes of a fix after which nothing on the machine has changed"""

_ANOTHER_SCREEN, _ANOTHER_SCREEN_THEN = 0.70, 0.97
"""a machine that now stops at a later gate shows another screen this often; nearly always when it had not come up at
all"""

_BARELY_STOPS = 0.8
"""a hypothesis that boots with this probability does not stop the boot"""


class Transition(Struct, frozen=True):
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
    places: Ints
    """shape (4 m,): where the first four outcomes of these edges lead in a flat array of shape (4, n)"""
    shown: Floats
    """shape (outcomes, n): probability of the outcome for a machine that was src, whatever it is now"""
    could_not: float
    touches: frozenset[str]
    components: tuple[int, ...]

    def apply_all(self, belief: Floats) -> Floats:
        """Belief after each outcome but could-not, not normalised, shape (4, n)."""
        after: Floats = belief * self.stay[:4]
        np.add.at(after.reshape(-1), self.places, (belief.take(self.moved_src) * self.moved[:4]).reshape(-1))
        return after

    def apply(self, belief: Floats, outcome: int, into: Floats | None = None) -> Floats:
        """Belief after that outcome, not normalised, shape (n,); written there where a place is given, which may be
        that of the belief itself."""
        gone = belief.take(self.moved_src) * self.moved[outcome]
        after: Floats = np.multiply(belief, self.stay[outcome], out=into)
        np.add.at(after, self.moved_dst, gone)
        return after


def transition_of(
    space: Space, fix: Fix, passes: Floats, seen: Floats, floor: float, *, still: float | None = None
) -> Transition:
    """What the fix does to every hypothesis. passes, seen: shape (n,), probability that it starts, that its drive is
    seen. `still`: the machine was seen to start just before, and goes on starting this often unless the fix breaks
    something."""
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
    outcome = _outcome_shares(space, src, dst, passes, seen, still) + floor
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
        places=(dst[leaves] + space.size * np.arange(4)[:, None]).ravel(),
        could_not=fix.could_not,
        touches=frozenset(touched),
        components=tuple(sorted({int(space.component_of[i]) for i in touched.values()})),
    )


def _split(src: Ints, dst: Ints, chance: Floats, where: Flags, target: Ints, share: float) -> tuple[Ints, Ints, Floats]:
    stays = np.where(where, chance * (1.0 - share), chance)
    return (
        np.concatenate([src, src[where]]),
        np.concatenate([dst, target[where]]),
        np.concatenate([stays, chance[where] * share]),
    )


def _outcome_shares(space: Space, src: Ints, dst: Ints, passes: Floats, seen: Floats, still: float | None) -> Floats:
    """P(boots, now-seen, other-screen, no-change | src, dst), shape (4, e)."""
    changed = src != dst
    # a machine on which nothing was cured shows what it showed before: partial passes are mostly used up
    unchanged_boots = np.where(passes[src] > _BARELY_STOPS, passes[src], 0.1 * passes[src])
    boots = np.where(changed, passes[dst], unchanged_boots)
    if still is not None:
        boots = np.where(passes[dst] >= passes[src], np.maximum(passes[dst], still), passes[dst])
    rest = 1.0 - boots
    now_seen = rest * np.where(changed, np.clip(seen[dst] - seen[src], 0.0, 1.0), 0.0)
    stop = stop_gates(space, passes)
    moved = np.where(
        changed,
        np.where(stop[src] != stop[dst], np.where(stop[src] == 0, _ANOTHER_SCREEN_THEN, _ANOTHER_SCREEN), 0.12),
        0.03,
    )
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
