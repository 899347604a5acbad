"""The knowledge tables: complete, sourced, and refused with file and key when broken."""

from __future__ import annotations

import pytest

from gatecheck.core.belief.facts import all_odds
from gatecheck.core.belief.model import Model
from gatecheck.core.errors import KnowledgeError
from gatecheck.core.knowledge.loader import load


def test_every_id_of_the_vocabulary_has_its_tables(model: Model) -> None:
    k = model.knowledge
    assert (len(k.gates), len(k.faults), len(k.checks), len(k.fixes)) == (7, 25, 36, 29)
    assert (len(k.calls), len(k.interlocks), len(k.facts)) == (5, 10, 12)
    assert len(model.space.components) == 13
    assert len({tuple(row) for row in model.space.order}) == 2150, "sets of up to three faults in different components"
    assert model.space.size == 2664, "and those of a link that comes and goes beside those of one that is gone"


def test_every_number_names_its_source(model: Model) -> None:
    k = model.knowledge
    tables = [
        *k.faults,
        *k.contexts,
        *k.couplings,
        *k.visibility.values(),
        *k.checks.values(),
        *k.fixes.values(),
        *k.interlocks.values(),
    ]
    assert all(table.source for table in tables)


BREAKS = {
    "unknown-fault": (
        "faults.toml",
        '[faults."link.loose"]',
        '[faults."link.lost"]',
        r"faults\.toml:\d+: faults\.link\.lost",
    ),
    "missing-odds": (
        "faults.toml",
        "odds = 0.105\nintermittent = 0.25\n",
        "intermittent = 0.25\n",
        r"faults\.link\.loose\.odds: expected a number",
    ),
    "too-often": (
        "faults.toml",
        "odds = 0.105\nintermittent = 0.25",
        "odds = 0.105\nintermittent = 1.30",
        r"faults\.toml:\d+: faults\.link\.loose\.intermittent: expected a number from 0 to 1, got 1\.3",
    ),
    "intermittent-does-not-sum": (
        "checks.toml",
        "passed = 0.58, failed = 0.24",
        "passed = 0.58, failed = 0.34",
        r"checks\.builtin-quick\.intermittent\.link\.loose: expected a row that sums to 1, got 1\.1",
    ),
    "intermittent-of-nothing": (
        "checks.toml",
        '[checks.builtin-quick.intermittent]\n"link.loose"',
        '[checks.builtin-quick.intermittent]\n"link.lose"',
        r"checks\.builtin-quick\.intermittent\.link\.lose: expected a known fault",
    ),
    "row-does-not-sum": (
        "checks.toml",
        "runs = 0.08, fails = 0.92",
        "runs = 0.08, fails = 0.82",
        r"checks\.live-start\.rows\.power\.supply: expected a row that sums to 1, got 0\.9",
    ),
    "unknown-outcome": (
        "checks.toml",
        "sound = { firm = 0.975, loose = 0.025 }",
        "sound = { firm = 0.975, lose = 0.025 }",
        r"checks\.seat\.sound\.lose",
    ),
    "outcome-without-row": (
        "checks.toml",
        "sound = { sound = 0.98, damaged = 0.02 }\nnames",
        "sound = { sound = 1.0 }\nnames",
        None,
    ),
    "unknown-combine": (
        "checks.toml",
        'combine = "earliest-gate"\npasses = "boots"',
        'combine = "latest-gate"\npasses = "boots"',
        r"checks\.screen\.combine: expected one of earliest-gate",
    ),
    "unknown-key": ("fixes.toml", "[fixes.reseat]\n", "[fixes.reseat]\nminute = 3\n", r"fixes\.reseat\.minute"),
    "unknown-cure": (
        "fixes.toml",
        'cures = { "bystander.in-the-way" = 0.995 }',
        'cures = { "bystander.gone" = 0.97 }',
        r"fixes\.pull-externals\.cures\.bystander\.gone",
    ),
    "too-sure": (
        "fixes.toml",
        'cures = { "settings.order" = 0.99 }',
        'cures = { "settings.order" = 1.97 }',
        r"a number from 0 to 1, got 1\.97",
    ),
    "unknown-interlock": (
        "decisions.toml",
        "[interlocks.copy-first]",
        "[interlocks.copy-soon]",
        r"decisions\.toml:\d+: interlocks\.copy-soon",
    ),
    "no-table": (
        "faults.toml",
        '[faults."link.loose"]\n',
        '[[faults."link.loose"]]\n',
        r"faults\.link\.loose: expected a table, got list",
    ),
    "no-text": (
        "checks.toml",
        'why = "One look shows the stage where it stops."',
        "why = 7",
        r"checks\.screen\.why: expected a text, got 7",
    ),
    "no-flag": (
        "fixes.toml",
        "[fixes.reseat]\n",
        '[fixes.reseat]\ntrial = "yes"\n',
        r"fixes\.reseat\.trial: expected true or false, got 'yes'",
    ),
    "no-list": (
        "fixes.toml",
        "[fixes.reseat]\n",
        '[fixes.reseat]\nlook_first = "seat"\n',
        r"fixes\.reseat\.look_first: expected a list of ids",
    ),
    "unknown-look": (
        "fixes.toml",
        "[fixes.reseat]\n",
        '[fixes.reseat]\nlook_first = ["sit"]\n',
        r"fixes\.reseat\.look_first: expected known ids, got 'sit'",
    ),
    "number-as-text": (
        "fixes.toml",
        "[fixes.reseat]\n",
        '[fixes.reseat]\nburden = "2"\n',
        r"fixes\.reseat\.burden: expected a number from 0 to",
    ),
    "true-is-no-number": (
        "fixes.toml",
        "[fixes.reseat]\n",
        "[fixes.reseat]\nburden = true\n",
        r"fixes\.reseat\.burden: expected a number",
    ),
    "no-toml": ("decisions.toml", "[rates]", "[rates", r"decisions\.toml: syntax: expected TOML"),
    "fix-without-rows": (
        "fixes.toml",
        'rows_normal = "off"\nrows_sound = { off = 0.98, left-on = 0.02 }\n',
        "",
        r"fixes\.power-down\.rows_sound",
    ),
}


@pytest.mark.parametrize(("file", "old", "new", "message"), BREAKS.values(), ids=BREAKS)
def test_a_broken_table_is_refused_by_file_and_key(
    texts: dict[str, str], file: str, old: str, new: str, message: str | None
) -> None:
    assert texts[file].count(old) == 1
    broken = {**texts, file: texts[file].replace(old, new)}
    if message is None:
        broken[file] = broken[file].replace(
            '"link.broken" = { sound = 0.52, damaged = 0.48 }', '"link.broken" = { sound = 1.0 }'
        )
        broken[file] = broken[file].replace(
            '"link.loose" = { sound = 0.94, damaged = 0.06 }', '"link.loose" = { sound = 1.0 }'
        )
        message = r"checks\.cable-look\.sound: expected a row that names the outcome damaged"
    with pytest.raises(KnowledgeError, match=message) as caught:
        load(broken)
    assert caught.value.file == file


def test_the_line_of_a_complaint_is_the_line_of_the_key(texts: dict[str, str]) -> None:
    broken = {
        **texts,
        "faults.toml": texts["faults.toml"].replace('odds = 0.080\ntext = "Parts of', 'odds = -1\ntext = "Parts of'),
    }
    with pytest.raises(KnowledgeError) as caught:
        load(broken)
    assert caught.value.line is not None
    assert broken["faults.toml"].splitlines()[caught.value.line - 1] == "odds = -1"


def test_a_shops_own_file_is_laid_over_key_by_key(texts: dict[str, str], model: Model) -> None:
    laid = load(texts, {"faults.toml": '[faults."link.loose"]\nodds = 0.5\n'})
    assert all_odds(laid, {})["link.loose"] == 0.5
    assert all_odds(laid, {})["drive.dead"] == all_odds(model.knowledge, {})["drive.dead"]


def test_an_overlay_replaces_a_row_whole(texts: dict[str, str]) -> None:
    laid = load(texts, {"checks.toml": '[checks.seat.rows]\n"link.loose" = { firm = 0.5, loose = 0.5 }\n'})
    assert laid.checks["seat"].table.rows["link.loose"] == {"firm": 0.5, "loose": 0.5}


ODDS = [
    pytest.param({"drive_kind": "nvme"}, "drive.mechanical", 0.01, id="flash-has-no-heads"),
    pytest.param({"drive_kind": "hdd"}, "drive.worn", 0.01, id="disks-do-not-wear-out"),
    pytest.param({"platform": "mac"}, "settings.mode", 0.05, id="no-text-setup-no-modes"),
]


@pytest.mark.parametrize(("facts", "fault", "at_most"), ODDS)
def test_facts_rule_faults_out(model: Model, facts: dict[str, str], fault: str, at_most: float) -> None:
    assert all_odds(model.knowledge, facts)[fault] <= at_most * all_odds(model.knowledge, {})[fault]


def test_age_raises_the_odds_of_a_drive(model: Model) -> None:
    old, new = ({"drive_kind": "hdd", "drive_year": year, "as_of_year": 2026} for year in (2015, 2025))
    assert all_odds(model.knowledge, old)["drive.media"] > 2 * all_odds(model.knowledge, new)["drive.media"]


def test_every_likelihood_is_a_distribution_without_zeros(model: Model) -> None:
    for name, look in model.sight.looks.items():
        assert abs(look.sum(axis=0) - 1).max() < 1e-9, name
        assert look.min() > 0, name
    for name, act in model.deeds.acts.items():
        total = act.weight.sum(axis=0)
        by_source = [total[act.src == h].sum() for h in (0, 1, 100, 1892)]
        assert by_source == pytest.approx([1 - act.could_not] * 4), name
