"""Servers and practice machines by fork: one process has everything imported and the model compiled, each of them is a
fork of it.

A server of its own for every test then costs a tenth of a second instead of two. `python nursery.py` is that process:
it reads what to be (`gatecheck` or `practice`) and its command line as JSON from standard input, forks, and answers
with the number of the new process."""

from __future__ import annotations

import atexit
import ctypes
import gc
import json
import os
import signal
import subprocess
import sys
import tempfile
import time
from functools import cache
from pathlib import Path


class Forked:
    """A process that somebody else started."""

    def __init__(self, pid: int) -> None:
        self.pid = pid

    def kill(self) -> None:
        if self.is_alive():
            os.kill(self.pid, signal.SIGKILL)

    def wait(self) -> None:
        while self.is_alive():
            time.sleep(0.005)

    def is_alive(self) -> bool:
        try:
            os.kill(self.pid, 0)
        except ProcessLookupError:
            return False
        return True


@cache
def _nursery() -> subprocess.Popen[str]:
    one_core = {**os.environ, "OPENBLAS_NUM_THREADS": "1"}  # threads do not survive a fork
    nursery = subprocess.Popen(
        [sys.executable, __file__], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, env=one_core
    )
    atexit.register(nursery.communicate)  # ends it: there is nothing more to read
    return nursery


def start(*arguments: str, what: str = "gatecheck") -> Forked:
    """`gatecheck` with these arguments, or a `practice` machine, in a process of its own."""
    nursery = _nursery()
    assert nursery.stdin is not None
    assert nursery.stdout is not None
    nursery.stdin.write(json.dumps([what, *arguments]) + "\n")
    nursery.stdin.flush()
    return Forked(int(nursery.stdout.readline()))


def _die_with_parent() -> None:
    """Whoever started this process may be killed, or stopped by Ctrl-C: then this one goes too (prctl(2),
    PR_SET_PDEATHSIG)."""
    ctypes.CDLL(None).prctl(1, signal.SIGKILL)


def _serve_forever() -> None:
    _die_with_parent()
    import gatecheck.core.signal.sound
    import gatecheck.core.signal.supply
    import gatecheck.practice.sounds
    import gatecheck.server.run
    from gatecheck.cli import main
    from gatecheck.practice import __main__ as practice
    from gatecheck.probe import probe

    with tempfile.TemporaryDirectory() as folder:  # what only the first application of a process takes long for
        house = gatecheck.server.run.open_services(Path(folder))
        gatecheck.server.run.create_app(house)
        house.shop.database.close()
    probe.PULL_SECONDS = 0.1  # no test waits two seconds for the next order
    programs = {"gatecheck": main.main, "practice": practice.main}
    gc.collect()
    gc.freeze()  # a fork that collects would touch, and so copy, all of it
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # the dead are nobody's to count
    for line in sys.stdin:
        pid = os.fork()
        if pid == 0:
            _die_with_parent()
            signal.signal(signal.SIGCHLD, signal.SIG_DFL)
            nowhere = os.open(os.devnull, os.O_RDWR)
            os.dup2(nowhere, 0)
            os.dup2(nowhere, 1)
            what, *arguments = json.loads(line)
            os._exit(programs[what](arguments))
        print(pid, flush=True)


if __name__ == "__main__":
    _serve_forever()
