"""Btrfs: volumes of the system's own tool, whole and hurt; no byte of a file is ever another than its own."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import zlib
from pathlib import Path

import pytest
import zstandard
from grown_tree import files_of

from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.cli.main import main
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.btrfs.layout import SUPER_AT, Extent, read_extent, read_super
from gatecheck.core.volume.btrfs.read import Btrfs
from gatecheck.core.volume.check import check, opened
from gatecheck.core.volume.tree import Hole

os.environ["PATH"] += ":/usr/sbin:/sbin"
needs_tool = pytest.mark.skipif(shutil.which("mkfs.btrfs") is None, reason="Debian's btrfs-progs are not here")
SIZE = 160 << 20
LAST = SIZE // 512 - 1
OPTIONS = {
    "as it is made": (),
    "sha256": ("--csum", "sha256"),
    "blake2": ("--csum", "blake2"),
    "one copy": ("-m", "single"),
    "mixed": ("-M",),
    "small nodes": ("-n", "4096"),
}


def grown(folder: Path) -> dict[str, bytes]:
    draw = random.Random(11)
    files = {
        f"box{n % 5}/inner{n % 3}/letter{n}": draw.randbytes(draw.choice((0, 40, 3000, 40_000))) for n in range(90)
    }
    files |= {"home/choir/long.bin": draw.randbytes(1 << 20), "usr/lib/os-release": b'NAME="Hollow"\nVERSION_ID="12"\n'}
    for path, data in files.items():
        (folder / path).parent.mkdir(parents=True, exist_ok=True)
        (folder / path).write_bytes(data)
    with (folder / "sparse").open("wb") as file:
        file.seek(300_000)
        file.write(b"x" * 9000)
    files["sparse"] = bytes(300_000) + b"x" * 9000
    (folder / "etc").mkdir()
    (folder / "etc/os-release").symlink_to("../usr/lib/os-release")
    return files


def image(folder: Path, *options: str) -> tuple[Path, dict[str, bytes]]:
    tree, place = folder / "tree", folder / "own.img"
    tree.mkdir()
    files = grown(tree)
    with place.open("wb") as file:
        file.truncate(SIZE)
    command = ["mkfs.btrfs", "-q", "-f", "-L", "loft", "--rootdir", str(tree), *options, str(place)]
    subprocess.run(command, check=True, capture_output=True)
    return place, files


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, dict[str, bytes]]:
    return image(tmp_path_factory.mktemp("btrfs"))


def of(disk: ImageSectors | Overlay) -> Btrfs:
    volume = opened(disk, 0, LAST).volume
    assert isinstance(volume, Btrfs)
    return volume


@needs_tool
@pytest.mark.parametrize("how", OPTIONS)
def test_every_file_is_what_it_was(how: str, tmp_path: Path) -> None:
    place, files = image(tmp_path, *OPTIONS[how])
    disk = ImageSectors(str(place))
    found = check(disk, 0, LAST)
    assert (found.kind, found.label, found.state, found.findings) == ("Btrfs", "loft", "clean", ())
    assert files_of(of(disk)) == files
    assert [s.version for s in found.systems] == ["12"]
    link = of(disk).find("etc/os-release")
    assert link is not None
    assert link.path == "usr/lib/os-release"


@needs_tool
def test_what_is_hurt_is_told_and_no_file_is_another(made: tuple[Path, dict[str, bytes]]) -> None:
    place, files = made
    disk, draw = ImageSectors(str(place)), random.Random(3)
    whole = of(disk)
    nodes = [at for c in whole.chunks for at in c.places if not c.kind & 1]
    told = 0
    for _ in range(12):
        start = draw.choice(nodes) + draw.randrange(40) * whole.super.node
        hurt = Overlay(disk, [(start + draw.randrange(200), draw.randbytes(40))])
        found = check(hurt, 0, LAST)
        told += found.state == "damaged"
        own = opened(hurt, 0, LAST).volume
        after = files_of(own) if isinstance(own, Btrfs) else {}
        assert [p for p, data in after.items() if data is not None and data != files[p]] == []
        assert found.state == "damaged" or after == files  # another copy of the node is whole


@needs_tool
def test_a_node_is_read_by_its_second_copy_and_data_that_changed_is_a_hole(
    made: tuple[Path, dict[str, bytes]],
) -> None:
    place, files = made
    disk = ImageSectors(str(place))
    own = of(disk)
    first, second = own.places_of(own.roots[5].address)
    assert files_of(of(Overlay(disk, [(first + 300, b"other")]))) == files
    both = check(Overlay(disk, [(first + 300, b"other"), (second + 300, b"other")]), 0, LAST)
    assert {f.id for f in both.findings} == {"sum"}
    node = own.find("home/choir/long.bin")
    assert node is not None
    run = own.runs(node)[0]
    assert run.at is not None
    hurt = of(Overlay(disk, [(run.at + 5000, b"other")]))
    assert {p for p, data in files_of(hurt).items() if data != files[p]} == {"home/choir/long.bin"}
    holes = [p for p in hurt.content(node) if isinstance(p, Hole)]
    assert [h.length for h in holes] == [4096]


@needs_tool
def test_what_lives_where(made: tuple[Path, dict[str, bytes]]) -> None:
    own = of(ImageSectors(str(made[0])))
    node = own.find("home/choir/long.bin")
    assert node is not None
    run = own.runs(node)[0]
    assert run.at is not None
    catalogue = own.places_of(own.roots[5].address)[0]
    places = own.places([SUPER_AT // 512, catalogue // 512, run.at // 512, LAST])
    assert [(p.stakes, p.path) for p in places] == [
        ("catalogue", None),
        ("catalogue", None),
        ("file", "home/choir/long.bin"),
        ("nothing", None),
    ]


@needs_tool
@pytest.mark.parametrize("hurt", [(SUPER_AT + 80, bytes(8)), (SUPER_AT, bytes(4096))], ids=["a field", "all of it"])
def test_a_superblock_that_is_gone_is_read_by_its_copy(
    hurt: tuple[int, bytes], made: tuple[Path, dict[str, bytes]]
) -> None:
    hurt_disk = Overlay(ImageSectors(str(made[0])), [hurt])
    assert {f.id for f in check(hurt_disk, 0, LAST).findings} == {"superblock-copy"}
    assert files_of(of(hurt_disk)) == made[1]


@needs_tool
def test_files_are_recovered_on_the_command_line(made: tuple[Path, dict[str, bytes]], tmp_path: Path) -> None:
    place, files = made
    assert main(["rescue", str(place), "--to", str(tmp_path / "out"), "--only", "home/*"]) == 0
    assert (tmp_path / "out/home/choir/long.bin").read_bytes() == files["home/choir/long.bin"]


@pytest.mark.parametrize(("packed", "made_by"), [(1, zlib.compress), (3, zstandard.ZstdCompressor().compress)])
def test_a_stretch_that_is_packed_is_unpacked(packed: int, made_by: object) -> None:
    data = b"the same again " * 400
    raw = made_by(data)  # type: ignore[operator]
    assert Btrfs._unpacked(Extent(0, len(data), raw, 0, 0, 0, len(data), packed, True), raw) == data
    assert isinstance(Btrfs._unpacked(Extent(0, len(data), raw, 0, 0, 0, len(data), packed, True), b"none"), Hole)
    assert isinstance(Btrfs._unpacked(Extent(0, len(data), raw, 0, 0, 0, len(data), 2, True), raw), Hole)


@pytest.mark.parametrize("raw", [b"", bytes(4096), bytes(64) + b"_BHRfS_M" + bytes(4024)])
def test_what_is_no_superblock_is_refused(raw: bytes) -> None:
    with pytest.raises(DecodeError, match="Btrfs superblock"):
        read_super(raw)
    with pytest.raises(DecodeError, match="Btrfs extent"):
        read_extent(0, raw[:20])
