"""NTFS in memory: what the encoder wrote is read, checked, hurt in one place, found there, and repaired. Volumes of
other makers are judged in the lab."""

from __future__ import annotations

import random
from collections.abc import Callable, Mapping, Sequence
from functools import cache
from typing import Any

import numpy as np
import pytest

from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.disk.where import places_of
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.check import check
from gatecheck.core.volume.ntfs import record as rec
from gatecheck.core.volume.ntfs import write as out
from gatecheck.core.volume.ntfs.bulk import Folders
from gatecheck.core.volume.ntfs.check import NtfsCheck
from gatecheck.core.volume.ntfs.encode import CLUSTER, ntfs_volume
from gatecheck.core.volume.ntfs.read import Ntfs, read_boot
from gatecheck.core.volume.repair import repair_of
from memory_disk import Memory

SECTORS = 40_000
LONG = "many/0007 a long name so that the folder grows"
RNG = random.Random(5)
FILES: Mapping[str, bytes] = {
    **{f"Users/Choir/file {n} ä.txt": RNG.randbytes(RNG.choice([0, 10, 499, 501, 5000, 60_000])) for n in range(30)},
    **{f"many/{n:04d} a long name so that the folder grows": b"x" * (n * 9) for n in range(200)},
    "deep/er/est/note.txt": b"n",
}


@cache
def healthy(pieces: int = 3) -> bytes:
    raw = bytearray(SECTORS * 512)
    for at, data in ntfs_volume(FILES, sectors=SECTORS, label="GULLHAVEN", pieces=pieces).items():
        raw[at * 512 : at * 512 + len(data)] = data
    return bytes(raw)


def opened(raw: bytes, *gone: int) -> Ntfs:
    return Ntfs(Memory(raw, *gone), 0, SECTORS - 1)


def content(own: Ntfs) -> dict[str, bytes]:
    return {n.path: b"".join(p for p in own.content(n) if isinstance(p, bytes)) for n in own.nodes() if not n.is_folder}


@pytest.mark.parametrize("pieces", [1, 3, 7])
def test_what_was_written_is_read_and_nothing_is_found(pieces: int) -> None:
    own = opened(healthy(pieces))
    assert (own.label, own.kind) == ("GULLHAVEN", "NTFS")
    assert content(own) == FILES
    assert own.find("USERS/choir/FILE 3 Ä.txt") is not None
    assert own.find("users/none") is None
    found = check(Memory(healthy(pieces)), 0, SECTORS - 1)
    assert (found.state, found.findings, found.files) == ("clean", (), len(FILES))


def test_every_sector_of_a_file_is_told_to_be_its() -> None:
    own = opened(healthy())
    at = {run.at // 512: n.path for n in own.nodes() for run in own.runs(n) if run.at is not None and not n.is_folder}
    assert {p.lba: p.path for p in places_of(Memory(healthy()), list(at))} == at
    told = {
        p.lba: (p.structure.id, p.stakes) for p in places_of(Memory(healthy()), [0, 4 * 8, SECTORS - 1, SECTORS - 100])
    }
    assert told == {
        0: ("where.boot-sector", "boot"),
        32: ("where.ntfs-table", "catalogue"),
        SECTORS - 1: ("where.boot-sector-copy", "boot"),
        SECTORS - 100: ("where.free", "nothing"),
    }


class Hurt:
    """Places of the healthy volume."""

    def __init__(self) -> None:
        self.own = opened(healthy())

    def number(self, path: str) -> int:
        node = self.own.find(path)
        assert node is not None
        return node.id

    def record(self, path: str | int) -> int:
        return (self.own._runs[0][1] * CLUSTER) + (path if isinstance(path, int) else self.number(path)) * 1024

    def first(self, path: str, kind: int = rec.DATA, name: str = "") -> int:
        return next(a for a in self.own.record(self.number(path)).attributes if a.type == kind and a.name == name).runs[
            0
        ][1]

    def bit(self, cluster: int, value: int) -> tuple[int, bytes]:
        at = next(a for a in self.own.record(6).attributes if a.type == rec.DATA).runs[0][1] * CLUSTER + cluster // 8
        now = healthy()[at]
        return at, bytes([now | 1 << cluster % 8 if value else now & ~(1 << cluster % 8)])

    def changed(self, path: str | int, change: Callable[[bytes], bytes]) -> tuple[int, bytes]:
        """A record with its body changed, fixups and all."""
        at = self.record(path)
        return at, out.sealed(change(rec.fixed(healthy()[at : at + 1024], b"FILE", "record")))


BIG = next(path for path, data in FILES.items() if len(data) == 60_000)
OTHER = next(path for path, data in FILES.items() if len(data) == 60_000 and path != BIG)


def _data_runs(body: bytes, line: Sequence[tuple[int, int]], size: int = 60_000) -> bytes:
    return out.replaced(body, out.attribute_at(body, rec.DATA, ""), out.foreign(rec.DATA, "", line, 2, CLUSTER, size))


def _led_away(h: Hurt) -> list[tuple[int, bytes]]:
    """A folder's blocks, by its record, stand where a file's bytes do."""
    own = next(a for a in h.own.record(h.number("many")).attributes if a.type == rec.INDEX_ALLOCATION)
    count = sum(n for _, _, n in own.runs)
    return [
        h.changed(
            "many",
            lambda b: out.replaced(
                b,
                out.attribute_at(b, own.type, own.name),
                out.foreign(own.type, own.name, [(h.first(OTHER), count)], own.id, CLUSTER, own.sizes[1]),
            ),
        )
    ]


HURTS: dict[
    str, tuple[Callable[[Hurt], list[tuple[int, bytes]]], set[str], list[str], set[str]]
] = {  # writes, findings, groups, files that may be lost
    "record torn": (
        lambda h: [(h.record(LONG) + 510, b"\x99\x99")],
        {"record", "dangling"},
        ["records", "folders"],
        {LONG},
    ),
    "record gone": (
        lambda h: [(h.record(BIG), bytes(1024))],
        {"record", "dangling", "lost"},
        ["records", "folders", "map"],
        {BIG},
    ),
    "folder's record": (
        lambda h: [(h.record("many"), bytes(1024))],
        {"record", "dangling", "orphan", "lost", "more-alike"},
        ["records", "orphans", "map"],
        {p for p in FILES if p.startswith("many/")},
    ),
    "map, cleared": (lambda h: [h.bit(h.first(BIG), 0)], {"unmarked"}, ["map"], set()),
    "map, marked": (lambda h: [h.bit(h.own.clusters - 5, 1)], {"lost"}, ["map"], set()),
    "folder's block": (
        lambda h: [(h.first("many", rec.INDEX_ALLOCATION, "$I30") * CLUSTER + 4096, bytes(4096))],
        {"folder-broken"},
        ["folders"],
        set(),
    ),
    "folder's block torn": (
        lambda h: [(h.first("many", rec.INDEX_ALLOCATION, "$I30") * CLUSTER + 510, b"\x77\x77")],
        {"folder-broken"},
        ["folders"],
        set(),
    ),
    "boot sector": (lambda h: [(0, bytes(512))], {"first-structure"}, ["first-structure"], set()),
    "copy of it": (lambda h: [((SECTORS - 1) * 512, bytes(512))], {"boot-copy-differs"}, ["copies"], set()),
    "the mirror's place in the boot sector": (
        lambda h: [(56, h.first(OTHER).to_bytes(8, "little"))],
        {"boot-copy-differs", "mirror"},
        ["copies"],
        set(),
    ),
    "the mirror's place in both": (
        lambda h: [(at + 56, h.first(OTHER).to_bytes(8, "little")) for at in (0, (SECTORS - 1) * 512)],
        {"mirror"},
        ["asks"],
        set(),
    ),
    "the volume's end in the boot sector": (
        lambda h: [(40, (h.first(BIG) * CLUSTER // 512 + 16).to_bytes(8, "little"))],
        {"boot-copy-differs", "beyond", "map-unread", "folder-broken", "more-alike"},
        ["copies"],
        set(),
    ),
    "unsigned": (lambda h: [(510, b"\0\0")], {"boot-unsigned"}, ["copies"], set()),
    "mirror": (lambda h: [(h.own.boot.mirror * CLUSTER, bytes(1024))], {"mirror"}, ["copies"], set()),
    "first record": (
        lambda h: [(h.record(0), bytes(1024))],
        {"map-unread", "record", "dangling", "lost"},
        ["copies"],
        set(),
    ),
    "sequence": (lambda h: [(h.record(LONG) + 16, b"\x55\0")], {"sequence", "not-listed"}, ["folders"], set()),
    "flag": (lambda h: [(h.record(BIG) + 22, b"\0\0")], {"dangling", "record-map", "lost"}, ["revived"], set()),
    "links": (lambda h: [(h.record(BIG) + 18, b"\7\0")], {"link-count"}, ["links"], set()),
    "size": (
        lambda h: [h.changed(BIG, lambda b: _data_runs(b, [(h.first(BIG), 1)]))],
        {"size-differs", "lost"},
        ["map", "asks"],
        {BIG},
    ),
    "beyond": (
        lambda h: [h.changed(BIG, lambda b: _data_runs(b, [(h.own.clusters - 2, 15)]))],
        {"beyond", "lost", "unmarked"},
        ["map", "asks"],
        {BIG},
    ),
    "a folder led into a file": (
        _led_away,
        {"crossed", "folder-broken", "lost", "unmarked"},
        ["apart", "folders", "map"],
        set(),
    ),
    "shared": (
        lambda h: [h.changed(BIG, lambda b: _data_runs(b, [(h.first(OTHER), 5), (h.own.clusters - 40, 10)]))],
        {"crossed", "lost", "unmarked"},
        ["apart", "map"],
        {BIG},
    ),
}


@pytest.mark.parametrize("hurt", HURTS)
def test_hurt_in_one_place_it_is_found_there_and_repaired(hurt: str) -> None:
    make, ids, groups, lost = HURTS[hurt]
    disk = Overlay(Memory(healthy()), make(Hurt()))
    found = repair_of(disk, 0, SECTORS - 1)
    assert {f.id for f in found.now.findings} == ids
    assert [g.id for g in found.groups] == groups
    assert bool(found.left) is ("asks" in groups)
    after = Ntfs(Overlay(disk, [p for g in found.groups for p in g.pairs]), 0, SECTORS - 1)
    there = content(after)
    assert {path for path, data in FILES.items() if there.get(path) != data} <= lost
    if hurt == "folder's record":
        assert {d for p, d in FILES.items() if p in lost} <= {
            d for p, d in there.items() if p.startswith("Saved by Gate Check/")
        }


def test_the_runs_that_a_file_cut_to_nothing_left_behind_are_nobodys() -> None:
    """Its record says that nothing is allocated; the bytes of the runs still stand there, and another file has the
    clusters now."""
    hurt = Hurt()

    def cut(body: bytes) -> bytes:
        at = out.attribute_at(body, rec.DATA, "")
        raw = bytearray(body)
        raw[at + 24 : at + 32] = b"\xff" * 8  # the last VCN: none
        raw[at + 40 : at + 64] = bytes(24)
        first = int.from_bytes(raw[at + 32 : at + 34], "little")
        line = out.packed_runs([(hurt.first(OTHER), 4)])
        raw[at + first : at + first + len(line)] = line
        return bytes(raw)

    disk = Overlay(Memory(healthy()), [hurt.changed(BIG, cut)])
    found = check(disk, 0, SECTORS - 1)
    assert "crossed" not in {f.id for f in found.findings}
    after = Ntfs(disk, 0, SECTORS - 1)
    assert (content(after)[BIG], content(after)[OTHER]) == (b"", FILES[OTHER])


def test_files_are_found_though_their_folders_are_gone() -> None:
    hurt = Hurt()
    own = Ntfs(Overlay(Memory(healthy()), [(hurt.record("many"), bytes(1024))]), 0, SECTORS - 1)
    assert sum(n.path.startswith("?/") for n in own.nodes()) == 200


def test_what_cannot_be_read_is_named_with_its_file() -> None:
    hurt = Hurt()
    lba = hurt.first(BIG) * 8
    own = opened(healthy(), lba, lba + 1)
    node = own.find(BIG)
    assert node is not None
    pieces = list(own.content(node))
    assert [p.length for p in pieces if not isinstance(p, bytes)] == [1024]
    assert sum(len(p) if isinstance(p, bytes) else p.length for p in pieces) == 60_000
    record = hurt.record(LONG) // 512
    found = check(Memory(healthy(), record), 0, SECTORS - 1)
    assert ("unreadable", "file record") in {(f.id, f.where[:11]) for f in found.findings}


@pytest.mark.parametrize(("flag", "state", "ids"), [(False, "clean", []), (True, "dirty", ["dirty"])])
def test_a_volume_that_asks_to_be_checked(flag: bool, state: str, ids: list[str]) -> None:
    raw = bytearray(SECTORS * 512)
    for at, data in ntfs_volume({"a": b"x"}, sectors=SECTORS, dirty=flag).items():
        raw[at * 512 : at * 512 + len(data)] = data
    found = repair_of(Memory(bytes(raw)), 0, SECTORS - 1)
    assert (found.now.state, [f.id for f in found.now.findings], found.after.state) == (state, ids, "clean")


@pytest.mark.parametrize("head", [b"hibr", b"HIBR", b"wake"])
def test_a_sleeping_system_is_not_written_to(head: bytes) -> None:
    raw = bytearray(SECTORS * 512)
    for at, data in ntfs_volume({"hiberfil.sys": head + bytes(9000), "a": b"x"}, sectors=SECTORS, dirty=True).items():
        raw[at * 512 : at * 512 + len(data)] = data
    found = repair_of(Memory(bytes(raw)), 0, SECTORS - 1)
    assert "hibernated" in {f.id for f in found.now.findings}
    assert (found.groups, found.refused is not None) == ((), True)


@pytest.mark.parametrize(
    ("at", "data"),
    [(11, b"\0\0"), (13, b"\3"), (40, bytes(8)), (48, b"\xff" * 8), (64, b"\x7f"), (68, b"\0"), (3, b"FAT")],
)
def test_boot_sectors_that_cannot_be_worked_with(at: int, data: bytes) -> None:
    raw = bytearray(healthy()[:512])
    raw[at : at + len(data)] = data
    with pytest.raises(DecodeError):
        read_boot(bytes(raw))


def test_installed_systems_are_named_and_their_files_judged() -> None:
    version = (
        bytes.fromhex("bd04effe")
        + bytes(12)
        + (10 << 16).to_bytes(4, "little")
        + (22_631 << 16 | 4317).to_bytes(4, "little")
    )
    files = {
        "Windows/System32/ntoskrnl.exe": b"MZ" + bytes(120_000) + version + bytes(100),
        "Windows/System32/config/SYSTEM": b"regf" + bytes(9000),
        "Windows/System32/config/SOFTWARE": b"none" + bytes(9000),
        "Windows/System32/hal.dll": b"MZ" + bytes(2000),
        "Windows/System32/ntdll.dll": b"MZ" + bytes(20),
        "Windows/System32/winload.efi": b"MZ" + bytes(5000),
    }
    raw = bytearray(SECTORS * 512)
    for at, data in ntfs_volume(files, sectors=SECTORS).items():
        raw[at * 512 : at * 512 + len(data)] = data
    found = check(Memory(bytes(raw)), 0, SECTORS - 1)
    assert [(s.name, s.version) for s in found.systems] == [("Windows 11", "10.0.22631.4317")]
    assert {(f.id, f.where.rpartition("/")[2]) for f in found.findings} == {
        ("system-file-broken", "SOFTWARE"),
        ("system-file-small", "ntdll.dll"),
    }


@pytest.mark.parametrize("path", ["many", LONG, "deep/er"])
def test_what_hangs_on_an_unread_record_is_not_called_lost_or_gone(path: str) -> None:
    """A record that cannot be read is another thing than one that is not there."""
    lba = Hurt().record(path) // 512
    found = repair_of(Memory(healthy(), lba, lba + 1), 0, SECTORS - 1)
    assert {f.id for f in found.now.findings} == {"unreadable"}
    assert [g.id for g in found.groups] in ([], ["asks"])


def _none_taken(self: Folders, *_: Any) -> tuple[Any, Any, Any, list[int]]:
    wrong = sorted({*self.wrong, *(f.number for f in self.folders)})
    self.parts, self.spans, self.folders, self.length, self.wrong = [], [], [], 0, []
    none = np.zeros(0, np.int64)
    return none, none, none, wrong


@pytest.mark.parametrize("seed", range(6))
def test_reading_plain_records_in_one_go_says_what_reading_each_attribute_says(
    seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Bytes of the table hurt at random: with the quick way and without it the check comes to the same."""
    rng, own = random.Random(seed), opened(healthy())
    table = own._runs[0][1] * CLUSTER
    for _ in range(12):
        writes = [
            (
                table
                + rng.randrange(own.records) * 1024
                + rng.choice([rng.randrange(1024), rng.randrange(90), rng.randrange(50, 500)]),
                bytes([rng.randrange(256)]) * rng.choice([1, 2, 8]),
            )
            for _ in range(rng.choice([1, 1, 3]))
        ]
        disk = Overlay(Memory(healthy()), writes)
        quick = check(disk, 0, SECTORS - 1)
        with monkeypatch.context() as patched:
            patched.setattr(
                NtfsCheck,
                "_several",
                lambda self, first, raw, marked: [
                    self._one(first + n, raw[n * 1024 : (n + 1) * 1024], marked) for n in range(len(raw) // 1024)
                ],
            )
            patched.setattr(Folders, "taken", _none_taken)
            assert check(disk, 0, SECTORS - 1) == quick, writes


@pytest.mark.parametrize("sectors", [SECTORS + 4096, 1 << 40, (1 << 54) + 5])
@pytest.mark.parametrize("both", [False, True])
def test_a_volume_that_says_it_is_larger_than_its_partition_is_looked_at_in_time_and_written_to_within_it(
    sectors: int, both: bool
) -> None:
    hurt = Hurt()
    ends = [(at + 40, sectors.to_bytes(8, "little")) for at in ((0, (SECTORS - 1) * 512) if both else (0,))]
    disk = Overlay(Memory(healthy()), [*ends, (hurt.record(LONG) + 510, b"\x99\x99")])
    found = repair_of(disk, 0, SECTORS - 1)
    assert {"map-short", "record"} <= {f.id for f in found.now.findings}
    assert all(at >= 0 and at + len(data) <= SECTORS * 512 for g in found.groups for at, data in g.pairs)
    assert [g.id for g in found.groups] == ([] if both else ["copies", "records", "folders"])


def test_a_file_table_that_says_any_size_has_the_records_that_its_place_holds() -> None:
    hurt = Hurt()

    def larger(body: bytes) -> bytes:
        at = out.attribute_at(body, rec.DATA, "")
        return body[: at + 48] + (1 << 60).to_bytes(8, "little") + body[at + 56 :]

    found = check(Overlay(Memory(healthy()), [hurt.changed(0, larger)]), 0, SECTORS - 1)
    assert found.state == "damaged"
    own = Ntfs(Overlay(Memory(healthy()), [hurt.changed(0, larger)]), 0, SECTORS - 1)
    assert hurt.own.records <= own.records <= SECTORS // 2
    assert content(own) == FILES
