"""How a move is done: the ways side by side, one step by step, and what its screen says as an answer in two taps."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import pytest
from playwright.sync_api import Page, expect

Window = Callable[..., Page]
SLOW = 20_000


def test_what_the_checker_says_is_noted_or_answers_by_key(server: Any, window: Window) -> None:
    number = server.take_in("screen=volume-stop", platform="pc", installed_os="windows-10", data="backed-up")
    page = window()
    page.goto(f"{server.url}/ticket/{number}?move=repair-volume")
    expect(page.get_by_role("button", name="instructions")).to_be_visible(timeout=SLOW)
    page.keyboard.press("g")
    sheet = page.get_by_role("dialog")
    expect(sheet.locator("[data-way]")).to_have_count(3)
    page.keyboard.press("2")
    expect(sheet.locator("[data-way-steps=checker-media]")).to_contain_text("Drive letters differ here")
    page.keyboard.press("2")
    expect(sheet).to_contain_text("logged")
    page.keyboard.press("0")
    expect(sheet.locator("[data-way]")).to_have_count(3)
    page.keyboard.press("2")
    page.keyboard.press("6")
    expect(page.get_by_role("dialog")).to_have_count(0)
    tape = page.get_by_role("region", name="Log")
    expect(tape).to_contain_text("It repaired something")
    expect(tape).to_contain_text("It stopped with an error")
    bodies = [e["body"] for e in server.call("GET", f"/api/tickets/{number}")["tape"]]
    assert [b.get("outcome") for b in bodies if b.get("move") == "repair-volume"] == ["could-not"]


@pytest.mark.parametrize(("size", "theme"), [((820, 1180), "dark"), ((390, 844), "light")])
def test_three_questions_after_a_stick_that_would_not_start_by_touch(
    server: Any, screen: Callable[..., Page], size: tuple[int, int], theme: str
) -> None:
    number = server.take_in("screen=no-boot-device", platform="pc", installed_os="windows-11", data="backed-up")
    page = screen(size, theme=theme, touch=True)
    page.goto(f"{server.url}/ticket/{number}?move=live-start")
    page.get_by_role("button", name="instructions").tap(timeout=SLOW)
    expect(page.locator("[data-way]")).to_have_count(3)
    page.locator("[data-way=stick-refused]").tap()
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")
    page.locator("[data-read=runs]").tap()
    expect(page.get_by_role("dialog")).to_have_count(0)
    said = server.tape_until(
        number,
        lambda tape: [(e["body"]["outcome"], e["body"]["note"]) for e in tape if e["body"].get("move") == "live-start"],
    )
    assert said == [("runs", "It started with Secure Boot off")]


def test_the_code_that_a_machines_own_test_prints_is_typed_known_and_kept(server: Any, window: Window) -> None:
    before = server.take_in("screen=no-boot-device", platform="pc", data="backed-up")
    server.call(
        "POST",
        f"/api/tickets/{before}/entries",
        json={"entry": {"move": "builtin-quick", "outcome": "failed", "code": "HX 20-7"}, "by": "KT"},
    )
    server.call(
        "POST",
        f"/api/tickets/{before}/handover",
        json={"proven": ["drive.media"], "by": "KT", "waive": "Nobody waits for it"},
    )
    number = server.take_in("screen=no-boot-device", platform="pc", data="backed-up")
    page = window()
    page.goto(f"{server.url}/ticket/{number}?move=builtin-quick")
    expect(page.get_by_role("button", name="instructions")).to_be_visible(timeout=SLOW)
    page.keyboard.press("g")
    expect(page.locator("[data-way]")).to_have_count(2)
    page.keyboard.press("1")
    expect(page.locator("[data-code-known]")).to_be_visible()
    page.keyboard.press("+")
    page.keyboard.type("hx20")
    expect(page.get_by_role("dialog")).to_contain_text("New to this shop")
    page.keyboard.type("7")
    expect(page.get_by_role("dialog")).to_contain_text(
        "one ticket of this model. The cause was: Surface or flash cells failing (1 of 1)"
    )
    page.keyboard.press("Enter")
    page.keyboard.press("2")
    expect(page.get_by_role("dialog")).to_have_count(0)
    expect(page.get_by_role("region", name="Log")).to_contain_text("code hx207")


def test_our_own_way_opens_its_instrument_and_a_move_without_ways_has_no_key(server: Any, window: Window) -> None:
    number = server.take_in("screen=no-boot-device", platform="pc", installed_os="linux", data="backed-up")
    page = window()
    page.goto(f"{server.url}/ticket/{number}?move=rebuild-table")
    expect(page.get_by_role("button", name="instructions")).to_be_visible(timeout=SLOW)
    page.keyboard.press("g")
    expect(page.get_by_role("dialog")).to_contain_text("Built-in boot repair")
    page.keyboard.press("g")
    expect(page).to_have_url(re.compile("/path$"))
    page.goto(f"{server.url}/ticket/{number}?move=reseat")
    expect(page.get_by_role("heading", level=1).first).to_be_visible(timeout=SLOW)
    expect(page.get_by_role("button", name="instructions")).to_have_count(0)
