"""Sets of drives put together, whole, with members missing, old or bad in places; logical volumes."""

from __future__ import annotations

import random
import struct

import pytest

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
