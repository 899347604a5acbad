"""Records and folders by the thousand against one after the other: the same marks, the same runs, the same entries, and
nothing taken that is not plain."""

from __future__ import annotations

import random
from functools import cache
from typing import Any

import numpy as np
import pytest

from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.volume.check import check
from gatecheck.core.volume.ntfs import record as rec
from gatecheck.core.volume.ntfs.bulk import Folders, marks, name_mark, plain_records
from gatecheck.core.volume.ntfs.check import NtfsCheck
from gatecheck.core.volume.ntfs.encode import CLUSTER, ntfs_volume
from gatecheck.core.volume.ntfs.read import FIRST_USER, Ntfs
from gatecheck.core.volume.repair import repair_of
from memory_disk import Memory

SECTORS = 40_000


@cache
def full() -> bytes:
    """Six hundred files: some in pieces, one folder of three levels of blocks, letters beyond ASCII."""
    files = {
        f"many/number {n:04d} {'ÅÄöß'[n % 4]}{'long ' * (n % 9)}.txt": bytes([n % 250]) * (n % 3 * 1500)
        for n in range(500)
    }
    files |= {f"deep/{'er/' * (n % 6)}{n}.bin": b"x" * (700 * n) for n in range(100)}
    raw = bytearray(SECTORS * 512)
    for at, data in ntfs_volume(files, sectors=SECTORS, pieces=3).items():
        raw[at * 512 : at * 512 + len(data)] = data
    return bytes(raw)


def opened() -> Ntfs:
    return Ntfs(Memory(full()), 0, SECTORS - 1)


@pytest.mark.parametrize("name", ["", "a", "A", "Readme.txt", "Ωλ 𝄞", "x" * 255, "\ud800"])
@pytest.mark.parametrize("space", range(4))
def test_a_name_has_one_mark_however_it_is_read(name: str, space: int) -> None:
    raw = name.encode("utf-16-le", "surrogatepass")
    units = np.frombuffer(b"\7\0" * 3 + raw + bytes(8), np.uint16)
    told = marks(units, np.array([3]), np.array([len(raw) // 2]), np.array([space]))
    assert told.tolist() == [name_mark(raw, space)]
    assert 0 <= told[0] < 1 << 63


def test_names_differ_by_a_letter_a_length_or_their_space() -> None:
    names = [("ab", 0), ("ba", 0), ("ab", 1), ("a", 0), ("ab\0", 0), ("", 0), ("aB", 0)]
    assert len({name_mark(n.encode("utf-16-le"), s) for n, s in names}) == len(names)


def test_plain_records_are_what_each_record_says() -> None:
    own = opened()
    raws = [(number, raw) for number, raw in own.raw_records() if raw is not None]
    found = plain_records(
        b"".join(raw for _, raw in raws), 1024, CLUSTER, np.array([number >= FIRST_USER for number, _ in raws])
    )
    assert found.plain.sum() > 500
    for row in np.flatnonzero(found.plain).tolist():
        record = rec.parse_record(raws[row][1], raws[row][0])
        assert (record.in_use, record.is_folder, record.sequence) == (
            True,
            bool(found.is_folder[row]),
            int(found.sequence[row]),
        )
        names = [rec.file_name(a.value) for a in record.attributes if a.type == rec.NAME]
        mine = found.name_row == row
        assert list(zip(found.parent[mine].tolist(), found.mark[mine].tolist(), strict=True)) == [
            (n.parent, name_mark(n.raw, n.space)) for n in names
        ]
        runs = [(lcn, count) for a in record.attributes for _, lcn, count in a.runs if lcn >= 0]
        mine = found.claim_row == row
        assert list(zip(found.lcn[mine].tolist(), found.count[mine].tolist(), strict=True)) == runs


def test_folders_taken_together_are_what_each_index_says() -> None:
    own = opened()
    checked = NtfsCheck(own, lambda found: None, lambda *told: None)
    checked.whole()
    folders = [*checked.parents.numbers().tolist(), 5]
    parts = list(checked._entries(folders, lambda found: None))
    parent, number, mark = (np.concatenate([part[n] for part in parts]).tolist() for n in range(3))
    expected = []
    for folder in {*folders}:
        for entry in own.index(own.record(folder)):
            name = rec.file_name(entry.key)
            if entry.record != 5:
                expected.append((name.parent, entry.record, name_mark(name.raw, name.space)))
    assert sorted(zip(parent, number, mark, strict=True)) == sorted(expected)


BROKEN: dict[str, tuple[int, bytes]] = {
    "another-magic": (0, b"BAAD"),
    "torn": (510, b"\xaa\xaa"),
    "not-in-use": (22, b"\0\0"),
    "part-of-another": (32, b"\x40"),
    "links": (18, b"\7\0"),
    "attributes-outside": (20, b"\xfc\3"),
    "fixups-odd": (4, b"\x31\0"),
    "larger-than-itself": (24, b"\xff\xff\0\0"),
}


@pytest.mark.parametrize(("at", "data"), BROKEN.values(), ids=BROKEN)
def test_a_record_that_is_not_plain_is_left_alone(at: int, data: bytes) -> None:
    raw = next(
        bytearray(raw) for number, raw in opened().raw_records() if number == FIRST_USER + 40 and raw is not None
    )
    good = bytes(raw)
    raw[at : at + len(data)] = data
    found = plain_records(good + bytes(raw) + good, 1024, CLUSTER, np.ones(3, bool))
    assert found.plain.tolist() == [True, False, True]
    assert not (found.name_row == 1).any()
    assert not (found.claim_row == 1).any()


def _one_by_one(patched: Any) -> None:
    patched.setattr(
        NtfsCheck,
        "_several",
        lambda self, first, raw, marked: [
            self._one(first + n, raw[n * 1024 : (n + 1) * 1024], marked) for n in range(len(raw) // 1024)
        ],
    )

    def none_taken(self: Folders, *_: Any) -> tuple[Any, Any, Any, list[int]]:
        wrong = sorted({*self.wrong, *(f.number for f in self.folders)})
        self._anew()
        return np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros(0, np.int64), wrong

    patched.setattr(Folders, "taken", none_taken)


@pytest.mark.parametrize("seed", range(8))
def test_hurt_anywhere_both_ways_say_the_same(seed: int, monkeypatch: pytest.MonkeyPatch) -> None:
    """Bytes of records and of folders' blocks hurt at random."""
    rng, own = random.Random(seed), opened()
    blocks = [
        lcn * CLUSTER
        for number in range(FIRST_USER, own.records)
        for a in own.record(number).attributes
        if a.type == rec.INDEX_ALLOCATION
        for _, lcn, _ in a.runs
    ]
    table = own._runs[0][1] * CLUSTER
    for _ in range(8):
        place = rng.choice(
            [
                table
                + rng.randrange(own.records) * 1024
                + rng.choice([rng.randrange(1024), rng.randrange(90), rng.randrange(50, 500)]),
                rng.choice(blocks) + rng.choice([rng.randrange(4096), rng.randrange(24, 260)]),
            ]
        )
        disk = Overlay(Memory(full()), [(place, bytes([rng.randrange(256)]) * rng.choice([1, 2, 8]))])
        quick = check(disk, 0, SECTORS - 1)
        with monkeypatch.context() as patched:
            _one_by_one(patched)
            assert check(disk, 0, SECTORS - 1) == quick, place


TORN = {
    "blocks-of-many-megabytes": lambda at: (at + 8, (1 << 27).to_bytes(4, "little")),
    "blocks-of-no-size": lambda at: (at + 8, (777).to_bytes(4, "little")),
}


@pytest.mark.parametrize("what", TORN.values(), ids=TORN)
@pytest.mark.parametrize("path", ["many", "deep"])
def test_a_repair_of_a_folder_whose_root_is_hurt_ends_in_a_plan_or_leaves_it(path: str, what: Any) -> None:
    own = opened()
    number = own.find(path).id  # type: ignore[union-attr]
    raw = next(raw for n, raw in own.raw_records() if n == number and raw is not None)
    record = own.record(number)
    root = next(a for a in record.attributes if a.type == rec.INDEX_ROOT)
    at = own._runs[0][1] * CLUSTER + number * 1024 + raw.index(root.value[:16])
    place, data = what(at)
    names = [n for n, r in own.raw_records() if r is not None and r[:4] == b"FILE" and n > FIRST_USER][:1]
    writes = [(place, data), (own._runs[0][1] * CLUSTER + names[0] * 1024 + 22, b"\0")]
    found = repair_of(Overlay(Memory(full()), writes), 0, SECTORS - 1)
    assert found.now.state in ("damaged", "dirty", "clean")


def test_a_name_that_ends_in_half_a_letter_is_sorted_by_the_whole_ones() -> None:
    checked = NtfsCheck(opened(), lambda found: None, lambda *told: None)
    assert checked._collated("aé".encode("utf-16-le") + b"\x41") == "AÉ"


def test_a_table_of_capitals_that_says_it_is_endless_is_not_read() -> None:
    own = opened()
    raw = next(raw for n, raw in own.raw_records() if n == 10 and raw is not None)
    data = next(a for a in own.record(10).attributes if a.type == rec.DATA)
    at = (
        own._runs[0][1] * CLUSTER
        + 10 * 1024
        + raw.index(data.sizes[0].to_bytes(8, "little") + data.sizes[1].to_bytes(8, "little"))
    )
    endless = (1 << 60).to_bytes(8, "little")
    found = check(Overlay(Memory(full()), [(at, endless * 3)]), 0, SECTORS - 1)
    assert "size-differs" in {f.id for f in found.findings}
