"""A real server in a process of its own, the command itself or a fork, for tests that kill it, drive it with a browser,
or link machines to it."""

from __future__ import annotations

import contextlib
import random
import socket
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx2 as httpx

from nursery import Forked, start

HTTP = httpx.Client(verify=False, limits=httpx.Limits(max_keepalive_connections=0))
"""for requests to servers of ours: a client of its own for each would read the system's certificates each time, which
takes longer than most tests"""
SCRIPT = Path(sys.executable).with_name("gatecheck")


def free_port() -> int:
    """One below those that the system gives to clients: any of them may be some client's by the time a server is up."""
    draw = random.SystemRandom()
    while True:
        with socket.socket() as probe, contextlib.suppress(OSError):
            port = draw.randrange(12_000, 32_000)
            probe.bind(("127.0.0.1", port))
            return port


HERE, ME = "http://127.0.0.1:8765", ("127.0.0.1", 50_000)
"""where a server without a socket is asked for, and from where"""


class Served:
    """A server over its own data folder; `stop` and `start` as a power cut would."""

    def __init__(
        self,
        data: Path,
        *,
        by_command: bool = False,
        demo: bool = False,
        host: str = "127.0.0.1",
        more: tuple[str, ...] = (),
    ) -> None:
        self.more = more
        self.data, self.port, self.by_command, self.command, self.host = (
            data,
            free_port(),
            by_command,
            "demo" if demo else "serve",
            host,
        )
        self.url = f"http://127.0.0.1:{self.port}"
        self.process: subprocess.Popen[bytes] | Forked | None = None

    def start(self) -> None:
        arguments = [self.command, "--host", self.host, "--port", str(self.port), "--data", str(self.data)]
        arguments += self.more
        self.process = (
            subprocess.Popen([SCRIPT, *arguments], stdout=subprocess.DEVNULL) if self.by_command else start(*arguments)
        )
        for _ in range(2000):
            try:
                HTTP.get(f"{self.url}/api/bench", timeout=2)
                return
            except httpx.TransportError:
                time.sleep(0.05)
        raise RuntimeError("the server did not start")

    def stop(self) -> None:
        if self.process:
            self.process.kill()
            self.process.wait()

    def call(self, method: str, path: str, **more: Any) -> Any:
        """One request that must succeed; its JSON."""
        answer = HTTP.request(method, f"{self.url}{path}", timeout=30, **more)
        assert answer.status_code < 300, answer.text
        return answer.json()

    def refused(self, method: str, path: str, **more: Any) -> str:
        """One request that must be refused; why."""
        answer = HTTP.request(method, f"{self.url}{path}", timeout=30, **more)
        assert 400 <= answer.status_code < 500, answer.text
        return str(answer.json()["detail"])

    def take_in(self, *texts: str, **facts: Any) -> int:
        """A ticket with these readings (`move=outcome`); returns its number."""
        entries = [dict(zip(("move", "outcome"), t.split("="), strict=True)) for t in texts]
        body = {
            "customer": "Choir office",
            "machine": "Ferrow Lathe-14",
            "by": "KT",
            "facts": facts,
            "entries": entries,
        }
        return int(self.call("POST", "/api/tickets", json=body)["id"])

    def append(self, number: int, *entries: dict[str, Any]) -> None:
        for entry in entries:
            self.call("POST", f"/api/tickets/{number}/entries", json={"entry": entry, "by": "KT"})

    def tape_until(self, number: int, wanted: Callable[[list[dict[str, Any]]], Any], seconds: float = 180) -> Any:
        """What `wanted` makes of the tape, once it makes something of it: what a key or a probe did stands there a
        moment later."""
        end = time.monotonic() + seconds
        while not (found := wanted(self.ticket(number)["tape"])) and time.monotonic() < end:
            time.sleep(0.05)
        return found

    def ticket(self, number: int) -> dict[str, Any]:
        found: dict[str, Any] = self.call("GET", f"/api/tickets/{number}")
        return found
