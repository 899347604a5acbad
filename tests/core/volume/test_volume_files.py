"""Volumes as files, checks and rescue: on ext volumes of Debian's own maker, and on FAT volumes of our encoder. Mounted
ones and NTFS are judged in the lab."""

from __future__ import annotations

import csv
import hashlib
import json
import os
import random
import shutil
import subprocess
from collections.abc import Callable, Mapping
from pathlib import Path

import pytest

from gatecheck.adapters import file_rescue
from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.cli.main import main
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.disk.sectors import Sectors, Span
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.check import check
from gatecheck.core.volume.crc32c import crc32c
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.fat.encode import fat_volume
from gatecheck.core.volume.fat.read import Fat
from gatecheck.core.volume.ntfs.lznt1 import unpacked
from gatecheck.core.volume.ntfs.record import runs
from gatecheck.core.volume.readers import open_volume

SECTORS = 40_000
TREE: Mapping[str, bytes] = {
    "HOME/CHOIR/SONG.TXT": b"la " * 5000,
    "HOME/CHOIR/A long name of a recording.wav": random.Random(1).randbytes(90_000),
    "HOME/NOTE.TXT": b"n",
    "EMPTY.TXT": b"",
    "LETTER.DOC": random.Random(2).randbytes(20_000),
}


class Unread:
    """A disk of which some sectors cannot be read."""

    def __init__(self, disk: Sectors, *gone: int) -> None:
        self.disk, self.gone, self.sector, self.length = disk, set(gone), disk.sector, disk.length

    def read(self, lba: int, count: int) -> Span:
        span = self.disk.read(lba, count)
        hit = {n: "unreadable" for n in self.gone if lba <= n < lba + count}
        data = bytearray(span.data)
        for n in hit:
            data[(n - lba) * self.sector : (n - lba + 1) * self.sector] = bytes(self.sector)
        return Span(lba, self.sector, bytes(data), {**span.missing, **hit})


@pytest.fixture(scope="module")
def fat(tmp_path_factory: pytest.TempPathFactory) -> Path:
    place = tmp_path_factory.mktemp("fat") / "fat.img"
    raw = bytearray(SECTORS * 512)
    for at, data in fat_volume(TREE, sectors=SECTORS, cluster_sectors=4).items():
        raw[at * 512 : at * 512 + len(data)] = data
    place.write_bytes(raw)
    return place


@pytest.fixture(scope="module")
def ext(tmp_path_factory: pytest.TempPathFactory) -> Path:
    if shutil.which("mkfs.ext4") is None:
        pytest.skip("mkfs.ext4 is not here (Debian's e2fsprogs)")
    folder = tmp_path_factory.mktemp("ext")
    for name, data in TREE.items():
        (folder / "tree" / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / "tree" / name).write_bytes(data)
    os.symlink("HOME/CHOIR", folder / "tree" / "songs")
    for number in range(400):
        (folder / "tree" / f"many {number:04d} of a long name that fills the folder").write_bytes(
            bytes([number & 255]) * number
        )
    place = folder / "ext.img"
    with place.open("wb") as file:
        file.truncate(SECTORS * 512)
    subprocess.run(["mkfs.ext4", "-q", "-F", "-L", "CHOIR", "-d", str(folder / "tree"), str(place)], check=True)
    shutil.rmtree(folder / "tree")
    return place


def volume(place: Path) -> Fat | Ext:
    disk = ImageSectors(str(place))
    found = open_volume(disk, 0, (disk.length or 0) - 1)
    assert isinstance(found, Fat | Ext)
    return found


@pytest.mark.parametrize("name", ["fat", "ext"])
def test_files_are_what_was_put_there(name: str, request: pytest.FixtureRequest) -> None:
    own = volume(request.getfixturevalue(name))
    found = {
        n.path: b"".join(p for p in own.content(n) if isinstance(p, bytes))
        for n in own.nodes()
        if not n.is_folder and not n.link
    }
    assert {path: data for path, data in found.items() if not path.startswith("many ")} == {
        **TREE,
        **({"lost+found": b""} if "lost+found" in found else {}),
    }
    assert own.find("HOME/CHOIR/SONG.TXT") is not None
    assert own.find("HOME/NONE.TXT") is None
    assert all(own.shape(n) == "whole" for n in own.nodes())


@pytest.mark.parametrize("name", ["fat", "ext"])
def test_what_lives_at_a_sector_is_the_file_whose_bytes_lie_there(name: str, request: pytest.FixtureRequest) -> None:
    own = volume(request.getfixturevalue(name))
    at = {run.at // 512: n.path for n in own.nodes() if not n.is_folder for run in own.runs(n) if run.at is not None}
    assert len(at) > 2
    assert {lba: place.path for lba, place in zip(at, own.places(list(at)), strict=True)} == at


@pytest.mark.parametrize("name", ["fat", "ext"])
def test_not_one_finding_stands_on_a_healthy_volume(name: str, request: pytest.FixtureRequest) -> None:
    found = check(ImageSectors(str(request.getfixturevalue(name))), 0, SECTORS - 1)
    assert (found.state, found.findings) == ("clean", ())
    assert found.files is not None
    assert found.files >= len(TREE)


def _chain(own: Fat, path: str) -> list[int]:
    node = own.find(path)
    assert node is not None
    return own.chain(node.id, 1000)


def _entry(own: Fat, cluster: int, value: int, *, both: bool = True) -> list[tuple[int, bytes]]:
    at = own.volume.reserved * 512 + 2 * cluster
    return [(at + n * own.volume.fat_sectors * 512, value.to_bytes(2, "little")) for n in range(2 if both else 1)]


FAT_HURTS: Mapping[str, tuple[Callable[[Fat], list[tuple[int, bytes]]], set[str], str]] = {
    "one table": (
        lambda v: _entry(v, _chain(v, "HOME/CHOIR/SONG.TXT")[2], 0, both=False),
        {"tables-differ", "chain-broken", "lost"},
        "damaged",
    ),
    "chain ends early": (
        lambda v: _entry(v, _chain(v, "HOME/CHOIR/SONG.TXT")[2], 0xFFFF),
        {"chain-short", "lost"},
        "damaged",
    ),
    "chain leads outside": (
        lambda v: _entry(v, _chain(v, "HOME/CHOIR/SONG.TXT")[2], 0xFFF0),
        {"chain-broken", "lost"},
        "damaged",
    ),
    "chain in a circle": (
        lambda v: _entry(v, _chain(v, "LETTER.DOC")[3], _chain(v, "LETTER.DOC")[0]),
        {"chain-circle", "lost"},
        "damaged",
    ),
    "two files, one place": (
        lambda v: _entry(v, _chain(v, "LETTER.DOC")[3], _chain(v, "HOME/CHOIR/SONG.TXT")[1]),
        {"crossed", "lost", "chain-long"},
        "damaged",
    ),
    "lost places": (lambda v: _entry(v, 9000, 0xFFFF), {"lost"}, "damaged"),
    "marked bad": (lambda v: _entry(v, 9000, 0xFFF7), {"bad-places"}, "clean"),
    "not put away": (lambda v: _entry(v, 1, 0x7FFF), {"dirty"}, "dirty"),
    "media": (lambda v: _entry(v, 0, 0xFF00), {"media-differs"}, "damaged"),
    "unsigned": (lambda v: [(510, b"\0\0")], {"boot-unsigned"}, "damaged"),
}


@pytest.mark.parametrize("hurt", FAT_HURTS)
def test_a_hurt_fat_volume_is_found_damaged_where_it_is(hurt: str, fat: Path) -> None:
    make, ids, state = FAT_HURTS[hurt]
    disk = ImageSectors(str(fat))
    found = check(Overlay(disk, make(Fat(disk, 0, SECTORS - 1))), 0, SECTORS - 1)
    assert ({f.id for f in found.findings}, found.state) == (ids, state)


def _inode_at(own: Ext, path: str) -> int:
    node = own.find(path)
    assert node is not None
    group, place = divmod(node.id - 1, own.super.inodes_per_group)
    return own.groups[group].inode_table * own.block + place * own.super.inode_size


def _bit(own: Ext, path: str, *, clear: bool) -> list[tuple[int, bytes]]:
    node = own.find(path)
    assert node is not None
    block = next(r.block for r in own.mapped(own.inode(node.id)) if r.block is not None) - own.super.first_block
    group, place = divmod(block, own.super.per_group)
    at = own.groups[group].block_map * own.block + place // 8
    now = own.bytes.read(at, 1, "map")[0]
    return [(at, bytes([now & ~(1 << place % 8) if clear else now | 1 << place % 8]))]


EXT_HURTS: Mapping[str, tuple[Callable[[Ext], list[tuple[int, bytes]]], set[str], str]] = {
    "inode": (lambda v: [(_inode_at(v, "LETTER.DOC") + 26, b"\5\0")], {"sum", "link-count"}, "damaged"),
    "inode gone": (
        lambda v: [(_inode_at(v, "LETTER.DOC"), bytes(256))],
        {"dangling", "lost", "inode-map", "free-count"},
        "damaged",
    ),
    "map": (lambda v: _bit(v, "LETTER.DOC", clear=True), {"unmarked", "sum"}, "damaged"),
    "not put away": (lambda v: [(1024 + 58, b"\0\0")], {"dirty", "sum"}, "damaged"),
    "superblock": (lambda v: [(1024, bytes(1024))], {"first-structure"}, "damaged"),
    "magic": (lambda v: [(1024 + 56, b"\0\0")], {"first-structure"}, "damaged"),
    "folder": (
        lambda v: [(next(r.block for r in v.mapped(v.inode(_id(v, "HOME"))) if r.block) * v.block + 4, b"\3\0")],
        {"folder-broken", "folder-links", "sum", "orphan", "link-count"},
        "damaged",
    ),
}


def _id(own: Ext, path: str) -> int:
    node = own.find(path)
    assert node is not None
    return node.id


@pytest.mark.parametrize("hurt", EXT_HURTS)
def test_a_hurt_ext_volume_is_found_damaged_where_it_is(hurt: str, ext: Path) -> None:
    make, ids, state = EXT_HURTS[hurt]
    disk = ImageSectors(str(ext))
    found = check(Overlay(disk, make(Ext(disk, 0, SECTORS - 1))), 0, SECTORS - 1)
    assert {f.id for f in found.findings} <= ids | {"free-count"}
    assert found.findings
    assert found.state == state


def test_a_rescue_copies_every_byte_and_goes_on_where_it_stopped(
    ext: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    before = hashlib.sha256(ext.read_bytes()).hexdigest()
    whole, cut = tmp_path / "whole", tmp_path / "cut"
    assert main(["rescue", str(ext), "--to", str(whole)]) == 0
    real = file_rescue._copied
    for stop in (3, 40, 41, 100, 120):
        count = 0

        def breaks(*arguments: object, stop: int = stop) -> tuple[int, str, str]:
            nonlocal count
            count += 1
            if count > stop:
                raise OSError(28, "No space left on device")
            return real(*arguments)  # type: ignore[arg-type]

        with monkeypatch.context() as patched:
            patched.setattr(file_rescue, "_copied", breaks)
            assert main(["rescue", str(ext), "--to", str(cut)]) == 2
    assert main(["rescue", str(ext), "--to", str(cut)]) == 0
    assert "the next call resumes" in capsys.readouterr().err
    trees = [{p.relative_to(t).as_posix(): p.read_bytes() for p in t.rglob("*") if p.is_file()} for t in (whole, cut)]
    assert trees[0] == trees[1]
    assert {p: d for p, d in trees[0].items() if p in TREE} == TREE
    rows = list(csv.DictReader((whole / "manifest.csv").read_text(encoding="utf-8").splitlines()))
    assert {r["state"] for r in rows} == {"whole"}
    assert all(hashlib.sha256((whole / r["path"]).read_bytes()).hexdigest() == r["sha256"] for r in rows)
    assert (whole / "links.csv").read_text().splitlines()[1] == "songs,HOME/CHOIR"
    assert hashlib.sha256(ext.read_bytes()).hexdigest() == before


def test_holes_are_marked_and_never_filled_silently(fat: Path, tmp_path: Path) -> None:
    disk = ImageSectors(str(fat))
    own = Fat(disk, 0, SECTORS - 1)
    node = own.find("LETTER.DOC")
    assert node is not None
    start = own.runs(node)[0].at
    assert start is not None
    hurt = Fat(Unread(disk, start // 512 + 3, start // 512 + 4), 0, SECTORS - 1)
    told = file_rescue.copy(hurt, tmp_path / "out")
    assert (told["holes"], told["whole"]) == (1, len(TREE) - 1)
    saved = (tmp_path / "out/LETTER.DOC").read_bytes()
    wanted = TREE["LETTER.DOC"]
    assert saved == wanted[:1536] + bytes(1024) + wanted[2560:]
    assert next(iter(csv.DictReader((tmp_path / "out/holes.csv").read_text().splitlines()))) == {
        "path": "LETTER.DOC",
        "at": "1536",
        "bytes": "1024",
        "why": "unreadable",
    }


@pytest.mark.parametrize(
    ("only", "count"),
    [(["*.txt"], 3), (["home"], 3), (["HOME/CHOIR/*"], 2), (["none"], 0), (["LETTER.DOC", "empty.txt"], 2)],
)
def test_only_what_is_wanted(only: list[str], count: int, fat: Path, tmp_path: Path) -> None:
    assert file_rescue.copy(volume(fat), tmp_path / "out", only=only)["files"] == count


@pytest.mark.parametrize(
    ("name", "held"),
    [("..", "\\x2e\\x2e"), ("a\0b", "a\\x00b"), ("x" * 300, "x" * 228 + " "), ("ok", "ok"), ("", "(no name)")],
)
def test_names_that_the_target_cannot_hold_are_mapped(name: str, held: str) -> None:
    assert file_rescue._held(name).startswith(held)
    assert len(file_rescue._held(name).encode()) <= 255


def test_what_was_deleted_is_listed_and_brought_back(fat: Path, tmp_path: Path) -> None:
    disk = ImageSectors(str(fat))
    own = Fat(disk, 0, SECTORS - 1)
    slot = next(s for s in own.slots(0) if s.name == "LETTER.DOC")
    gone = [(slot.at, b"\xe5"), *(w for c in _chain(own, "LETTER.DOC") for w in _entry(own, c, 0))]
    after = Fat(Overlay(disk, gone), 0, SECTORS - 1)
    assert [(i.node.path, i.state) for i in file_rescue.listed(after) if i.node.deleted] == [("?ETTER.DOC", "deleted")]
    file_rescue.copy(after, tmp_path / "out", deleted=True)
    assert (tmp_path / "out/deleted files/?ETTER.DOC").read_bytes() == TREE["LETTER.DOC"]
    assert not check(Overlay(disk, gone), 0, SECTORS - 1).findings


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["volume", "{folder}"], "directory"),
        (["volume", "{fat}", "--at", "7"], "multiple"),
        (["volume", "{fat}", "--partition", "3"], "no partitions"),
        (["rescue", "{fat}"], "neither"),
        (["rescue", "{fat}", "--list", "NONE"], "NONE"),
        (["rescue", "{zeros}", "--list"], "volume"),
        (["rescue", "{fat}", "--to", "{fat}/x"], "--to"),
        (["rescue", "{fat}", "--list", "--to", "{folder}/x"], "both"),
    ],
)
def test_bad_input_to_volumes_is_one_sentence(
    arguments: list[str], says: str, fat: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / "zeros").write_bytes(bytes(1 << 20))
    assert main([a.format(fat=fat, folder=tmp_path, zeros=tmp_path / "zeros") for a in arguments]) == 2
    said = capsys.readouterr().err
    assert says in said
    assert said.count("\n") == 1


def test_a_volume_that_is_none_or_locked_is_said_to_be(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    place = tmp_path / "disk.img"
    for raw, state in (
        (bytes(1 << 20), "unreadable"),
        (b"LUKS\xba\xbe\0\2".ljust(1 << 20, b"\0"), "locked"),
        (bytes(3) + b"-FVE-FS-" + bytes(1 << 20), "locked"),
    ):
        place.write_bytes(raw)
        assert main(["volume", str(place)]) == 0
        assert json.loads(capsys.readouterr().out)["state"] == state


def test_lznt1_chunks() -> None:
    """[MS-XCA] 2.5: a literal and a reference of the longest kind; a chunk kept plain; a reference to before the
    chunk."""
    assert unpacked(bytes.fromhex("03b0 02 61 fc0f"), 5000) == b"a" * 4096
    assert unpacked(bytes.fromhex("0230") + b"abc", 10) == b"abc" + bytes(7)
    assert unpacked(b"", 10) == b""
    with pytest.raises(DecodeError):
        unpacked(bytes.fromhex("02b0 01 0010"), 10)


def test_runs_and_sums_of_known_bytes() -> None:
    assert list(runs(bytes.fromhex("21 18 34 56 11 08 f0 01 04 00"), 0)) == [
        (0, 0x5634, 24),
        (24, 0x5624, 8),
        (32, -1, 4),
    ]
    for bad in ("99 00", "21 00 10 10", "11 01 80 00"):
        with pytest.raises(DecodeError):
            list(runs(bytes.fromhex(bad), 0))
    assert crc32c(0xFFFFFFFF, b"123456789") ^ 0xFFFFFFFF == 0xE3069283


def test_what_an_unread_folder_may_hold_is_not_called_lost(fat: Path) -> None:
    disk = ImageSectors(str(fat))
    own = Fat(disk, 0, SECTORS - 1)
    node = own.find("HOME/CHOIR")
    assert node is not None
    start = own.runs(node)[0].at
    assert start is not None
    found = check(Unread(disk, *range(start // 512, start // 512 + 4)), 0, SECTORS - 1)
    assert {f.id for f in found.findings} == {"unreadable"}
