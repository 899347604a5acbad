"""The capture of a practice machine, as the real probe writes it."""

from __future__ import annotations

import tempfile
from functools import cache
from pathlib import Path

from gatecheck.practice.patients import patient
from gatecheck.probe import gatecheck_probe


@cache
def capture_of(name: str) -> bytes:
    """A `.gcap` with everything the patient answers."""
    with tempfile.TemporaryDirectory() as folder:
        out = Path(folder) / "machine.gcap"
        options = ["--out", str(out), "--spool", str(Path(folder) / "spool"), "--wait", "5"]
        assert gatecheck_probe.main(options, machine=patient(name).connected(), say=lambda text: None) == 0
        return out.read_bytes()
