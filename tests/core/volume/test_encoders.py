"""Volumes of our own encoders: read back whole, nothing found on them, and where the systems' own checkers are here,
nothing by them either."""

from __future__ import annotations

import random
import shutil
import struct
import subprocess
import time
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any, cast

import pytest

from gatecheck.adapters.file_rescue import copy
from gatecheck.core.volume.check import check, opened
from gatecheck.core.volume.exfat.encode import exfat_volume
from gatecheck.core.volume.ext.encode import BLOCK, ext_volume
from gatecheck.core.volume.fat.encode import fat_volume
from gatecheck.core.volume.tree import whole_content
from memory_disk import Memory

SECTORS = 400_000
RNG = random.Random(9)
FILES = {
    **{
        f"home/gro/Pictures/{2010 + n % 5}/a rather long name of a picture {n:03d}.jpg": RNG.randbytes(
            RNG.randrange(0, 40_000)
        )
        for n in range(60)
    },
    **{f"etc/rules/x{n:03d}.conf": b"a=%d\n" % n for n in range(160)},
    "boot/large.bin": RNG.randbytes(900_000),
    "empty": b"",
    "Ünïcode ñame.txt": b"x",
}
MAKES: dict[str, tuple[Callable[..., dict[int, bytes]], list[str]]] = {
    "exfat": (exfat_volume, ["fsck.exfat", "-n"]),
    "ext": (ext_volume, ["e2fsck", "-fn"]),
    "fat": (fat_volume, ["fsck.fat", "-n"]),
}


def disk(content: Mapping[int, bytes], sectors: int = SECTORS) -> Any:
    raw = bytearray(sectors * 512)
    for at, data in content.items():
        raw[at * 512 : at * 512 + len(data)] = data
    return Memory(bytes(raw))


@pytest.mark.parametrize("kind", MAKES)
def test_what_was_put_on_it_is_read_back_and_nothing_is_found(kind: str) -> None:
    own = disk(MAKES[kind][0](FILES, sectors=SECTORS))
    report = check(own, 0, SECTORS - 1)
    assert (report.state, report.findings) == ("clean", ())
    volume = opened(own, 0, SECTORS - 1).volume
    assert volume is not None
    nodes = {node.path: node for node in volume.nodes() if not node.is_folder}
    assert set(nodes) == set(FILES)
    assert all(whole_content(volume, nodes[path], 1 << 20) == data for path, data in FILES.items())


@pytest.mark.parametrize("kind", MAKES)
def test_the_systems_own_checker_finds_nothing(kind: str, tmp_path: Path) -> None:
    make, checker = MAKES[kind]
    if shutil.which(checker[0]) is None:
        pytest.skip(f"{checker[0]} is not here")
    place = tmp_path / "volume.img"
    place.write_bytes(disk(make(FILES, sectors=SECTORS)).raw)
    told = subprocess.run([*checker, str(place)], capture_output=True, text=True)
    assert told.returncode == 0, told.stdout + told.stderr


@pytest.mark.parametrize("kind", MAKES)
def test_one_that_is_too_small_is_refused(kind: str) -> None:
    with pytest.raises(ValueError, match="too small"):
        MAKES[kind][0]({"large": bytes(30_000_000)}, sectors=40_000)


def test_a_folder_that_says_it_is_endless_ends_in_a_finding() -> None:
    own = disk(ext_volume(FILES, sectors=SECTORS))
    volume: Any = opened(own, 0, SECTORS - 1).volume
    node = volume.find("etc/rules")
    at = volume.groups[0].inode_table * BLOCK + (node.id - 1) * 256
    raw = bytearray(own.raw)
    struct.pack_into("<I", raw, at + 4, 0xFFFFF000)
    struct.pack_into("<I", raw, at + 108, 0x7FFFFFFF)
    began = time.monotonic()
    found = {f.id for f in check(Memory(bytes(raw)), 0, SECTORS - 1).findings}
    assert "size-differs" in found
    left = [n.path for n in opened(Memory(bytes(raw)), 0, SECTORS - 1).volume.nodes() if not n.is_folder]
    named = {path for path in left if not path.startswith("?/inode ")}
    assert named == {path for path in FILES if not path.startswith("etc/rules")}, "it takes nothing else away"
    assert len(left) == len(FILES), "and what it held is there under its numbers"
    assert time.monotonic() - began < 20, "not a measure: a guard against reading what is not there"


@pytest.mark.parametrize("how", ["broken", "unread"])
def test_a_block_of_a_folder_that_is_broken_or_unread_takes_only_itself_away(how: str) -> None:
    files = {f"photos/boat house {n:04d}.jpg": b"x" for n in range(600)} | {"letter.txt": b"y"}
    own = disk(ext_volume(files, sectors=SECTORS))
    volume: Any = opened(own, 0, SECTORS - 1).volume
    folder = volume.inode(volume.find("photos").id)
    second = next(volume.mapped(folder)).block + 1
    here = {e.name for e in volume._parsed(own.raw[second * BLOCK : (second + 1) * BLOCK], folder.number)}
    assert 50 < len(here) < 500
    raw = bytearray(own.raw)
    if how == "broken":
        struct.pack_into("<H", raw, second * BLOCK + 4, 3)
    hurt: Any = Memory(bytes(raw), *([second * BLOCK // 512] if how == "unread" else []))
    volume = opened(hurt, 0, SECTORS - 1).volume
    left = [n.path for n in volume.nodes() if not n.is_folder]
    nameless = [path for path in left if path.startswith("?/inode ")]
    assert set(left) - set(nameless) >= {path for path in files if path.rpartition("/")[2] not in here}
    assert len(nameless) == (1 if how == "broken" else len(here)), (
        "one record takes one name, a block all that are in it"
    )
    assert len(left) == len(files)
    assert volume.find("photos/boat house 0000.jpg") is not None


def test_a_superblock_with_more_inodes_a_group_than_its_map_can_hold_is_none() -> None:
    own = disk(ext_volume(FILES, sectors=SECTORS))
    raw = bytearray(own.raw)
    struct.pack_into("<I", raw, 1024 + 40, 906_752_000)
    began = time.monotonic()
    assert check(Memory(bytes(raw)), 0, SECTORS - 1).findings
    assert time.monotonic() - began < 20, "not a measure: a guard against reading what is not there"


def test_a_file_longer_than_its_volume_keeps_nobody_else_from_being_saved(tmp_path: Path) -> None:
    own = disk(ext_volume(FILES, sectors=SECTORS))
    volume: Any = opened(own, 0, SECTORS - 1).volume
    name = "boot/large.bin"
    raw = bytearray(own.raw)
    struct.pack_into("<I", raw, volume.groups[0].inode_table * BLOCK + (volume.find(name).id - 1) * 256 + 108, 0x7FFF)
    hurt = Memory(bytes(raw))
    told = copy(cast(Any, opened(hurt, 0, SECTORS - 1).volume), tmp_path / "saved")
    assert (told["files"], told["whole"], told["holes"]) == (len(FILES), len(FILES) - 1, 1)
    assert (tmp_path / "saved" / name).read_bytes()[: len(FILES[name])] == FILES[name]
    assert "longer than its volume" in (tmp_path / "saved/holes.csv").read_text()
