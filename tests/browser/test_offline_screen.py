"""It can be installed as an app; and a page that is opened while the server cannot be reached says so, and comes back
by itself."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from playwright.sync_api import Page, expect

from serving import HTTP, Served


def test_it_can_be_installed(server: Served, window: Callable[..., Page]) -> None:
    page = window(fresh=True)
    page.goto(server.url)
    expect(page.get_by_text("The bench is empty")).to_be_visible()
    tools = page.context.new_cdp_session(page)
    told = tools.send("Page.getAppManifest")
    assert told["errors"] == []
    assert told["url"].endswith("/manifest.webmanifest")
    assert "Gate Check" in told["data"]
    assert tools.send("Page.getInstallabilityErrors")["installabilityErrors"] in (
        [],
        [{"errorId": "in-incognito", "errorArguments": []}],
    )


@pytest.mark.parametrize("name", ["manifest.webmanifest", "icon.svg", "icon-192.png", "icon-512.png", "sw.js"])
def test_its_parts_are_served(server: Served, name: str) -> None:
    answer = HTTP.get(f"{server.url}/{name}", timeout=10)
    assert answer.status_code == 200
    kind = {"svg": "image/svg+xml", "png": "image/png", "js": "text/javascript"}
    assert kind.get(name.rpartition(".")[2], "application/manifest+json") in answer.headers["content-type"]


def test_a_page_without_its_server_says_so_and_comes_back(server: Served, window: Callable[..., Page]) -> None:
    page = window(fresh=True)
    page.goto(server.url)
    page.evaluate("() => navigator.serviceWorker.ready.then(() => true)")
    expect(page.get_by_text("The bench is empty")).to_be_visible()
    server.stop()
    page.goto(f"{server.url}/ticket/7", wait_until="commit")
    expect(page.get_by_role("heading", name="No connection to the server")).to_be_visible()
    assert (
        page.evaluate("() => caches.keys().then(async (names) => (await (await caches.open(names[0])).keys()).length)")
        == 3
    )
    server.start()
    expect(page.get_by_role("heading", name="No connection to the server")).to_have_count(0, timeout=60_000)
