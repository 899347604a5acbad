"""Tests that are stopped leave no process behind."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from serving import free_port

SCRIPT = """
import signal, sys, time
signal.signal(signal.SIGINT, signal.default_int_handler)  # ignored by what runs in the background
sys.path.insert(0, sys.argv[1])
from nursery import start
print(start("serve", "--port", sys.argv[2], "--data", sys.argv[3]).pid, flush=True)
time.sleep(600)
"""


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGKILL])
def test_what_a_test_started_goes_with_it(how: signal.Signals, tmp_path: Path) -> None:
    folder, port, data = str(Path(__file__).parent), str(free_port()), str(tmp_path / "data")
    tests = subprocess.Popen(
        [sys.executable, "-c", SCRIPT, folder, port, data], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
    )
    assert tests.stdout is not None
    server = int(tests.stdout.readline())
    tests.send_signal(how)
    tests.wait(60)
    tests.stdout.close()
    for _ in range(600):
        try:
            os.kill(server, 0)
        except ProcessLookupError:
            return
        time.sleep(0.05)
    raise AssertionError(f"process {server} is still there")
