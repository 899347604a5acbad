"""Copying a drive off through the link: the bench has what the map says, byte for byte, whatever ends it in between; what is missing is said."""

from __future__ import annotations

import hashlib
import shutil
from pathlib import Path
from typing import Any

import httpx2 as httpx
import pytest
from benches import Bench

from gatecheck.practice.patients import patient
from gatecheck.server.copies.service import Copies
from gatecheck.store import StoreError

SPAN = 20_000_000
"""sectors of the practice drive that are copied: its tables, its system partition, and the spot in it that does not read"""


def _copied(bench: Bench, name: str, *, ends: tuple[str, ...] = (), end: int = SPAN, device: str = "sda") -> tuple[int, Path, dict[str, Any]]:
    """(ticket, image, link) after a copy."""
    number, secret = bench.linked("screen=other-stop", drive_kind="hdd", data="irreplaceable")
    slowly = ("--pace", "8") if ends else ()
    process = bench.probe(name, secret, f"spool-{number}", *slowly)
    bench.until(number, lambda link: link["orders"] and link["orders"][0]["state"] == "done")
    order = bench.call("POST", f"/api/tickets/{number}/orders", json={"order": "copy", "device": device, "by": "KT", "tight": True, **({"end": end} if end else {})})["orders"][-1]["id"]
    for place, what in enumerate(ends):
        bench.until(number, lambda link: bool(link["progress"]) and link["progress"]["unit"] == "sectors")
        if what == "server":
            bench.stop()
            bench.start()
        elif what == "pause":
            bench.call("POST", f"/api/tickets/{number}/orders/{order}", json={"do": "pause", "by": "KT"})
            bench.until(number, lambda link: link["orders"][-1]["state"] == "paused")
            bench.call("POST", f"/api/tickets/{number}/orders/{order}", json={"do": "go-on", "by": "KT"})
        else:
            process.kill()
            process.wait()
            process = bench.probe(name, secret, f"spool-{number}" if what == "probe" else f"spool-{number}-{place}", *slowly)
    link = bench.until(number, lambda link: link["orders"][-1]["state"] not in ("waiting", "paused"), 240)
    return number, bench.data / "copies" / str(number) / f"{order}.img", link


def _sum(image: Path, name: str) -> tuple[str, str]:
    """SHA-256 of what stands on the image, and on the practice drive with zeros for what does not read: its start, and around the spot."""
    disk = next(d.disk for d in patient(name).connected().drives.values())
    spots = disk.surface.spots if disk.surface else frozenset()
    disk.surface = None
    ours, theirs = hashlib.sha256(), hashlib.sha256()
    with image.open("rb") as file:
        for first in (*range(0, 300_000, 4096), *range(8_798_208, 8_830_000, 4096)):
            file.seek(first * 512)
            ours.update(file.read(4096 * 512))
            raw = bytearray(disk.read(first, 4096))
            for spot in spots:
                if first <= spot < first + 4096:
                    raw[(spot - first) * 512 : (spot - first + 1) * 512] = bytes(512)
            theirs.update(raw)
    return ours.hexdigest(), theirs.hexdigest()


@pytest.mark.parametrize("ends", [(), ("pause", "server", "probe", "machine", "server")])
def test_a_copy_holds_what_the_drive_holds_and_says_what_is_missing(bench: Bench, ends: tuple[str, ...]) -> None:
    number, image, link = _copied(bench, "spotted", ends=ends)
    assert link["orders"][-1]["state"] == "done"
    assert "2 sectors are missing" in link["orders"][-1]["detail"]
    ours, theirs = _sum(image, "spotted")
    assert ours == theirs
    assert image.stat().st_size == 976_562_500 * 512
    assert image.stat().st_blocks * 512 < 300 << 20  # zeros are holes
    ticket = bench.ticket(number)
    assert [e["body"].get("outcome") for e in ticket["tape"] if e["body"].get("move") == "copy-data"] == ["partial"]
    assert ticket["facts"]["data"] == "irreplaceable"  # a partial copy makes nothing safe
    assert bench.call("GET", f"/api/tickets/{number}/surfaces")["reads"][0]["state"] == "done"


def test_a_whole_copy_makes_the_data_safe(bench: Bench) -> None:
    number, _, link = _copied(bench, "soldered", end=0, device="mmcblk0")
    assert link["orders"][-1]["detail"] == "All of the drive is copied and read back"
    ticket = bench.ticket(number)
    assert ticket["facts"]["data"] == "backed-up"
    copies = bench.call("GET", f"/api/tickets/{number}/copies")
    assert [c["order"] for c in copies] == [link["orders"][-1]["id"]]
    bench.call("DELETE", f"/api/tickets/{number}/copies/{copies[0]['order']}")
    assert bench.call("GET", f"/api/tickets/{number}/copies") == []


def test_a_copy_of_a_card_beside_it_makes_nothing_of_the_machines_safe(bench: Bench) -> None:
    number, _, link = _copied(bench, "soldered", end=0, device="mmcblk1")
    assert link["orders"][-1]["detail"] == "All of the drive is copied and read back"
    ticket = bench.ticket(number)
    assert ticket["facts"]["data"] == "irreplaceable"
    assert "copy-data" not in [e["body"].get("move") for e in ticket["tape"]]


def _copies(folder: Path) -> Copies:
    own = Copies(folder / "copies")
    own.begin(1, 2, 1 << 24)
    return own


def _told(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


@pytest.mark.parametrize(("at", "data", "told", "words"), [
    (0, b"abc", "0" * 64, "the bytes of the sum"), ((1 << 24) - 1, b"ab", _told(b"ab"), "a place within"),
])  # fmt: skip
def test_a_piece_that_is_not_what_it_says_is_not_kept(tmp_path: Path, at: int, data: bytes, told: str, words: str) -> None:
    own = _copies(tmp_path)
    with pytest.raises(StoreError, match=words):
        own.write(1, 2, at, data, told)
    assert own.image(1, 2).read_bytes() == bytes(1 << 24)


def test_what_rots_on_the_bench_is_found_when_it_is_read_back(tmp_path: Path) -> None:
    own = _copies(tmp_path)
    for at in range(0, 8192, 4096):
        own.write(1, 2, at, b"x" * 4096, _told(b"x" * 4096))
    own.zeros(1, 2, 8192, 1 << 20)
    assert own.verify(1, 2) == []
    with own.image(1, 2).open("r+b") as file:
        file.seek(5000)
        file.write(b"y")
    assert own.verify(1, 2) == [(4096, 4096)]


def test_a_full_disk_stops_it_before_the_disk_is_full(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    own = _copies(tmp_path)
    monkeypatch.setattr(own, "room", lambda: 100)
    with pytest.raises(StoreError, match="room on the bench's disk"):
        own.write(1, 2, 0, b"x" * 4096, _told(b"x" * 4096))


@pytest.mark.skipif(shutil.disk_usage("/").free > 2_000_000_000_000, reason="this disk has room for it")
def test_a_bench_that_is_too_small_says_so_before_it_begins(bench: Bench) -> None:
    number, secret = bench.linked("screen=other-stop", drive_kind="hdd", data="irreplaceable")
    bench.probe("one-head", secret)
    bench.until(number, lambda link: link["orders"] and link["orders"][0]["state"] == "done")
    refused = bench.refused("POST", f"/api/tickets/{number}/orders", json={"order": "copy", "device": "sda", "by": "KT"})
    assert refused.startswith("room: expected 2,000 GB on the bench's disk")


def test_pieces_are_taken_of_a_copy_that_is_being_made_and_from_its_own_probe_only(bench: Bench) -> None:
    number, _secret = bench.linked("screen=other-stop", drive_kind="hdd")
    answer = httpx.put(f"{bench.url}/api/link/copy?session=00000000&order=1&at=0&zeros=5", headers={"Authorization": "Bearer 1-nobody"}, content=b"")
    assert answer.status_code == 401
    assert bench.call("GET", f"/api/tickets/{number}/copies") == []
