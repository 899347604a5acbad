"""Connects a practice machine: the real probe, with a simulated machine behind its device interface.

`python -m gatecheck.practice NAME [--since SECONDS] <options of the probe>`
"""

from __future__ import annotations

import argparse
import sys

from gatecheck.practice.patients import PATIENTS, patient
from gatecheck.probe import gatecheck_probe


def main(argv: list[str] | None = None) -> int:
    """Exit status of the probe; 2 for a machine there is not."""
    parser = argparse.ArgumentParser(prog="gatecheck.practice", description="Connect a practice machine.")
    parser.add_argument("name", choices=[p.id for p in PATIENTS])
    parser.add_argument("--since", type=float, default=None, help="when it was first connected, seconds of the epoch: its drives age from there")
    chosen, rest = parser.parse_known_args(argv)
    result: int = gatecheck_probe.main(rest, machine=patient(chosen.name).connected(chosen.since))
    return result


if __name__ == "__main__":
    sys.exit(main())
