"""The boot path verdict beside what real firmware does with the same image, UEFI and legacy; the table is printed."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import time
from collections.abc import Mapping
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).parent))
from boot_classes import MORE_BIOS, MORE_UEFI, WIDE
from boot_images import BIOS, TEXT, UEFI, Make, need_tools
from guest import OVMF
from nvram import write_variables

from gatecheck.cli.main import main

_DAILY = {
    "uefi": ("healthy", "no-guard", "primary-gone", "fat-no-jump", "logical-second", "two-cut", "wide-primary-gone"),
    "bios": ("standard", "two-active", "installed-unlisted", "stage-library"),
}
_ENDS = ("grub>", "grub rescue>", "Shell>", "UEFI Interactive Shell", "No bootable option", "No bootable device")
_DISKS = {
    "ide": "ide-hd,drive=d0,bus=ide.0",
    "nvme": "nvme,drive=d0,serial=GC-W1,logical_block_size=4096,physical_block_size=4096",
}
_SECONDS = {"uefi": 120, "bios": 60}

CASES = [
    (mode, name, make)
    for mode, corpus in (("uefi", {**UEFI, **MORE_UEFI}), ("bios", {**BIOS, **MORE_BIOS}))
    for name, make in corpus.items()
]


def starts(image: Path, mode: str, variables: Mapping[str, bytes] | None = None, disk: str = "ide") -> bool:
    """Does the firmware start it? The image itself is not written: firmware mends a table that it finds broken.
    `variables`: what stands in a UEFI firmware's own store; `disk`: ide, or nvme with sectors of 4096 bytes."""
    copy, console = image.with_suffix(".run"), image.with_suffix(".console")
    shutil.copy(image, copy)
    command = [
        "qemu-system-x86_64",
        "-accel",
        "tcg",
        "-machine",
        "q35",
        "-m",
        "256",
        "-no-reboot",
        "-monitor",
        "none",
        "-nic",
        "none",
        "-serial",
        f"file:{console}",
        "-drive",
        f"file={copy},format=raw,if=none,id=d0",
        "-device",
        _DISKS[disk],
    ]
    if mode == "uefi":
        shutil.copy(OVMF / "OVMF_VARS_4M.fd", image.with_suffix(".vars"))
        write_variables(image.with_suffix(".vars"), variables or {})
        command += [
            "-display",
            "none",
            "-drive",
            f"if=pflash,format=raw,unit=0,readonly=on,file={OVMF / 'OVMF_CODE_4M.fd'}",
            "-drive",
            f"if=pflash,format=raw,unit=1,file={image.with_suffix('.vars')}",
        ]
    else:
        command += ["-nographic"]
    emulator = subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    end, text = time.monotonic() + _SECONDS[mode], ""
    try:
        while time.monotonic() < end and TEXT not in text and not any(mark in text for mark in _ENDS):
            time.sleep(0.3)
            text = console.read_text("utf-8", "replace") if console.exists() else ""
    finally:
        emulator.kill()
        emulator.wait()
        copy.unlink()
    return TEXT in text


@pytest.mark.parametrize(
    ("mode", "name", "make"),
    [
        pytest.param(
            mode,
            name,
            make,
            id=f"{mode}-{name}",
            marks=pytest.mark.lab if name in _DAILY[mode] else pytest.mark.lab_all,
        )
        for mode, name, make in CASES
    ],
)
def test_the_verdict_is_the_firmwares(
    mode: str, name: str, make: Make, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    need_tools()
    image = tmp_path / f"{name}.img"
    make(image)
    real = starts(image, mode, disk="nvme" if name in WIDE else "ide")
    capsys.readouterr()
    assert main(["bootpath", str(image), "--mode", mode]) == 0
    ours = json.loads(capsys.readouterr().out)
    line = (
        f"{'' if ours['boots'] == real else 'DIFFERS':<8} {mode:<5} {name:<20} firmware "
        f"{'starts it' if real else 'does not':<10} verdict "
        f"{'starts' if ours['boots'] else 'stops at ' + str(ours['stops_at']):<17} "
        f"{', '.join(f['id'] for f in ours['findings'])}"
    )
    with Path(os.environ["GATECHECK_LAB_TABLE"]).open("a", encoding="utf-8") as table:
        table.write(line + "\n")
    assert ours["boots"] == real, line
    assert (ours["stops_at"] is None) == ours["boots"]
