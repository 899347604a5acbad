"""Volume at the screen: looked at, repaired in part, taken back, files saved, by key and by touch; held, not linked,
gone."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect
from test_link_screen import practice

from gatecheck.practice.locked_volumes import key_id, recovery_key
from serving import HTTP

Window = Callable[..., Page]
SLOW = 60_000


def test_from_a_stop_screen_to_a_whole_volume_by_key(server: Any, window: Window) -> None:
    number = practice(server, "torn-volume")
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    page.get_by_role("heading", level=1).first.wait_for()
    page.keyboard.press("v")
    expect(page).to_have_url(re.compile("/volume$"))
    expect(page.get_by_role("button", name="check file system")).to_be_visible(timeout=SLOW)
    page.keyboard.press("r")
    expect(page.locator("[data-state=damaged]")).to_contain_text("errors found", timeout=SLOW)
    expect(page.locator("[data-skyline]")).to_be_visible()
    expect(page.locator("[data-group]")).to_have_count(6)
    repair = page.get_by_role("region", name="Repair")
    ticked = repair.get_by_role("checkbox", checked=True)
    expect(ticked).to_have_count(3)  # not the one that discards records, nor those that build on it
    expect(page.locator("[data-group=records]")).to_contain_text("Data loss: their contents will be lost")
    for key in "34":
        page.keyboard.press(key)
    expect(ticked).to_have_count(1)
    page.keyboard.press("w")
    expect(page.get_by_role("alert")).to_contain_text("One repair")
    page.keyboard.press("x")
    expect(page.get_by_role("alert")).to_have_count(0)
    page.keyboard.press("w")
    page.keyboard.press("y")
    expect(page.locator("[data-repaired=done]")).to_contain_text("Sync backup copies", timeout=SLOW)
    expect(page.locator("[data-group]")).to_have_count(5, timeout=SLOW)
    expect(page.get_by_role("button", name="check again")).to_be_visible(timeout=SLOW)
    page.reload()
    expect(page.locator("[data-group]")).to_have_count(5, timeout=SLOW)
    expect(page.get_by_role("button", name="repair selected")).to_be_visible(timeout=SLOW)
    for key in "145":
        page.keyboard.press(key)
    expect(ticked).to_have_count(5)
    page.keyboard.press("w")
    page.keyboard.press("y")
    expect(page.locator("[data-state=clean]")).to_be_visible(timeout=SLOW)
    page.keyboard.press("Escape")
    expect(page.get_by_role("region", name="Log")).to_contain_text("Repaired on the disk", timeout=SLOW)
    answer = HTTP.post(
        f"{server.url}/api/tickets/{number}/entries",
        json={"entry": {"move": "repair-volume", "outcome": "boots"}, "by": "KT"},
        headers={"X-Gate-Check": "1"},
    )
    assert {g["id"]: g["state"] for g in answer.json()["gates"]}["system"] == "open"


@pytest.mark.parametrize(
    ("size", "theme"), [pytest.param((820, 1180), "dark", marks=pytest.mark.wide), ((390, 844), "light")]
)
def test_it_is_repaired_taken_back_and_saved_from_by_touch(
    server: Any, screen: Callable[..., Page], size: tuple[int, int], theme: str
) -> None:
    number = practice(server, "torn-volume")
    page = screen(size, theme=theme, touch=True)
    page.goto(f"{server.url}/ticket/{number}/volume")
    page.get_by_role("button", name="check file system").tap(timeout=SLOW)
    for number in (1, 4, 5):
        page.locator("[data-group]").nth(number).get_by_role("checkbox").tap(timeout=SLOW)
    page.get_by_role("button", name="repair selected").tap(timeout=SLOW)
    page.get_by_role("button", name="write it now").tap()
    expect(page.locator("[data-state=clean][data-job='']")).to_be_visible(timeout=SLOW)
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")
    page.get_by_role("button", name="undo last repair").tap(timeout=SLOW)
    expect(page.locator("[data-state=damaged][data-job='']")).to_be_visible(timeout=SLOW)
    expect(page.locator("[data-repairs]")).to_contain_text("undone")
    page.get_by_role("button", name=re.compile("^orphaned files")).tap()
    page.get_by_role("button", name=re.compile("recover 43 files")).tap()
    expect(page.locator("[data-rescue=done]")).to_contain_text("43 whole", timeout=SLOW)


def test_photographs_are_saved_from_bad_places_and_the_missing_ones_are_named(server: Any, window: Window) -> None:
    number = practice(server, "fading-photos")
    page = window()
    page.goto(f"{server.url}/ticket/{number}/volume")
    page.get_by_role("button", name="check file system").click(timeout=SLOW)
    expect(page.locator("[data-state=clean][data-job='']")).to_be_visible(timeout=SLOW)
    expect(page.get_by_role("button", name="mark as complete backup")).to_be_visible(timeout=SLOW)
    page.keyboard.press("+")
    expect(page.get_by_role("button", name="the data counts as safe")).to_be_visible()
    page.keyboard.press("k")
    saved = page.locator("[data-rescue=done]")
    expect(saved).to_contain_text("72 whole, 3 incomplete", timeout=SLOW)
    expect(saved.get_by_role("listitem")).to_have_count(3)
    folder = Path(saved.locator(".font-mono").inner_text())
    assert (folder / "manifest.csv").is_file()
    assert len(list(folder.rglob("*.jpg"))) == 60
    page.keyboard.press("Escape")
    expect(page.get_by_role("region", name="Log")).to_contain_text("Files recovered", timeout=SLOW)


def test_what_is_held_says_why_and_an_empty_ticket_says_what_is_missing(server: Any, window: Window) -> None:
    number = practice(server, "fading-photos")
    page = window()
    HTTP.post(
        f"{server.url}/api/tickets/{number}/entries",
        json={"entry": {"move": "sound", "outcome": "clunking"}, "by": "KT"},
        headers={"X-Gate-Check": "1"},
    )
    page.goto(f"{server.url}/ticket/{number}/volume")
    expect(page.get_by_text("Blocked", exact=False).first).to_be_visible(timeout=SLOW)
    expect(page.get_by_role("button", name="check file system")).to_have_count(0)
    other = HTTP.post(
        f"{server.url}/api/tickets",
        json={"customer": "Choir", "machine": "Ostler Bracken-15", "by": "KT"},
        headers={"X-Gate-Check": "1"},
    ).json()["id"]
    page.goto(f"{server.url}/ticket/{other}/volume")
    expect(page.get_by_text("No disk was read yet")).to_be_visible()


@pytest.mark.parametrize(
    ("size", "theme"), [pytest.param((1280, 800), "light", marks=pytest.mark.wide), ((390, 844), "dark")]
)
def test_a_locked_volume_is_opened_with_its_own_key(
    server: Any, screen: Callable[..., Page], size: tuple[int, int], theme: str
) -> None:
    is_touch = size[0] < 1000
    number = practice(server, "locked-other-key")
    page = screen(size, theme=theme, touch=is_touch)
    page.goto(f"{server.url}/ticket/{number}/volume")
    page.get_by_role("button", name="check file system").click(timeout=SLOW)
    expect(page.locator("[data-encryption=locked]")).to_contain_text(
        str(key_id("locked-other-key")).upper(), timeout=SLOW
    )
    page.goto(f"{server.url}/ticket/{number}")  # whoever asks the customer for the key is told which one
    expect(page.locator("[data-key-wanted]").first).to_contain_text(
        str(key_id("locked-other-key")).upper(), timeout=SLOW
    )
    page.goto(f"{server.url}/ticket/{number}/volume")
    expect(page.locator("[data-encryption=locked]")).to_be_visible(timeout=SLOW)
    if is_touch:
        page.get_by_role("button", name="enter the recovery key").tap()
    else:
        page.keyboard.press("Enter")
    field, right = page.get_by_label("Recovery password (48 digits) or passphrase"), recovery_key("locked-other-key")
    field.fill(right[:6] + right[7:12] + ("1" if right[12] != "1" else "2"))
    expect(page.get_by_role("status").filter(has_text="Group 2 is mistyped")).to_be_visible()
    field.fill(recovery_key("an older laptop"))
    page.get_by_role("button", name="open the volume").click()
    expect(page.get_by_role("alert")).to_contain_text("got another recovery password", timeout=SLOW)
    field.fill(right.replace("-", ""))
    expect(field).to_have_value(right)
    page.keyboard.press("Enter")
    expect(page.locator("[data-encryption=open]")).to_contain_text("Opened: Recovery password", timeout=SLOW)
    expect(page.locator("[data-state=clean]")).to_be_visible(timeout=SLOW)
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")
    assert right[:13] not in page.evaluate("JSON.stringify(localStorage) + JSON.stringify(sessionStorage)")
