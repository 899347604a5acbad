"""Volumes that Debian's own tools made, read by ours; and ours, checked by Debian's."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
from pathlib import Path

import pytest

from gatecheck.core.disk.sectors import CapturedSectors
from gatecheck.core.volume.fat.encode import fat_volume
from gatecheck.core.volume.fat.layout import FatVolume, listing, read_fat
from gatecheck.practice.patients import LOADER
from gatecheck.probe.volumes import system_partition, unpacked

pytestmark = [
    pytest.mark.lab_all,
    pytest.mark.skipif(
        not all(map(shutil.which, ("mkfs.fat", "mcopy", "fsck.fat"))),
        reason="no lab here: dosfstools and mtools are not installed",
    ),
]
HEAD = 1024


def run(*command: str) -> None:
    subprocess.run(command, check=True, capture_output=True, env={**os.environ, "MTOOLS_SKIP_CHECK": "1"})


def filled(place: Path, folder: Path, seed: int) -> dict[str, bytes | None]:
    """Put a random tree on a volume with mtools, delete some of it again; what stands on it."""
    rng = random.Random(seed)
    wanted: dict[str, bytes | None] = {}
    folders = [""]
    for number in range(14):
        name = rng.choice(["EFI", "Boot folder", "grub", "x86_64-efi", "Ümlaut ñ", "deep.dir"])
        path = f"{rng.choice(folders)}/{name}{number}"
        run("mmd", "-i", str(place), f"::{path}")
        folders.append(path)
        wanted[path.strip("/")] = None
    for number in range(40):
        name = rng.choice(["start.efi", "BOOTX64.EFI", "a long name of a file with many parts.txt", "cfg", "täst.conf"])
        path = f"{rng.choice(folders)}/{number}{name}"
        data = rng.randbytes(rng.choice([0, 1, 511, 4096, 30_000]))
        (folder / "one").write_bytes(data)
        run("mcopy", "-i", str(place), str(folder / "one"), f"::{path}")
        wanted[path.strip("/")] = data
    for path in [path for path, data in wanted.items() if data is not None][::5]:
        run("mdel", "-i", str(place), f"::{path}")
        del wanted[path]
    return wanted


def heads(volume: FatVolume) -> dict[str, bytes | None]:
    return {
        path: None if file.is_directory else volume.head(file, HEAD) for path, file in listing(volume).files.items()
    }


@pytest.mark.parametrize(
    ("size", "options", "sector", "kind"),
    [
        (2, ["-F", "12"], 512, "FAT12"),
        (40, ["-F", "16"], 512, "FAT16"),
        (100, ["-F", "32"], 512, "FAT32"),
        (300, ["-F", "32", "-S", "4096"], 4096, "FAT32"),
        (64, ["-F", "32", "-s", "1"], 512, "FAT32"),
        (40, ["-F", "16", "-S", "2048"], 512, "FAT16"),
    ],
)
@pytest.mark.parametrize("seed", [1, 2])
def test_what_others_wrote_is_read(
    size: int, options: list[str], sector: int, kind: str, seed: int, tmp_path: Path
) -> None:
    place = tmp_path / "volume.img"
    with place.open("wb") as file:
        file.truncate(size << 20)
    run("mkfs.fat", *options, "-n", "GULLHAVEN", str(place))
    wanted = filled(place, tmp_path, seed)
    raw = place.read_bytes()
    volume = read_fat(CapturedSectors({0: raw}, sector=sector), 0)
    assert (volume.kind, volume.label, volume.size) == (kind, "GULLHAVEN", size << 20)
    found = heads(volume)
    assert found == {
        p: None if data is None else data[: min(HEAD, volume.cluster_sectors * volume.sector)]
        for p, data in wanted.items()
    }
    # what the probe hands on is enough to list it all, and to see what every loader is
    packed = system_partition(lambda lba, count: raw[lba * sector : (lba + count) * sector], 0, sector)
    walked = read_fat(CapturedSectors(dict(unpacked(packed, sector)), sector=sector), 0)
    told = listing(walked)
    assert (set(told.files), told.missing) == (set(found), {})
    assert {p: walked.head(f, HEAD) for p, f in told.files.items() if p.upper().endswith(".EFI")} == {
        p: d for p, d in found.items() if p.upper().endswith(".EFI")
    }


@pytest.mark.parametrize(
    ("sectors", "sector", "cluster"), [(204_800, 512, 1), (204_800, 4096, 1), (40_960, 512, 4), (1 << 20, 512, 8)]
)
def test_what_we_write_passes_the_system_s_own_check(sectors: int, sector: int, cluster: int, tmp_path: Path) -> None:
    place = tmp_path / "volume.img"
    with place.open("wb") as file:
        file.truncate(sectors * sector)
        for at, data in fat_volume(
            {**LOADER, "A long folder/and a file.text": bytes(9000)},
            sectors=sectors,
            sector=sector,
            cluster_sectors=cluster,
        ).items():
            file.seek(at * sector)
            file.write(data)
    done = subprocess.run(["fsck.fat", "-n", str(place)], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout
