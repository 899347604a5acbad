"""A practice machine at the screen: one key takes it in, its reading is watched, its pages are looked at down to the
byte."""

from __future__ import annotations

import re
import time
from collections.abc import Callable
from typing import Any

from playwright.sync_api import Page, Route, expect

from gatecheck.practice.patients import PATIENTS
from serving import HTTP

Window = Callable[..., Page]
SLOW = 30_000


def practice(server: Any, name: str) -> int:
    """A practice machine on the bench, read through."""
    number = int(
        HTTP.post(f"{server.url}/api/practice", json={"machine": name, "bay": 1, "by": "KT"}, timeout=20).json()["id"]
    )
    through(server, number, 1)
    return number


def through(server: Any, number: int, orders: int) -> None:
    for _ in range(1500):
        link = HTTP.get(f"{server.url}/api/tickets/{number}/link", timeout=20).json()
        if sum(o["state"] == "done" for o in link["orders"]) >= orders:
            return
        time.sleep(0.2)
    raise AssertionError(link["orders"])


def test_one_key_takes_a_practice_machine_in(server: Any, window: Window) -> None:
    page = window()
    page.goto(server.url)
    expect(page.get_by_text("The bench is empty")).to_be_visible()
    page.keyboard.press("e")
    expect(page.get_by_role("dialog", name="Practice bench").get_by_role("listitem")).to_have_count(len(PATIENTS))
    page.keyboard.press("5")
    expect(page).to_have_url(re.compile("/ticket/1$"))
    expect(page.get_by_role("status").filter(has_text="Connected: Ferrow Lathe-14")).to_be_visible(timeout=SLOW)
    expect(page.get_by_role("region", name="Suspects").get_by_text("Boot entry lost or stale").first).to_be_visible(
        timeout=SLOW
    )
    expect(page.get_by_role("region", name="Log")).to_contain_text("Connected:", timeout=SLOW)
    page.keyboard.press("b")
    row = page.locator("[data-bench-row]")
    expect(row).to_contain_text("Connected")
    expect(row).to_contain_text("1")


def test_a_key_pressed_before_the_list_has_come_waits_for_it(server: Any, window: Window) -> None:
    page = window()
    held: list[Route] = []
    page.route(
        "**/api/practice", lambda route: held.append(route) if route.request.method == "GET" else route.continue_()
    )
    page.goto(server.url)
    expect(page.get_by_text("The bench is empty")).to_be_visible()
    page.keyboard.press("e")
    expect(page.get_by_role("dialog", name="Practice bench")).to_be_visible()
    page.keyboard.press("4")  # before the list has come: the key is kept until it has
    page.wait_for_timeout(100)
    for route in held:
        route.continue_()
    expect(page).to_have_url(re.compile("/ticket/1$"))
    page.keyboard.press("b")
    expect(page.locator("[data-bench-row]")).to_have_count(1)


def test_one_tap_on_a_free_bay_checks_a_machine_in_there(server: Any, window: Window) -> None:
    page = window()
    page.goto(server.url)
    page.get_by_role("button", name="Check in a machine at bay 4").click()
    sheet = page.get_by_role("dialog")
    sheet.get_by_role("textbox", name="Customer").fill("Choir office")
    sheet.get_by_role("textbox", name="Machine").fill("Ferrow Lathe-14")
    sheet.get_by_role("textbox", name="Machine").press("Enter")
    expect(page).to_have_url(re.compile("/ticket/1$"))
    assert server.ticket(1)["bay"] == 4


def test_an_order_is_given_and_a_held_one_says_why(server: Any, window: Window) -> None:
    number = practice(server, "growing")
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    expect(page.get_by_role("region", name="Next step")).to_be_visible()
    page.keyboard.press("c")
    sheet = page.get_by_role("dialog", name="Connect the machine")
    held = sheet.get_by_role("button", name="long self-test on sda")
    expect(held).to_be_disabled()
    expect(held).to_contain_text("image it before any test")
    page.keyboard.press("1")
    orders = sheet.get_by_role("region", name="Tasks").get_by_role("listitem")
    expect(orders).to_have_count(2)
    expect(orders.first).to_contain_text("done", timeout=SLOW)
    page.keyboard.press("Escape")
    expect(sheet).to_have_count(0)
    page.keyboard.press("p")
    pages = page.get_by_role("main", name="Drive health")
    expect(pages.get_by_role("region", name=re.compile("Compared with the earlier capture"))).to_be_visible()
    page.keyboard.press("u")
    expect(pages.get_by_role("region", name="side by side").get_by_role("columnheader")).to_have_count(2)


def test_every_claim_unfolds_to_its_bytes(server: Any, window: Window) -> None:
    number = practice(server, "growing")
    page = window()
    page.goto(f"{server.url}/ticket/{number}/pages")
    pages = page.get_by_role("main", name="Drive health")
    expect(pages).to_contain_text("QS7-310222")
    expect(pages.get_by_role("region", name="Its log, by power-on hours")).to_contain_text(
        "long self-test failed: read"
    )
    for button, field in (("QS7-310222", "serial: byte 20 to 39"), ("pending sectors", "attribute 8: byte 86 to 97")):
        pages.get_by_role("button", name=button, exact=True).click()
        sheet = page.get_by_role("dialog", name="Bytes")
        expect(sheet).to_contain_text(field)
        page.keyboard.press("Escape")
        expect(sheet).to_have_count(0)


def test_a_link_is_made_shown_and_ended(server: Any, window: Window) -> None:
    number = server.take_in("screen=no-boot-device", platform="pc")
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    expect(page.get_by_role("region", name="Next step")).to_be_visible()
    page.keyboard.press("c")
    sheet = page.get_by_role("dialog", name="Connect the machine")
    expect(sheet).to_contain_text("Not connected")
    page.keyboard.press("Enter")
    expect(sheet).to_contain_text("Waiting for the machine")
    command = sheet.get_by_text("curl -fsS").inner_text()
    secret = re.search(r"/s/(\S+)", command)
    assert secret is not None
    assert HTTP.get(f"{server.url}/s/{secret[1]}", timeout=10).text.startswith("#!/bin/sh")
    assert HTTP.get(f"{server.url}/p/{secret[1]}", timeout=10).content.startswith(b"#!/usr/bin/env python3")
    expect(sheet.get_by_role("img", name=re.compile("^http"))).to_be_visible()
    page.keyboard.press("x")
    expect(sheet).to_contain_text("Connection closed")
    assert HTTP.get(f"{server.url}/p/{secret[1]}", timeout=10).status_code == 401, "exchanged"
    left = HTTP.get(f"{server.url}/api/tickets/{number}/link", timeout=10).json()["code"]
    assert HTTP.get(f"{server.url}/p/{left}", timeout=10).status_code == 410, "and the next one is over with the link"
