"""Rehearsal: machines answer as their world says, policies work through the same fold, runs repeat by their seed."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from gatecheck.adapters.shipped_tables import shipped_words, shipped_worlds
from gatecheck.cli.main import main
from gatecheck.cli.rehearse import rehearse_runs
from gatecheck.core.belief.model import Model
from gatecheck.core.decide.report import triage
from gatecheck.core.rehearsal.machine import RehearsedMachine, draw_facts
from gatecheck.core.rehearsal.perturb import perturbed
from gatecheck.core.rehearsal.policies import POLICIES
from gatecheck.core.rehearsal.run import RehearsalRun, rehearse_one, summarise

FACTS = {"platform": "pc", "form": "laptop", "drive_kind": "hdd", "data": "irreplaceable", "as_of_year": 2026}
SEEDS = range(500, 512)


def machine(model: Model, *faults: str, seed: int = 1, facts: dict[str, Any] | None = None) -> RehearsedMachine:
    """A machine with these faults and no others."""
    made = RehearsedMachine.draw(model, facts or FACTS, np.random.default_rng(seed))
    made.faults = 0
    for fault in faults:
        made.faults = int(model.space.add[made.faults, model.space.index(fault)])
    return made


def share(model: Model, move: str, outcome: str, *faults: str, rounds: int = 300) -> float:
    answers = [machine(model, *faults, seed=s).make(move)["outcome"] for s in range(rounds)]
    return answers.count(outcome) / rounds


@pytest.mark.parametrize(
    ("move", "outcome", "fault"),
    [
        ("seen-setup", "absent", "drive.dead"),
        ("screen", "volume-stop", "volume.damaged"),
        ("copy-data", "complete", "drive.media"),
        ("seat", "loose", "link.loose"),
    ],
)
def test_a_machine_answers_as_its_world_says(model: Model, move: str, outcome: str, fault: str) -> None:
    place = model.knowledge.move(move).outcomes.index(outcome)
    expected = model.sight.looks[move][place, model.space.add[0, model.space.index(fault)]]
    assert share(model, move, outcome, fault) == pytest.approx(expected, abs=0.09)


def test_the_same_check_answers_the_same_until_something_changed(model: Model) -> None:
    made = machine(model, "link.loose")
    assert len({made.make("seen-setup")["outcome"] for _ in range(20)}) == 1
    before = made.make("seen-setup")["outcome"]
    made.make("copy-data")
    assert made.make("seen-setup")["outcome"] == before


def test_a_fix_cures_as_often_as_its_table_says(model: Model) -> None:
    cured = 0
    for seed in range(300):
        made = machine(model, "link.loose", seed=seed)
        made.make("reseat")
        cured += not made.fault_names()
    fix = model.knowledge.fixes["reseat"]
    assert cured / 300 == pytest.approx(fix.cures["link.loose"] * (1 - fix.could_not), abs=0.06)


def test_a_trial_put_back_leaves_the_machine_as_found(model: Model) -> None:
    for seed in range(40):
        made = machine(model, "link.loose", seed=seed)
        found = made.faults
        made.make("set-mode")
        made.put_back("set-mode")
        assert made.faults == found


def test_stress_on_a_failing_drive_may_cost_the_data(model: Model) -> None:
    lost = sum(_after(model, "read-scan", "drive.mechanical", seed=s).lost for s in range(200)) / 200
    assert lost == pytest.approx(model.knowledge.stress["surface"]["drive.mechanical"], abs=0.09)
    assert not any(_after(model, "read-scan", "link.loose", seed=s).lost for s in range(50))
    assert _after(model, "reinstall", "volume.damaged").lost
    assert not _after(model, "reinstall", "volume.damaged", data="backed-up").lost


def test_who_listens_to_a_running_machine_starts_nothing(model: Model) -> None:
    def lost(*moves: str) -> float:
        made = [
            machine(model, "drive.mechanical", seed=s, facts={**FACTS, "data": "irreplaceable"}) for s in range(1500)
        ]
        for each in made:
            for move in moves[:-1]:
                each.make(move)
            each.lost = False
            each.make(moves[-1])
        return sum(each.lost for each in made) / len(made)

    start = model.knowledge.stress["start"]["drive.mechanical"]
    assert lost("screen", "sound") == 0
    for before in ((), ("screen", "power-down"), ("screen", "seat")):
        assert lost(*before, "sound") == pytest.approx(start, abs=0.008)


def _after(model: Model, move: str, fault: str, seed: int = 1, data: str = "irreplaceable") -> RehearsedMachine:
    made = machine(model, fault, seed=seed, facts={**FACTS, "data": data})
    made.make(move)
    return made


@pytest.fixture(scope="module")
def runs(model: Model) -> dict[str, list[RehearsalRun]]:
    return {policy: [rehearse_one(model, model, policy, seed) for seed in SEEDS] for policy in POLICIES}


def test_the_same_seed_gives_every_policy_the_same_machine(model: Model, runs: dict[str, list[RehearsalRun]]) -> None:
    assert len({tuple(r.faults for r in made) for made in runs.values()}) == 1
    assert rehearse_one(model, model, "planner", SEEDS[0]) == runs["planner"][0]


def test_the_planner_never_makes_a_held_move(model: Model, runs: dict[str, list[RehearsalRun]]) -> None:
    for seed, run in zip(SEEDS, runs["planner"], strict=True):
        facts = draw_facts(model, np.random.default_rng(seed))
        for place, entry in enumerate(run.tape):
            if "move" in entry and place >= 2:  # story and screen come with the machine
                before: Any = triage(model, shipped_words(), {"facts": facts, "entries": list(run.tape[:place])})
                assert entry["move"] not in {h["move"] for h in before["held"]}, (run.faults, place)


def test_knowing_the_fault_takes_the_fewest_moves(runs: dict[str, list[RehearsalRun]]) -> None:
    moves = {policy: summarise(policy, made).moves_mean for policy, made in runs.items()}
    assert moves["clairvoyant"] < min(moves["planner"], moves["random-legal"])


def test_planning_beats_the_fixed_order(runs: dict[str, list[RehearsalRun]]) -> None:
    planner, fixed = summarise("planner", runs["planner"]), summarise("fixed", runs["fixed"])
    assert planner.right_calls > fixed.right_calls
    assert planner.hands_on_mean < fixed.hands_on_mean


KEYS_TO_SIGN = 2
"""S, then Y"""


def test_a_verdict_is_a_dozen_keys_away(model: Model) -> None:
    """A result or an answer is one key; more than fifteen are left to rare cases (`bench/keys.py`)."""
    made = [rehearse_one(model, model, "planner", seed) for seed in range(7_700, 7_740)]
    keys = sorted(run.called_at - 1 + KEYS_TO_SIGN for run in made if run.called_at is not None)
    assert len(keys) == len(made)
    assert keys[len(keys) // 2] <= 9
    assert sum(k <= 15 for k in keys) >= 0.9 * len(keys)


def test_the_first_call_of_a_run_is_the_first_that_its_tape_gives(
    model: Model, runs: dict[str, list[RehearsalRun]]
) -> None:
    for run in runs["planner"]:
        calls = [
            triage(model, shipped_words(), {"facts": run.facts, "entries": list(run.tape[:told])})["call"]["choice"]
            for told in range(2, len(run.tape) + 1)
        ]
        first = next((told for told, choice in enumerate(calls, 2) if choice is not None), None)
        assert run.called_at == first, run.faults
    assert summarise("planner", runs["planner"]).steps_to_call == np.median(
        [run.called_at - 1 for run in runs["planner"] if run.called_at]
    )


def test_options_that_are_repeated_add_up(capsys: pytest.CaptureFixture[str]) -> None:
    policies = ["--policy", "clairvoyant", "--policy", "fixed"]
    assert main(["rehearse", "--machines", "2", "--seed", "4", "--jobs", "1", "--json", *policies]) == 0
    assert list(json.loads(capsys.readouterr().out)["wrong"]) == ["clairvoyant", "fixed"]


def test_the_command_prints_a_table_and_json(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    assert main(["rehearse", "--machines", "3", "--seed", "4", "--policy", "clairvoyant", "--jobs", "1"]) == 0
    assert "clairvoyant" in capsys.readouterr().out
    (tmp_path / "faults.toml").write_text('[faults."link.loose"]\nodds = 500.0\n')
    arguments = [
        "rehearse",
        "--machines",
        "6",
        "--policy",
        "clairvoyant",
        "--jobs",
        "1",
        "--json",
        "--world",
        str(tmp_path),
    ]
    assert main(arguments) == 0
    document = json.loads(capsys.readouterr().out)
    assert document["policies"][0]["machines"] == 6


BAD = {
    "policy": (["--policy", "lucky"], "--policy: expected one of planner"),
    "jitter": (["--jitter", "-1"], "--jitter: expected 0 to 2"),
    "jobs": (["--jobs", "0"], "--jobs: expected at least 1"),
    "machines": (["--machines", "0"], "--machines: expected 1 to"),
    "world": (
        ["--world", "/nowhere"],
        (
            "--world /nowhere: expected a shipped world (dusty-desktops, recovery-counter, school-flash, "
            "sealed-kiosks, storm-season, trade-ins) or "
            "a folder"
        ),
    ),
}


@pytest.mark.parametrize(("arguments", "message"), BAD.values(), ids=BAD)
def test_unusable_arguments_are_said_in_one_line(
    capsys: pytest.CaptureFixture[str], arguments: list[str], message: str
) -> None:
    assert main(["rehearse", *arguments]) == 2
    err = capsys.readouterr().err
    assert message in err
    assert err.count("\n") == 1


def test_a_jittered_world_stays_a_world(model: Model) -> None:
    near = perturbed(model.knowledge, 0.5, np.random.default_rng(4))
    for name, check in near.checks.items():
        for row in (check.table.sound, *check.table.rows.values()):
            assert sum(row.values()) == pytest.approx(1.0)
        assert set(check.table.rows) <= set(model.knowledge.checks[name].table.rows)
    assert near.checks["screen"].table.rows.keys() == model.knowledge.checks["screen"].table.rows.keys(), (
        "every fault still stops the start"
    )
    assert sum(len(c.table.rows) for c in near.checks.values()) < sum(
        len(c.table.rows) for c in model.knowledge.checks.values()
    ), "signs are missing"
    assert len(near.couplings) != len(model.knowledge.couplings), "and faults go together that did not"
    assert all(0 <= p <= 1 for fix in near.fixes.values() for p in (*fix.cures.values(), *fix.breaks.values()))
    assert [f.odds for f in near.faults] != [f.odds for f in model.knowledge.faults]
    assert perturbed(model.knowledge, 0.0, np.random.default_rng(4)) is model.knowledge


@pytest.mark.parametrize("world", shipped_worlds())
def test_shipped_worlds_differ_from_the_engines_beliefs(world: str) -> None:
    arguments = {"machines": 60, "seed": 3, "policies": ["clairvoyant"], "jobs": 1}
    here = rehearse_runs(world=None, **arguments)["clairvoyant"]
    there = rehearse_runs(world=world, **arguments)["clairvoyant"]
    assert [r.faults for r in here] != [r.faults for r in there]
    assert [r.faults for r in there] == [r.faults for r in rehearse_runs(world=world, **arguments)["clairvoyant"]]
    drives = [sum(any(f.startswith("drive.") for f in r.faults) for r in runs) for runs in (here, there)]
    if world in ("recovery-counter", "school-flash"):
        assert drives[1] > drives[0] if world == "recovery-counter" else drives[1] < drives[0]


def test_the_report_is_written_with_its_plots(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["rehearse", "--machines", "2", "--seed", "1", "--jobs", "1", "--report", str(tmp_path / "r")]) == 0
    page = (tmp_path / "r" / "rehearsal.md").read_text()
    for world in ("default", *shipped_worlds(), "jitter 0.3"):
        assert world in page
    assert "no only copy left behind without a word" in page
    assert (tmp_path / "r" / "rehearsal-minutes.svg").read_text().lstrip().startswith("<?xml")
    assert "2 machines each" in capsys.readouterr().out


def test_the_fixed_order_proves_what_it_mended(model: Model) -> None:
    runs = [rehearse_one(model, model, "fixed", seed) for seed in SEEDS]
    mended = [
        r
        for r in runs
        if r.ended == "release" and any(e.get("outcome") == "boots" and e["move"] != "screen" for e in r.tape)
    ]
    assert mended
    for run in mended:
        last = max(i for i, e in enumerate(run.tape) if e.get("outcome") == "boots" and e["move"] != "screen")
        assert any(e.get("move") == "screen" for e in run.tape[last:])
