"""The program is updated while a page is open: it loads anew once nothing is typed, and not before."""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from serving import HTTP, Served

ROOT = Path(__file__).parents[2]


def test_the_event_stream_begins_with_the_version_of_the_pages(server: Served) -> None:
    with HTTP.stream("GET", f"{server.url}/api/events", timeout=10) as stream:
        line = next(own for own in stream.iter_lines() if own.startswith("data:"))
    index = (ROOT / "web" / "dist" / "index.html").read_text("utf-8")
    assert hashlib.sha256(index.encode()).hexdigest()[:16] in line


class Streams:
    """An event stream that is cut when the program changes, as that of a server that is started anew."""

    def __init__(self) -> None:
        self.program, self.changed = "old", threading.Event()
        own = self

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                told = own.program
                self.send_response(200)
                self.send_header("Content-Type", "text/event-stream")
                self.end_headers()
                self.wfile.write(f'retry: 100\n\nevent: hello\ndata: {{"program": "{told}"}}\n\n'.encode())
                self.wfile.flush()
                if told == "old":
                    own.changed.wait(60)
                else:
                    own.ended.wait(60)

            def log_message(self, format: str, *args: object) -> None: ...

        self.ended = threading.Event()
        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.server.daemon_threads = True
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.server.server_port}/"

    def update(self) -> None:
        self.program = "new"
        self.changed.set()


@pytest.fixture
def streams() -> Iterator[Streams]:
    own = Streams()
    yield own
    own.changed.set()
    own.ended.set()
    own.server.shutdown()
    own.server.server_close()


@pytest.mark.parametrize("is_typing", [True, False])
def test_an_open_page_loads_anew_when_nothing_is_lost(
    server: Served, window: Callable[..., Page], streams: Streams, is_typing: bool
) -> None:
    number = server.call("POST", "/api/tickets", json={"customer": "Wren", "machine": "Lathe", "by": "KT"})["id"]
    page = window(fresh=True)
    page.route("**/api/events", lambda route: route.continue_(url=streams.url))
    page.goto(f"{server.url}/ticket/{number}")
    expect(page.get_by_role("region", name="Next step")).to_be_visible()
    if not is_typing:
        with page.expect_event("load"):
            streams.update()
        return
    page.keyboard.press("e")
    field = page.get_by_role("combobox")
    field.fill("half a word")
    loads: list[Page] = []
    page.on("load", lambda own: loads.append(own))
    streams.update()
    strip = page.get_by_text("The program was updated")
    expect(strip).to_have_count(1)
    expect(field).to_have_value("half a word")
    assert loads == []
    with page.expect_event("load"):
        page.keyboard.press("Escape")
        page.mouse.click(5, 300)
    expect(page.get_by_role("region", name="Next step")).to_be_visible()
    expect(strip).to_have_count(0)
