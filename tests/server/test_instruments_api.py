"""Settings, sightings and keys over the wire: what is offered for the tape is taken, and comes back as shown."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from fastapi.testclient import TestClient

from gatecheck.server.app import create_app
from gatecheck.server.demo import fill as demo
from gatecheck.server.services import open_services
from practised import capture_of
from serving import HERE, ME
from tapes import readings


def take_in(client: TestClient, machine: str = "Ferrow Lathe-14", **facts: Any) -> int:
    answer = client.post(
        "/api/tickets",
        json={"customer": "Choir office", "machine": machine, "by": "KT", "facts": {"platform": "pc", **facts}},
    )
    assert answer.status_code == 201, answer.text
    return int(answer.json()["id"])


def append(client: TestClient, number: int, *entries: dict[str, Any]) -> dict[str, Any]:
    for entry in entries:
        answer = client.post(f"/api/tickets/{number}/entries", json={"entry": entry, "by": "KT"})
        assert answer.status_code == 201, answer.text
    found: dict[str, Any] = client.get(f"/api/tickets/{number}").json()
    return found


def row(client: TestClient, number: int, name: str) -> dict[str, Any]:
    return next(r for r in client.get(f"/api/tickets/{number}/settings").json()["rows"] if r["id"] == name)


def test_every_value_offered_is_taken_and_shown(client: TestClient) -> None:
    number = take_in(client, installed_os="windows-10", disk_layout="gpt")
    for offered in client.get(f"/api/tickets/{number}/settings").json()["rows"]:
        assert offered["state"] == "unread"
        for value in offered["values"]:
            append(client, number, value["entry"])
            now = row(client, number, offered["id"])
            assert (now["now"], now["state"], now["from_file"]) == (value["id"], value["state"], False)


def test_a_trial_from_change_to_handover(client: TestClient) -> None:
    number = take_in(client, installed_os="windows-11", disk_layout="gpt")
    legacy = next(v for v in row(client, number, "boot-mode")["values"] if v["id"] == "legacy")
    append(client, number, *readings("screen=no-boot-device"), legacy["entry"])
    sheet = client.get(f"/api/tickets/{number}/settings").json()
    assert "gpt-in-legacy" in [t["id"] for t in sheet["together"]]
    ticket = append(client, number, {"changed": "set-mode", "before": "legacy", "after": "uefi"})
    assert [(t["standing"], t["before"], t["after"]) for t in ticket["trials"]] == [("pending", "legacy", "uefi")]
    assert client.get("/api/bench").json()["rows"][0]["open_trials"] == 1
    assert {h["interlock"] for h in ticket["held"] if h["move"] == "set-secure-boot"} == {"one-change-at-once"}
    assert "set-mode" not in {h["move"] for h in ticket["held"]}, "its result is wanted"
    ticket = append(client, number, {"move": "set-mode", "outcome": "no-change"})
    assert ticket["trials"][0]["standing"] == "open"
    append(client, number, {"put_back": "set-mode"})
    left = {line["row"]: line for line in client.get(f"/api/tickets/{number}/settings").json()["left"]}
    assert (left["boot-mode"]["found"], left["boot-mode"]["left"], left["boot-mode"]["tried"]) == (
        "legacy",
        "legacy",
        ["uefi"],
    )
    assert client.get("/api/bench").json()["rows"][0]["open_trials"] == 0


def test_a_machine_without_a_text_setup_is_not_asked_about_settings(client: TestClient) -> None:
    number = take_in(client, "Fathom Sill-24", platform="mac")
    sheet = client.get(f"/api/tickets/{number}/settings").json()
    assert (sheet["rows"], sheet["together"]) == ([], [])
    assert {"reset-nvram", "seen-picker", "recovery-start", "live-start", "set-order"} <= {
        w["move"] for w in sheet["ways"]
    }
    grid = client.get(f"/api/tickets/{number}/sightings").json()
    assert "setup" not in [v["id"] for v in grid["vantages"]]
    words = client.get("/api/words").json()
    assert "startup disk" in words["platforms"]["mac"]["set-order"]["name"]


def test_every_cell_offered_is_taken_and_shown(client: TestClient) -> None:
    number = take_in(client, drive_kind="hdd", drive_size_gb=500)
    grid = client.get(f"/api/tickets/{number}/sightings").json()
    assert (grid["lines"][0]["name"], grid["pattern"]) == ("500 GB HDD", None)
    for line in [*grid["lines"], *grid["more"]]:
        for cell in line["cells"]:
            for choice in cell["choices"]:
                append(client, number, choice["entry"])
                after = client.get(f"/api/tickets/{number}/sightings").json()
                shown = next(x for x in after["lines"] if x["what"] == line["what"])
                assert next(c["value"] for c in shown["cells"] if c["at"] == cell["at"]) == choice["id"]
    assert after["pattern"] is not None


def test_a_capture_fills_both_instruments(client: TestClient) -> None:
    number = take_in(client, installed_os="windows-11", drive_kind="nvme")
    sent = client.post(
        f"/api/tickets/{number}/files", files={"file": ("laptop.gcap", capture_of("stale-entry"))}, data={"by": "KT"}
    )
    assert sent.status_code == 201, sent.text
    sheet = client.get(f"/api/tickets/{number}/settings").json()
    secure = next(r for r in sheet["rows"] if r["id"] == "secure-boot")
    assert (secure["now"], secure["state"], secure["from_file"]) == ("on", "fits", True)
    captured = sheet["captured"]
    assert [(e["name"], e["target"]) for e in captured["entries"]] == [
        ("Boot0000", "stale"),
        ("Boot0001", "other"),
        ("Boot0002", "disk"),
    ]
    assert (captured["maker"], captured["product"], captured["secure_boot"]) == ("Ferrow", "Lathe-14", True)
    grid = client.get(f"/api/tickets/{number}/sightings").json()
    live = next(c for c in grid["lines"][0]["cells"] if c["at"] == "live")
    assert (live["value"], live["from_file"], "QF9-310500" in live["note"]) == ("right", True, True)
    assert [x["what"] for x in grid["lines"]] == ["drive", "stick"]
    ticket = client.get(f"/api/tickets/{number}").json()
    assert ticket["facts"]["disk_layout"] == "gpt"
    assert ticket["suspects"][0]["fault"] == "entries.lost"


def keys(client: TestClient, machine: str, purpose: str = "setup") -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = next(
        p["keys"]
        for p in client.get("/api/keys", params={"machine": machine}).json()["purposes"]
        if p["purpose"] == purpose
    )
    return found


def test_the_book_learns_from_tries_and_forgets_what_is_taken_back(client: TestClient) -> None:
    first = take_in(client, "Ostler Tarn Mini")
    before = client.get(f"/api/tickets/{first}/keys").json()["purposes"][0]["keys"]
    assert {k["level"] for k in before} == {"general"}
    tried = {"tried_key": "F8", "opens": "setup", "worked": True}
    append(client, first, tried, tried, {"tried_key": before[0]["key"], "opens": "setup", "worked": False})
    assert (keys(client, "Ostler Tarn Mini")[0]["key"], keys(client, "Ostler Tarn Mini")[0]["level"]) == ("F8", "model")
    assert next(k for k in keys(client, "Ostler Bracken-15") if k["key"] == "F8")["level"] == "maker"
    assert [(m["model"], m["tries"]) for m in client.get("/api/keys/models").json()] == [("tarn mini", 3)]
    append(client, first, {"undo": 0}, {"undo": 1}, {"undo": 3})
    f8 = next(k for k in keys(client, "Ostler Tarn Mini") if k["key"] == "F8")
    assert (f8["worked"], f8["tried"]) == (1, 1), "the second stays taken back, the first stands again"
    assert client.get("/api/keys", params={"machine": "x", "platform": "toaster"}).status_code == 422


def codes(client: TestClient, number: int, code: str) -> dict[str, Any] | None:
    found: dict[str, Any] | None = client.get(f"/api/tickets/{number}/codes", params={"code": code}).json()["known"]
    return found


def test_the_book_learns_what_a_printed_code_turned_out_to_be(client: TestClient) -> None:
    first, second, third = (take_in(client, "Ostler Tarn Mini") for _ in range(3))
    append(client, first, {"move": "builtin-quick", "outcome": "failed", "code": "OT-331"})
    append(client, second, {"note": "Memory failed", "code": "ot 331"})
    assert codes(client, first, "OT-331") == {
        "code": "OT-331",
        "level": "model",
        "tickets": 1,
        "settled": 0,
        "turned_out": [],
    }, "its own is not counted"
    client.post(
        f"/api/tickets/{first}/handover", json={"proven": ["drive.media"], "by": "KT", "waive": "Nobody waits for it"}
    )
    found = codes(client, third, "ot331")
    assert found is not None
    assert (found["tickets"], found["settled"], found["turned_out"]) == (2, 1, [["drive.media", 1]])
    append(client, second, {"undo": 0})
    assert codes(client, third, "OT-331")["tickets"] == 1, "what was taken back teaches nothing"
    assert client.get(f"/api/tickets/{third}/codes").json() == {"known": None, "seen": ["OT-331"]}
    assert client.get("/api/tickets/999/codes", params={"code": "x"}).status_code == 404
    for wrong in ("", "  ", 7, "x" * 61):
        answer = client.post(f"/api/tickets/{third}/entries", json={"entry": {"note": "x", "code": wrong}, "by": "KT"})
        assert answer.status_code == 422
        assert "a code of at most 60 letters" in answer.text


def test_the_demo_shows_all_of_it(tmp_path: Path) -> None:
    bench = open_services(tmp_path, name=demo.SHOP, prefix=demo.PREFIX, bays=demo.BAYS)
    demo.fill(bench)
    with TestClient(create_app(bench), base_url=HERE, client=ME) as client:
        number = {r["customer"]: r["id"] for r in client.get("/api/bench").json()["rows"]}
        museum = client.get(f"/api/tickets/{number['Rope walk museum']}/settings").json()
        assert museum["together"][0]["id"] == "battery-all-fell-back"
        pilot = client.get(f"/api/tickets/{number['Pilot station']}/settings").json()
        assert (pilot["walks"][0]["tried"], pilot["walks"][0]["restore"]) == (["ahci", "compatible"], "raid")
        surgery = client.get(f"/api/tickets/{number['Salt Lane surgery']}/sightings").json()
        assert surgery["pattern"]["id"] == "setup-not-picker"
        assert keys(client, "Ferrow Lathe-14")[0]["key"] == "F2"
        assert keys(client, "Ferrow Lathe-14")[0]["level"] == "model"
