"""The capture of a practice machine, as the real probe writes it."""

from __future__ import annotations

import os
import tempfile
from functools import cache
from pathlib import Path

from gatecheck.practice.patients import patient
from gatecheck.probe.main import main

CAPTURES = "GATECHECK_CAPTURES"
"""names the folder of a run of the tests in which they are kept; `conftest.py` makes it and takes it away"""


@cache
def capture_of(name: str) -> bytes:
    """A `.gcap` with everything the patient answers. Read once in a run of the tests, whichever of its processes asks
    first."""
    folder = os.environ.get(CAPTURES)
    if not folder:
        return _read(name)
    kept = Path(folder) / f"{name}.gcap"
    if not kept.exists():
        part = kept.with_suffix(f".{os.getpid()}")
        part.write_bytes(_read(name))
        part.replace(kept)
    return kept.read_bytes()


def _read(name: str) -> bytes:
    with tempfile.TemporaryDirectory() as folder:
        out = Path(folder) / "machine.gcap"
        options = ["--out", str(out), "--spool", str(Path(folder) / "spool"), "--wait", "5"]
        assert main(options, machine=patient(name).connected(), say=lambda text: None) == 0
        return out.read_bytes()
