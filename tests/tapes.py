"""Short ways to write cases, and random tapes for property tests."""

from __future__ import annotations

import json
import os
from typing import Any

from hypothesis import strategies as st

from gatecheck.adapters.shipped_tables import shipped_words
from gatecheck.core.belief.model import Model
from gatecheck.core.decide.report import triage

LAPTOP = {"platform": "pc", "form": "laptop", "installed_os": "windows-10", "drive_kind": "hdd"}
SAFE = {**LAPTOP, "data": "backed-up"}
PRECIOUS = {**LAPTOP, "data": "irreplaceable"}


def readings(*texts: str) -> list[dict[str, Any]]:
    """`move=outcome` as entries."""
    return [dict(zip(("move", "outcome"), text.split("="), strict=True)) for text in texts]


def case(model: Model, facts: dict[str, Any], *texts: str, more: list[dict[str, Any]] | None = None) -> dict[str, Any]:
    """The triage document of a case. With GATECHECK_RECORD set, the case is written down there: `bench/equal.py`
    collects them."""
    asked = {"facts": facts, "entries": [*readings(*texts), *(more or [])]}
    if os.environ.get("GATECHECK_RECORD"):
        with open(os.environ["GATECHECK_RECORD"], "a", encoding="utf-8") as record:
            record.write(json.dumps(asked) + "\n")
    return triage(model, shipped_words(), asked, as_of_year=2026)


def p(document: dict[str, Any], fault: str) -> float:
    return next(s["p"] for s in document["suspects"] if s["fault"] == fault)


def moves(document: dict[str, Any]) -> list[str]:
    return [m["move"] for m in document["next"]]


def held(document: dict[str, Any]) -> dict[str, set[str]]:
    """interlock -> held moves"""
    found: dict[str, set[str]] = {}
    for item in document["held"]:
        found.setdefault(item["interlock"], set()).add(item["move"])
    return found


def gate(document: dict[str, Any], name: str) -> str:
    return next(g["state"] for g in document["gates"] if g["id"] == name)


@st.composite
def tapes(draw: st.DrawFn, model: Model, most: int = 10) -> list[dict[str, Any]]:
    """Random but well-formed tapes of plain readings."""
    knowledge = model.knowledge
    names = draw(st.lists(st.sampled_from([*knowledge.checks, *knowledge.fixes]), max_size=most))
    return [{"move": n, "outcome": draw(st.sampled_from(knowledge.move(n).outcomes))} for n in names]
