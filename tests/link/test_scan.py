"""The timed read: every unreadable sector found and none invented, whatever ends it in between; through a real server
and a real probe too."""

from __future__ import annotations

import base64
import errno
import random
import struct
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from benches import Bench

from gatecheck.core.errors import DecodeError
from gatecheck.core.scan.csv import map_csv
from gatecheck.core.scan.evidence import missing_of, scanned
from gatecheck.core.scan.map_page import read_map_page, repacked
from gatecheck.core.scan.read import READ, UNREADABLE
from gatecheck.core.scan.view import bins_of, newly_bad
from gatecheck.practice.patients import patient
from gatecheck.probe.base import geometry
from gatecheck.probe.probe import Probe
from gatecheck.probe.read_map import MAP_MAGIC, READ_ROW, MapWriter, rows_of
from gatecheck.probe.scan import Scan
from gatecheck.probe.spool import Spool
from gatecheck.probe.surface_scan import map_so_far
from gatecheck.probe.worker import Stopped, Worker
from serving import HTTP

BLOCK = 2048
SECTORS = BLOCK * 400


class Drive:
    """A medium with sectors that do not read. `says`: what a read of a place raises or takes instead (milliseconds)."""

    def __init__(self, bad: set[int], says: Callable[[int, int], float | None] = lambda lba, count: None) -> None:
        self.bad, self.says = bad, says

    def block_reader(self, device: str, size: int, keep: bool = False) -> Callable[[int, int, memoryview], float]:
        def read(lba: int, count: int, into: memoryview) -> float:
            told = self.says(lba, count)
            if any(lba <= place < lba + count for place in self.bad):
                raise OSError(errno.EIO, "unreadable")
            if keep:
                into[:] = b"".join(lba.to_bytes(8, "little") * (size // 8) for lba in range(lba, lba + count))
            return 5.0 if told is None else told

        return read


def scan(
    drive: Drive,
    *,
    known: list[Any] | None = None,
    upto: int | None = None,
    keep: Any = None,
    sector: int = 512,
    seconds: float = 5.0,
) -> tuple[bytes, Scan, str]:
    """(the map's piece, the scan, why it stopped)."""
    worker = Worker(drive, "sda", sector, BLOCK, seconds, keep=keep is not None)
    own = Scan(worker, SECTORS, BLOCK, known=known or [], keep=keep)
    why = ""
    try:
        for count, _ in enumerate(own.steps()):
            if upto is not None and count >= upto:
                why = "cut"
                break
    except Stopped as error:
        why = str(error)
    finally:
        worker.leave()
    return own.map.take(), own, why


def unreadable(raw: bytes) -> set[int]:
    """Single sectors that the finished map calls unreadable."""
    blocks = scanned(read_map_page(raw)).page.blocks
    return {
        lba + place
        for lba, size in zip(
            blocks.lba[blocks.state == UNREADABLE].tolist(),
            blocks.sectors[blocks.state == UNREADABLE].tolist(),
            strict=True,
        )
        for place in range(size)
    }


def some_bad(seed: int) -> set[int]:
    rng = random.Random(seed)
    start = rng.randrange(SECTORS - 700)
    return (
        {rng.randrange(SECTORS) for _ in range(12)}
        | set(range(start, start + rng.choice((1, 9, 300, 700))))
        | ({0} if seed % 2 else {SECTORS - 1})
    )


@pytest.mark.parametrize("seed", range(3))
@pytest.mark.parametrize("cut", [None, 1, 30])
@pytest.mark.parametrize("sector", [512, 4096])
def test_what_does_not_read_is_found_to_the_sector_and_nothing_else_is(seed: int, cut: int | None, sector: int) -> None:
    bad, raw, known = some_bad(seed), b"", []
    for _ in range(200):  # cut off again and again, it ends at the same
        piece, own, why = scan(Drive(bad), known=known, upto=cut, sector=sector)
        raw += piece
        known = rows_of(raw)
        cut = cut * 2 if cut else None
        if not why:
            break
    assert unreadable(raw) == bad
    assert own.done() == (SECTORS, SECTORS)
    found = scanned(read_map_page(raw))
    assert found.unreadable == len(bad)
    assert int(found.page.blocks.sectors[found.page.blocks.state == READ].sum()) >= SECTORS - len(bad)


def test_what_reads_well_is_read_first_and_a_bad_place_is_kept_away_from() -> None:
    bad = set(range(BLOCK * 100, BLOCK * 103))
    order: list[tuple[int, int]] = []
    keep = lambda lba, data: order.append((lba, len(data) // 512))  # noqa: E731
    scan(Drive(bad), keep=keep)
    late = [place for place, (lba, size) in enumerate(order) if size < BLOCK]
    assert order[:100] == [(BLOCK * place, BLOCK) for place in range(100)]
    assert min(late, default=len(order)) >= 390  # pieces come when all whole blocks are there
    near = [lba // BLOCK for lba, _ in order[100:103]]
    assert all(block > 103 for block in near)


def test_every_byte_that_is_kept_is_of_its_place() -> None:
    bad, kept = some_bad(3), {}
    scan(Drive(bad), keep=lambda lba, data: kept.__setitem__(lba, bytes(data)))
    for lba, data in kept.items():
        assert data[:8] == lba.to_bytes(8, "little")
        assert data[-8:] == (lba + len(data) // 512 - 1).to_bytes(8, "little")
    assert sum(len(data) for data in kept.values()) >= (SECTORS - len(bad)) * 512


def _gone(lba: int, count: int) -> float | None:
    if lba > BLOCK * 50:
        raise OSError(errno.ENODEV, "no such device")
    return None


def _tires() -> Callable[[int, int], float | None]:
    reads = [0]

    def says(lba: int, count: int) -> float | None:
        reads[0] += 1
        return 4000.0 if reads[0] > 40 else None

    return says


def _hangs(lba: int, count: int) -> float | None:
    if lba > BLOCK * 50 or _hangs.hung:  # type: ignore[attr-defined]
        time.sleep(30)
    return None


_hangs.hung = False  # type: ignore[attr-defined]


@pytest.mark.parametrize(("says", "why"), [(_gone, "dropped off the bus"), (_tires(), "stalls"), (_hangs, None)])
def test_it_stops_where_the_drive_does(says: Callable[[int, int], float | None], why: str | None) -> None:
    began = time.monotonic()
    raw, own, stopped = scan(Drive(set(), says), seconds=0.2, upto=6 if why is None else None)
    if why is None:  # a drive that hangs hangs a child: each costs its time, and what reads well before still does
        assert own.hung >= 1
        assert time.monotonic() - began < 8
    else:
        assert why in stopped
    assert scanned(read_map_page(raw)).share < 0.6


@pytest.mark.parametrize("seed", range(3))
@pytest.mark.parametrize("reads", [3, 90, 300, 400, 420, 450, 600])
def test_a_drive_that_goes_and_says_only_that_it_failed_leaves_nothing_invented(seed: int, reads: int) -> None:
    """From some read on every place fails, as a kernel says it of a drive that was pulled: in the middle of what reads
    well, of a gap, of a single sector."""
    bad, count = some_bad(seed), [0]

    def says(lba: int, size: int) -> None:
        count[0] += 1
        if count[0] > reads:
            raise OSError(errno.EIO, "gone")

    raw, _, why = scan(Drive(bad, says))
    assert why in ("the drive dropped off the bus", "")
    assert unreadable(raw) <= bad | _near(bad)
    more, own, _ = scan(Drive(bad), known=rows_of(raw))
    assert unreadable(raw + more) == bad
    assert own.done() == (SECTORS, SECTORS)


def _near(bad: set[int]) -> set[int]:
    """Whole blocks that failed stand in the map until they are taken apart."""
    return {lba for place in bad for lba in range(place // BLOCK * BLOCK, place // BLOCK * BLOCK + BLOCK)}


@pytest.mark.parametrize(
    ("name", "pattern"),
    [
        ("spotted", "isolated-unreadable"),
        ("one-head", "one-head"),
        ("stalling", "stalled"),
        ("sound", "clean"),
        ("tidying", "clean"),
    ],
)
def test_practice_surfaces_lead_to_their_pattern(name: str, pattern: str) -> None:
    own = patient(name).connected()
    own.pace = 1e9
    block = next(b for b in own.blocks() if b.bus != "usb")
    sector, sectors = geometry(block)
    size = (1 << 26) // sector  # large blocks: a disk in a second
    worker = Worker(own, block.name, sector, size, 30)
    read = Scan(worker, sectors, size)
    with_stop = 0
    try:
        for with_stop, _ in enumerate(read.steps()):
            if with_stop > 1500:
                break
    except Stopped:
        assert name == "stalling"
    finally:
        worker.leave()
    found = scanned(read_map_page(read.map.take()))
    assert found.surface.pattern == pattern
    assert max(found.weights, key=lambda o: found.weights[o]) == pattern or found.share < 0.5


def test_little_that_was_read_says_little() -> None:
    """The start of a disk that reads well is no proof of the rest."""
    raw, _, _ = scan(Drive(set()), upto=0)
    found = scanned(read_map_page(raw))
    assert (found.surface.pattern, found.share) == ("clean", 256 / 400)
    whole = scanned(read_map_page(scan(Drive(set()))[0]))
    assert found.weights["clean"] < whole.weights["clean"]
    assert abs(sum(found.weights.values()) - 1.0) < 0.01


@pytest.mark.parametrize(
    "raw",
    [
        b"",
        b"GCMAP1\n",
        b"x" * 40,
        MapWriter(512, 100).head + b"\0\0\0\0",
        MapWriter(512, 100).head + b"\x08\0\0\0notzlib!",
    ],
)
def test_what_is_no_map_is_said(raw: bytes) -> None:
    with pytest.raises(DecodeError):
        read_map_page(raw)


def test_pieces_that_are_packed_together_are_the_same_map() -> None:
    first, own, _ = scan(Drive({9}), upto=1)
    second, _, _ = scan(Drive({9}), known=rows_of(first))
    one, several = read_map_page(repacked(first + second)), read_map_page(first + second)
    assert all(
        (getattr(one.blocks, name) == getattr(several.blocks, name)).all() for name in ("lba", "sectors", "ms", "state")
    )
    assert len(repacked(first + second)) < len(first + second)
    assert repacked(b"no map") == b"no map"
    assert own.done()[0] < SECTORS


def test_what_was_read_twice_counts_once() -> None:
    """Two probes that did not know of each other: the disk is not read whole because half of it was read twice."""
    half, _, _ = scan(Drive(set()), upto=0)
    assert scanned(read_map_page(half + half)).share == scanned(read_map_page(half)).share == 256 / 400
    assert missing_of(half + half) == (256 / 400, 0, 512)
    assert missing_of(scan(Drive(set()), upto=0, sector=4096)[0])[2] == 4096


def test_a_long_map_is_kept_short_and_goes_out_whole() -> None:
    writer = MapWriter(512, 300_000 * 8)
    for place in range(300_000):
        writer.add(READ_ROW, place * 8, 8, 5.0)
    page = read_map_page(writer.take())
    own = scanned(page)
    assert (len(own.page.blocks), own.share, own.surface.pattern) == (18_750, 1.0, "clean")
    assert map_csv(page).count("\n") == 300_001


@pytest.mark.parametrize(
    "answer",
    ["", "x", base64.b64encode(MAP_MAGIC + b"\0" * 40).decode(), base64.b64encode(b"junk").decode(), 7, None],
)
def test_a_bench_that_answers_nonsense_for_a_map_stops_nothing(answer: object) -> None:
    assert rows_of(MAP_MAGIC + struct.pack("<IQI", 512, 9, 7) + b"no zlib") == []

    class Link:
        session = "s"

        def call(self, method: str, path: str, body: object = None, patient: bool = True) -> dict[str, object]:
            return {"map": answer}

    assert rows_of(map_so_far(type("Spool", (), {"lines": []})(), Link(), "1")) == []


def test_a_drive_that_has_shown_no_such_page_is_not_asked_how_hot_it_is(tmp_path: Path) -> None:
    machine = patient("soldered").connected()
    asked: list[str] = []
    machine.scsi = lambda device, command, length: asked.append(device)  # type: ignore[method-assign]
    own = Probe(machine, Spool(str(tmp_path)), None, say=lambda text: None)
    assert own.heat(next(iter(machine.drives))) is None
    assert asked == []


def test_a_span_is_drawn_in_bins_and_growth_is_seen() -> None:
    old = scanned(read_map_page(scan(Drive({BLOCK * 7 + 3}))[0]))
    new = scanned(read_map_page(scan(Drive({BLOCK * 7 + 3, BLOCK * 7 + 4, BLOCK * 200}))[0]))
    assert [(p.first, p.last) for p in newly_bad(new, old)] == [
        (BLOCK * 7 + 4, BLOCK * 7 + 4),
        (BLOCK * 200, BLOCK * 200),
    ]
    bins = bins_of(new, 0, SECTORS, 100)
    assert (bins.read.sum() + bins.unreadable.sum(), bins.unreadable[1], bins.unreadable[50]) == (SECTORS, 2, 1)
    near = bins_of(new, BLOCK * 7, BLOCK * 7 + 10, 10)
    assert near.unreadable.tolist() == [0, 0, 0, 1, 1, 0, 0, 0, 0, 0]


# --- through a real server --------------------------------------------------------------------------------------------


SPAN = {"order": "scan", "device": "sda", "by": "KT", "end": 60_000_000}


def _read_whole(bench: Bench, *, ends: list[str]) -> dict[str, Any]:
    """A span of a practice drive is read, and ended in these ways in between. Returns the surface at the end."""
    number, secret = bench.linked("screen=other-stop", drive_kind="hdd", data="backed-up")
    slowly = ("--pace", "20") if ends else ()
    process = bench.probe("spotted", secret, f"spool-{number}", *slowly)
    bench.until(number, lambda link: link["orders"] and link["orders"][0]["state"] == "done")
    link = bench.call("POST", f"/api/tickets/{number}/orders", json=SPAN)
    order = link["orders"][-1]["id"]
    for place, end in enumerate(ends):
        bench.until(number, lambda link: bool(link["progress"]) and link["progress"]["unit"] == "sectors")
        if end == "pause":
            bench.call("POST", f"/api/tickets/{number}/orders/{order}", json={"do": "pause", "by": "KT"})
            bench.until(number, lambda link: link["orders"][-1]["state"] == "paused")
            bench.call("POST", f"/api/tickets/{number}/orders/{order}", json={"do": "go-on", "by": "KT"})
        elif end == "server":
            bench.stop()
            bench.start()
        else:
            process.kill()
            process.wait()
            process = bench.probe(
                "spotted", secret, f"spool-{number}" if end == "probe" else f"spool-{number}-{place}", *slowly
            )
    bench.until(number, lambda link: link["orders"][-1]["state"] == "done", 240)
    reads = bench.call("GET", f"/api/tickets/{number}/surfaces")["reads"]
    surface = bench.call(
        "GET", f"/api/tickets/{number}/surfaces/{reads[0]['id']}", params={"bins": 64, "end": 60_000_000}
    )
    ticket = bench.call("GET", f"/api/tickets/{number}")
    assert [e["body"].get("move") for e in ticket["tape"]].count("read-scan") == 1
    return {key: surface[key] for key in ("pattern", "unreadable", "places", "lives", "sectors")}


def test_a_read_is_ordered_and_weighed_and_ends_the_same_whatever_ends_it_in_between(bench: Bench) -> None:
    whole = _read_whole(bench, ends=[])
    assert (whole["pattern"], whole["unreadable"]) == ("isolated-unreadable", 2)
    assert [(p["first"], p["last"]) for p in whole["places"]] == [(8_812_345, 8_812_346)]
    assert "Partition" in whole["places"][0]["lives"]
    assert _read_whole(bench, ends=["pause", "server", "probe", "machine", "pause"]) == whole


def test_an_order_that_is_held_is_paused_while_it_runs_and_left_ones_keep_what_was_read(bench: Bench) -> None:
    number, secret = bench.linked("screen=other-stop", drive_kind="hdd", data="irreplaceable")
    bench.probe("spotted", secret)
    bench.until(number, lambda link: link["orders"] and link["orders"][0]["state"] == "done")
    assert bench.refused("POST", f"/api/tickets/{number}/orders", json=SPAN).startswith("order scan: ")
    bench.append(number, {"fact": {"data": "backed-up"}})
    bench.call("POST", f"/api/tickets/{number}/orders", json=SPAN | {"end": 400_000_000})
    bench.until(number, lambda link: bool(link["progress"]) and link["progress"]["unit"] == "sectors")
    bench.append(number, {"move": "sound", "outcome": "clunking"})
    link = bench.until(number, lambda link: link["orders"][-1]["state"] == "paused")
    assert bench.refused(
        "POST", f"/api/tickets/{number}/orders/{link['orders'][-1]['id']}", json={"do": "go-on", "by": "KT"}
    )
    bench.call("POST", f"/api/tickets/{number}/orders/{link['orders'][-1]['id']}", json={"do": "leave", "by": "KT"})
    reads = bench.call("GET", f"/api/tickets/{number}/surfaces")["reads"]
    assert [(r["state"], 0 < r["share"] < 0.5) for r in reads] == [("done", True)]
    text = HTTP.get(f"{bench.url}/api/tickets/{number}/surfaces/{reads[0]['id']}/csv?what=map").text
    assert text.startswith("lba,sectors,ms,state\n0,2048,")
    assert bench.tape_until(number, lambda tape: "read-scan" in [e["body"].get("move") for e in tape]), (
        "what was read weighs, though it was left"
    )


@pytest.mark.parametrize("how", ["stop", "end"])
def test_a_read_that_was_stopped_or_whose_link_was_ended_keeps_what_was_read(bench: Bench, how: str) -> None:
    number, secret = bench.linked("screen=other-stop", drive_kind="hdd", data="backed-up")
    bench.probe("spotted", secret, "spool", "--pace", "20")
    bench.until(number, lambda link: link["orders"] and link["orders"][0]["state"] == "done")
    order = bench.call("POST", f"/api/tickets/{number}/orders", json=SPAN)["orders"][-1]["id"]
    bench.until(number, lambda link: bool(bench.call("GET", f"/api/tickets/{number}/surfaces")["reads"]))
    if how == "stop":
        bench.call("POST", f"/api/tickets/{number}/orders/{order}", json={"do": "stop", "by": "KT"})
        bench.until(number, lambda link: link["orders"][-1]["state"] == "done")
    else:
        bench.call("DELETE", f"/api/tickets/{number}/link")
    reads = bench.call("GET", f"/api/tickets/{number}/surfaces")["reads"]
    assert [(r["state"], r["drive"]) for r in reads] == [("done", "QS6-400871")]
    assert bench.tape_until(number, lambda tape: "read-scan" in [e["body"].get("move") for e in tape])
