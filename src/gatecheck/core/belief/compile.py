"""Compiles the knowledge tables into a `Model`, part by part."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from functools import partial

import numpy as np
from msgspec.structs import replace

from gatecheck.core.belief.likelihoods import hidden_share, look_table
from gatecheck.core.belief.model import AGAIN, STARTS, Final, Model, Observation, Start, TransitionTable
from gatecheck.core.belief.space import Floats, Ints, Space, build_space
from gatecheck.core.belief.transitions import Transition, stop_gates, transition_of
from gatecheck.core.knowledge.tables import Check, Fix, Knowledge

_SUREST = 0.97
"""no case makes a fix surer than this"""


def compile_model(knowledge: Knowledge) -> Model:
    """Compile all tables. Pure; about 0.1 s."""
    space = build_space(knowledge.faults, [g.id for g in knowledge.gates])
    sight = _sight(knowledge, space)
    start = _start(knowledge, space, sight)

    return Model(
        knowledge=knowledge,
        space=space,
        start=start,
        sight=sight,
        deeds=_deeds(knowledge, space, start, sight),
        base=_base(space, knowledge),
        vary=partial(_vary, knowledge, space, start, sight),
        one_member=np.concatenate([np.ones((space.size, 1)), space.member], axis=1).astype(np.float32),
    )


def _vary(
    knowledge: Knowledge, space: Space, start: Start, sight: Observation, name: str, how: tuple[str, ...]
) -> tuple[Transition | None, Final]:
    fix = variant_of(knowledge.fixes[name], how)
    still = knowledge.plan["still_starts"] if STARTS in how else None
    act = (
        transition_of(space, fix, start.passes, sight.reach["unseen"], knowledge.fix_floor, still=still)
        if fix.table is None
        else None
    )
    return act, _final(knowledge, space, fix)


def _still_starts(knowledge: Knowledge, space: Space, screen: Floats) -> Floats:
    """Shape (outcomes, n): the screen of a machine that started just before."""
    boots = knowledge.checks["screen"].outcomes.index("boots")
    comes_and_goes = space.in_state @ np.array([float(s.intermittent) for s in space.states]) > 0
    again = np.where(comes_and_goes, screen[boots], np.maximum(screen[boots], knowledge.plan["starts_cold"]))
    rest = np.maximum(1.0 - screen[boots], 1e-9)
    table = screen / rest * (1.0 - again)
    table[boots] = again
    return np.ascontiguousarray(table)


def _sight(knowledge: Knowledge, space: Space) -> Observation:
    reach = {v.id: 1.0 - hidden_share(space, v) for v in knowledge.visibility.values()}
    checks = {
        c.id: look_table(space, c.table, c.outcomes, reach, knowledge.check_floor) for c in knowledge.checks.values()
    }
    told = {
        f.id: look_table(space, f.table, f.outcomes, reach, knowledge.fix_floor)
        for f in knowledge.fixes.values()
        if f.table
    }
    on_dock = {c.id: replace(c.table, hidden_by=c.on_dock) for c in knowledge.checks.values() if c.on_dock}
    docked = {
        name: look_table(space, table, knowledge.checks[name].outcomes, reach, knowledge.check_floor)
        for name, table in on_dock.items()
    }
    rows: list[Floats] = []
    columns: dict[str, Ints] = {}
    for name, table in checks.items():
        columns[name] = np.arange(len(rows), len(rows) + len(table))
        rows.extend(table)
    outcomes = [(c.id, o) for c in knowledge.checks.values() for o in c.outcomes]
    return Observation(
        looks={**checks, **told},
        still_starts=_still_starts(knowledge, space, checks["screen"]),
        docked=docked,
        reach=reach,
        depends={c.id: _depends(c, knowledge) for c in knowledge.checks.values()},
        rows=np.ascontiguousarray(np.array(rows).T, dtype=np.float32),
        columns=columns,
        boots=np.array([o == "boots" for _, o in outcomes]),
        keeps_booted=np.array([c != "screen" for c, _ in outcomes]),
    )


def _start(knowledge: Knowledge, space: Space, sight: Observation) -> Start:
    passes = sight.looks["screen"][knowledge.checks["screen"].outcomes.index("boots")]
    return Start(passes=passes, stop_gate=stop_gates(space, passes))


def _deeds(knowledge: Knowledge, space: Space, start: Start, sight: Observation) -> TransitionTable:
    fixes = knowledge.fixes.values()
    acts = {
        f.id: transition_of(space, f, start.passes, sight.reach["unseen"], knowledge.fix_floor)
        for f in fixes
        if f.table is None
    }
    curing = tuple(f for f in fixes if f.cures or f.resolves)
    cure = np.array(
        [[max(f.cures.get(fault, 0.0), f.resolves.get(fault, 0.0)) for f in curing] for fault in space.fault_ids]
    )
    return TransitionTable(
        acts=acts,
        affects={name: _affected(act, sight.depends) for name, act in acts.items()},
        fix_ids=tuple(f.id for f in curing),
        cure=cure,
        may_help=(space.member @ (cure > 0) > 0).astype(np.float64),
        finals={f.id: _final(knowledge, space, f) for f in curing},
        stress={name: np.array([row.get(f, 0.0) for f in space.fault_ids]) for name, row in knowledge.stress.items()},
    )


def variant_of(fix: Fix, how: Collection[str]) -> Fix:
    """The fix as it is in these cases of its own; and made AGAIN after it changed nothing: what did not help for a
    cause that is still there does not help now."""
    times = float(np.prod([c.times for c in fix.cases if c.id in how]))
    share = 1.0 - fix.same_cause if AGAIN in how else 1.0
    return replace(
        fix, cures={fault: min(cured * times, max(cured, _SUREST)) * share for fault, cured in fix.cures.items()}
    )


def _affected(act: Transition, depends: Mapping[str, frozenset[str]]) -> frozenset[str]:
    return frozenset(check for check, faults in depends.items() if act.touches & faults)


def _final(knowledge: Knowledge, space: Space, fix: Fix) -> Final:
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
    return Final(gone=np.array(cure), lost=np.maximum(lost, stress), price=price)


def _base(space: Space, knowledge: Knowledge) -> Floats:
    count = space.member.sum(axis=1)
    base = np.where(count > 1, knowledge.shared_scale ** np.maximum(count - 1, 0), 1.0)
    base[0] = knowledge.sound_odds
    comes_and_goes = {f.id: f.intermittent for f in knowledge.faults}
    shares = [comes_and_goes[space.fault_ids[s.fault]] for s in space.states]
    base *= np.where(
        space.in_state > 0,
        [share if s.intermittent else 1.0 - share for s, share in zip(space.states, shares, strict=True)],
        1.0,
    ).prod(axis=1)
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
