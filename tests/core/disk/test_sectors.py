"""Random access to sectors: what is missing is named, 512 and 4096 bytes alike, other sizes are refused."""

from __future__ import annotations

import struct

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gatecheck.core.disk.encode import gpt_start, mbr_start
from gatecheck.core.disk.mbr import layout_of
from gatecheck.core.disk.sectors import (
    BEYOND,
    NOT_CAPTURED,
    UNREADABLE,
    CapturedSectors,
    MissingSectorError,
    sectors_of,
)
from gatecheck.core.disk.volume import volume_at, volume_start
from gatecheck.core.errors import DecodeError

ESP, DATA = "0F2F0A6B-3D5C-4E4B-9A51-1D2C3B4A5968", "7B5E90C1-52A4-4A0E-8A0C-8D1F00A1B2C3"
BASIC = "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7"


@pytest.mark.parametrize("size", [520, 528, 0, 511, 8192])
def test_other_sector_sizes_are_refused_clearly(size: int) -> None:
    with pytest.raises(DecodeError, match=f"expected one of 512, 1024, 2048, 4096 bytes, got {size} bytes"):
        CapturedSectors({}, sector=size)


@given(
    st.dictionaries(st.integers(0, 40), st.integers(1, 5), max_size=5),
    st.integers(0, 45),
    st.integers(0, 12),
    st.sampled_from([512, 4096]),
)
def test_a_span_holds_what_was_captured_and_names_the_rest(
    ranges: dict[int, int], lba: int, count: int, size: int
) -> None:
    held = {first: b"".join(bytes([first + i + 1]) * size for i in range(n)) for first, n in ranges.items()}
    disk = CapturedSectors(held, sector=size, length=44, unreadable=[7])
    span = disk.read(lba, count)
    there = {first + i for first, n in ranges.items() for i in range(n)}
    assert len(span.data) == count * size
    for place in range(lba, lba + count):
        own = span.data[(place - lba) * size : (place - lba + 1) * size]
        assert (place in span.missing) == (place not in there)
        assert own == (bytes([place + 1]) * size if place in there else bytes(size))
        if place not in there:
            assert span.missing[place] == (UNREADABLE if place == 7 else BEYOND if place >= 44 else NOT_CAPTURED)


def disk_of(size: int, **more: object) -> CapturedSectors:
    """A GPT disk with sectors of this size."""
    start = gpt_start(
        "6E0C2B7A-90D1-4F5B-9C43-0B7C61D2E8F4",
        [(ESP, "C12A7328-F81F-11D2-BA4B-00A0C93EC93B", 256, 900, "EFI"), (DATA, BASIC, 1000, 9000, "System")],
        sector=size,
    )
    return CapturedSectors({0: start, 1000: volume_start("ntfs", size=8192)}, sector=size, **more)  # type: ignore[arg-type]


@pytest.mark.parametrize("size", [512, 4096])
def test_a_table_is_read_whatever_the_sector(size: int) -> None:
    disk = disk_of(size)
    layout = layout_of(disk)
    assert layout.kind == "gpt"
    assert layout.gpt is not None
    assert [(p.guid, p.first) for p in layout.gpt.partitions] == [(ESP, 256), (DATA, 1000)]
    assert (layout.gpt.header_ok, layout.gpt.cut_off) == (True, False)
    found = volume_at(disk, 1000)
    assert found is not None
    assert found.kind == "ntfs"


def test_the_size_of_a_bare_start_is_told_by_its_header() -> None:
    big = disk_of(4096).read(0, 6).data
    assert (sectors_of(big).sector, layout_of(sectors_of(big)).kind) == (4096, "gpt")
    assert sectors_of(mbr_start([(7, True, 2048, 1000)])).sector == 512


@pytest.mark.parametrize(
    ("ranges", "unreadable", "kind", "told", "missing"),
    [
        ({}, [0], None, False, 0),
        ({0: mbr_start([(7, True, 2048, 1000)])}, [1], "mbr", True, None),  # a legacy disk needs no second sector
        ({0: mbr_start([(0xEE, False, 1, 1000)])}, [1], None, False, 1),
        ({0: bytes(512)}, [], None, False, 1),  # empty, but the second sector was not captured
        ({0: bytes(1024)}, [], None, True, None),
    ],
    ids=["first unreadable", "mbr", "protective, header unreadable", "one empty sector", "two empty sectors"],
)
def test_unreadable_is_another_finding_than_gone(
    ranges: dict[int, bytes], unreadable: list[int], kind: str | None, told: bool, missing: int | None
) -> None:
    layout = layout_of(CapturedSectors(ranges, unreadable=unreadable))
    assert (layout.kind, layout.is_known, layout.unreadable) == (kind, told, missing)


def test_an_error_says_which_sector_is_missing_and_why() -> None:
    disk = CapturedSectors({0: bytes(512)}, unreadable=[3])
    with pytest.raises(
        MissingSectorError, match="thing, LBA 3 at byte 0x0: expected a sector that was read, got unreadable"
    ):
        disk.read(3, 2).whole("thing")
    with pytest.raises(MissingSectorError, match="volume, LBA 9"):
        volume_at(disk, 9)


@given(st.binary(max_size=400), st.sampled_from([512, 4096]))
def test_hostile_headers_are_bounded(raw: bytes, size: int) -> None:
    start = bytearray(size * 40)
    start[size : size + len(raw)] = raw
    start[size : size + 8] = b"EFI PART"
    layout_of(CapturedSectors({0: bytes(start)}, sector=size))
    struct.pack_into("<QII", start, size + 72, (1 << 64) - 1, 1024, 4096)
    assert layout_of(CapturedSectors({0: bytes(start)}, sector=size)).kind is None
