"""What is saved is whole, or is said not to be: names that collide, files that claim one place, files that cannot be
written, and the folder read back."""

from __future__ import annotations

import csv
import errno
import hashlib
import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pytest
from test_hurt import crossed_exfat, volume_of

from gatecheck.adapters import file_rescue
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.check import opened
from gatecheck.core.volume.ext.encode import ext_volume
from gatecheck.core.volume.fat.encode import fat_volume
from gatecheck.core.volume.names import bytes_of_name, name_of_bytes, name_of_utf16
from gatecheck.core.volume.ntfs.encode import ntfs_volume
from gatecheck.core.volume.tree import HOLES, LOST, WHOLE, Hole, Node, Run
from memory_disk import Memory


@dataclass
class Made:
    """A volume of such files: (id, path, bytes). `runs_of`: where each lies; `breaks`: ids whose reading ends in this
    error."""

    files: Sequence[tuple[int, str, bytes]]
    folders: Sequence[str] = ()
    kind: str = "ext"
    label: str = ""
    size: int = 1 << 30
    breaks: dict[int, Exception] = field(default_factory=dict)

    def nodes(self, *, deleted: bool = False) -> Iterator[Node]:
        if not deleted:
            yield from (Node(9000 + n, path, True, 0) for n, path in enumerate(self.folders))
            yield from (Node(number, path, False, len(data)) for number, path, data in self.files)

    def _data(self, node: Node) -> bytes:
        return next(data for number, path, data in self.files if (number, path) == (node.id, node.path))

    def content(self, node: Node) -> Iterator[bytes | Hole]:
        if node.id in self.breaks:
            raise self.breaks[node.id]
        yield self._data(node)

    def shape(self, node: Node) -> str:
        return WHOLE

    def runs(self, node: Node) -> Sequence[Run]:
        return [Run(node.id << 20, node.size)] if node.size and not node.is_folder else []


def saved(volume: Any, folder: Path) -> tuple[dict[str, Any], list[dict[str, str]], dict[str, bytes]]:
    """The summary, the rows of the manifest, and what lies in the folder, which is what the rows say."""
    told = file_rescue.copy(volume, folder)
    rows = list(csv.DictReader((folder / "manifest.csv").read_text("utf-8").splitlines()))
    lists = {"manifest.csv", "holes.csv", "renamed.csv", "links.csv"}
    there = {
        p.relative_to(folder).as_posix(): p.read_bytes()
        for p in folder.rglob("*")
        if p.is_file() and p.name not in lists
    }
    in_rows = {r["path"]: r for r in rows if r["state"] != LOST}
    assert len({r["path"] for r in rows}) == len(rows)
    assert set(there) == set(in_rows), "what is counted is what lies there"
    assert all(hashlib.sha256(there[path]).hexdigest() == row["sha256"] for path, row in in_rows.items())
    assert told["files"] == len(rows)
    return told, rows, there


NAMES = {
    "three names in Latin-1": [
        (n, name_of_bytes(raw), bytes([n])) for n, raw in enumerate((b"caf\xe9.txt", b"caf\xe8.txt", b"caf\xea.txt"), 1)
    ],
    "a thousand equal names": [(n, "note.txt", b"%d" % n) for n in range(1000)],
    "control characters": [(1, "a\x01b", b"1"), (2, "a\x02b", b"2"), (3, "a_b", b"3"), (4, "a\\x01b", b"4")],
    "a file and a folder": [(1, "home", b"1"), (2, "home/x", b"2")],
    "no name": [(1, "", b"1"), (2, "home/", b"2"), (3, "(no name)", b"3")],
    "half a letter": [
        (1, name_of_utf16(b"\x3d\xd8a\0"), b"1"),
        (2, name_of_utf16(b"\x3e\xd8a\0"), b"2"),
        (3, "\ud83d", b"3"),
    ],
    "a path beyond any limit": [
        (1, "/".join(["d" * 200] * 60) + "/x", b"1"),
        (2, "/".join(["d" * 200] * 60) + "/y", b"2"),
        (3, "x", b"3"),
    ],
    "long names alike": [(n, "n" * 400 + f"{n}.jpg", b"%d" % n) for n in range(3)],
    "dots": [(1, "..", b"1"), (2, "../../etc/passwd", b"2"), (3, ".", b"3"), (4, "a/./b", b"4")],
    "our own lists": [
        (1, "manifest.csv", b"1"),
        (2, "holes.csv", b"2"),
        (3, "what was saved.txt", b"3"),
        (4, "deleted files", b"4"),
        (5, "manifest.csv (of the volume)", b"5"),
    ],
    "one number twice": [(0, "a", b"1"), (0, "a", b"1")],
}


@pytest.mark.parametrize("name", NAMES)
def test_every_file_is_a_file_and_a_row(name: str, tmp_path: Path) -> None:
    files = NAMES[name]
    made = Made(files, folders=["home"] if any(p.startswith("home/") for _, p, _ in files) else [])
    told, _, there = saved(made, tmp_path / "out")
    assert told["whole"] == len(files)
    assert sorted(there.values()) == sorted(data for _, _, data in files)
    assert not [p for p in tmp_path.iterdir() if p.name != "out"], "nothing lies beside it"
    assert saved(made, tmp_path / "out")[2] == there, "gone on with it is the same"


@pytest.mark.parametrize(
    "raw",
    [
        b"plain",
        b"caf\xe9",
        b"\xff\xfe",
        "köln".encode(),
        b"a\\xe9",
        b"\\",
        b"a\\x5cb\xe9",
        bytes(range(1, 47)) + bytes(range(48, 256)),
    ],
)
def test_names_in_bytes_come_back(raw: bytes) -> None:
    text = name_of_bytes(raw)
    text.encode()
    assert "/" not in text
    if raw != b"\\":
        assert bytes_of_name(text) == raw


def test_a_name_that_is_told_by_an_escape_is_in_the_list(tmp_path: Path) -> None:
    saved(Made([(7, name_of_bytes(b"caf\xe9"), b"x"), (8, "plain", b"y")]), tmp_path / "out")
    rows = list(csv.DictReader((tmp_path / "out/renamed.csv").read_text("utf-8").splitlines()))
    assert [(r["path"], r["node"]) for r in rows] == [("caf\\xe9", "7")]


@pytest.mark.parametrize(
    "error",
    [
        OSError(errno.ENAMETOOLONG, "File name too long"),
        OSError(errno.EILSEQ, "Invalid"),
        RuntimeError("odd"),
        DecodeError("x", at=0, expected="y", got="z"),
    ],
)
def test_one_that_cannot_be_copied_takes_no_other_away(error: Exception, tmp_path: Path) -> None:
    told, rows, there = saved(
        Made([(1, "a", b"1"), (2, "b", b"2"), (3, "c", b"3")], breaks={2: error}), tmp_path / "out"
    )
    assert (told["whole"], told["lost"], there) == (2, 1, {"a": b"1", "c": b"3"})
    assert next(r["state"] for r in rows if r["path"] == "b") == LOST


def test_a_full_folder_ends_it_and_says_so(tmp_path: Path) -> None:
    with pytest.raises(file_rescue.InputError, match="No space left"):
        file_rescue.copy(
            Made([(1, "a", b"1")], breaks={1: OSError(errno.ENOSPC, "No space left on device")}), tmp_path / "out"
        )


def test_what_was_copied_and_is_gone_is_not_counted(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    own = file_rescue.Rescue(Made([(1, "a", b"1"), (2, "b", b"2")]), tmp_path / "out")
    own.begin()
    own.take(own.left)
    (tmp_path / "out/a").unlink()
    assert {r["path"]: r["state"] for r in own.finish()} == {"a": LOST, "b": WHOLE}
    assert "is no longer in the folder" in (tmp_path / "out/holes.csv").read_text()


def test_a_folder_that_gives_back_other_bytes_is_found(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(file_rescue, "_sum_read_back", lambda place: "0" * 64)
    with pytest.raises(file_rescue.InputError, match="gave back other bytes"):
        file_rescue.copy(Made([(1, "a", b"1")]), tmp_path / "out")


# --- two files in one place ----------------------------------------------------------------------------------------

ONE, OTHER = "etc/large.bin", "home/gro/a rather long name of a picture 05.jpg"
_PAIR = {"A.BIN": b"\xaa" * 20_000, "B.BIN": b"\xbb" * 20_000, "C.BIN": b"\xcc" * 9_000}


def _image(kind: str) -> tuple[bytearray, int]:
    sectors = 80_000
    raw = bytearray(sectors * 512)
    made = {"fat": fat_volume, "ext": ext_volume, "ntfs": ntfs_volume}[kind](_PAIR, sectors=sectors)
    for at, data in made.items():
        raw[at * 512 : at * 512 + len(data)] = data
    return raw, sectors


def _led(kind: str, raw: bytearray, volume: Any, skip: int) -> None:
    """B leads to where A lies, or into the middle of it."""
    one, other = volume.find("A.BIN"), volume.find("B.BIN")
    if kind == "fat":
        slot = next(s for s in volume.slots(0) if s.name == "B.BIN")
        raw[slot.at + 26 : slot.at + 28] = (one.id + skip & 0xFFFF).to_bytes(2, "little")
        raw[slot.at + 20 : slot.at + 22] = (one.id + skip >> 16).to_bytes(2, "little")
        return
    unit = volume.block if kind == "ext" else volume.cluster
    mine, its = (volume.runs(node)[0].at // unit for node in (other, one))
    wide = 4 if kind == "ext" else 2
    record = 0
    if kind == "ntfs":
        record = volume.mft_at(other.id) if hasattr(volume, "mft_at") else raw.index(b"B\0.\0B\0I\0N\0")
    at = raw.index(mine.to_bytes(wide, "little"), record)
    raw[at : at + wide] = (its + skip).to_bytes(wide, "little")


@pytest.mark.parametrize("skip", [0, 1])
@pytest.mark.parametrize("kind", ["fat", "ext", "ntfs"])
def test_of_two_files_in_one_place_none_is_called_whole(kind: str, skip: int, tmp_path: Path) -> None:
    raw, sectors = _image(kind)
    disk = Memory(bytes(raw))
    _led(kind, raw, opened(disk, 0, sectors - 1).volume, skip)
    volume = opened(Memory(bytes(raw)), 0, sectors - 1).volume
    assert volume is not None
    states = {i.node.path: i.state for i in file_rescue.listed(volume, deleted=False) if not i.node.is_folder}
    assert (states["A.BIN"], states["C.BIN"]) == (HOLES, WHOLE)
    assert states["B.BIN"] in (HOLES, LOST)
    told, rows, _ = saved(volume, tmp_path / "out")
    assert told["whole"] == len([s for s in states.values() if s == WHOLE])
    assert {r["path"] for r in rows if r["state"] == WHOLE}.isdisjoint({"A.BIN", "B.BIN"})
    assert "another file claims it too" in (tmp_path / "out/holes.csv").read_text()


def test_the_same_on_exfat(tmp_path: Path) -> None:
    raw = volume_of("exfat")
    crossed_exfat(raw, opened(Memory(bytes(raw)), 0, 79_999).volume)
    volume: Any = opened(Memory(bytes(raw)), 0, 79_999).volume
    states = {i.node.path: i.state for i in file_rescue.listed(volume, deleted=False) if not i.node.is_folder}
    assert (states[ONE], states[OTHER]) == (HOLES, HOLES)
    assert sum(s == WHOLE for s in states.values()) == len(states) - 2


def test_a_file_of_two_names_is_one(tmp_path: Path) -> None:
    told, _, _ = saved(Made([(5, "a", b"same"), (5, "b", b"same")]), tmp_path / "out")
    assert told["whole"] == 2
    assert saved(Made([(5, "a", b"same"), (5, "b", b"same")], kind="fat"), tmp_path / "fat")[0]["whole"] == 0, (
        "FAT has no second names"
    )


def test_a_crowd_in_one_place_is_found_in_time() -> None:
    class Crowd(Made):
        def runs(self, node: Node) -> Sequence[Run]:
            return [Run(4096, 4096)]

    listed = file_rescue.listed(Crowd([(n, f"f{n}", b"x" * 4096) for n in range(5000)]))
    assert {i.state for i in listed} == {HOLES}


def test_a_file_that_lies_in_a_folders_place_is_not_whole() -> None:
    class Over(Made):
        def runs(self, node: Node) -> Sequence[Run]:
            return [Run(4096, 4096)]

    assert [
        i.state for i in file_rescue.listed(Over([(1, "a", b"x" * 100)], folders=["d"])) if not i.node.is_folder
    ] == [HOLES]


def test_it_lists_in_the_end_what_any_terminal_can_print(capsys: pytest.CaptureFixture[str]) -> None:
    for raw in (b"\xed\xa0\x80", os.urandom(20).replace(b"/", b"").replace(b"\0", b"")):
        print(name_of_bytes(raw).encode("utf-8").decode("utf-8"))


@dataclass
class MadeWithStreams(Made):
    """Files with further streams: name -> pieces, of the file with this id."""

    more: dict[int, dict[str, list[bytes | Hole]]] = field(default_factory=dict)

    def streams(self, node: Node) -> Iterator[tuple[str, int, Iterator[bytes | Hole]]]:
        if node.id == 3:
            raise DecodeError("record", at=3, expected="a record", got="none")
        for name, pieces in self.more.get(node.id, {}).items():
            yield name, sum(p.length if isinstance(p, Hole) else len(p) for p in pieces), iter(pieces)


def test_further_streams_lie_beside_the_files_and_are_told_of(tmp_path: Path) -> None:
    made = MadeWithStreams(
        [(1, "home/a.txt", b"1"), (2, "b.txt", b"2"), (3, "c.txt", b"3")],
        more={
            1: {"from": [b"here"], "../up": [b"x"], "torn": [b"ab", Hole(2, "unreadable")]},
            2: {"gone": [Hole(9, "unreadable")]},
        },
    )
    out = tmp_path / "out"
    told = file_rescue.copy(made, out)
    assert (told["files"], told["streams"]) == (3, 5)
    rows = {(r["path"], r["stream"]): r for r in csv.DictReader((out / "streams.csv").read_text("utf-8").splitlines())}
    states = {key: row["state"] for key, row in rows.items()}
    assert states == {
        ("home/a.txt", "from"): WHOLE, ("home/a.txt", "../up"): WHOLE, ("home/a.txt", "torn"): HOLES,
        ("b.txt", "gone"): LOST, ("c.txt", "?"): LOST,
    }  # fmt: skip
    assert (out / "further streams/home/a.txt/from").read_bytes() == b"here"
    assert rows["home/a.txt", "from"]["sha256"] == hashlib.sha256(b"here").hexdigest()
    assert {p.name for p in tmp_path.iterdir()} == {"out"}, "nothing lies beside it"
    assert sorted(p.read_bytes() for p in (out / "further streams").rglob("*") if p.is_file()) == [
        b"ab\0\0",
        b"here",
        b"x",
    ]
