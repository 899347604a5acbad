"""The filter: exact, order-aware, and unmoved by what is no news."""

from __future__ import annotations

from itertools import product
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from gatecheck.adapters.shipped_tables import shipped_model
from gatecheck.core.belief.facts import all_odds
from gatecheck.core.belief.model import Model
from gatecheck.core.errors import TapeError
from gatecheck.core.tape.fold import fold
from gatecheck.core.tape.parse import parse_entries
from tapes import LAPTOP, case, p, readings, tapes

MODEL = shipped_model()
PROPERTY = settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow])


def belief(entries: list[dict[str, Any]], facts: dict[str, Any] | None = None) -> np.ndarray:
    return fold(MODEL, facts or LAPTOP, parse_entries(entries, MODEL.knowledge)).belief


def naive_posterior(model: Model, facts: dict[str, Any], seen: list[tuple[str, str]]) -> dict[frozenset[str], float]:
    """Bayes by hand over all hypotheses of up to two faults, from the knowledge tables and nothing else of the
    engine's."""
    k = model.knowledge
    odds = all_odds(k, facts)
    order = [f.id for g in k.gates for f in k.faults if f.gate == g.id]
    sets = [frozenset()] + [frozenset({f}) for f in order]
    sets += [
        frozenset({a, b})
        for a, b in product(order, order)
        if order.index(a) < order.index(b) and a.split(".")[0] != b.split(".")[0]
    ]
    comes_and_goes = {f.id: f.intermittent for f in k.faults}
    weights = {}
    for faults in sets:
        weight = k.sound_odds if not faults else k.shared_scale ** (len(faults) - 1)
        for fault in faults:
            weight *= odds[fault]
        for coupling in k.couplings:
            if coupling.faults[0] in faults:
                weight *= coupling.times ** len(faults & set(coupling.faults[1:]))
        weights[faults] = 0.0
        for manners in product((False, True), repeat=len(faults)):
            told = dict(zip([f for f in order if f in faults], manners, strict=True))
            share = weight * np.prod([comes_and_goes[f] if now else 1.0 - comes_and_goes[f] for f, now in told.items()])
            for check, outcome in seen:
                share *= naive_likelihood(model, check, outcome, told)
            weights[faults] += share
    return weights


def naive_likelihood(model: Model, check: str, outcome: str, faults: dict[str, bool]) -> float:
    """`faults`: in boot order, each with whether it comes and goes."""
    k, spec = model.knowledge, model.knowledge.checks[check]
    table = spec.table
    rows = [
        table.intermittent[f] if now and f in table.intermittent else table.rows[f]
        for f, now in faults.items()
        if f in table.rows or (now and f in table.intermittent)
    ]

    def share(o: str) -> float:
        if not rows:
            value = table.sound.get(o, 0.0)
        elif table.combine == "blend":
            value = sum(r.get(o, 0.0) for r in rows) / len(rows)
        elif table.combine == "any-abnormal":
            normal = np.prod([r.get(table.normal, 0.0) for r in rows])
            abnormal = {x: sum(r.get(x, 0.0) for r in rows) for x in spec.outcomes if x != table.normal}
            value = normal if o == table.normal else (1 - normal) * abnormal[o] / (sum(abnormal.values()) or 1.0)
        else:
            value, onward = 0.0, 1.0
            for row in rows:
                value += onward * (row.get(o, 0.0) if o != table.normal else 0.0)
                onward *= row.get(table.normal, 0.0)
            value += onward * table.sound.get(o, 0.0)
        if table.hidden_by:
            by = k.visibility[table.hidden_by]
            seen = np.prod(
                [
                    1 - (by.intermittent.get(f, by.by.get(f, 0.0)) if now else by.by.get(f, 0.0))
                    for f, now in faults.items()
                ]
            )
            value = seen * value + (1 - seen) * table.hidden_row.get(o, 0.0)
        return float(value) + k.check_floor

    if outcome in table.aside:
        return table.aside[outcome]
    total = sum(share(o) for o in spec.outcomes if o not in table.aside)
    return share(outcome) / total * (1 - sum(table.aside.values()))


SEEN = [
    pytest.param([], id="prior"),
    pytest.param([("screen", "no-boot-device"), ("seen-setup", "absent")], id="absent"),
    pytest.param(
        [("story", "forced-off"), ("screen", "volume-stop"), ("volume-look", "damaged"), ("health-pages", "clean")],
        id="volume",
    ),
    pytest.param(
        [
            ("screen", "blank-cursor"),
            ("boot-mode", "conflicts"),
            ("disk-layout", "mode-mismatch"),
            ("short-test", "passed"),
        ],
        id="mode",
    ),
    pytest.param([("builtin-quick", "no-such-tool"), ("reduced-start", "fails")], id="aside"),
    pytest.param(
        [("screen", "volume-stop"), ("seen-setup", "right"), ("seen-live", "absent"), ("health-pages", "link-errors")],
        id="now-and-then",
    ),
]


@pytest.mark.parametrize("seen", SEEN)
def test_belief_equals_bayes_by_hand(model: Model, seen: list[tuple[str, str]]) -> None:
    by_hand = naive_posterior(model, LAPTOP, seen)
    engine = belief([{"move": m, "outcome": o} for m, o in seen])
    ours = {frozenset(faults): p for faults, p in model.space.by_faults(engine).items()}
    scale = ours[frozenset()] / by_hand[frozenset()]
    for faults, weight in by_hand.items():
        assert ours[faults] == pytest.approx(weight * scale, rel=1e-8), faults


@PROPERTY
@given(tapes(MODEL))
def test_belief_is_a_distribution(tape: list[dict[str, Any]]) -> None:
    after = belief(tape)
    assert after.min() >= 0
    assert after.sum() == pytest.approx(1.0)


@PROPERTY
@given(tapes(MODEL), st.data())
def test_undo_equals_a_tape_without_the_entry(tape: list[dict[str, Any]], data: st.DataObject) -> None:
    if tape:
        n = data.draw(st.integers(0, len(tape) - 1))
        assert belief([*tape, {"undo": n}]) == pytest.approx(belief(tape[:n] + tape[n + 1 :]), abs=1e-12)
        assert belief([*tape, {"undo": n}, {"undo": len(tape)}]) == pytest.approx(belief(tape), abs=1e-12)


@PROPERTY
@example([{"move": "rebuild-table", "outcome": "boots"}], "screen", None)
@given(tapes(MODEL), st.sampled_from(sorted(MODEL.knowledge.checks)), st.data())
def test_the_same_check_twice_is_the_same_evidence(
    tape: list[dict[str, Any]], check: str, data: st.DataObject | None
) -> None:
    outcome = "dead" if data is None else data.draw(st.sampled_from(MODEL.knowledge.checks[check].outcomes))
    once = [*tape, {"move": check, "outcome": outcome}]
    assert belief([*once, once[-1]]) == pytest.approx(belief(once), abs=1e-12)
    between = [r for r in readings("port=on", "cable-look=sound", "copy-data=partial") if r["move"] != check]
    assert belief([*once, *between, once[-1]]) == pytest.approx(belief([*once, *between]), abs=1e-9)


@PROPERTY
@given(st.permutations(readings("screen=network-boot", "clock=right", "sound=steady", "seen-setup=absent", "port=on")))
def test_checks_alone_may_come_in_any_order(tape: list[dict[str, Any]]) -> None:
    expected = belief(readings("screen=network-boot", "clock=right", "sound=steady", "seen-setup=absent", "port=on"))
    assert belief(tape) == pytest.approx(expected, rel=1e-9)


@PROPERTY
@given(tapes(MODEL, most=6), st.sampled_from(sorted(MODEL.knowledge.checks)), st.data())
def test_soft_evidence_for_one_outcome_is_the_outcome(
    tape: list[dict[str, Any]], check: str, data: st.DataObject
) -> None:
    outcome = data.draw(st.sampled_from(MODEL.knowledge.checks[check].outcomes))
    hard, soft = {"move": check, "outcome": outcome}, {"move": check, "weights": {outcome: 3.0}}
    assert belief([*tape, hard]) == pytest.approx(belief([*tape, soft]), abs=1e-12)


def test_soft_evidence_lies_between_its_outcomes(model: Model) -> None:
    sure = p(case(model, LAPTOP, "health-pages=failing"), "drive.media")
    clean = p(case(model, LAPTOP, "health-pages=clean"), "drive.media")
    half = p(case(model, LAPTOP, more=[{"move": "health-pages", "weights": {"failing": 1, "clean": 1}}]), "drive.media")
    assert clean < half < sure


def test_a_correction_replaces_the_mistyped_reading(model: Model) -> None:
    corrected = case(model, LAPTOP, "screen=dead", "screen=network-boot")
    assert p(corrected, "settings.order") == pytest.approx(
        p(case(model, LAPTOP, "screen=network-boot"), "settings.order")
    )


def test_a_check_after_a_fix_that_may_have_changed_it_is_news(model: Model) -> None:
    before = case(model, LAPTOP, "seen-setup=absent", "reseat=no-change")
    again = case(model, LAPTOP, "seen-setup=absent", "reseat=no-change", "seen-setup=absent")
    assert p(again, "drive.dead") > p(before, "drive.dead")


TRIALS = ["set-mode", "set-storage-mode", "set-secure-boot", "load-defaults", "set-order", "enable-port"]


@pytest.mark.parametrize("fix", TRIALS)
def test_a_trial_put_back_restores_the_settings(model: Model, fix: str) -> None:
    """What is left of a trial put back is what its outcome said; the settings are as found."""
    start = readings("screen=no-boot-device")
    tried = belief([*start, {"move": fix, "outcome": "no-change"}])
    restored = belief([*start, {"move": fix, "outcome": "no-change"}, {"put_back": fix}])
    component = model.space.components.index("settings")
    assert restored.sum() == pytest.approx(1.0)
    for fault, cured in model.knowledge.fixes[fix].breaks.items():
        broken = float(tried @ model.space.member[:, model.space.index(fault)])
        assert float(restored @ model.space.member[:, model.space.index(fault)]) < broken or cured == 0
    # by hand: multiply the belief before by the outcome's likelihood at each hypothesis, and move nothing
    act, place = model.deeds.acts[fix], model.knowledge.fixes[fix].outcomes.index("no-change")
    likelihood = np.bincount(act.src, act.weight[place], minlength=model.space.size)
    expected = belief(start) * likelihood
    expected /= expected.sum()
    for state in range(-1, len(model.space.fault_ids)):
        here = model.space.fault_in[:, component] == state
        assert restored[here].sum() == pytest.approx(expected[here].sum(), abs=2e-3)


def test_checks_made_during_a_trial_were_made_on_the_changed_machine(model: Model) -> None:
    """A check that conflicts only because of the trial is no evidence about the settings as found."""
    found = case(
        model,
        LAPTOP,
        "screen=no-boot-device",
        "set-mode=no-change",
        "boot-mode=conflicts",
        more=[{"put_back": "set-mode"}],
    )
    plain = case(model, LAPTOP, "screen=no-boot-device", "boot-mode=conflicts")
    assert p(found, "settings.mode") < 0.1 < p(plain, "settings.mode")


def test_a_fix_moves_belief_and_reveals(model: Model) -> None:
    cured = case(model, LAPTOP, "screen=no-boot-device", "seen-setup=absent", "reseat=boots")
    assert p(cured, "link.loose") < 0.1
    assert p(cured, "sound") > 0.6
    unmoved = case(model, LAPTOP, "screen=no-boot-device", "seen-setup=absent", "reseat=no-change")
    assert p(unmoved, "link.loose") < 0.1 < 0.3 < p(unmoved, "drive.dead")


def test_what_could_not_be_done_teaches_nothing(model: Model) -> None:
    assert belief(readings("screen=dead", "reseat=could-not")) == pytest.approx(belief(readings("screen=dead")))


def test_sounds_say_nothing_about_flash(model: Model) -> None:
    flash = {**LAPTOP, "drive_kind": "nvme"}
    assert belief(readings("sound=silent"), flash) == pytest.approx(belief([], flash))


def test_facts_learned_later_count_from_the_start(model: Model) -> None:
    tape = readings("screen=no-boot-device", "seen-setup=absent")
    late = belief([*tape, {"fact": {"drive_kind": "nvme"}}], {"platform": "pc"})
    assert late == pytest.approx(belief(tape, {"platform": "pc", "drive_kind": "nvme"}))


BAD = {
    "no-list": ({"move": "screen"}, "entries: expected a list"),
    "no-object": (["x"], "entry 0: expected an object"),
    "unknown-move": ([{"move": "scren", "outcome": "dead"}], "entry 0.move: expected a move"),
    "unknown-outcome": (readings("screen=dead", "screen=boot"), "entry 1.outcome: expected an outcome of screen"),
    "both": (
        [{"move": "screen", "outcome": "dead", "weights": {"dead": 1}}],
        "entry 0: expected either an outcome or weights",
    ),
    "negative-weight": (
        [{"move": "screen", "weights": {"dead": -1}}],
        "entry 0.weights.dead: expected a number of at least 0",
    ),
    "no-weight": ([{"move": "screen", "weights": {"dead": 0}}], "at least one weight above 0"),
    "nan": ([{"move": "screen", "weights": {"dead": float("nan")}}], "entry 0.weights.dead"),
    "undo-ahead": ([{"undo": 0}], "entry 0.undo: expected the number of an earlier entry"),
    "no-reason": (
        [{"override": "copy-first", "move": "long-test", "reason": " "}],
        "entry 0.reason: expected a written reason",
    ),
    "no-such-interlock": (
        [{"override": "copy-last", "move": "long-test", "reason": "x"}],
        "entry 0.override: expected an interlock",
    ),
    "put-back-nothing": ([{"put_back": "set-mode"}], "entry 0.put_back: expected a change by set-mode"),
    "put-back-twice": (
        [*readings("set-mode=no-change"), {"put_back": "set-mode"}, {"put_back": "set-mode"}],
        "entry 2.put_back",
    ),
    "bad-fact": ([{"fact": {"data": "lost"}}], "entry 0.fact.data: expected one of unknown"),
    "nothing-known": ([{"what": 1}], "entry 0: expected one of undo, fact, put_back"),
}


@pytest.mark.parametrize(("tape", "message"), BAD.values(), ids=BAD)
def test_a_bad_entry_says_what_and_where(model: Model, tape: Any, message: str) -> None:
    with pytest.raises(TapeError, match=message):
        fold(model, {}, parse_entries(tape, model.knowledge))
