"""Settings sheet: needs, differences, contradictions, root causes, trials and what is left at handover."""

from __future__ import annotations

import pytest

from gatecheck.core.belief.model import Model
from gatecheck.core.errors import TapeError
from gatecheck.core.instruments.settings import as_left, setting_entry, settings_sheet
from gatecheck.core.tape.fold import fold
from gatecheck.core.tape.parse import parse_entries

W11 = {"platform": "pc", "installed_os": "windows-11"}


def entries_of(model: Model, facts: dict, values: dict) -> list[dict]:
    return [setting_entry(model.knowledge, facts, row, value) for row, value in values.items()]


def sheet_of(model: Model, facts: dict, raw: list[dict]):
    return settings_sheet(model.knowledge, facts, parse_entries(raw, model.knowledge))


# facts, row, value -> judged, outcome that the entry names (None: undecided or not a check)
ROWS = [
    ({"disk_layout": "gpt"}, "boot-mode", "uefi", "fits", "fits"),
    ({"disk_layout": "gpt"}, "boot-mode", "legacy", "differs", "conflicts"),
    ({"disk_layout": "mbr"}, "boot-mode", "uefi", "differs", "conflicts"),
    ({"disk_layout": "mbr"}, "boot-mode", "legacy", "fits", "fits"),
    ({"disk_layout": "mbr", "installed_os": "windows-11"}, "boot-mode", "legacy", "fits", "fits"),
    (W11, "boot-mode", "legacy", "differs", "conflicts"),
    ({"installed_os": "windows-7"}, "boot-mode", "uefi", "differs", "conflicts"),
    ({"installed_os": "windows-10"}, "boot-mode", "uefi", "fits", "fits"),
    ({"installed_os": "linux"}, "boot-mode", "both", "fits", "fits"),
    ({}, "boot-mode", "legacy", "unsure", None),
    (W11, "boot-mode", "not-shown", "not-shown", "not-shown"),
    (W11, "secure-boot", "off", "differs", "fits"),
    (W11, "secure-boot", "on", "fits", "fits"),
    ({"installed_os": "windows-7"}, "secure-boot", "on", "differs", "conflicts"),
    ({"disk_layout": "mbr"}, "secure-boot", "on", "differs", "conflicts"),
    ({"installed_os": "linux"}, "secure-boot", "on", "unsure", "fits"),
    ({}, "storage-mode", "raid", "unsure", "unsure"),
    ({"storage_was": "raid"}, "storage-mode", "ahci", "differs", "conflicts"),
    ({"storage_was": "raid"}, "storage-mode", "raid", "fits", "fits"),
    ({"storage_was": "ahci"}, "storage-mode", "raid", "differs", "conflicts"),
    ({}, "clock", "reset", "differs", "reset-to-default"),
    ({}, "clock", "wrong", "differs", "wrong"),
    ({}, "clock", "right", "fits", "right"),
    ({}, "clock", "not-shown", "not-shown", None),
    ({}, "port", "off", "differs", "off"),
    ({}, "port", "not-shown", "not-shown", "not-shown"),
    ({}, "boot-order", "other-first", "differs", "other-first"),
    ({}, "boot-order", "system-absent", "differs", "system-absent"),
    ({}, "warning", "off", "differs", None),
    ({}, "warning", "on", "fits", None),
]


@pytest.mark.parametrize(("facts", "row", "value", "state", "outcome"), ROWS)
def test_a_value_is_judged_by_what_this_system_needs(model: Model, facts, row, value, state, outcome) -> None:
    raw = entries_of(model, facts, {row: value})
    shown = next(r for r in sheet_of(model, facts, raw).rows if r.row.id == row)
    assert (shown.now, shown.state) == (value, state)
    reading = parse_entries(raw, model.knowledge)[0]
    assert getattr(reading, "outcome", None) == outcome


def test_every_difference_names_its_gate_and_a_reason(model: Model) -> None:
    for row in model.knowledge.settings.rows.values():
        assert row.because
        assert row.gate in ("firmware", "detection", "health")
        assert row.fix is None or model.knowledge.fixes[row.fix].setting


# facts, values -> ids that must speak, ids that must not
TOGETHER = [
    ({}, {"boot-mode": "legacy", "secure-boot": "on"}, {"legacy-with-secure-boot"}, {"both-with-secure-boot"}),
    ({}, {"boot-mode": "both", "secure-boot": "on"}, {"both-with-secure-boot"}, {"legacy-with-secure-boot"}),
    ({"disk_layout": "gpt"}, {"boot-mode": "legacy"}, {"gpt-in-legacy"}, {"mbr-in-uefi"}),
    ({"disk_layout": "mbr"}, {"boot-mode": "uefi"}, {"mbr-in-uefi"}, {"gpt-in-legacy"}),
    (W11, {"boot-mode": "legacy"}, {"recent-in-legacy"}, set()),
    ({**W11, "disk_layout": "mbr"}, {"boot-mode": "legacy"}, set(), {"recent-in-legacy"}),
    ({}, {"clock": "reset"}, {"battery-flat"}, {"battery-all-fell-back"}),
    (W11, {"clock": "reset", "boot-mode": "legacy"}, {"battery-all-fell-back"}, {"battery-flat"}),
    (W11, {"clock": "reset", "boot-mode": "uefi"}, {"battery-flat"}, {"battery-all-fell-back"}),
    ({}, {"clock": "wrong", "boot-order": "other-first"}, set(), {"battery-all-fell-back", "battery-flat"}),
    ({}, {"boot-mode": "legacy", "secure-boot": "not-shown"}, {"hidden-by-mode"}, {"legacy-with-secure-boot"}),
    ({}, {"storage-mode": "raid", "boot-order": "system-absent"}, {"order-behind-storage"}, set()),
    ({}, {"port": "off", "boot-order": "system-absent"}, {"port-hides-drive"}, set()),
    ({}, {"warning": "off"}, {"warning-silenced"}, set()),
    (
        W11,
        {"clock": "right", "boot-mode": "uefi", "secure-boot": "on", "boot-order": "system-first", "warning": "on"},
        set(),
        set(),
    ),
]


@pytest.mark.parametrize(("facts", "values", "speak", "silent"), TOGETHER)
def test_contradictions_and_roots(model: Model, facts, values, speak, silent) -> None:
    said = {t.id for t in sheet_of(model, facts, entries_of(model, facts, values)).together}
    assert speak <= said
    assert not silent & said
    assert speak or not said


def test_every_rule_about_several_rows_is_in_the_table_above(model: Model) -> None:
    assert {t.id for t in model.knowledge.settings.together} == set().union(*(t[2] for t in TOGETHER))


MODE = "set-mode"


def changed(before: str, after: str, fix: str = MODE, **more: object) -> dict:
    return {"changed": fix, "before": before, "after": after, **more}


# tape after `boot-mode` was read as legacy -> value now, standing of the last trial
TRIALS = [
    ([changed("legacy", "uefi")], "uefi", "pending"),
    ([changed("legacy", "uefi"), {"move": MODE, "outcome": "no-change"}], "uefi", "open"),
    ([changed("legacy", "uefi"), {"move": MODE, "outcome": "boots"}], "uefi", "kept"),
    ([changed("legacy", "uefi"), {"move": MODE, "outcome": "no-change"}, {"put_back": MODE}], "legacy", "put-back"),
    ([changed("legacy", "uefi"), {"put_back": MODE}], "legacy", "put-back"),
    ([{"move": MODE, "outcome": "no-change", "before": "legacy", "after": "uefi"}], "uefi", "open"),
    ([changed("legacy", "uefi"), {"undo": 1}], "legacy", None),
    ([changed("legacy", "uefi"), {"move": MODE, "outcome": "now-seen"}], "uefi", "kept"),
]


@pytest.mark.parametrize(("more", "now", "standing"), TRIALS)
def test_a_change_is_a_trial_until_it_is_kept_or_put_back(model: Model, more, now, standing) -> None:
    facts = {"disk_layout": "gpt"}
    entries = parse_entries([*entries_of(model, facts, {"boot-mode": "legacy"}), *more], model.knowledge)
    row = next(r for r in settings_sheet(model.knowledge, facts, entries).rows if r.row.id == "boot-mode")
    assert (row.found, row.now) == ("legacy", now)
    trials = fold(model, facts, entries).trials
    assert [t.standing for t in trials][-1:] == ([standing] if standing else [])
    left = as_left(model.knowledge, facts, entries)[0]
    assert (left.found, left.left) == ("legacy", now)


def test_a_pending_change_weighs_nothing_and_can_be_put_back(model: Model) -> None:
    facts = {"disk_layout": "gpt"}
    plain = parse_entries(entries_of(model, facts, {"boot-mode": "legacy"}), model.knowledge)
    more = [*plain, *parse_entries([changed("legacy", "uefi")], model.knowledge)]
    assert fold(model, facts, more).belief == pytest.approx(fold(model, facts, plain).belief)


def walked(*steps: tuple[str, str | None]) -> list[dict]:
    tape: list[dict] = []
    for value, outcome in steps:
        tape.append(changed("ahci", value, "set-storage-mode", walk=True))
        if outcome:
            tape.append({"move": "set-storage-mode", "outcome": outcome})
            if outcome == "no-change":
                tape.append({"put_back": "set-storage-mode"})
    return tape


def test_trying_each_storage_mode_restores_the_first_when_none_starts(model: Model) -> None:
    facts = {"platform": "pc"}

    def at(raw: list[dict]):
        sheet = sheet_of(model, facts, [*entries_of(model, facts, {"storage-mode": "ahci"}), *raw])
        return sheet.walks, next(r.now for r in sheet.rows if r.row.id == "storage-mode")

    walks, now = at(walked(("raid", None)))
    assert (walks[0].tried, walks[0].next, walks[0].restore, now) == (("raid",), "compatible", "ahci", "raid")
    walks, now = at(walked(("raid", "no-change")))
    assert (walks[0].next, now) == ("compatible", "ahci")
    walks, now = at(walked(("raid", "no-change"), ("compatible", "no-change")))
    assert (walks, now) == ((), "ahci")
    walks, now = at(walked(("raid", "boots")))
    assert (walks, now) == ((), "raid")


def test_the_way_it_went_is_kept_for_the_handover(model: Model) -> None:
    raw = [
        *entries_of(model, {}, {"storage-mode": "ahci", "clock": "reset"}),
        *walked(("raid", "no-change"), ("compatible", "boots")),
        {"move": "clock", "outcome": "right"},
    ]
    left = {line.row: line for line in as_left(model.knowledge, {}, parse_entries(raw, model.knowledge))}
    assert (left["storage-mode"].found, left["storage-mode"].tried, left["storage-mode"].left) == (
        "ahci",
        ("raid",),
        "compatible",
    )
    assert (left["clock"].found, left["clock"].left) == ("reset", "right")


BAD = [
    {"changed": "reseat", "before": "a", "after": "b"},
    {"changed": "set-mode", "before": "sideways", "after": "uefi"},
    {"saw": "boot-mode", "value": "maybe"},
    {"saw": "stick", "value": "right"},
    {"move": "boot-mode", "outcome": "fits", "found": "maybe"},
    {"tried_key": "", "opens": "setup", "worked": True},
    {"tried_key": "F2", "opens": "the case", "worked": True},
    {"tried_key": "F2", "opens": "setup", "worked": "yes"},
]


@pytest.mark.parametrize("raw", BAD)
def test_an_entry_that_cannot_be_is_refused(model: Model, raw: dict) -> None:
    with pytest.raises(TapeError, match="entry 0"):
        parse_entries([raw], model.knowledge)


def test_an_unknown_row_is_refused(model: Model) -> None:
    with pytest.raises(TapeError, match="row of the settings sheet"):
        setting_entry(model.knowledge, {}, "colour", "blue")
