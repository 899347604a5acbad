"""XFS: volumes of the system's own tool, whole and hurt; where every block has its checksum, no byte of a file is ever
another than its own."""

from __future__ import annotations

import os
import random
import shutil
import struct
import subprocess
from pathlib import Path

import pytest
from grown_tree import FINDABLE, files_of, grown, listing

from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.cli.main import main
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.check import check, opened
from gatecheck.core.volume.xfs.layout import block_entries, name_hash, read_inode, read_super, short_entries
from gatecheck.core.volume.xfs.log import is_pending
from gatecheck.core.volume.xfs.read import Xfs

os.environ["PATH"] += ":/usr/sbin:/sbin"
needs_tool = pytest.mark.skipif(shutil.which("mkfs.xfs") is None, reason="Debian's xfsprogs are not here")
SIZE = 300 << 20
LAST = SIZE // 512 - 1
OPTIONS = {
    "as it is made": (),
    "version 4": ("-m", "crc=0"),
    "version 4 without types": ("-m", "crc=0", "-n", "ftype=0"),
    "blocks of 1 KiB": ("-b", "size=1024"),
    "inodes of 1 KiB": ("-i", "size=1024"),
    "folders of 16 KiB": ("-n", "size=16384"),
    "old times": ("-m", "reflink=0,bigtime=0,inobtcount=0"),
    "map of holders": ("-m", "rmapbt=1"),
    "sectors of 4 KiB": ("-s", "size=4096"),
    "wide counts": ("-i", "nrext64=1"),
}


def image(folder: Path, *options: str) -> tuple[Path, dict[str, bytes]]:
    tree, place = folder / "tree", folder / "own.img"
    tree.mkdir()
    files = {path.replace(" ", "-"): data for path, data in grown(tree).items()}
    for own in sorted(tree.rglob("* *"), reverse=True):
        own.rename(own.with_name(own.name.replace(" ", "-")))  # the list knows no blanks in names
    lines = ["/dev/null", "0 0", "d--755 0 0", *listing(tree, lambda own, said: f"{own.name} {said}"), "$"]
    (folder / "list").write_text("\n".join([*lines, "$", ""]))
    with place.open("wb") as file:
        file.truncate(SIZE)
    command = ["mkfs.xfs", "-q", "-f", "-L", "loft", "-p", str(folder / "list"), *options, str(place)]
    subprocess.run(command, check=True, capture_output=True)
    return place, files


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, dict[str, bytes]]:
    return image(tmp_path_factory.mktemp("xfs"))


def of(disk: ImageSectors | Overlay) -> Xfs:
    volume = opened(disk, 0, LAST).volume
    assert isinstance(volume, Xfs)
    return volume


@needs_tool
@pytest.mark.parametrize("how", OPTIONS)
def test_every_file_is_what_it_was(how: str, tmp_path: Path) -> None:
    place, files = image(tmp_path, *OPTIONS[how])
    disk = ImageSectors(str(place))
    found = check(disk, 0, LAST)
    assert (found.kind, found.label, found.state, found.findings) == ("XFS", "loft", "clean", ())
    assert found.files == len(files) + 1
    assert files_of(of(disk)) == files
    assert [s.version for s in found.systems] == ["12"]
    link = of(disk).find("etc/os-release")
    assert link is not None
    assert link.path == "usr/lib/os-release"


@needs_tool
def test_what_is_hurt_is_told_and_no_file_is_another(made: tuple[Path, dict[str, bytes]]) -> None:
    place, files = made
    disk, draw = ImageSectors(str(place)), random.Random(3)
    raw, own = place.read_bytes(), of(disk)
    log = own.super.address(own.super.log)
    filed = {
        block
        for node in own.nodes() if not node.is_folder
        for run in own.runs(node) if run.at is not None
        for block in range(run.at // 4096, -(-(run.at + run.length) // 4096))
    }  # fmt: skip
    inner = [
        block
        for block in range(len(raw) // 4096)
        if block not in filed and any(raw[block * 4096 : block * 4096 + 4096])
        and not log <= block * 4096 < log + own.super.log_blocks * 4096
    ]  # fmt: skip
    for _ in range(25):
        block = draw.choice(inner)
        at = draw.choice([n for n in range(block * 4096, block * 4096 + 4096) if raw[n]])
        hurt = Overlay(disk, [(at, bytes([raw[at] ^ 1 << draw.randrange(8)]))])
        assert check(hurt, 0, LAST).findings, at
        other = opened(hurt, 0, LAST).volume
        after = files_of(other) if isinstance(other, Xfs) else {}
        assert [p for p, data in after.items() if data is not None and data != files.get(p)] == [], at


@needs_tool
@pytest.mark.parametrize("hurt", [(12, bytes(4)), (0, bytes(8192))], ids=["a field", "all of it"])
def test_a_superblock_that_is_gone_is_read_by_its_copy(
    hurt: tuple[int, bytes], made: tuple[Path, dict[str, bytes]]
) -> None:
    hurt_disk = Overlay(ImageSectors(str(made[0])), [hurt])
    assert "first-structure" in {f.id for f in check(hurt_disk, 0, LAST).findings}
    assert files_of(of(hurt_disk)) == made[1]


@needs_tool
def test_a_log_that_does_not_end_with_an_unmount_is_pending(made: tuple[Path, dict[str, bytes]]) -> None:
    disk = ImageSectors(str(made[0]))
    own = of(disk)
    start = own.super.address(own.super.log)
    assert is_pending(own) is False
    hurt = Overlay(disk, [(start + 512 + 9, b"\0")])  # the first record's only operation, no longer an unmount
    assert is_pending(of(hurt)) is True
    found = check(hurt, 0, LAST)
    assert (found.state, [f.id for f in found.findings]) == ("dirty", ["journal-pending"])
    gone = check(Overlay(disk, [(start, bytes(1 << 20))]), 0, LAST)
    assert [f.id for f in gone.findings] == ["journal-broken"]


@needs_tool
def test_what_lives_where(made: tuple[Path, dict[str, bytes]]) -> None:
    own = of(ImageSectors(str(made[0])))
    node = own.find(FINDABLE)
    assert node is not None
    run = own.runs(node)[0]
    assert run.at is not None
    group = own.super.group * own.super.size
    log = own.super.address(own.super.log)
    tree = own.super.size
    wanted = [0, group, log, tree, own.inode_place(own.top), run.at, SIZE - 4096]
    places = own.places([at // 512 for at in wanted])
    assert [(p.stakes, p.path) for p in places] == [
        *[("catalogue", None)] * 5,
        ("file", FINDABLE),
        ("nothing", None),
    ]


@needs_tool
def test_files_are_recovered_on_the_command_line(made: tuple[Path, dict[str, bytes]], tmp_path: Path) -> None:
    place, files = made
    assert main(["rescue", str(place), "--to", str(tmp_path / "out"), "--only", "home/*"]) == 0
    assert (tmp_path / "out" / FINDABLE).read_bytes() == files[FINDABLE]


def test_names_are_hashed_as_an_index_has_them() -> None:
    three, four = 97 << 14 ^ 98 << 7 ^ 99, 97 << 21 ^ 98 << 14 ^ 99 << 7 ^ 100
    assert [name_hash(n) for n in (b".", b"..", b"abc", b"abcd")] == [0x2E, 0x172E, three, four]
    assert name_hash(b"abcda") == 97 ^ (four << 7 & 0xFFFFFFFF | four >> 25)


@pytest.mark.parametrize("raw", [b"", bytes(4096), b"XFSB" + bytes(4092), b"XFSB" + b"\xff" * 4092])
def test_what_is_no_superblock_is_refused(raw: bytes) -> None:
    with pytest.raises(DecodeError, match="XFS superblock"):
        read_super(raw)


@needs_tool
def test_broken_records_are_refused(made: tuple[Path, dict[str, bytes]]) -> None:
    own = of(ImageSectors(str(made[0]))).super
    for raw in (bytes(512), b"IN" + bytes(510), b"IN\xff\xff\x03\x02" + bytes(506)):
        with pytest.raises(DecodeError, match="XFS inode"):
            read_inode(raw, own, 99)
    for fork in (b"", b"\x02\x00" + bytes(4), b"\x09\x00" + bytes(4) + b"\xff\0\0abc"):
        with pytest.raises(DecodeError, match="XFS folder"):
            list(short_entries(fork, has_type=True))
    for block in (
        bytes(4096),
        b"XDD3" + bytes(4092),
        b"XDD3" + bytes(60) + struct.pack(">2H", 0xFFFF, 7) + bytes(4028),
    ):
        with pytest.raises(DecodeError, match="XFS folder"):
            list(block_entries(block, own))
