"""Sightings: cells become readings, and the pattern of the grid has one meaning."""

from __future__ import annotations

import pytest

from gatecheck.core.belief.model import Model
from gatecheck.core.errors import TapeError
from gatecheck.core.instruments.agreement import told_elsewhere
from gatecheck.core.instruments.sightings import sighting_entry, sightings_sheet
from gatecheck.core.tape.fold import fold
from gatecheck.core.tape.parse import parse_entries
from reading import said

PC = {"platform": "pc", "drive_kind": "hdd", "drive_size_gb": 1000}


def sheet(model: Model, cells: list[tuple[str, str, str]], facts: dict = PC, more: list[dict] | None = None):
    raw = [sighting_entry(model.knowledge, *cell) for cell in cells]
    return sightings_sheet(model.knowledge, facts, parse_entries([*raw, *(more or [])], model.knowledge))


def own(**cells: str) -> list[tuple[str, str, str]]:
    return [("drive", at, value) for at, value in cells.items()]


PATTERNS = [
    (own(setup="zero-size"), "zero-size"),
    (own(setup="zero-size", live="absent", dock="absent"), "zero-size"),
    (own(setup="garbled", picker="right"), "garbled"),
    (own(setup="absent", dock="right"), "dock-only"),
    (own(live="absent", dock="right"), "dock-only"),
    (own(setup="absent", live="absent", dock="absent"), "dead-everywhere"),
    (own(setup="right", picker="absent"), "setup-not-picker"),
    (own(setup="right", live="absent"), "setup-not-live"),
    (own(setup="absent", live="right"), "live-not-setup"),
    ([*own(setup="absent"), ("optical", "setup", "right")], "only-optical"),
    ([("optical", "picker", "right")], "only-optical"),
    ([*own(live="absent"), ("stick", "live", "right")], "only-removable"),
    ([*own(setup="absent"), ("card-reader", "setup", "right"), ("optical", "setup", "right")], "only-removable"),
    ([*own(setup="absent"), ("other-disk", "setup", "right")], "wrong-disk"),
    ([*own(setup="right"), ("stick", "setup", "right")], "right-so-far"),
    (own(setup="absent", live="absent"), "nowhere"),
    (own(setup="absent"), "absent-so-far"),
    (own(setup="right", builtin="absent"), "not-testable"),
    (own(setup="right", picker="right", live="right"), "everywhere"),
    (own(setup="right"), "right-so-far"),
    (own(setup="right", builtin="no-such-tool"), "right-so-far"),
    (own(picker="right", setup="absent"), "mixed"),
    (own(builtin="no-such-tool"), None),
    ([], None),
]


@pytest.mark.parametrize(("cells", "pattern"), PATTERNS)
def test_the_pattern_says_what_it_means(model: Model, cells, pattern) -> None:
    found = sheet(model, cells).pattern
    assert (found.id if found else None) == pattern


def test_every_pattern_is_in_the_table_above(model: Model) -> None:
    assert {p.id for p in model.knowledge.sightings.patterns} == {p for _, p in PATTERNS if p}


def test_every_cell_survives_the_tape(model: Model) -> None:
    for vantage in model.knowledge.sightings.vantages.values():
        for value in model.knowledge.sightings.seen:
            shown = sheet(model, [("drive", vantage.id, value)]).lines[0].cells
            assert shown[vantage.id].value == value


@pytest.mark.parametrize(
    ("move", "outcome", "at", "value"),
    [
        ("seen-setup", "zero-size", "setup", "zero-size"),
        ("seen-picker", "listed", "picker", "right"),
        ("seen-live", "no-volumes", "live", "garbled"),
        ("seen-builtin", "no-such-tool", "builtin", "no-such-tool"),
        ("seen-dock", "absent", "dock", "absent"),
    ],
)
def test_answers_given_elsewhere_fill_the_grid(model: Model, move, outcome, at, value) -> None:
    shown = sheet(model, [], more=[{"move": move, "outcome": outcome}])
    assert shown.lines[0].cells[at].value == value


def test_the_expected_drive_has_a_name_and_other_drives_weigh_nothing(model: Model) -> None:
    shown = sheet(model, [("stick", "live", "right")], {**PC, "drive_serial": "QX-1"})
    assert [line.name if isinstance(line.name, str) else said(line.name) for line in shown.lines] == [
        "1 TB HDD QX-1",
        "USB stick",
    ]
    assert "move" not in sighting_entry(model.knowledge, "stick", "live", "right")


def test_a_machine_without_a_setup_page_has_no_such_column(model: Model) -> None:
    assert [v.id for v in sheet(model, [], {"platform": "mac"}).vantages] == ["picker", "builtin", "live", "dock"]


@pytest.mark.parametrize(
    "cell", [("drive", "roof", "right"), ("drive", "setup", "shiny"), ("parrot", "setup", "right")]
)
def test_a_cell_that_cannot_be_is_refused(model: Model, cell) -> None:
    with pytest.raises(TapeError, match="vantage"):
        sighting_entry(model.knowledge, *cell)


@pytest.mark.parametrize(("tape", "elsewhere"), [
    ([], None),
    ([("seen-setup", "absent"), ("port", "off")], None),  # they agree
    ([("seen-setup", "absent"), ("seen-live", "right"), ("port", "on"), ("storage-mode", "fits")], "link.loose"),
])  # fmt: skip
def test_a_pattern_that_the_suspects_gainsay_names_both(model: Model, tape, elsewhere) -> None:
    entries = parse_entries([{"move": m, "outcome": o} for m, o in tape], model.knowledge)
    state = fold(model, {"platform": "pc"}, entries)
    told = told_elsewhere(model, state, ["settings.port-off", "settings.storage-mode"])
    assert (told.values["fault"] if told else None) == elsewhere
    assert told is None or ("port" in said(told) and "loose" in said(told).lower())
