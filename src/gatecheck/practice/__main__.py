"""Connects a practice machine: the real probe, with a simulated machine behind its device interface.

`python -m gatecheck.practice NAME [--since SECONDS] <options of the probe>`
"""

from __future__ import annotations

import argparse
import os
import sys
import threading
import time

from gatecheck.practice.patients import PATIENTS, patient
from gatecheck.probe import gatecheck_probe

_ORPHAN_SECONDS = 60


def _end_with(parent: int) -> None:
    """A practice machine whose server was killed waits a while for it to come back, and then goes."""
    alone = 0
    while alone < _ORPHAN_SECONDS:
        time.sleep(5)
        alone = alone + 5 if os.getppid() != parent else 0
    os._exit(0)


def main(argv: list[str] | None = None) -> int:
    """Exit status of the probe; 2 for a machine there is not."""
    parser = argparse.ArgumentParser(prog="gatecheck.practice", description="Connect a practice machine.")
    parser.add_argument("name", choices=[p.id for p in PATIENTS])
    parser.add_argument("--since", type=float, default=None, help="when it was first connected, seconds of the epoch: its drives age from there")
    chosen, rest = parser.parse_known_args(argv)
    threading.Thread(target=_end_with, args=(os.getppid(),), daemon=True).start()
    result: int = gatecheck_probe.main(rest, machine=patient(chosen.name).connected(chosen.since))
    return result


if __name__ == "__main__":
    sys.exit(main())
