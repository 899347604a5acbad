"""The server through its routes: tickets, entries, files, problems. Real store, real engine, no mocks."""

from __future__ import annotations

import io
import json
import zipfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient

from gatecheck.core.storage import encode
from gatecheck.server.app import create_app
from gatecheck.server.demo import fill as demo
from gatecheck.server.demo import pages as demo_captures
from gatecheck.server.openapi import openapi_text
from gatecheck.server.services import open_services
from serving import HERE, ME
from tapes import readings

ROOT = Path(__file__).parents[2]


def take_in(client: TestClient, **more: Any) -> dict[str, Any]:
    body = {
        "customer": "Choir office",
        "machine": "Ferrow Lathe-14",
        "by": "KT",
        "facts": {"drive_kind": "hdd"},
        **more,
    }
    answer = client.post("/api/tickets", json=body)
    assert answer.status_code == 201, answer.text
    made: dict[str, Any] = answer.json()
    return made


def append(client: TestClient, ticket: dict[str, Any], entry: dict[str, Any], **more: Any) -> Any:
    return client.post(f"/api/tickets/{ticket['id']}/entries", json={"entry": entry, "by": "KT", **more})


def drop(client: TestClient, ticket: dict[str, Any], name: str, data: bytes) -> Any:
    return client.post(f"/api/tickets/{ticket['id']}/files", files={"file": (name, data)}, data={"by": "KT"})


def test_from_intake_to_a_signed_call(client: TestClient) -> None:
    ticket = take_in(
        client, bay=4, facts={"drive_kind": "sata-ssd", "data": "none"}, entries=readings("screen=network-boot")
    )
    assert (ticket["number"], ticket["bay"], len(ticket["tape"])) == ("GC-0001", 4, 1)
    for text in ("clock=right", "seen-setup=right", "boot-order=other-first"):
        ticket = append(client, ticket, readings(text)[0]).json()
    assert (ticket["call"]["choice"], ticket["call"]["fix"], ticket["next"][0]["move"]) == (
        "repair",
        "set-order",
        "set-order",
    )
    ticket = append(client, ticket, readings("set-order=boots")[0]).json()
    assert {g["state"] for g in ticket["gates"]} == {"open"}
    ticket = append(client, ticket, {"signed": "repair", "fix": "set-order"}).json()
    assert ticket["signed"] == 5
    assert client.get("/api/bench").json()["rows"][0]["turn"] == "hands"
    closed = client.post(f"/api/tickets/{ticket['id']}/handover", json={"waive": "They are in the door"}).json()
    assert (closed["bay"], client.get("/api/bench").json()["rows"]) == (None, [])
    assert append(client, ticket, {"note": "late"}).status_code == 422


def test_undo_is_an_entry_too(client: TestClient) -> None:
    ticket = take_in(client, entries=readings("screen=no-boot-device"))
    before = ticket["suspects"]
    append(client, ticket, readings("seen-setup=absent")[0])
    undone = append(client, ticket, {"undo": 1}).json()
    assert [e["stands"] for e in undone["tape"]] == [True, False, True]
    assert [(s["fault"], s["p"]) for s in undone["suspects"]] == [(s["fault"], s["p"]) for s in before]


def test_suspects_say_what_spoke_for_and_against(client: TestClient) -> None:
    ticket = take_in(client, entries=readings("story=knock", "screen=no-boot-device", "sound=ticking"))
    weights = {w["entry"]: w["factor"] for w in ticket["suspects"][0]["weights"]}
    assert ticket["suspects"][0]["fault"] == "drive.mechanical"
    assert weights[2] > 10
    assert weights[0] > 1.5


def test_the_call_says_what_would_tip_it(client: TestClient) -> None:
    ticket = take_in(client, entries=readings("screen=no-boot-device", "seen-setup=absent", "seen-picker=absent"))
    tips = ticket["call"]["tips"]
    assert tips
    assert all(
        t["choice"] != ticket["call"]["leans"] and t["move"] not in {e["body"].get("move") for e in ticket["tape"]}
        for t in tips
    )


PROBLEMS = [
    pytest.param("get", "/api/tickets/99", None, 404, "expected a ticket of this shop", id="no-ticket"),
    pytest.param("get", "/api/nothing", None, 404, "", id="no-route"),
    pytest.param(
        "post",
        "/api/tickets/1/entries",
        {"entry": {"move": "screen", "outcome": "blue"}, "by": "KT"},
        422,
        "entry 0.outcome",
        id="bad-outcome",
    ),
    pytest.param(
        "post", "/api/tickets/1/entries", {"entry": {"undo": 7}, "by": "KT"}, 422, "entry 0.undo", id="bad-undo"
    ),
    pytest.param("post", "/api/tickets/1/entries", {"entry": {"note": "x"}}, 422, "body.by", id="nobody"),
    pytest.param(
        "post",
        "/api/tickets/1/entries",
        {"entry": {"note": "x"}, "by": "KT", "extra": 1},
        422,
        "body.extra",
        id="extra",
    ),
    pytest.param(
        "post", "/api/tickets", {"customer": "", "machine": "x", "by": "KT"}, 422, "body.customer", id="no-customer"
    ),
    pytest.param(
        "post",
        "/api/tickets",
        {"customer": "c", "machine": "m", "by": "KT", "facts": {"form": "cube"}},
        422,
        "facts.form",
        id="bad-fact",
    ),
    pytest.param(
        "post",
        "/api/tickets",
        {"customer": "c", "machine": "m", "by": "KT", "bay": 3},
        409,
        "bay 3: expected a free bay",
        id="bay-taken",
    ),
    pytest.param(
        "post",
        "/api/tickets/1/captures",
        {"sha256": "0" * 64, "device": "sda", "by": "KT"},
        404,
        "expected a file of this ticket",
        id="no-file",
    ),
    pytest.param("get", "/api/files/nothing", None, 409, "expected 64 hex digits", id="bad-digest"),
    pytest.param("put", "/api/tickets/1/bay", {"bay": 0}, 422, "body.bay", id="no-bay-zero"),
]


@pytest.mark.parametrize(("method", "path", "body", "status", "detail"), PROBLEMS)
def test_every_error_is_a_problem_document(
    client: TestClient, method: str, path: str, body: Any, status: int, detail: str
) -> None:
    take_in(client, bay=3)
    answer = client.request(method, path, json=body)
    assert (answer.status_code, answer.headers["content-type"]) == (status, "application/problem+json")
    problem = answer.json()
    assert problem["status"] == status
    assert problem["title"]
    assert detail in problem["detail"]


def test_a_failure_of_the_server_is_a_problem_document_too(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    bench = open_services(tmp_path)
    monkeypatch.setattr(bench.bench, "overview", lambda: 1 / 0)
    with TestClient(create_app(bench), base_url=HERE, client=ME, raise_server_exceptions=False) as opened:
        answer = opened.get("/api/bench")
    assert (answer.status_code, answer.headers["content-type"]) == (500, "application/problem+json")
    assert "ZeroDivisionError" in answer.json()["detail"]


def test_a_refused_intake_leaves_nothing_behind(client: TestClient) -> None:
    bad = {"customer": "c", "machine": "m", "by": "KT", "entries": [*readings("screen=dead"), {"put_back": "set-mode"}]}
    assert client.post("/api/tickets", json=bad).status_code == 422
    assert client.get("/api/bench").json()["rows"] == []


def test_a_request_sent_twice_is_kept_once(client: TestClient) -> None:
    ticket = take_in(client)
    for _ in range(3):
        answer = append(client, ticket, readings("screen=dead")[0], key="abc")
        assert answer.status_code == 201
    assert len(answer.json()["tape"]) == 1


def test_many_hands_on_one_tape_lose_nothing(client: TestClient) -> None:
    ticket = take_in(client)
    with ThreadPoolExecutor(4) as pool:
        answers = list(pool.map(lambda i: append(client, ticket, {"note": f"n{i}"}, key=str(i)), range(24)))
    assert [a.status_code for a in answers] == [201] * 24
    tape = client.get(f"/api/tickets/{ticket['id']}").json()["tape"]
    assert sorted(e["body"]["note"] for e in tape) == sorted(f"n{i}" for i in range(24))
    assert [e["place"] for e in tape] == list(range(24))


def flash_capture(used: int) -> bytes:
    return demo_captures.flash_capture("QUARRY FLINT N256", "QF2-1", 256, used=used, power_on_hours=10)


def test_a_dropped_capture_is_decoded_weighed_and_kept(client: TestClient) -> None:
    ticket = take_in(client, facts={"drive_kind": "nvme"}, entries=readings("screen=health-warning"))
    answer = drop(client, ticket, "machine.gcap", flash_capture(used=120))
    assert answer.status_code == 201
    assert answer.json()["weighed"] == "nvme0"
    after = client.get(f"/api/tickets/{ticket['id']}").json()
    entry = after["tape"][-1]["body"]
    assert (entry["move"], entry["rests_on"]["device"]) == ("health-pages", "nvme0")
    assert after["suspects"][0]["fault"] == "drive.worn"
    digest = answer.json()["sha256"]
    assert client.get(f"/api/files/{digest}").content == flash_capture(used=120)
    drop(client, ticket, "again.gcap", flash_capture(used=120))
    assert len(client.get(f"/api/tickets/{ticket['id']}").json()["tape"]) == len(after["tape"])


def test_the_real_capture_needs_to_be_told_which_drive(client: TestClient, bench_a: dict[str, bytes]) -> None:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as archive:
        for name, data in bench_a.items():
            archive.writestr(name, data)
    undecided = take_in(client, facts={})
    answer = drop(client, undecided, "bench-a.gcap", buffer.getvalue()).json()
    assert answer["weighed"] is None
    assert [d["device"] for d in answer["devices"]] == ["nvme0", "sda", "sdb", "vda"]
    assert answer["asks"] == ["nvme0", "sda", "vda"]
    body = {"sha256": answer["sha256"], "device": "sda", "by": "KT"}
    told = client.post(f"/api/tickets/{undecided['id']}/captures", json=body).json()
    assert told["tape"][-1]["body"]["rests_on"]["device"] == "sda"
    assert told["facts"]["drive_serial"] == answer["devices"][1]["identity"]["serial"]
    again = client.get(f"/api/tickets/{undecided['id']}/captures").json()
    assert (again[0]["weighed"], again[0]["asks"]) == ("sda", []), "said once, it is not asked again"
    known = take_in(client, facts={"drive_kind": "hdd"})
    assert drop(client, known, "bench-a.gcap", buffer.getvalue()).json()["weighed"] == "sda"


BROKEN = {
    "no-zip": ("x.gcap", b"PK\x03\x04 no zip", "expected a capture"),
    "short-page": ("identify.bin", b"\x40" * 60, "IDENTIFY DEVICE at byte 0x3c: expected 512 bytes, got 60 bytes"),
    "a-photo": ("photo.jpg", b"\xff\xd8\xff" * 400, "expected a capture or a page of a drive"),
    "empty": ("x.bin", b"", "empty file"),
}


@pytest.mark.parametrize(("name", "data", "detail"), BROKEN.values(), ids=BROKEN)
def test_a_broken_file_is_refused_clearly_and_changes_nothing(
    client: TestClient, name: str, data: bytes, detail: str
) -> None:
    ticket = take_in(client, entries=readings("screen=dead"))
    answer = drop(client, ticket, name, data)
    assert answer.status_code == 422
    assert detail in answer.json()["detail"]
    assert client.get(f"/api/tickets/{ticket['id']}").json()["tape"] == ticket["tape"]


def test_a_half_read_capture_keeps_its_good_pages(client: TestClient) -> None:
    data = demo_captures.capture(
        "sda",
        {"identify.bin": encode.ata_identify(model="M", serial="S", sectors=10**9), "smart-data.bin": b"\x10" * 80},
    )
    ticket = take_in(client)
    answer = drop(client, ticket, "half.gcap", data).json()
    assert answer["devices"][0]["identity"]["model"] == "M"
    assert {p["path"]: p["status"] for p in answer["devices"][0]["pages"]} == {
        "sda/identify.bin": "decoded",
        "sda/smart-data.bin": "broken",
    }
    assert len(client.get(f"/api/tickets/{ticket['id']}/captures").json()) == 1


def test_a_started_move_runs_until_it_is_read(client: TestClient) -> None:
    ticket = take_in(client, facts={"data": "backed-up"}, entries=readings("screen=other-stop"))
    started = append(client, ticket, {"started": "long-test", "minutes": 110}).json()
    assert started["running"]["move"] == "long-test"
    assert client.get("/api/bench").json()["rows"][0]["turn"] == "running"
    read = append(client, ticket, readings("long-test=passed")[0]).json()
    assert read["running"] is None


def test_a_row_names_the_verdict_that_was_signed_whatever_is_likelier_since(client: TestClient) -> None:
    entries = [{"move": "screen", "outcome": "no-boot-device"}, {"move": "boot-order", "outcome": "other-first"}]
    entries.append({"move": "set-order", "outcome": "boots"})
    ticket = client.post(
        "/api/tickets", json={"customer": "Choir", "machine": "Ferrow Lathe-14", "by": "KT", "entries": entries}
    ).json()
    assert ticket["call"]["choice"] == "release"
    client.post(
        f"/api/tickets/{ticket['id']}/entries", json={"entry": {"signed": "repair", "fix": "set-order"}, "by": "KT"}
    )
    (row,) = client.get("/api/bench").json()["rows"]
    assert row["signed"] == "repair"


def test_the_bench_puts_danger_first(client: TestClient) -> None:
    take_in(client, bay=1, entries=readings("screen=network-boot"))
    take_in(client, bay=5, entries=readings("screen=no-boot-device", "sound=clunking"))
    rows = client.get("/api/bench").json()["rows"]
    assert [(r["bay"], r["urgent"]) for r in rows] == [(5, True), (1, False)]


def test_find_and_words(client: TestClient) -> None:
    take_in(client, customer="Tide library")
    assert client.get("/api/find", params={"text": "tide"}).json()[0]["customer"] == "Tide library"
    words = client.get("/api/words").json()
    assert len(words["moves"]) == 65
    assert all(set(m["say"]) == set(m["outcomes"]) for m in words["moves"])


def test_the_demo_tapes_run_through_the_engine(tmp_path: Path) -> None:
    bench = open_services(tmp_path, name=demo.SHOP, prefix=demo.PREFIX, bays=demo.BAYS)
    demo.fill(bench)
    rows = bench.bench.overview().rows
    by_customer = {r.customer: r for r in rows}
    assert len(rows) == 19
    assert {r.turn for r in rows} == {"hands", "running", "done"}
    assert [
        by_customer[c].job.step for c in ("Sextant bookshop", "Kelp and Daughter, dyers", "Ferryman's almanac")
    ] == ["carrier", "stick-out", "cold-2"]
    assert by_customer["Choir office"].urgent
    assert (by_customer["School lab 3"].choice, by_customer["School lab 3"].fix) == ("repair", "set-order")
    assert (by_customer["Tide library"].choice, by_customer["Tide library"].fix) == ("replace", "replace-drive")
    assert by_customer["Ferry kiosk"].signed
    bench.shop.database.close()


def test_the_committed_api_document_is_the_servers() -> None:
    assert (ROOT / "web" / "openapi.json").read_text() == openapi_text()
    operations = [o["operationId"] for p in json.loads(openapi_text())["paths"].values() for o in p.values()]
    assert len(operations) == len(set(operations)) >= 12
