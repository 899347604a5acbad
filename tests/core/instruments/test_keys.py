"""The book of keys: falls back from model to series to maker to platform, and learns from every try."""

from __future__ import annotations

import pytest

from gatecheck.core.belief.model import Model
from gatecheck.core.instruments.keys import Try, book, candidates, machine_of


def tries(name: str, key: str, worked: int, failed: int = 0, purpose: str = "setup", platform: str = "pc") -> list[Try]:
    machine = machine_of(name, platform)
    return [Try(machine, purpose, key, True)] * worked + [Try(machine, purpose, key, False)] * failed


@pytest.mark.parametrize(("name", "maker", "series", "model"), [
    ("Ferrow Lathe-14", "ferrow", "lathe", "lathe-14"), ("Ostler Tarn Mini", "ostler", "tarn", "tarn mini"),
    ("Ostler Bracken 15 G2", "ostler", "bracken", "bracken 15 g2"), ("Ferrow", "ferrow", "", ""), ("", "", "", ""),
])  # fmt: skip
def test_a_name_has_maker_series_and_model(name, maker, series, model) -> None:
    found = machine_of(name, "pc")
    assert (found.maker, found.series, found.model) == (maker, series, model)


# what was tried -> for Ferrow Lathe-14: first key, level it rests on, worked, tried
BOOK = [
    ([], "F2", "general", 0, 0),
    (tries("Ferrow Lathe-14", "F10", 1), "F10", "model", 1, 1),
    (tries("Ferrow Lathe-16", "F10", 2), "F10", "series", 2, 2),
    (tries("Ferrow Adze-22", "F10", 3), "F10", "maker", 3, 3),
    (tries("Ostler Tarn Mini", "F10", 6), "F10", "platform", 6, 6),
    (tries("Ferrow Adze-22", "F10", 3) + tries("Ferrow Lathe-14", "F10", 0, 3), "F2", "general", 0, 0),
    (tries("Ferrow Lathe-14", "F2", 0, 1), "Del", "general", 0, 0),
    (tries("Ferrow Lathe-14", "Fn+F2", 2), "Fn+F2", "model", 2, 2),
    (tries("Ferrow Lathe-14", "F10", 5, purpose="picker"), "F2", "general", 0, 0),
    (tries("Ferrow Lathe-14", "F10", 5, platform="mac"), "F2", "general", 0, 0),
]


@pytest.mark.parametrize(("made", "key", "level", "worked", "tried"), BOOK)
def test_the_nearest_evidence_weighs_most(model: Model, made, key, level, worked, tried) -> None:
    first = candidates(model.knowledge.keys, made, machine_of("Ferrow Lathe-14", "pc"), "setup")[0]
    assert (first.key, first.level, first.worked, first.tried) == (key, level, worked, tried)
    assert 0 < first.p < 1


def test_candidates_are_ordered_and_few(model: Model) -> None:
    found = candidates(model.knowledge.keys, tries("A B", "F9", 3, 1), machine_of("A B", "pc"), "setup")
    assert [c.p for c in found] == sorted((c.p for c in found), reverse=True)
    assert len(found) <= 6


def test_the_book_counts_every_model(model: Model) -> None:
    found = book(tries("Ferrow Lathe-14", "F2", 2, 1) + tries("Ferrow Lathe-14", "F12", 1, purpose="picker"))
    assert found["ferrow", "lathe-14"] == {"setup": {"F2": (2, 3)}, "picker": {"F12": (1, 1)}}
