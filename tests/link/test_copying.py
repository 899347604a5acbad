"""Copying a drive off through the link: the bench has what the map says, byte for byte, whatever ends it in between;
what is missing is said."""

from __future__ import annotations

import hashlib
import os
import shutil
import subprocess
from contextlib import nullcontext
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

import pytest
from benches import Bench

from gatecheck.core.capture.identity import Identity
from gatecheck.core.work.job import SeenDrive
from gatecheck.practice.patients import patient
from gatecheck.probe.base import Refused
from gatecheck.probe.link import Link
from gatecheck.probe.machine import Machine
from gatecheck.probe.probe import Probe
from gatecheck.probe.settings import FILL_STEP
from gatecheck.probe.spool import Spool
from gatecheck.probe.worker import Outbox
from gatecheck.server.copies.service import Copies
from gatecheck.server.link.drive_restore import DriveRestores, _Target
from gatecheck.store import StoreError
from serving import HTTP

SPAN = 20_000_000
"""sectors of the practice drive that are copied: its tables, its system partition, and the spot in it that does not
read"""


def _copied(
    bench: Bench, name: str, *, ends: tuple[str, ...] = (), end: int = SPAN, device: str = "sda"
) -> tuple[int, Path, dict[str, Any]]:
    """(ticket, image, link) after a copy."""
    kind = "emmc" if device.startswith("mmc") else "hdd"
    number, secret = bench.linked("screen=other-stop", drive_kind=kind, data="irreplaceable")
    slowly = ("--pace", "8") if ends else ()
    process = bench.probe(name, secret, f"spool-{number}", *slowly)
    bench.until(number, lambda link: link["orders"] and link["orders"][0]["state"] == "done")
    order = bench.call(
        "POST",
        f"/api/tickets/{number}/orders",
        json={"order": "copy", "device": device, "by": "KT", "tight": True, **({"end": end} if end else {})},
    )["orders"][-1]["id"]
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
            process = bench.probe(
                name, secret, f"spool-{number}" if what == "probe" else f"spool-{number}-{place}", *slowly
            )
    link = bench.until(number, lambda link: link["orders"][-1]["state"] not in ("waiting", "paused"), 240)
    return number, bench.data / "copies" / str(number) / f"{order}.img", link


def _sum(image: Path, name: str) -> tuple[str, str]:
    """SHA-256 of what stands on the image, and on the practice drive with zeros for what does not read: its start, and
    around the spot."""
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


@pytest.mark.parametrize(
    "ends",
    [("server", "probe"), pytest.param(("pause", "server", "probe", "machine", "server"), marks=pytest.mark.wide)],
)
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
    assert link["orders"][-1]["detail"] == "Full image, verified"
    ticket = bench.ticket(number)
    assert ticket["facts"]["data"] == "backed-up"
    copies = bench.call("GET", f"/api/tickets/{number}/copies")
    assert [c["order"] for c in copies] == [link["orders"][-1]["id"]]
    bench.call("DELETE", f"/api/tickets/{number}/copies/{copies[0]['order']}")
    assert bench.call("GET", f"/api/tickets/{number}/copies") == []


def test_a_copy_of_a_card_beside_it_makes_nothing_of_the_machines_safe(bench: Bench) -> None:
    number, _, link = _copied(bench, "soldered", end=0, device="mmcblk1")
    assert link["orders"][-1]["detail"] == "Full image, verified"
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
def test_a_piece_that_is_not_what_it_says_is_not_kept(
    tmp_path: Path, at: int, data: bytes, told: str, words: str
) -> None:
    own = _copies(tmp_path)
    with pytest.raises(StoreError, match=words):
        own.write(1, 2, at, [data], told)
    assert own.image(1, 2).read_bytes() == bytes(1 << 24)


def test_what_rots_on_the_bench_is_found_when_it_is_read_back(tmp_path: Path) -> None:
    own = _copies(tmp_path)
    for at in range(0, 8192, 4096):
        own.write(1, 2, at, [b"x" * 4096], _told(b"x" * 4096))
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
        own.write(1, 2, 0, [b"x" * 4096], _told(b"x" * 4096))


@pytest.mark.skipif(shutil.disk_usage("/").free > 2_000_000_000_000, reason="this disk has room for it")
def test_a_bench_that_is_too_small_says_so_before_it_begins(bench: Bench) -> None:
    number, secret = bench.linked("screen=other-stop", drive_kind="hdd", data="irreplaceable")
    bench.probe("one-head", secret)
    bench.until(number, lambda link: link["orders"] and link["orders"][0]["state"] == "done")
    refused = bench.refused(
        "POST", f"/api/tickets/{number}/orders", json={"order": "copy", "device": "sda", "by": "KT"}
    )
    assert refused.startswith("room: expected 2,000 GB on the bench's disk")


def test_pieces_are_taken_of_a_copy_that_is_being_made_and_from_its_own_probe_only(bench: Bench) -> None:
    number, _secret = bench.linked("screen=other-stop", drive_kind="hdd")
    answer = HTTP.put(
        f"{bench.url}/api/link/copy?session=00000000&order=1&at=0&zeros=5",
        headers={"Authorization": "Bearer 1-nobody"},
        content=b"",
    )
    assert answer.status_code == 401
    assert bench.call("GET", f"/api/tickets/{number}/copies") == []


def test_a_new_drive_is_filled_from_the_copy_and_read_back(bench: Bench) -> None:
    number, _, link = _copied(bench, "beside", end=2_000_000)
    copy = link["orders"][-1]["id"]
    targets = bench.call("GET", f"/api/tickets/{number}/copies/{copy}/targets")
    assert [(t["device"], t["against"] is None) for t in targets][:2] == [("sda", False), ("sdb", True)]
    assert targets[0]["against"] == "The image is of this drive"
    bench.call(
        "POST",
        f"/api/tickets/{number}/copies/{copy}/fill",
        json={"device": "sdb", "ends": "0017", "holes": True, "by": "KT"},
    )
    link = bench.until(number, lambda link: link["orders"][-1]["state"] not in ("waiting", "paused"), 240)
    assert (link["orders"][-1]["order"], link["orders"][-1]["state"], link["orders"][-1]["detail"]) == (
        "fill",
        "done",
        "",
    )
    assert bench.tape_until(
        number,
        lambda tape: any(
            "QH2-240017 and verified (120 GB). 1 % of the old drive is in the image" in e["note"] for e in tape
        ),
    )
    order = bench.call(
        "POST",
        f"/api/tickets/{number}/orders",
        json={"order": "copy", "device": "sdb", "by": "KT", "tight": True, "end": 300_000},
    )["orders"][-1]["id"]
    bench.until(number, lambda link: link["orders"][-1]["id"] == order and link["orders"][-1]["state"] == "done", 240)
    images = sorted((bench.data / "copies" / str(number)).glob("*.img"), key=lambda p: int(p.stem))
    with images[0].open("rb") as old, images[-1].open("rb") as new:
        assert old.read(300_000 * 512) == new.read(300_000 * 512), (
            "what stands on the new drive is what stood on the old one"
        )


REFUSED = {
    "another-end": ({"device": "sdb", "ends": "0018"}, "expected the last four characters of QH2-240017"),
    "the-old-drive": ({"device": "sda", "ends": "0664"}, "The image is of this drive"),
    "no-such-drive": ({"device": "sdq", "ends": "0017"}, "expected a drive of the machine"),
    "holes-nobody-knows-of": (
        {"device": "sdb", "ends": "0017"},
        "expected a complete image, or your consent to its gaps",
    ),
}


def test_a_drive_is_filled_only_where_it_is_surely_the_right_one(bench: Bench) -> None:
    number, _, link = _copied(bench, "beside", end=100_000)
    copy = link["orders"][-1]["id"]
    for said, words in REFUSED.values():
        assert words in bench.refused("POST", f"/api/tickets/{number}/copies/{copy}/fill", json={**said, "by": "KT"})
    targets = [t for t in bench.call("GET", f"/api/tickets/{number}/copies/{copy}/targets") if t["device"] == "sdb"]
    assert targets[0]["holds"] == 0
    assert "expected a copy of this ticket" in bench.refused(
        "POST", f"/api/tickets/{number}/copies/99/fill", json={"device": "sdb", "ends": "0017", "by": "KT"}
    )
    bench.call(
        "POST",
        f"/api/tickets/{number}/copies/{copy}/fill",
        json={"device": "sdb", "ends": "0017", "holes": True, "by": "KT"},
    )
    bench.until(number, lambda link: link["orders"][-1]["state"] == "done", 240)
    assert bench.tape_until(
        number,
        lambda tape: any(
            "% of the old drive is in the image; 0 missing sectors were written as zeros" in e["note"] for e in tape
        ),
    )


def test_stretches_of_zeros_are_told_by_their_length(tmp_path: Path) -> None:
    own, step = _copies(tmp_path), 1 << 20
    own.write(1, 2, 4 * step, [b"x" * 512], _told(b"x" * 512))
    data, zeros = own.read(1, 2, 0, step)
    assert (data, zeros % step, step <= zeros <= 4 * step) == (None, 0, True)
    assert own.read(1, 2, 4 * step, step) == (b"x" * 512 + bytes(step - 512), 0)
    assert own.read(1, 2, 5 * step, step) == (None, 11 * step), "to the end"
    with pytest.raises(StoreError, match="a place within"):
        own.read(1, 2, 15 * step, 2 * step)


def test_where_holes_are_not_known_bytes_are_read(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A file system that knows no holes, or that cannot say: never zeros in place of bytes."""
    own, step = _copies(tmp_path), 1 << 20
    own.write(1, 2, 4 * step, [b"x" * 512], _told(b"x" * 512))

    def unknown(descriptor: int, at: int, how: int) -> int:
        raise OSError(22, "Invalid argument")

    monkeypatch.setattr(os, "lseek", unknown)
    assert own.read(1, 2, 4 * step, step) == (b"x" * 512 + bytes(step - 512), 0)
    assert own.read(1, 2, 0, step) == (None, step)


class _Heard:
    """A link that notes what was put: (place, length, is it zeros)."""

    def __init__(self) -> None:
        self.put: list[tuple[int, int, bool]] = []

    def put_copy(self, hand: Any, order: str, at: int, length: int, parts: list[bytes] | None, keeps: bool) -> None:
        assert parts is None or sum(map(len, parts)) == length
        self.put.append((at, length, parts is None))


ZERO, BYTES, BLOCK = bytes(4096), b"x" * 4096, 8
STREAMS = {
    "to the end": ([ZERO] * 50, [(0, 50 * 4096, True)]),
    "then bytes": ([ZERO] * 50 + [BYTES], [(0, 50 * 4096, True), (50 * 4096, 4096, False)]),
    "none": ([BYTES], [(0, 4096, False)]),
}


@pytest.mark.parametrize("name", STREAMS)
def test_zeros_that_go_on_are_told_once(name: str) -> None:
    blocks, wanted = STREAMS[name]
    link = _Heard()
    box = Outbox(link, "1", 512)
    try:
        for place, block in enumerate(blocks):
            box.put(place * BLOCK, block)
        box.drain()
        assert sorted(link.put) == wanted
        box.put(1000 * BLOCK, ZERO)
        box.put(2000 * BLOCK, ZERO)  # another stretch: not joined to the one before
        box.drain()
        assert sorted(link.put)[len(wanted) :] == [(1000 * 4096, 4096, True), (2000 * 4096, 4096, True)]
    finally:
        box.end()


def test_a_drive_that_does_not_keep_what_it_is_given_is_found(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The probe reads back past the cache, and says where; a mark of what was surely written is not left behind."""
    machine = patient("beside").connected()
    disk, image = machine.drives["sdb"].disk, tmp_path / "image"
    image.write_bytes(bytes(3 * FILL_STEP) + b"\7" * FILL_STEP)
    spool = Spool(str(tmp_path / "spool"))

    asked: list[str] = []
    fetched: list[int] = []

    class Wire(Link):
        def get_copy(self, box: Any, order: str, at: int, length: int) -> tuple[bytes | None, int | None]:
            fetched.append(at // FILL_STEP)
            data = image.read_bytes()[at : at + length]
            return (data, None) if any(data) else (None, 3 * FILL_STEP - at)

        def call(self, *args: Any, **more: Any) -> dict[str, Any]:
            return {"do": asked.pop(0) if asked else ""}

    probe = Probe(machine, spool, Wire("http://127.0.0.1:9", "secret", print), print)
    order = {
        "id": "7",
        "order": "fill",
        "device": "sdb",
        "disk": "sdb",
        "copy": "1",
        "size": 4 * FILL_STEP,
        "drive": "QH2-240017",
    }
    asked[:] = ["pause"]
    assert probe.fill(order, "sdb") == ("paused", "from the bench")
    assert not fetched, "before it begins nothing is asked for"
    assert not disk.written, "nor written"
    asked[:] = ["", "pause"]
    assert probe.fill(order, "sdb") == ("paused", "from the bench")
    assert (tmp_path / "spool" / "filled-7").read_text() == str(3 * FILL_STEP), "it goes on from there"
    fetched.clear()
    assert probe.fill(order, "sdb") == ("done", "")
    assert disk.read(3 * FILL_STEP // 512, 1) == b"\7" * 512
    assert fetched == [3, 0], (
        "the rest of it, and to read it back once the stretch of zeros that is no part of this start"
    )
    write = type(disk).write
    monkeypatch.setattr(type(disk), "write", lambda self, sector, data: write(self, sector, data[:-512] + b"\0" * 512))
    (tmp_path / "spool" / "filled-7").unlink()
    result, detail = probe.fill(order, "sdb")
    assert (result, f"at byte {3 * FILL_STEP}" in detail) == ("failed", True)
    assert (tmp_path / "spool" / "filled-7").read_text() == "0"
    with pytest.raises(Refused, match="a drive of at least"):
        probe.fill({**order, "size": 1 << 50}, "sdb")


def _target(monkeypatch: pytest.MonkeyPatch, holds: int | None) -> Any:
    """Filling of a drive of which this is known; what it orders."""
    ordered: list[dict[str, Any]] = []
    orders = SimpleNamespace(enqueue=lambda ticket, body, by, to: ordered.append({**body, **to.order_body()}))
    copies = SimpleNamespace(changes=nullcontext(), is_written_to=lambda ticket, copy: False)
    own = DriveRestores(*cast(list[Any], [None, None, None, None, copies, orders]))
    monkeypatch.setattr(
        own, "_copy", lambda ticket, copy: (SimpleNamespace(state="done", body={"drive": "OLD"}), 1 << 30)
    )
    monkeypatch.setattr(
        own,
        "_targets",
        lambda ticket, copy: [
            _Target(
                "sdb",
                "sdb",
                SeenDrive("NEW", "qh-2240017", None),
                1 << 31,
                holds,
                None,
                Identity("qh-2240017", "", "NEW", 1 << 31),
            )
        ],
    )
    monkeypatch.setattr(own, "_whole", lambda ticket, copy: (1.0, 0))
    return own, ordered


@pytest.mark.parametrize(("holds", "words"), [(None, "one that was not read"), (2, "2 volumes on it")])
def test_what_is_not_known_to_be_empty_is_filled_on_somebodys_word_only(
    monkeypatch: pytest.MonkeyPatch, holds: int | None, words: str
) -> None:
    own, ordered = _target(monkeypatch, holds)
    with pytest.raises(StoreError, match=words):
        own.fill(1, 2, "sdb", "0017", holes=False, over=False, by="KT")
    assert not ordered
    own.copies.is_written_to = lambda ticket, copy: True
    with pytest.raises(StoreError, match="one that is being repaired"):
        own.fill(1, 2, "sdb", "0017", holes=False, over=True, by="KT")
    own.copies.is_written_to = lambda ticket, copy: False
    own.fill(1, 2, "sdb", "0017", holes=False, over=True, by="KT")
    with pytest.raises(StoreError, match="as it was shown, got qh-2240017"):
        own.fill(1, 2, "sdb", "0017", holes=False, over=True, by="KT", serial="QH1-990017")
    assert [(o["order"], o["disk"], o["copy"], o["size"], o["drive"]) for o in ordered] == [
        ("fill", "sdb", "2", 1 << 30, "qh-2240017")
    ]


def test_a_copy_that_a_drive_is_filled_from_is_not_deleted_and_one_that_is_gone_ends_its_order_alone(
    bench: Bench,
) -> None:
    number, image, link = _copied(bench, "beside", end=100_000)
    copy = link["orders"][-1]["id"]
    bench.stop_probes()
    bench.call(
        "POST",
        f"/api/tickets/{number}/copies/{copy}/fill",
        json={"device": "sdb", "ends": "0017", "holes": True, "by": "KT"},
    )
    assert "is not being restored" in bench.refused("DELETE", f"/api/tickets/{number}/copies/{copy}")
    source = next(s["id"] for s in bench.call("GET", f"/api/tickets/{number}/volumes")["sources"] if s["is_copy"])
    first = bench.call("GET", f"/api/tickets/{number}/volumes", params={"source": source})["first"]
    said = {"source": source, "first": first, "by": "KT"}
    assert "is not being restored" in bench.refused(
        "POST", f"/api/tickets/{number}/volumes/repair", json={**said, "groups": ["x"]}
    )
    assert "is not being restored" in bench.refused(
        "POST", f"/api/tickets/{number}/volumes/take-back", json={**said, "id": "undo-1"}
    )
    image.unlink()
    bench.probe("beside", bench.call("GET", f"/api/tickets/{number}/link")["secret"], f"spool-{number}")
    link = bench.until(number, lambda link: link["orders"][-1]["state"] not in ("waiting", "paused"), 60)
    assert (link["orders"][-1]["state"], "expected a copy that was begun" in link["orders"][-1]["detail"]) == (
        "failed",
        True,
    )
    assert link["state"] == "linked", "the link goes on"
    assert link["orders"][-1]["copy_of"] == copy
    assert not [e["note"] for e in bench.ticket(number)["tape"] if "may be gone" in e["note"]], (
        "not a byte of it was written"
    )


@pytest.mark.parametrize("way", [pytest.param("leave", marks=pytest.mark.wide), "end"])
def test_a_drive_that_is_filled_in_part_and_left_is_said_to_be(bench: Bench, way: str) -> None:
    number, _image, link = _copied(bench, "beside", end=100_000)
    copy = link["orders"][-1]["id"]
    bench.stop_probes()
    order = bench.call(
        "POST",
        f"/api/tickets/{number}/copies/{copy}/fill",
        json={"device": "sdb", "ends": "0017", "holes": True, "by": "KT"},
    )["orders"][-1]["id"]
    bench.call("POST", f"/api/tickets/{number}/orders/{order}", json={"do": "pause", "by": "KT"})
    link = bench.call("POST", f"/api/tickets/{number}/orders/{order}", json={"do": "go-on", "by": "KT"})
    secret = str(link["secret"])
    head, session = {"Authorization": f"Bearer {secret}"}, "5e55" * 4  # a probe has it in its hands when it is paused
    bench.call(
        "POST", "/api/link/hello", json={"protocol": 1, "probe": "1", "machine": {}, "session": session}, headers=head
    )
    assert [o["order"] for o in bench.call("GET", f"/api/link/orders?session={session}", headers=head)["orders"]] == [
        "fill"
    ]
    bench.call(
        "POST",
        "/api/link/done",
        json={"session": session, "order": str(order), "result": "paused", "detail": "from the bench"},
        headers=head,
    )
    if way == "leave":
        bench.call("POST", f"/api/tickets/{number}/orders/{order}", json={"do": "leave", "by": "KT"})
    else:
        bench.call("DELETE", f"/api/tickets/{number}/link")
    assert [e["note"] for e in bench.ticket(number)["tape"] if "Restore to QH2-240017 was cancelled" in e["note"]]


def test_the_real_machines_way_fills_a_block_device_and_nobody_elses(tmp_path: Path) -> None:
    """On a loop device of this very kernel, past its cache."""
    image = tmp_path / "disk.img"
    image.write_bytes(b"\x5a" * (5 * FILL_STEP))
    made = (
        subprocess.run(["losetup", "-f", "--show", str(image)], capture_output=True, text=True, check=False)
        if shutil.which("losetup")
        else None
    )
    if made is None or made.returncode:
        pytest.skip("no loop device can be had here")
    device = made.stdout.strip().removeprefix("/dev/")
    try:
        machine = Machine()
        with machine.filled(device) as own:
            own.write(0, b"a" * FILL_STEP)
            own.zero(FILL_STEP, 3 * FILL_STEP)
            own.flush()
            assert (
                own.read(0, 4096),
                own.is_zero(FILL_STEP, 3 * FILL_STEP),
                own.is_zero(3 * FILL_STEP, 2 * FILL_STEP),
            ) == (b"a" * 4096, True, False)
            assert not machine.is_free(device)
            with pytest.raises(Refused, match="a disk that nothing uses"), machine.filled(device):
                pass
        assert machine.is_free(device)
    finally:
        subprocess.run(["losetup", "-d", f"/dev/{device}"], check=False)
    assert image.read_bytes() == b"a" * FILL_STEP + bytes(3 * FILL_STEP) + b"\x5a" * FILL_STEP
