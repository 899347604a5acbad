"""Machines that wait at their stick: they knock, are seen, are taken to a ticket once, and a typed code does the
same."""

from __future__ import annotations

from typing import Any

import pytest
from fastapi.testclient import TestClient

MACHINE = {
    "sys_vendor": "Ferrow",
    "product_name": "Lathe-14",
    "product_serial": "LA1",
    "mode": "uefi",
    "uuid": "not shown",
}
HEAD = {"X-Gate-Check": "1"}


def knock(client: TestClient) -> Any:
    return client.post("/api/link/knock", json={"machine": MACHINE, "probe": "1"}).json()


def ticket(client: TestClient) -> int:
    return int(
        client.post(
            "/api/tickets", json={"customer": "Choir", "machine": "Ferrow Lathe-14", "by": "KT"}, headers=HEAD
        ).json()["id"]
    )


def test_a_machine_that_knocks_is_seen_taken_and_handed_its_secret_once(client: TestClient) -> None:
    told = knock(client)
    assert {len(row) for row in told["qr"]} == {len(told["qr"])}
    assert client.get(f"/api/link/knock/{told['token']}").json() == {"state": "waiting"}
    waits = client.get("/api/knocks").json()["knocks"]
    assert [(k["machine"], k["serial"], k["mode"]) for k in waits] == [("Ferrow Lathe-14", "LA1", "uefi")]
    number = ticket(client)
    assert (
        client.post(f"/api/knocks/{told['token']}", json={"ticket": number, "by": "KT"}, headers=HEAD).json()["knocks"]
        == []
    )
    handed = client.get(f"/api/link/knock/{told['token']}").json()
    assert handed["state"] == "taken"
    assert client.get(f"/api/link/knock/{told['token']}").json() == {"state": "unknown"}
    hello = {"protocol": 1, "probe": "1", "machine": MACHINE, "session": "ab" * 8}
    answer = client.post("/api/link/hello", json=hello, headers={"Authorization": f"Bearer {handed['secret']}"})
    assert answer.status_code == 200
    assert client.get(
        "/api/link/said", params={"session": "ab" * 8}, headers={"Authorization": f"Bearer {handed['secret']}"}
    ).json() == {"drives": {}}


@pytest.mark.parametrize(("token", "number", "status"), [("no-such-token", None, 404), (None, 999, 404)])
def test_what_is_not_there_is_not_taken(client: TestClient, token: str | None, number: int | None, status: int) -> None:
    own = token or knock(client)["token"]
    answer = client.post(f"/api/knocks/{own}", json={"ticket": number or ticket(client), "by": "KT"}, headers=HEAD)
    assert answer.status_code == status


def test_a_typed_code_is_good_once_and_wrong_ones_are_counted(client: TestClient) -> None:
    code = client.post(f"/api/tickets/{ticket(client)}/link", json={"by": "KT"}, headers=HEAD).json()["code"]
    assert client.post("/api/link/code", json={"code": code.upper()}).json()["secret"]
    assert client.post("/api/link/code", json={"code": code}).status_code == 401
    for _ in range(10):
        client.post("/api/link/code", json={"code": "zzzzz-zzzzz"})
    assert client.post("/api/link/code", json={"code": "zzzzz-zzzzz"}).status_code == 429


def test_a_crowd_of_knocks_is_kept_out(client: TestClient) -> None:
    answers = [client.post("/api/link/knock", json={"machine": MACHINE, "probe": "1"}).status_code for _ in range(40)]
    assert answers[0] == 200
    assert answers[-1] == 429
    assert len(client.get("/api/knocks").json()["knocks"]) <= 24
