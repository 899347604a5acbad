"""Volumes of our own encoders hurt in one place: what is found, which group mends it, and that every file that was
right before is right after."""

from __future__ import annotations

import shutil
import struct
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.volume.check import check, opened
from gatecheck.core.volume.exfat.encode import exfat_volume
from gatecheck.core.volume.exfat.read import set_sum
from gatecheck.core.volume.ext.encode import BLOCK, ext_volume
from gatecheck.core.volume.fat.encode import fat_volume
from gatecheck.core.volume.fat.names import bad_letters, duplicate_names, sum_of
from gatecheck.core.volume.repair import repair_of
from gatecheck.core.volume.tree import whole_content
from memory_disk import Memory

SECTORS = 80_000
FILES = {
    **{f"home/gro/a rather long name of a picture {n:02d}.jpg": bytes([n]) * (3000 + 700 * n) for n in range(12)},
    "home/gro/none.txt": b"",
    "etc/hosts": b"127.0.0.1 localhost\n",
    "etc/large.bin": bytes(range(256)) * 300,
}
Hurt = Callable[[bytearray, Any], None]
PICTURE = "home/gro/a rather long name of a picture 05.jpg"


def volume_of(kind: str) -> bytearray:
    raw = bytearray(SECTORS * 512)
    for at, data in {"exfat": exfat_volume, "fat": fat_volume, "ext": ext_volume}[kind](FILES, sectors=SECTORS).items():
        raw[at * 512 : at * 512 + len(data)] = data
    return raw


def files(disk: Any) -> dict[str, bytes]:
    volume: Any = opened(disk, 0, SECTORS - 1).volume
    return {node.path: whole_content(volume, node, 1 << 20) for node in volume.nodes() if not node.is_folder}


PICTURE_OF_ENTRIES = (
    b"\xc0\xc1\x85\x02".ljust(32, b"\x9b") + b"\xc0" * 32 + b"\x85\x02".ljust(32, b"\x33")
) * 31 + b"\xff" * 24
"""bytes of a picture that look like parts of entries"""


def exfat_set(volume: Any, path: str = PICTURE) -> Any:
    return next(own for own, place in volume.walk() if place == path)


def fat_slot(volume: Any, path: str = PICTURE) -> Any:
    folder, _, name = path.rpartition("/")
    return next(s for s in volume.slots(volume.find(folder).id) if s.name == name and not s.deleted)


def put(at: Callable[[Any], int], data: bytes) -> Hurt:
    def hurt(raw: bytearray, volume: Any) -> None:
        raw[at(volume) : at(volume) + len(data)] = data

    return hurt


def crossed_exfat(raw: bytearray, volume: Any) -> None:
    """One picture's set leads to another's clusters, its sum with it."""
    one, other = exfat_set(volume), exfat_set(volume, "etc/large.bin")
    own = bytearray(one.raw)
    own[52:56], own[33] = other.cluster.to_bytes(4, "little"), own[33] | 2
    own[2:4] = set_sum(bytes(own)).to_bytes(2, "little")
    for n, at in enumerate(one.ats):
        raw[at : at + 32] = own[n * 32 : n * 32 + 32]


def led_away_exfat(raw: bytearray, volume: Any) -> None:
    """A folder that is full, and longer than it was, goes on in a picture."""
    folder, picture = exfat_set(volume, "home/gro"), exfat_set(volume)
    own = bytearray(folder.raw)
    own[33] &= ~2
    own[40:48] = own[56:64] = (2 * volume.cluster).to_bytes(8, "little")
    own[2:4] = set_sum(bytes(own)).to_bytes(2, "little")
    for n, at in enumerate(folder.ats):
        raw[at : at + 32] = own[n * 32 : n * 32 + 32]
    struct.pack_into("<I", raw, volume.fat_at + 4 * folder.cluster, picture.cluster)
    for at in range(volume.at(folder.cluster), volume.at(folder.cluster) + volume.cluster, 32):
        raw[at] = raw[at] or 5
    raw[volume.at(picture.cluster) : volume.at(picture.cluster) + 3000] = PICTURE_OF_ENTRIES


def unended_exfat(raw: bytearray, volume: Any) -> None:
    """The last cluster of a chain leads to a place that is none."""
    own = next(s for s, _ in volume.walk() if s.size > volume.cluster and not s.contiguous and not s.is_folder)
    last = volume.chain(own.cluster, own.size, contiguous=False)[-1]
    struct.pack_into("<I", raw, volume.fat_at + 4 * last, 0x0BADF00D)


EXFAT: dict[str, tuple[Hurt, str, str, tuple[str, ...]]] = {
    "a letter": (put(lambda v: exfat_set(v).ats[2] + 2, b"A\0"), "entry-broken", "sums", (PICTURE,)),
    "the sum alone": (put(lambda v: exfat_set(v).at + 2, b"\0\0"), "entry-broken", "sums", ()),
    "how many letters": (put(lambda v: exfat_set(v).ats[1] + 3, b"\x20"), "entry-broken", "sums", ()),
    "how many parts": (put(lambda v: exfat_set(v).at + 1, b"\0"), "entry-broken", "sums", ()),
    "a part not in use": (put(lambda v: exfat_set(v).ats[2], b"\x41"), "entry-broken", "sums", ()),
    "more bytes written than there are": (put(lambda v: exfat_set(v).ats[1] + 13, b"\1"), "size-differs", "sums", ()),
    "no second part": (put(lambda v: exfat_set(v).ats[1], b"\1"), "entry-broken", "broken", (PICTURE,)),
    "a first part out of use": (put(lambda v: exfat_set(v).at, b"\x05"), "entry-broken", "sums", ()),
    "an end in the middle": (put(lambda v: exfat_set(v).at, bytes(32)), "folder-ended", "ended", (PICTURE,)),
    "two files in one place": (crossed_exfat, "crossed", "apart", (PICTURE,)),
    "no end": (unended_exfat, "chain-broken", "chains", ()),
    "an empty file that begins somewhere": (
        put(lambda v: exfat_set(v, "home/gro/none.txt").ats[1] + 20, b"\xff"),
        "entry-broken",
        "sums",
        (),
    ),
    "a folder that is none": (put(lambda v: exfat_set(v).at + 4, b"\x30"), "entry-broken", "sums", ()),
    "a part of a kind that is none": (
        put(lambda v: exfat_set(v).ats[3], b"\xa9"),
        "entry-broken",
        "broken",
        (PICTURE,),
    ),
    "capitals": (put(lambda v: v.at(v.upcase[0]) + 200, b"\xff\xff\xff"), "capitals", "capitals", ()),
}


@pytest.mark.parametrize("name", EXFAT)
def test_exfat(name: str) -> None:
    hurt, found, group, given_up = EXFAT[name]
    mended("exfat", hurt, found, group, given_up)


def mended(kind: str, hurt: Hurt, found: str, group: str, given_up: tuple[str, ...]) -> Any:
    """Found, mended by that group among others, and nothing is left; all but what is given up reads as it did."""
    raw = volume_of(kind)
    hurt(raw, opened(Memory(bytes(raw)), 0, SECTORS - 1).volume)
    disk = Memory(bytes(raw))
    plan = repair_of(disk, 0, SECTORS - 1)
    assert found in {f.id for f in plan.now.findings}
    assert group in [g.id for g in plan.groups]
    assert plan.after.findings == ()
    after = Overlay(disk, [pair for g in plan.groups for pair in g.pairs])
    assert {path: data for path, data in files(after).items() if path in FILES and path not in given_up} == {
        path: data for path, data in FILES.items() if path not in given_up
    }
    return after


def test_clusters_that_are_marked_bad_are_not_lost() -> None:
    raw = volume_of("exfat")
    own: Any = opened(Memory(bytes(raw)), 0, SECTORS - 1).volume
    marked = own.bitmap()
    free = [n for n in range(own.clusters) if not marked[n]][-3:]
    where = own.at(own.bitmap_cluster)
    for n in free:
        raw[where + n // 8] |= 1 << n % 8
        struct.pack_into("<I", raw, own.fat_at + 4 * (n + 2), 0xFFFFFFF7)
    assert check(Memory(bytes(raw)), 0, SECTORS - 1).findings == ()
    plan = repair_of(Memory(bytes(raw)), 0, SECTORS - 1)
    assert plan.groups == ()


def test_what_a_broken_set_held_is_saved_as_a_piece() -> None:
    after = mended("exfat", *EXFAT["no second part"])
    assert any(
        path.startswith("SAVEDBIT.000/PIECE") and data[: len(FILES[PICTURE])] == FILES[PICTURE]
        for path, data in files(after).items()
    )


def test_what_stands_in_a_files_place_is_not_taken_for_entries_of_exfat() -> None:
    raw = volume_of("exfat")
    led_away_exfat(raw, opened(Memory(bytes(raw)), 0, SECTORS - 1).volume)
    disk = Memory(bytes(raw))
    plan = repair_of(disk, 0, SECTORS - 1)
    assert {"crossed", "entry-broken"} <= {f.id for f in plan.now.findings}
    after: Any = opened(Overlay(disk, [pair for g in plan.groups for pair in g.pairs]), 0, SECTORS - 1).volume
    wanted = {**FILES, PICTURE: PICTURE_OF_ENTRIES + FILES[PICTURE][3000:]}
    assert {path: whole_content(after, after.find(path), 1 << 20) for path in FILES} == wanted


def test_only_the_group_that_was_wanted_is_planned() -> None:
    raw = volume_of("exfat")
    EXFAT["no second part"][0](raw, opened(Memory(bytes(raw)), 0, SECTORS - 1).volume)
    plan = repair_of(Memory(bytes(raw)), 0, SECTORS - 1, only=["sums"])
    assert plan.groups == ()


# --- FAT


def emptied(raw: bytearray, volume: Any) -> None:
    """An empty file's entry leads into another file."""
    slot = fat_slot(volume, "home/gro/none.txt")
    struct.pack_into("<H", raw, slot.at + 26, fat_slot(volume, "etc/large.bin").cluster(volume.wide))


def early_end(raw: bytearray, volume: Any) -> None:
    """The list ends in the middle."""
    raw[fat_slot(volume).at] = 0


def entry_at(volume: Any, cluster: int, copy: int = 0) -> int:
    """Byte of a cluster's entry in a copy of the table."""
    own = volume.volume
    return int((own.reserved + copy * own.fat_sectors) * own.sector + cluster * volume.wide // 8)


def both_tables(raw: bytearray, volume: Any) -> None:
    """Each of the tables is hurt in a file that is right by the other one."""
    for copy, path in enumerate((PICTURE, "etc/large.bin")):
        at = entry_at(volume, fat_slot(volume, path).cluster(volume.wide), copy)
        raw[at : at + 2] = b"\0\0"


def led_away(copies: int) -> Hurt:
    """The chain of a folder that is full goes on in a file, by so many of the tables."""

    def hurt(raw: bytearray, volume: Any) -> None:
        last = volume.chain(volume.find("home/gro").id, 1000)[-1]
        for at in range(volume.at(last), volume.at(last) + volume.cluster, 32):
            raw[at] = raw[at] or 0xE5
        data = fat_slot(volume).cluster(volume.wide).to_bytes(volume.wide // 8, "little")
        for copy in range(copies):
            at = entry_at(volume, last, copy)
            raw[at : at + len(data)] = data

    return hurt


def first_entry(raw: bytearray, volume: Any) -> None:
    """The first entry of both tables holds the medium's byte and nothing behind it."""
    for copy in range(2):
        at = entry_at(volume, 0, copy)
        raw[at + 1 : at + volume.wide // 8] = bytes(volume.wide // 8 - 1)


FAT: dict[str, tuple[Hurt, str, str, tuple[str, ...]]] = {
    "nothing behind the medium's byte": (first_entry, "media-differs", "tables", ()),
    "both of a folder's links, deleted": (
        put(lambda v: v.at(v.find("etc").id), b"\xe5" + bytes(31) + b"\xe5" + bytes(31)),
        "folder-links",
        "links",
        (),
    ),
    "both of a folder's links, noise": (
        put(lambda v: v.at(v.find("home/gro").id), b"\1\2\3\xff" * 16),
        "folder-links",
        "links",
        (),
    ),
    "each table in a place of its own": (both_tables, "tables-differ", "tables", ()),
    "a folder that goes on in a file, by one table": (led_away(1), "tables-differ", "tables", ()),
    "a piece that says it is the last": (put(lambda v: fat_slot(v).long_at + 32, b"\x42"), "long-name", "names", ()),
    "an empty file that leads nowhere": (
        put(lambda v: fat_slot(v, "home/gro/none.txt").at + 26, b"\xf0\xff"),
        "chain-nowhere",
        "chains",
        (),
    ),
    "a piece's attributes": (put(lambda v: fat_slot(v).long_at + 11, b"\x1f"), "long-name", "names", ()),
    "a piece's number": (put(lambda v: fat_slot(v).long_at + 32, b"\x22"), "long-name", "names", ()),
    "a piece's sum": (put(lambda v: fat_slot(v).long_at + 32 + 13, b"\0"), "long-name", "names", (PICTURE,)),
    "the first piece without its mark": (put(lambda v: fat_slot(v).long_at, b"\3"), "long-name", "names", ()),
    "a letter of the short name": (put(lambda v: fat_slot(v).at + 8, b"X"), "long-name", "names", ()),
    "a field that is zero": (put(lambda v: fat_slot(v).long_at + 26, b"\7"), "long-name", "names", ()),
    "a control letter": (
        put(lambda v: fat_slot(v, "etc/hosts").at + 2, b"\3"),
        "entry-broken",
        "spelled",
        ("etc/hosts",),
    ),
    "a colon": (put(lambda v: fat_slot(v, "etc/hosts").at + 2, b":"), "name-broken", "spelled", ("etc/hosts",)),
    "attributes that mean nothing": (
        put(lambda v: fat_slot(v, "etc/hosts").at + 11, b"\xe0"),
        "entry-broken",
        "spelled",
        (),
    ),
    "an end in the middle": (early_end, "lost", "ended", (PICTURE,)),
    "a label in a folder": (
        put(lambda v: fat_slot(v, "etc/hosts").at + 11, b"\x08"),
        "entry-broken",
        "broken",
        ("etc/hosts",),
    ),
    "a folder's link to itself": (put(lambda v: v.at(v.find("etc").id), b"x"), "folder-links", "links", ()),
    "a folder's link to the one above": (
        put(lambda v: v.at(v.find("home/gro").id) + 33, b"x"),
        "folder-links",
        "links",
        (),
    ),
    "an empty file that leads into another": (emptied, "crossed", "chains", ()),
}


def test_what_stands_in_a_files_place_is_not_taken_for_entries() -> None:
    """By both tables a folder goes on in a file: whatever is mended, no byte of that file is."""
    raw = volume_of("fat")
    led_away(2)(raw, opened(Memory(bytes(raw)), 0, SECTORS - 1).volume)
    disk = Memory(bytes(raw))
    plan = repair_of(disk, 0, SECTORS - 1)
    assert {"crossed", "entry-broken"} <= {f.id for f in plan.now.findings}
    after: Any = opened(Overlay(disk, [pair for g in plan.groups for pair in g.pairs]), 0, SECTORS - 1).volume
    assert {path: whole_content(after, after.find(path), 1 << 20) for path in FILES} == FILES


@pytest.mark.parametrize(
    ("one", "other", "bare"),
    [
        ("etc/hosts", "etc/large.bin", False),
        ("etc/hosts", "etc/large.bin", True),
        (PICTURE, "home/gro/none.txt", False),
        ("home/gro/none.txt", PICTURE, False),
    ],
)
def test_of_two_with_one_short_name_both_are_there_and_a_long_name_stays(one: str, other: str, bare: bool) -> None:
    """`bare`: neither has a long name."""

    def twin(raw: bytearray, volume: Any) -> None:
        slots = fat_slot(volume, one), fat_slot(volume, other)
        for slot in slots:
            raw[slot.at : slot.at + 11] = slots[0].raw[:11]
            for piece in range(slot.long_at, slot.at, 32):
                raw[piece if bare else piece + 13] = 0xE5 if bare else sum_of(slots[0].raw[:11])

    after = files(mended("fat", twin, "name-twice", "twins", (one, other)))
    assert {FILES[one], FILES[other]} <= set(after.values())
    assert bare or {one, other} <= set(after)


def test_a_label_that_is_called_as_a_file_is_no_twin() -> None:
    raw = volume_of("fat")
    own: Any = opened(Memory(bytes(raw)), 0, SECTORS - 1).volume
    slot = fat_slot(own, "etc/hosts")
    raw[slot.at : slot.at + 12] = fat_slot(own, "etc/large.bin").raw[:11] + b"\x08"
    hurt: Any = opened(Memory(bytes(raw)), 0, SECTORS - 1).volume
    assert list(duplicate_names(hurt, hurt.find("etc").id)) == []


@pytest.mark.parametrize("name", FAT)
def test_fat(name: str) -> None:
    mended("fat", *FAT[name])


def test_a_root_that_leads_nowhere_by_one_table_is_taken_by_the_other() -> None:
    """FAT32: its root has a chain like others."""
    raw = bytearray(SECTORS * 512)
    for at, data in fat_volume(FILES, sectors=SECTORS, cluster_sectors=1).items():
        raw[at * 512 : at * 512 + len(data)] = data
    own: Any = opened(Memory(bytes(raw)), 0, SECTORS - 1).volume
    assert own.wide == 32
    struct.pack_into("<I", raw, own.volume.reserved * own.volume.sector + 4 * own.root, 0)
    plan = repair_of(Memory(bytes(raw)), 0, SECTORS - 1)
    assert [g.id for g in plan.groups] == ["tables"]
    assert plan.after.findings == ()


def test_a_fat32_of_few_clusters_is_one(tmp_path: Path) -> None:
    """As its boot sector says, and as systems take it."""
    if shutil.which("mkfs.fat") is None:
        pytest.skip("mkfs.fat is not here (Debian's dosfstools)")
    place = tmp_path / "small.img"
    subprocess.run(["mkfs.fat", "-F", "32", "-s", "8", "-C", str(place), "4096"], check=True, capture_output=True)
    found = check(Memory(place.read_bytes()), 0, 8191)
    assert (found.kind, found.state, found.findings) == ("FAT32", "clean", ())


# --- ext


def inode_at(volume: Any, path: str = PICTURE) -> int:
    return int(volume.groups[0].inode_table * BLOCK + (volume.find(path).id - 1) * volume.super.inode_size)


EXT: dict[str, tuple[Hurt, str]] = {
    "deleted and in use": (put(lambda v: inode_at(v) + 20, b"\1\2\3\4"), "deleted-noted"),
    "no kind": (put(lambda v: inode_at(v) + 1, b"\x30"), "inode"),
    "room that cannot be": (put(lambda v: inode_at(v) + 128, b"\x21"), "inode"),
    "locked without that ability": (put(lambda v: inode_at(v) + 33, b"\x08"), "inode"),
    "larger than a file can be": (put(lambda v: inode_at(v) + 108, b"\xff\xff\xff\x7f"), "size-differs"),
    "shorter than what it holds": (put(lambda v: inode_at(v, "etc/large.bin") + 4, b"\1\0\0\0"), "size-differs"),
    "what lies behind a map": (put(lambda v: v.groups[0].inode_map * BLOCK + BLOCK - 1, b"\x7f"), "map-padding"),
    "abilities without a meaning": (put(lambda v: 1024 + 98, b"\x80"), "features-unknown"),
    "a name with a nought": (put(lambda v: v.runs(v.find("etc"))[0].at + 24 + 9, b"\0"), "name-broken"),
}


@pytest.mark.parametrize("name", EXT)
def test_ext(name: str) -> None:
    hurt, found = EXT[name]
    raw = volume_of("ext")
    hurt(raw, opened(Memory(bytes(raw)), 0, SECTORS - 1).volume)
    assert found in {f.id for f in check(Memory(bytes(raw)), 0, SECTORS - 1).findings}


def test_what_was_not_read_of_an_exfat_folder_is_not_called_broken() -> None:
    raw = volume_of("exfat")
    at = exfat_set(opened(Memory(bytes(raw)), 0, SECTORS - 1).volume).at
    report = check(Memory(bytes(raw), at // 512), 0, SECTORS - 1)
    assert "unreadable" in {f.id for f in report.findings}
    assert [f for f in report.findings if f.id == "entry-broken" and f.where == "home/gro"] == []


@pytest.mark.parametrize(
    ("short", "bad"),
    [
        (b"\x83\\ABC   TXT", []),
        (b"\x83|ABC   TXT", []),
        (b"A\\BC    TXT", [1]),
        (b" ABC    TXT", [0]),
        (b"\x83:ABC   TXT", [1]),
        (b"LETTER  DOC", []),
    ],
)
def test_second_halves_of_letters_are_no_bad_ones(short: bytes, bad: list[int]) -> None:
    assert bad_letters(short) == bad
