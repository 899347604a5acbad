"""What is kept between runs: the same value again, never an old or a foreign one, and no run that fails for want of
it."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from gatecheck.adapters import compile_cache as keeping
from gatecheck.adapters.compile_cache import kept
from gatecheck.adapters.shipped_tables import shipped_model, shipped_texts, shipped_words, words_texts
from gatecheck.core.belief.compile import compile_model
from gatecheck.core.knowledge.loader import load
from gatecheck.core.words.catalogue import Words


@pytest.fixture
def source(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("GATECHECK_CACHE", str(tmp_path / "cache"))
    own = tmp_path / "table.toml"
    own.write_text("odds = 1")
    return own


@pytest.fixture(params=[False, True], ids=["read", "mapped"])
def _how(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    monkeypatch.setattr(keeping._HURRY, "map", request.param)
    return None


def counted(value: object) -> tuple[list[int], object]:
    made: list[int] = []

    def make() -> object:
        made.append(1)
        return value

    return made, make


@pytest.mark.usefixtures("_how")
def test_a_value_is_made_once_and_comes_back_equal(source: Path) -> None:
    rng = np.random.default_rng(1)
    value = {
        "names": ("a", "b"),
        "rows": rng.random((300, 7)),
        "few": np.arange(3, dtype=np.float32),
        "none": np.zeros((0, 4)),
        "turned": rng.random((5, 9)).T,
    }
    made, make = counted(value)
    first, again = kept("it", [source], make), kept("it", [source], make)
    assert len(made) == 1
    assert first is value
    assert again["names"] == ("a", "b")
    for name in ("rows", "few", "none", "turned"):
        assert np.array_equal(again[name], value[name]), name
        assert again[name].dtype == value[name].dtype
    again["rows"][0, 0] = 9.0  # what one process does to its own is no other's
    assert kept("it", [source], make)["rows"][0, 0] == value["rows"][0, 0]


def test_a_changed_file_never_meets_an_old_value(source: Path) -> None:
    made, make = counted(1)
    kept("it", [source], make)
    source.write_text("odds = 12")
    kept("it", [source], make)
    os.utime(source, ns=(1, 1))
    kept("it", [source], make)
    kept("it", [source, source.parent], make)
    assert len(made) == 4


@pytest.mark.parametrize("content", [b"", b"\x01", b"\xff" * 64, b"\x01" + bytes(7) + b"\x05" + bytes(7) + b"hello"])
def test_a_broken_value_is_made_again(source: Path, content: bytes) -> None:
    made, make = counted([1, 2])
    kept("it", [source], make)
    (place,) = (source.parent / "cache").iterdir()
    place.write_bytes(content)
    assert kept("it", [source], make) == [1, 2]
    assert kept("it", [source], make) == [1, 2]
    assert len(made) == 2


def test_what_others_can_write_is_not_read(source: Path) -> None:
    made, make = counted("own")
    kept("it", [source], make)
    folder = source.parent / "cache"
    (place,) = folder.iterdir()
    place.chmod(0o666)
    kept("it", [source], make)
    assert len(made) == 2
    folder.chmod(0o777)
    kept("it", [source], make)
    assert len(made) == 3


def test_without_a_place_to_keep_it_a_run_only_takes_longer(source: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    made, make = counted("own")
    blocked = source.parent / "file"
    blocked.write_text("")
    monkeypatch.setenv("GATECHECK_CACHE", str(blocked / "below"))
    assert [kept("it", [source], make), kept("it", [source], make)] == ["own", "own"]
    assert kept("it", [source.parent / "gone"], make) == "own"
    assert len(made) == 3


def test_what_cannot_be_kept_is_given_all_the_same(source: Path) -> None:
    value = kept("it", [source], lambda: lambda: 4)
    assert value() == 4
    assert not [p for p in (source.parent / "cache").glob("*") if p.name.startswith(".kept-")]


def test_only_so_many_stay(source: Path) -> None:
    for number in range(12):
        source.write_text("x" * number)
        kept("it", [source], lambda: 1)
    kept("other", [source], lambda: 1)
    assert len(list((source.parent / "cache").glob("it-*"))) == keeping._MOST_KEPT


def test_the_tables_and_the_words_are_the_same_kept_or_made() -> None:
    fresh, own = compile_model(load(shipped_texts())), shipped_model()
    assert own.knowledge == fresh.knowledge
    assert np.array_equal(own.sight.rows, fresh.sight.rows)
    assert own.vary("reseat", ("again",))[1].price == fresh.vary("reseat", ("again",))[1].price
    assert shipped_words().sentences == Words(words_texts(), fresh.knowledge).sentences
