"""A served front end and a headless Chromium."""

from __future__ import annotations

import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx2 as httpx
import pytest
from playwright.sync_api import Browser, Page, sync_playwright

ROOT = Path(__file__).parents[2]
SCRIPT = Path(sys.executable).with_name("gatecheck")
CHROMIUM = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync",
]  # fmt: skip


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    for item in items:
        if "browser" in item.path.parts:
            item.add_marker(pytest.mark.browser)


@dataclass
class Server:
    """A running server over its own data folder; `stop` and `start` as a power cut would."""

    data: Path
    port: int
    process: subprocess.Popen[bytes] | None = None

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def start(self) -> None:
        command = [SCRIPT, "serve", "--port", str(self.port), "--data", str(self.data)]
        self.process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
        for _ in range(200):
            try:
                httpx.get(f"{self.url}/api/bench", timeout=2)
                return
            except httpx.TransportError:
                time.sleep(0.05)
        raise RuntimeError("the server did not start")

    def stop(self) -> None:
        if self.process:
            self.process.kill()
            self.process.wait()

    def take_in(self, *texts: str, **facts: Any) -> int:
        """A ticket by the API; returns its number."""
        entries = [dict(zip(("move", "outcome"), t.split("="), strict=True)) for t in texts]
        body = {"customer": "Choir office", "machine": "Ferrow Lathe-14", "by": "KT", "facts": facts, "entries": entries}
        made: int = httpx.post(f"{self.url}/api/tickets", json=body, timeout=10).json()["id"]
        return made

    def append(self, number: int, *entries: dict[str, Any]) -> None:
        for entry in entries:
            httpx.post(f"{self.url}/api/tickets/{number}/entries", json={"entry": entry, "by": "KT"}, timeout=10).raise_for_status()

    def ticket(self, number: int) -> dict[str, Any]:
        found: dict[str, Any] = httpx.get(f"{self.url}/api/tickets/{number}", timeout=10).json()
        return found


@pytest.fixture
def server(tmp_path: Path) -> Iterator[Server]:
    assert (ROOT / "web" / "dist" / "index.html").exists(), "the front end is not built: run `make install`"
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = int(probe.getsockname()[1])
    running = Server(tmp_path, port)
    running.start()
    yield running
    running.stop()


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        opened = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
        yield opened
        opened.close()


@pytest.fixture
def window(browser: Browser) -> Iterator[Callable[[], Page]]:
    """Opens windows; a script error in any of them fails the test."""
    errors: list[str] = []
    contexts = []

    def open_window() -> Page:
        context = browser.new_context(viewport={"width": 1280, "height": 800})
        contexts.append(context)
        page = context.new_page()
        page.set_default_timeout(8000)
        page.on("pageerror", lambda error: errors.append(str(error)))
        return page

    yield open_window
    for context in contexts:
        context.close()
    assert errors == []
