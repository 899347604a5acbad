"""The bench that the tests of the link stand at."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).parent))
from benches import Bench


@pytest.fixture
def bench(tmp_path: Path) -> Iterator[Bench]:
    opened = Bench(tmp_path)
    opened.start()
    yield opened
    opened.stop()
    for process in opened.probes:
        process.kill()
        process.wait()
