"""Policies: what to do next, given what is on the tape. They see nothing of the machine but its answers.

planner: the engine's own first move and call. fixed: the order of the trade, always the next applicable step.
random-legal: any move that is not held. clairvoyant is told the fault and makes its cures at once: a lower bound.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from gatecheck.core.belief.model import Model
from gatecheck.core.decide.assess import Assessment, assess
from gatecheck.core.decide.costs import is_data_safe
from gatecheck.core.decide.interlocks import held_moves
from gatecheck.core.decide.plan import unmet_need
from gatecheck.core.knowledge.tables import Check, Fix
from gatecheck.core.tape.fold import TicketState

Rng = np.random.Generator


@dataclass(frozen=True, slots=True)
class PolicyStep:
    """What a policy wants: a move, a put-back, a question, or to stop with a choice."""

    kind: str
    what: str


@dataclass(frozen=True)
class PolicyView:
    """What a policy may look at. `true_fixes` is for the clairvoyant only: what cures the faults that are left."""

    model: Model
    state: TicketState
    rng: Rng
    tell: Callable[[], Sequence[str]]

    @cached_property
    def result(self) -> Assessment:
        """What the engine says of the ticket; worked out only where a policy asks."""
        return assess(self.model, self.state)

    @cached_property
    def true_fixes(self) -> Sequence[str]:
        return self.tell()


_AN_EAR = ("sound", "screen")
"""looks of a minute that come before the fix of a call that is made"""

Policy = Callable[[PolicyView], PolicyStep]


def planner(sight: PolicyView) -> PolicyStep:
    """The engine as it speaks to a technician: put back, ask, then its first move; stop where the call asks for
    nothing."""
    stuck = [t for t in sight.state.trials if t.to_put_back]
    if stuck:
        return PolicyStep("put-back", stuck[-1].fix)
    asked = [q.fact for q in sight.result.questions]
    if "data" in asked and sight.state.facts.get("data") in (None, "unknown"):
        return PolicyStep("ask", "data")
    if "recovery_key" in asked and sight.state.facts.get("recovery_key") in (None, "unknown"):
        return PolicyStep("ask", "recovery_key")
    call = sight.result.call
    for move in sight.result.next:
        asked_for = (*call.due, *(call.option.fixes if call.option else ()))
        if call.again is not None and move.move == call.again.move:
            return PolicyStep("move", move.move)
        if move.move == "screen" and sight.state.readings[-1][1].outcome == "other-screen":
            return PolicyStep("move", "screen")  # it stops elsewhere now: where is asked at once
        heard = move.move in _AN_EAR and call.choice != "release" and move.move not in sight.state.current
        if call.choice and not heard and move.move not in asked_for and move.kind == "check":
            break  # the call is made: what is left is not worth its cost
        if (
            move.move == "replace-drive"
            and not is_data_safe(sight.state.facts)
            and sight.state.facts.get("consent") in (None, "not-asked")
        ):
            return PolicyStep("ask", "consent")
        return PolicyStep("move", move.move)
    if "consent" in asked:
        return PolicyStep("ask", "consent")
    return PolicyStep("stop", call.choice or call.leans)


# the order of the trade: what to look at, and what each abnormal look asks for
_ORDER: tuple[tuple[str, dict[str, str]], ...] = (
    ("story", {}),
    ("screen", {"boots": "stop"}),
    ("sound", {"ticking": "replace-drive", "clunking": "replace-drive", "scraping": "replace-drive"}),
    ("pull-externals", {}),
    ("setup-entry", {}),
    ("clock", {"reset-to-default": "replace-battery"}),
    ("boot-mode", {"conflicts": "set-mode"}),
    ("secure-boot", {"conflicts": "set-secure-boot"}),
    ("storage-mode", {"conflicts": "set-storage-mode"}),
    ("port", {"off": "enable-port"}),
    ("boot-order", {"other-first": "set-order", "system-absent": "set-order"}),
    ("entry-target", {"stale": "restore-entry", "none": "restore-entry"}),
    ("seen-setup", {"absent": "reseat", "garbled": "reseat", "zero-size": "replace-drive"}),
    ("seen-picker", {"absent": "reseat"}),
    ("builtin-quick", {"failed": "replace-drive", "would-not-run": "reseat"}),
    ("builtin-memory", {"failed": "swap-memory"}),
    ("seat", {"loose": "reseat"}),
    ("cable-look", {"damaged": "swap-cable"}),
    ("live-start", {"fails": "repair-power"}),
    ("seen-live", {"absent": "swap-cable"}),
    ("health-pages", {"failing": "replace-drive", "worn-out": "replace-drive", "link-errors": "swap-cable"}),
    (
        "short-test",
        {"read-failure": "replace-drive", "other-failure": "replace-drive", "would-not-run": "replace-drive"},
    ),
    (
        "disk-layout",
        {"table-damaged": "rebuild-table", "no-boot-record": "rebuild-boot-record", "mode-mismatch": "set-mode"},
    ),
    ("loader-look", {"missing": "rebuild-loader", "damaged": "rebuild-loader"}),
    ("volume-look", {"damaged": "repair-volume", "dirty": "repair-volume", "unreadable": "repair-volume"}),
    ("long-test", {"read-failure": "replace-drive", "other-failure": "replace-drive"}),
    ("reduced-start", {"works": "roll-back", "fails": "roll-back"}),
)
_LOOKS_ON = 2
"""the careful technician looks on after one abnormal finding"""
_CHEAP = ("clock", "boot-mode", "secure-boot", "storage-mode", "port", "boot-order", "entry-target", "seen-setup")
_LAST_RESORTS = ("roll-back", "reinstall", "replace-drive", "board-work")


def fixed(sight: PolicyView) -> PolicyStep:
    """The order of the trade: always the next applicable step, each abnormal look answered by its fix."""
    model, state, fixes = sight.model, sight.state, sight.model.knowledge.fixes
    stuck = [t for t in state.trials if t.open and t.no_effect]
    if stuck:
        return PolicyStep("put-back", stuck[-1].fix)
    if state.booted is not None:
        return _proving(sight)
    if any(r.move in ("board-work", "refer-lab") and r.outcome == "sent" for _, r in state.readings):
        return PolicyStep("stop", "refer")
    wanted = []
    for move, answers in _ORDER:
        spec = model.knowledge.move(move)
        last = state.last(move)
        if last and last.outcome in answers:
            wanted.append(answers[last.outcome])
        elif (
            not last
            and (len(wanted) < _LOOKS_ON or move in _CHEAP)
            and move in state.applicable
            and unmet_need(model, state, spec) is None
        ):
            if move in {h.move for h in held_moves(model, state)}:
                continue
            return _guarded(sight, move)
    held = {h.move for h in held_moves(model, state)}
    for fix in (*wanted, *_LAST_RESORTS):
        if (
            fix in fixes
            and fix not in state.tried | state.once
            and fix in state.applicable
            and not _refused(sight, fix)
        ):
            step = _guarded(sight, fix)
            if step.kind == "move" and step.what in held:
                continue  # interlocks are honoured: another way, or none
            return step
    return PolicyStep("stop", "refer")


def _refused(sight: PolicyView, fix: str) -> bool:
    """The customer said no to what this would cost."""
    own = sight.model.knowledge.fixes[fix]
    return (
        (own.destroys or fix == "replace-drive")
        and sight.state.facts.get("consent") == "refused"
        and not is_data_safe(sight.state.facts)
    )


def _proving(sight: PolicyView) -> PolicyStep:
    """A machine that starts is proven: a second cold start, the clock, the drive's size; a new drive is tested."""
    state, model = sight.state, sight.model
    replaced = state.last("replace-drive") is not None
    for check in ("screen", "clock", "seen-setup", *(("short-test",) if replaced else ())):
        spec = model.knowledge.checks[check]
        if check not in state.current and check in state.applicable and unmet_need(model, state, spec) is None:
            return PolicyStep("move", check)
    return PolicyStep("stop", "release")


def _guarded(sight: PolicyView, move: str) -> PolicyStep:
    """Even the fixed order asks about the backup before anything that writes, and copies where it can."""
    fix = sight.model.knowledge.fixes.get(move)
    if fix and (fix.writes or fix.id == "replace-drive") and not is_data_safe(sight.state.facts):
        if sight.state.facts.get("data") in (None, "unknown"):
            return PolicyStep("ask", "data")
        copying = sight.model.knowledge.fixes["copy-data"]
        if "copy-data" not in sight.state.tried and unmet_need(sight.model, sight.state, copying) is None:
            return PolicyStep("move", "copy-data")
        if sight.state.facts.get("consent") in (None, "not-asked"):
            return PolicyStep("ask", "consent")
    return PolicyStep("move", move)


def clairvoyant(sight: PolicyView) -> PolicyStep:
    """Knows the faults: protects the data, cures them in turn, stops."""
    if not sight.true_fixes:
        return PolicyStep("stop", "release")
    return _guarded(sight, sight.true_fixes[0])


def random_legal(sight: PolicyView) -> PolicyStep:
    """Any move that is not held and can be made; stops when the machine starts."""
    if sight.state.booted is not None:
        return PolicyStep("stop", "release")
    held = {h.move for h in held_moves(sight.model, sight.state)}
    knowledge = sight.model.knowledge
    known: list[Check | Fix] = [*knowledge.checks.values(), *knowledge.fixes.values()]
    moves = [
        m
        for m in known
        if m.id not in held
        and m.id not in sight.state.current
        and m.id not in sight.state.tried | sight.state.once
        and m.id in sight.state.applicable
        and unmet_need(sight.model, sight.state, m) is None
    ]
    return PolicyStep("move", moves[int(sight.rng.integers(len(moves)))].id) if moves else PolicyStep("stop", "refer")


POLICIES: dict[str, Policy] = {
    "planner": planner,
    "fixed": fixed,
    "clairvoyant": clairvoyant,
    "random-legal": random_legal,
}
