"""Rules of the trade that stand above the numbers: each says when it settles the call. Their limits and readings stand
in rules.toml."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from msgspec import Struct

from gatecheck.core.belief.model import Model
from gatecheck.core.decide.costs import is_data_safe
from gatecheck.core.decide.interlocks import readings_that_count
from gatecheck.core.decide.plan import DRIVE_FAULTS, unmet_need
from gatecheck.core.knowledge.tables import FactTest, TradeRule
from gatecheck.core.tape.fold import TicketState
from gatecheck.core.words.said import Said, say


class Rule(Struct, frozen=True):
    """A rule that settles the call: the choice it asks for, and the one fix where it names one."""

    choice: str
    name: str
    fix: str | None

    @property
    def why(self) -> Said:
        return say(f"rule.{self.name}")


def applicable_rule(model: Model, state: TicketState, p_drive: float) -> Rule | None:
    """The first rule that settles the call, if any; `p_drive` is the probability that the drive itself fails."""
    for name, holds in _RULES.items():
        rule = model.knowledge.rules[name]
        if holds(model, state, rule, p_drive):
            return Rule(rule.choice, name, rule.fix)
    return None


def probability(model: Model, state: TicketState, *faults: str) -> float:
    """That any of the faults is there."""
    return float(state.belief @ model.fault_mask(*faults))


def may_sit_loose(model: Model, state: TicketState) -> bool:
    """A loose or broken link is not ruled out, and reseating or another cable has not been tried though it could be."""
    fixes = [model.knowledge.fixes[f] for f in ("reseat", "swap-cable")]
    untried = any(
        f.id in state.applicable and f.id not in state.tried and not unmet_need(model, state, f) for f in fixes
    )
    return untried and probability(model, state, "link.loose", "link.broken") >= model.knowledge.open["link"]


def data_is_open(model: Model, state: TicketState) -> bool:
    """A mechanically failing drive, and nobody has said yet what the data is worth."""
    unknown = state.facts.get("data") in (None, "unknown") and not is_data_safe(state.facts)
    mechanical = probability(model, state, "drive.mechanical")
    return unknown and (mechanical >= model.knowledge.open["data"] or _mechanical_evidence(model, state))


def _shown(state: TicketState, wanted: FactTest) -> bool:
    """Any of these moves last showed one of these outcomes."""
    return any(last.outcome in outcomes for move, outcomes in wanted.items() for last in [state.last(move)] if last)


def _may_lack_power(model: Model, state: TicketState, seen: Sequence[int]) -> bool:
    """Nothing of these readings was heard, and a plug may be loose: a drive without power never gets ready either."""
    return may_sit_loose(model, state) and all(r.move != "sound" for place, r in state.readings if place in seen)


def _mechanical_evidence(model: Model, state: TicketState) -> bool:
    lock = model.knowledge.interlocks["stop-running"]
    seen = readings_that_count(model, state, lock.seen, lock.renewed_by)
    if _may_lack_power(model, state, seen):
        return False
    return (
        bool(seen)
        and probability(model, state, "drive.mechanical")
        >= model.knowledge.rules["mechanical-damage"].limits["mechanical"]
    )


def _beyond_the_bench(model: Model, state: TicketState) -> bool:
    """Something names mechanical damage, and it is likely enough that one more start may cost what a lab could still
    read."""
    seen = readings_that_count(model, state, model.knowledge.interlocks["stop-running"].seen, ("drive.mechanical",))
    if _may_lack_power(model, state, seen):
        return False
    return bool(seen) and probability(model, state, "drive.mechanical") >= model.knowledge.plan["heard_refer"]


def _sent_away(model: Model, state: TicketState, rule: TradeRule, p_drive: float) -> bool:
    return _shown(state, rule.readings["sent"])


def _refer_first(model: Model, state: TicketState, rule: TradeRule, p_drive: float) -> bool:
    refused = state.last("refer-lab")
    if (
        state.facts.get("data") != "irreplaceable"
        or is_data_safe(state.facts)
        or (refused and refused.outcome == "declined")
    ):
        return False
    likely = probability(model, state, "drive.mechanical") >= rule.limits["mechanical"]
    return likely or _mechanical_evidence(model, state) or _beyond_the_bench(model, state)


def _mechanical(model: Model, state: TicketState, rule: TradeRule, p_drive: float) -> bool:
    refused = state.last("refer-lab")
    settled = is_data_safe(state.facts) or (refused is not None and refused.outcome == "declined")
    return settled and p_drive >= rule.limits["drive"] and _mechanical_evidence(model, state)


def _failing_drive(model: Model, state: TicketState, rule: TradeRule, p_drive: float) -> bool:
    seen = readings_that_count(model, state, rule.readings["signs"], DRIVE_FAULTS)
    lasting = probability(model, state, "drive.media", "drive.worn")
    wanted = rule.limits["more_signs" if len(seen) > 1 else "one_sign"]
    return bool(seen) and p_drive >= wanted and lasting >= rule.limits["lasting"]


def _seen_nowhere(model: Model, state: TicketState, rule: TradeRule, p_drive: float) -> bool:
    """Not detected anywhere after reseating and another cable or port."""
    no_cable = state.facts.get("drive_kind") in ("nvme", "emmc")
    tried = no_cable or _shown(state, rule.readings["reseated"])
    other_way, looked, seen = (_shown(state, rule.readings[name]) for name in ("other_way", "looked", "seen"))
    return tried and other_way and looked and not seen and p_drive >= rule.limits["drive"]


def _hardware_passed(model: Model, state: TicketState, rule: TradeRule, p_drive: float) -> bool:
    """Hardware passed, layout and loader sound, and the gentle ways back are used up."""
    passed = readings_that_count(model, state, rule.readings["passed"], DRIVE_FAULTS)
    software = probability(model, state, *[f.id for f in model.knowledge.faults if f.gate == "system"])
    settings = probability(model, state, *[f.id for f in model.knowledge.faults if f.component == "settings"])
    rolled = state.last("roll-back")
    rolled_back = rolled is not None and rolled.outcome not in (None, "boots")
    repaired = "repair-volume" in state.tried
    repairable = _shown(state, rule.readings["repairable"]) and not repaired
    reached = _shown(state, rule.readings["reached"]) or repaired
    below = model.knowledge.plan["ruled_out"]
    ruled_out = p_drive < below and settings < below
    tried_all = (
        bool(passed) and rolled_back and reached and not _shown(state, rule.readings["unsound_before"]) and ruled_out
    )
    return tried_all and not repairable and software >= rule.limits["software"] and state.booted is None


def _flat_battery(model: Model, state: TicketState, rule: TradeRule, p_drive: float) -> bool:
    """A reset clock and settings that fell back with it: the battery is the root, whatever else is set right."""
    reset = readings_that_count(model, state, rule.readings["reset"], ("battery.flat",))
    fallen = readings_that_count(model, state, rule.readings["fallen"], ("battery.flat",))
    likely = probability(model, state, "battery.flat") >= rule.limits["battery"]
    return bool(reset and fallen) and likely and "replace-battery" not in state.tried


_RULES: dict[str, Callable[[Model, TicketState, TradeRule, float], bool]] = {
    "sent-away": _sent_away,
    "refer-before-stress": _refer_first,
    "mechanical-damage": _mechanical,
    "failing-drive": _failing_drive,
    "seen-nowhere": _seen_nowhere,
    "hardware-passed": _hardware_passed,
    "flat-battery": _flat_battery,
}
