"""F2FS: volumes of the system's own tools, whole and hurt."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
from collections.abc import Callable
from functools import partial
from pathlib import Path

import lz4.block
import pytest
import zstandard
from grown_tree import FINDABLE, files_of, grown

from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.check import check, opened
from gatecheck.core.volume.f2fs import layout as f
from gatecheck.core.volume.f2fs.read import F2fs, unpacked

os.environ["PATH"] += ":/usr/sbin:/sbin"
needs_tool = pytest.mark.skipif(shutil.which("sload.f2fs") is None, reason="Debian's f2fs-tools are not here")
SIZE = 120 << 20
LAST = SIZE // 512 - 1
OPTIONS = {
    "as it is made": (),
    "with sums": ("-O", "extra_attr,inode_checksum,sb_checksum"),
    "times of birth": ("-O", "extra_attr,inode_crtime"),
    "any case": ("-O", "casefold", "-C", "utf8"),
}


def image(folder: Path, *options: str) -> tuple[Path, dict[str, bytes]]:
    tree, place = folder / "tree", folder / "own.img"
    tree.mkdir()
    files = grown(tree)
    with place.open("wb") as file:
        file.truncate(SIZE)
    subprocess.run(["mkfs.f2fs", "-q", "-f", "-l", "loft", *options, str(place)], check=True, capture_output=True)
    subprocess.run(["sload.f2fs", "-f", str(tree), str(place)], check=True, capture_output=True)
    return place, files


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, dict[str, bytes]]:
    return image(tmp_path_factory.mktemp("f2fs"), *OPTIONS["with sums"])


def of(disk: ImageSectors | Overlay) -> F2fs:
    volume = opened(disk, 0, LAST).volume
    assert isinstance(volume, F2fs)
    return volume


@needs_tool
@pytest.mark.parametrize("how", OPTIONS)
def test_every_file_is_what_it_was(how: str, tmp_path: Path) -> None:
    place, files = image(tmp_path, *OPTIONS[how])
    disk = ImageSectors(str(place))
    found = check(disk, 0, LAST)
    assert (found.kind, found.label, found.state, found.findings) == ("F2FS", "loft", "clean", ())
    assert files_of(of(disk)) == files
    assert [s.version for s in found.systems] == ["12"]
    link = of(disk).find("etc/os-release")
    assert link is not None
    assert link.path == "usr/lib/os-release"


@needs_tool
def test_inodes_that_are_hurt_are_told_and_no_file_is_another(made: tuple[Path, dict[str, bytes]]) -> None:
    place, files = made
    disk, draw = ImageSectors(str(place)), random.Random(5)
    own = of(disk)
    numbers = [n.id for n in own.nodes()]
    for _ in range(20):
        number = draw.choice(numbers)
        start = own.where_node(number)[1] * f.BLOCK
        at = start + draw.choice([n for n, byte in enumerate(own.node(number)) if byte and n < f.FOOTER])
        hurt = Overlay(disk, [(at, bytes([own.node(number)[at - start] ^ 1 << draw.randrange(8)]))])
        assert check(hurt, 0, LAST).state == "damaged", at - start
        after = files_of(of(hurt))
        assert [p for p, data in after.items() if data is not None and data != files.get(p)] == [], at - start


@needs_tool
def test_copies_are_used_where_the_first_is_gone(made: tuple[Path, dict[str, bytes]]) -> None:
    disk = ImageSectors(str(made[0]))
    own = of(disk)
    no_super = Overlay(disk, [(1024, bytes(1000))])
    assert {"first-structure"} <= {found.id for found in check(no_super, 0, LAST).findings}
    assert files_of(of(no_super)) == made[1]
    older = Overlay(disk, [(own.now.at * f.BLOCK + 20, b"\xff" * 4)])
    assert opened(older, 0, LAST).volume is None or of(older).now.at != own.now.at


@needs_tool
def test_a_changed_name_and_a_changed_count_are_told(made: tuple[Path, dict[str, bytes]]) -> None:
    disk = ImageSectors(str(made[0]))
    own = of(disk)
    node = own.find("many")
    assert node is not None
    block = next(address for _, address in own.addresses(own.inode(node.id)) if address)
    raw = own.block(block, "folder")
    at = block * f.BLOCK + raw.index(b"letter")
    assert {found.id for found in check(Overlay(disk, [(at, b"L")]), 0, LAST).findings} == {"name-broken"}


@needs_tool
def test_what_lives_where(made: tuple[Path, dict[str, bytes]]) -> None:
    own = of(ImageSectors(str(made[0])))
    node = own.find(FINDABLE)
    assert node is not None
    run = own.runs(node)[0]
    assert run.at is not None
    wanted = [0, own.super.nat * f.BLOCK, own.where_node(node.id)[1] * f.BLOCK, run.at, SIZE - f.BLOCK]
    assert [(p.stakes, p.path) for p in own.places([at // 512 for at in wanted])] == [
        *[("catalogue", None)] * 3,
        ("file", FINDABLE),
        ("nothing", None),
    ]


@pytest.mark.parametrize(
    "raw", [b"", bytes(3072), b"\x10\x20\xf5\xf2" + bytes(3068), b"\x10\x20\xf5\xf2" + b"\xff" * 3068]
)
def test_what_is_no_superblock_is_refused(raw: bytes) -> None:
    with pytest.raises(DecodeError, match="F2FS superblock"):
        f.read_super(raw)


def test_broken_records_are_refused() -> None:
    with pytest.raises(DecodeError, match="F2FS checkpoint"):
        f.read_checkpoint(bytes(f.BLOCK), 1, 0)
    with pytest.raises(DecodeError, match="F2FS inode"):
        f.read_inode(bytes(f.BLOCK), 0, 9)
    with pytest.raises(DecodeError, match="F2FS folder"):
        list(f.entries_of(b"\xff" * f.BLOCK))
    assert f.journal_of(b"\xff" * f.BLOCK, is_compact=True)  # as many as there is room for, and no more


PACKS = [(2, partial(lz4.block.compress, store_size=False)), (3, zstandard.compress)]


@pytest.mark.parametrize(("kind", "pack"), PACKS, ids=["LZ4", "Zstandard"])
def test_a_packed_cluster_is_unpacked(kind: int, pack: Callable[[bytes], bytes]) -> None:
    data = b"the same again " * 700
    inner = pack(data)
    assert unpacked(len(inner).to_bytes(4, "little") + bytes(20) + inner + bytes(99), kind, 16384) == data
    with pytest.raises(DecodeError, match="F2FS cluster"):
        unpacked(inner, 1, 16384)
