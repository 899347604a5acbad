"""Repair plans on volumes in memory: what each group does, what is refused, what is left. The systems' own checkers
judge them in the lab."""

from __future__ import annotations

import json
import shutil
import subprocess
from pathlib import Path

import pytest
from test_volume_files import EXT_HURTS, FAT_HURTS, SECTORS, TREE, ext, fat

from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.cli.main import main
from gatecheck.core.disk import boot_code
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.fat.read import Fat
from gatecheck.core.volume.ntfs import record as rec
from gatecheck.core.volume.ntfs import write as out
from gatecheck.core.volume.repair import repair_of

__all__ = ["ext", "fat"]

FAT_GROUPS: dict[str, list[str]] = {
    "one table": ["tables"],
    "chain ends early": ["chains", "lost"],
    "chain leads outside": ["chains", "lost"],
    "chain in a circle": ["chains", "lost"],
    "two files, one place": ["apart", "lost"],
    "lost places": ["lost"],
    "marked bad": [],
    "not put away": ["counts"],
    "media": ["tables"],
    "unsigned": ["boot-copy"],
}


@pytest.mark.parametrize("hurt", FAT_GROUPS)
def test_each_hurt_of_a_fat_volume_is_repaired_by_its_group(hurt: str, fat: Path) -> None:
    disk = ImageSectors(str(fat))
    found = repair_of(Overlay(disk, FAT_HURTS[hurt][0](Fat(disk, 0, SECTORS - 1))), 0, SECTORS - 1)
    assert [g.id for g in found.groups] == FAT_GROUPS[hurt]
    assert (found.after.state, found.left) == ("clean", ())


def test_files_that_shared_a_place_are_both_there_afterwards(fat: Path) -> None:
    disk = ImageSectors(str(fat))
    hurt = Overlay(disk, FAT_HURTS["two files, one place"][0](Fat(disk, 0, SECTORS - 1)))
    found = repair_of(hurt, 0, SECTORS - 1)
    after = Fat(Overlay(hurt, [p for g in found.groups for p in g.pairs]), 0, SECTORS - 1)
    song = after.find("HOME/CHOIR/SONG.TXT")
    assert song is not None
    assert b"".join(p for p in after.content(song) if isinstance(p, bytes)) == TREE["HOME/CHOIR/SONG.TXT"]
    assert [d.id for g in found.groups for d in g.doubts] == ["repair.doubt-one-is-wrong"]


def test_lost_chains_stand_in_a_folder_of_their_own(fat: Path) -> None:
    disk = ImageSectors(str(fat))
    hurt = Overlay(disk, FAT_HURTS["chain ends early"][0](Fat(disk, 0, SECTORS - 1)))
    found = repair_of(hurt, 0, SECTORS - 1)
    after = Fat(Overlay(hurt, [p for g in found.groups for p in g.pairs]), 0, SECTORS - 1)
    saved = after.find("SAVEDBIT.000/PIECE000.BIN")
    assert saved is not None
    data = b"".join(p for p in after.content(saved) if isinstance(p, bytes))
    assert data.rstrip(b"\0") == TREE["HOME/CHOIR/SONG.TXT"][3 * after.cluster :].rstrip(b"\0")


def test_only_what_is_wanted_is_done(fat: Path) -> None:
    disk = ImageSectors(str(fat))
    hurt = Overlay(disk, FAT_HURTS["chain ends early"][0](Fat(disk, 0, SECTORS - 1)))
    found = repair_of(hurt, 0, SECTORS - 1, only=["chains"])
    assert [g.id for g in found.groups] == ["chains"]
    assert [f.id for f in found.left] == ["lost"]


@pytest.mark.parametrize(
    ("hurt", "groups", "left"),
    [
        ("superblock", ["first-structure"], False),
        ("magic", ["first-structure"], False),
        ("inode", ["bytes"], False),
        ("map", ["map"], False),
    ],
)
def test_ext_is_repaired_where_that_is_certain_and_left_to_its_own_checker_where_not(
    hurt: str, groups: list[str], left: bool, ext: Path
) -> None:
    disk = ImageSectors(str(ext))
    found = repair_of(Overlay(disk, EXT_HURTS[hurt][0](Ext(disk, 0, SECTORS - 1))), 0, SECTORS - 1)
    assert [g.id for g in found.groups if g.id != "counts"] == groups
    assert bool(found.left) is left


def test_a_repair_on_the_command_line_writes_only_what_it_said_and_is_undone(
    fat: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    image, undo = tmp_path / "fat.img", tmp_path / "undo.json"
    raw = bytearray(fat.read_bytes())
    disk = ImageSectors(str(fat))
    for at, data in FAT_HURTS["one table"][0](Fat(disk, 0, SECTORS - 1)):
        raw[at : at + len(data)] = data
    image.write_bytes(raw)
    assert main(["volume", str(image), "--repair"]) == 0
    plan = json.loads(capsys.readouterr().out)
    assert (plan["state"], plan["state_after"], [p["id"] for p in plan["plans"]], plan["left"]) == (
        "damaged",
        "clean",
        ["tables"],
        [],
    )
    assert image.read_bytes() == raw
    assert main(["volume", str(image), "--repair", "--apply", "--undo", str(undo)]) == 0
    changed = [n for n, (a, b) in enumerate(zip(raw, image.read_bytes(), strict=True)) if a != b]
    ranges = [(w["at"], w["at"] + w["length"]) for p in plan["plans"] for w in p["writes"]]
    assert changed
    assert all(any(low <= n < high for low, high in ranges) for n in changed)
    assert main(["volume", str(image), "--revert", str(undo)]) == 0
    assert image.read_bytes() == raw


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["--apply", "--undo", "{folder}/u"], "--repair"),
        (["--repair", "--apply"], "--undo"),
        (["--repair", "--undo", "{folder}/u"], "--apply"),
        (["--repair", "--apply", "--undo", "{folder}/u"], "no plan"),
        (["--repair", "--only", "nothing"], "nothing to repair"),
        (["--revert", "{folder}/none"], "undo file"),
        (["--revert", "{folder}/none", "--repair"], "alone"),
    ],
)
def test_bad_input_to_a_repair_is_one_sentence(
    arguments: list[str], says: str, fat: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    image = tmp_path / "fat.img"
    raw = fat.read_bytes()
    image.write_bytes(raw)
    assert main(["volume", str(image), *(a.format(folder=tmp_path) for a in arguments)]) == 2
    said = capsys.readouterr().err
    assert says in said
    assert said.count("\n") == 1
    assert image.read_bytes() == raw


Runs = list[tuple[int, int]]


@pytest.mark.parametrize(
    "line",
    [[(5, 1)], [(0x5634, 24), (0x5624, 8), (-1, 4)], [(1, 127), (200, 128), (3, 40_000)], [(1 << 40, 5), (7, 1)]],
)
def test_runs_written_are_the_runs_read(line: Runs) -> None:
    assert [(lcn, count) for _, lcn, count in rec.runs(out.packed_runs(line), 0)] == line


@pytest.mark.parametrize("count", [0, 1, 30, 31, 200, 3000])
def test_an_index_made_anew_names_its_entries_in_their_order(count: int) -> None:
    def key(number: int) -> bytes:
        name = f"file {number:05d} of the choir".encode("utf-16-le")
        return bytes(64) + bytes([len(name) // 2, 1]) + name

    blocks, top = out.index_tree([(n | 1 << 48, key(n)) for n in range(count)], 4096, 1, 1000)
    found: list[int] = []

    def walk(vcn: int) -> None:
        body = rec.fixed(blocks[vcn], b"INDX", "block")
        first, used = (int.from_bytes(body[at : at + 4], "little") for at in (24, 28))
        for entry in rec.index_entries(body, 24 + first, 24 + used, "block"):
            if entry.child is not None:
                walk(entry.child)
            if not entry.is_last:
                found.append(entry.record)

    walk(top)
    assert found == list(range(count))


def test_the_boot_code_is_what_its_source_says(tmp_path: Path) -> None:
    if shutil.which("as") is None or shutil.which("objcopy") is None:
        pytest.skip("binutils are not here")
    source = Path(boot_code.__file__).with_name("boot_code.S")
    subprocess.run(["as", "--32", "-o", str(tmp_path / "b.o"), str(source)], check=True)
    subprocess.run(
        ["objcopy", "-O", "binary", "-j", ".text", str(tmp_path / "b.o"), str(tmp_path / "b.bin")], check=True
    )
    assert (tmp_path / "b.bin").read_bytes() == boot_code.BOOT_CODE
