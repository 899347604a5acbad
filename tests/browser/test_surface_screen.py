"""Surface at the screen: a read is started, watched, paused and gone on with by key; looked into by key and by touch;
two reads stand side by side."""

from __future__ import annotations

import re
import time
from collections.abc import Callable
from typing import Any

import pytest
from playwright.sync_api import Page, expect
from test_link_screen import practice, through

from serving import HTTP

Window = Callable[..., Page]
SLOW = 60_000


def test_a_read_is_started_paused_and_gone_on_with_by_key_and_its_places_are_walked(
    server: Any, window: Window
) -> None:
    number = practice(server, "spotted")
    HTTP.post(f"{server.url}/api/tickets/{number}/entries", json={"entry": {"fact": {"data": "backed-up"}}, "by": "KT"})
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    page.get_by_role("heading", level=1).first.wait_for()
    page.keyboard.press("f")
    expect(page).to_have_url(re.compile("/surface$"))
    expect(page.get_by_text("Not scanned yet")).to_be_visible()
    expect(page.get_by_role("button", name="scan the surface")).to_be_visible(timeout=SLOW)
    page.keyboard.press("r")
    expect(page.get_by_role("status").filter(has_text="Surface scan of sda")).to_be_visible(timeout=SLOW)
    page.keyboard.press("Space")
    expect(page.get_by_text("Paused, from the bench")).to_be_visible(timeout=SLOW)
    page.reload()
    expect(page.get_by_role("button", name="resume")).to_be_visible(timeout=SLOW)
    page.keyboard.press("Space")
    verdict = page.locator("[data-pattern=isolated-unreadable]")
    expect(verdict).to_contain_text("4 sectors do not read", timeout=SLOW)
    through(server, number, 2)
    page.keyboard.press("ArrowRight")
    loupe = page.locator("[data-loupe]")
    expect(loupe).to_contain_text("Zoom:")
    expect(page.get_by_role("region", name="Bad areas").get_by_role("listitem")).to_have_count(3)
    before = loupe.inner_text()
    page.keyboard.press("+")
    expect(loupe).not_to_have_text(before)
    page.keyboard.press("Escape")
    expect(page.get_by_role("region", name="Log")).to_contain_text("4 sectors do not read", timeout=SLOW)


def test_what_is_held_cannot_be_started_and_says_why(server: Any, window: Window) -> None:
    number = practice(server, "spotted")
    page = window()
    page.goto(f"{server.url}/ticket/{number}/surface")
    expect(page.get_by_text("The scan is blocked")).to_be_visible(timeout=SLOW)
    expect(page.get_by_role("button", name="scan the surface")).to_have_count(0)
    page.keyboard.press("r")
    page.wait_for_timeout(400)
    assert [o["order"] for o in HTTP.get(f"{server.url}/api/tickets/{number}/link").json()["orders"]] == ["read"]


@pytest.mark.parametrize(
    ("size", "theme", "touch"),
    [
        ((1280, 800), "light", False),
        pytest.param((820, 1180), "dark", True, marks=pytest.mark.wide),
        ((390, 844), "light", True),
    ],
)
def test_two_reads_of_one_disk_show_what_grew(
    demo: Any, screen: Callable[..., Page], size: tuple[int, int], theme: str, touch: bool
) -> None:
    page = screen(size, theme=theme, touch=touch)
    page.goto(f"{demo.url}/ticket/3/surface")
    expect(page.locator("[data-ribbon]")).to_have_count(1)
    beside = page.get_by_role("button", name="compare with previous scan")
    beside.tap() if touch else page.keyboard.press("u")
    expect(page.locator("[data-ribbon]")).to_have_count(2)
    ribbon = page.locator("[data-ribbon]").first
    ribbon.tap() if touch else ribbon.click()
    expect(page.locator("[data-ribbon]")).to_have_count(3)
    expect(page.get_by_role("region", name="Bad areas")).to_contain_text("grown since last scan")
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")
    assert "read" in str(ribbon.get_attribute("aria-label"))  # the picture is told in words too


def test_bad_places_and_the_map_go_out_as_csv(demo: Any) -> None:
    reads = HTTP.get(f"{demo.url}/api/tickets/3/surfaces").json()["reads"]
    places = HTTP.get(f"{demo.url}/api/tickets/3/surfaces/{reads[0]['id']}/csv").text.splitlines()
    assert places[0] == "first,last,kind,lives_there"
    assert len(places) > 1


def test_a_new_drive_is_filled_from_the_copy_by_key_and_by_the_end_of_its_serial(server: Any, window: Window) -> None:
    number = practice(server, "beside")

    def orders(wanted: int) -> list[dict[str, Any]]:
        for _ in range(4000):
            found: list[dict[str, Any]] = server.call("GET", f"/api/tickets/{number}/link")["orders"]
            if len(found) >= wanted and all(o["state"] == "done" for o in found):
                return found
            time.sleep(0.25)
        raise AssertionError(found)

    orders(1)
    server.call(
        "POST",
        f"/api/tickets/{number}/orders",
        json={"order": "copy", "device": "sda", "by": "KT", "tight": True, "end": 200_000},
    )
    orders(2)
    page = window()
    page.goto(f"{server.url}/ticket/{number}/surface")
    expect(page.locator("[data-fill]")).to_be_visible(timeout=SLOW)
    page.keyboard.press("w")
    sheet = page.get_by_role("dialog")
    expect(sheet.locator("[data-target=sda]")).to_be_disabled()
    expect(sheet.locator("[data-target=sda]")).to_contain_text("The image is of this drive")
    page.get_by_label("Last four characters").focus()
    page.keyboard.type("0018")
    page.keyboard.press("Enter")
    expect(sheet.get_by_role("alert")).to_contain_text("expected the last four characters of QH2-240017")
    page.get_by_label("Last four characters").fill("0017")
    page.keyboard.press("Enter")
    expect(sheet.get_by_role("alert")).to_contain_text("expected a complete image, or your consent to its gaps")
    page.keyboard.press("Tab")
    page.keyboard.press("Space")
    page.keyboard.press("Enter")
    expect(page.get_by_role("dialog")).to_have_count(0)
    link = orders(3)
    assert link[-1]["order"] == "fill"
    expect(page.locator("[data-filled=done]")).to_contain_text("QH2-240017: restored and verified", timeout=SLOW)

    def half(route: Any) -> None:
        """The link as it was half-way: how long a practice drive takes is luck."""
        told = route.fetch().json()
        told["orders"][-1]["state"] = "waiting"
        told["progress"] = {
            "done": 30,
            "of": 100,
            "text": "Filling sdb",
            "minutes_left": 12.0,
            "unit": "bytes",
            "order": str(link[-1]["id"]),
        }
        route.fulfill(json=told)

    page.route(f"**/api/tickets/{number}/link", half)
    page.reload()
    work = page.locator("[data-work=fill]")
    expect(work).to_contain_text(
        f"Restoring image {link[-1]['copy_of']} to QH2-240017writing · about 12 min left30 %", timeout=SLOW
    )
    expect(work.get_by_role("button")).to_have_text(
        [re.compile("pause"), re.compile("stop .leaves a partial restore.")]
    )
    expect(page.get_by_role("button", name="restore to a drive")).to_have_count(0)
