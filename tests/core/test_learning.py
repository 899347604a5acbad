"""Learning from closed tickets: what was proven, blending by the weight of evidence, and whether the odds held."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from gatecheck.core.belief.facts import all_odds
from gatecheck.core.belief.model import Model
from gatecheck.core.errors import TapeError
from gatecheck.core.learning import Lesson, base_rates, call_was_right, expected_shares, relearned, reliability
from gatecheck.core.tape.fold import fold, intake_prior
from gatecheck.core.tape.parse import parse_entries, parse_facts
from tapes import SAFE, readings


def lesson(model: Model, *faults: str, context: str = "hdd", **more: Any) -> Lesson:
    given = {"choice": "repair", "confidence": 0.8, "suspects": {}, "was_right": True, "came_back": False, **more}
    return Lesson(context, faults, expected_shares(model, {**SAFE, "drive_kind": context}), **given)


def test_without_lessons_the_shipped_odds_stand(model: Model) -> None:
    assert relearned(model, []) is model
    assert relearned(model, [lesson(model, "settings.order", came_back=True)]) is model


def test_what_is_seen_more_often_than_expected_gets_likelier_by_its_weight(model: Model) -> None:
    """Odds rise towards the shop's own rate as the tickets come in, and never beyond it."""
    shipped = all_odds(model.knowledge, SAFE)["link.loose"]
    share = expected_shares(model, SAFE)["link.loose"]
    factors = []
    for count in (5, 50, 500):
        learned = relearned(model, [lesson(model, "link.loose")] * count)
        factors.append(all_odds(learned.knowledge, SAFE)["link.loose"] / shipped)
        rarer = all_odds(learned.knowledge, SAFE)["settings.order"] / all_odds(model.knowledge, SAFE)["settings.order"]
        assert rarer < 1
    assert 1 < factors[0] < factors[1] < factors[2] < 1 / share * 1.01


@pytest.mark.parametrize("seed", range(6))
def test_learned_rates_lie_between_what_was_shipped_and_what_was_counted(model: Model, seed: int) -> None:
    """Also where the kinds of drive differ: many flash drives with one fault, few disks with none of it."""
    dice = np.random.default_rng(seed)
    faults = [f.id for f in model.knowledge.faults]
    lessons = [
        lesson(model, str(dice.choice(faults[:: int(dice.integers(1, 6))])), context=kind)
        for kind, count in (("hdd", int(dice.integers(1, 9))), ("nvme", int(dice.integers(60, 300))))
        for _ in range(count)
    ]
    for rate in base_rates(model, lessons):
        low, high = sorted((rate.shipped, rate.counted))
        assert low - 1e-9 <= rate.blended <= high + 1e-9, rate


def test_exactly_what_was_expected_changes_nothing(model: Model) -> None:
    expected = expected_shares(model, SAFE)
    lessons = [
        Lesson("hdd", (f,), expected, "repair", 1.0, {}, True, False)
        for f, share in expected.items()
        for _ in range(round(share * 2000))
    ]
    lessons += [Lesson("hdd", (), expected, "release", 1.0, {}, True, False)] * (2000 - len(lessons))
    learned = relearned(model, lessons)
    before, after = all_odds(model.knowledge, SAFE), all_odds(learned.knowledge, SAFE)
    for fault, share in expected.items():
        if share > 0.02:
            assert after[fault] == pytest.approx(before[fault], rel=0.06)


def test_a_context_learns_for_itself(model: Model) -> None:
    """What flash drives of this shop have says little of its disks."""
    flash = [lesson(model, "drive.worn", context="nvme")] * 60
    learned = relearned(model, [*flash, *[lesson(model, "link.loose", context="hdd")] * 60])

    def rise(kind: str, fault: str) -> float:
        facts = {**SAFE, "drive_kind": kind}
        return all_odds(learned.knowledge, facts)[fault] / all_odds(model.knowledge, facts)[fault]

    assert rise("nvme", "drive.worn") > 2.5 * rise("hdd", "drive.worn")
    assert rise("hdd", "link.loose") > 2.5 * rise("nvme", "link.loose")


def test_the_learned_model_reasons_with_the_new_rates(model: Model) -> None:
    learned = relearned(model, [lesson(model, "bystander.in-the-way")] * 80)

    def p(of: Model) -> float:
        state = fold(of, SAFE, parse_entries(readings("screen=wrong-boot-device"), of.knowledge))
        return float(state.belief @ of.fault_mask("bystander.in-the-way"))

    assert p(learned) > p(model) + 0.15
    assert fold(model, SAFE, []).belief.sum() == pytest.approx(1.0)


def test_rates_add_up_and_are_ranked(model: Model) -> None:
    rows = base_rates(
        model, [lesson(model, "link.loose", "settings.order"), lesson(model), lesson(model, "link.loose")]
    )
    counted = {r.fault: r.counted for r in rows}
    assert counted["link.loose"] == pytest.approx(1.5 / 3)
    assert counted["settings.order"] == pytest.approx(0.5 / 3)
    assert [r.blended for r in rows] == sorted((r.blended for r in rows), reverse=True)


def test_reliability_counts_comebacks_against_the_call(model: Model) -> None:
    lessons = [
        lesson(model, "link.loose", confidence=0.95, suspects={"link.loose": 0.9, "drive.dead": 0.06}),
        lesson(
            model, "drive.dead", confidence=0.95, suspects={"link.loose": 0.92, "drive.dead": 0.05}, was_right=False
        ),
        lesson(model, "link.loose", confidence=0.95, suspects={"link.loose": 0.9}, came_back=True),
    ]
    found = reliability(lessons)
    assert [(b.count, pytest.approx(b.observed)) for b in found.calls] == [(3, 1 / 3)]
    assert {(b.count, b.observed) for b in found.suspects} == {(2, 0.5)}
    assert found.brier == pytest.approx(np.mean([0.01, 0.06**2, 0.92**2, 0.95**2]))
    assert reliability([]).brier is None


RIGHT = {
    "setting": (("settings.order",), "repair", False, True),
    "drive": (("drive.media",), "replace", False, True),
    "reinstall-a-failing-drive": (("drive.media",), "reinstall", False, False),
    "either-of-two": (("drive.media", "settings.order"), "repair", False, True),
    "released-and-starts": (("settings.order",), "release", True, True),
    "nothing-wrong": ((), "release", False, True),
}


@pytest.mark.parametrize(("faults", "choice", "started", "right"), RIGHT.values(), ids=RIGHT)
def test_a_call_is_judged_by_what_it_was(
    model: Model, faults: tuple[str, ...], choice: str, started: bool, right: bool
) -> None:
    assert call_was_right(model, SAFE, faults, choice, started) == right


CAME_IN = {
    "one": (("screen=no-boot-device", "seen-setup=absent", "reseat=boots"), {"link.loose"}),
    "one-behind-the-other": (
        (
            "screen=no-boot-device",
            "seen-setup=absent",
            "reseat=now-seen",
            "screen=network-boot",
            "boot-order=other-first",
            "set-order=boots",
        ),
        {"link.loose", "settings.order"},
    ),
    "setting": (
        ("screen=network-boot", "boot-order=other-first", "seen-setup=right", "set-order=boots"),
        {"settings.order"},
    ),
}


@pytest.mark.parametrize(("tape", "faults"), CAME_IN.values(), ids=CAME_IN)
def test_the_whole_tape_tells_what_a_machine_came_in_with(
    model: Model, tape: tuple[str, ...], faults: set[str]
) -> None:
    before = intake_prior(model, parse_facts(SAFE, model.knowledge), parse_entries(readings(*tape), model.knowledge))
    best = int(before.argmax())
    assert {model.space.fault_ids[i] for i in model.space.order[best] if i >= 0} == faults
    assert before.sum() == pytest.approx(1.0)
    after = fold(model, SAFE, parse_entries(readings(*tape), model.knowledge)).belief
    assert after[0] > 0.7, "and it has nothing of it left"


PROVEN = {
    "text": ("settings.order", "expected a list of faults"),
    "unknown": (["settings.moon"], "entry 0.proven: expected a fault"),
    "two-states": (["drive.dead", "drive.media"], "one state for each component"),
}


@pytest.mark.parametrize(("raw", "message"), PROVEN.values(), ids=PROVEN)
def test_proven_faults_are_checked(model: Model, raw: Any, message: str) -> None:
    with pytest.raises(TapeError, match=message):
        parse_entries([{"proven": raw}], model.knowledge)


def test_proven_faults_weigh_nothing_and_can_be_taken_back(model: Model) -> None:
    entries = parse_entries([*readings("screen=network-boot"), {"proven": ["settings.order"]}], model.knowledge)
    state = fold(model, SAFE, entries)
    assert state.proven == ("settings.order",)
    assert np.array_equal(state.belief, fold(model, SAFE, entries[:1]).belief)
    undone = parse_entries(
        [*readings("screen=network-boot"), {"proven": ["settings.order"]}, {"undo": 1}], model.knowledge
    )
    assert fold(model, SAFE, undone).proven is None
