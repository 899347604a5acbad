"""A look at a volume of which nothing was read yet: what it asks for turn by turn, what is the customer's, what it says
to the tape."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import pytest

from gatecheck.adapters.shipped_tables import people_rules, shipped_model, shipped_words
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.disk.sectors import NOT_CAPTURED, UNREADABLE, Sectors, Span
from gatecheck.core.volume.check import Report
from gatecheck.core.volume.evidence import volume_says
from gatecheck.core.volume.gather import CELLS, RecordingSectors, look, merge_close
from gatecheck.core.volume.ntfs.encode import ntfs_volume
from gatecheck.core.volume.people import people_of
from gatecheck.core.volume.tree import DAMAGE, Node, System, VolumeFinding
from gatecheck.practice.volumes import (
    card_cross_linked,
    opened,
    people_files,
    pulled_card,
    system_files,
    torn_volume,
)
from memory_disk import Memory

SECTORS = 60_000
FILES: Mapping[str, bytes] = {**system_files(), **people_files("Ylva", pictures=6)}


class Lazy:
    """A disk of which only what was asked for, and fetched, is known; some of it does not read."""

    def __init__(self, content: Mapping[int, bytes], bad: Sequence[int] = ()) -> None:
        self.raw = bytearray(SECTORS * 512)
        for at, data in content.items():
            self.raw[at * 512 : at * 512 + len(data)] = data
        self.known: set[int] = set()
        self.bad, self.sector, self.length = frozenset(bad), 512, SECTORS

    def fetch(self, runs: Sequence[tuple[int, int]]) -> int:
        before = len(self.known)
        self.known |= {lba for first, count in runs for lba in range(first, min(first + count, SECTORS))}
        return len(self.known) - before

    def read(self, lba: int, count: int) -> Span:
        missing = {
            n: NOT_CAPTURED if n not in self.known else UNREADABLE
            for n in range(lba, lba + count)
            if n not in self.known or n in self.bad
        }
        data = bytearray(self.raw[lba * 512 : (lba + count) * 512].ljust(count * 512, b"\0"))
        for n in missing:
            data[(n - lba) * 512 : (n - lba + 1) * 512] = bytes(512)
        return Span(lba, 512, bytes(data), missing)


def looked(disk: Lazy) -> tuple[object, int]:
    """(what it came to, turns)."""
    for turn in range(40):
        found = look(disk, 0, SECTORS - 1, people_rules())
        if not found.wanted:
            return found, turn
        assert found.report is None
        assert disk.fetch(found.wanted), "asked for what is known"
    raise AssertionError("it never stands")


def test_a_look_asks_for_what_it_lacks_and_for_little_more() -> None:
    disk = Lazy(ntfs_volume(FILES, sectors=SECTORS, label="SYSTEM"))
    found, turns = looked(disk)
    assert turns < 12
    assert found.report.state == "clean"  # type: ignore[attr-defined]
    assert found.repair is None  # type: ignore[attr-defined]
    assert len(found.fill) == CELLS  # type: ignore[attr-defined]
    assert 0 < max(found.fill) <= 1  # type: ignore[attr-defined]
    own = opened(ntfs_volume(FILES, sectors=SECTORS), SECTORS)
    film = own.find("Users/Ylva/Videos/swallows in the barn.mp4")
    assert film is not None
    middle = (own.runs(film)[0].at or 0) // 512 + 900
    assert not disk.known & set(range(middle, middle + 600))  # the files themselves are left alone


def test_it_says_the_same_as_a_look_at_the_whole() -> None:
    content = torn_volume(SECTORS, "Ylva")
    lazy, whole = Lazy(content), Lazy(content)
    whole.fetch([(0, SECTORS)])
    found, _ = looked(lazy)
    once = look(whole, 0, SECTORS - 1, people_rules())
    assert found == once
    assert [g.id for g in once.repair.groups] == ["copies", "records", "orphans", "folders", "map", "counts"]  # type: ignore[union-attr]
    after = look(Overlay(whole, [p for g in once.repair.groups for p in g.pairs]), 0, SECTORS - 1, people_rules())  # type: ignore[union-attr]
    assert after.report.state == "clean"  # type: ignore[union-attr]


def test_what_does_not_read_is_not_asked_for_again() -> None:
    content = ntfs_volume(FILES, sectors=SECTORS)
    table = opened(content, SECTORS)._runs[0][1] * 8
    found, _ = looked(Lazy(content, bad=[table + 2 * 30, table + 2 * 30 + 1]))
    assert (found.report.findings[0].id, found.report.state) == ("unreadable", "damaged")  # type: ignore[attr-defined]


def test_what_is_near_is_read_along() -> None:
    assert merge_close([(0, 2), (5, 3), (200, 1)], 10) == [(0, 8), (200, 1)]
    asked = RecordingSectors(Lazy({}))
    asked.read(10, 3)
    asked.read(500, 1)
    assert asked.missing_runs() == [(10, 3), (500, 1)] if asked.sector * 400 > 64 << 10 else [(10, 491)]


def node(path: str, size: int = 10, *, folder: bool = False) -> Node:
    return Node(hash(path) & 0xFFFF, path, folder, 0 if folder else size)


CASES: dict[str, tuple[list[Node], list[tuple[str, str, int]]]] = {
    "a profile by its own file": (
        [node("Users/mira/NTUSER.DAT"), node("Users/mira/Documents/a.docx"), node("Windows/notepad.exe")],
        [("Users/mira", "home", 2)],
    ),
    "a home by two known folders": (
        [
            node("home/ove/Bilder", folder=True),
            node("home/ove/Dokumente", folder=True),
            node("home/ove/Bilder/x/y/z.jpg"),
        ],
        [("home/ove", "home", 1)],
    ),
    "one known folder is not enough": (
        [node("stuff/Music", folder=True), node("stuff/Music/a.mp3")],
        [("stuff", "folder", 1)],
    ),
    "what every new person gets": (
        [node("Users/Default/NTUSER.DAT"), node("Users/eli/NTUSER.DAT")],
        [("Users/eli", "home", 1), ("Users", "folder", 1)],
    ),
    "the system's own": (
        [node("Windows/System32/config/systemprofile/NTUSER.DAT"), node("Program Files/a/b.dll"), node("pagefile.sys")],
        [],
    ),
    "loose and without a folder": ([node("note.txt"), node("?/photo.jpg")], [("?", "orphans", 1), ("", "loose", 1)]),
    "an old system's folders": (
        [node("Documents and Settings/Ada/NTUSER.DAT"), node("Documents and Settings/Ada/My Documents/a.doc")],
        [("Documents and Settings/Ada", "home", 2)],
    ),
    "folders beside the homes": (
        [node("Photos 1998/a.jpg"), node("Photos 1998/b/c.JPG")],
        [("Photos 1998", "folder", 2)],
    ),
}


@pytest.mark.parametrize("name", CASES)
def test_what_is_the_customers_is_found_by_what_is_in_it(name: str) -> None:
    nodes, wanted = CASES[name]
    assert [(s.path, s.kind, s.files) for s in people_of(nodes, people_rules())] == wanted


def test_files_are_told_by_what_they_are() -> None:
    (share,) = people_of(
        [node("x/a.JPG"), node("x/b.pst"), node("x/c"), node("x/d.jpeg"), node("x/.hidden")], people_rules()
    )
    assert share.kinds == {"pictures": 2, "other": 2, "mail": 1}


def report(state: str, *found: VolumeFinding, systems: tuple[System, ...] = ()) -> Report:
    return Report("NTFS", "ANNA", state, 1, 1, 1, found, systems, 0, 0)


@pytest.mark.parametrize("state", ["clean", "dirty", "damaged", "locked", "unreadable"])
def test_what_a_look_says_to_the_tape_names_no_file(state: str) -> None:
    said = volume_says(
        shipped_model().knowledge.findings,
        report(state, VolumeFinding("dangling", DAMAGE, "Users/Anna/secret.txt")),
        is_main=True,
    )
    assert said is not None
    assert max(said["weights"], key=said["weights"].get) == state
    text = shipped_words().say(said["note"])
    assert "NTFS" in text
    assert "Anna" not in text
    assert "ANNA" not in text


def test_a_volume_that_keeps_nothing_from_starting_says_nothing() -> None:
    rules = shipped_model().knowledge.findings
    assert volume_says(rules, report("damaged"), is_main=False) is None
    assert volume_says(rules, report("damaged", systems=(System("Linux", "12", "/"),)), is_main=False) is not None
    assert volume_says(rules, report("unreadable", VolumeFinding("no-reader", "sign", "Btrfs")), is_main=True) is None


def test_lazy_is_a_disk() -> None:
    disk: Sectors = Lazy({})
    assert disk.length == SECTORS


LOSSLESS = [
    pytest.param(lambda n: torn_volume(n, "Ylva"), SECTORS, {"records"}, {"copies", "orphans", "folders"}, id="ntfs"),
    pytest.param(pulled_card, 200_000, {"broken"}, {"boot-copy", "sums", "lost"}, id="exfat"),
    pytest.param(card_cross_linked, 200_000, {"chains"}, {"apart", "lost"}, id="fat"),
]


@pytest.mark.parametrize(("made", "sectors", "loses", "lossless"), LOSSLESS)
def test_what_loses_something_is_said_and_what_builds_on_it_is_not_offered_without(
    made: Callable[[int], Mapping[int, bytes]], sectors: int, loses: set[str], lossless: set[str]
) -> None:
    raw = bytearray(sectors * 512)
    for at, data in made(sectors).items():
        raw[at * 512 : at * 512 + len(data)] = data
    found = look(Memory(bytes(raw)), 0, sectors - 1, people_rules())
    assert found.repair is not None
    assert {g.id for g in found.repair.groups if g.loses} == loses
    assert found.lossless == lossless
