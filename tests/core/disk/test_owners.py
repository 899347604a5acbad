"""Whose a disk is: marks of sets, pools and containers at both edges; nothing is planned for one, and nothing of it is
called damage."""

from __future__ import annotations

import pytest

from gatecheck.core.disk.bootpath import boot_path
from gatecheck.core.disk.encode import gpt_end, gpt_start, mbr_start
from gatecheck.core.disk.mend import all_plans, mending_of
from gatecheck.core.disk.owners import owner_by_type, owners_of
from gatecheck.core.disk.sectors import CapturedSectors, Sectors
from gatecheck.core.disk.where import places_of
from memory_disk import Memory

SIZE = 8 << 20
START = {
    "luks": (0, b"LUKS\xba\xbe"), "windows": (3, b"-FVE-FS-"), "md 1.1": (0, b"\xfc\x4e\x2b\xa9"),
    "md 1.2": (4096, b"\xfc\x4e\x2b\xa9"), "lvm": (512, b"LABELONE"), "apfs": (32, b"NXSB"), "xfs": (0, b"XFSB"),
    "btrfs": (0x10040, b"_BHRfS_M"), "f2fs": (1024, b"\x10\x20\xf5\xf2"), "swap": (4086, b"SWAPSPACE2"),
    "vdo": (0, b"dmvdo001"), "ubi": (0, b"UBI#"), "dynamic": (3072, b"PRIVHEAD"), "pool": (0, b"SPACEDB "),
    "bcache": (4120, bytes.fromhex("c68573f64e1a45ca8265f57f48ba6d81")),
    "zfs": (0x20000 + 4096, bytes.fromhex("0cb1ba0000000000")),
    "hfs+": (1024, b"H+\x00\x04"),
}  # fmt: skip
END = {
    "intel": (1024, b"Intel Raid ISM Cfg Sig. 1.3.00"), "ddf": (512, b"\xde\x11\xde\x11"), "nvidia": (1024, b"NVIDIA"),
    "jmicron": (512, b"JM\x01\x00"), "lsi": (512, b"$XIDE$"), "promise": (63 * 512, b"Promise Technology, Inc."),
    "md 1.0": (8192, b"\xfc\x4e\x2b\xa9"), "md 0.90": (0x10000, b"\xfc\x4e\x2b\xa9"),
}  # fmt: skip


def marked(at: int, mark: bytes, base: bytes = b"") -> bytearray:
    image = bytearray(base.ljust(SIZE, b"\0"))
    image[at : at + len(mark)] = mark
    return image


@pytest.mark.parametrize("name", [*START, *END, "noise"])
def test_what_lives_on_a_disk_without_a_table_is_never_nothing(name: str) -> None:
    image = marked(*(START | END | {"noise": (0, bytes(range(256)) * 600)})[name])
    for place in places_of(Memory(bytes(image)), [0, 5000]):
        assert place.stakes != "nothing" or name == "swap", place
        assert place.structure.id != "where.between"


def test_a_disk_of_zeros_holds_nothing() -> None:
    assert [p.stakes for p in places_of(Memory(bytes(SIZE)), [5000])] == ["nothing"]


@pytest.mark.parametrize("name", START)
def test_what_is_a_whole_disk_of_something_else_is_left_alone(name: str) -> None:
    disk = Memory(bytes(marked(*START[name])))
    assert len(owners_of(disk)) == 1, owners_of(disk)
    for mode in ("uefi", "bios"):
        assert mending_of(disk, mode).plans == ()
        assert all_plans(disk, mode) == ([], [])


@pytest.mark.parametrize("name", END)
def test_records_of_a_set_at_the_end_forbid_every_plan(name: str, divided: bytes) -> None:
    """The disk has a table with a broken second copy: without the mark it would be written anew."""
    back, mark = END[name]
    broken = bytearray(divided)
    broken[-512:] = bytes(512)
    alone = Memory(bytes(broken))
    assert any(p.id == "gpt-backup" for p in mending_of(alone, "uefi").plans)
    broken[len(broken) - back : len(broken) - back + len(mark)] = mark
    own = Memory(bytes(broken))
    assert [o.kind for o in owners_of(own)] == ["raid"]
    assert mending_of(own, "uefi").plans == ()
    assert boot_path(own, "uefi").findings[0].id == "one-of-a-set"


@pytest.fixture(scope="module")
def divided() -> bytes:
    """A disk with a sound GPT."""
    count = SIZE // 512
    own = ("11111111-2222-3333-4444-555555555555", "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7", 2048, count - 100, "Data")
    start = gpt_start("AAAAAAAA-2222-3333-4444-555555555555", [own], sectors=count)
    end = gpt_end(start, sectors=count)
    return start.ljust(SIZE - len(end), b"\0") + end


def test_two_letters_are_no_mark() -> None:
    for at, mark in (
        (88, b"CS"),
        (1024, b"H+"),
        (1030, b"\x34\x34"),
        (SIZE - 512, b"JM"),
        (SIZE - 512, b"\x55\xaa\x01"),
    ):
        assert owners_of(Memory(bytes(marked(at, mark)))) == (), (at, mark)


def test_what_nobody_read_belongs_to_nobody() -> None:
    disk: Sectors = CapturedSectors({0: bytes(512)}, length=SIZE // 512)
    assert owners_of(disk) == ()


@pytest.mark.parametrize(
    ("type_", "kind"),
    [
        ("E75CAF8F-F680-4CEE-AFA3-B001E56EFC2D", "pool"),
        ("a19d880f-05fc-4d3b-a006-743f0f84911e", "raid"),
        ("8Eh", "container"),
        ("EBD0A0A2-B9E5-4433-87C0-68B6B72699C7", None),
        ("07h", None),
    ],
)
def test_a_partitions_type_says_whose_it_is(type_: str, kind: str | None) -> None:
    found = owner_by_type(type_)
    assert (found.kind if found else None) == kind


def test_no_start_is_promised_from_an_encrypted_volume() -> None:
    disk = bytearray(mbr_start([(7, True, 2048, 4096)]).ljust(SIZE, b"\0"))
    disk[2048 * 512 : 2048 * 512 + 512] = (b"\xeb\x58\x90-FVE-FS-" + b"\x02" * 499) + b"\x55\xaa"
    assert not any(plan.boots_after for plan in mending_of(Memory(bytes(disk)), "bios").plans)
