"""Signing with the odds, proven faults at handover, learning, reopening, comebacks, reset, and the sheet over the
wire."""

from __future__ import annotations

import io
import zipfile
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient

from firmware_pages import DATA, ESP, disk, load_option, partition, variable
from gatecheck.server.demo import fill as demo
from gatecheck.server.services import open_services
from tapes import readings

FACTS = {"platform": "pc", "form": "laptop", "drive_kind": "hdd", "data": "backed-up"}


def ticket(client: TestClient, *texts: str, **more: Any) -> dict[str, Any]:
    body = {
        "customer": "Choir office",
        "machine": "Ferrow Lathe-14",
        "by": "KT",
        "facts": FACTS,
        "entries": readings(*texts),
        **more,
    }
    answer = client.post("/api/tickets", json=body)
    assert answer.status_code == 201, answer.text
    made: dict[str, Any] = answer.json()
    return made


def append(client: TestClient, number: int, entry: dict[str, Any]) -> dict[str, Any]:
    answer = client.post(f"/api/tickets/{number}/entries", json={"entry": entry, "by": "KT"})
    assert answer.status_code == 201, answer.text
    made: dict[str, Any] = answer.json()
    return made


def closed(client: TestClient, *proven: str, sign: bool = True) -> int:
    """A ticket with a wrong boot order, signed, mended and handed over."""
    number: int = ticket(client, "screen=network-boot", "seen-setup=right", "boot-order=other-first")["id"]
    if sign:
        append(client, number, {"signed": "repair", "fix": "set-order"})
    append(client, number, readings("set-order=boots")[0])
    answer = client.post(
        f"/api/tickets/{number}/handover",
        json={"proven": list(proven) if proven else None, "by": "KT", "waive": "Nobody waits for it"},
    )
    assert answer.status_code == 200, answer.text
    return number


def learned(client: TestClient) -> dict[str, Any]:
    found: dict[str, Any] = client.get("/api/learning").json()
    return found


def test_a_call_is_signed_with_the_odds_of_that_moment(client: TestClient) -> None:
    number = ticket(client, "screen=network-boot", "seen-setup=right", "boot-order=other-first")["id"]
    before = client.get(f"/api/tickets/{number}").json()
    signed = append(client, number, {"signed": "repair", "fix": "set-order"})["tape"][-1]["body"]
    assert signed["odds"]["confidence"] == pytest.approx(before["call"]["balance"]["repair"], abs=1e-3)
    assert signed["odds"]["suspects"]["settings.order"] == pytest.approx(before["suspects"][0]["p"], abs=1e-3)
    assert signed["odds"]["option"]["fix"] == "set-order"


def test_a_proven_fault_is_learned_from_and_taken_out_again(client: TestClient) -> None:
    number = closed(client, "settings.order")
    found = learned(client)
    assert (found["lessons"], found["comebacks"], found["calls"][0]["observed"]) == (1, 0, 1.0)
    assert next(r for r in found["rates"] if r["fault"] == "settings.order")["counted"] == 1.0
    again = client.post(f"/api/tickets/{number}/reopen").json()
    assert again["closed_at"] is None
    assert learned(client)["lessons"] == 0
    said = next(e for e in again["tape"] if "proven" in e["body"])
    undone = append(client, number, {"undo": said["place"]})
    assert undone["proven"] is None
    client.post(f"/api/tickets/{number}/handover", json={"by": "KT"})
    assert learned(client)["lessons"] == 0, "what was taken back teaches nothing"


def test_without_a_proven_fault_nothing_is_learned(client: TestClient) -> None:
    closed(client)
    assert learned(client)["lessons"] == 0


def test_the_shops_own_rate_moves_the_next_machine(client: TestClient) -> None:
    def order(number: int) -> float:
        suspects = client.get(f"/api/tickets/{number}").json()["suspects"]
        return next((s["p"] for s in suspects if s["fault"] == "settings.order"), 0.0)

    waiting = ticket(client, "screen=network-boot")["id"]
    before = order(waiting)
    for _ in range(8):
        closed(client, "settings.order")
    assert order(waiting) > before + 0.05
    reset = client.post("/api/learning/reset", json={"by": "MO"}).json()
    assert (reset["lessons"], bool(reset["last_reset"])) == (0, True)
    assert order(waiting) == pytest.approx(before)


def test_a_comeback_counts_against_its_call(client: TestClient) -> None:
    number = closed(client, "settings.order")
    open_one = ticket(client)["id"]
    refused = client.post("/api/tickets", json={"customer": "A", "machine": "B", "by": "KT", "comeback_of": open_one})
    assert refused.status_code == 409
    back = ticket(client, comeback_of=number)
    assert back["comeback_of"] == number
    found = learned(client)
    assert (found["lessons"], found["comebacks"], found["calls"][0]["observed"]) == (0, 1, 0.0)


def test_the_sheet_tries_terms_and_keeps_none(client: TestClient) -> None:
    number = ticket(client, "screen=health-warning", "health-pages=worn-out", "error-log=recent")["id"]
    free = client.post(f"/api/tickets/{number}/sheet", json={}).json()
    poor = client.post(f"/api/tickets/{number}/sheet", json={"terms": {"machine_value": 40}}).json()
    assert free["plain"] == ""
    assert "Not worth repairing" in poor["plain"]
    assert client.get(f"/api/tickets/{number}").json()["facts"].get("machine_value") is None
    assert free["rows"][0]["is_call"]
    wrong = client.post(f"/api/tickets/{number}/sheet", json={"terms": {"urgency": "yesterday"}})
    assert (wrong.status_code, "fact.urgency" in wrong.json()["detail"]) == (422, True)


def test_guesses_name_what_the_machine_came_in_with(client: TestClient) -> None:
    number = ticket(client, "screen=no-boot-device", "seen-setup=absent", "reseat=boots")["id"]
    first = client.get(f"/api/tickets/{number}/guesses").json()[0]
    assert first["faults"] == ["link.loose"]
    assert first["p"] > 0.9
    number = ticket(client, "screen=volume-stop", "seen-setup=right", "health-pages=link-errors", "swap-cable=boots")[
        "id"
    ]
    guessed = [tuple(g["faults"]) for g in client.get(f"/api/tickets/{number}/guesses").json()]
    assert set(guessed[:2]) == {("link.loose",), ("link.broken",)}, "another cable sits firmly too"
    assert len(set(guessed)) == len(guessed), "a link that comes and goes is no other guess than one that is gone"


def test_a_captured_stale_entry_goes_on_the_tape(client: TestClient) -> None:
    """A machine's capture: a boot entry whose partition is on none of its disks."""
    files = dict([variable("Boot0001", load_option("old system", partition(ESP))), variable("BootOrder", b"\1\0")])
    number = ticket(client, "screen=no-boot-device")["id"]
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as archive:
        for path, data in {**files, "sda/lba0-33.bin": disk(DATA)}.items():
            archive.writestr(path, data)
    sent = client.post(
        f"/api/tickets/{number}/files", files={"file": ("machine.gcap", buffer.getvalue())}, data={"by": "KT"}
    )
    assert sent.status_code == 201, sent.text
    found = client.get(f"/api/tickets/{number}").json()
    entry = found["tape"][-1]["body"]
    assert (entry["move"], max(entry["weights"], key=entry["weights"].get)) == ("entry-target", "stale")
    assert ESP in found["tape"][-1]["note"]
    assert entry["note"]["say"] == "evidence.signs", "kept as an id and values, so that another language can word it"
    assert found["tape"][-1]["counts"]
    weighed = [w["entry"] for s in found["suspects"] for w in s["weights"]]
    assert found["tape"][-1]["place"] in weighed, "it spoke for or against somebody"
    assert client.get(f"/api/tickets/{number}/captures").json()[0]["weighed"] is None


def test_the_demos_closed_tickets_teach(tmp_path: Path) -> None:
    bench = open_services(tmp_path)
    demo.fill(bench)
    found = bench.learning.learning()
    assert found.lessons == len(demo.closed_tickets()) + 1, "and one of the bench that went back"
    assert sum(b.count for b in found.calls) == found.lessons
    held = [b for b in found.suspects if b.predicted > 0.75]
    assert sum(b.observed * b.count for b in held) / sum(b.count for b in held) > 0.7


@pytest.mark.parametrize("moment", ["2001-01-01T00:00:00.000+00:00", "2090-06-01T00:00:00.000+00:00"])
def test_a_clock_that_jumps_loses_nothing_that_was_learned(
    client: TestClient, moment: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    closed(client, "settings.order")
    monkeypatch.setattr("gatecheck.server.learning.service.now", lambda: moment)
    monkeypatch.setattr("gatecheck.server.tickets.service.now", lambda: moment)
    closed(client, "settings.order")
    assert client.get("/api/learning").json()["lessons"] == 2
    client.post("/api/learning/reset", json={"by": "KT"})
    assert client.get("/api/learning").json()["lessons"] == 0
    monkeypatch.undo()
    number = closed(client, "settings.order")
    assert client.get("/api/learning").json()["lessons"] == 1, (
        "what is learned after a reset counts, whatever the reset's clock said"
    )
    monkeypatch.setattr("gatecheck.server.tickets.service.now", lambda: "2001-01-01T00:00:00.000+00:00")
    ticket(client, "screen=network-boot", comeback_of=number)
    assert client.get("/api/learning").json()["comebacks"] == 1, "it came back, though the clock says before it went"
