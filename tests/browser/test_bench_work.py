"""A technician at the screen: from intake to call by keyboard, and everything that may go wrong on the way."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from gatecheck.server.demo import pages as demo_captures

Window = Callable[..., Page]


def in_hand(page: Page, name: str) -> None:
    expect(page.get_by_role("region", name="Next step").get_by_role("heading", level=1)).to_have_text(name)


def tape(page: Page) -> Any:
    return page.get_by_role("region", name="Log").get_by_role("listitem")


def press(page: Page, *keys: str) -> None:
    for key in keys:
        page.keyboard.press(key)


def search(page: Page, words: str) -> None:
    """Take another move in hand: E, words, Enter."""
    expect(page.get_by_role("region", name="Next step")).to_be_visible()
    press(page, "e")
    page.get_by_role("combobox").fill(words)
    press(page, "Enter")


def drop(page: Page, name: str, data: bytes) -> None:
    """Drop a file on the page as a hand would."""
    page.evaluate(
        """([name, bytes]) => {
            const transfer = new DataTransfer()
            transfer.items.add(new File([new Uint8Array(bytes)], name))
            const zone = document.querySelector('[data-drop-zone]')
            for (const kind of ['dragover', 'drop'])
                zone.dispatchEvent(new DragEvent(kind, { bubbles: true, cancelable: true, dataTransfer: transfer }))
        }""",
        [name, list(data)],
    )


def test_intake_to_signed_call_by_keyboard_alone(server: Any, window: Window) -> None:
    page = window()
    page.goto(server.url)
    expect(page.get_by_text("The bench is empty")).to_be_visible()
    press(page, "+")
    page.keyboard.type("School lab 3")
    press(page, "Tab")
    page.keyboard.type("Ostler Bracken-15")
    press(page, "Tab")
    page.keyboard.press("Control+A")
    page.keyboard.type("MO")
    press(page, "Tab", "Space")  # the first story: nothing special
    press(page, "Tab", "Space")  # the first screen, then on with the arrows to network boot
    for _ in range(5):
        page.keyboard.press("ArrowRight", delay=60)
    expect(page.get_by_role("radio", name="Goes to network boot")).to_be_checked()
    press(page, "Enter")
    expect(page.get_by_role("heading", name="Ostler Bracken-15")).to_be_visible()
    # no fact is known yet, and no empty place shown
    expect(page.locator("header")).to_contain_text("School lab 3 · GC-0001")
    search(page, "clock")
    in_hand(page, "Check the firmware clock")
    press(page, "1")
    search(page, "drive in firmware setup")
    press(page, "1")
    search(page, "check the boot order")
    press(page, "2")
    in_hand(page, "Set the boot order")
    expect(page.get_by_role("contentinfo", name="Verdict")).to_contain_text("Repair")
    press(page, "1")
    expect(page.get_by_role("img", name=re.compile("System passed"))).to_be_visible()
    press(page, "s", "y")
    expect(page.get_by_role("contentinfo", name="Verdict")).to_contain_text("Signed off")
    press(page, "h")
    expect(page.get_by_role("button", name=re.compile("Wrong boot order")).first).to_be_focused()
    press(page, "1")  # not proven yet: it asks why it goes back all the same
    expect(page.get_by_role("dialog").get_by_role("textbox")).to_be_focused()
    page.keyboard.type("They wait at the counter")
    press(page, "Enter", "1")
    expect(page.get_by_text("The bench is empty")).to_be_visible()
    closed = server.ticket(1)
    assert closed["proven"] == ["settings.order"]
    assert [e["made_by"] for e in closed["tape"]] == ["MO"] * len(closed["tape"])
    assert closed["closed_at"]


def test_undo_takes_the_last_reading_back(server: Any, window: Window) -> None:
    number = server.take_in("screen=no-boot-device", drive_kind="hdd")
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    search(page, "listen to the drive")
    press(page, "2")
    in_hand(page, "Power it down")
    press(page, "z")
    expect(tape(page).first).to_contain_text("undone")
    expect(page.get_by_role("heading", name="Power it down")).to_have_count(0)
    assert server.ticket(number)["tape"][1]["stands"] is False


def test_an_interlock_holds_and_is_overridden_with_a_reason(server: Any, window: Window) -> None:
    number = server.take_in("screen=health-warning", "health-pages=early-signs", drive_kind="hdd", data="irreplaceable")
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    search(page, "long self-test")
    sheet = page.get_by_role("dialog")
    expect(sheet).to_contain_text("is blocked")
    expect(sheet).to_contain_text("image it before any test that reads the whole surface")
    press(page, "Enter")  # no reason, no override
    expect(sheet).to_be_visible()
    page.keyboard.type("customer wants proof")
    press(page, "Enter")
    in_hand(page, "Run the long self-test")
    expect(tape(page).first).to_contain_text("customer wants proof")
    press(page, "2")
    expect(tape(page).first).to_contain_text("Read failure")


def test_a_dropped_capture_is_weighed_and_shown(server: Any, window: Window) -> None:
    number = server.take_in("screen=health-warning", drive_kind="nvme", data="backed-up")
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    expect(tape(page)).to_have_count(2)
    drop(
        page,
        "machine.gcap",
        demo_captures.flash_capture("QUARRY FLINT N256", "QF2-009914", 256, used=104, spare=4, critical_warning=1),
    )
    in_hand(page, "Replace the drive and install")
    expect(page.get_by_role("region", name="Suspects")).to_contain_text("Flash worn out")
    press(page, "p")
    expect(page.get_by_role("main", name="Drive health")).to_contain_text("QF2-009914")
    expect(page.get_by_role("main", name="Drive health")).to_contain_text("Worn out")
    press(page, "i")  # the facts are one key away from the instrument too
    expect(page.get_by_role("dialog", name="Details")).to_be_visible()
    press(page, "Escape")
    in_hand(page, "Replace the drive and install")


@pytest.mark.parametrize(
    ("name", "data", "message"),
    [
        pytest.param(
            "identify.bin", b"\x40" * 60, "IDENTIFY DEVICE at byte 0x3c: expected 512 bytes, got 60 bytes", id="short"
        ),
        pytest.param("x.gcap", b"PK\x03\x04 nothing", "expected a capture", id="no-zip"),
    ],
)
def test_a_broken_capture_is_said_plainly_and_loses_nothing(
    server: Any, window: Window, name: str, data: bytes, message: str
) -> None:
    number = server.take_in("screen=health-warning", "sound=steady", drive_kind="hdd")
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    expect(tape(page)).to_have_count(3)
    drop(page, name, data)
    expect(page.get_by_role("alert")).to_contain_text(message)
    expect(tape(page)).to_have_count(3)


def test_two_windows_see_each_other_at_once(server: Any, window: Window) -> None:
    number = server.take_in("screen=no-boot-device", drive_kind="hdd")
    one, two = window(), window()
    for page in (one, two):
        page.goto(f"{server.url}/ticket/{number}")
        expect(tape(page)).to_have_count(2)
    search(one, "find the drive in firmware setup")
    press(one, "4")
    expect(tape(two)).to_have_count(3)
    expect(tape(two).first).to_contain_text("Not listed")
    press(two, "z")
    expect(tape(one).first).to_contain_text("undone")


def test_a_reload_shows_the_same_ticket_and_the_same_move(server: Any, window: Window) -> None:
    number = server.take_in("screen=no-boot-device", drive_kind="hdd")
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    search(page, "inspect the cable")
    in_hand(page, "Inspect the cable")
    page.reload()
    in_hand(page, "Inspect the cable")
    expect(tape(page)).to_have_count(2)


def test_an_entry_made_while_the_server_is_away_arrives_when_it_is_back(server: Any, window: Window) -> None:
    number = server.take_in("screen=no-boot-device", drive_kind="hdd")
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    expect(tape(page)).to_have_count(2)
    server.stop()
    expect(page.get_by_role("status")).to_contain_text("No connection to the server")
    search(page, "inspect the cable")
    press(page, "1")
    expect(page.get_by_text("Waiting for the server")).to_be_visible()
    expect(tape(page)).to_have_count(2)
    server.start()
    expect(tape(page)).to_have_count(3, timeout=60_000)
    expect(page.get_by_role("status")).to_have_count(0, timeout=60_000)
    assert len(server.ticket(number)["tape"]) == 2


def test_a_trial_is_put_back_with_one_key(server: Any, window: Window) -> None:
    number = server.take_in("screen=no-boot-device", "set-mode=no-change", drive_kind="hdd")
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    expect(page.get_by_text("Revert: Change the boot mode").first).to_be_visible()
    press(page, "x")
    expect(tape(page).first).to_contain_text("Revert")
    assert server.ticket(number)["trials"][0]["open"] is False


def test_facts_asked_late_change_the_call(server: Any, window: Window) -> None:
    number = server.take_in("screen=no-boot-device", "seen-setup=zero-size", "sound=ticking", drive_kind="hdd")
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    expect(page.get_by_text("Ask the customer: data")).to_be_visible()
    press(page, "i")
    page.get_by_role("radio", name="nothing to keep").press("Space")
    page.get_by_role("button", name="cancel: change nothing").click()
    expect(page.get_by_role("dialog")).to_have_count(0)
    press(page, "i")
    page.get_by_role("radio", name="irreplaceable, no backup").press("Space")
    press(page, "Escape")
    expect(page.get_by_role("contentinfo", name="Verdict")).to_contain_text("Send out")
    expect(page.get_by_role("banner")).to_contain_text("irreplaceable")
    press(page, "i")  # walking past "backed up" with the arrows must not put it on the tape
    page.get_by_role("radio", name="irreplaceable, no backup").focus()
    page.keyboard.press("ArrowRight", delay=60)
    page.keyboard.press("ArrowRight", delay=60)
    expect(page.get_by_role("radio", name="nothing to keep")).to_be_checked()
    press(page, "Escape")
    expect(page.get_by_role("contentinfo", name="Verdict")).to_contain_text("Replace the drive", ignore_case=True)
    facts = [e["body"]["fact"] for e in server.ticket(number)["tape"] if "fact" in e["body"]]
    assert facts == [{"data": "irreplaceable"}, {"data": "none"}]


def test_digits_jump_to_bays_and_dark_is_kept(server: Any, window: Window) -> None:
    number = server.take_in("screen=dead")
    page = window()
    page.request.put(f"{server.url}/api/tickets/{number}/bay", data={"bay": 7})
    page.goto(server.url)
    expect(page.get_by_text("Ferrow Lathe-14")).to_be_visible()
    press(page, "*")
    press(page, "7")
    expect(page).to_have_url(re.compile(f"/ticket/{number}$"))
    before = page.evaluate("document.documentElement.dataset.theme")
    page.reload()
    expect(page.get_by_role("heading", name="Ferrow Lathe-14")).to_be_visible()
    assert page.evaluate("document.documentElement.dataset.theme") == before
    press(page, "b")
    expect(page.get_by_role("region", name="Needs you")).to_be_visible()


def test_a_long_test_is_started_and_left(server: Any, window: Window) -> None:
    number = server.take_in("screen=other-stop", "health-pages=clean", drive_kind="hdd", data="backed-up")
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    search(page, "long self-test")
    in_hand(page, "Run the long self-test")
    press(page, "r")
    expect(page.get_by_role("region", name="Next step")).to_contain_text("left")
    press(page, "b")
    expect(page.get_by_role("region", name="Running")).to_contain_text("Run the long self-test")
    page.reload()
    expect(page.get_by_role("region", name="Running")).to_contain_text("min left")


def test_rows_are_walked_and_found_by_keyboard(server: Any, window: Window) -> None:
    server.take_in("screen=dead")
    second = server.take_in("screen=no-boot-device", "sound=clunking", drive_kind="hdd")
    page = window()
    page.goto(server.url)
    expect(page.get_by_role("region", name="Needs you").get_by_role("button")).to_have_count(2)
    press(page, "ArrowDown", "Enter")
    expect(page).to_have_url(re.compile(f"/ticket/{second}$"))  # danger stands first
    expect(page.get_by_role("region", name="Next step")).to_be_visible()
    press(page, "b")
    expect(page.get_by_role("region", name="Needs you")).to_be_visible()
    press(page, "/")
    page.get_by_role("textbox", name="find").fill("GC-0001")
    expect(page.get_by_role("dialog").get_by_role("button", name="GC-0001")).to_have_count(1)
    press(page, "Enter")
    expect(page).to_have_url(re.compile("/ticket/1$"))


def test_a_gate_shows_its_reason_and_its_moves(server: Any, window: Window) -> None:
    number = server.take_in("screen=no-boot-device", "seen-setup=absent", drive_kind="hdd")
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    page.get_by_role("button", name=re.compile("^Detection: ")).click()
    sheet = page.get_by_role("dialog", name="Detection")
    expect(sheet).to_contain_text("Not listed")
    expect(sheet.get_by_role("option", name=re.compile("Reseat drive and cable"))).to_be_visible()
    expect(sheet.get_by_role("option", name=re.compile("Repair the file system"))).to_have_count(0)
    press(page, "Escape")
    expect(sheet).to_have_count(0)
    in_hand(page, "Reseat drive and cable")


LONG = "Boatbuilder Larsund & Daughters, drawing office on the slip behind the old ropewalk, second floor, ring twice"


@pytest.mark.parametrize("size", [(1280, 800), (1024, 768)], ids=["screen", "tablet"])
def test_nothing_runs_off_the_page(server: Any, window: Window, size: tuple[int, int]) -> None:
    page = window()
    page.set_viewport_size({"width": size[0], "height": size[1]})
    body = {
        "customer": LONG,
        "machine": "Ferrow Lathe-14 with a name that goes on",
        "by": "KT",
        "words": LONG,
        "bay": 1,
        "facts": {"drive_kind": "nvme", "data": "backed-up"},
    }
    entries = [{"move": "screen", "outcome": "health-warning"}]
    number = page.request.post(f"{server.url}/api/tickets", data={**body, "entries": entries}).json()["id"]
    page.goto(f"{server.url}/ticket/{number}")
    expect(tape(page)).to_have_count(2)
    drop(page, "machine.gcap", demo_captures.flash_capture("QUARRY FLINT N256", "QF2-009914", 256, used=104))
    expect(tape(page)).to_have_count(3)
    for path in ("/", "/odds", "/room", f"/ticket/{number}", f"/ticket/{number}/pages", f"/ticket/{number}/call"):
        page.goto(server.url + path)
        expect(page.get_by_role("heading", level=1).first).to_be_visible()
        wide = page.evaluate("document.documentElement.scrollWidth - document.documentElement.clientWidth")
        assert wide <= 0, path
    page.goto(server.url)
    box = page.get_by_role("img").first.bounding_box()
    assert box is not None
    assert box["width"] > 300


def test_a_page_opened_while_the_server_is_away_comes_up_when_it_is_back(server: Any, window: Window) -> None:
    number = server.take_in("screen=dead")
    page = window()
    page.goto(server.url)
    expect(page.get_by_text("Ferrow Lathe-14")).to_be_visible()
    server.stop()
    press(page, "ArrowDown", "Enter")
    expect(page.get_by_text("No connection to the server").first).to_be_visible()
    server.start()
    expect(page.get_by_role("heading", name="Ferrow Lathe-14")).to_be_visible(timeout=20_000)
    assert server.ticket(number)["tape"]


def test_an_unknown_ticket_is_said_so(server: Any, window: Window) -> None:
    page = window()
    page.goto(f"{server.url}/ticket/77")
    expect(page.get_by_role("alert")).to_contain_text("expected a ticket of this shop")
