"""A bench that is none: whatever it answers, the probe neither dies of it nor writes outside its own folder."""

from __future__ import annotations

import json
import random
import threading
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest

from gatecheck.practice.patients import patient
from gatecheck.probe import link, probe
from gatecheck.probe import main as probe_main
from gatecheck.probe.main import main
from gatecheck.probe.reader import Reader

SECRET = "1-k7qdm2xp45"
Answer = Callable[[str, int], tuple[int, bytes, dict[str, str]]]


class Bench:
    """Answers every request as it is told, and says after so many that the link is over."""

    def __init__(self, answer: Answer, most: int = 60) -> None:
        self.asked: list[tuple[str, str, str]] = []
        bench = self

        class Handler(BaseHTTPRequestHandler):
            def handle_any(self) -> None:
                self.rfile.read(int(self.headers.get("Content-Length") or 0))
                bench.asked.append((self.command, self.path, self.headers.get("Authorization", "")))
                status, body, headers = (
                    (410, b'{"detail": "over"}', {}) if len(bench.asked) > most else answer(self.path, len(bench.asked))
                )
                self.send_response(status)
                for name, value in headers.items():
                    self.send_header(name, value)
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body)

            do_GET = do_POST = handle_any

            def log_message(self, *anything: Any) -> None:
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self.server.server_address[1]}"
        threading.Thread(target=self.server.serve_forever, daemon=True).start()


@pytest.fixture
def bench() -> Iterator[Callable[..., Bench]]:
    made: list[Bench] = []

    def make(answer: Answer, most: int = 60) -> Bench:
        made.append(Bench(answer, most))
        return made[-1]

    yield make
    for one in made:
        one.server.shutdown()
        one.server.server_close()


class Inline(Reader):  # type: ignore[misc]
    def run(self, call: Any) -> tuple[str, str, bytes]:
        found: tuple[str, str, bytes] = self._answer(call)
        return found


def survives(own: Bench, folder: Path, monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """What the probe said on its terminal until it ended."""
    monkeypatch.setattr(link, "RETRY_SECONDS", 0.01)
    monkeypatch.setattr(probe, "PULL_SECONDS", 0.0)
    monkeypatch.setattr(probe_main, "Reader", lambda wait=1.0: Inline(wait))
    said: list[str] = []
    spool = folder / "spool"
    before = set(folder.rglob("*"))
    status = main(
        ["--server", own.url, "--secret", SECRET, "--spool", str(spool)],
        machine=patient("two-alike").connected(),
        say=said.append,
    )
    assert status in (0, 2)
    assert all(spool in (p, *p.parents) for p in folder.rglob("*") if p not in before), (
        "nothing is written but into its own folder"
    )
    return said


def told(value: object) -> Answer:
    return lambda path, count: (200, value if isinstance(value, bytes) else json.dumps(value).encode(), {})


HELLO = {"session": "ab" * 8, "acknowledged": 0, "ticket": "GC-0001"}
NASTY: list[object] = [
    b"",
    b"not json",
    b"[]",
    b"null",
    b"[" * 5000,
    {},
    {"session": 7},
    {"session": "../../etc"},
    {"acknowledged": -5},
    {"acknowledged": 1 << 70},
    {"acknowledged": "3"},
    {"acknowledged": True},
    {**HELLO, "orders": "all"},
    {**HELLO, "orders": [None, 3, [], {}]},
    {**HELLO, "orders": [{"order": ["read"]}]},
    {**HELLO, "orders": [{"id": "../../x", "order": "read", "clearances": {}}]},
    {**HELLO, "orders": [{"id": "1", "order": "self-test", "device": {"a": 1}, "kind": []}]},
    {**HELLO, "orders": [{"id": "1", "order": "read", "clearances": {"pages": "é"}}] * 500},
    {**HELLO, "orders": [{"id": "1", "order": "format", "clearances": {"": ""}}]},
    {**HELLO, "ticket": "\x1b]0;owned\x07\x1b[2J"},
    b'{"session": "' + b"a" * (5 << 20) + b'"}',
]


@pytest.mark.parametrize("answer", NASTY, ids=range(len(NASTY)))
def test_it_survives_any_answer(answer: object, bench: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    said = survives(bench(told(answer)), tmp_path, monkeypatch)
    assert not [text for text in said if any(ord(c) < 32 for c in text)], (
        "nothing moves the cursor of whoever looks at it"
    )


@pytest.mark.parametrize("seed", range(6))
def test_it_survives_answers_that_change(
    seed: int, bench: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    rng = random.Random(seed)

    def answer(path: str, count: int) -> tuple[int, bytes, dict[str, str]]:
        status = rng.choice([200, 200, 200, 204, 400, 409, 500, 503])
        value = rng.choice([*NASTY, HELLO, HELLO, {"acknowledged": count}])
        return status, b"" if status == 204 else value if isinstance(value, bytes) else json.dumps(value).encode(), {}

    survives(bench(answer, 120), tmp_path, monkeypatch)


def test_the_secret_follows_no_signpost(bench: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    elsewhere = bench(told(HELLO))
    own = bench(lambda path, count: (302, b"", {"Location": f"{elsewhere.url}/api/link/hello"}), 8)
    survives(own, tmp_path, monkeypatch)
    assert elsewhere.asked == []


def test_a_forged_order_starts_nothing(bench: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    order = {"id": "1", "order": "self-test", "device": "nvme0", "kind": "long", "clearances": {"stress": "0" * 64}}
    started: list[object] = []
    machine = patient("two-alike").connected()
    monkeypatch.setattr(type(machine.drives["nvme0"].self_test), "start", lambda self, kind: started.append(kind))  # type: ignore[union-attr]
    said = survives(bench(told({**HELLO, "acknowledged": 10_000, "orders": [order]}), 20), tmp_path, monkeypatch)
    assert (started, any("refused" in text for text in said)) == ([], True)
