"""Volumes through the link: looked at with what is read for it, repaired with the undo on the bench first, files
rescued in the order of the disk; interrupted, and gone on with."""

from __future__ import annotations

import hashlib
import io
import time
import zipfile
from pathlib import Path
from typing import Any

import pytest
from benches import Bench
from volume_desk import VolumeDesk, rows

from gatecheck.practice.patients import PATIENTS, patient
from gatecheck.practice.volumes import people_files, sound_volume
from gatecheck.probe.fetching import asked_pieces
from gatecheck.probe.probe import Probe
from gatecheck.probe.scan import MOST_DEAD
from gatecheck.probe.spool import Spool
from gatecheck.probe.worker import Worker
from serving import HTTP

FACTS = {"platform": "pc", "installed_os": "windows-10"}
TORN = {**FACTS, "data": "backed-up", "drive_kind": "sata-ssd"}
FADING = {**FACTS, "data": "irreplaceable", "drive_kind": "hdd"}


def test_looked_at_repaired_in_part_and_taken_back(bench: Bench) -> None:
    desk = VolumeDesk(bench, "torn-volume", **TORN)
    found = desk.looked()
    look = found["look"]
    assert (look["state"], look["systems"][0]["name"], look["is_stale"]) == ("damaged", "Windows 10", False)
    assert [g["id"] for g in look["groups"]] == ["copies", "records", "orphans", "folders", "map", "counts"]
    assert all(g["places"] for g in look["groups"])
    assert [s["path"] for s in look["people"]] == ["Users/Agda", "?"]
    said = next(b for b in desk.tape() if b.get("move") == "volume-look")
    assert max(said["weights"], key=said["weights"].get) == "damaged"
    assert "Agda" not in str(said)
    assert bench.ticket(desk.number)["facts"]["volume_repair"] == "part-of-it"
    desk.ask("rescue", only=["Users/Agda", "?"], is_all=True)
    assert desk.until(lambda v: v["rescues"] and v["rescues"][0]["state"] == "done")["rescues"][0]["whole"] == 54
    # what a broken catalogue does not name is saved by nobody
    assert next(b for b in desk.tape() if b.get("move") == "copy-data")["outcome"] == "partial"
    desk.ask("repair", groups=["copies"])
    found = desk.until(lambda v: v["repairs"] and len(v["look"]["groups"]) == 5)
    assert "copies" not in [g["id"] for g in found["look"]["groups"]]
    desk.ask("repair", groups=[g["id"] for g in found["look"]["groups"]])
    found = desk.until(lambda v: v["look"]["state"] == "clean")
    assert [s["path"] for s in found["look"]["people"]] == ["Users/Agda", "Saved by Gate Check"]
    assert not bench.ticket(desk.number)["facts"].get("volume_repair"), "it is whole: nothing is left to mend"
    # after a repair it is the start that tells
    assert len([b for b in desk.tape() if b.get("move") == "volume-look"]) == 1
    desk.ask("take-back", id=found["repairs"][0]["id"])
    found = desk.until(lambda v: v["look"]["state"] == "damaged")
    assert found["repairs"][1]["taken_back"]
    assert "copies" not in [g["id"] for g in found["look"]["groups"]]
    first = next(r for r in found["repairs"] if not r["taken_back"] and not r["reverts"])
    desk.ask("take-back", id=first["id"])
    found = desk.until(lambda v: "copies" in [g["id"] for g in v["look"]["groups"]])
    assert found["look"]["findings"] == look["findings"]


DAMAGES = {
    "crossed-files": (
        "windows-10",
        "sata-ssd",
        {"first-structure", "link-count", "dangling", "crossed"},
        ["first-structure", "revived", "apart", "links", "map"],
    ),
    "pulled-card": (
        "linux",
        "sata-ssd",
        {"dirty", "boot-sum", "entry-broken", "unmarked", "lost"},
        ["boot-copy", "sums", "broken", "lost", "map"],
    ),
    "crossed-card": ("linux", "sata-ssd", {"tables-differ", "crossed", "lost"}, ["tables", "apart", "lost", "counts"]),
    "beheaded-server": ("linux", "hdd", {"first-structure"}, ["first-structure", "counts"]),
}


@pytest.mark.parametrize(
    "name", [pytest.param(n, marks=[pytest.mark.wide] if n.startswith("crossed") else []) for n in DAMAGES]
)
def test_each_kind_of_damage_is_found_and_mended_through_the_link(bench: Bench, name: str) -> None:
    """NTFS, exFAT, FAT32 and ext4, each hurt in its own way, on a machine that answers the probe."""
    system, drive, wanted, groups = DAMAGES[name]
    desk = VolumeDesk(bench, name, platform="pc", installed_os=system, data="backed-up", drive_kind=drive)
    look = desk.looked()["look"]
    assert look["state"] == "damaged"
    assert wanted <= {f["id"] for f in look["findings"]}
    assert [g["id"] for g in look["groups"]] == groups
    desk.ask("repair", groups=groups)
    found = desk.until(lambda v: v["repairs"] and v["look"]["state"] == "clean")
    assert found["look"]["findings"] == []
    desk.ask("take-back", id=found["repairs"][0]["id"])
    assert desk.until(lambda v: v["look"]["state"] == "damaged")["look"]["findings"] == look["findings"]


def test_what_is_held_or_not_shown_is_not_ordered(bench: Bench) -> None:
    desk = VolumeDesk(bench, "torn-volume", **{**TORN, "data": "irreplaceable"})
    first = desk.view()["first"]
    address = f"/api/tickets/{desk.number}/volumes"
    own = {"source": "sda", "first": first, "by": "KT"}
    desk.looked()
    assert desk.view()["held"]["repair"]
    assert "neither backup" in bench.refused("POST", f"{address}/repair", json={**own, "groups": ["copies"]})
    assert "expected one that the newest look shows" in bench.refused(
        "POST", f"{address}/repair", json={**own, "groups": ["no-such"]}
    )
    assert "expected one that the table names" in bench.refused("POST", f"{address}/look", json={**own, "first": 77})
    assert "got none" in bench.refused("POST", f"{address}/look", json={**own, "source": "sdq"})
    assert "expected one that a person gives" in bench.refused(
        "POST", f"/api/tickets/{desk.number}/orders", json={"order": "rescue", "device": "sda", "by": "KT"}
    )
    assert [o["order"] for o in desk.orders()] == ["read", "volume"]


def test_files_are_rescued_from_bad_places_however_often_it_is_interrupted(bench: Bench) -> None:
    desk = VolumeDesk(bench, "fading-photos", **FADING)
    look = desk.looked()["look"]
    assert (look["state"], [s["path"] for s in look["people"]]) == ("clean", ["Users/Berit"])
    bad = sorted(patient("fading-photos").connected().drives["sda"].disk.bad)
    asked = "".join(f"&lba={lba}" for lba in (bad[0], bad[-1], 206_848, 3))
    lives = {p["lba"]: p for p in bench.call("GET", f"/api/tickets/{desk.number}/volumes/where?device=sda{asked}")}
    assert lives[bad[0]]["path"][-7:] in ("004.jpg", "017.jpg", "031.jpg")
    assert lives[bad[0]]["path"] != lives[bad[-1]]["path"]
    assert lives[206_848]["stakes"] == "boot"
    assert 3 not in lives  # of no volume that was looked at
    pieces = bench.call("GET", f"/api/tickets/{desk.number}/path")["pieces"]
    assert [p["systems"] for p in pieces] == [[], ["Windows 10 10.0.19045.3803", "Berit"]]
    desk.ask("rescue", only=["Users/Berit"], is_all=True)
    for turn in range(5):
        time.sleep(0.4)
        desk.probe.kill()
        desk.probe.wait()
        if turn % 2:
            bench.stop()
            bench.start()
        desk.probe = bench.probe(desk.name, desk.secret)
    found = desk.until(lambda v: v["rescues"] and v["rescues"][0]["state"] == "done")
    own = found["rescues"][0]
    files = people_files("Berit", pictures=60)
    kept = rows(own["folder"])
    assert set(kept) == set(files)
    holed = {path for path, row in kept.items() if row["state"] == "holes"}
    assert (own["files"], own["whole"], own["holes"], own["lost"]) == (75, 72, 3, 0)
    assert {path[-7:] for path in holed} == {"004.jpg", "017.jpg", "031.jpg"}
    for path, data in files.items():
        saved = (Path(own["folder"]) / path).read_bytes()
        assert len(saved) == len(data)
        if path not in holed:
            assert saved == data
            assert kept[path]["sha256"] == hashlib.sha256(data).hexdigest()
        else:
            assert sum(a != b for a, b in zip(saved, data, strict=True)) <= 3 * 512
    assert "could not be read" in (Path(own["folder"]) / "what was saved.txt").read_text()
    entry = next(b for b in desk.tape() if b.get("move") == "copy-data")
    assert entry["outcome"] == "partial"


def test_deleted_files_that_still_stand_are_brought_back(bench: Bench) -> None:
    desk = VolumeDesk(bench, "emptied-folders", **{**FACTS, "data": "irreplaceable", "drive_kind": "sata-ssd"})
    assert desk.looked()["look"]["deleted"] == 8
    desk.ask("rescue", only=[], deleted=True)
    own = desk.until(lambda v: v["rescues"] and v["rescues"][0]["state"] == "done")["rescues"][0]
    kept = rows(own["folder"])
    files = people_files("Tove", pictures=40)
    assert len(kept) == 8
    for path, row in kept.items():
        assert row["state"] == "deleted"
        assert (Path(own["folder"]) / path).read_bytes() == files[path.removeprefix("deleted files/")]
    assert not any(b.get("move") == "copy-data" for b in desk.tape())  # nobody said that this is all
    desk.ask("rescue", only=["Users/Tove"], is_all=True)
    own = desk.until(lambda v: v["rescues"] and v["rescues"][0]["files"] == 47 and v["rescues"][0]["state"] == "done")[
        "rescues"
    ][0]
    assert (own["whole"], own["holes"], own["lost"]) == (47, 0, 0)
    assert next(b for b in desk.tape() if b.get("move") == "copy-data")["outcome"] == "complete"
    assert bench.call("GET", f"/api/tickets/{desk.number}")["facts"]["data"] == "backed-up"


def test_a_copy_on_the_bench_is_looked_at_repaired_and_rescued_from_without_the_machine(
    bench: Bench, tmp_path: Path
) -> None:
    desk = VolumeDesk(bench, "torn-volume", **TORN)
    bench.call(
        "POST",
        f"/api/tickets/{desk.number}/orders",
        json={"order": "copy", "device": "sda", "by": "KT", "tight": True},
    )
    bench.until(
        desk.number,
        lambda link: any(o["order"] == "copy" and o["state"] == "done" for o in link["orders"]),
        seconds=300,
    )
    desk.probe.kill()
    source = next(s["id"] for s in desk.view()["sources"] if s["is_copy"])
    desk.ask("look", source=source)
    found = desk.until(lambda v: v["look"] is not None, source)
    assert (found["look"]["state"], found["held"]["repair"], found["linked"]) == ("damaged", "", True)
    desk.ask("repair", source=source, groups=[g["id"] for g in found["look"]["groups"]])
    found = desk.until(lambda v: v["look"]["state"] == "clean", source)
    desk.ask("rescue", source=source, only=["Users/Agda/Documents", "Saved by Gate Check"])
    own = desk.until(lambda v: v["rescues"] and v["rescues"][0]["state"] == "done", source)["rescues"][0]
    assert own["whole"] == own["files"] == 11
    saved = f"/api/tickets/{desk.number}/volumes/rescues/{own['id']}"
    packed = zipfile.ZipFile(io.BytesIO(HTTP.get(f"{bench.url}{saved}.zip", timeout=30).content))
    assert {n: packed.read(n) for n in packed.namelist() if not n.endswith("/")} == {
        str(p.relative_to(own["folder"])): p.read_bytes() for p in Path(own["folder"]).rglob("*") if p.is_file()
    }
    assert own["folder"] in bench.refused("POST", f"{saved}/open"), "a server without a screen shows no folder"
    desk.ask("take-back", source=source, id=found["repairs"][0]["id"])
    assert desk.until(lambda v: v["look"]["state"] == "damaged", source)["repairs"][0]["taken_back"]


def test_a_macs_photographs_are_recovered_from_bad_places(bench: Bench) -> None:
    desk = VolumeDesk(bench, "album", platform="mac", installed_os="macos", data="irreplaceable", drive_kind="hdd")
    found = desk.looked()
    assert (found["look"]["kind"], found["look"]["state"], found["look"]["groups"]) == ("HFS+", "clean", [])
    desk.ask("rescue", only=["Users/Solveig"])
    own = desk.until(lambda v: v["rescues"] and v["rescues"][0]["state"] == "done")["rescues"][0]
    assert (own["files"], own["whole"], own["holes"]) == (62, 60, 2)
    assert {Path(path).name for path in own["not_whole"]} == {"choir 003.jpg", "grandmother's ninetieth 019.jpg"}


@pytest.mark.parametrize("ranges", [None, 7, [[1]], [["a", 2]], [[-1, 5]], [[0, 1 << 60]], [[1 << 40, 8]], [[True, 2]]])
def test_what_is_no_range_of_the_disk_is_not_read(ranges: Any) -> None:
    assert not asked_pieces(ranges, 1000)


def test_ranges_end_with_the_disk() -> None:
    assert list(asked_pieces([[900, 500], [0, 3], [1000, 1]], 1000)) == [(900, 100), (0, 3)]


def test_the_practice_volumes_hold_what_they_say() -> None:
    assert sound_volume(30_000_000, "Berit") != {}
    assert patient("fading-photos").connected().drives["sda"].disk.bad


class Answers:
    """A bench that asks for some sectors with care, and hears what did not read."""

    session = "s"

    def __init__(self) -> None:
        self.unread: list[tuple[int, int, bool]] = []
        self.asked = 0

    def call(self, method: str, path: str, body: Any = None, patient: bool = True) -> Any:
        if path == "/unread":
            self.unread.append((body["first"], body["count"], body["careful"]))
            return {}
        self.asked += 1
        return {"ranges": [[0, 8], [64, 8]] if self.asked == 1 else [], "careful": True, "done": 0, "of": 8192}

    def put_copy(self, box: Any, order: str, at: int, length: int, data: Any, keeps: bool) -> None:
        self.unread.append((at // 512, -length // 512, False))


@pytest.mark.parametrize(("state", "code", "unread", "result"), [
    (2, 0, [(0, 8, True), (64, 8, True)], "paused"),
    (1, 5, [(n, 1, True) for n in (*range(8), *range(64, 72))], "done"),
    (1, 19, [], "paused"),
], ids=["hangs", "does-not-read", "is-gone"])  # fmt: skip
def test_what_hangs_is_not_halved_and_a_drive_that_is_gone_says_nothing_of_its_sectors(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, state: int, code: int, unread: Any, result: str
) -> None:
    link: Any = Answers()
    own = Probe(patient("fading-photos").connected(), Spool(str(tmp_path)), link, say=lambda text: None)
    monkeypatch.setattr(Worker, "run", lambda self, lba, size, blocks: iter([(lba, state, code, 1.0, b"")]))
    assert own.fetch({"id": "1", "order": "rescue", "disk": "sda"}, "sda")[0] == result
    assert link.unread == unread


def test_a_long_dead_stretch_is_left_after_some_sectors_and_what_reads_behind_it_is_read(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    link: Any = Answers()
    own = Probe(patient("fading-photos").connected(), Spool(str(tmp_path)), link, say=lambda text: None)
    tried: list[tuple[int, int]] = []

    def run(_worker: Any, lba: int, size: int, _blocks: int) -> Any:
        tried.append((lba, size))
        return iter([(lba, 1, 5, 1.0, b"") if lba < 4096 else (lba, 0, 0, 1.0, b"\1" * size * 512)])

    monkeypatch.setattr(Worker, "run", run)
    link.call = lambda method, path, body=None, patient=True: (
        Answers.call(link, method, path, body)
        | ({"ranges": [[0, 4096], [5000, 8]]} if path.startswith("/wanted") and link.asked == 1 else {})
    )
    assert own.fetch({"id": "1", "order": "rescue", "disk": "sda"}, "sda") == ("done", "")
    dead = [(first, count) for first, count, careful in link.unread if careful]
    assert sum(count for _, count in dead) == 4096, "every sector of it is told"
    assert (sum(count == 1 for _, count in dead) <= MOST_DEAD + 1, len(tried) < 200) == (True, True)
    assert (5000, -8, False) in link.unread


class Turns:
    """A bench that gives out turns of a rescue: (ranges, whether the next question may come early) each. `asked`: with
    what each question came, and how much had arrived."""

    session = "s"

    def __init__(self, turns: list[tuple[list[list[int]], bool]]) -> None:
        self.turns = turns
        self.asked: list[bool] = []
        self.got: list[tuple[int, int]] = []
        self.unread: list[tuple[int, int]] = []

    def call(self, method: str, path: str, body: Any = None, patient: bool = True) -> Any:
        if path == "/unread":
            self.unread.append((body["first"], body["count"]))
        if not path.startswith("/wanted"):
            return {}
        self.asked.append(path.endswith("&ahead=1"))
        ranges, ahead = self.turns.pop(0) if self.turns else ([], False)
        return {
            "ranges": ranges,
            "ahead": ahead,
            "done": 0,
            "of": 8192,
            **({"wait": 0.0} if self.turns and not ranges else {}),
        }

    def put_copy(self, box: Any, order: str, at: int, length: int, data: Any, keeps: bool) -> None:
        self.got.append((at // 512, length // 512))


def _sectors(runs: list[tuple[int, int]]) -> list[int]:
    return sorted(n for first, count in runs for n in range(first, first + count))


@pytest.mark.parametrize(
    ("turns", "asked"),
    [
        ([([[0, 9000]], False), ([[20000, 8]], False)], [False, False, False]),
        ([([[0, 9000]], True), ([[20000, 8]], False)], [False, True, False]),
        (
            [([[0, 9000]], True), ([], False), ([[20000, 8]], False)],
            [False, True, False, False],
        ),  # what it says depends on what is on its way: asked again when all is there
        ([([[0, 3], [9000, 2048 * 70]], True), ([[7000, 1]], True)], [False, True, True, False]),
    ],
    ids=["one-after-the-other", "early", "early-and-in-vain", "more-than-is-read-at-once"],
)
def test_the_next_turn_is_asked_for_while_this_one_is_read_where_the_bench_allows_it(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, turns: Any, asked: list[bool]
) -> None:
    wanted = _sectors([(first, count) for ranges, _ in turns for first, count in ranges])
    link: Any = Turns(list(turns))
    own = Probe(patient("fading-photos").connected(), Spool(str(tmp_path)), link, say=lambda text: None)
    monkeypatch.setattr(
        Worker,
        "run",
        lambda self, lba, size, blocks: iter([(lba + n * size, 0, 0, 1.0, b"\1" * size * 512) for n in range(blocks)]),
    )
    assert own.fetch({"id": "1", "order": "rescue", "disk": "sda"}, "sda") == ("done", "")
    assert (link.asked, _sectors(link.got), link.unread) == (asked, wanted, [])


def test_a_block_that_fails_or_is_late_in_a_long_run_takes_none_of_those_behind_it_away(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    link: Any = Turns([([[0, 2048 * 100 + 5]], True)])
    own = Probe(patient("fading-photos").connected(), Spool(str(tmp_path)), link, say=lambda text: None)
    bad, late = 2048 * 7, {2048 * 9, 2048 * 80}

    def run(_worker: Any, lba: int, size: int, blocks: int) -> Any:
        for at in range(lba, lba + blocks * size, size):
            yield (at, 1, 5, 1.0, b"") if at == bad else (at, 0, 0, 9e3 if at in late else 1.0, b"\1" * size * 512)
            if at == bad or at in late:
                return

    monkeypatch.setattr(Worker, "run", run)
    assert own.fetch({"id": "1", "order": "rescue", "disk": "sda"}, "sda") == ("done", "")
    assert link.unread == [(bad, 2048)]
    assert _sectors(link.got) == [n for n in range(2048 * 100 + 5) if not bad <= n < bad + 2048]


def test_a_practice_machine_without_files_is_not_checked_and_nothing_is_logged(bench: Bench) -> None:
    number = bench.call("POST", "/api/practice", json={"machine": "sound", "by": "KT", "bay": None})["id"]
    bench.until(number, lambda link: any(o["state"] == "done" for o in link["orders"]))
    shown = bench.call("GET", f"/api/tickets/{number}/volumes")
    asked = {"source": shown["source"], "first": shown["first"], "by": "KT"}
    assert "torn-volume" in bench.refused("POST", f"/api/tickets/{number}/volumes/look", json=asked)
    assert not [e for e in bench.ticket(number)["tape"] if e["body"].get("move") == "volume-look"]
    bench.call("DELETE", f"/api/tickets/{number}/link")
    bench.call("POST", f"/api/tickets/{number}/link", json={"by": "KT"})  # of a real machine from here on
    assert bench.call("POST", f"/api/tickets/{number}/volumes/look", json=asked) is not None


def test_the_practice_machines_with_files_are_those_whose_disks_hold_some() -> None:
    holds = {p.id for p in PATIENTS if any(d.disk and len(d.disk.content) > 40 for d in p.connected().drives.values())}
    assert holds == {p.id for p in PATIENTS if p.has_files}
