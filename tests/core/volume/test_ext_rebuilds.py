"""Repairs of folders, trees, flags and sums of ext: volumes of the system's own tool, hurt in bytes or by its debugger,
judged by its own checker; files that were right hold what they held."""

from __future__ import annotations

import struct
import subprocess
from collections.abc import Callable, Mapping
from pathlib import Path

import pytest
from test_ext_repairs import WHOLE, contents, hurt, mended, pytestmark, theirs

from gatecheck.core.volume.check import opened
from gatecheck.core.volume.crc32c import crc32c, one_byte_off
from gatecheck.core.volume.ext.folder_blocks import FolderEntry, packed, parsed
from gatecheck.core.volume.ext.layout import INDEXED
from gatecheck.core.volume.ext.read import Ext
from gatecheck.core.volume.ext.repair_names import place_of
from gatecheck.core.volume.repair import repair_of
from memory_disk import Memory

__all__ = ["pytestmark"]
LISTS = ("-O", "^metadata_csum,^extents,^64bit")
PLAIN = ("-O", "^metadata_csum")


def volume_of(raw: bytes | bytearray) -> Ext:
    own = opened(Memory(bytes(raw)), 0, WHOLE).volume
    assert isinstance(own, Ext)
    return own


def inode_at(raw: bytearray, path: str) -> int:
    own = volume_of(raw)
    node = own.find(path)
    assert node is not None
    return place_of(own, node.id)


def block_at(raw: bytearray, path: str) -> int:
    """Byte of the first block of a file or folder."""
    own = volume_of(raw)
    node = own.find(path)
    assert node is not None
    return next(run.block for run in own.mapped(own.inode(node.id)) if run.block) * own.block


def put(raw: bytearray, at: int, data: bytes) -> None:
    raw[at : at + len(data)] = data


def entry_at(raw: bytearray, folder: str, name: bytes) -> int:
    return raw.index(name, block_at(raw, folder)) - 8


def turned(raw: bytearray, at: int) -> None:
    raw[at] ^= 0x21


def dotted(raw: bytearray) -> None:
    """Both of a folder's own links lead to somebody else."""
    at = block_at(raw, "box0")
    put(raw, at, struct.pack("<I", 11))
    put(raw, at + 12, struct.pack("<I", 12))


def shared(raw: bytearray, number: int = 0) -> None:
    """A block of letter5 is the first one of letter9."""
    own = volume_of(raw)
    node = own.find("box1/letter9")
    assert node is not None
    put(raw, inode_at(raw, "box1/letter5") + 40 + 4 * number, own.inode(node.id).body[:4])


def longer(raw: bytearray, number: int = 4) -> None:
    """letter1, which is small, leads to another's block further on."""
    at = inode_at(raw, "box1/letter1") + 40 + 4 * number
    put(raw, at, struct.pack("<I", block_at(raw, "box1/letter9") // 1024))


def off(raw: bytearray, number: int = 2) -> None:
    put(raw, inode_at(raw, "box1/letter9") + 40 + 4 * number, struct.pack("<I", 0x7FFFFFFF))


# options, what is hurt in bytes, groups that mend it, files that may be other ones afterwards
CASES: Mapping[str, tuple[tuple[str, ...], Callable[[bytearray], object], tuple[str, ...], tuple[str, ...]]] = {
    "a byte of a size": ((), lambda r: turned(r, inode_at(r, "box1/letter3") + 4), ("bytes",), ()),
    "a byte of a mode": ((), lambda r: turned(r, inode_at(r, "box1/letter3")), ("bytes",), ()),
    "a byte of an extent": ((), lambda r: turned(r, inode_at(r, "box1/letter3") + 60), ("bytes",), ()),
    "a byte of a name": ((), lambda r: turned(r, entry_at(r, "box0", b"letter4") + 9), ("bytes",), ()),
    "a time of deletion": ((), lambda r: put(r, inode_at(r, "box1/letter3") + 20, b"\1\2\3\x60"), ("bytes",), ()),
    "the same without sums": (
        PLAIN,
        lambda r: put(r, inode_at(r, "box1/letter3") + 20, b"\1\2\3\x60"),
        ("deletion-time",),
        (),
    ),
    "a sum alone": ((), lambda r: put(r, inode_at(r, "box1/letter3") + 124, b"\x11\x22"), ("sums",), ()),
    "a break in a folder": (
        PLAIN,
        lambda r: put(r, entry_at(r, "box0", b"letter4") + 4, b"\3\0"),
        ("salvaged", "orphans-named"),
        (),
    ),
    "its own links": (PLAIN, dotted, ("folder-links",), ()),
    "a letter no name has": (PLAIN, lambda r: put(r, entry_at(r, "box0", b"letter4") + 10, b"/"), ("renamed",), ()),
    "two of one name": (PLAIN, lambda r: put(r, entry_at(r, "box0", b"letter4") + 14, b"2"), ("renamed",), ()),
    "a block off the volume": (LISTS, off, ("gaps",), ()),
    "two in a row off the volume": (LISTS, lambda r: (off(r), off(r, 3)), ("cut", "map"), ("letter9",)),
    "the first block is another's": (LISTS, shared, ("gaps",), ()),
    "a middle block is another's": (LISTS, lambda r: shared(r, 2), ("gaps",), ()),
    "two blocks are another's": (LISTS, lambda r: (shared(r), shared(r, 1)), ("apart", "map"), ("letter5",)),
    "more than its size": (LISTS, longer, ("surplus",), ()),
    "a list that is another's": (LISTS, lambda r: longer(r, 12), ("cut",), ()),
}


@pytest.mark.parametrize("name", CASES)
def test_the_systems_checker_finds_nothing_afterwards(name: str, tmp_path: Path) -> None:
    options, make, groups, others = CASES[name]
    raw = bytearray(hurt(tmp_path, options=(*options, "-b", "1024")))
    before = contents(bytes(raw))
    make(raw)
    assert theirs(bytes(raw), tmp_path)
    after, found = mended(bytes(raw))
    assert tuple(g.id for g in found.groups) == groups
    assert found.after.state == "clean"
    assert theirs(after, tmp_path) == 0
    kept = set(contents(after).values())
    assert [n for n, data in before.items() if data not in kept and n not in others] == []


COMMANDS: Mapping[str, tuple[tuple[str, ...], tuple[str, ...], tuple[str, ...]]] = {
    "a folder in two places": ((), ("link box0 box1/again",), ("folder-twice",)),
    "room for more groups": ((), ("set_inode_field <7> block[2] 77",), ("resize",)),
    "flags of a pipe": (PLAIN, ("mknod pipe p", "set_inode_field pipe flags 0x81000"), ("inode-flags",)),
    "an address of fragments": (PLAIN, ("set_inode_field box1/letter3 faddr 9",), ("inode-flags",)),
    "a folder that says it is a pipe": (LISTS, ("set_inode_field box0 mode 010755",), ("inode-flags",)),
    "attributes that are not there": (PLAIN, ("set_inode_field box1/letter3 file_acl 9999999",), ("attributes",)),
}


@pytest.mark.parametrize("name", COMMANDS)
def test_nor_where_its_own_debugger_hurt_it(name: str, tmp_path: Path) -> None:
    options, commands, groups = COMMANDS[name]
    raw = hurt(tmp_path, *commands, options=(*options, "-b", "1024"))
    assert theirs(raw, tmp_path)
    after, found = mended(raw)
    assert {*groups} <= {g.id for g in found.groups}
    assert (found.after.state, theirs(after, tmp_path)) == ("clean", 0)
    assert len(contents(after)) >= 12


def test_an_index_that_does_not_hold_is_given_up_and_every_name_stays(tmp_path: Path) -> None:
    many = tmp_path / "tree" / "many"
    many.mkdir(parents=True)
    for n in range(300):
        (many / f"a name that is long enough for a few blocks {n:04}").touch()
    raw = bytearray(hurt(tmp_path, options=("-b", "1024")))
    place = tmp_path / "own.img"
    subprocess.run(["e2fsck", "-fyD", str(place)], capture_output=True, check=False)  # it makes the index
    raw = bytearray(place.read_bytes())
    before = contents(bytes(raw))
    own = volume_of(raw)
    node = own.find("many")
    assert node is not None
    assert own.inode(node.id).flags & INDEXED
    put(raw, block_at(raw, "many") + 24 + 8 + 4, b"\xff\x0f\0\0")  # a block that the folder does not have
    assert theirs(bytes(raw), tmp_path)
    after, found = mended(bytes(raw))
    assert "unindexed" in {g.id for g in found.groups}
    assert theirs(after, tmp_path) == 0
    assert contents(after) == before


def test_entries_behind_a_table_that_is_not_known_are_left(tmp_path: Path) -> None:
    """The inodes are somewhere: an entry is not wrong for leading there."""
    raw = bytearray(hurt(tmp_path, options=("-b", "1024", "-O", "^metadata_csum,^uninit_bg")))
    own = volume_of(raw)
    for group in own.groups[:1]:
        put(raw, group.at + 8, bytes(4))
    found = repair_of(Memory(bytes(raw)), 0, WHOLE)
    assert "broken" not in {g.id for g in found.groups}


def test_nothing_is_written_before_the_journal(tmp_path: Path) -> None:
    """It would be carried out over whatever was repaired."""
    commands = ("set_inode_field box1/letter3 blocks 999", "feature needs_recovery")
    raw = hurt(tmp_path, *commands, options=PLAIN)
    assert repair_of(Memory(raw), 0, WHOLE, only=["sizes"]).groups == ()
    assert [g.id for g in repair_of(Memory(raw), 0, WHOLE).groups] == ["journal", "sizes"]


def test_one_byte_that_changed_is_found_by_its_sum() -> None:
    data = bytes(range(256)) * 4
    for place, bits in ((0, 1), (77, 0xFF), (1023, 0x80)):
        other = data[:place] + bytes((data[place] ^ bits,)) + data[place + 1 :]
        assert one_byte_off(other, crc32c(7, other), crc32c(7, data)) == [(place, bits)]
    assert one_byte_off(data, crc32c(7, data), crc32c(7, data)) == []


def test_entries_that_were_packed_are_parsed_again() -> None:
    entries = [FolderEntry(12, b".", 2), FolderEntry(2, b"..", 2), FolderEntry(13, b"letter", 1)]
    for tailed in (False, True):
        raw = packed(entries, 1024, tailed=tailed)
        assert raw is not None
        assert parsed(raw) == (entries, 1024)
    assert packed([FolderEntry(12, b"x" * 255, 1)] * 4, 1024, tailed=False) is None
