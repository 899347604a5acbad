"""A short walk of the fuzzer, always the same one, and all that longer ones have found so far (`make fuzz`)."""

from __future__ import annotations

import random
import sys
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).parents[1] / "bench"))
import fuzz


def test_what_was_found_once_is_not_found_again() -> None:
    assert fuzz.tried_again() == []


def test_mutated_captures_cost_nothing_but_themselves() -> None:
    cases = fuzz.page_cases(random.Random(11))
    for _ in range(30):
        pages = next(cases)
        fuzz.judge_pages(fuzz.json.dumps({path: data.hex() for path, data in pages.items()}).encode())


def test_the_fuzzer_finds_what_is_there_to_be_found(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(fuzz, "read_capture", lambda *a: {}["nothing"])
    with pytest.raises(fuzz.Found, match="KeyError"):
        fuzz.judge_pages(b'{"sda/identify.bin": "00"}')


def test_every_route_answers_whatever_is_sent(tmp_path: Path) -> None:
    rng, api = random.Random(5), fuzz.Api(tmp_path)
    for _ in range(200):
        api.ask(rng)
    api.check()
    assert {200, 201, 422} <= set(api.statuses)
