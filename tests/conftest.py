"""Shared fixtures: the shipped model, and short ways to write tapes."""

from __future__ import annotations

import os
import shutil
import tempfile
from pathlib import Path

import pytest
from hypothesis import settings

from gatecheck.adapters.shipped_tables import shipped_model, shipped_texts
from gatecheck.core.belief.model import Model
from practised import CAPTURES

# elsewhere every run tries new examples; a gate should not open or shut by luck
settings.register_profile("gate", derandomize=True)
if os.environ.get("CI"):
    settings.load_profile("gate")

DATA = Path(__file__).parent / "data"


def pytest_configure(config: pytest.Config) -> None:
    if not hasattr(config, "workerinput"):  # the one that starts the workers, and outlives them
        os.environ[CAPTURES] = tempfile.mkdtemp(prefix="gatecheck-captures-")


def pytest_unconfigure(config: pytest.Config) -> None:
    if not hasattr(config, "workerinput"):
        shutil.rmtree(os.environ.pop(CAPTURES, ""), ignore_errors=True)


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
