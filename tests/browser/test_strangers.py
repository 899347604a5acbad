"""In a real browser: another page acts on nothing, a name that was pointed here opens nothing, and a tablet is paired
once."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect

from gatecheck.server.people.routes import own_address
from serving import HTTP, Served

CHROMIUM = ["--no-sandbox", "--disable-gpu", "--no-first-run"]

# what a page of another origin can send without asking: forms, images, frames, requests without an answer
HOSTILE = """<!doctype html><title>a harmless page</title><iframe src="{bench}/" id="frame" width="300" height="200"></iframe>
<form id="f" method="post" enctype="multipart/form-data" action="{bench}/api/tickets/1/files" target="sink"><input name="by" value="X"><input name="file" value="x"></form>
<form id="g" method="post" enctype="text/plain" action="{bench}/api/tickets/1/reopen" target="sink"></form>
<iframe name="sink"></iframe>
<script>
const quiet = (path, init) => fetch('{bench}/api' + path, {{mode: 'no-cors', credentials: 'include', ...init}}).catch(() => null)
const asking = (path, init) => fetch('{bench}/api' + path, init).then(a => a.ok ? 'in' : 'out', () => 'out')
addEventListener('load', async () => {{
  document.getElementById('f').submit(); document.getElementById('g').submit()
  const form = new FormData(); form.append('by', 'X'); form.append('file', new Blob(['x']), 'identify.bin')
  await quiet('/tickets/1/files', {{method: 'POST', body: form}})
  await quiet('/tickets/1/reopen', {{method: 'POST'}})
  await quiet('/tickets', {{method: 'POST', body: JSON.stringify({{customer: 'X', machine: 'X', by: 'X'}})}})
  await quiet('/devices/code', {{method: 'POST'}})
  const json = {{method: 'POST', headers: {{'Content-Type': 'application/json', 'X-Gate-Check': '1'}}, body: JSON.stringify({{customer: 'X', machine: 'X', by: 'X'}})}}
  const tried = [await asking('/tickets', json), await asking('/bench', {{}}), await asking('/tickets/1/link', {{method: 'DELETE'}})]
  document.title = 'tried ' + tried.join(' ')
}})
</script>"""


@pytest.fixture
def elsewhere() -> Iterator[Callable[[str], str]]:
    """Serves a page from another origin; its address."""
    made: list[ThreadingHTTPServer] = []

    def serve(text: str) -> str:
        class Handler(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                body = text.encode()
                self.send_response(200)
                self.send_header("Content-Type", "text/html")
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body)

            def log_message(self, *anything: Any) -> None:
                pass

        made.append(ThreadingHTTPServer(("127.0.0.1", 0), Handler))
        threading.Thread(target=made[-1].serve_forever, daemon=True).start()
        return f"http://127.0.0.1:{made[-1].server_address[1]}/"

    yield serve
    for one in made:
        one.shutdown()
        one.server_close()


def test_a_hostile_page_acts_on_nothing(server: Served, browser: Browser, elsewhere: Callable[[str], str]) -> None:
    number = server.take_in("screen=no-boot-device")
    server.call("POST", f"/api/tickets/{number}/link", json={"by": "KT"})
    before = server.call("GET", "/api/bench"), server.ticket(number)
    page = browser.new_page()
    page.goto(elsewhere(HOSTILE.format(bench=server.url)))
    expect(page).to_have_title("tried out out out", timeout=60_000)
    after = server.call("GET", "/api/bench"), server.ticket(number)
    assert [row["id"] for row in after[0]["rows"]] == [row["id"] for row in before[0]["rows"]]
    assert (after[1]["tape"], after[1]["files"]) == (before[1]["tape"], before[1]["files"])
    assert server.call("GET", f"/api/tickets/{number}/link")["state"] == "waiting"
    frame = page.frames[1]
    assert "Gate Check" not in (frame.title() if "chrome-error" not in frame.url else ""), "it is framed by nobody"
    page.close()


def test_a_name_that_was_pointed_here_opens_nothing(server: Served, browser: Browser) -> None:
    """DNS rebinding: the page's own name resolves to this machine, so the browser calls it the same origin."""
    server.take_in("screen=no-boot-device")
    opened = browser.browser_type.launch(
        executable_path="/usr/bin/chromium", args=[*CHROMIUM, "--host-resolver-rules=MAP rebound.example 127.0.0.1"]
    )
    page = opened.new_page()
    answer = page.goto(f"http://rebound.example:{server.port}/")
    assert answer is not None
    assert answer.status == 421
    told = page.evaluate("() => fetch('/api/bench').then(a => a.status)")
    acted = page.evaluate(
        "() => fetch('/api/tickets', {method: 'POST', headers: {'Content-Type': 'application/json'}, body: "
        "'{}'}).then(a => a.status)"
    )
    opened.close()
    assert (told, acted) == (421, 421)


@pytest.fixture
def public(tmp_path: Path) -> Iterator[Served]:
    if not own_address() or own_address().startswith("127."):
        pytest.skip("this machine has no address but its own")
    running = Served(tmp_path, host="0.0.0.0", more=("--http",))
    running.start()
    yield running
    running.stop()


def test_a_tablet_is_paired_once_and_taken_out(public: Served, window: Callable[[], Page]) -> None:
    public.take_in("screen=no-boot-device")
    here, tablet = window(), window()
    tablet.goto(f"http://{own_address()}:{public.port}/")
    expect(tablet.get_by_role("heading", name="Pair this device with the bench")).to_be_visible()
    here.goto(public.url)
    here.get_by_role("button", name="Ferrow Lathe-14").first.wait_for()
    here.keyboard.press("i")
    sheet = here.get_by_role("dialog", name="Devices")
    expect(sheet).to_contain_text("No device is paired")
    here.keyboard.press("+")
    expect(sheet).to_contain_text("for one device")
    expect(sheet.get_by_role("img", name="http://")).to_be_visible()
    code = sheet.locator("p.font-mono").inner_text()
    tablet.get_by_label("Code").fill("WRONG1")
    tablet.get_by_label("Your initials").fill("MB")
    tablet.keyboard.press("Enter")
    expect(tablet.get_by_text("Not paired")).to_be_visible()
    tablet.get_by_label("Code").fill(code)
    tablet.keyboard.press("Enter")
    expect(tablet.get_by_role("button", name="Ferrow Lathe-14").first).to_be_visible()
    expect(sheet.get_by_role("listitem")).to_contain_text("MB")
    tablet.get_by_role("button", name="Ferrow Lathe-14").first.click()
    expect(tablet.get_by_role("region", name="Next step")).to_be_visible()
    tablet.keyboard.press("1")
    for _ in range(50):
        tape = public.ticket(1)["tape"]
        if len(tape) == 2:
            break
        tablet.wait_for_timeout(100)
    assert tape[-1]["made_by"] == "MB"
    here.keyboard.press("1")
    expect(sheet).to_contain_text("No device is paired")
    answer = tablet.evaluate("() => fetch('/api/bench').then(a => a.status)")
    assert answer == 401
    assert HTTP.get(f"http://{own_address()}:{public.port}/api/bench", timeout=10).status_code == 401


def test_nothing_inline_is_needed(server: Served, browser: Browser) -> None:
    """The policy forbids inline scripts and styles; no page of ours says a word about it."""
    number = server.take_in("screen=no-boot-device")
    page, said = browser.new_page(), []
    page.on("console", lambda message: said.append(message.text) if message.type == "error" else None)
    for path, key in (
        ("/", "+"),
        (f"/ticket/{number}", "c"),
        (f"/ticket/{number}/pages", "?"),
        (f"/ticket/{number}/call", "?"),
        ("/odds", "?"),
    ):
        page.goto(server.url + path)
        page.get_by_role("heading", level=1).first.wait_for()
        page.keyboard.press(key)
        page.wait_for_timeout(300)
    assert [text for text in said if "Content Security Policy" in text or "Content-Security-Policy" in text] == []
    page.close()
