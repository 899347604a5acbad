"""The bench as a service: a unit that systemd takes, started and taken away by systemctl, and what is said where it is
not there or refuses."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from gatecheck.cli.main import main
from gatecheck.core.errors import InputError
from gatecheck.server.service_unit import Service, unit_text

TOOL = """#!/bin/sh
echo "$@" >> "$ASKED"
case "$*" in
  *show*) printf "ActiveState=$STATE\\nSubState=running\\nMainPID=77\\nNRestarts=2\\nActiveEnterTimestamp=today\\n";;
  *enable*) [ -z "$REFUSES" ] || { echo "Failed to connect to bus" >&2; exit 1; };;
esac
"""


@pytest.fixture
def systemctl(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """What was asked of it, a line each."""
    tool = tmp_path / "bin" / "systemctl"
    tool.parent.mkdir()
    tool.write_text(TOOL)
    tool.chmod(0o755)
    asked = tmp_path / "asked"
    asked.touch()
    monkeypatch.setenv("PATH", f"{tool.parent}:{os.environ['PATH']}")
    monkeypatch.setenv("ASKED", str(asked))
    monkeypatch.setenv("STATE", "active")
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    return asked


def test_it_is_installed_changed_looked_at_and_taken_away(
    systemctl: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    data, unit = tmp_path / "shop data", tmp_path / "config/systemd/user/gatecheck.service"
    assert main(["status", "--user"]) == 3
    assert "not installed" in capsys.readouterr().out
    for port in ("9000", "9001"):
        assert (
            main(["install", "--user", "--data", str(data), "--port", port, "--backups", "/b", "--name", "bench"]) == 0
        )
    text = unit.read_text()
    assert f'--port 9001 --data "{data}" --name bench --backups /b' in text
    assert f"ExecStart={sys.executable} -m gatecheck.cli.main serve --host 0.0.0.0" in text
    assert data.is_dir()
    assert systemctl.read_text().splitlines()[:3] == [
        "--user --no-pager daemon-reload",
        "--user --no-pager enable gatecheck.service",
        "--user --no-pager restart gatecheck.service",
    ]
    (data / "kept").touch()
    capsys.readouterr()
    assert main(["status", "--user"]) == 0
    said = capsys.readouterr().out
    assert "state: active (running)" in said
    assert "restarted after a failure: 2 times" in said
    assert main(["uninstall", "--user"]) == 0
    assert not unit.exists()
    assert (data / "kept").exists(), "the data stays"
    assert "--user --no-pager disable --now gatecheck.service" in systemctl.read_text()
    assert main(["uninstall", "--user"]) == 2
    assert "expected an installed unit" in capsys.readouterr().err


def test_what_systemd_refuses_is_one_sentence(
    systemctl: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("REFUSES", "1")
    assert main(["install", "--user", "--data", str(tmp_path / "data")]) == 2
    assert "systemctl enable gatecheck.service: Failed to connect to bus" in capsys.readouterr().err
    unit = tmp_path / "config/systemd/user/gatecheck.service"
    assert not unit.exists(), "what cannot be started stays nowhere"
    unit.write_text("another")
    assert main(["install", "--user", "--data", str(tmp_path / "data")]) == 2
    assert unit.read_text() == "another"
    (tmp_path / "file").touch()
    assert main(["install", "--user", "--data", str(tmp_path / "file" / "data")]) == 2
    assert "--data" in capsys.readouterr().err
    monkeypatch.setenv("REFUSES", "")
    monkeypatch.setenv("STATE", "failed")
    assert main(["status", "--user"]) == 3
    monkeypatch.setenv("PATH", str(tmp_path))
    assert main(["status", "--user"]) == 2
    assert "expected systemd on this computer" in capsys.readouterr().err


@pytest.mark.parametrize("is_system", [False, True])
def test_the_unit_is_one_that_systemd_takes(is_system: bool, tmp_path: Path) -> None:
    own = Service(is_system, Path("/srv/50% of $it"), backups=Path("/mnt/back ups"), options=("--name", "bench.local"))
    text = unit_text(own)
    assert '"/srv/50%% of $$it"' in text
    assert ("CapabilityBoundingSet=" in text) is is_system
    tool = shutil.which("systemd-analyze")
    if tool:
        unit = tmp_path / "gatecheck.service"
        unit.write_text(text)
        said = subprocess.run([tool, "verify", "--man=no", unit], capture_output=True, text=True)
        assert "gatecheck" not in said.stderr, said.stderr
    with pytest.raises(InputError, match="control characters"):
        unit_text(Service(is_system, Path("/srv/a\nExecStart=/bin/sh")))
