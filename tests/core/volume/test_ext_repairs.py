"""Repairs of ext that name files again and put sizes right: on volumes of the system's own tool, hurt by its own
debugger, judged by its own checker; every file holds what it held."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Sequence
from pathlib import Path

import pytest

from gatecheck.core.volume.check import check, opened
from gatecheck.core.volume.repair import Repair, repair_of
from gatecheck.core.volume.tree import whole_content
from memory_disk import Memory

os.environ["PATH"] += ":/usr/sbin:/sbin"
TOOLS = ("mke2fs", "debugfs", "e2fsck")
pytestmark = pytest.mark.skipif(any(shutil.which(t) is None for t in TOOLS), reason="Debian's e2fsprogs are not here")
SIZE = 16 << 20
WHOLE = SIZE // 512 - 1


def hurt(folder: Path, *commands: str, options: Sequence[str] = ()) -> bytes:
    """A volume with two folders, hurt by these commands of the system's debugger."""
    tree, place = folder / "tree", folder / "own.img"
    for n in range(12):
        (tree / f"box{n % 2}").mkdir(parents=True, exist_ok=True)
        (tree / f"box{n % 2}/letter{n}").write_bytes(b"%d " % n * (900 * n + 1))
    made = ["mke2fs", "-q", "-F", "-t", "ext4", *options, "-d", str(tree), str(place), f"{SIZE >> 20}M"]
    subprocess.run(made, check=True, capture_output=True)
    for command in commands:
        subprocess.run(["debugfs", "-w", "-R", command, str(place)], check=True, capture_output=True)
    return place.read_bytes()


def theirs(raw: bytes, folder: Path) -> int:
    place = folder / "judged.img"
    place.write_bytes(raw)
    return subprocess.run(["e2fsck", "-fn", str(place)], capture_output=True, check=False).returncode


def mended(raw: bytes) -> tuple[bytes, Repair]:
    found = repair_of(Memory(raw), 0, WHOLE)
    out = bytearray(raw)
    for write in (w for g in found.groups for w in g.writes):
        out[write.at : write.at + len(write.data)] = write.data
    return bytes(out), found


def contents(raw: bytes) -> dict[str, bytes]:
    volume = opened(Memory(raw), 0, WHOLE).volume
    assert volume is not None
    return {n.path.rpartition("/")[2]: whole_content(volume, n, 1 << 20) for n in volume.nodes() if not n.is_folder}


CASES: dict[str, tuple[tuple[str, ...], tuple[str, ...], tuple[str, ...]]] = {
    "a file without a name": ((), ("unlink box1/letter3",), ("orphans-named",)),
    "five of them": ((), tuple(f"unlink box1/letter{n}" for n in (1, 3, 5, 7, 9)), ("orphans-named",)),
    "a folder without a name": ((), ("unlink box0",), ("orphans-named", "links")),
    "both": ((), ("unlink box0", "unlink box1/letter5"), ("orphans-named", "links")),
    "without sums": (("-O", "^metadata_csum"), ("unlink box0", "unlink box1/letter5"), ("orphans-named", "links")),
    "without types": (("-O", "^filetype,^metadata_csum"), ("unlink box1/letter5",), ("orphans-named",)),
    "a count of blocks": ((), ("set_inode_field box1/letter3 blocks 999",), ("sizes",)),
    "several counts": (
        ("-O", "^metadata_csum"),
        ("set_inode_field box1/letter3 blocks 0", "set_inode_field box0 blocks 77"),
        ("sizes",),
    ),
    "a size too small": ((), ("set_inode_field box1/letter11 size 5",), ("sizes",)),
}


@pytest.mark.parametrize("name", CASES)
def test_the_systems_checker_finds_nothing_afterwards(name: str, tmp_path: Path) -> None:
    options, commands, groups = CASES[name]
    raw = hurt(tmp_path, *commands, options=options)
    assert theirs(raw, tmp_path)
    after, found = mended(raw)
    assert tuple(g.id for g in found.groups) == groups
    assert found.after.state == "clean"
    assert theirs(after, tmp_path) == 0
    kept = contents(after)
    for n in range(12):
        if n != 11 or "size" not in name:
            assert b"%d " % n * (900 * n + 1) in kept.values(), f"letter{n}"


def test_where_lost_and_found_is_not_there_nothing_is_done(tmp_path: Path) -> None:
    raw = hurt(tmp_path, "rmdir lost+found", "unlink box1/letter3")
    found = repair_of(Memory(raw), 0, WHOLE)
    assert "orphans-named" not in {g.id for g in found.groups}
    assert any(f.id == "orphan" for f in found.left)


@pytest.mark.parametrize(
    "commands",
    [
        ("set_inode_field box1/letter3 links_count 0",),  # alive but for its count
        ("set_inode_field box1/letter11 size 5", "set_inode_field box1/letter11 blocks 2"),  # two against what it holds
        ("set_inode_field box1 size 20480",),  # a folder of which most cannot be read
    ],
)
def test_a_file_that_may_be_right_is_not_touched(commands: tuple[str, ...], tmp_path: Path) -> None:
    raw = hurt(tmp_path, *commands, options=("-O", "^metadata_csum,^extents,^64bit"))
    before = contents(raw)
    after, found = mended(raw)
    assert not {"broken", "sizes"} & {g.id for g in found.groups}
    assert contents(after) == before


def test_sizes_of_a_file_that_shares_blocks_are_left(tmp_path: Path) -> None:
    raw = hurt(tmp_path, "set_inode_field box1/letter3 blocks 999", "copy_inode box1/letter9 box1/letter7")
    assert any(f.id == "crossed" for f in check(Memory(raw), 0, WHOLE).findings)
    assert "sizes" not in {g.id for g in repair_of(Memory(raw), 0, WHOLE).groups}
