"""Path at the screen: from a stop screen over the walk to a mended, starting system, by key and by touch; what is held
says why."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import pytest
from playwright.sync_api import Page, expect
from test_link_screen import practice

from serving import HTTP

Window = Callable[..., Page]
SLOW = 60_000


def test_from_a_stop_screen_to_a_system_that_starts_by_key(server: Any, window: Window) -> None:
    number = practice(server, "no-fallback")
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    page.get_by_role("heading", level=1).first.wait_for()
    page.keyboard.press("a")
    expect(page).to_have_url(re.compile("/path$"))
    expect(page.locator("[data-boots=null]")).to_contain_text("more sectors to finish", timeout=SLOW)
    expect(page.get_by_role("button", name="read missing sectors")).to_be_visible(timeout=SLOW)
    page.keyboard.press("r")
    expect(page.locator("[data-boots=false]")).to_contain_text("the loader is missing", timeout=SLOW)
    expect(page.locator("[data-stop=loader]")).to_be_visible()
    page.keyboard.press("u")
    expect(page.locator("[data-bytes]")).to_contain_text("LBA")
    plans = page.get_by_role("region", name="Possible repairs")
    expect(plans.get_by_role("listitem").first).to_contain_text("Write a boot entry")
    page.keyboard.press("2")
    expect(page.get_by_role("button", name="repair on the machine")).to_be_visible(timeout=SLOW)
    page.keyboard.press("w")
    expect(page.get_by_role("alert")).to_contain_text("you can undo")
    page.keyboard.press("x")
    expect(page.get_by_role("alert")).to_have_count(0)
    page.keyboard.press("w")
    page.keyboard.press("y")
    expect(page.locator("[data-boots=true]")).to_be_visible(timeout=SLOW)
    expect(page.locator("[data-mend=done]")).to_contain_text("written and verified")
    page.keyboard.press("Escape")
    expect(page.get_by_role("region", name="Log")).to_contain_text("Repaired on the disk", timeout=SLOW)
    answer = HTTP.post(
        f"{server.url}/api/tickets/{number}/entries",
        json={"entry": {"move": "rebuild-loader", "outcome": "boots"}, "by": "KT"},
        headers={"X-Gate-Check": "1"},
    )
    assert {g["id"]: g["state"] for g in answer.json()["gates"]}["loader"] == "open"


@pytest.mark.parametrize(
    ("size", "theme"), [pytest.param((820, 1180), "dark", marks=pytest.mark.wide), ((390, 844), "light")]
)
def test_it_is_mended_and_taken_back_by_touch(
    server: Any, screen: Callable[..., Page], size: tuple[int, int], theme: str
) -> None:
    number = practice(server, "old-layout")
    page = screen(size, theme=theme, touch=True)
    page.goto(f"{server.url}/ticket/{number}/path")
    page.get_by_role("button", name="read sectors for the repair").tap(timeout=SLOW)
    page.get_by_role("button", name="repair on the machine").tap(timeout=SLOW)
    page.get_by_role("button", name="write it now").tap()
    expect(page.locator("[data-boots=true]")).to_be_visible(timeout=SLOW)
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")
    page.get_by_role("button", name="undo last repair").tap(timeout=SLOW)
    expect(page.locator("[data-boots=false]")).to_be_visible(timeout=SLOW)
    expect(page.locator("[data-mends]")).to_contain_text("undone")


def test_what_is_held_says_why_and_an_empty_ticket_says_what_is_missing(server: Any, window: Window) -> None:
    number = practice(server, "torn-table")
    page = window()
    page.goto(f"{server.url}/ticket/{number}/path")
    page.get_by_role("button", name="read missing sectors").click(timeout=SLOW)
    expect(page.get_by_text("Blocked")).to_be_visible(timeout=SLOW)
    expect(page.get_by_role("button", name="repair on the machine")).to_have_count(0)
    other = HTTP.post(
        f"{server.url}/api/tickets",
        json={"customer": "Choir", "machine": "Ostler Bracken-15", "by": "KT"},
        headers={"X-Gate-Check": "1"},
    ).json()["id"]
    page.goto(f"{server.url}/ticket/{other}/path")
    expect(page.get_by_text("The first sectors of no disk were read yet")).to_be_visible()
