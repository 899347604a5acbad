"""The wheel in a clean environment without Node: installed by pip, it serves its own page and reasons about a case."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import time
from pathlib import Path

import httpx2 as httpx
import pytest

from serving import free_port

ROOT = Path(__file__).parents[2]
pytestmark = pytest.mark.lab


@pytest.fixture(scope="module")
def clean(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The environment's folder of programs; nothing of the checkout is in reach."""
    folder = tmp_path_factory.mktemp("wheel")
    subprocess.run(["make", "wheel", f"WHEELS={folder}"], cwd=ROOT, check=True, capture_output=True)
    wheel = next(folder.glob("gatecheck-*.whl"))
    subprocess.run([sys.executable, "-m", "venv", str(folder / "venv")], check=True)
    bin_ = folder / "venv" / "bin"
    subprocess.run(
        [str(bin_ / "python"), "-m", "pip", "install", "-q", "--disable-pip-version-check", str(wheel)],
        check=True,
        cwd=folder,
        env=_bare(bin_),
    )
    return bin_


def _bare(bin_: Path) -> dict[str, str]:
    """Programs of the environment and the system's own; no Node, no checkout."""
    own = {name: value for name, value in os.environ.items() if name not in ("PYTHONPATH", "VIRTUAL_ENV")}
    return {**own, "PATH": f"{bin_}:/usr/sbin:/sbin:/bin", "HOME": str(bin_.parent)}


def test_it_serves_its_own_page_and_the_demo(clean: Path, tmp_path: Path) -> None:
    port = free_port()
    process = subprocess.Popen(
        [str(clean / "gatecheck"), "demo", "--port", str(port), "--data", str(tmp_path / "data")],
        cwd=tmp_path,
        env=_bare(clean),
        stdout=subprocess.PIPE,
    )
    try:
        assert process.stdout is not None
        assert b"Gate Check is at" in process.stdout.readline()
        for _ in range(100):
            rows = httpx.get(f"http://127.0.0.1:{port}/api/bench", timeout=30).json()["rows"]
            if rows:
                break
            time.sleep(0.1)
        assert rows
        page = httpx.get(f"http://127.0.0.1:{port}/", timeout=30).text
        script = re.search(r'src="(/assets/[^"]+\.js)"', page)
        assert script
        assert len(httpx.get(f"http://127.0.0.1:{port}{script[1]}", timeout=30).content) > 100_000
        assert httpx.get(f"http://127.0.0.1:{port}/fonts/text.ttf", timeout=30).content[:4] == b"\0\1\0\0"
        ticket = next(
            t["id"] for t in httpx.get(f"http://127.0.0.1:{port}/api/find?text=", timeout=30).json() if t["closed"]
        )
        pdf = httpx.get(f"http://127.0.0.1:{port}/api/tickets/{ticket}/papers/customer/pdf", timeout=60)
        assert pdf.status_code in (200, 404)
    finally:
        process.terminate()
        process.wait(30)
        if process.stdout:
            process.stdout.close()


def test_it_reasons_about_a_case(clean: Path, tmp_path: Path) -> None:
    (tmp_path / "case.json").write_text(
        json.dumps({"facts": {"platform": "pc"}, "entries": [{"move": "screen", "outcome": "no-boot-device"}]})
    )
    done = subprocess.run(
        [str(clean / "gatecheck"), "triage", "case.json"],
        cwd=tmp_path,
        env=_bare(clean),
        capture_output=True,
        check=True,
    )
    assert json.loads(done.stdout)["next"]
