"""Connects a practice machine: the real probe, with a simulated machine behind its device interface.

`python -m gatecheck.practice NAME [--since SECONDS] [--started-by PID] <options of the probe>`
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import sys
import threading
import time

from gatecheck.practice.machine import READS_PER_SECOND, with_new_drive
from gatecheck.practice.patients import PATIENTS, patient
from gatecheck.probe.main import main as probe_main

_ORPHAN_SECONDS, _LOOK_EVERY = 60.0, 5.0


def _end_with(parent: int, spool: str | None) -> None:
    """A practice machine whose server was killed waits a while for it to come back, and then goes, with what it
    kept."""
    alone = 0.0
    while alone < _ORPHAN_SECONDS:
        time.sleep(_LOOK_EVERY)
        alone = alone + _LOOK_EVERY if os.getppid() != parent else 0.0
    if spool:
        shutil.rmtree(spool, ignore_errors=True)
    os._exit(0)


def main(argv: list[str] | None = None) -> int:
    """Exit status of the probe; 2 for a machine there is not."""
    parser = argparse.ArgumentParser(prog="gatecheck.practice", description="Connect a practice machine.")
    parser.add_argument("name", choices=[p.id for p in PATIENTS])
    parser.add_argument(
        "--since",
        type=float,
        default=None,
        help="when it was first connected, seconds of the epoch: its drives age from there",
    )
    parser.add_argument("--spool", default=None, help="where pages are kept until they are sent")
    parser.add_argument(
        "--started-by", type=int, default=os.getppid(), help="the process that it goes with (default: its parent)"
    )
    parser.add_argument(
        "--new-drive", default=None, help="the drive that took the place of its own: name, serial and size_gb as JSON"
    )
    parser.add_argument(
        "--mended",
        default=None,
        help="file of what was written to its disks since: disk, byte, bytes as base64, as JSON",
    )
    parser.add_argument(
        "--pace", type=float, default=READS_PER_SECOND, help="seconds of reading that pass in one of ours"
    )
    chosen, rest = parser.parse_known_args(argv)
    threading.Thread(target=_end_with, args=(chosen.started_by, chosen.spool), daemon=True).start()
    if chosen.spool:
        rest += ["--spool", chosen.spool]
    machine = patient(chosen.name).connected(chosen.since)
    machine.pace = chosen.pace
    if chosen.mended:
        with open(chosen.mended, encoding="utf-8") as file:
            machine.take_writes(json.load(file))
    if chosen.new_drive:
        machine = with_new_drive(machine, **json.loads(chosen.new_drive))
    result: int = probe_main(rest, machine=machine)
    return result


if __name__ == "__main__":
    sys.exit(main())
