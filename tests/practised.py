"""The capture of a practice machine, as the real probe writes it."""

from __future__ import annotations

import atexit
import os
import shutil
import tempfile
from functools import cache
from pathlib import Path

from gatecheck.practice.patients import patient
from gatecheck.probe import gatecheck_probe


@cache
def capture_of(name: str) -> bytes:
    """A `.gcap` with everything the patient answers. Read once in a run of the tests, whichever of its processes asks first."""
    run = os.environ.get("PYTEST_XDIST_TESTRUNUID")
    kept = Path(tempfile.gettempdir()) / f"gatecheck-captures-{run}" / f"{name}.gcap"
    if run and kept.exists():
        return kept.read_bytes()
    raw = _read(name)
    if run:
        kept.parent.mkdir(exist_ok=True)
        atexit.register(shutil.rmtree, kept.parent, ignore_errors=True)
        part = kept.with_suffix(f".{os.getpid()}")
        part.write_bytes(raw)
        part.replace(kept)
    return raw


def _read(name: str) -> bytes:
    with tempfile.TemporaryDirectory() as folder:
        out = Path(folder) / "machine.gcap"
        options = ["--out", str(out), "--spool", str(Path(folder) / "spool"), "--wait", "5"]
        assert gatecheck_probe.main(options, machine=patient(name).connected(), say=lambda text: None) == 0
        return out.read_bytes()
