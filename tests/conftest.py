"""Shared fixtures: the shipped model, and short ways to write tapes."""

from __future__ import annotations

import os
import shutil
import tempfile
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from gatecheck.adapters.shipped_tables import shipped_model, shipped_texts
from gatecheck.core.belief.model import Model
from practised import CAPTURES

# how long an example takes says how busy the machine is; a gate should not open or shut by that, nor by luck: elsewhere
# every run tries new examples
_ANY = {"deadline": None, "suppress_health_check": [HealthCheck.too_slow]}
settings.register_profile("bench", **_ANY)
settings.register_profile("gate", derandomize=True, **_ANY)
settings.load_profile("gate" if os.environ.get("CI") else "bench")

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
