"""What a mending plan leaves behind, in real firmware: it starts exactly where the verdict says so, and the undo file
restores every byte."""

from __future__ import annotations

import hashlib
import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).parent))
from boot_classes import MORE_DAMAGED
from boot_images import DAMAGED, FIRST, SECTORS, Make, need_tools
from test_firmware_verdict import starts

from gatecheck.cli.main import main

_DAILY = (
    "uefi-both-gone",
    "uefi-loader-gone",
    "uefi-table-gone",
    "bios-code-gone",
    "bios-table-gone",
    "bios-no-active",
    "uefi-start-late",
)


def _volume(image: Path, folder: Path) -> Path:
    """The system partition alone, for the operating system's own checker."""
    out = folder / "volume.img"
    out.write_bytes(image.read_bytes()[FIRST * 512 : (FIRST + SECTORS) * 512])
    return out


@pytest.mark.parametrize(
    ("mode", "name", "make"),
    [
        pytest.param(
            mode,
            name,
            make,
            id=f"{mode}-{name}",
            marks=pytest.mark.lab if f"{mode}-{name}" in _DAILY else pytest.mark.lab_all,
        )
        for mode, name, make in [*DAMAGED, *MORE_DAMAGED]
    ],
)
def test_a_mended_image_starts_and_its_undo_restores_it(
    mode: str, name: str, make: Make, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    need_tools()
    image, undo = tmp_path / f"{name}.img", tmp_path / "undo.json"
    make(image)
    before = hashlib.sha256(image.read_bytes()).hexdigest()
    capsys.readouterr()
    assert main(["mend", str(image), "--mode", mode]) == 0
    plans = json.loads(capsys.readouterr().out)["plans"]
    assert hashlib.sha256(image.read_bytes()).hexdigest() == before
    assert plans, "nothing to mend was found"
    assert main(["mend", str(image), "--mode", mode, "--apply", "all", "--undo", str(undo)]) == 0
    done = json.loads(capsys.readouterr().out)
    real = starts(image, mode)
    with Path(os.environ["GATECHECK_LAB_TABLE"]).open("a", encoding="utf-8") as table:
        table.write(
            f"{'' if done['boots'] == real else 'DIFFERS':<8} {mode:<5} {name:<20} mended by "
            f"{', '.join(done['applied'])}: firmware {'starts it' if real else 'does not'}\n"
        )
    assert done["boots"]
    assert real
    if mode == "uefi" and name.startswith("loader"):
        checked = subprocess.run(["fsck.vfat", "-n", str(_volume(image, tmp_path))], capture_output=True, text=True)
        assert checked.returncode == 0, checked.stdout
    assert main(["mend", str(image), "--revert", str(undo)]) == 0
    assert hashlib.sha256(image.read_bytes()).hexdigest() == before
