"""Rules of the trade that stand above the numbers: each says when it settles the call, and why."""

from __future__ import annotations

from dataclasses import dataclass

from gatecheck.core.belief.model import Model
from gatecheck.core.decide.costs import is_data_safe
from gatecheck.core.decide.interlocks import readings_that_count
from gatecheck.core.decide.plan import DRIVE_FAULTS
from gatecheck.core.tape.fold import TicketState

_LINK_OPEN = 0.04


@dataclass(frozen=True, slots=True)
class Rule:
    choice: str
    name: str
    why: str
    fix: str | None = None


def settled_by(model: Model, state: TicketState, p_drive: float) -> Rule | None:
    """The first rule that settles the call, if any; `p_drive` is the probability that the drive itself fails."""
    for rule in (_sent_away, _refer_first, _mechanical, _failing_drive, _seen_nowhere, _hardware_passed, _flat_battery):
        found = rule(model, state, p_drive)
        if found:
            return found
    return None


def probability(model: Model, state: TicketState, *faults: str) -> float:
    """That any of the faults is there."""
    return float(state.belief @ model.having(*faults))


def _sent_away(model: Model, state: TicketState, p_drive: float) -> Rule | None:
    for move in ("refer-lab", "board-work"):
        last = state.last(move)
        if last and last.outcome == "sent":
            return Rule("refer", "sent-away", "It was sent away; the answer decides the rest")
    return None


def _refer_first(model: Model, state: TicketState, p_drive: float) -> Rule | None:
    refused = state.last("refer-lab")
    if state.facts.get("data") != "irreplaceable" or is_data_safe(state.facts) or (refused and refused.outcome == "declined"):
        return None
    if probability(model, state, "drive.mechanical") >= 0.75 or _mechanical_evidence(model, state) or _beyond_the_bench(model, state):
        return Rule(
            "refer", "refer-before-stress", "Irreplaceable data on a mechanically failing drive: a lab before any further stress"
        )
    return None


def may_sit_loose(model: Model, state: TicketState) -> bool:
    """A loose or broken link is not ruled out, and reseating or another cable has not been tried though it could be."""
    untried = any(f in state.applicable and f not in state.tried for f in ("reseat", "swap-cable"))
    return untried and probability(model, state, "link.loose", "link.broken") >= _LINK_OPEN


def data_is_open(model: Model, state: TicketState) -> bool:
    """A mechanically failing drive, and nobody has said yet what the data is worth."""
    unknown = state.facts.get("data") in (None, "unknown") and not is_data_safe(state.facts)
    return unknown and (probability(model, state, "drive.mechanical") >= 0.5 or _mechanical_evidence(model, state))


def _mechanical_evidence(model: Model, state: TicketState) -> bool:
    lock = model.knowledge.interlocks["stop-running"]
    seen = readings_that_count(model, state, lock.seen, lock.renewed_by)
    return bool(seen) and probability(model, state, "drive.mechanical") >= 0.75


def _beyond_the_bench(model: Model, state: TicketState) -> bool:
    """Something names mechanical damage, and it is likely enough that one more start may cost what a lab could still read."""
    seen = readings_that_count(model, state, model.knowledge.interlocks["stop-running"].seen, ("drive.mechanical",))
    return bool(seen) and probability(model, state, "drive.mechanical") >= model.knowledge.plan["heard_refer"]


def _mechanical(model: Model, state: TicketState, p_drive: float) -> Rule | None:
    refused = state.last("refer-lab")
    settled = is_data_safe(state.facts) or (refused is not None and refused.outcome == "declined")
    if settled and p_drive >= 0.85 and _mechanical_evidence(model, state):
        return Rule("replace", "mechanical-damage", "Mechanical damage, and the data does not depend on this drive: replace it")
    return None


def _failing_drive(model: Model, state: TicketState, p_drive: float) -> Rule | None:
    signs = {
        "health-pages": ("failing", "worn-out"), "short-test": ("read-failure", "other-failure"),
        "long-test": ("read-failure", "other-failure"), "read-scan": ("spreading", "one-head", "isolated-unreadable"),
    }  # fmt: skip
    seen = readings_that_count(model, state, signs, DRIVE_FAULTS)
    lasting = probability(model, state, "drive.media", "drive.worn")
    if seen and p_drive >= (0.92 if len(seen) > 1 else 0.985) and lasting >= 0.4:
        return Rule("replace", "failing-drive", "The drive itself fails: no repair in software holds on it")
    return None


def _seen_nowhere(model: Model, state: TicketState, p_drive: float) -> Rule | None:
    """Not detected anywhere after reseating and another cable or port."""
    reseated = state.last("reseat")
    swapped = state.last("swap-cable")
    no_cable = state.facts.get("drive_kind") in ("nvme", "emmc")
    tried = (reseated and reseated.outcome == "no-change") or no_cable
    other_way = (swapped and swapped.outcome == "no-change") or _shows(state, "seen-dock", "absent")
    looked = _shows(state, "seen-live", "absent") or _shows(state, "seen-dock", "absent")
    seen = any(
        _shows(state, move, outcome)
        for move, outcome in (("seen-setup", "right"), ("seen-picker", "listed"), ("seen-builtin", "listed"), ("seen-live", "right"), ("seen-dock", "right"))
    )  # fmt: skip
    if tried and other_way and looked and not seen and p_drive >= 0.25:
        return Rule("replace", "seen-nowhere", "Not detected anywhere after reseating and another cable: the drive is gone")
    return None


def _hardware_passed(model: Model, state: TicketState, p_drive: float) -> Rule | None:
    """Hardware passed, layout and loader sound, and the gentle ways back are used up."""
    passed = readings_that_count(
        model, state,
        {"long-test": ("passed",), "short-test": ("passed",), "builtin-quick": ("passed",), "read-scan": ("clean",)}, DRIVE_FAULTS,
    )  # fmt: skip
    software = probability(model, state, *[f.id for f in model.knowledge.faults if f.gate == "system"])
    rolled = state.last("roll-back")
    rolled_back = rolled is not None and rolled.outcome not in (None, "boots")
    repairable = (
        _shows(state, "volume-look", "damaged") or _shows(state, "volume-look", "dirty")
    ) and "repair-volume" not in state.tried
    reached = _shows(state, "reduced-start", "fails") or "repair-volume" in state.tried
    sound_before = not any(
        _shows(state, move, outcome)
        for move, outcome in (("loader-look", "missing"), ("loader-look", "damaged"), ("disk-layout", "table-damaged"), ("disk-layout", "no-boot-record"))
    )  # fmt: skip
    settings = probability(model, state, *[f.id for f in model.knowledge.faults if f.component == "settings"])
    below = model.knowledge.plan["ruled_out"]
    ruled_out = p_drive < below and settings < below
    tried_all = passed and rolled_back and reached and sound_before and ruled_out
    if tried_all and not repairable and software >= 0.5 and state.booted is None:
        return Rule(
            "reinstall", "hardware-passed", "All hardware passed and it still does not start: reinstall before replacing anything"
        )
    return None


def _flat_battery(model: Model, state: TicketState, p_drive: float) -> Rule | None:
    """A reset clock and settings that fell back with it: the battery is the root, whatever else is set right."""
    reset = readings_that_count(model, state, {"clock": ("reset-to-default",)}, ("battery.flat",))
    fallen = readings_that_count(
        model,
        state,
        {
            "boot-order": ("other-first", "system-absent"),
            "boot-mode": ("conflicts",),
            "secure-boot": ("conflicts",),
            "storage-mode": ("conflicts",),
            "port": ("off",),
        },
        ("battery.flat",),
    )
    if reset and fallen and probability(model, state, "battery.flat") >= 0.5 and "replace-battery" not in state.tried:
        return Rule(
            "repair", "flat-battery", "The clock has fallen back and settings with it: the battery is the root", "replace-battery"
        )
    return None


def _shows(state: TicketState, move: str, outcome: str) -> bool:
    last = state.last(move)
    return last is not None and last.outcome == outcome
