"""The call sheet, the reasons and the shop's odds, by keyboard alone."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from playwright.sync_api import Page, expect

Window = Callable[..., Page]
WORN = ("screen=health-warning", "health-pages=worn-out", "error-log=recent")
SSD = {"platform": "pc", "form": "laptop", "drive_kind": "nvme", "data": "backed-up"}


def ways(page: Page) -> Any:
    return page.get_by_role("radiogroup", name="Options").get_by_role("radio")


def test_terms_rank_the_ways_out_at_once_and_the_call_is_signed(server: Any, window: Window) -> None:
    number = server.take_in(*WORN, **SSD)
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    expect(page.get_by_role("contentinfo", name="Verdict")).to_contain_text("Replace")
    page.keyboard.press("o")
    expect(page.get_by_role("heading", name="Options")).to_be_visible()
    expect(ways(page).first).to_contain_text("the verdict")
    page.get_by_role("spinbutton", name="The machine is worth").fill("60")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("Not worth repairing")
    expect(ways(page).first).to_contain_text("more than the machine is worth")
    page.get_by_role("radio", name="this week").click()
    expect(page.get_by_role("radio", name="this week")).to_be_checked()
    assert server.ticket(number)["facts"].get("machine_value") is None, "terms are tried, not kept"
    page.get_by_role("radiogroup", name="Options").get_by_role("radio").first.click()
    page.keyboard.press("s")
    expect(page.get_by_role("dialog")).to_contain_text("This verdict is right with")
    assert server.ticket(number)["signed"] is None, "one key looks, the second signs"
    page.keyboard.press("y")
    expect(page.get_by_role("contentinfo", name="Verdict")).to_contain_text("Signed off")
    kept = server.ticket(number)
    assert kept["facts"]["machine_value"] == 60
    assert kept["tape"][-1]["body"]["odds"]["confidence"] > 0.5


def test_arrows_choose_another_way_and_escape_leaves_without_signing(server: Any, window: Window) -> None:
    number = server.take_in("screen=volume-stop", "health-pages=clean", "volume-look=damaged", **SSD)
    page = window()
    page.goto(f"{server.url}/ticket/{number}/call")
    expect(ways(page).first).to_have_attribute("aria-checked", "true")
    page.keyboard.press("ArrowDown")
    expect(ways(page).nth(1)).to_have_attribute("aria-checked", "true")
    expect(
        page.get_by_role("region", name="What would change the verdict").get_by_role("listitem").first
    ).to_contain_text("makes it")
    page.keyboard.press("Escape")
    expect(page.get_by_role("region", name="Suspects")).to_be_visible()
    assert len(server.ticket(number)["tape"]) == 3


def test_the_reasons_unfold_and_lead_to_the_tape(server: Any, window: Window) -> None:
    number = server.take_in("story=knock", "screen=no-boot-device", "seen-setup=absent", drive_kind="hdd")
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    expect(page.get_by_role("region", name="Suspects")).to_be_visible()
    page.keyboard.press("u")
    reasons = page.get_by_role("dialog", name="Why these suspects, and what would tell them apart")
    expect(reasons).to_contain_text("strongly in favour")
    expect(reasons).to_contain_text("tells")
    line = reasons.get_by_role("button", name=re.compile("Not listed|Knock or fall")).first
    line.focus()
    page.keyboard.press("Enter")
    expect(reasons).to_be_hidden()
    expect(page.locator("[data-shown]")).to_have_count(1)


def test_handing_over_teaches_and_reopening_forgets(server: Any, window: Window) -> None:
    number = server.take_in("screen=network-boot", "boot-order=other-first", "set-order=boots", **SSD)
    page = window()
    page.request.post(
        f"{server.url}/api/tickets/{number}/entries", data={"entry": {"signed": "release", "fix": None}, "by": "KT"}
    )
    page.goto(f"{server.url}/ticket/{number}")
    expect(page.get_by_role("contentinfo", name="Verdict")).to_contain_text("Signed off")
    page.keyboard.press("h")
    expect(page.get_by_role("button", name=re.compile("Wrong boot order")).first).to_be_focused()
    why = page.get_by_role("dialog").get_by_role("textbox")
    why.fill("They wait at the counter")
    why.press("Enter")
    page.keyboard.press("1")
    expect(page.get_by_text("The bench is empty")).to_be_visible()
    page.keyboard.press("u")
    expect(page.get_by_role("heading", name="Track record of this shop")).to_be_visible()
    expect(page.get_by_text("1 closed ticket counts")).to_be_visible()
    expect(page.get_by_role("row", name=re.compile("Wrong boot order"))).to_contain_text("100 %")
    page.goto(f"{server.url}/ticket/{number}")
    expect(page.get_by_text("Handed over").first).to_be_visible()
    page.keyboard.press("z")
    expect(page.get_by_role("button", name=re.compile("hand over")).first).to_be_visible()
    page.goto(f"{server.url}/odds")
    expect(page.get_by_text("Nothing learned yet")).to_be_visible()


def test_a_machine_that_came_back_is_taken_in_again_with_one_key(server: Any, window: Window) -> None:
    number = server.take_in("screen=network-boot", "boot-order=other-first", "set-order=boots", **SSD)
    page = window()
    page.request.post(f"{server.url}/api/tickets/{number}/handover", data={"proven": ["settings.order"], "by": "KT"})
    page.goto(f"{server.url}/ticket/{number}")
    expect(page.get_by_text("Handed over").first).to_be_visible()
    page.keyboard.press("+")
    page.wait_for_url(f"{server.url}/ticket/{number + 1}")
    assert server.ticket(number + 1)["comeback_of"] == number
    page.goto(f"{server.url}/odds")
    expect(page.get_by_text("1 machine returned under warranty")).to_be_visible()
    page.keyboard.press("x")
    page.keyboard.press("y")
    expect(page.get_by_text("Nothing learned yet")).to_be_visible()
