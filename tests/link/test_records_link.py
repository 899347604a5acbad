"""System records of a linked machine: read turn by turn without starting it, kept for the screen, and into the log with
what they say of why it does not start."""

from __future__ import annotations

from typing import Any

import pytest
from benches import Bench
from volume_desk import VolumeDesk

from serving import HTTP

FACTS = {"platform": "pc", "installed_os": "windows-11", "data": "backed-up", "drive_kind": "sata-ssd"}
CASES = {
    "update-broke": (
        "update-before",
        "Cumulative update for November was installed",
        {"runs", "updates", "crashes"},
    ),
    "often-cut": ("power-cuts", "the run did not end with a shutdown", {"runs", "power", "disk"}),
    "repairs-itself": ("repair-tried", "The system tried to repair itself: 4 times", {"runs"}),
    "quiet-weeks": ("disk-errors", "last shutdown", {"runs", "disk"}),
}


def read(desk: VolumeDesk) -> Any:
    now = desk.view()
    desk.ask("records")
    desk.until(lambda v: v["has_records"])
    place = f"source={now['source']}&first={now['first']}"
    return desk.bench.call("GET", f"/api/tickets/{desk.number}/volumes/records?{place}")


@pytest.mark.parametrize("name", CASES)
def test_records_are_read_and_weighed(bench: Bench, name: str) -> None:
    outcome, sentence, rows = CASES[name]
    desk = VolumeDesk(bench, name, **FACTS)
    found = read(desk)
    assert sentence in found["sentence"]
    assert rows <= {e["row"] for e in found["events"]}
    assert [s["name"] for s in found["systems"]] == ["Windows 11 Home"]
    assert found["systems"][0]["installed_for"] == ["ahci"]
    assert not found["is_stale"]
    said = next(b for b in desk.tape() if b.get("move") == "system-records")
    assert max(said["weights"], key=said["weights"].get) == outcome
    assert "Signe" not in str(found), "nobody's files"


def test_what_has_no_records_says_so_and_weighs_nothing(bench: Bench) -> None:
    desk = VolumeDesk(bench, "pulled-card", **FACTS)
    found = read(desk)
    assert (found["systems"], found["events"], found["findings"]) == ([], [], [])
    assert not [b for b in desk.tape() if b.get("move") == "system-records"]
    place = f"{bench.url}/api/tickets/{desk.number}/volumes/records"
    assert HTTP.get(f"{place}?source=sdz&first=0", timeout=30).json() is None


def test_records_of_a_locked_volume_are_read_with_its_key(bench: Bench) -> None:
    desk = VolumeDesk(bench, "locked-other-key", **FACTS)
    found = read(desk)
    assert found["systems"] == []
    assert found["sentence"] == "Not read: encrypted Windows volume"


def test_a_linux_that_waits_for_a_disk_that_was_taken_out(bench: Bench) -> None:
    desk = VolumeDesk(bench, "gone-disk", **{**FACTS, "installed_os": "linux", "drive_kind": "hdd"})
    found = read(desk)
    assert "The start waits for a volume that is not on this disk" in found["sentence"]
    assert [(s["name"], s["root"]) for s in found["systems"]] == [("Loft Linux", "/")]
    assert {"volume-gone", "emergency"} <= {f["id"] for f in found["findings"]}
    assert {"runs", "other", "updates"} <= {e["row"] for e in found["events"]}
    assert not [b for b in desk.tape() if b.get("move") == "system-records"], "the check has no answer for it"
    assert "ingrid" not in str(found), "nobody's files"


def test_a_driver_that_the_machine_needs_is_written_read_back_and_undone(bench: Bench) -> None:
    """Its controller is in another mode than the system was installed for: the driver is there, and told not to
    start."""
    desk = VolumeDesk(bench, "mode-changed", **{**FACTS, "drive_kind": "sata-ssd"})
    found = read(desk)
    assert [f["id"] for f in found["findings"]][:1] == ["driver-not-started"]
    assert [r["id"] for r in found["repairs"]] == ["start-driver"]
    now = desk.view()
    own = {"source": now["source"], "first": now["first"], "by": "KT"}
    address = f"/api/tickets/{desk.number}/volumes"
    mixed = bench.refused("POST", f"{address}/repair", json={**own, "groups": ["start-driver", "map"]})
    assert "expected one that the newest look shows" in mixed
    desk.ask("repair", groups=["start-driver"])
    desk.until(lambda v: v["repairs"] and v["repairs"][0]["state"] == "done" and v["look"] is not None)
    assert desk.view()["look"]["state"] == "clean"
    desk.until(lambda v: again(desk)["at"] != found["at"])
    now = again(desk)
    assert (now["repairs"], "driver-not-started" in {f["id"] for f in now["findings"]}) == ([], False)
    tape = desk.tape()
    assert "Let storahci start with the boot" in str(tape)
    # it starts in both now, and asks for none
    assert [b["fact"]["storage_was"] for b in tape if "storage_was" in b.get("fact", {})] == ["raid", "unknown"]
    assert len([b for b in tape if b.get("move") == "system-records"]) == 1  # after a repair it is the start that tells
    desk.ask("take-back", id=desk.view()["repairs"][0]["id"])
    desk.until(lambda v: [r["id"] for r in again(desk)["repairs"]] == ["start-driver"])
    assert bench.ticket(desk.number)["facts"]["storage_was"] == "raid"


def again(desk: VolumeDesk) -> Any:
    now = desk.view()
    return desk.bench.call(
        "GET", f"/api/tickets/{desk.number}/volumes/records?source={now['source']}&first={now['first']}"
    )
