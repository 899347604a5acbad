"""Disk room: what is told is what lies there, and only what was handed over goes."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient

from gatecheck.server.room.service import used

HEAD = {"X-Gate-Check": "1"}
BLOCK = 4096


def ticket(client: TestClient, *, closed: bool) -> int:
    body = {"customer": "Choir office", "machine": "Ferrow Lathe-14", "by": "KT", "facts": {}, "entries": []}
    number = int(client.post("/api/tickets", json=body, headers=HEAD).json()["id"])
    if closed:
        entry: dict[str, Any] = {"signed": "release", "fix": None, "reason": "declined"}
        client.post(f"/api/tickets/{number}/entries", json={"entry": entry, "by": "KT"}, headers=HEAD)
        done = client.post(
            f"/api/tickets/{number}/handover", json={"proven": [], "waive": "fetched", "by": "KT"}, headers=HEAD
        )
        assert done.status_code == 200, done.text
    return number


def lay(data: Path, number: int) -> None:
    """An image of 16 MiB with 12 KiB in it, a recovered file, and what was read for a check."""
    image = data / "copies" / str(number) / "1.img"
    saved = data / "volumes" / str(number) / "rescued" / "1" / "letter.txt"
    for place in (image, saved):
        place.parent.mkdir(parents=True)
    with image.open("wb") as file:
        file.truncate(16 << 20)
        file.seek(1 << 20)
        file.write(b"x" * 3 * BLOCK)
    saved.write_bytes(b"y" * BLOCK)
    (data / "volumes" / str(number) / "disk.img").write_bytes(b"z" * 2 * BLOCK)


def test_holes_take_no_room_and_each_kind_is_told_apart(client: TestClient, tmp_path: Path) -> None:
    number = ticket(client, closed=False)
    lay(tmp_path, number)
    (tmp_path / "copies" / "999").mkdir()
    (tmp_path / "copies" / "999" / "1.img").write_bytes(b"of nobody")
    told = client.get("/api/room").json()
    own = told["tickets"]
    assert [(t["id"], t["closed_at"], t["may_go"], t["goes_on"]) for t in own] == [(number, None, False, None)]
    assert 3 * BLOCK <= own[0]["images"] < 1 << 20
    assert BLOCK <= own[0]["recovered"] < own[0]["checks"] + 2 * BLOCK
    assert own[0]["images"] == used(tmp_path / "copies" / str(number))
    assert 0 < told["free"] <= told["size"]
    assert told["others"] > 0


def test_only_what_was_handed_over_goes_and_its_log_stays(client: TestClient, tmp_path: Path) -> None:
    still, closed = ticket(client, closed=False), ticket(client, closed=True)
    for number in (still, closed):
        lay(tmp_path, number)
    refused = client.post(f"/api/room/{still}", json={"by": "KT"}, headers=HEAD)
    assert refused.status_code == 409
    assert "which is open" in refused.json()["detail"]
    left = client.post(f"/api/room/{closed}", json={"by": "KT"}, headers=HEAD).json()["tickets"]
    assert [t["id"] for t in left] == [still]
    assert not (tmp_path / "copies" / str(closed)).exists()
    assert (tmp_path / "copies" / str(still) / "1.img").exists()
    assert client.get(f"/api/tickets/{closed}").json()["tape"]
    assert client.post("/api/room/777", json={"by": "KT"}, headers=HEAD).status_code == 404


@pytest.mark.parametrize(("days", "may_go"), [(0, True), (90, False)])
def test_it_may_go_once_the_warranty_has_ended(client: TestClient, tmp_path: Path, days: int, may_go: bool) -> None:
    number = ticket(client, closed=True)
    lay(tmp_path, number)
    page = {"warranty_days": days}
    assert client.put("/api/shop", json={"page": page, "by": "KT"}, headers=HEAD).status_code == 200
    own = client.get("/api/room").json()["tickets"][0]
    assert own["may_go"] is may_go
    assert own["goes_on"] == (datetime.now(UTC) + timedelta(days=days)).date().isoformat()


def test_links_are_not_followed(tmp_path: Path) -> None:
    (tmp_path / "own").mkdir()
    (tmp_path / "large").write_bytes(b"x" * (1 << 20))
    (tmp_path / "own" / "link").symlink_to(tmp_path / "large")
    (tmp_path / "own" / "circle").symlink_to(tmp_path / "own")
    assert used(tmp_path / "own") < 1 << 18
    assert used(tmp_path / "nowhere") == 0
