"""Files of a ticket beyond their verdict: the bytes of a page with the field at a byte, and how a drive has changed."""

from __future__ import annotations

from typing import Any

import pytest
from fastapi.testclient import TestClient

from gatecheck.server.demo import pages as demo_captures
from practised import capture_of


def take_in(client: TestClient, **facts: str) -> int:
    body = {"customer": "Choir office", "machine": "Ferrow Lathe-14", "facts": facts, "by": "KT"}
    return int(client.post("/api/tickets", json=body).json()["id"])


def drop(client: TestClient, number: int, name: str, data: bytes) -> dict[str, Any]:
    answer = client.post(f"/api/tickets/{number}/files", files={"file": (name, data)}, data={"by": "KT"})
    assert answer.status_code == 201, answer.text
    found: dict[str, Any] = answer.json()
    return found


def spinning(hours: int, pending: int) -> bytes:
    return demo_captures.disk_capture(
        "QUARRY ANVIL 1T", "QA-77", 1000, demo_captures.disk_readings(hours, pending=pending)
    )


FIELDS = [
    ("ata-model", "sda/identify.bin", 54 + 7, "model", 54, 40),
    ("attribute", "sda/smart-data.bin", 2 + 12 + 5, "attribute 2", 14, 12),
    ("unnamed", "sda/identify.bin", 3, None, 3, 1),
]


@pytest.mark.parametrize(
    ("path", "at", "field", "start", "length"), [f[1:] for f in FIELDS], ids=[f[0] for f in FIELDS]
)
def test_the_field_at_a_byte_is_named(
    client: TestClient, path: str, at: int, field: str | None, start: int, length: int
) -> None:
    number = take_in(client, drive_kind="hdd")
    digest = drop(client, number, "drive.gcap", spinning(9_000, 0))["sha256"]
    raw = client.get(f"/api/tickets/{number}/captures/{digest}/raw", params={"path": path, "at": at}).json()
    assert (raw["start"], raw["length"], raw["size"]) == (start, length, 512)
    assert field is None or field in raw["field"]
    if field == "model":
        swapped = bytes.fromhex(raw["hex"])[start : start + length]
        assert (
            bytes(b for pair in zip(swapped[1::2], swapped[::2], strict=True) for b in pair).strip()
            == b"QUARRY ANVIL 1T"
        )


@pytest.mark.parametrize(("query", "status", "words"), [
    ({"path": "sda/none.bin"}, 404, "expected a page 'sda/none.bin'"),
    ({"path": "../../etc/passwd"}, 404, "expected a page"),
    ({}, 422, "path"),
    ({"path": "sda/identify.bin", "at": "first"}, 422, "at"),
])  # fmt: skip
def test_a_page_that_is_not_there_is_said_so(
    client: TestClient, query: dict[str, str], status: int, words: str
) -> None:
    number = take_in(client, drive_kind="hdd")
    digest = drop(client, number, "drive.gcap", spinning(9_000, 0))["sha256"]
    answer = client.get(f"/api/tickets/{number}/captures/{digest}/raw", params=query)
    assert answer.status_code == status
    assert words in answer.json()["detail"]


def test_the_files_of_another_ticket_are_out_of_reach(client: TestClient) -> None:
    mine, other = take_in(client, drive_kind="hdd"), take_in(client, drive_kind="hdd")
    digest = drop(client, other, "drive.gcap", spinning(9_000, 0))["sha256"]
    answer = client.get(f"/api/tickets/{mine}/captures/{digest}/raw", params={"path": "sda/identify.bin"})
    assert answer.status_code == 404
    assert "expected a file of this ticket" in answer.json()["detail"]


def test_a_second_reading_shows_what_has_changed(client: TestClient) -> None:
    number = take_in(client, drive_kind="hdd")
    for hours, pending in ((9_000, 0), (9_004, 3), (9_008, 41)):
        drop(client, number, f"after-{hours}.gcap", spinning(hours, pending))
    drop(client, number, "another.gcap", capture_of("stale-entry"))
    newest, third, second, first = client.get(f"/api/tickets/{number}/captures").json()
    assert newest["name"] == "another.gcap"
    assert all(d["trend"] is None or d["trend"]["captures"] == 1 for d in newest["devices"])
    assert first["devices"][0]["trend"] is None or first["devices"][0]["trend"]["captures"] == 1
    assert [c["devices"][0]["trend"]["captures"] for c in (second, third)] == [2, 3]
    trend = third["devices"][0]["trend"]
    pending = next(line for line in trend["lines"] if line["name"] == "pending sectors")
    assert (pending["grown"], pending["per_1000_hours"]) == (41, pytest.approx(41 / 8 * 1000))
    assert trend["findings"][0]["severity"] == "failing"
