"""Any screen, any hand: every main view at every size, light and dark, by touch and by keyboard; axe-core finds
nothing."""

from __future__ import annotations

import re
from collections.abc import Callable

from playwright.sync_api import Page, expect

from gatecheck.adapters.shipped_tables import shipped_model
from looking import SIZES, opened, wrong_views
from serving import Served


def test_every_view_on_a_desk(demo: Served, screen: Callable[..., Page]) -> None:
    assert wrong_views(demo, screen, ["large screen", "screen"], axe="screen") == {}


def test_all_outcomes_of_every_move_are_seen_at_once(demo: Served, screen: Callable[..., Page]) -> None:
    """At 1280x800, with a prompt above them, up to the fifteen of the screen."""
    page = screen(SIZES["screen"])
    knowledge = shipped_model().knowledge
    opened(page, f"{demo.url}/ticket/2")
    hidden = {}
    for move in [*knowledge.checks, *knowledge.fixes]:
        page.evaluate(
            (
                "move => { history.pushState(null, '', `/ticket/2?move=${move}`); dispatchEvent(new "
                "PopStateEvent('popstate')) }"
            ),
            move,
        )
        expect(page.get_by_role("region", name="Next step").locator("[data-outcome]")).to_have_count(
            len(knowledge.move(move).outcomes)
        )
        last = page.locator("[data-outcome]").last.bounding_box()
        strip = page.get_by_role("contentinfo", name="Verdict").bounding_box()
        assert last is not None
        assert strip is not None
        if last["y"] + last["height"] > strip["y"]:
            hidden[move] = round(last["y"] + last["height"] - strip["y"])
    assert hidden == {}


def test_on_a_phone_the_move_comes_first_and_the_rest_is_a_tap_away(demo: Served, screen: Callable[..., Page]) -> None:
    page = screen(SIZES["phone"], touch=True)
    opened(page, f"{demo.url}/ticket/1")
    expect(page.get_by_role("region", name="Next step").get_by_role("heading", level=1)).to_be_in_viewport()
    expect(page.locator("[data-outcome]").first).to_be_in_viewport(ratio=1)
    tabs = page.get_by_role("navigation", name="Sections of the ticket")
    for pane in ("Suspects", "Log"):
        expect(page.get_by_role("region", name=pane)).not_to_be_in_viewport()
        tabs.get_by_role("button", name=pane).tap()
        expect(page.get_by_role("region", name=pane)).to_be_in_viewport()
    tabs.get_by_role("button", name="Next step").tap()
    expect(page.locator("[data-outcome]").first).to_be_in_viewport(ratio=1)


def test_what_a_key_does_can_be_tapped_from_the_help(demo: Served, screen: Callable[..., Page]) -> None:
    page = screen(SIZES["phone"], touch=True)
    opened(page, f"{demo.url}/ticket/1")
    page.get_by_role("button", name="help").tap()
    sheet = page.get_by_role("dialog", name="Help: ticket")
    expect(sheet).to_contain_text("Failed: the machine stops at this stage.")
    expect(sheet.get_by_role("region", name="Terms on this page")).to_contain_text("Blocked")
    sheet.get_by_role("button", name=re.compile("light or dark")).tap()
    expect(sheet).to_have_count(0)
    expect(page.locator("html")).to_have_attribute("data-theme", "dark")
    page.get_by_role("button", name="help").tap()
    page.get_by_role("dialog").get_by_role("button", name=re.compile("Settings$")).tap()
    expect(page).to_have_url(re.compile("/ticket/1/settings$"))


def test_an_empty_shop_leads_to_the_first_ticket_or_the_practice_bench(
    server: Served, screen: Callable[..., Page]
) -> None:
    page = screen(SIZES["screen"])
    page.goto(server.url)
    page.get_by_role("button", name=re.compile("Try a simulated machine")).click()
    expect(page.get_by_role("dialog", name="Practice bench")).to_be_visible()
    page.keyboard.press("Escape")
    page.get_by_role("button", name=re.compile("Check in a machine ·")).click()
    expect(page.get_by_role("dialog", name="Check in a machine")).to_be_visible()


def test_a_known_customer_is_taken_in_with_few_keys(server: Served, screen: Callable[..., Page]) -> None:
    """Every key is counted: twenty seconds are about thirty of them."""
    known = {
        "platform": "pc",
        "form": "laptop",
        "drive_kind": "nvme",
        "installed_os": "windows-11",
        "data": "backed-up",
    }
    server.take_in("screen=dead", **known)
    page, pressed = screen(SIZES["screen"]), 0

    def press(*keys: str) -> None:
        nonlocal pressed
        for key in keys:
            page.keyboard.press(key)
            pressed += 1

    page.goto(server.url)
    page.get_by_role("region", name="Needs you").wait_for()
    press("+", *"cho")
    expect(page.get_by_role("button", name=re.compile("Choir office"))).to_be_visible()
    press("Tab")
    expect(page.get_by_role("textbox", name="Machine")).to_have_value("Ferrow Lathe-14")
    press("Tab", "Tab", "2", "Tab", "4", "Tab", "3", "Enter")  # power cut, no bootable device, backed up
    expect(page.get_by_role("heading", name="Ferrow Lathe-14")).to_be_visible()
    taken = server.ticket(2)
    assert (taken["customer"], taken["machine"]) == ("Choir office", "Ferrow Lathe-14")
    assert {name: taken["facts"].get(name) for name in known} == known
    assert [e["body"]["outcome"] for e in taken["tape"]] == ["power-cut", "no-boot-device"]
    assert pressed <= 16


def test_a_reading_is_one_line_that_opens(demo: Served, screen: Callable[..., Page]) -> None:
    page = screen(SIZES["screen"])
    opened(page, f"{demo.url}/ticket/13")
    reading = page.locator("[data-reading]").first
    expect(reading).to_contain_text(re.compile(r"\d+ readings"))
    inside = reading.get_by_role("listitem")
    expect(inside.first).not_to_be_visible()
    reading.locator("summary").first.click()
    expect(inside.first).to_be_visible()
    assert inside.count() >= 4


def test_a_page_that_fails_says_so_and_leads_back(demo: Served, screen: Callable[..., Page]) -> None:
    """Not taken for a server that is away, and not tried again without end."""
    page = screen(SIZES["screen"])
    loads: list[str] = []
    page.on("framenavigated", lambda frame: loads.append(frame.url))
    page.goto(f"{demo.url}/ticket/2?move=no-such-move")
    alert = page.get_by_role("alert")
    expect(alert).to_contain_text("This page failed")
    expect(alert).to_contain_text("no-such-move")
    page.get_by_role("link", name="to the bench").click()
    expect(page.get_by_role("heading", level=1).first).to_be_visible()
    expect(page.locator("[data-page-failed]")).to_have_count(0)
    assert len(loads) == 2, "the page itself, and the bench"
