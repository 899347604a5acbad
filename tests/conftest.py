"""Shared fixtures: the shipped model, and short ways to write tapes."""

from __future__ import annotations

from pathlib import Path

import pytest

from gatecheck.core.triage.model import Model
from gatecheck.library import shipped_model, shipped_texts

DATA = Path(__file__).parent / "data"


@pytest.fixture(scope="session")
def model() -> Model:
    return shipped_model()


@pytest.fixture(scope="session")
def texts() -> dict[str, str]:
    return shipped_texts()


@pytest.fixture(scope="session")
def bench_a() -> dict[str, bytes]:
    root = DATA / "bench-a"
    return {p.relative_to(root).as_posix(): p.read_bytes() for p in sorted(root.rglob("*")) if p.is_file()}
