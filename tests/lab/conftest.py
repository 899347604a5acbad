"""The lab's table, fact by fact, at the end of a run: what each emulated machine was told to be, and what the server
showed."""

from __future__ import annotations

import fcntl
import os
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from xdist.scheduler import LoadScopeScheduling

sys.path.insert(0, str(Path(__file__).parent))
from guest import CACHE, Guest, LabMissing, guest
from stick_lab import Wire

from serving import Served

TABLE = "GATECHECK_LAB_TABLE"
WIRED = ("test_stick.py", "test_mended_linked.py", "test_volume_linked.py")
"""files most of whose tests have a network of their own"""


def pytest_configure(config: pytest.Config) -> None:
    if not hasattr(config, "workerinput"):  # the one that started the workers
        os.environ[TABLE] = str(Path(tempfile.mkdtemp(prefix="gatecheck-lab-")) / "table.txt")


def pytest_terminal_summary(terminalreporter: Any) -> None:
    if hasattr(terminalreporter.config, "workerinput"):
        return
    place = Path(os.environ.get(TABLE, "/nowhere"))
    if place.exists():
        terminalreporter.section("what the emulator was told, and what the server shows")
        terminalreporter.write(place.read_text(encoding="utf-8"))
        place.unlink()
        place.parent.rmdir()


class Apart(LoadScopeScheduling):  # type: ignore[misc]
    """Each test for itself, but those with a network after each other on one worker: two workers would wait for each
    other's."""

    def _split_scope(self, nodeid: str) -> str:
        return "wire" if any(name in nodeid for name in WIRED) else nodeid


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_make_scheduler(config: pytest.Config, log: Any) -> Apart:
    return Apart(config, log)


@pytest.fixture(scope="session")
def system() -> Guest:
    try:
        return guest()
    except LabMissing as reason:
        pytest.skip(f"no lab here: {reason}")


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    running = Served(tmp_path_factory.mktemp("bench"))
    running.start()
    yield running
    running.stop()


@pytest.fixture
def wire() -> Iterator[Wire]:
    """A network of its own for one machine, on which this host is the bench. One at a time: a bench announces itself on
    every network that there is."""
    CACHE.mkdir(parents=True, exist_ok=True)
    with (CACHE / "wire.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        try:
            own = Wire(20 + os.getpid() % 200)
        except LabMissing as error:
            pytest.skip(str(error))
        own.start()
        yield own
        own.stop()
