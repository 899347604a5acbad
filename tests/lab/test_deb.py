"""The Debian package in a clean system: installed without a registry, its unit's own command serves the page as the
service's user, and what is removed leaves the data."""

from __future__ import annotations

import shlex
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import httpx2 as httpx
import pytest

ROOT = Path(__file__).parents[2]
pytestmark = pytest.mark.lab_all


@pytest.fixture(scope="module")
def system(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    folder = tmp_path_factory.mktemp("deb")
    root = folder / "root"
    subprocess.run(["make", "deb", f"WHEELS={folder}"], cwd=ROOT, check=True, capture_output=True)
    packages = "--include=python3,python3-venv,passwd"
    subprocess.run(
        ["debootstrap", "--variant=minbase", packages, "bookworm", str(root)], check=True, capture_output=True
    )
    next(folder.glob("gatecheck_*.deb")).rename(root / "tmp" / "own.deb")
    yield root
    subprocess.run(["umount", "-q", str(root / "proc")], check=False)


def inside(root: Path, *command: str) -> str:
    clean = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LANG": "C.UTF-8"}
    done = subprocess.run(["chroot", str(root), *command], capture_output=True, text=True, env=clean, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


def test_it_installs_serves_and_leaves_the_data(system: Path) -> None:
    inside(system, "unshare", "--net", "dpkg", "-i", "/tmp/own.deb")
    assert inside(system, "gatecheck", "--version").strip()
    unit = (system / "usr/lib/systemd/system/gatecheck.service").read_text("utf-8")
    command = shlex.split(next(line for line in unit.splitlines() if line.startswith("ExecStart=")).partition("=")[2])
    process = subprocess.Popen(
        ["chroot", "--userspec=gatecheck:gatecheck", str(system), *command],
        env={"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "PYTHONUNBUFFERED": "1", "HOME": "/var/lib/gatecheck"},
        stdout=subprocess.PIPE,
    )
    try:
        assert process.stdout is not None
        assert b"Gate Check is at https://" in process.stdout.readline()
        with httpx.Client(verify=False, base_url="https://127.0.0.1:8765", timeout=30) as client:
            for _ in range(100):
                answer = client.get("/")
                if answer.status_code == 200:
                    break
                time.sleep(0.1)
            assert "/assets/" in answer.text
            assert client.get("/api/bench").json()["rows"] == []
    finally:
        process.terminate()
        process.wait(30)
        if process.stdout:
            process.stdout.close()
    assert (system / "var/lib/gatecheck/gatecheck.sqlite3").stat().st_uid != 0
    assert "stay in /var/lib/gatecheck" in inside(system, "dpkg", "--purge", "gatecheck")
    assert not (system / "opt/gatecheck").exists()
    assert (system / "var/lib/gatecheck/gatecheck.sqlite3").exists()
