"""Hurt volumes that Debian's tools made: what its checkers find we find, and what we repair they find whole; no file
that was right is wrong after it (`bench/against_checkers.py`)."""

from __future__ import annotations

import importlib.util
import random
import shutil
import sys
from pathlib import Path
from types import ModuleType

import pytest

from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.core.volume.check import check

pytestmark = pytest.mark.lab_all
ROUNDS, SEED = 60, 20261
UNTOLD = 1
"""of the rounds, findings of theirs that are not ours: the superblock has fields that only a later mount looks at"""


def judge() -> ModuleType:
    place = Path(__file__).parents[2] / "bench/against_checkers.py"
    spec = importlib.util.spec_from_file_location("against_checkers", place)
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    sys.modules[spec.name] = module
    spec.loader.exec_module(module)
    return module


@pytest.mark.parametrize("kind", ["ext4", "ext4b", "ext3", "ext2", "fat12", "fat32", "exfat"])
def test_random_damage(kind: str, tmp_path: Path) -> None:
    own = judge()
    make, _, checker = own._KINDS[kind]
    for tool in (make[0], checker[0], "mcopy"):
        if shutil.which(tool) is None:
            pytest.skip(f"{tool}: not installed")
    image = own.healthy(kind, tmp_path)
    whole, places, copy, listed, rng = (
        image.read_bytes(),
        own.hot(image),
        tmp_path / "hurt.img",
        own.files(image),
        random.Random(f"{kind} {SEED}"),
    )
    assert check(ImageSectors(str(image)), 0, len(whole) // 512 - 1).findings == ()
    untold, harmed, left = [], [], []
    for _ in range(ROUNDS):
        raw = bytearray(whole)
        at, before, after = own.hurt(raw, places, rng)
        if raw == whole:
            continue
        copy.write_bytes(raw)
        theirs, what = own.told(copy, checker)
        ours = check(ImageSectors(str(copy)), 0, len(whole) // 512 - 1).findings
        if theirs and not ours:
            untold.append((hex(at), before.hex(), after.hex(), what))
        if ours and not kind.startswith("ext"):
            state, why = own.repaired(copy, raw, checker, listed)
            harmed += [(hex(at), before.hex(), after.hex(), why)] if state == "harmed" else []
            left += [(hex(at), before.hex(), after.hex(), why)] if state in ("left", "nothing to repair") else []
    assert len(untold) <= UNTOLD, untold
    assert not harmed
    assert len(left) <= ROUNDS // 20, left
