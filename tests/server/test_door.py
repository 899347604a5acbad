"""Who may come in, how much they may bring, and what is said to a browser."""

from __future__ import annotations

import asyncio
import contextlib
import json
import socket
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest
import uvicorn
from fastapi.testclient import TestClient

from gatecheck.server import request_guard
from gatecheck.server.app import create_app
from gatecheck.server.connections import HeaderTimeoutProtocol
from gatecheck.server.events import Events
from gatecheck.server.services import Services, open_services
from serving import HTTP, Served

STRANGER = ("192.0.2.77", 40_000)


@pytest.fixture
def house(tmp_path: Path) -> Iterator[Services]:
    opened = open_services(tmp_path / "data")
    yield opened
    opened.shop.database.close()


def client_of(
    house: Services,
    *,
    source: tuple[str, int] = ("127.0.0.1", 50_000),
    base: str = "http://192.0.2.1:8765",
    **headers: str,
) -> TestClient:
    return TestClient(
        create_app(house, is_public=True), base_url=base, client=source, headers=headers, raise_server_exceptions=False
    )


@pytest.fixture(scope="module")
def door(tmp_path_factory: pytest.TempPathFactory) -> Iterator[TestClient]:
    """Of one shop, for requests after which nothing is other than before."""
    opened = open_services(tmp_path_factory.mktemp("door") / "data")
    yield client_of(opened)
    opened.shop.database.close()


TICKET = {"customer": "Harbour office", "machine": "Ferrow Adze-22", "by": "KT"}

# headers of the request -> status, words of the answer
HOSTS: list[tuple[dict[str, str], int, str]] = [
    ({"host": "127.0.0.1:8765"}, 200, ""),
    ({"host": "localhost:8765"}, 200, ""),
    ({"host": "[::1]:8765"}, 200, ""),
    ({"host": "192.0.2.1:8765"}, 200, ""),
    ({"host": "bench.example:8765"}, 421, "Host"),
    ({"host": "127.0.0.1.bench.example"}, 421, "Host"),
    ({"host": ""}, 421, "Host"),
    ({"host": "evil"}, 421, "Host"),
]


@pytest.mark.parametrize(("headers", "status", "words"), HOSTS)
def test_only_this_machine_s_own_addresses_and_names_are_answered(
    door: TestClient, headers: dict[str, str], status: int, words: str
) -> None:
    answer = door.get("/api/bench", headers=headers)
    assert (answer.status_code, words in answer.text) == (status, True)


def test_a_name_that_was_given_is_answered_too(house: Services) -> None:
    app = create_app(house, names=("Bench.Loft",))
    assert (
        TestClient(app, base_url="http://bench.loft:8765", client=("127.0.0.1", 1)).get("/api/bench").status_code == 200
    )


BROWSER = "Mozilla/5.0 (X11; Linux x86_64)"
CHANGES: list[tuple[dict[str, str], bool, int]] = [
    ({}, True, 201),
    ({"origin": "http://192.0.2.1:8765"}, True, 201),
    ({"origin": "http://192.0.2.1:8765", "user-agent": BROWSER}, True, 201),
    ({"origin": "http://evil.example"}, True, 403),
    ({"origin": "null"}, True, 403),
    ({"origin": "http://192.0.2.1:9999"}, True, 403),
    ({"sec-fetch-site": "cross-site"}, True, 403),
    ({"sec-fetch-site": "same-site"}, True, 403),
    ({"sec-fetch-site": "same-origin"}, True, 201),
    # a form of another page can send these without asking: no JSON, no header
    ({"user-agent": BROWSER, "content-type": "text/plain"}, False, 403),
    ({"user-agent": BROWSER, "x-gate-check": "1", "content-type": "application/json"}, True, 201),
]


@pytest.mark.parametrize(("headers", "is_json", "status"), CHANGES)
def test_a_change_comes_from_our_own_page_or_from_none(
    house: Services, headers: dict[str, str], is_json: bool, status: int
) -> None:
    body = {"json": TICKET} if is_json else {"content": json.dumps(TICKET)}
    answer = client_of(house).post("/api/tickets", headers=headers, **body)  # type: ignore[arg-type]
    assert answer.status_code == status
    assert len(house.bench.overview().rows) == (status == 201)


@pytest.mark.parametrize("path", ["reopen", "files"])
def test_what_needs_no_json_needs_the_header_of_a_browser(house: Services, path: str) -> None:
    ticket = client_of(house).post("/api/tickets", json=TICKET).json()
    body: dict[str, Any] = {"files": {"file": ("x.bin", b"x")}, "data": {"by": "KT"}} if path == "files" else {}
    bare = client_of(house, **{"user-agent": BROWSER}).post(f"/api/tickets/{ticket['id']}/{path}", **body)
    with_header = client_of(house, **{"user-agent": BROWSER, "x-gate-check": "1"}).post(
        f"/api/tickets/{ticket['id']}/{path}", **body
    )
    assert (bare.status_code, with_header.status_code in (409, 422)) == (403, True), (
        "let in, and then judged by what it is"
    )


def test_every_answer_keeps_the_browser_in_bounds(house: Services) -> None:
    for path in ("/api/bench", "/api/nothing", "/probe"):
        headers = client_of(house).get(path).headers
        assert headers["x-content-type-options"] == "nosniff"
        assert headers["referrer-policy"] == "no-referrer"
        policy = headers["content-security-policy"]
        assert ("frame-ancestors 'none'" in policy, "default-src 'none'" in policy, "unsafe" in policy) == (
            True,
            True,
            False,
        )
        assert "geolocation=()" in headers["permissions-policy"]


# a body -> the status it gets; nothing of it is kept
BODIES: list[tuple[bytes, int, str]] = [
    (b'{"customer": "\\ud800", "machine": "x", "by": "KT"}', 422, "half a letter"),
    (b'{"customer": "x", "machine": "x", "by": "KT", "facts": {"budget": ' + b"1" * 400 + b"}}", 422, "400 digits"),
    (b'{"customer": "x", "machine": "x", "by": "KT", "facts": {"budget": 1e999}}', 422, "beyond all bounds"),
    (b'{"customer": "x", "machine": "x", "by": "KT", "facts": {"budget": NaN}}', 422, "NaN"),
    (
        b'{"customer": "x", "machine": "x", "by": "KT", "facts": ' + b'{"a":' * 250 + b"1" + b"}" * 250 + b"}",
        422,
        "levels",
    ),
    (b'{"customer": "x", "machine": "x", "by": "KT", "facts": {"budget": 1e18}}', 422, "budget"),
    (b'{"customer": "x", "machine": "x", "by": "KT", "comeback_of": 999999999999999999}', 404, "expected"),
    (b'{"customer": "x", "machine": "x", "by": "KT", "comeback_of": 9223372036854775808}', 422, "19 digits"),
    (b'{"customer": "x", "machine": "x", "by": "KT", "comeback_of": 0}', 422, "comeback_of"),
    (b'{"customer": "x", "machine": "x", "by": "KT", "words": "' + b"a" * (2 << 20) + b'"}', 413, "1 MiB"),
    (
        (
            b'{"customer": "x", "machine": "x", "by": "KT", "entries": [{"move": "screen", "outcome": "boots", "odds": '
            b'{"confidence": 1}}]}'
        ),
        422,
        "odds",
    ),
    (
        (
            b'{"customer": "x", "machine": "x", "by": "KT", "entries": [{"move": "screen", "outcome": "boots", '
            b'"rests_on": '
            b'{"file": "x"}}]}'
        ),
        422,
        "rests_on",
    ),
    (
        b'{"customer": "x", "machine": "x", "by": "KT", "entries": [{"note": "' + b"a" * 9000 + b'"}]}',
        422,
        "8000 letters",
    ),
    (b"\xff\xfe", 422, "expected JSON"),
    (b"", 422, "body"),
    (b"[]", 422, "body"),
]


@pytest.mark.parametrize(("body", "status", "words"), BODIES)
def test_nothing_is_kept_that_cannot_be_read_back(door: TestClient, body: bytes, status: int, words: str) -> None:
    answer = door.post("/api/tickets", content=body, headers={"content-type": "application/json"})
    assert (answer.status_code, words in answer.json()["detail"]) == (status, True), answer.text
    assert door.get("/api/bench").json()["rows"] == []


@pytest.mark.parametrize("number", [0, -1, 1 << 63, 10**30])
def test_a_number_that_sqlite_cannot_count_to_is_no_ticket(door: TestClient, number: int) -> None:
    assert door.get(f"/api/tickets/{number}").status_code == 422


def test_a_ticket_that_cannot_be_read_takes_no_other_away_and_undo_heals_it(house: Services) -> None:
    client = client_of(house)
    sick, sound = (
        client.post(
            "/api/tickets", json={**TICKET, "entries": [{"move": "screen", "outcome": "no-boot-device"}]}
        ).json()["id"]
        for _ in range(2)
    )
    bad = [
        '{"move": "screen", "outcome": "from-another-year"}',
        '{"note": "\\ud800"}',
        '{"signed": "repair", "odds": {"confidence": "much"}}',
        '{"put_back": "set-mode"}',
        '{"fact": {"budget": ' + "9" * 400 + "}}",
        '{"move": "health-pages", "weights": {"clean": 1}, "rests_on": 7}',
    ]
    with house.shop.database.write() as connection:
        for place, body in enumerate(bad, 1):
            connection.execute(
                (
                    "INSERT INTO entry (ticket_id, place, body, made_by, made_at) VALUES (?, ?, ?, 'KT', "
                    "'2026-11-26T10:00:00+00:00')"
                ),
                (sick, place, body),
            )
    rows = {row["id"]: row for row in client.get("/api/bench").json()["rows"]}
    assert (rows[sound]["broken"], "entry 1" in rows[sick]["broken"]) == (None, True)
    ticket = client.get(f"/api/tickets/{sick}").json()
    broken = [e["place"] for e in ticket["tape"] if e["broken"]]
    assert (ticket["tape"][0]["broken"], set(broken) >= {1, 3, 4, 5, 6}) == (None, True)
    for place in broken:
        assert (
            client.post(f"/api/tickets/{sick}/entries", json={"entry": {"undo": place}, "by": "KT"}).status_code == 201
        )
    healed = {row["id"]: row for row in client.get("/api/bench").json()["rows"]}[sick]
    assert (healed["broken"], healed["next_move"] is not None) == (None, True)


def test_taking_in_twice_is_one_ticket(house: Services) -> None:
    client = client_of(house)
    first, again, other = (
        client.post("/api/tickets", json={**TICKET, "key": key}).json()["id"] for key in ("a1", "a1", "b2")
    )
    assert (first == again, other != first, len(client.get("/api/bench").json()["rows"])) == (True, True, 2)


# --- beyond this computer ------------------------------------------------------------------------------------------


def test_a_stranger_sees_nothing_but_how_to_be_paired(house: Services) -> None:
    stranger = client_of(house, source=STRANGER)
    nobody = {"knows_technicians": False, "signed_in": False, "role": None, "rights": []}
    assert stranger.get("/api/me").json() == {"here": False, "paired": False, "initials": None, **nobody}
    for path in ("/api/bench", "/api/tickets/1", "/api/events", "/api/openapi.json", "/api/devices"):
        assert stranger.get(path).status_code == 401
    assert stranger.post("/api/tickets", json=TICKET).status_code == 401
    assert stranger.post("/api/devices/code", headers={"x-gate-check": "1"}).status_code == 401
    assert stranger.get("/probe").status_code == 200
    assert (
        stranger.post(
            "/api/link/hello",
            json={"protocol": 1, "probe": "1", "machine": {}, "session": "ab" * 8},
            headers={"authorization": "Bearer 1-guess"},
        ).status_code
        == 401
    )


def test_a_device_is_paired_once_signs_for_its_technician_and_is_taken_out(house: Services) -> None:
    here, tablet, other = (
        client_of(house),
        client_of(house, source=STRANGER),
        client_of(house, source=("192.0.2.78", 1)),
    )
    code = here.post("/api/devices/code").json()["code"]
    assert other.post("/api/pair", json={"code": "AAAAAA", "initials": "ZZ"}).status_code == 403
    answer = tablet.post("/api/pair", json={"code": code.lower(), "initials": "MB"})
    assert answer.status_code == 201
    cookie = answer.headers["set-cookie"]
    assert ("HttpOnly" in cookie, "SameSite=strict" in cookie) == (True, True)
    assert other.post("/api/pair", json={"code": code, "initials": "ZZ"}).status_code == 403, "good once"
    me = tablet.get("/api/me").json()
    assert (me["here"], me["paired"], me["initials"], me["signed_in"]) == (False, True, "MB", False)
    ticket = tablet.post("/api/tickets", json={**TICKET, "by": "somebody else"}).json()
    told = tablet.post(f"/api/tickets/{ticket['id']}/entries", json={"entry": {"note": "seen"}, "by": "KT"}).json()
    assert (ticket["opened_by"], told["tape"][-1]["made_by"]) == ("MB", "MB"), "whatever is sent"
    assert (
        here.post(f"/api/tickets/{ticket['id']}/entries", json={"entry": {"note": "seen"}, "by": "KT"}).json()["tape"][
            -1
        ]["made_by"]
        == "KT"
    )
    device = here.get("/api/devices").json()
    assert [(d["initials"], d["is_this"]) for d in device] == [("MB", False)]
    assert here.delete(f"/api/devices/{device[0]['id']}", headers={"x-gate-check": "1"}).json() == []
    assert tablet.get("/api/bench").status_code == 401


def test_a_code_grows_old_and_may_not_be_guessed(house: Services, monkeypatch: pytest.MonkeyPatch) -> None:
    here, tablet = client_of(house), client_of(house, source=STRANGER)
    code = here.post("/api/devices/code").json()["code"]
    clock = time.monotonic()
    monkeypatch.setattr("gatecheck.server.people.devices.time.monotonic", lambda: clock + 121)
    assert tablet.post("/api/pair", json={"code": code, "initials": "MB"}).status_code == 403
    monkeypatch.undo()
    fresh = here.post("/api/devices/code").json()["code"]
    answers = [tablet.post("/api/pair", json={"code": f"WRONG{n}", "initials": "MB"}).status_code for n in range(5)]
    assert (answers, tablet.post("/api/pair", json={"code": fresh, "initials": "MB"}).status_code) == (
        [403] * 4 + [429],
        429,
    )


def test_a_token_is_kept_by_its_hash_only(house: Services) -> None:
    code = client_of(house).post("/api/devices/code").json()["code"]
    tablet = client_of(house, source=STRANGER)
    tablet.post("/api/pair", json={"code": code, "initials": "MB"})
    token = tablet.cookies["gatecheck"]
    with house.shop.database.read() as connection:
        kept = [str(value) for row in connection.execute("SELECT * FROM device") for value in row]
    assert not [value for value in kept if token in value]


# --- real sockets --------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    running = Served(tmp_path_factory.mktemp("door"))
    running.start()
    yield running
    running.stop()


def raw(served: Served, text: bytes, *, wait: float = 5.0) -> bytes:
    with socket.create_connection(("127.0.0.1", served.port), timeout=wait) as own:
        own.sendall(text)
        own.settimeout(wait)
        found = b""
        try:
            while part := own.recv(65536):
                found += part
        except TimeoutError:
            pass
        return found


def test_a_chunked_body_is_counted_too(served: Served) -> None:
    head = (
        b"POST /api/tickets HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\nTransfer-Encoding: "
        b"chunked\r\nConnection: close\r\n\r\n"
    )
    chunk = b"10000\r\n" + b"a" * 65536 + b"\r\n"
    assert b" 413 " in raw(served, head + chunk * 20)[:40]
    assert served.call("GET", "/api/bench")["rows"] == []


def test_a_size_that_is_none_is_refused_before_anything_is_read(served: Served) -> None:
    for size in (b"99999999999", b"1" * 16):
        head = (
            b"POST /api/tickets HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\nContent-Length: "
            + size
            + b"\r\nConnection: close\r\n\r\n"
        )
        assert b" 413 " in raw(served, head)[:40]


@pytest.mark.parametrize(
    ("target", "status"),
    [
        (b"/" + b"a" * 300, 200),  # longer than a file's name: the page, as for every path of its own
        (b"/" + b"a" * 5000, 200),
        (b"/%00" + b"a" * 10, 200),
        (b"/" + b"a" * 9000, 414),
        (b"/api/bench?q=" + b"a" * 9000, 414),
        (b"/" + b"a/" * 40_000, 414),
    ],
)
def test_a_url_beyond_any_sense_is_refused_at_once(served: Served, target: bytes, status: int) -> None:
    text = b"GET " + target + b" HTTP/1.1\r\nHost: 127.0.0.1\r\nConnection: close\r\n\r\n"
    assert f" {status} ".encode() in raw(served, text)[:40]


@pytest.mark.parametrize(
    ("head", "status"),
    [
        (b"GET /" + b"a" * 90_000, 414),
        (b"GET /api/bench?q=" + b"a" * 90_000, 414),
        (b"GET /api/bench HTTP/1.1\r\nHost: 127.0.0.1\r\nX-Long: " + b"a" * 90_000, 431),
    ],
)
def test_a_head_that_does_not_end_is_refused_by_what_of_it_is_long(served: Served, head: bytes, status: int) -> None:
    assert f" {status} ".encode() in raw(served, head)[:40]


def test_many_listeners_are_as_many_as_are_let_in(house: Services, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("gatecheck.server.events._MOST_LISTENERS", 0)
    answer = client_of(house).get("/api/events")
    assert (answer.status_code, "at most 0 listeners" in answer.json()["detail"]) == (429, True)


@pytest.fixture
def impatient(house: Services, monkeypatch: pytest.MonkeyPatch) -> Iterator[int]:
    """A server in a thread that waits half a second where a real one waits twenty; its port."""
    monkeypatch.setattr("gatecheck.server.connections.HEAD_SECONDS", 0.5)
    monkeypatch.setattr("gatecheck.server.request_guard._PART_SECONDS", 0.5)
    own = socket.socket()
    own.bind(("127.0.0.1", 0))
    own.listen()
    server = uvicorn.Server(uvicorn.Config(create_app(house), http=HeaderTimeoutProtocol, log_level="error"))
    thread = threading.Thread(target=server.run, kwargs={"sockets": [own]}, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.02)
    yield own.getsockname()[1]
    server.should_exit = True
    thread.join(10)
    own.close()


SLOW = [
    (b"", b""),
    (b"POST /api/tick", b""),
    (
        (
            b"POST /api/tickets HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\nContent-Length: "
            b"500\r\n\r\n{"
        ),
        b" 408 ",
    ),
]


@pytest.mark.parametrize(("sent", "answer"), SLOW, ids=["nothing", "half-a-head", "half-a-body"])
def test_whoever_brings_nothing_keeps_no_place(impatient: int, sent: bytes, answer: bytes) -> None:
    with socket.create_connection(("127.0.0.1", impatient), timeout=10) as own:
        own.sendall(sent)
        found = own.recv(4096)
    assert answer in found if answer else found == b""
    assert HTTP.get(f"http://127.0.0.1:{impatient}/api/bench", timeout=10).status_code == 200


def test_an_undo_that_would_break_a_later_entry_is_refused(house: Services) -> None:
    client = client_of(house)
    entries = [{"move": "set-order", "outcome": "no-change"}, {"put_back": "set-order"}]
    ticket = client.post("/api/tickets", json={**TICKET, "entries": entries}).json()
    answer = client.post(f"/api/tickets/{ticket['id']}/entries", json={"entry": {"undo": 0}, "by": "KT"})
    assert (answer.status_code, "entry 1" in answer.json()["detail"]) == (422, True)
    assert len(client.get(f"/api/tickets/{ticket['id']}").json()["tape"]) == 2


# --- long bodies, long heads, other pages --------------------------------------------------------------------------


@pytest.mark.parametrize(
    "body",
    [
        b'"' * 16_000,
        b'"\\' * 8_000,
        b"[" + b'"a\\"' * 6_000,
        b'{"a":"' + b"\\" * 16_001,
        b'"' + b"[" * 16_000,
        b'"a"' * 300_000,
        b"[]" * 400_000,
    ],
    ids=lambda b: b[:8].decode(),
)
def test_a_body_is_looked_at_once(body: bytes) -> None:
    """Bodies that made a pattern look at each byte as often as there are bytes: 50 times the body takes about 50 times
    as long, not 2,500 times."""
    costs = []
    for times_as_long in (1, 8):
        began = time.process_time()
        with contextlib.suppress(request_guard.Refusal):
            request_guard.check_json(body[: len(body) // 8 * times_as_long])
        costs.append(time.process_time() - began)
    assert costs[1] < 40 * max(costs[0], 0.001)


@pytest.mark.parametrize(
    ("text", "levels"),
    [
        ('{"a": "[[[[", "b": "\\\\"}', 1),
        ('["\\"[[[[[[[["]', 1),
        ('"' + "[" * 50, 0),
        ("[" * 31, 31),
        ('["a", "\\\\", "[' + "[" * 40 + '"]', 1),
    ],
)
def test_brackets_in_texts_are_no_levels(text: str, levels: int) -> None:
    refused = (
        pytest.raises(request_guard.Refusal, match="levels")
        if levels > 30
        else contextlib.suppress(request_guard.Refusal)
    )
    with refused as found:
        request_guard.check_json(text.encode())
    assert levels > 30 or "levels" not in str(getattr(found, "value", ""))


KINDS = [
    ("text/plain; charset=json", 403),
    ("text/plain;json", 403),
    ("application/json-not", 403),
    ("application/x-www-form-urlencoded; a=application/json", 403),
    ("application/json; charset=utf-8", 201),
    ("Application/JSON", 201),
]


@pytest.mark.parametrize(("kind", "status"), KINDS)
def test_a_page_brings_json_by_its_very_name(house: Services, kind: str, status: int) -> None:
    headers = {"Content-Type": kind, "Origin": "http://192.0.2.1:8765", "User-Agent": "Mozilla/5.0"}
    assert client_of(house).post("/api/tickets", content=json.dumps(TICKET), headers=headers).status_code == status


def test_json_by_whatever_name_is_checked_before_it_is_read(house: Services) -> None:
    deep = b"[" * 31 + b"]" * 31
    for headers in ({}, {"Content-Type": "application/json"}, {"Content-Type": "application/merge+json"}):
        answer = client_of(house).post(
            "/api/link/hello", content=deep, headers={**headers, "Authorization": "Bearer 1-x"}
        )
        assert (answer.status_code, "levels" in answer.text) == (422, True), headers


@pytest.mark.parametrize(
    "host",
    [
        "[::1]evil.example",
        "[::1]:8765evil",
        "127.0.0.1@evil.example",
        "evil.example",
        "[::1",
        "127.0.0.1:99999999",
        "127.0.0.1:x",
        "",
        "localhost/x",
        "[localhost]",
    ],
)
@pytest.mark.parametrize(
    "path",
    [
        "/",
        "/api/bench",
        "/probe",
        "/s/abcde-fghij",
        "/p/abcde-fghij",
        "/api/link/orders?session=x",
        "/api/link/knock/x",
    ],
)
def test_a_name_that_is_not_ours_is_asked_for_nothing(door: TestClient, host: str, path: str) -> None:
    assert door.get(path, headers={"Host": host}).status_code == 421


@pytest.mark.parametrize("host", ["127.0.0.1:8765", "[::1]:8765", "[::1]", "localhost", "LOCALHOST:1", "10.0.2.2:8765"])
def test_a_name_that_is_ours_is(door: TestClient, host: str) -> None:
    assert door.get("/probe", headers={"Host": host}).status_code == 200


@pytest.mark.parametrize(
    "origin",
    [
        "https://127.0.0.1:8765",
        "null",
        "http://127.0.0.1:8766",
        "http://evil.example",
        "ftp://127.0.0.1:8765",
        "127.0.0.1:8765",
    ],
)
@pytest.mark.parametrize("path", ["/api/tickets", "/api/link/code", "/api/link/knock"])
def test_another_pages_change_is_refused_and_uses_nothing_up(house: Services, origin: str, path: str) -> None:
    client = client_of(house)
    for _ in range(12):
        assert (
            client.post(
                path, json={"code": "zzzzz-zzzzz", "machine": {}, "probe": "1"}, headers={"Origin": origin}
            ).status_code
            == 403
        )
    assert client.post("/api/link/code", json={"code": "zzzzz-zzzzz"}).status_code == 401, (
        "the bench's own tries are its own"
    )


def test_a_request_that_says_two_things_is_refused(served: Served) -> None:
    for line in (b"Host: 127.0.0.1", b"Content-Type: text/plain", b"Origin: http://127.0.0.1"):
        head = (
            (
                b"POST /api/tickets HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\nOrigin: "
                b"http://127.0.0.1\r\nContent-Length: 2\r\n"
            )
            + line
            + b"\r\nConnection: close\r\n\r\n{}"
        )
        assert b" 400 " in raw(served, head)[:40] or b" 403 " in raw(served, head)[:40], line


def test_half_a_second_head_keeps_no_place(impatient: int) -> None:
    """One request is answered; what follows on the same connection trickles, a byte now and then."""
    with socket.create_connection(("127.0.0.1", impatient), timeout=10) as own:
        own.sendall(b"GET /api/words HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\nGET /api/wor")
        answer, end = b"", time.monotonic() + 60
        own.settimeout(0.1)
        closed = False
        while time.monotonic() < end and not closed:
            try:
                got = own.recv(65536)
                closed = not got
                answer += got
            except TimeoutError:
                pass
            except ConnectionError:
                closed = True
            with contextlib.suppress(OSError):
                own.send(b"d")
                closed = closed or False
        assert answer.startswith(b"HTTP/1.1 200")
        assert closed


def test_a_body_that_nobody_reads_keeps_no_place(impatient: int) -> None:
    with socket.create_connection(("127.0.0.1", impatient), timeout=10) as own:
        own.sendall(b"GET /api/words HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 1000000\r\n\r\nx")
        own.settimeout(0.1)
        end, closed = time.monotonic() + 60, False
        while time.monotonic() < end and not closed:
            try:
                closed = not own.recv(1 << 20)
            except TimeoutError:
                pass
            except ConnectionError:
                closed = True
            try:
                own.send(b"y")
            except OSError:
                closed = True
        assert closed


def test_whoever_waits_longest_makes_room_for_the_bench(impatient: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(HeaderTimeoutProtocol, "most", 20)
    monkeypatch.setattr("gatecheck.server.connections.HEAD_SECONDS", 60.0)
    crowd = []
    try:
        for _ in range(60):
            own = socket.create_connection(("127.0.0.1", impatient), timeout=10)
            own.sendall(b"GET /api/words HTTP/1.1\r\nHost: 127.0.0.1\r\nX-Slow: ")
            crowd.append(own)
        assert HTTP.get(f"http://127.0.0.1:{impatient}/api/bench", timeout=10).status_code == 200
        assert len(HeaderTimeoutProtocol.open_ones) <= 21
    finally:
        for own in crowd:
            own.close()


def test_wrong_codes_from_many_addresses_lock_nobody_out() -> None:
    from gatecheck.server.people.throttle import Throttle

    own = Throttle(5, 60.0)
    for n in range(100):
        for _ in range(5):
            own.wrong(f"10.0.{n}.1")
    assert not own.is_open("10.0.3.1")
    assert own.is_open("192.168.1.20"), "a tablet that was never wrong"
    own.wrong("192.168.1.20")
    assert not own.is_open("192.168.1.20"), "while so many are tried, one slip is a pause"
    for n in range(2000):
        own.wrong(f"11.{n // 250}.{n % 250}.1")
    assert not own.is_open("192.168.1.21"), "so many are somebody who tries them all"
    assert own.is_open("127.0.0.1")
    own = Throttle(5, 60.0)
    for _ in range(5):
        own.wrong("127.0.0.1")
    assert not own.is_open("127.0.0.1")


def test_an_event_stream_ends_with_its_pairing(house: Services) -> None:
    events = Events()
    devices = house.devices
    token = devices.pair(devices.code()[0], name="tablet", initials="KT", source="10.0.0.9")
    device = devices.of_token(token)
    assert device is not None

    async def listen() -> list[str]:
        events.attach()
        devices.announce = events.publish
        found: list[str] = []
        async with asyncio.timeout(120):
            async for text in events.stream(lambda: devices.is_paired(device.id)):
                found.append(text)
                if len(found) == 1:
                    events.publish({"kind": "ticket", "ticket": 1})
                if len(found) == 2:
                    await asyncio.to_thread(devices.revoke, device.id)
                    events.publish({"kind": "ticket", "ticket": 2})
        return found

    with ThreadPoolExecutor(1) as beside:  # another test of this process may have a loop of its own that runs
        heard = beside.submit(asyncio.run, listen()).result()
    assert len(heard) == 2, "nothing after it was thrown out"
