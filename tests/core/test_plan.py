"""Planning: the value of a belief by hand, what is offered, and that looking pays only when it tells."""

from __future__ import annotations

from itertools import permutations
from typing import Any

import numpy as np
import pytest
from msgspec.structs import replace

from gatecheck.core.belief.model import Model
from gatecheck.core.decide.assess import assess
from gatecheck.core.decide.costs import economy, entry_minutes
from gatecheck.core.decide.explain import tips, weights_of_evidence
from gatecheck.core.decide.plan import make_plan, unmet_need
from gatecheck.core.tape.fold import TicketState, fold
from gatecheck.core.tape.parse import parse_entries, parse_facts
from tapes import LAPTOP, PRECIOUS, SAFE, case, moves, readings


def folded(model: Model, facts: dict[str, Any], *texts: str, more: list[dict[str, Any]] | None = None) -> TicketState:
    entries = parse_entries([*readings(*texts), *(more or [])], model.knowledge)
    return fold(model, parse_facts(facts, model.knowledge), entries)


NO_SET = np.zeros(1, dtype=np.intp)


def test_the_value_is_the_cheapest_order_of_fixes(model: Model) -> None:
    """On single faults the ratio rule is optimal: no other order of the fixes, given up wherever one likes, costs
    less."""
    costs = replace(economy(model, folded(model, SAFE), ()), broad=())  # no fix that cures much is made out of turn
    rng = np.random.default_rng(3)
    orders = 0
    for _ in range(60):
        marginals = np.zeros(len(costs.risk))
        marginals[rng.choice(len(marginals), 3, replace=False)] = rng.dirichlet(np.ones(3))
        needed = costs.sequences([()])[0] @ marginals
        columns = np.flatnonzero(needed[:-1] > 1e-4)
        if not 2 <= len(columns) <= 6:
            continue
        orders += 1
        ours = float(costs.value(marginals[None], np.array([False]), [()], NO_SET)[0])
        by_hand = min(
            sum(
                costs.base[c] * sum(needed[later] for later in (*order[place:], -1)) + needed[c] * costs.when_cured[c]
                for place, c in enumerate(order[:end])
            )
            + costs.base[-1] * sum(needed[c] for c in (*order[end:], -1))
            for order in permutations(columns)
            for end in range(len(order) + 1)
        )
        unseen = sum(
            min(m * slips, (1.0 - m) * mending)
            for m, slips, mending in zip(marginals, costs.slips, costs.mending, strict=True)
        )
        assert ours == pytest.approx(min(by_hand + unseen, costs.base[-1]), abs=0.05)
    assert orders >= 10


def test_the_chances_that_a_fix_is_needed_add_up_to_one(model: Model) -> None:
    for state in (folded(model, SAFE), folded(model, LAPTOP, "reseat=no-change", "roll-back=no-change")):
        costs = economy(model, state, ())
        used = [(), *((column,) for column in range(len(costs.fixes)))]
        sequences = costs.sequences(used)
        assert sequences.sum(axis=1) == pytest.approx(np.ones((len(used), len(model.space.fault_ids))))
        for column, name in enumerate(costs.fixes):
            assert not sequences[column + 1, column].any(), name


def test_many_beliefs_are_worth_what_each_is_worth_alone(model: Model) -> None:
    """Rows with other fixes used up, machines that start among them, weighed in one pass and one by one."""
    rng = np.random.default_rng(5)
    for state in (folded(model, SAFE), folded(model, LAPTOP, "reseat=no-change", "roll-back=no-change")):
        costs = economy(model, state, ())
        used: list[tuple[int, ...]] = [(), (0,), (2, costs.broad[0])]
        marginals = rng.dirichlet(np.full(len(costs.risk) + 1, 0.1), 120)[:, :-1]
        of, booted = rng.integers(0, 3, 120), rng.random(120) < 0.3
        together = costs.value(marginals, booted, used, of)
        for row in range(120):
            alone = costs.value(marginals[row : row + 1], booted[row : row + 1], [used[of[row]]], NO_SET)
            # what hardly matters to any of them is left out
            assert together[row] == pytest.approx(float(alone[0]), abs=0.3)


def test_a_check_that_tells_nothing_gains_nothing(model: Model) -> None:
    plan = make_plan(
        model,
        folded(model, SAFE, "screen=no-boot-device", "seen-setup=right", "boot-order=other-first", "clock=right"),
        [],
    )
    builtin = next(m for m in plan.ranked if m.move == "builtin-memory")
    assert builtin.gain < 0.5
    assert builtin.net < 0


def test_precious_data_makes_stress_dear(model: Model) -> None:
    tape = ("screen=stuck-at-logo", "seen-setup=right")
    cheap = {m.move: m.cost for m in make_plan(model, folded(model, SAFE, *tape), []).ranked}
    dear = {m.move: m.cost for m in make_plan(model, folded(model, PRECIOUS, *tape), []).ranked}
    assert "read-scan" in cheap
    assert "read-scan" not in dear, "the whole surface is never read before the data is safe"
    assert dear["volume-look"] > cheap["volume-look"] + 2
    assert dear["clock"] == pytest.approx(cheap["clock"])


VISITS = {
    "closed": ((), "seat", 9.0),
    "opened": (("seat=firm",), "cable-look", 0.0),
    "in-setup": (("clock=right",), "port", 0.0),
    "left-setup": (("clock=right", "live-start=runs"), "port", 2.0),
    "in-live": (("live-start=runs",), "health-pages", 0.0),
    "live-failed": (("live-start=fails",), "health-pages", 4.0),
    "opened-leaves-setup": (("clock=right", "seat=firm"), "port", 2.0),
}


@pytest.mark.parametrize(("tape", "move", "minutes"), VISITS.values(), ids=VISITS)
def test_getting_there_is_paid_once(model: Model, tape: tuple[str, ...], move: str, minutes: float) -> None:
    assert entry_minutes(model.knowledge, folded(model, LAPTOP, *tape), model.knowledge.move(move)) == minutes


NEEDS = {
    "no-power": (("screen=dead",), "clock", "does not reach the firmware"),
    "no-picture": (("screen=no-picture",), "health-pages", "does not reach the firmware"),
    "locked-setup": (("setup-entry=locked",), "boot-order", "setup cannot be opened"),
    "no-live": (("live-start=fails",), "health-pages", "no live system runs"),
    "no-tool": (("seen-builtin=no-such-tool",), "builtin-quick", "no built-in diagnostics"),
    "not-seen": (
        ("seen-setup=absent", "seen-live=absent", "reseat=no-change", "swap-cable=no-change"),
        "short-test",
        "not detected",
    ),
}


@pytest.mark.parametrize(("tape", "move", "why"), NEEDS.values(), ids=NEEDS)
def test_what_cannot_be_made_is_not_offered(model: Model, tape: tuple[str, ...], move: str, why: str) -> None:
    state = folded(model, LAPTOP, *tape)
    assert why in (unmet_need(model, state, model.knowledge.move(move)) or "")
    assert move not in moves(case(model, LAPTOP, *tape))


APPLICABLE = {
    "no-text-setup": (
        {"platform": "mac"},
        ("screen=missing-disk-symbol",),
        {"clock", "boot-mode", "seen-setup", "setup-entry", "set-mode"},
    ),
    "soldered": (
        {"drive_kind": "emmc"},
        ("screen=no-boot-device", "seen-setup=absent"),
        {"reseat", "seat", "swap-cable", "seen-dock"},
    ),
    "no-reset-on-linux": (
        {"installed_os": "linux", "data": "none"},
        ("screen=other-stop", "reduced-start=fails"),
        {"reset-keep", "reset-clean", "roll-back"},
    ),
}


@pytest.mark.parametrize(("facts", "tape", "never"), APPLICABLE.values(), ids=APPLICABLE)
def test_moves_that_the_machine_does_not_have_are_never_offered(
    model: Model, facts: dict[str, Any], tape: tuple[str, ...], never: set[str]
) -> None:
    found = case(model, facts, *tape)
    assert not never & set(moves(found))
    assert not never & {o["fix"] for o in found["call"]["options"]}


def test_stored_variables_are_reset_only_where_there_is_no_text_setup(model: Model) -> None:
    assert "reset-nvram" not in {o["fix"] for o in case(model, SAFE, "screen=no-boot-device")["call"]["options"]}
    state = folded(model, {"platform": "mac"}, "screen=missing-disk-symbol")
    assert "reset-nvram" in economy(model, state, ()).fixes


def test_what_was_tried_is_not_offered_again(model: Model) -> None:
    tried = case(
        model,
        LAPTOP,
        "screen=no-boot-device",
        "seen-setup=absent",
        "reseat=no-change",
        "sound=steady",
        "reseat=no-change",
    )
    assert "reseat" not in moves(tried)
    assert "reseat" not in {o["fix"] for o in tried["call"]["options"]}


def test_after_a_start_the_second_start_and_the_battery_are_looked_at(model: Model) -> None:
    found = case(model, SAFE, "screen=no-boot-device", "boot-order=other-first", "set-order=boots")
    assert {"clock", "screen"} & set(moves(found))
    proven = case(
        model, SAFE, "screen=no-boot-device", "boot-order=other-first", "set-order=boots", "clock=right", "screen=boots"
    )
    assert proven["call"]["choice"] == "release"


REPAIR_ODDS = {
    "a-known-cause": ({}, "story=power-cut", 1.08),
    "nothing-explains-it": ({}, "story=routine", 0.88),
    "nobody-asked": ({}, "", 1.0),
    "all-of-it": ({"volume_repair": "all-of-it"}, "", 1.14),
    "nothing-of-it": ({"volume_repair": "none-of-it"}, "", 0.45),
    "a-cause-and-part-of-it": ({"volume_repair": "part-of-it"}, "story=forced-off", 1.08 * 0.70),
}


@pytest.mark.parametrize(("facts", "story", "times"), REPAIR_ODDS.values(), ids=REPAIR_ODDS)
def test_what_a_repair_comes_to_follows_its_cause_and_what_the_look_found(
    model: Model, facts: dict[str, Any], story: str, times: float
) -> None:
    entries = parse_entries(
        readings(*([story] if story else []), "screen=volume-stop", "volume-look=damaged"), model.knowledge
    )
    state = fold(model, {**LAPTOP, **SAFE, **facts}, entries)
    cure = model.knowledge.fixes["repair-volume"].cures["volume.damaged"]
    place = model.space.index("volume.damaged")
    assert model.final("repair-volume", state.how).gone[place] == pytest.approx(min(cure * times, 0.97))
    after = fold(
        model,
        {**LAPTOP, **SAFE, **facts},
        [*entries, *parse_entries(readings("repair-volume=no-change"), model.knowledge)],
    )
    odds = [
        float(s.belief @ model.fault_mask("volume.damaged")) / float(1 - s.belief @ model.fault_mask("volume.damaged"))
        for s in (state, after)
    ]
    assert odds[1] < odds[0], "one that failed speaks against it, the more the surer it was"


def test_every_outlook_is_a_distribution(model: Model) -> None:
    for move in case(model, LAPTOP, "screen=no-boot-device")["next"]:
        if move["outlook"]:
            assert sum(o["p"] for o in move["outlook"]) == pytest.approx(1.0, abs=0.02)
            assert all(0 <= o["leaves_p"] <= 1 for o in move["outlook"])


def test_the_weight_of_a_check_is_its_bayes_factor(model: Model) -> None:
    state = folded(model, LAPTOP, "screen=no-boot-device", "seen-setup=zero-size")
    weight = {w.entry: w.factor for w in weights_of_evidence(model, state, ["drive.mechanical"])["drive.mechanical"]}
    with_it = model.fault_mask("drive.mechanical")
    before, likelihood = state.steps[1].before, model.look("seen-setup", "zero-size")
    factor = ((before * likelihood * with_it).sum() / (before * with_it).sum()) / (
        (before * likelihood * (1 - with_it)).sum() / (before * (1 - with_it)).sum()
    )
    assert weight[1] == pytest.approx(factor, rel=1e-6)


def test_a_tip_really_tips(model: Model) -> None:
    tape = ("screen=no-boot-device", "seen-setup=absent", "seen-picker=absent")
    state = folded(model, SAFE, *tape)
    call = assess(model, state).call
    found = tips(model, state, call, [])
    assert found
    for tip in found:
        after = case(model, SAFE, *tape, f"{tip.move}={tip.outcome}")["call"]["balance"]
        assert max(after, key=lambda c: after[c]) == tip.choice != call.leans
