"""Sets of drives put together, whole, with members missing, old or bad in places; logical volumes."""

from __future__ import annotations

import json
import random
import struct
from pathlib import Path
from typing import Any

import pytest

from drive_sets import FILE, drives_of_a_store, volume_of_a_store
from gatecheck.cli.main import main
from gatecheck.core.disk.joined import JoinedSectors
from gatecheck.core.disk.sectors import UNREADABLE
from gatecheck.core.errors import DecodeError, InputError
from gatecheck.core.volume.assemble import Assembled, assembled
from gatecheck.core.volume.lvm.encode import physical_volume
from gatecheck.core.volume.raid.encode import DATA_AT, raid_members
from gatecheck.core.volume.raid.read import LINEAR, read_member
from memory_disk import Memory

DATA = random.Random(7).randbytes(3 << 20)
SHAPES = [
    (LINEAR, 3, 0, 0),
    (0, 3, 0, 0), (1, 2, 0, 1), (4, 3, 0, 1), (10, 4, 0x102, 1), (10, 3, 0x102, 1), (10, 4, 0x201, 1),
    (10, 5, 0x201, 1), (10, 4, 0x10201, 1), *((5, 4, layout, 1) for layout in range(6)),
    *((6, 5, layout, 2) for layout in (*range(6), 8, 9, 10, *range(16, 21))),
]  # fmt: skip


def one(members: list[bytes]) -> Assembled:
    (own,) = assembled([Memory(m) for m in members])
    return own


def read(own: Assembled) -> bytes:
    assert own.sectors is not None, own.problem
    span = own.sectors.read(0, len(DATA) // own.sectors.sector)
    assert not span.missing
    return span.data


@pytest.mark.parametrize(("level", "of", "layout", "spare"), SHAPES)
def test_the_set_is_read_without_what_it_can_lack(level: int, of: int, layout: int, spare: int) -> None:
    members = raid_members(DATA, level, of, layout=layout, chunk=32768)
    assert read(one(members)) == DATA
    for first in range(of if spare else 0):
        assert read(one([m for n, m in enumerate(members) if n != first])) == DATA
        for second in range(first if spare > 1 else 0):
            assert read(one([m for n, m in enumerate(members) if n not in (first, second)])) == DATA
    few = one(members[: of - spare - 1] or members[:1])
    if level not in (1, 10):
        assert few.sectors is None
        assert f"got {of - spare - 1}" in few.problem
    assert (few.of, few.level) == (of, "linear" if level == LINEAR else f"RAID {level}")


def test_a_member_that_fell_out_is_not_believed() -> None:
    """It left the set before the last writes: what it holds is old."""
    old = raid_members(bytes(len(DATA)), 1, 2, events=30)
    new = raid_members(DATA, 1, 2, events=40)
    own = one([old[0], new[1]])
    assert (read(own), own.there, own.stale) == (DATA, 1, 1)
    five = raid_members(DATA, 5, 3, layout=2)
    own = one([five[0], five[1], raid_members(bytes(len(DATA)), 5, 3, layout=2, events=30)[2]])
    assert (read(own), own.there, own.stale) == (DATA, 2, 1)


@pytest.mark.parametrize(("level", "of", "layout"), [(1, 2, 0), (5, 3, 2), (6, 4, 2), (10, 4, 0x102)])
def test_what_one_member_cannot_read_is_had_from_the_others(level: int, of: int, layout: int) -> None:
    members = raid_members(DATA, level, of, layout=layout)
    at = DATA_AT // 512
    disks = [Memory(m, *range(at + 700 + 900 * n, at + 740 + 900 * n)) for n, m in enumerate(members)]
    (own,) = assembled(disks)
    assert read(own) == DATA
    both = [Memory(m, *range(at + 64, at + 72)) for m in members]
    (own,) = assembled(both)
    assert own.sectors is not None
    span = own.sectors.read(0, len(DATA) // 512)
    assert set(span.missing.values()) == {UNREADABLE}
    assert {lba // 8 for lba in span.missing} < set(range(2000))


def test_a_mirror_that_is_alone_is_a_row_of_its_drive() -> None:
    member = raid_members(DATA, 1, 2)[1]
    (own,) = assembled([Memory(member)])
    assert isinstance(own.sectors, JoinedSectors)
    assert own.sectors.inside_of(DATA_AT // 512 + 5) == 5
    assert (own.there, own.of) == (1, 2)


def test_a_superblock_that_is_hurt_is_none() -> None:
    member = bytearray(raid_members(DATA, 5, 3, layout=2)[0])
    struct.pack_into("<I", member, 4096 + 92, 4)
    with pytest.raises(DecodeError, match="checksum"):
        read_member(Memory(bytes(member)), 0, len(member) // 512 - 1)
    assert assembled([Memory(bytes(member))]) == ()
    rng = random.Random(5)
    for _ in range(300):
        hurt = bytearray(member)
        for _ in range(rng.randrange(1, 9)):
            hurt[4096 + rng.randrange(300)] = rng.randrange(256)
        assembled([Memory(bytes(hurt[: 2 << 20]))])


def test_a_logical_volume_of_a_group_is_read_and_written_at_its_extents() -> None:
    second = DATA[1 << 20 : 2 << 20]
    parts = physical_volume("loft", {"a": (1, b"A" * 512), "b": (1, second)})
    raw = bytearray(16 << 20)
    for at, data in parts.items():
        raw[at * 512 : at * 512 + len(data)] = data
    disk = Memory(bytes(raw))
    found = {own.name: own.sectors for own in assembled([disk])}
    assert set(found) == {"loft/a", "loft/b"}
    own = found["loft/b"]
    assert isinstance(own, JoinedSectors)
    assert own.is_only_on(disk)
    assert own.read(0, len(second) // 512).data == second
    ((at, written),) = own.to_disk([(512, b"new")])
    assert (raw[at : at + 3], written) == (second[512:515], b"new")
    assert own.inside_of(at // 512) == 1
    assert own.sources([(1, 2)]) == [(at // 512, 2)]
    with pytest.raises(InputError, match="beyond its end"):
        own.to_disk([(own.length * 512 - 1, b"ab")])


@pytest.fixture(scope="module")
def drives(tmp_path_factory: pytest.TempPathFactory) -> list[str]:
    """Images of the three drives of a RAID 5 with an ext4 volume on it."""
    folder = tmp_path_factory.mktemp("drives")
    places = [folder / f"drive-{n}.img" for n in range(3)]
    for place, member in zip(places, drives_of_a_store(), strict=True):
        place.write_bytes(member)
    return [str(place) for place in places]


def said(capsys: pytest.CaptureFixture[str], *arguments: str) -> tuple[int, Any, str]:
    status = main(list(arguments))
    told = capsys.readouterr()
    return status, json.loads(told.out) if told.out else None, told.err


@pytest.mark.parametrize("others", [(1,), (1, 2), (2,), (1, 1), (0, 1)])
def test_drives_are_put_together_at_the_command_line(
    drives: list[str], others: tuple[int, ...], capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    more = ["--with", *(drives[n] for n in others)]
    status, told, _ = said(capsys, "volume", drives[0], *more)
    assert (status, told["kind"], told["label"], told["state"]) == (0, "ext4", "store", "clean")
    status, told, _ = said(capsys, "rescue", drives[0], "--to", str(tmp_path / "out"), *more)
    assert (status, (tmp_path / "out" / "letters" / "rope.txt").read_bytes()) == (0, FILE)


def test_too_few_drives_and_what_is_none_are_said_in_one_line(
    drives: list[str], capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    status, told, error = said(capsys, "volume", drives[0])
    assert (status, told, error.count("\n")) == (2, None, 1)
    assert "RAID 5 set “store”: expected at least 2 of its 3 members, got 1" in error
    assert "--with IMAGE" in error
    (tmp_path / "noise.img").write_bytes(random.Random(3).randbytes(1 << 20))
    status, _, error = said(capsys, "volume", drives[0], "--with", str(tmp_path / "noise.img"))
    assert (status, "got 1" in error) == (2, True)
    status, _, error = said(capsys, "volume", drives[0], "--with", str(tmp_path / "none.img"))
    assert (status, "expected a disk image" in error) == (2, True)
    status, _, error = said(capsys, "volume", drives[0], "--with", drives[1], "--repair")
    assert (status, "is read, not repaired" in error) == (2, True)


def test_a_logical_volume_of_one_drive_is_repaired_and_put_back(
    capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    """It begins behind another one: what is written goes to its extents."""
    whole = volume_of_a_store(16_384)
    whole[1024 + 12 : 1024 + 14] = b"\x10\x27"  # free blocks
    raw = bytearray(16 << 20)
    for at, data in physical_volume("vg0", {"swap": (1, b"x"), "root": (2, bytes(whole))}).items():
        raw[at * 512 : at * 512 + len(data)] = data
    place, undo = tmp_path / "drive.img", str(tmp_path / "undo")
    place.write_bytes(raw)
    assert said(capsys, "volume", str(place))[1]["state"] == "dirty"
    status, told, _ = said(capsys, "volume", str(place), "--repair", "--apply", "--undo", undo)
    assert (status, told["state"]) == (0, "clean")
    assert bytes(raw) != place.read_bytes()
    assert said(capsys, "volume", str(place), "--revert", undo)[0] == 0
    assert bytes(raw) == place.read_bytes()


def test_one_that_was_being_written_and_lacks_a_member_is_doubtful() -> None:
    members = [_being_written(own) for own in raid_members(DATA, 5, 3, layout=2)]
    assert not one(members).is_doubtful
    assert one(members[:2]).is_doubtful


def _being_written(member: bytes) -> bytes:
    """With its resync at 0 and its sum made anew."""
    own = bytearray(member[4096 : 4096 + 256 + 6]) + bytes(2)
    struct.pack_into("<QQI", own, 200, struct.unpack_from("<Q", own, 200)[0], 0, 0)
    total = sum(struct.unpack(f"<{len(own) // 4}I", own))
    struct.pack_into("<I", own, 216, (total & 0xFFFFFFFF) + (total >> 32) & 0xFFFFFFFF)
    return member[:4096] + bytes(own[:-2]) + member[4096 + 262 :]
