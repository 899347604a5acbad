"""Volumes that the system's own tool made, hurt in one structure each: found by the right word, and what a copy can
still lead to is read through it."""

from __future__ import annotations

import os
import shutil
import struct
import subprocess
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

import pytest

from gatecheck.core.volume.check import check, opened
from gatecheck.core.volume.repair import repair_of
from memory_disk import Memory

os.environ["PATH"] += ":/usr/sbin:/sbin"
pytestmark = pytest.mark.skipif(shutil.which("mke2fs") is None, reason="mke2fs is not here (Debian's e2fsprogs)")
SMALL = ("-t", "ext4", "-b", "1024")
SIZE = 24 << 20
Hurt = Callable[[bytearray, Any], None]


@cache
def made(options: tuple[str, ...]) -> bytes:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        tree, place = Path(folder) / "tree", Path(folder) / "made.img"
        for n in range(40):
            (tree / f"folder {n % 5}").mkdir(parents=True, exist_ok=True)
            (tree / f"folder {n % 5}/letter {n}.txt").write_bytes(b"%d " % n * (n * 40 + 1))
        os.mkfifo(tree / "pipe")
        subprocess.run(
            ["mke2fs", "-q", "-F", "-d", str(tree), *options, str(place), f"{SIZE >> 20}M"],
            check=True,
            capture_output=True,
        )
        subprocess.run(["e2fsck", "-fy", str(place)], check=False, capture_output=True)
        return place.read_bytes()


def volume_in(raw: bytes | bytearray) -> Any:
    return opened(Memory(bytes(raw)), 0, SIZE // 512 - 1).volume


def word(at: Callable[[Any], int], value: int, size: int = 4) -> Hurt:
    def hurt(raw: bytearray, volume: Any) -> None:
        place = at(volume)
        raw[place : place + size] = value.to_bytes(size, "little")

    return hurt


def inode(path: str) -> Callable[[Any], int]:
    def place(volume: Any) -> int:
        number = volume.find(path).id
        group, index = divmod(number - 1, volume.super.inodes_per_group)
        return int(volume.groups[group].inode_table * volume.block + index * volume.super.inode_size)

    return place


def extent_of(path: str, more: int) -> Callable[[Any], int]:
    return lambda v: inode(path)(v) + 40 + 12 + more


def end_of_folder(volume: Any) -> int:
    run = volume.runs(volume.find("folder 1"))[0]
    return int(run.at)


CASES: dict[str, tuple[tuple[str, ...], Hurt, str]] = {
    "an extent of no length": (SMALL, word(extent_of("folder 1/letter 36.txt", 4), 0, 2), "extents"),
    "a count of folders": (
        (*SMALL, "-O", "^metadata_csum"),
        word(lambda v: v.groups[0].at + 16, 77, 2),
        "folder-count",
    ),
    "inodes never used": (SMALL, word(lambda v: v.groups[0].at + 0x1C, 0xFF00, 2), "unused-inodes"),
    "a descriptor emptied": (SMALL, word(lambda v: v.groups[1].at, 0, 32), "group"),
    "the mount guard's mark": (
        (*SMALL, "-O", "mmp"),
        word(lambda v: int.from_bytes(v.super.raw[0x168:0x170], "little") * 1024, 0),
        "mount-guard",
    ),
    "a quota that is no file": ((*SMALL, "-O", "quota"), word(lambda v: 1024 + 0x240, 0x30303030), "quota"),
    "a journal of several volumes": (
        SMALL,
        lambda raw, v: raw.__setitem__(slice(journal(v) + 64, journal(v) + 68), struct.pack(">I", 5)),
        "journal-head",
    ),
    "a journal without its inode": (SMALL, word(lambda v: 1024 + 0xE0, 0), "journal-head"),
    "a pipe with a size": (SMALL, word(lambda v: pipe(v) + 4, 9), "inode"),
    "an attribute block that is none": (SMALL, word(lambda v: inode("folder 2")(v) + 104, 9000), "attributes"),
}


def journal(volume: Any) -> int:
    return int(next(volume.mapped(volume.inode(8))).block * volume.block)


def pipe(volume: Any) -> int:
    number = next(e.inode for e in volume.entries(volume.inode(2)) if e.name == "pipe")
    return int(volume.groups[0].inode_table * volume.block + (number - 1) * volume.super.inode_size)


@pytest.mark.parametrize(
    "name", [pytest.param(n, marks=[pytest.mark.wide] if "mmp" in CASES[n][0] else []) for n in CASES]
)  # mkfs waits for eleven seconds to see whether another host holds the volume
def test_a_structure_is_named(name: str) -> None:
    options, hurt, found = CASES[name]
    assert check(Memory(made(options)), 0, SIZE // 512 - 1).findings == ()
    raw = bytearray(made(options))
    hurt(raw, volume_in(raw))
    assert found in {f.id for f in check(Memory(bytes(raw)), 0, SIZE // 512 - 1).findings}


@pytest.mark.parametrize(
    "options",
    [
        *((*SMALL, "-O", o) for o in ("ea_inode", "meta_bg,^resize_inode", "quota,project", "mmp", "encrypt")),
        *((*SMALL, "-O", o) for o in ("inline_data", "sparse_super2")),
        (*SMALL, "-g", "1024"),
        ("-t", "ext2", "-r", "0"),
    ],
    ids=lambda own: " ".join(own[2:]),
)
def test_a_whole_volume_is_whole(options: tuple[str, ...]) -> None:
    assert check(Memory(made(options)), 0, SIZE // 512 - 1).findings == ()


@pytest.mark.parametrize("options", [SMALL, (*SMALL, "-g", "1024")], ids=["usual groups", "small groups"])
@pytest.mark.parametrize("gone", ["superblock", "descriptors", "both"])
def test_what_a_copy_leads_to_is_read(options: tuple[str, ...], gone: str) -> None:
    whole = volume_in(made(options))
    wanted = {n.path: b"".join(whole.content(n)) for n in whole.nodes() if not n.is_folder and not n.link}
    raw = bytearray(made(options))
    if gone != "descriptors":
        raw[1024:2048] = bytes(1024)
    if gone != "superblock":
        raw[2048:3072] = bytes(1024)
    hurt = volume_in(raw)
    assert {n.path: b"".join(hurt.content(n)) for n in hurt.nodes() if not n.is_folder and not n.link} == wanted
    assert {f.id for f in check(Memory(bytes(raw)), 0, SIZE // 512 - 1).findings} & {"first-structure", "group"}


@pytest.mark.parametrize("features", ["^metadata_csum,^uninit_bg", "^metadata_csum,uninit_bg", "metadata_csum"])
@pytest.mark.parametrize("byte", [12, 16, 0x1E])
def test_counts_and_sums_of_groups_are_put_right(features: str, byte: int, tmp_path: Path) -> None:
    raw = bytearray(made((*SMALL, "-O", features)))
    at = volume_in(raw).groups[0].at
    raw[at + byte] ^= 0x55
    plan = repair_of(Memory(bytes(raw)), 0, SIZE // 512 - 1)
    assert plan.after.findings == ()
    for group in plan.groups:
        for write in group.writes:
            raw[write.at : write.at + len(write.data)] = write.data
    place = tmp_path / "put right.img"
    place.write_bytes(raw)
    assert subprocess.run(["e2fsck", "-fn", str(place)], capture_output=True, check=False).returncode == 0


def letter_entry(volume: Any, name: bytes) -> int:
    """Byte of the volume at which a letter's entry stands, in `folder 1`."""
    at = end_of_folder(volume)
    raw = volume.bytes.read(at, volume.block, "folder")
    place = 0
    while raw[place + 8 : place + 8 + raw[place + 6]] != name:
        place += int.from_bytes(raw[place + 4 : place + 6], "little")
    return int(at + place)


REPAIRED: dict[str, tuple[Hurt, str, set[str]]] = {
    "an entry that leads nowhere": (
        word(lambda v: letter_entry(v, b"letter 36.txt"), 900),
        "broken",
        {"folder 1/letter 36.txt"},
    ),
    "an entry of another type": (word(lambda v: letter_entry(v, b"letter 36.txt") + 7, 2, 1), "kinds", set()),
    "a count of links": (word(lambda v: inode("folder 1/letter 36.txt")(v) + 26, 9, 2), "links", set()),
    "the map of blocks": (word(lambda v: v.groups[0].block_map * 1024 + 60, 0, 40), "map", set()),
    "the map of inodes": (word(lambda v: v.groups[0].inode_map * 1024, 0, 6), "map", set()),
}


PLAIN, SUMMED = "^metadata_csum,^uninit_bg", "metadata_csum"
"""where records have sums, a hurt one has a wrong sum too: which of the two is right nobody knows, and it is left"""


@pytest.mark.parametrize(
    ("name", "features"),
    [*((name, PLAIN) for name in REPAIRED), ("the map of blocks", SUMMED), ("the map of inodes", SUMMED)],
)
def test_what_folders_and_inodes_tell_is_put_right(name: str, features: str, tmp_path: Path) -> None:
    hurt, wanted, lost = REPAIRED[name]
    whole = made((*SMALL, "-O", features))
    before = {n.path: b"".join(volume_in(whole).content(n)) for n in volume_in(whole).nodes() if not n.is_folder}
    raw = bytearray(whole)
    hurt(raw, volume_in(raw))
    plan = repair_of(Memory(bytes(raw)), 0, SIZE // 512 - 1)
    assert wanted in [g.id for g in plan.groups]
    for group in plan.groups:
        for write in group.writes:
            raw[write.at : write.at + len(write.data)] = write.data
    after = {n.path: b"".join(volume_in(raw).content(n)) for n in volume_in(raw).nodes() if not n.is_folder}
    assert {p: d for p, d in after.items() if not p.startswith("lost+found/")} == {
        p: d for p, d in before.items() if p not in lost
    }
    named = [d for p, d in after.items() if p.startswith("lost+found/")]
    assert named == [before[p] for p in sorted(lost)], "what lost its name has another"
    place = tmp_path / "put right.img"
    place.write_bytes(raw)
    assert plan.after.findings == ()
    assert subprocess.run(["e2fsck", "-fn", str(place)], capture_output=True, check=False).returncode == 0
