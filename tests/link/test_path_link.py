"""The path through the link: sectors read as they are asked for, mended with the undo on the bench first, taken back;
refused where it is not that disk any more."""

from __future__ import annotations

import base64
import time
from typing import Any

import pytest
from benches import Bench

from gatecheck.practice.patients import patient
from gatecheck.probe.base import Refused
from gatecheck.probe.link import Link
from gatecheck.probe.orders import clearance, validated_orders, writes_sum
from gatecheck.probe.probe import Probe
from gatecheck.probe.spool import Spool


def seen(bench: Bench, number: int) -> Any:
    return bench.call("GET", f"/api/tickets/{number}/path")


def read_through(bench: Bench, name: str, **facts: Any) -> tuple[int, str]:
    """A linked machine whose path was read."""
    number, secret = bench.linked(**facts)
    bench.probe(name, secret)
    bench.until(number, lambda link: any(o["state"] == "done" for o in link["orders"]))
    bench.call("POST", f"/api/tickets/{number}/path/read", json={"device": seen(bench, number)["disk"], "by": "KT"})
    bench.until(number, lambda link: all(o["state"] != "waiting" for o in link["orders"]))
    return number, secret


def ended(bench: Bench, number: int) -> Any:
    bench.until(number, lambda link: all(o["state"] != "waiting" for o in link["orders"]))
    return seen(bench, number)


def until_boots(bench: Bench, number: int, wanted: bool) -> Any:
    """The path once the firmware was looked at again after an entry was written."""
    for _ in range(1500):
        path = seen(bench, number)
        if path["boots"] is wanted and all(
            o["state"] != "waiting" for o in bench.call("GET", f"/api/tickets/{number}/link")["orders"]
        ):
            return path
        time.sleep(0.2)
    raise AssertionError(path["verdict"])


FACTS = {"platform": "pc", "installed_os": "linux", "data": "backed-up"}


def test_read_mended_taken_back_and_the_probe_that_died_between(bench: Bench) -> None:
    number, _secret = read_through(bench, "no-fallback", **FACTS, drive_kind="nvme")
    path = seen(bench, number)
    assert (path["boots"], path["stop"]["gate"], path["unread"]) == (False, "loader", 0)
    said = {
        e["body"].get("move"): e["body"].get("weights") for e in bench.call("GET", f"/api/tickets/{number}")["tape"]
    }
    assert max(said["disk-layout"], key=said["disk-layout"].get) == "sound"
    # the loader is there: it is the way to it that is lost
    assert max(said["entry-target"], key=said["entry-target"].get) == "none"
    assert "loader-look" not in said
    plan = next(p for p in path["plans"] if p["id"] == "loader")
    assert (plan["id"], plan["boots_after"], plan["fix"], plan["held"]) == ("loader", True, "rebuild-loader", "")
    bench.call("POST", f"/api/tickets/{number}/path/mend", json={"device": path["disk"], "plan": "loader", "by": "KT"})
    path = ended(bench, number)
    assert (path["boots"], path["mends"][0]["state"]) == (True, "done")
    assert bench.tape_until(number, lambda tape: any("kept (task" in e["note"] for e in tape))
    order = path["mends"][0]["order"]
    bench.call("POST", f"/api/tickets/{number}/path/take-back", json={"order": order, "by": "KT"})
    path = ended(bench, number)
    assert path["boots"] is False
    assert path["mends"][1]["taken_back"]
    assert "undone" in bench.refused("POST", f"/api/tickets/{number}/path/take-back", json={"order": order, "by": "KT"})


def test_a_boot_entry_is_written_seen_again_and_taken_back(bench: Bench) -> None:
    number, _ = read_through(bench, "no-fallback", **FACTS, drive_kind="nvme")
    path = seen(bench, number)
    plan = path["plans"][0]
    assert (plan["id"], plan["fix"], plan["boots_after"]) == ("entry", "restore-entry", True)
    assert [(w["field"], w["at"]) for w in plan["writes"]] == [("Boot0002", None), ("BootOrder", None)]
    bench.call("POST", f"/api/tickets/{number}/path/mend", json={"device": path["disk"], "plan": "entry", "by": "KT"})
    path = until_boots(bench, number, True)
    assert "Boot0002" in " ".join(s["text"] for s in path["steps"])
    bench.call("POST", f"/api/tickets/{number}/path/take-back", json={"order": path["mends"][0]["order"], "by": "KT"})
    path = until_boots(bench, number, False)
    assert path["mends"][1]["taken_back"]
    assert "Boot0002" not in " ".join(s["text"] for s in path["steps"])


GLOBAL = "8be4df61-93ca-11d2-aa0d-00e098032b8c"


@pytest.mark.parametrize(
    "writes",
    [
        None,
        [],
        [{"name": f"BootOrder-{GLOBAL}"}],
        [{"name": "PK-" + GLOBAL, "before": None, "after": "AAAAAAAA"}],
        [{"name": f"Boot0001-{GLOBAL}", "before": None, "after": ""}],
        [{"name": f"../Boot0001-{GLOBAL}", "before": None, "after": "AAAAAAAA"}],
        [{"name": f"Boot0001-{GLOBAL}", "before": None, "after": "AAAAAAAA"}] * 5,
    ],
)
def test_only_boot_entries_and_their_order_are_written(writes: Any) -> None:
    assert (
        validated_orders([{"id": "1", "order": "entry", "device": "nvme0", "writes": writes, "clearances": {}}]) == []
    )


def test_a_variable_that_is_not_what_was_read_is_left_alone(tmp_path: Any) -> None:
    machine = patient("no-fallback").connected()
    own = Probe(machine, Spool(str(tmp_path)), None, say=lambda text: None)
    order = {
        "id": "1",
        "writes": [
            {"name": f"Boot0009-{GLOBAL}", "before": None, "after": "BwAAAAEAAAA="},
            {"name": f"BootOrder-{GLOBAL}", "before": "BwAAAAkA", "after": "BwAAAAkAAAA="},
        ],
    }
    before = dict(machine.pages)
    with pytest.raises(Refused, match="BootOrder: expected what the bench has read"):
        own.write_entry(order)
    assert machine.pages == before


@pytest.mark.parametrize(
    ("name", "plan", "facts"),
    [
        ("torn-table", "protective-mbr", {"drive_kind": "sata-ssd"}),
        ("old-layout", "boot-code", {"drive_kind": "hdd", "installed_os": "windows-7"}),
    ],
)
def test_each_practice_machine_that_shows_it_is_mended(
    bench: Bench, name: str, plan: str, facts: dict[str, Any]
) -> None:
    number, _ = read_through(bench, name, **{**FACTS, **facts})
    path = seen(bench, number)
    assert path["boots"] is False
    bench.call("POST", f"/api/tickets/{number}/path/mend", json={"device": path["disk"], "plan": plan, "by": "KT"})
    assert ended(bench, number)["boots"] is True
    for boots in (
        False,
        True,
    ):  # taken back, and done once more: the newest counts, though the same bytes were there before
        order = seen(bench, number)["mends"][0]["order"]
        if boots:
            bench.call(
                "POST", f"/api/tickets/{number}/path/mend", json={"device": path["disk"], "plan": plan, "by": "KT"}
            )
        else:
            bench.call("POST", f"/api/tickets/{number}/path/take-back", json={"order": order, "by": "KT"})
        assert ended(bench, number)["boots"] is boots


def test_what_is_held_is_not_written_and_what_nobody_showed_is_not_ordered(bench: Bench) -> None:
    number, _ = read_through(bench, "torn-table", **{**FACTS, "data": "irreplaceable"}, drive_kind="sata-ssd")
    path = seen(bench, number)
    assert all(p["held"] for p in path["plans"])
    assert "neither backup" in bench.refused(
        "POST", f"/api/tickets/{number}/path/mend", json={"device": path["disk"], "plan": "protective-mbr", "by": "KT"}
    )
    assert "expected one that the Path" in bench.refused(
        "POST", f"/api/tickets/{number}/path/mend", json={"device": path["disk"], "plan": "no-such", "by": "KT"}
    )
    assert "expected one that a person gives" in bench.refused(
        "POST", f"/api/tickets/{number}/orders", json={"order": "mend", "device": "sda", "by": "KT"}
    )
    assert [o["order"] for o in bench.call("GET", f"/api/tickets/{number}/link")["orders"]] == ["read", "sectors"]


@pytest.mark.parametrize("outcome", ["failing", "worn-out"])
def test_a_drive_in_doubt_is_not_written_to(bench: Bench, outcome: str) -> None:
    number, _ = read_through(bench, "torn-table", **FACTS, drive_kind="sata-ssd")
    assert not any(p["held"] for p in seen(bench, number)["plans"])
    bench.call(
        "POST",
        f"/api/tickets/{number}/entries",
        json={"entry": {"move": "health-pages", "outcome": outcome}, "by": "KT"},
    )
    path = seen(bench, number)
    assert all("health is in doubt" in p["held"] for p in path["plans"])
    assert "health is in doubt" in bench.refused(
        "POST",
        f"/api/tickets/{number}/path/mend",
        json={"device": path["disk"], "plan": path["plans"][0]["id"], "by": "KT"},
    )


def test_a_half_done_mending_tells_what_stands_there_now(tmp_path: Any) -> None:
    machine = patient("no-table").connected()
    disk = machine.drives["sda"].disk
    whole, writes = disk.write, [0]

    def once(lba: int, data: bytes) -> None:
        writes[0] += 1
        if writes[0] == 1:
            whole(lba, data)

    disk.write = once  # type: ignore[method-assign]
    own = Probe(machine, Spool(str(tmp_path)), None, say=lambda text: None)
    with pytest.raises(Refused, match="verify the written"):
        own.mend(
            {
                "id": "1",
                "disk": "sda",
                "drive": "QF4-650031",
                "writes": [_write(4 * 512, ZEROS, ONES), _write(9 * 512, ZEROS, ONES)],
            },
            "sda",
        )
    assert [(line["path"], own.spool.data(line)) for line in own.spool.lines] == [
        ("sda/lba4-4.bin", ONES),
        ("sda/lba9-9.bin", ZEROS),
    ]


def test_a_drive_that_was_failing_is_not_written_to(bench: Bench) -> None:
    number, _ = read_through(bench, "torn-table", **FACTS, drive_kind="sata-ssd")
    bench.call(
        "POST", f"/api/tickets/{number}/entries", json={"entry": {"move": "sound", "outcome": "clunking"}, "by": "KT"}
    )
    bench.call("POST", f"/api/tickets/{number}/entries", json={"entry": {"fact": {"drive_kind": "hdd"}}, "by": "KT"})
    assert all(p["held"] for p in seen(bench, number)["plans"])


def _write(at: int, before: bytes, after: bytes) -> dict[str, Any]:
    return {"at": at, "before": base64.b64encode(before).decode(), "after": base64.b64encode(after).decode()}


ZEROS, ONES, TWOS = bytes(512), b"\1" * 512, b"\2" * 512


@pytest.mark.parametrize(
    ("writes", "wrong"),
    [
        ([(0, ONES, TWOS)], "what the bench has read there"),
        ([(100, ZEROS, ONES)], "whole sectors"),
        ([(512 * 9, ZEROS, ONES), (512 * 8, ONES, TWOS)], "what the bench has read there"),
    ],
)
def test_nothing_is_written_where_the_disk_is_not_what_was_read(
    writes: list[tuple[int, bytes, bytes]], wrong: str
) -> None:
    machine = patient("no-table").connected()
    with pytest.raises(Refused, match=wrong):
        machine.rewrite("sda", writes, 512, lambda who: None)
    assert machine.drives["sda"].disk.written == {}


def test_one_that_was_cut_is_finished_by_the_same_order_and_one_that_does_not_hold_is_said() -> None:
    machine = patient("no-table").connected()
    disk = machine.drives["sda"].disk
    disk.write(4, ONES)  # the first of two was written when the power went
    assert machine.rewrite("sda", [(4 * 512, ZEROS, ONES), (9 * 512, ZEROS, ONES)], 512, lambda who: None) == [
        (4 * 512, ONES),
        (9 * 512, ONES),
    ]
    disk.write = lambda lba, data: None  # type: ignore[method-assign]
    with pytest.raises(Refused, match="expected to verify the written bytes"):
        machine.rewrite("sda", [(20 * 512, ZEROS, ONES)], 512, lambda who: None)


@pytest.mark.parametrize(
    "writes",
    [
        None,
        [],
        "x",
        [{"at": 0}],
        [_write(-1, ZEROS, ONES)],
        [_write(0, ZEROS, b"")],
        [_write(0, ZEROS, ONES[:1])],
        [{"at": True, "before": "", "after": ""}],
        [{"at": 0, "before": "!", "after": "!"}],
        [_write(0, bytes(1 << 20), bytes(1 << 20))] * 4,
    ],
)
def test_an_order_whose_writes_are_none_is_left(writes: Any) -> None:
    order = {"id": "1", "order": "mend", "device": "sda", "disk": "sda", "writes": writes, "clearances": {}}
    assert validated_orders([order]) == []


def test_a_clearance_is_for_just_these_bytes() -> None:
    writes = [_write(0, ZEROS, ONES)]
    link = Link("http://127.0.0.1:1", "s", print)
    order = {"id": "7", "order": "mend", "device": "sda", "disk": "sda", "writes": writes}
    order["clearances"] = {"write": clearance("s", "7", "mend", "sda", "write:" + writes_sum(writes))}
    assert link.cleared(order)
    assert not link.cleared({**order, "writes": [_write(512, ZEROS, ONES)]})
    assert not link.cleared({**order, "clearances": {"write": clearance("s", "7", "mend", "sda", "write")}})
