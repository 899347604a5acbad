"""A machine waits at its stick: seen on the bench, taken to its ticket by key, or by scanning its screen on a phone."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from playwright.sync_api import Page, expect

from serving import HTTP

Window = Callable[..., Page]
MACHINE = {"sys_vendor": "Ostler", "product_name": "Bracken-15", "product_serial": "BR1", "mode": "legacy"}


def knock(server: Any) -> str:
    return str(HTTP.post(f"{server.url}/api/link/knock", json={"machine": MACHINE, "probe": "1"}).json()["token"])


def take_in(server: Any, machine: str) -> int:
    return int(
        HTTP.post(
            f"{server.url}/api/tickets",
            json={"customer": "Choir", "machine": machine, "by": "KT"},
            headers={"X-Gate-Check": "1"},
        ).json()["id"]
    )


def test_it_is_seen_on_the_bench_and_taken_to_the_ticket_that_fits_by_key(server: Any, window: Window) -> None:
    take_in(server, "Ferrow Lathe-14")
    number = take_in(server, "Ostler Bracken-15")
    page = window()
    page.goto(server.url)
    expect(page.locator("[data-bench-row]")).to_have_count(2)
    token = knock(server)
    expect(page.locator("[data-waits]")).to_contain_text("Ostler Bracken-15, serial BR1", timeout=60_000)
    page.keyboard.press("c")
    expect(page.locator("[data-knock]")).to_contain_text("legacy firmware")
    page.keyboard.press("1")
    expect(page).to_have_url(re.compile(f"/ticket/{number}$"))
    assert HTTP.get(f"{server.url}/api/link/knock/{token}").json()["state"] == "taken"
    page.keyboard.press("b")
    expect(page.locator("[data-waits]")).to_have_count(0)


def test_a_scanned_one_becomes_a_new_ticket_by_touch_and_one_that_has_gone_is_said(
    server: Any, screen: Callable[..., Page]
) -> None:
    token = knock(server)
    page = screen((390, 844), theme="dark", touch=True)
    page.goto(f"{server.url}/claim/{token}")
    page.get_by_role("button", name="a new ticket").tap()
    expect(page).to_have_url(re.compile("/ticket/1$"))
    page.goto(f"{server.url}/claim/{token}")
    expect(page.get_by_text("Already assigned")).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")
