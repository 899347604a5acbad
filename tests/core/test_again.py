"""Doubt about single readings: a heavy verdict that rests on one look asks for another; what was seen twice is not
doubted; a slip flips nothing."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from gatecheck.adapters.shipped_tables import shipped_words
from gatecheck.core.belief.model import Model
from gatecheck.core.decide.recheck import misread
from gatecheck.core.decide.report import triage
from gatecheck.core.rehearsal.machine import RehearsedMachine
from gatecheck.core.rehearsal.run import calibration
from gatecheck.core.tape.fold import fold
from gatecheck.core.tape.parse import parse_entries
from tapes import readings

PC: dict[str, Any] = {
    "platform": "pc",
    "form": "laptop",
    "installed_os": "windows-10",
    "drive_kind": "hdd",
    "data": "backed-up",
    "mains": "connected",
    "as_of_year": 2026,
}


def said(model: Model, *texts: str, **facts: Any) -> dict[str, Any]:
    return dict(triage(model, shipped_words(), {"facts": {**PC, **facts}, "entries": readings(*texts)}))


def test_a_verdict_that_one_surprising_reading_carries_is_looked_at_again(model: Model) -> None:
    seen = ("screen=no-boot-device", "seen-setup=zero-size")
    once = said(model, *seen, drive_kind="nvme")
    assert once["call"]["choice"] is None
    assert once["call"]["why"].startswith(
        "Based on one reading that may be a typing mistake: Find the drive in firmware setup"
    )
    assert (once["next"][0]["move"], once["next"][0]["kind"]) == ("seen-setup", "check")
    twice = said(model, *seen, "seen-setup=zero-size", drive_kind="nvme")
    assert "slip" not in twice["call"]["why"], "what was seen twice is not doubted"
    assert twice["suspects"] == once["suspects"], "and is the same evidence, not more of it"
    corrected = said(model, *seen, "seen-setup=right", drive_kind="nvme")
    assert (
        corrected["suspects"] == said(model, "screen=no-boot-device", "seen-setup=right", drive_kind="nvme")["suspects"]
    )


def test_a_verdict_that_several_readings_carry_stands(model: Model) -> None:
    found = said(
        model,
        "screen=no-boot-device",
        "live-start=runs",
        "seen-live=right",
        "health-pages=failing",
        "short-test=read-failure",
        "error-log=recent",
    )
    assert (found["call"]["choice"], found["call"]["fix"]) == ("replace", "replace-drive")


def test_a_dark_picture_is_looked_at_twice_before_memory_is_changed(model: Model) -> None:
    once = said(model, "screen=no-picture")
    assert once["next"][0]["move"] == "screen"
    assert "brightness" in once["next"][0]["why"]
    twice = said(model, "screen=no-picture", "screen=no-picture")
    assert twice["next"][0]["move"] == "swap-memory"
    sure = said(model, "screen=no-picture", "builtin-memory=failed")
    assert sure["call"]["fix"] == "swap-memory", "where a test says it, nobody looks twice"


DEAD_ENDS = {
    "what-holds-the-fix-is-released": (
        {"drive_kind": "sata-ssd", "data": "irreplaceable"},
        "screen=system-missing,seen-setup=right,clock=right,entry-target=present,health-pages=clean,loader-look=sound,seen-picker=listed,"
        "seen-live=right,storage-mode=fits,boot-mode=fits,secure-boot=fits,boot-order=system-first,reduced-start=fails,volume-look=dirty,error-log=empty,disk-layout=sound,short-test=passed",
        "copy-data",
    ),
    "their-word-leaves-a-lab": (
        {"data": "irreplaceable", "consent": "refused"},
        "screen=no-boot-device,clock=right,sound=steady,health-pages=failing,copy-data=partial,boot-order=system-first,seen-setup=right,short-test=read-failure",
        "refer-lab",
    ),
}


@pytest.mark.parametrize(("facts", "tape", "move"), DEAD_ENDS.values(), ids=DEAD_ENDS)
def test_there_is_a_way_on(model: Model, facts: dict[str, Any], tape: str, move: str) -> None:
    found = said(model, *tape.split(","), **facts)
    assert found["next"][0]["move"] == move or found["call"]["fix"] == move


def test_a_machine_that_starts_with_a_clock_that_fell_back_is_not_released(model: Model) -> None:
    found = said(
        model, "screen=dead", "repair-power=boots", "screen=boots", "clock=wrong", form="desktop", drive_year=2014
    )
    assert found["call"]["choice"] != "release"
    assert found["next"][0]["move"] == "replace-battery"


def test_damage_that_was_heard_once_is_listened_to_again_when_nothing_can_be_lost(model: Model) -> None:
    heard = ("screen=blank-cursor", "sound=clunking", "power-down=off", "refer-lab=declined")
    assert said(model, *heard, data="irreplaceable", consent="given", form="desktop")["next"][0]["move"] == "sound"
    once = said(model, *heard[:3], data="irreplaceable", form="desktop")
    assert once["next"][0]["move"] == "sound", "no lab on one sound"
    twice = said(model, *heard[:3], "sound=clunking", data="irreplaceable", form="desktop")
    assert twice["next"][0]["move"] == "refer-lab"


def test_the_share_of_slips_is_that_of_bayes(model: Model) -> None:
    """By hand: P(slip | reading) with a uniform slip onto the other outcomes."""
    entries = parse_entries(readings("seen-setup=absent"), model.knowledge)
    state = fold(model, PC, entries)
    p, without = misread(model, state, state.latest["seen-setup"][1])
    share, outcomes = model.knowledge.misread[""], model.knowledge.checks["seen-setup"].outcomes
    told = float(model.prior(state.facts) @ model.look("seen-setup", "absent"))
    assert without == pytest.approx(model.prior(state.facts) / model.prior(state.facts).sum())
    slip = share / (len(outcomes) - 1) * (1 - told)
    assert p == pytest.approx(slip / (slip + (1 - share) * told))


def test_a_damaged_drive_is_not_started_again_only_to_read_it_once_more(model: Model) -> None:
    found = said(model, "screen=no-boot-device", "sound=ticking", data="irreplaceable")
    assert found["next"][0]["move"] == "power-down"
    assert {m["move"] for m in found["next"] if m["kind"] == "check"} <= {"sound", "clock"}, "heard once more, no test"
    assert found["call"]["choice"] == "refer"


@pytest.mark.parametrize(
    ("texts", "choice"),
    [
        (("screen=no-boot-device", "seen-setup=absent", "reseat=boots"), "release"),
        (("screen=wrong-boot-device", "pull-externals=boots"), "release"),
        (
            ("screen=network-boot", "clock=right", "seen-setup=right", "boot-order=other-first", "set-order=boots"),
            "release",
        ),
    ],
)
def test_what_starts_is_called_and_what_proves_it_follows(model: Model, texts: tuple[str, ...], choice: str) -> None:
    found = said(model, *texts)
    assert found["call"]["choice"] == choice
    assert found["next"][0]["move"] == "screen", "the second cold start is proof, not a condition"


def test_a_call_under_one_half_is_no_call(model: Model) -> None:
    rng = np.random.default_rng(5)
    for seed in range(40):
        made = RehearsedMachine.draw(model, {**PC, "data": "none"}, np.random.default_rng(seed))
        tape = [
            made.make(str(move))
            for move in rng.choice(
                ["screen", "story", "seen-setup", "health-pages", "boot-order", "disk-layout", "loader-look"],
                5,
                replace=False,
            )
        ]
        call: Any = triage(model, shipped_words(), {"facts": PC, "entries": tape})["call"]
        assert call["choice"] is None or call["confidence"] >= 0.5


def test_could_not_be_done_does_not_use_a_fix_up_at_once(model: Model) -> None:
    base = ("screen=no-boot-device", "seen-setup=absent", "seat=loose")
    for times in range(4):
        found = said(model, *base, *["reseat=could-not"] * times)
        offered = "reseat" in [m["move"] for m in found["next"]]
        assert offered == (times < 1), times


def test_heard_damage_holds_against_clean_tests(model: Model) -> None:
    found = said(
        model,
        "screen=no-boot-device",
        "sound=clunking",
        "health-pages=clean",
        "short-test=passed",
        "long-test=passed",
        "read-scan=clean",
    )
    assert "stop-running" in {h["interlock"] for h in found["held"]}


def test_nothing_is_left_behind_or_destroyed_against_the_customers_word(model: Model) -> None:
    found = said(
        model,
        "screen=no-boot-device",
        "seen-setup=absent",
        "reseat=no-change",
        "swap-cable=no-change",
        "seen-live=absent",
        "seen-dock=absent",
        data="irreplaceable",
        consent="refused",
    )
    assert "replace-drive" not in [m["move"] for m in found["next"]]
    assert all(o["fix"] not in ("replace-drive", "reinstall", "reset-clean") for o in found["call"]["options"])


def test_dear_parts_do_not_turn_a_replacement_into_a_referral(model: Model) -> None:
    from gatecheck.adapters.shipped_tables import shipped_texts
    from gatecheck.core.belief.compile import compile_model
    from gatecheck.core.knowledge.loader import load

    dear = compile_model(load(shipped_texts(), {"fixes.toml": "[fixes.replace-drive]\nparts = 900\n"}))
    tape = readings("screen=no-boot-device", "health-pages=failing", "short-test=read-failure", "error-log=recent")
    call: Any = triage(dear, shipped_words(), {"facts": PC, "entries": tape})["call"]
    assert call["leans"] == "replace"


def test_a_world_that_misreads_tells_each_time_anew(model: Model) -> None:
    from msgspec.structs import replace

    careless = replace(model, knowledge=replace(model.knowledge, misread={"": 0.3}))
    made = RehearsedMachine.draw(careless, PC, np.random.default_rng(3))
    told = [made.make("seen-setup")["outcome"] for _ in range(400)]
    most = max(set(told), key=told.count)
    assert 0.6 < told.count(most) / 400 < 0.8
    assert made.slips == 400 - told.count(most)


@pytest.mark.parametrize(
    ("made", "error"),
    [
        ([], None),
        ([(0.8, True)] * 4 + [(0.8, False)], 0.0),
        ([(0.95, False)], 0.95),
        ([(0.55, True), (0.95, True)], 0.25),
    ],
)
def test_the_calibration_error_is_that_of_ten_bins(made: list[tuple[float, bool]], error: float | None) -> None:
    found = calibration(made)
    assert found is None if error is None else found == pytest.approx(error, abs=1e-9)


@pytest.mark.parametrize("seed", range(6))
def test_while_there_is_no_call_there_is_a_next_move(model: Model, seed: int) -> None:
    """Tapes of machines that were looked at in any order, until the engine has nothing left of its own."""
    rng = np.random.default_rng(seed)
    facts = {
        **PC,
        "data": str(rng.choice(["irreplaceable", "backed-up", "none"])),
        "consent": str(rng.choice(["refused", "given", "not-asked"])),
        "form": "desktop",
    }
    made = RehearsedMachine.draw(model, facts, rng)
    tape: list[dict[str, Any]] = []
    moves = [m for m in (*model.knowledge.checks, "reseat", "swap-cable", "pull-externals") if m != "story"]
    for move in rng.permutation(moves)[:26]:
        tape.append(made.make(str(move)))
        found: Any = triage(model, shipped_words(), {"facts": facts, "entries": tape})
        assert found["call"]["choice"] or found["next"], [(e["move"], e["outcome"]) for e in tape]


def test_a_rule_against_the_customers_word_gives_way(model: Model) -> None:
    found = said(
        model,
        "screen=no-boot-device",
        "seen-setup=absent",
        "reseat=no-change",
        "swap-cable=no-change",
        "seen-live=absent",
        "seen-dock=absent",
        data="irreplaceable",
        consent="refused",
    )
    assert found["call"]["choice"] in (None, "refer")
    assert found["next"]
