"""System records at the screen: read by key, gone through event by event, and by touch on a phone."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from playwright.sync_api import Page, expect
from test_link_screen import practice

SLOW = 60_000


def test_records_are_read_and_gone_through_by_key(server: Any, screen: Callable[..., Page]) -> None:
    number = practice(server, "update-broke")
    page = screen((1280, 800))
    page.goto(f"{server.url}/ticket/{number}")
    page.get_by_role("heading", level=1).first.wait_for()
    page.keyboard.press("l")
    expect(page).to_have_url(re.compile("/records$"))
    expect(page.get_by_role("button", name="read system records")).to_be_visible(timeout=SLOW)
    page.keyboard.press("r")
    expect(page.locator("[data-records=read]")).to_contain_text(
        "Cumulative update for November was installed", timeout=SLOW
    )
    line = page.locator("[data-timeline]")
    expect(line.locator("[data-event=update-installed]")).to_have_count(2)
    expect(line.locator("[data-run=cut]").first).to_be_attached()
    page.keyboard.press("ArrowLeft")
    expect(page.locator("[data-inhand=stop-code]")).to_contain_text("INACCESSIBLE_BOOT_DEVICE")
    page.keyboard.press("+")
    page.keyboard.press("+")
    expect(line).to_be_visible()
    page.keyboard.press("v")
    expect(page).to_have_url(re.compile("/volume$"))
    expect(page.locator("[data-tool=records]")).to_contain_text("an update just before", timeout=SLOW)
    page.keyboard.press("Escape")
    expect(page.get_by_role("region", name="Log")).to_contain_text("An update just before", timeout=SLOW)


def test_records_on_a_phone_by_touch(server: Any, screen: Callable[..., Page]) -> None:
    number = practice(server, "quiet-weeks")
    page = screen((390, 844), theme="dark", touch=True)
    page.goto(f"{server.url}/ticket/{number}/records")
    page.get_by_role("button", name="read system records").tap(timeout=SLOW)
    expect(page.locator("[data-records=read]")).to_contain_text("disk errors: 169", timeout=SLOW)
    page.get_by_role("button", name="previous event").tap()
    expect(page.locator("[data-inhand=disk-error]")).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")


def test_what_they_make_possible_is_asked_written_and_undone_by_key(server: Any, screen: Callable[..., Page]) -> None:
    number = practice(server, "mode-changed")
    page = screen((1280, 800))
    page.goto(f"{server.url}/ticket/{number}/records")
    expect(page.get_by_role("button", name="read system records")).to_be_visible(timeout=SLOW)
    page.keyboard.press("r")
    expect(page.locator("[data-group=start-driver]")).to_contain_text("Let storahci start", timeout=SLOW)
    page.keyboard.press("y")  # nothing was asked yet
    page.keyboard.press("w")
    asked = page.locator("[data-records=asked]")
    expect(asked).to_be_in_viewport()
    expect(asked).to_contain_text("values of its registry, no file of the customer")
    page.keyboard.press("x")
    expect(asked).to_have_count(0)
    page.keyboard.press("w")
    page.keyboard.press("y")
    expect(page.locator("[data-repaired=done]")).to_contain_text("Let storahci start", timeout=SLOW)
    expect(page.locator("[data-group=start-driver]")).to_have_count(0)
    expect(page.get_by_role("button", name="undo last repair")).to_be_visible(timeout=SLOW)
    page.keyboard.press("z")
    expect(page.locator("[data-repaired=done]")).to_have_count(2, timeout=SLOW)
