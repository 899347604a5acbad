"""Technicians that the shop knows: a PIN before a change, rights by role, a second one's PIN for one act, who did it in
the log."""

from __future__ import annotations

import json
import re
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from fastapi.testclient import TestClient

from gatecheck.cli.main import main
from gatecheck.server.app import create_app
from gatecheck.server.people import technicians as people
from gatecheck.server.people.technicians import roles
from gatecheck.server.services import open_services

Shop = Callable[[], TestClient]
TAKE_IN = {"customer": "Wren Oakes", "machine": "Ferrow Lathe-14", "words": "", "facts": {}, "bay": None, "by": "ZZ"}
SHOP = {"page": {"bench_hour": 70}, "by": "ZZ"}


@pytest.fixture
def shop(tmp_path: Path) -> Callable[[], TestClient]:
    """A way to a client of its own for each browser, of one server."""
    house = open_services(tmp_path, name="Gullhaven Repair Loft", prefix="GL", bays=6)
    app = create_app(house)

    def browser() -> TestClient:
        return TestClient(app, base_url="http://127.0.0.1", client=("127.0.0.1", 5000), headers={"X-Gate-Check": "1"})

    return browser


def named(client: TestClient, *more: tuple[str, str, str]) -> None:
    """A lead KT (PIN 4711) who has signed in, and others."""
    made = client.post("/api/technicians", json={"initials": "kt", "role": "lead", "pin": "4711", "by": "KT"})
    assert made.status_code == 201, made.text
    assert client.post("/api/sign-in", json={"initials": "KT", "pin": "4711"}).status_code == 200
    for initials, role, pin in more:
        told = {"initials": initials, "role": role, "pin": pin, "by": "KT"}
        assert client.post("/api/technicians", json=told).status_code == 201


def test_a_shop_that_names_nobody_asks_nobody(shop: Shop) -> None:
    client = shop()
    assert client.get("/api/me").json()["knows_technicians"] is False
    assert client.post("/api/tickets", json=TAKE_IN).status_code == 201
    assert client.put("/api/shop", json=SHOP).status_code == 200


def test_the_first_is_a_lead_and_from_then_on_a_change_needs_a_pin(shop: Shop) -> None:
    client, other = shop(), shop()
    refused = client.post("/api/technicians", json={"initials": "MB", "role": "trainee", "pin": "4711", "by": "KT"})
    assert (refused.status_code, "expected lead for the first one" in refused.text) == (422, True)
    named(client)
    told = other.post("/api/tickets", json=TAKE_IN)
    assert (told.status_code, told.json()["needs"]) == (401, "sign-in")
    assert other.get("/api/bench").status_code == 200, "the bench is glanced at without a PIN"
    made = client.post("/api/tickets", json=TAKE_IN)
    assert made.status_code == 201
    number = made.json()["id"]
    client.post(f"/api/tickets/{number}/entries", json={"entry": {"note": "asked for the charger"}, "by": "ZZ"})
    assert client.get(f"/api/tickets/{number}").json()["tape"][-1]["made_by"] == "KT", "not what is sent"
    client.post("/api/sign-out")
    assert client.post("/api/tickets", json=TAKE_IN).status_code == 401


@pytest.mark.parametrize(
    ("role", "method", "path", "needs"),
    [
        ("technician", "POST", "/api/tickets/1/volumes/repair", None),
        ("technician", "PUT", "/api/shop", "prices"),
        ("technician", "POST", "/api/tickets/1/erase", "erases"),
        ("technician", "POST", "/api/technicians", "people"),
        ("trainee", "POST", "/api/tickets/1/volumes/repair", "writes"),
        ("trainee", "POST", "/api/tickets/1/volumes/repair/", "writes"),
        ("trainee", "POST", "/api/tickets/1/path/mend", "writes"),
        ("trainee", "POST", "/api/tickets/1/copies/3/fill", "writes"),
        ("trainee", "DELETE", "/api/tickets/1/copies/3", "erases"),
        ("trainee", "POST", "/api/tickets/1/volumes/look", None),
        ("lead", "PUT", "/api/shop", None),
    ],
)
def test_what_a_role_may_do_alone(shop: Shop, role: str, method: str, path: str, needs: str | None) -> None:
    client, own = shop(), shop()
    named(client, ("OL", role, "2580"))
    own.post("/api/sign-in", json={"initials": "OL", "pin": "2580"})
    told = own.request(method, path, json={})
    if needs is None:
        assert told.status_code in (404, 409, 422), told.text
    else:
        assert (told.status_code, told.json()["needs"]) == (403, needs)


def test_every_route_that_a_right_names_is_one_of_ours(shop: Shop) -> None:
    paths = shop().get("/api/openapi.json").json()["paths"]
    ours = {f"{m.upper()} {p}" for p, methods in paths.items() for m in methods}
    asked = {re.sub(r"\{[^}]*\}", "1", line) for line in ours}
    for _, pattern in roles().needs:
        assert any(pattern.fullmatch(line) for line in asked), pattern.pattern


def test_another_lends_a_right_once_and_both_are_logged(shop: Shop, monkeypatch: pytest.MonkeyPatch) -> None:
    client, own = shop(), shop()
    named(client, ("OL", "trainee", "2580"), ("MB", "technician", "1379"))
    own.post("/api/sign-in", json={"initials": "OL", "pin": "2580"})
    assert own.put("/api/shop", json=SHOP).json()["needs"] == "prices"
    refused = own.post("/api/approve", json={"right": "prices", "initials": "MB", "pin": "1379"})
    assert (refused.status_code, "who may change prices" in refused.text) == (403, True)
    assert own.post("/api/approve", json={"right": "prices", "initials": "KT", "pin": "0000"}).status_code == 403
    assert own.post("/api/approve", json={"right": "prices", "initials": "KT", "pin": "4711"}).json()["by"] == "KT"
    assert own.post("/api/tickets/1/erase", json={"by": "OL"}).json()["needs"] == "erases", "another right is not lent"
    assert own.put("/api/shop", json=SHOP).status_code == 200
    assert own.put("/api/shop", json=SHOP).json()["needs"] == "prices", "it held once"
    own.post("/api/approve", json={"right": "prices", "initials": "KT", "pin": "4711"})
    monkeypatch.setattr(people, "APPROVAL_SECONDS", -1.0)
    own.post("/api/approve", json={"right": "prices", "initials": "KT", "pin": "4711"})
    assert own.put("/api/shop", json=SHOP).status_code == 403, "it does not hold for ever"


def test_a_pin_may_not_be_guessed_and_is_kept_nowhere(shop: Shop, tmp_path: Path) -> None:
    client = shop()
    named(client)
    stranger = shop()
    for pin in ("0001", "0002", "0003", "0004", "0005"):
        assert stranger.post("/api/sign-in", json={"initials": "KT", "pin": pin}).status_code == 403
    assert stranger.post("/api/sign-in", json={"initials": "KT", "pin": "4711"}).status_code == 429
    assert client.post("/api/tickets", json=TAKE_IN).status_code == 201, "who is in stays in"
    client.put("/api/technicians/1", json={"pin": "86420913"})
    for place in tmp_path.rglob("*"):
        if place.is_file():
            assert b"86420913" not in place.read_bytes(), place


@pytest.mark.parametrize("pin", ["471", "471147114", "47a1", "1111", ""])
def test_a_pin_that_is_none_is_refused(shop: Shop, pin: str) -> None:
    told = shop().post("/api/technicians", json={"initials": "KT", "role": "lead", "pin": pin, "by": "KT"})
    assert (told.status_code, "PIN: expected" in told.text) == (422, True)
    assert pin not in told.text or not pin or len(pin) < 4


def test_the_last_lead_stays_until_nobody_is_left(shop: Shop) -> None:
    client = shop()
    named(client, ("OL", "trainee", "2580"))
    assert "expected another lead" in client.delete("/api/technicians/1").text
    assert "expected another lead" in client.put("/api/technicians/1", json={"role": "trainee"}).text
    assert len(client.delete("/api/technicians/2").json()) == 1
    assert client.delete("/api/technicians/1").json() == []
    assert shop().post("/api/tickets", json=TAKE_IN).status_code == 201, "nobody is asked any more"


def test_who_is_removed_or_gets_a_new_pin_is_out_at_once_and_so_is_who_was_idle(
    shop: Shop, monkeypatch: pytest.MonkeyPatch
) -> None:
    client, own = shop(), shop()
    named(client, ("OL", "technician", "2580"))
    own.post("/api/sign-in", json={"initials": "OL", "pin": "2580"})
    assert own.post("/api/tickets", json=TAKE_IN).status_code == 201
    client.put("/api/technicians/2", json={"pin": "1379"})
    assert own.post("/api/tickets", json=TAKE_IN).status_code == 401
    own.post("/api/sign-in", json={"initials": "OL", "pin": "1379"})
    later = [time.monotonic() + 29 * 60]
    monkeypatch.setattr(people.time, "monotonic", lambda: later[0])
    assert own.get("/api/me").json()["signed_in"] is True
    later[0] += 2 * 60  # an open page that asks by itself keeps nobody signed in
    assert own.get("/api/me").json()["signed_in"] is False
    monkeypatch.undo()
    own.post("/api/sign-in", json={"initials": "OL", "pin": "1379"})
    client.post("/api/sign-in", json={"initials": "KT", "pin": "4711"})
    client.delete("/api/technicians/2")
    assert own.post("/api/tickets", json=TAKE_IN).status_code == 401


def test_a_lost_pin_of_the_only_lead_is_forgotten_on_the_bench_itself(
    shop: Shop, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    named(shop())
    assert main(["technicians", "--data", str(tmp_path)]) == 0
    told = json.loads(capsys.readouterr().out)
    assert ([t["initials"] for t in told["technicians"]], told["forgotten"]) == (["KT"], False)
    assert main(["technicians", "--data", str(tmp_path), "--forget"]) == 0
    house = open_services(tmp_path)
    assert not house.technicians.is_on
