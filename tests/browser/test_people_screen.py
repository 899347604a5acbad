"""Technicians at the screen: named once, a PIN before a change, a second one's PIN where a role may not alone."""

from __future__ import annotations

from collections.abc import Callable

from playwright.sync_api import Page, expect

from serving import HTTP, Served


def _name(page: Page, initials: str, role: str | None, pin: str) -> None:
    page.get_by_role("button", name="add a technician").click()
    page.get_by_label("Initials").fill(initials)
    if role is not None:
        page.locator("[data-technicians] form").get_by_label("Role").select_option(role)
    page.get_by_label("PIN, 4 to 8 digits").fill(pin)
    page.keyboard.press("Enter")


def test_a_change_waits_for_a_pin_and_goes_on_and_a_second_one_lends_a_right(
    server: Served, window: Callable[..., Page]
) -> None:
    number = server.take_in("story=routine")
    page = window()
    page.goto(server.url)
    page.get_by_role("button", name="Ferrow Lathe-14").first.wait_for()
    page.keyboard.press("i")
    own = page.locator("[data-technicians]")
    expect(own).to_contain_text("Nobody is named")
    _name(page, "KT", None, "4711")
    expect(own.get_by_role("listitem")).to_have_count(1)
    _name(page, "OL", "trainee", "2580")
    ask = page.get_by_role("dialog", name="Who are you?")
    expect(ask.get_by_role("listitem")).to_have_count(1)
    page.keyboard.press("1")
    expect(ask.get_by_label("PIN of KT")).to_be_focused()
    page.keyboard.type("4700")
    page.keyboard.press("Enter")
    expect(ask.get_by_role("alert")).to_contain_text("expected the one of these initials")
    page.keyboard.type("4711")
    page.keyboard.press("Enter")
    expect(ask).to_have_count(0)
    expect(own.get_by_role("listitem")).to_have_count(2)  # what was asked went on by itself
    own.get_by_role("button", name="sign out").click()

    page.goto(f"{server.url}/ticket/{number}?move=screen")
    page.locator("[data-outcome]").first.wait_for()
    page.keyboard.press("1")
    expect(ask.get_by_role("listitem")).to_have_count(2)
    page.keyboard.press("2")
    expect(page.get_by_label("PIN of OL")).to_be_focused()
    page.get_by_label("PIN of OL").fill("2580")
    page.keyboard.press("Enter")
    expect(ask).to_have_count(0)
    expect(page.get_by_role("region", name="Log").locator("[id^=entry-]")).to_have_count(2)
    tape = HTTP.get(f"{server.url}/api/tickets/{number}", timeout=30).json()["tape"]
    assert [(e["body"]["move"], e["made_by"]) for e in tape][-1] == ("screen", "OL")

    page.goto(f"{server.url}/shop")
    name = page.get_by_label("Name", exact=True)
    name.fill("Gullhaven Repair Loft")
    page.get_by_role("button", name="Save").click()
    lend = page.get_by_role("dialog", name="A second person is needed")
    expect(lend).to_contain_text("change prices and settings")
    expect(lend.get_by_role("listitem")).to_have_count(1)  # only who may
    page.keyboard.press("1")
    page.get_by_label("PIN of KT").fill("4711")
    with page.expect_response(lambda answer: answer.request.method == "PUT" and answer.ok):
        page.keyboard.press("Enter")
    expect(lend).to_have_count(0)
    assert HTTP.get(f"{server.url}/api/shop", timeout=30).json()["name"] == "Gullhaven Repair Loft"
