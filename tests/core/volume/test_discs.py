"""ISO 9660 and UDF: discs of other programs, whole and hurt."""

from __future__ import annotations

import os
import random
import shutil
import struct
import subprocess
from pathlib import Path

import pytest
from grown_tree import FINDABLE, files_of, grown

from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.calendar_days import days_of
from gatecheck.core.volume.check import check, opened
from gatecheck.core.volume.iso9660.read import Iso9660, read_record
from gatecheck.core.volume.tree import Filesystem
from gatecheck.core.volume.udf import layout as u
from gatecheck.core.volume.udf.read import Udf
from memory_disk import Memory

os.environ["PATH"] += ":/usr/sbin:/sbin"
needs_tools = pytest.mark.skipif(
    shutil.which("genisoimage") is None or shutil.which("mkudffs") is None,
    reason="Debian's tools for discs are not here",
)
DEEP = "/".join(f"level {n}" for n in range(11)) + "/deep.txt"
WAYS = {
    "Rock Ridge": ("ISO 9660", ("genisoimage", "-R")),
    "Rock Ridge and Joliet": ("ISO 9660", ("xorriso", "-as", "mkisofs", "-R", "-J")),
    "Joliet": ("ISO 9660", ("genisoimage", "-J", "-joliet-long", "-D")),
    "long names of its own": ("ISO 9660", ("genisoimage", "-iso-level", "4")),
    "UDF": ("UDF", ("genisoimage", "-udf", "-R")),
}


def disc(folder: Path, *command: str) -> tuple[Path, dict[str, bytes]]:
    tree, place = folder / "tree", folder / "own.iso"
    tree.mkdir()
    files = grown(tree)
    (tree / "etc/os-release").unlink()
    (tree / "etc").rmdir()
    (tree / DEEP).parent.mkdir(parents=True)
    (tree / DEEP).write_bytes(b"deep")
    subprocess.run([*command, "-quiet", "-V", "LOFT", "-o", str(place), str(tree)], check=True, capture_output=True)
    return place, {**files, DEEP: b"deep"}


def last(disk: Sectors) -> int:
    assert disk.length is not None
    return disk.length - 1


def of(disk: Sectors) -> Filesystem:
    volume = opened(disk, 0, last(disk)).volume
    assert volume is not None
    return volume


@needs_tools
@pytest.mark.parametrize("way", WAYS)
def test_every_file_is_what_it_was(way: str, tmp_path: Path) -> None:
    kind, command = WAYS[way]
    place, files = disc(tmp_path, *command)
    disk = ImageSectors(str(place))
    found = check(disk, 0, last(disk))
    assert (found.kind, found.label, found.state, found.findings) == (kind, "LOFT", "clean", ())
    assert files_of(of(disk)) == files
    assert found.files == len(files)


@needs_tools
@pytest.mark.parametrize("way", ["Rock Ridge", "UDF"])
def test_what_is_hurt_takes_nothing_else_away(way: str, tmp_path: Path) -> None:
    place, files = disc(tmp_path, *WAYS[way][1])
    disk, draw = ImageSectors(str(place)), random.Random(7)
    raw = place.read_bytes()
    filed = {
        block
        for node in of(disk).nodes() if not node.is_folder
        for run in of(disk).runs(node) if run.at is not None
        for block in range(run.at // 2048, -(-(run.at + run.length) // 2048))
    }  # fmt: skip
    inner = [n for n in range(40, len(raw) // 2048) if n not in filed and any(raw[n * 2048 : n * 2048 + 2048])]
    kept = []
    for _ in range(10):
        hurt = Overlay(disk, [(draw.choice(inner) * 2048 + draw.randrange(512), draw.randbytes(16))])
        check(hurt, 0, last(hurt))
        volume = opened(hurt, 0, last(hurt)).volume
        kept.append(len(set(files_of(volume)) & set(files)) if volume else 0)
    assert sorted(kept)[5] > len(files) // 2


@needs_tools
@pytest.mark.parametrize(
    ("media", "block"),
    [("hd", 512), ("hd", 4096), ("dvdram", 2048), ("cdrw", 2048)],
    ids=["512", "4096", "RAM", "spared"],
)
def test_a_blank_udf_volume_is_clean(media: str, block: int, tmp_path: Path) -> None:
    place = tmp_path / "own.img"
    with place.open("wb") as file:
        file.truncate(60 << 20)
    command = ["mkudffs", "-l", "loft", f"--media-type={media}", "-b", str(block), str(place)]
    subprocess.run(command, check=True, capture_output=True)
    disk = ImageSectors(str(place))
    found = check(disk, 0, last(disk))
    assert (found.kind, found.label, found.state, found.files) == ("UDF", "loft", "clean", 0)
    assert [p.stakes for p in of(disk).places([40 << 11, 0x8000 // 512])] == ["nothing", "catalogue"]


@needs_tools
def test_a_disc_is_read_by_the_second_descriptors_and_damage_is_told(tmp_path: Path) -> None:
    place, files = disc(tmp_path, *WAYS["UDF"][1])
    disk = ImageSectors(str(place))
    own = of(disk)
    assert isinstance(own, Udf)
    raw = own.bytes.read(256 * 2048, 512, "anchor")
    first = int.from_bytes(raw[20:24], "little") * 2048
    hurt = Overlay(disk, [(first + n * 2048 + 20, b"\xff") for n in range(8)])
    assert set(files_of(of(hurt))) == set(files)
    node = own.find(FINDABLE)
    assert node is not None
    entry = own.address(node.id >> 32, node.id & 0xFFFFFFFF)
    assert [f.id for f in check(Overlay(disk, [(entry + 48, b"\x07")]), 0, last(disk)).findings] == ["sum"]
    run = own.runs(node)[0]
    assert run.at is not None
    wanted = [run.at, entry, 0x8000]
    assert [(p.stakes, p.path) for p in own.places([at // 512 for at in wanted])] == [
        ("file", FINDABLE),
        ("catalogue", None),
        ("catalogue", None),
    ]


def record(name: bytes = b"A", block: int = 20, size: int = 10, flags: int = 0) -> bytes:
    raw = struct.pack("<BBI", 34 + len(name) - len(name) % 2, 0, block) + struct.pack(">I", block)
    raw += struct.pack("<I", size) + struct.pack(">I", size) + bytes((126, 12, 2, 8, 30, 0, 4, flags, 0, 0)) + bytes(4)
    return raw + bytes((len(name),)) + name


def test_a_directory_record_is_read() -> None:
    own = read_record(record(), 0)
    assert own is not None
    assert (own.block, own.size, own.name, own.agrees) == (20, 10, b"A", True)
    assert own.modified == days_of(2026, 12, 2) * 86400 + 8 * 3600 + 30 * 60 - 3600
    assert read_record(b"\0" * 40, 0) is None
    with pytest.raises(DecodeError, match="directory record"):
        read_record(b"\xff" + bytes(60), 0)


@pytest.mark.parametrize(("date", "days"), [((1970, 1, 1), 0), ((2000, 3, 1), 11017), ((2026, 12, 2), 20789)])
def test_days_are_counted_from_1970(date: tuple[int, int, int], days: int) -> None:
    assert days_of(*date) == days


def test_what_is_no_disc_is_refused() -> None:
    blank = Memory(bytes(4 << 20))
    for reader, what in ((Iso9660, "ISO 9660 volume descriptor"), (Udf, "UDF anchor")):
        with pytest.raises(DecodeError, match=what):
            reader(blank, 0, last(blank))
    with pytest.raises(DecodeError, match="UDF x"):
        u.tag_of(bytes(20), "UDF x")
    with pytest.raises(DecodeError, match="UDF folder"):
        list(u.names_of(b"\1" * 60, "UDF folder"))
