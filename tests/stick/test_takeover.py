"""Nobody takes a machine over that runs our stick but the bench that somebody there sees: the number on both screens,
the key that the stick carries."""

from __future__ import annotations

import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from types import ModuleType
from typing import Any

import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from fastapi.testclient import TestClient

from gatecheck.core.errors import InputError
from gatecheck.server.app import create_app
from gatecheck.server.bench_key import BenchKey, number_of
from gatecheck.server.services import Services, open_services
from gatecheck.stick.build import Parts, with_bench
from serving import HERE, ME

sys.path.insert(0, str(Path(__file__).parent))
from test_stick_program import program  # noqa: F401

HEAD = {"X-Gate-Check": "1"}


@pytest.fixture
def bench(tmp_path: Path) -> Iterator[tuple[Services, TestClient]]:
    house = open_services(tmp_path / "shop")
    with TestClient(create_app(house), base_url=HERE, client=ME) as client:
        yield house, client


class Wired:
    """A stick whose bench answers through a test client; `rogue` lies in whatever way it likes."""

    def __init__(
        self, module: ModuleType, client: TestClient, monkeypatch: pytest.MonkeyPatch, *, pinned: str, rogue: Any = None
    ) -> None:
        def ask(address: str, path: str, body: Any = None) -> Any:
            answer = client.request("POST" if body is not None else "GET", path, json=body)
            if answer.status_code >= 400:
                raise module.probe.Refused(answer.json()["detail"])
            return rogue(path, body, answer.json()) if rogue else answer.json()

        monkeypatch.setattr(module, "ask", ask)
        monkeypatch.setattr(module, "pinned_key", lambda place=None: pinned)
        self.stick = module.Stick(None)
        self.stick.bench, self.begun = HERE, list[str]()
        self.stick.begin = self.begun.append

    def taken_in(self, client: TestClient) -> dict[str, Any]:
        """It knocks, tells its nonce, and somebody at the bench takes it to a ticket; what the bench showed of it."""
        self.stick.knock()
        self.stick.knock()
        shown: dict[str, Any] = client.get("/api/knocks").json()["knocks"][0]
        ticket = client.post(
            "/api/tickets", json={"customer": "Choir", "machine": "Ferrow Lathe-14", "by": "KT"}, headers=HEAD
        ).json()["id"]
        client.post(f"/api/knocks/{shown['token']}", json={"ticket": ticket, "by": "KT"}, headers=HEAD)
        assert client.get(f"/api/tickets/{ticket}/link").json()["number"] == shown["number"], (
            "the ticket shows it until the machine says hello"
        )
        self.stick.knock()
        return shown


def test_the_bench_that_made_the_stick_is_taken_by_one_key_once_both_show_one_number(
    bench: tuple[Services, TestClient], program: ModuleType, monkeypatch: pytest.MonkeyPatch
) -> None:
    house, client = bench
    own = Wired(program, client, monkeypatch, pinned=house.machines.key.public)
    shown = own.taken_in(client)
    assert own.begun == [], "nothing goes on by itself"
    text = " ".join(own.stick.shown.question)
    assert f"{shown['number'][:3]} {shown['number'][3:]}" in text
    assert "the bench that made this stick" in text
    lines = program.screen(own.stick.shown, 80, 25)
    assert (len(lines), any(shown["number"][:3] in line for _, line in lines)) == (25, True)
    own.stick.press("y")
    assert len(own.begun) == 1


@pytest.mark.parametrize("key", ["n", "\r", " ", "x"])
def test_any_other_key_connects_nothing(
    key: str, bench: tuple[Services, TestClient], program: ModuleType, monkeypatch: pytest.MonkeyPatch
) -> None:
    house, client = bench
    own = Wired(program, client, monkeypatch, pinned=house.machines.key.public)
    own.taken_in(client)
    own.stick.press(key)
    assert (own.begun, own.stick.bench, own.stick.shown.question) == ([], "", [])


@pytest.mark.parametrize("pinned", ["", "ab" * 32])
def test_another_bench_is_taken_only_by_the_number_that_its_screen_shows(
    pinned: str, bench: tuple[Services, TestClient], program: ModuleType, monkeypatch: pytest.MonkeyPatch
) -> None:
    _, client = bench
    own = Wired(program, client, monkeypatch, pinned=pinned)
    shown = own.taken_in(client)
    text = " ".join(own.stick.shown.question)
    assert "It did not make this stick" in text
    assert shown["number"][:3] not in text, "it is read from the bench's screen, not from this one"
    for key in "y\r":
        own.stick.press(key)
    assert own.begun == []
    own = Wired(program, client, monkeypatch, pinned=pinned)
    shown = own.taken_in(client)
    for key in shown["number"] + "\r":
        own.stick.press(key)
    assert len(own.begun) == 1


def _other_key(path: str, body: Any, said: Any) -> Any:
    return (
        {**said, "key": Ed25519PrivateKey.generate().public_key().public_bytes_raw().hex()} if "token" in said else said
    )


def _other_signature(path: str, body: Any, said: Any) -> Any:
    return {**said, "sign": "00" * 64} if "token" in said else said


def _other_bit(path: str, body: Any, said: Any) -> Any:
    sign = said.get("sign", "")
    return {**said, "sign": f"{int(sign[:2], 16) ^ 1:02x}{sign[2:]}"} if sign else said


@pytest.mark.parametrize("rogue", [_other_key, _other_signature, _other_bit], ids=["key", "signature", "one bit"])
def test_whoever_only_says_to_be_that_bench_is_another(
    rogue: Any, bench: tuple[Services, TestClient], program: ModuleType, monkeypatch: pytest.MonkeyPatch
) -> None:
    house, client = bench
    own = Wired(program, client, monkeypatch, pinned=house.machines.key.public, rogue=rogue)
    own.stick.knock()
    assert not own.stick.is_own
    own.stick.compare("1-secret")
    own.stick.press("y")
    own.stick.press("\r")
    assert own.begun == []


def test_a_rogue_that_answers_at_once_gets_no_drive(
    program: ModuleType, bench: tuple[Services, TestClient], monkeypatch: pytest.MonkeyPatch
) -> None:
    """One answer on the network, its own secret, every clearance: without a key pressed here, the stick does not even
    say hello."""
    house, client = bench
    own = Wired(
        program,
        client,
        monkeypatch,
        pinned=house.machines.key.public,
        rogue=lambda path, body, said: {"token": "t", "key": "", "sign": "", "secret": "1-rogue", "state": "taken"},
    )
    for _ in range(5):
        own.stick.knock()
    assert own.begun == []
    assert own.stick.secret == ""


def test_the_number_is_nobodys_choice(bench: tuple[Services, TestClient]) -> None:
    _, client = bench
    said = client.post("/api/link/knock", json={"machine": {}, "probe": "1", "commit": "ab" * 32}).json()
    assert client.get(f"/api/link/knock/{said['token']}", params={"nonce": "whatever"}).json() == {"state": "waiting"}
    assert client.get("/api/knocks").json()["knocks"][0]["number"] == "", "what was not promised makes no number"
    assert {len(number_of(str(n), "t", "k")) for n in range(50)} == {6}


@pytest.mark.parametrize("length", [0, 1, 40, 300])
def test_signatures_are_checked_as_the_library_makes_them(length: int, program: ModuleType) -> None:
    for n in range(6):
        own = Ed25519PrivateKey.generate()
        text = "x" * length + str(n)
        key, sign = own.public_key().public_bytes_raw().hex(), own.sign(text.encode()).hex()
        assert program.is_signed(key, text, sign)
        assert not program.is_signed(key, text + "x", sign)
        assert not program.is_signed(key, text, sign[:-2] + f"{int(sign[-2:], 16) ^ 1:02x}")
        assert not program.is_signed(Ed25519PrivateKey.generate().public_key().public_bytes_raw().hex(), text, sign)


@pytest.mark.parametrize(
    ("key", "sign"),
    [
        ("", ""),
        ("zz", "00" * 64),
        ("00" * 32, "00" * 64),
        ("ff" * 32, "ff" * 64),
        ("01" + "00" * 31, "01" + "00" * 63),
        (None, None),
        ("00" * 31, "00" * 64),
    ],
)
def test_what_is_no_key_signs_nothing(key: Any, sign: Any, program: ModuleType) -> None:
    assert not program.is_signed(key, "text", sign)


def test_a_question_waits_for_its_key(program: ModuleType, monkeypatch: pytest.MonkeyPatch) -> None:
    """Before the first byte goes to a drive: the stick's screen shows its serial number, and one key allows it."""
    monkeypatch.setattr(program, "pinned_key", lambda place=None: "")
    for key, allowed in (("y", True), ("n", False)):
        stick = program.Stick(None)
        found: list[bool] = []
        thread = threading.Thread(
            target=lambda own=stick, into=found: into.append(own.confirm(["serial number  QH2-240017"], lambda: True))
        )
        thread.start()
        while not stick.shown.question:
            time.sleep(0.01)
        assert any("QH2-240017" in line for _, line in program.screen(stick.shown, 80, 25))
        assert stick.keys() == [("Y", "yes"), ("any other", "no")]
        stick.press(key)
        thread.join(5)
        assert (found, stick.shown.question) == ([allowed], [])


def test_a_bench_has_one_key(tmp_path: Path) -> None:
    one = BenchKey(tmp_path).public
    assert BenchKey(tmp_path).public == one
    assert (tmp_path / "bench-key").stat().st_mode & 0o777 == 0o600
    (tmp_path / "bench-key").write_text("not a key")
    with pytest.raises(InputError, match="bench's key"):
        BenchKey(tmp_path).public  # noqa: B018


def test_the_key_goes_behind_the_initial_ram_disk(tmp_path: Path) -> None:
    (tmp_path / "own").write_bytes(b"z" * 1001)
    made = with_bench(
        Parts({"live/initrd": tmp_path / "own", "live/vmlinuz": tmp_path / "own"}, b""), "ab" * 32, tmp_path
    )
    raw = made.files["live/initrd"].read_bytes()
    assert raw[:1001] == b"z" * 1001
    assert raw[1004:1010] == b"070701", "on a multiple of four, as the kernel wants it"
    assert b"gatecheck/bench-key\0" in raw
    assert b"ab" * 32 in raw
    assert raw.rstrip(b"\0").endswith(b"TRAILER!!!")


def test_a_machine_that_is_taken_before_it_has_told_its_nonce_shows_its_number_all_the_same(
    bench: tuple[Services, TestClient], program: ModuleType, monkeypatch: pytest.MonkeyPatch
) -> None:
    house, client = bench
    own = Wired(program, client, monkeypatch, pinned=house.machines.key.public)
    own.stick.knock()
    ticket = client.post(
        "/api/tickets", json={"customer": "Choir", "machine": "Ferrow Lathe-14", "by": "KT"}, headers=HEAD
    ).json()["id"]
    client.post(f"/api/knocks/{own.stick.token}", json={"ticket": ticket, "by": "KT"}, headers=HEAD)
    assert client.get(f"/api/tickets/{ticket}/link").json()["number"] == ""
    own.stick.knock()
    number = client.get(f"/api/tickets/{ticket}/link").json()["number"]
    assert f"{number[:3]} {number[3:]}" in " ".join(own.stick.shown.question)
