"""From the call to a proven machine at the screen: by keyboard alone, by touch on a tablet, and back into triage where
a step goes wrong."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from playwright.sync_api import Browser, Page, expect

from serving import HTTP

Window = Callable[..., Page]
SHELF = (
    "name,interface,form,height_mm,flash,size_gb,price,count\nQUARRY FLINT 500,sata,2.5,7,yes,500,62,1\nQUARRY "
    "FLINT N500,nvme,m2,2.2,yes,500,64,1\n"
)
LAPTOP = {
    "platform": "pc",
    "form": "laptop",
    "installed_os": "windows-10",
    "drive_kind": "hdd",
    "drive_size_gb": 500,
    "mains": "connected",
}


def hand(page: Page, heading: str, *keys: str) -> None:
    """The step in hand has this heading; then these keys."""
    expect(page.get_by_role("region", name="Next step").get_by_role("heading", level=1)).to_have_text(heading)
    for key in keys:
        page.keyboard.press(key)


def told(page: Page, text: str) -> None:
    """What is typed with an answer."""
    expect(
        page.get_by_role("dialog").get_by_role("textbox").or_(page.get_by_role("dialog").get_by_role("spinbutton"))
    ).to_be_focused()
    page.keyboard.type(text)
    page.keyboard.press("Enter")


def signed(server: Any, choice: str, fix: str | None, *readings: str, **facts: Any) -> int:
    number = int(server.take_in(*readings, **{**LAPTOP, **facts}))
    server.append(number, {"signed": choice, "fix": fix})
    return number


def tray_group(page: Page, *keys: str) -> None:
    page.keyboard.press("+")
    expect(page.get_by_role("dialog")).to_be_visible()
    for key in keys:
        page.keyboard.press(key)
    expect(page.get_by_role("dialog")).to_have_count(0)


def test_from_intake_over_a_ticking_drive_to_a_proven_machine_by_keyboard(server: Any, window: Window) -> None:
    server.call("POST", "/api/shelf", json={"csv": SHELF, "by": "KT"})
    page = window()
    page.goto(server.url)
    expect(page.get_by_text("The bench is empty")).to_be_visible()
    page.keyboard.press("+")
    for text in ("Sextant bookshop", "Ferrow Lathe-14", "KT"):
        page.keyboard.type(text)
        page.keyboard.press("Tab" if text != "KT" else "Enter")
    expect(page.get_by_role("heading", name="Ferrow Lathe-14")).to_be_visible()
    server.append(
        1,
        {"fact": {**LAPTOP, "data": "backed-up"}},
        {"move": "screen", "outcome": "no-boot-device"},
        {"move": "setup-entry", "outcome": "reached"},
    )
    page.keyboard.press("e")
    page.get_by_role("combobox").fill("listen")
    page.keyboard.press("Enter")
    hand(page, "Listen to the drive", "2")
    for outcome in ("seen-setup=zero-size", "power-down=off"):
        server.append(1, dict(zip(("move", "outcome"), outcome.split("="), strict=True)))
    expect(page.get_by_role("region", name="Log").get_by_role("listitem").first).to_contain_text("Power")
    expect(page.get_by_role("contentinfo")).to_contain_text("Replace")
    page.keyboard.press("s")
    page.keyboard.press("y")
    hand(page, "What does the customer want done?", "1")
    hand(page, "Which edition and version is installed?", "1")
    hand(page, "Where is the licence?", "2")
    hand(page, "What does the customer need kept?", "1")
    told(page, "the till program, its printer")
    hand(page, "Choose the new drive", "g")
    expect(page.get_by_role("heading", name="Parts")).to_be_visible()
    expect(page.get_by_role("main")).to_contain_text("Interface NVME, this machine takes SATA.")
    page.keyboard.press("1")
    told(page, "QF2-000815")
    hand(page, "Connect mains power", "1")
    hand(page, "Disconnect mains and battery, hold the button 30 s", "1")
    hand(page, "Open the case down to the part")
    tray_group(page, "1", "1")
    tray_group(page, "2", "+", "e", "7", "9", "Enter")
    tray = page.get_by_role("region", name="Tray")
    expect(tray).to_contain_text("11 screws still out")
    page.keyboard.press("1")
    hand(page, "Inspect the drive", "2")
    told(page, "the hinge")
    hand(page, "Read the drive's label", "1")
    told(page, "QS5-120774")
    hand(page, "Year of manufacture", "1")
    told(page, "2019")
    hand(page, "Which way round is the drive?", "3")
    hand(page, "Fit the new drive, the same way up")
    expect(page.locator("[data-guard]")).to_contain_text("label up, plug right")
    page.keyboard.press("1")
    hand(page, "Check detection before the last screw", "1")
    hand(page, "Reassemble in reverse order", "1")
    # screws left over say where they belong
    expect(page.get_by_role("alert")).to_contain_text("expected an empty tray, got Base cover (9)")
    page.keyboard.press("-")
    expect(tray).to_contain_text("2 screws still out")
    page.keyboard.press("-")
    expect(tray).to_contain_text("All parts are refitted")
    hand(page, "Reassemble in reverse order", "1")
    hand(page, "Read the new drive's health", "1")
    hand(page, "Start the right media in the right mode")
    expect(page.locator("[data-guard]")).to_contain_text("Edition: Home")
    page.keyboard.press("1")
    hand(page, "Confirm the drive", "1")
    told(page, "0774")  # the old one's: the guard of the wrong drive
    expect(page.get_by_role("dialog").get_by_role("alert")).to_contain_text("QF2-000815 (QUARRY FLINT 500), got 0774")
    page.get_by_role("dialog").get_by_role("textbox").fill("0815")
    page.keyboard.press("Enter")
    hand(page, "Delete every partition on it", "1")
    hand(page, "Start the installation", "1")
    hand(page, "Remove the stick at the first restart")
    page.reload()
    hand(page, "Remove the stick at the first restart")
    expect(page.get_by_role("region", name="Next step")).to_contain_text(re.compile(r"Due at \d\d:\d\d, [89] min left"))
    page.keyboard.press("1")
    hand(page, "Set up the account", "1")
    hand(page, "Set the system's boot entry first", "1")
    hand(page, "Install all updates", "1")
    told(page, "14")
    expect(page.locator("[data-guard]")).to_contain_text("1 round, 14 updates")
    hand(page, "Install all updates", "2")
    hand(page, "Check for missing drivers", "1")
    hand(page, "Check activation", "1")
    hand(page, "Restore the customer's data", "1")
    told(page, "4 folders, 12,804 files")
    hand(page, "What happens to the old drive?", "1")
    hand(page, "Cold start, nothing plugged in", "1")
    expect(page.locator("header")).to_contain_text("Ferrow Lathe-14")
    hand(page, "Second cold start", "1")
    hand(page, "Drive detected with the right size", "1")
    hand(page, "Short self-test of the new drive", "1")
    hand(page, "Customer has checked their files", "1")
    hand(page, "All tasks done")
    expect(page.locator("[data-proof]:not([data-state=proven])")).to_have_count(0)
    page.keyboard.press("h")
    expect(page.get_by_role("dialog")).to_contain_text("All final checks passed")
    page.keyboard.press("0")
    expect(page).to_have_url(f"{server.url}/")
    assert server.ticket(1)["closed_at"]


def test_a_loose_cable_is_found_mended_and_proven_by_touch_on_a_tablet(server: Any, browser: Browser) -> None:
    number = signed(
        server, "repair", "reseat", "screen=no-boot-device", "setup-entry=reached", "seen-setup=absent", data="none"
    )
    context = browser.new_context(viewport={"width": 820, "height": 1180}, has_touch=True)
    page = context.new_page()
    page.goto(f"{server.url}/ticket/{number}")

    def tap(heading: str, answer: str) -> None:
        hand(page, heading)
        page.get_by_role("region", name="Next step").get_by_role(
            "button", name=re.compile(rf"^\d {re.escape(answer)}$")
        ).tap()

    tap("What does the customer want done?", "Go ahead with the repair")
    tap("Disconnect mains and battery, hold the button 30 s", "No power left")
    hand(page, "Open the case down to the part")
    page.get_by_role("button", name="add removed parts").tap()
    page.get_by_role("button", name="Base cover").tap()
    page.get_by_role("button", name="bottom left").tap()
    tap("Open the case down to the part", "The part is accessible")
    tap("Inspect the drive", "No damage")
    tap("Reseat drive and cable, both ends", "It was loose")
    tap("Check detection before the last screw", "Detected, right size")
    hand(page, "Reassemble in reverse order")
    page.get_by_role("button", name="Base cover refitted").tap()
    expect(page.get_by_role("region", name="Tray")).to_contain_text("All parts are refitted")
    tap("Reassemble in reverse order", "Closed")
    tap("Cold start, nothing plugged in", "Starts")
    tap("Second cold start", "Starts")
    tap("Drive detected with the right size", "Right size")
    hand(page, "All tasks done")
    assert server.ticket(number)["job"]["unproven"] == 0
    context.close()


def test_a_repair_that_fails_leads_back_into_triage_and_the_step_can_be_taken_back(server: Any, window: Window) -> None:
    number = signed(
        server,
        "repair",
        "repair-volume",
        "screen=repair-loop",
        "live-start=runs",
        "volume-look=dirty",
        data="backed-up",
    )
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    hand(page, "What does the customer want done?", "1")
    hand(page, "Connect mains power", "1")
    hand(page, "Which installation is it?", "2")
    hand(page, "Is there a backup or image?", "1")
    hand(page, "Start it and do not interrupt", "1")
    hand(page, "Finished?", "1")
    hand(page, "Cold start, nothing plugged in", "2")
    expect(page.get_by_role("dialog")).to_contain_text("Does not start")
    page.keyboard.press("Shift+Digit1")  # stop: the boot volume
    expect(page.get_by_role("region", name="Suspects")).to_be_visible()
    assert server.ticket(number)["signed"] is None
    tape = page.get_by_role("region", name="Log")
    expect(tape.get_by_role("listitem").first).to_contain_text("Stop screen: boot volume")
    tape.get_by_role("button", name="undo: Cold start, nothing plugged in: does not start").click()
    hand(page, "Cold start, nothing plugged in", "1")
    hand(page, "Second cold start")
    page.keyboard.press("z")
    hand(page, "Cold start, nothing plugged in")


def test_a_proof_that_fails_is_not_handed_over_without_a_reason(server: Any, window: Window) -> None:
    number = signed(server, "release", None, "screen=boots", data="irreplaceable")
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    hand(page, "Cold start, nothing plugged in", "1")
    hand(page, "Second cold start", "1")
    hand(page, "Customer has checked their files", "2")
    told(page, "the pictures of the summer")
    expect(page.locator("[data-proof=data-seen]")).to_contain_text("failed")
    page.keyboard.press("h")
    sheet = page.get_by_role("dialog")
    expect(sheet).to_contain_text("1 check to do")
    page.keyboard.press("0")
    expect(sheet.get_by_role("textbox")).to_be_focused()
    page.keyboard.type("They look at home")
    page.keyboard.press("Enter")
    page.keyboard.press("0")
    expect(page).to_have_url(f"{server.url}/")
    assert "They look at home" in [e["body"].get("reason") for e in server.ticket(number)["tape"]]


def test_a_step_is_left_out_or_brought_forward_and_two_screens_answer_once(server: Any, window: Window) -> None:
    number = signed(server, "reinstall", "reinstall", "screen=repair-loop", data="backed-up", consent="given")
    one, two = window(), window()
    for page in (one, two):
        page.goto(f"{server.url}/ticket/{number}")
        hand(page, "What does the customer want done?")
    two.route("**/api/events", lambda route: route.abort())  # the second screen has not heard yet
    one.keyboard.press("1")
    hand(one, "Which edition and version is installed?", "0")
    one.get_by_role("dialog").get_by_role("textbox").fill("They bring their own media")
    one.keyboard.press("Enter")
    hand(one, "Where is the licence?", "e")
    one.get_by_role("dialog").get_by_role("button", name="Connect mains power").click()
    hand(one, "Connect mains power", "1")
    hand(one, "Where is the licence?")
    answer = HTTP.post(
        f"{server.url}/api/tickets/{number}/steps/way-other", json={"answer": "nothing", "by": "MO"}, timeout=20
    )
    assert answer.status_code == 422
    assert "one that entry" in answer.json()["detail"]


def test_the_shelf_says_which_line_of_a_file_is_wrong(server: Any, window: Window) -> None:
    page = window()
    page.goto(f"{server.url}/shelf")
    expect(page.get_by_text("No parts in stock")).to_be_visible()
    page.get_by_label("import a CSV file").set_input_files(
        {"name": "shelf.csv", "mimeType": "text/csv", "buffer": SHELF.replace("62", "cheap").encode()}
    )
    expect(page.get_by_role("alert")).to_contain_text("line 2, price: expected a number")
    page.get_by_label("import a CSV file").set_input_files(
        {"name": "shelf.csv", "mimeType": "text/csv", "buffer": SHELF.encode()}
    )
    expect(page.get_by_role("listitem").filter(has_text="QUARRY FLINT 500")).to_contain_text("1 left")
    expect(page.get_by_role("alert")).to_have_count(0)
