"""HFS Plus: a volume that another program made, a blank one, both hurt."""

from __future__ import annotations

import random
import shutil
import struct
import subprocess
import zlib
from unicodedata import normalize

import pytest
from grown_tree import FINDABLE, files_of, grown

from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.check import check, opened
from gatecheck.core.volume.hfsplus import layout as h
from gatecheck.core.volume.hfsplus.encode import hfsplus_volume
from gatecheck.core.volume.hfsplus.read import HfsPlus, inflated
from memory_disk import Memory

needs_tool = pytest.mark.skipif(shutil.which("xorriso") is None, reason="Debian's xorriso is not here")


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> tuple[bytes, dict[str, bytes]]:
    folder = tmp_path_factory.mktemp("hfsplus")
    tree, place = folder / "tree", folder / "own.iso"
    tree.mkdir()
    files = grown(tree)
    command = ["xorriso", "-as", "mkisofs", "-quiet", "-hfsplus", "-V", "LOFT", "-o", str(place), str(tree)]
    subprocess.run(command, check=True, capture_output=True)
    raw = place.read_bytes()
    start = raw.index(b"H+\x00\x04") - h.HEADER_AT
    block, blocks = struct.unpack_from(">2I", raw, start + h.HEADER_AT + 40)
    return raw[start : start + block * blocks], files


def of(disk: Sectors) -> HfsPlus:
    volume = opened(disk, 0, last(disk)).volume
    assert isinstance(volume, HfsPlus)
    return volume


def last(disk: Sectors) -> int:
    assert disk.length is not None
    return disk.length - 1


@needs_tool
def test_every_file_is_what_it_was(made: tuple[bytes, dict[str, bytes]]) -> None:
    raw, files = made
    disk = Memory(raw)
    found = check(disk, 0, last(disk))
    assert (found.kind, found.label, found.state, found.findings) == ("HFS+", "LOFT", "clean", ())
    assert files_of(of(disk)) == {normalize("NFD", path): data for path, data in files.items()}
    assert found.files == len(files) + 1
    assert [s.version for s in found.systems] == ["12"]
    link = of(disk).find("ETC/os-release")
    assert link is not None
    assert link.path == "usr/lib/os-release"


@needs_tool
def test_what_lives_where(made: tuple[bytes, dict[str, bytes]]) -> None:
    own = of(Memory(made[0]))
    node = own.find(FINDABLE)
    assert node is not None
    run = own.runs(node)[0]
    assert run.at is not None
    catalog = own.header.catalog.extents[0][0] * own.header.block
    wanted = [h.HEADER_AT, catalog, run.at, own.size - h.HEADER_AT]
    assert [(p.stakes, p.path) for p in own.places([at // 512 for at in wanted])] == [
        *[("catalogue", None)] * 2,
        ("file", FINDABLE),
        ("catalogue", None),
    ]


@needs_tool
def test_a_volume_header_that_is_gone_is_read_by_its_copy(made: tuple[bytes, dict[str, bytes]]) -> None:
    disk = Overlay(Memory(made[0]), [(h.HEADER_AT, bytes(512))])
    assert {"first-structure"} <= {f.id for f in check(disk, 0, last(disk)).findings}
    assert len(files_of(of(disk))) == len(made[1])


def blank(size: int, **more: bool) -> bytes:
    raw = bytearray(size)
    for at, data in hfsplus_volume({}, sectors=size // 512, label="loft", **more).items():
        raw[at * 512 : at * 512 + len(data)] = data
    return bytes(raw)


@pytest.mark.parametrize("is_sensitive", [False, True])
def test_a_blank_volume_is_clean_and_its_header_is_held_to_it(is_sensitive: bool) -> None:
    raw = blank(8 << 20, is_sensitive=is_sensitive)
    disk = Memory(raw)
    found = check(disk, 0, last(disk))
    assert (found.state, found.files, found.label, of(disk).ignores_case) == ("clean", 0, "loft", not is_sensitive)


def test_a_volume_of_ours_holds_what_it_was_given() -> None:
    files = {f"folder {n % 7}/Letter {n}.txt": b"letter %d " % n * n for n in range(400)} | {"top": b"x" * 9000}
    raw = bytearray(32 << 20)
    for at, data in hfsplus_volume(files, sectors=len(raw) // 512).items():
        raw[at * 512 : at * 512 + len(data)] = data
    disk = Memory(bytes(raw))
    assert (check(disk, 0, last(disk)).state, check(disk, 0, last(disk)).files) == ("clean", 401)
    assert [p.stakes for p in of(disk).places([0, (30 << 20) // 512])] == ["catalogue", "nothing"]
    assert files_of(of(disk)) == files
    with pytest.raises(ValueError, match="room for"):
        hfsplus_volume(files, sectors=100)


def _field(at: int, layout: str, *values: object) -> tuple[int, bytes]:
    return h.HEADER_AT + at, struct.pack(layout, *values)


@pytest.mark.parametrize(
    ("hurt", "ids"),
    [
        (_field(48, ">I", 3), {"free-count"}),
        (_field(32, ">I", 3), {"counter"}),
        (_field(4, ">I", 0), {"dirty"}),
        (_field(4, ">I", 0x900), {"errors-noted"}),
        (_field(4, ">II", 0x2100, 0) , set()),
        ((4096, b"\x7f"), {"unmarked", "free-count"}),
        (_field(288, ">II", 5, 64), {"crossed", "not-opened"}),
    ],
    ids=["free blocks", "files", "not unmounted", "inconsistent", "a journal that never was", "bitmap", "moved"],
)  # fmt: skip
def test_what_does_not_fit_is_told(hurt: tuple[int, bytes], ids: set[str]) -> None:
    disk = Overlay(Memory(blank(8 << 20)), [hurt])
    found = {f.id for f in check(disk, 0, last(disk)).findings}
    assert found <= ids if len(ids) != 1 else found == ids
    assert bool(found) is bool(ids)


def test_a_journal_that_was_not_carried_out_is_pending() -> None:
    raw = blank(8 << 20)
    at = 1000 * 4096
    info = struct.pack(">I32sQQ", 1, b"", at + 4096, 8192)
    journal = b"xLNJ" + struct.pack("<IQQ", 0x12345678, 512, 2048)
    patches = [_field(4, ">I", 0x2100), _field(12, ">I", 1000), (at, info), (at + 4096, journal)]
    disk = Overlay(Memory(raw), patches)
    assert [f.id for f in check(disk, 0, last(disk)).findings] == ["journal-pending"]
    torn = Overlay(Memory(raw), [*patches[:-1], (at + 4096, b"none")])
    assert [f.id for f in check(torn, 0, last(torn)).findings] == ["journal-broken"]


def test_packed_pieces_are_unpacked() -> None:
    data = b"the same again " * 90
    assert inflated(zlib.compress(data), len(data)) == data
    assert inflated(b"\xff" + data, len(data)) == data


def test_broken_records_are_refused() -> None:
    with pytest.raises(DecodeError, match="volume header"):
        h.read_header(b"H+" + bytes(510))
    with pytest.raises(DecodeError, match="HFS Plus tree"):
        h.read_head(bytes(512))
    with pytest.raises(DecodeError, match="HFS Plus node 7"):
        h.read_node(bytes(8) + b"\xff\x01\xff\xff" + bytes(4084), 7)
    with pytest.raises(DecodeError, match="catalog key"):
        h.catalog_key(bytes(5))
    with pytest.raises(DecodeError, match="catalog record"):
        h.read_record(b"\0\x02" + bytes(90))


def test_whatever_is_hurt_is_told_or_read_and_never_stops_the_look() -> None:
    files = {f"folder {n % 5}/Letter {n}.txt": b"letter %d " % n * n for n in range(60)}
    raw = bytearray(8 << 20)
    content = hfsplus_volume(files, sectors=len(raw) // 512)
    for at, data in content.items():
        raw[at * 512 : at * 512 + len(data)] = data
    draw, kept = random.Random(23), 0
    places = [at * 512 + n for at, data in content.items() for n in range(0, len(data), 7) if data[n]]
    for _ in range(80):
        patches = [
            (draw.choice(places), draw.randbytes(draw.choice((1, 2, 4, 16)))) for _ in range(draw.choice((1, 3)))
        ]
        disk = Overlay(Memory(bytes(raw)), patches)
        check(disk, 0, last(disk))
        own = opened(disk, 0, last(disk)).volume
        kept += own is not None and len(files_of(own)) >= len(files) - 20
    assert kept > 60
