"""A rehearsal shared among the workers of a scheduler: the same machines come to the same, whoever works on them."""

from __future__ import annotations

import json
import os
import signal
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import distributed
import pytest

from gatecheck.cli.main import main
from gatecheck.cli.rehearse import rehearse_runs
from gatecheck.core.errors import InputError

HOW: dict[str, Any] = {"machines": 48, "seed": 6, "world": "school-flash", "policies": ["planner"]}


@pytest.fixture(scope="module")
def cluster() -> Iterator[Any]:
    with distributed.LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None, silence_logs=50) as own:
        yield own


@pytest.mark.wide
def test_a_cluster_comes_to_the_same_as_processes_also_when_a_worker_dies(cluster: Any) -> None:
    here = rehearse_runs(**HOW, jobs=1)
    address = str(cluster.scheduler_address)
    assert rehearse_runs(**HOW, jobs=None, cluster=address) == here
    with ThreadPoolExecutor(1) as pool, distributed.Client(address) as watching:
        workers = watching.run(os.getpid)
        running = pool.submit(rehearse_runs, **HOW, jobs=None, cluster=address)
        busy = _busy(watching)
        os.kill(workers[busy], signal.SIGKILL)
        assert running.result(timeout=240) == here


def _busy(client: Any) -> str:
    """A worker that has a part of it in hand."""
    end = time.monotonic() + 60
    while time.monotonic() < end:
        busy = next((address for address, parts in client.processing().items() if parts), None)
        if busy is not None:
            return str(busy)
    raise AssertionError("no worker took anything")


def test_a_scheduler_that_is_not_there_is_one_clear_error(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("gatecheck.cli.rehearse._CLUSTER_WAIT", 1)
    with pytest.raises(InputError, match=r"--cluster tcp://127\.0\.0\.1:9: expected a scheduler that answers"):
        rehearse_runs(**HOW, jobs=None, cluster="tcp://127.0.0.1:9")


def test_a_wrong_call_is_a_case_for_triage(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    wanted = ["rehearse", "--machines", "30", "--seed", "41", "--world", "dusty-desktops", "--jobs", "1", "--wrong"]
    assert main([*wanted, "1"]) == 0
    told = capsys.readouterr().out
    assert main([*wanted, "1", "--as-case"]) == 0
    case = json.loads(capsys.readouterr().out)
    assert f"{case['entries'][0]['move']}: {case['entries'][0]['outcome']}" in told
    (tmp_path / "case.json").write_text(json.dumps(case))
    assert main(["triage", str(tmp_path / "case.json")]) == 0
    assert json.loads(capsys.readouterr().out)["suspects"]
    assert main([*wanted, "999"]) == 2
    assert "--wrong: expected 1 to" in capsys.readouterr().err
