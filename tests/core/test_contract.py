"""The contract's document: its shape on every tape, and that any input gives an answer or one clear error."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from gatecheck.adapters.shipped_tables import shipped_model, shipped_words
from gatecheck.core.belief.model import Model
from gatecheck.core.decide.report import triage, vocabulary
from gatecheck.core.errors import TapeError
from tapes import LAPTOP, PRECIOUS, SAFE, case, gate, held, p, readings

MODEL = shipped_model()
KNOWLEDGE = MODEL.knowledge
MOVES = [*KNOWLEDGE.checks, *KNOWLEDGE.fixes]
GATES = [g.id for g in KNOWLEDGE.gates]

JSON = st.recursive(
    st.none() | st.booleans() | st.integers(-3, 30) | st.floats() | st.text(max_size=8) | st.sampled_from(MOVES),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=6), inner, max_size=3),
    max_leaves=6,
)
KEYS = [
    "move",
    "outcome",
    "weights",
    "put_back",
    "override",
    "reason",
    "fact",
    "undo",
    "note",
    "started",
    "minutes",
    "signed",
    "fix",
]


@st.composite
def full_tapes(draw: st.DrawFn) -> list[dict[str, Any]]:
    """Tapes with every kind of entry; put-backs and undos may be impossible."""
    tape: list[dict[str, Any]] = []
    for _ in range(draw(st.integers(0, 9))):
        move = draw(st.sampled_from(MOVES))
        outcomes = KNOWLEDGE.move(move).outcomes
        kind = draw(
            st.sampled_from(
                ["reading", "reading", "reading", "soft", "put_back", "undo", "fact", "override", "note", "started"]
            )
        )
        if kind == "reading":
            tape.append({"move": move, "outcome": draw(st.sampled_from(outcomes))})
        elif kind == "soft":
            weights = draw(st.lists(st.floats(0, 1), min_size=len(outcomes), max_size=len(outcomes)))
            tape.append({"move": move, "weights": dict(zip(outcomes, weights, strict=True))})
        elif kind == "put_back":
            tape.append({"put_back": draw(st.sampled_from(list(KNOWLEDGE.fixes)))})
        elif kind == "undo":
            tape.append({"undo": draw(st.integers(0, 8))})
        elif kind == "fact":
            name = draw(st.sampled_from(list(KNOWLEDGE.facts)))
            tape.append({"fact": {name: draw(st.sampled_from(KNOWLEDGE.facts[name]))}})
        elif kind == "override":
            tape.append(
                {"override": draw(st.sampled_from(list(KNOWLEDGE.interlocks))), "move": move, "reason": "said so"}
            )
        elif kind == "started":
            tape.append({"started": move, "minutes": 30})
        else:
            tape.append({"note": "x"})
    return tape


def check_shape(document: dict[str, Any]) -> None:
    assert [g["id"] for g in document["gates"]] == GATES
    assert {g["state"] for g in document["gates"]} <= {"open", "shut", "suspect", "unproven"}
    assert len(document["suspects"]) == len(KNOWLEDGE.faults) + 1
    assert all(0 <= s["p"] <= 1 for s in document["suspects"])
    for item in document["next"]:
        assert item["kind"] == ("check" if item["move"] in KNOWLEDGE.checks else "fix")
        assert item["minutes"] >= item["hands_on_minutes"] > 0
        assert item["why"]
    assert len({m["move"] for m in document["next"]}) == len(document["next"])
    call = document["call"]
    assert call["choice"] in (None, *KNOWLEDGE.calls)
    assert 0 <= call["confidence"] <= 1
    assert call["choice"] is not None or call["fix"] is None
    for option in call["options"]:
        assert option["choice"] in KNOWLEDGE.calls
        assert 0 <= option["p_success"] <= 1
        assert option["expected_loss"] >= 0
        assert option["cost"] >= 0
        assert option["minutes"] >= option["hands_on_minutes"] >= 0
        assert option["data_outcome"]


@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(full_tapes())
def test_every_tape_gives_the_documents_shape_or_a_tape_error(tape: list[dict[str, Any]]) -> None:
    try:
        document = triage(MODEL, shipped_words(), {"facts": {"platform": "pc"}, "entries": tape})
    except TapeError as error:
        assert error.where.startswith("entry ")
        return
    check_shape(document)
    holding = {h["move"] for h in document["held"]}  # type: ignore[attr-defined]
    assert not holding & {m["move"] for m in document["next"]}  # type: ignore[attr-defined]


@settings(max_examples=200, deadline=None)
@given(JSON | st.fixed_dictionaries({}, optional={"facts": JSON, "entries": JSON}))
def test_any_json_gives_a_document_or_a_tape_error(raw: Any) -> None:
    try:
        check_shape(triage(MODEL, shipped_words(), raw))
    except TapeError as error:
        assert str(error).count("\n") == 0


@settings(max_examples=200, deadline=None)
@given(st.lists(st.dictionaries(st.sampled_from(KEYS), JSON, max_size=3), max_size=3))
def test_any_entry_gives_a_document_or_a_located_error(entries: list[dict[str, Any]]) -> None:
    try:
        check_shape(triage(MODEL, shipped_words(), {"entries": entries}))
    except TapeError as error:
        assert error.where.startswith("entry ")


def test_the_vocabulary_is_complete() -> None:
    words: Any = vocabulary(KNOWLEDGE)
    assert {f: v["gate"] for f, v in words["faults"].items()} == {f.id: f.gate for f in KNOWLEDGE.faults}
    assert words["checks"]["sound"]["outcomes"] == [
        "steady",
        "ticking",
        "clunking",
        "scraping",
        "restarting",
        "silent",
        "no-moving-parts",
    ]
    assert {f for f, v in words["fixes"].items() if v["writes"]} == {
        "rebuild-table",
        "rebuild-boot-record",
        "rebuild-loader",
        "repair-volume",
        "roll-back",
        "reset-keep",
        "reset-clean",
        "reinstall",
    }
    assert words["calls"] == ["repair", "reinstall", "replace", "refer", "release"]
    assert words["facts"]["data"] == ["unknown", "irreplaceable", "backed-up", "none"]


def test_null_facts_are_absent_facts(model: Model) -> None:
    given_null = triage(model, shipped_words(), {"facts": {"data": None, "drive_kind": None}, "entries": []})
    assert given_null == triage(model, shipped_words(), {"facts": {}, "entries": []})


def test_free_text_facts_are_kept_and_weigh_nothing(model: Model) -> None:
    plain, worded = case(model, LAPTOP), case(model, {**LAPTOP, "customer": "It just stopped."})
    assert worded == plain


def test_a_desktop_stands_on_mains(model: Model) -> None:
    assert "mains-power" not in held(case(model, {"form": "desktop"}))
    assert "mains-power" in held(case(model, {"form": "laptop", "mains": "battery"}))


def test_a_complete_copy_counts_as_a_backup_and_undo_takes_it_away(model: Model) -> None:
    tape = ("screen=volume-stop", "copy-data=complete")
    assert "data-unprotected" not in held(case(model, PRECIOUS, *tape))
    assert "data-unprotected" in held(case(model, PRECIOUS, *tape, more=[{"undo": 1}]))


SHUT: dict[str, tuple[dict[str, Any], tuple[str, ...], str]] = {
    "dead": (LAPTOP, ("screen=dead",), "power"),
    "order": (LAPTOP, ("screen=network-boot", "boot-order=other-first"), "firmware"),
    "mode": (LAPTOP, ("screen=blank-cursor", "boot-mode=conflicts"), "firmware"),
    "absent": (LAPTOP, ("screen=no-boot-device", "seen-setup=absent", "seen-live=absent"), "detection"),
    "failing": (LAPTOP, ("screen=health-warning", "health-pages=failing"), "health"),
    "ticking": (LAPTOP, ("screen=no-boot-device", "sound=ticking", "seen-setup=zero-size"), "health"),
    "table": (
        LAPTOP,
        ("screen=no-boot-device", "seen-setup=right", "disk-layout=table-damaged", "health-pages=clean"),
        "layout",
    ),
    "loader": (
        LAPTOP,
        ("screen=loader-message", "disk-layout=sound", "loader-look=missing", "health-pages=clean"),
        "loader",
    ),
    "volume": (
        LAPTOP,
        ("story=power-cut", "screen=volume-stop", "health-pages=clean", "volume-look=damaged"),
        "system",
    ),
}


@pytest.mark.parametrize(("facts", "tape", "where"), SHUT.values(), ids=SHUT)
def test_the_gate_that_stops_the_boot_is_shut_with_its_reason(
    model: Model, facts: dict[str, Any], tape: tuple[str, ...], where: str
) -> None:
    found = case(model, facts, *tape)
    assert gate(found, where) == "shut"
    shut = next(g for g in found["gates"] if g["id"] == where)
    assert shut["entries"]
    assert shut["mass"] > 0.4
    others = [g["state"] for g in found["gates"] if g["id"] != where]
    assert "shut" not in others


def test_a_gate_opened_by_a_start_is_doubted_again_by_what_comes_after(model: Model) -> None:
    started = case(model, SAFE, "screen=boots")
    assert gate(started, "health") == "open"
    doubted = case(model, SAFE, "screen=boots", "health-pages=failing")
    assert gate(doubted, "health") in ("suspect", "shut")
    assert gate(doubted, "loader") == "open"


RIVALS = {
    "seen-on-the-dock": (
        ("screen=no-boot-device", "seen-setup=absent"),
        "seen-dock=right",
        "link.broken",
        "drive.dead",
    ),
    "crc": (("screen=no-boot-device",), "health-pages=link-errors", "link.broken", "drive.media"),
    "update": (("screen=other-stop",), "story=after-update", "system.update", "volume.damaged"),
    "power-cut": (("screen=volume-stop",), "story=power-cut", "volume.damaged", "system.update"),
    "knock": (("screen=no-boot-device",), "story=knock", "link.loose", "settings.order"),
    "service": (("screen=no-boot-device",), "story=after-service", "settings.order", "drive.dead"),
    "memory": (("screen=no-picture",), "builtin-memory=failed", "board.memory", "board.other"),
    "mode-mismatch": (("screen=blank-cursor",), "disk-layout=mode-mismatch", "settings.mode", "layout.boot-record"),
    "stale-entry": (
        ("screen=no-boot-device", "seen-setup=right"),
        "entry-target=stale",
        "entries.lost",
        "settings.order",
    ),
    "one-head": (("screen=stuck-at-logo",), "read-scan=one-head", "drive.mechanical", "drive.media"),
    "reduced-works": (("screen=repair-loop",), "reduced-start=works", "system.update", "volume.damaged"),
}


@pytest.mark.parametrize(("tape", "reading", "for_it", "against"), RIVALS.values(), ids=RIVALS)
def test_a_reading_speaks_for_one_suspect_and_against_its_rival(
    model: Model, tape: tuple[str, ...], reading: str, for_it: str, against: str
) -> None:
    before, after = case(model, LAPTOP, *tape), case(model, LAPTOP, *tape, reading)
    assert p(after, for_it) > p(before, for_it)
    assert p(after, for_it) / p(after, against) > 1.5 * p(before, for_it) / p(before, against)


OPTIONS = {
    "wipe-loses": (
        {**PRECIOUS, "consent": "given"},
        ("screen=other-stop", "reduced-start=fails"),
        "reinstall",
        "data lost",
    ),
    "wipe-with-backup": (SAFE, ("screen=other-stop", "reduced-start=fails"), "reinstall", "data safe in the backup"),
    "replace": (
        LAPTOP,
        ("screen=health-warning", "health-pages=failing"),
        "replace-drive",
        "data stays on the old drive",
    ),
    "lab": (PRECIOUS, ("screen=no-boot-device", "sound=ticking"), "refer-lab", "the lab tries for the data"),
    "setting": (LAPTOP, ("screen=network-boot", "boot-order=other-first"), "set-order", "data untouched"),
}


@pytest.mark.parametrize(("facts", "tape", "fix", "outcome"), OPTIONS.values(), ids=OPTIONS)
def test_every_way_out_says_what_becomes_of_the_data(
    model: Model, facts: dict[str, Any], tape: tuple[str, ...], fix: str, outcome: str
) -> None:
    options = case(model, facts, *tape)["call"]["options"]
    assert next(o["data_outcome"] for o in options if fix in (o["fix"], o["held_fix"])) == outcome


def test_a_trial_that_worked_is_kept_and_one_that_did_not_is_open(model: Model) -> None:
    found = case(
        model,
        LAPTOP,
        *("screen=no-boot-device", "set-mode=no-change"),
        more=[{"put_back": "set-mode"}, *readings("set-order=boots")],
    )
    trials = {t["fix"]: (t["open"], t["no_effect"]) for t in found["trials"]}
    assert trials == {"set-mode": (False, True), "set-order": (True, False)}


def test_a_signed_call_and_a_running_test_change_no_odds(model: Model) -> None:
    tape = ("screen=other-stop",)
    plain = case(model, SAFE, *tape)["suspects"]
    with_more = case(
        model,
        SAFE,
        *tape,
        more=[{"started": "long-test", "minutes": 110}, {"signed": "repair", "fix": None}, {"note": "x"}],
    )
    assert with_more["suspects"] == plain
