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
    expect(page.get_by_role("region", name="In hand").get_by_role("heading", level=1)).to_have_text(heading)
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
    page.keyboard.press("n")
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
    page.get_by_role("combobox").fill("sounds like")
    page.keyboard.press("Enter")
    hand(page, "What the drive sounds like", "2")
    for outcome in ("seen-setup=zero-size", "power-down=off"):
        server.append(1, dict(zip(("move", "outcome"), outcome.split("="), strict=True)))
    expect(page.get_by_role("region", name="Tape").get_by_role("listitem").first).to_contain_text("Power")
    expect(page.get_by_role("contentinfo")).to_contain_text("Replace")
    page.keyboard.press("s")
    hand(page, "What does the customer want done?", "1")
    hand(page, "Which edition and version is installed?", "1")
    hand(page, "Where does its licence stand?", "2")
    hand(page, "What will be missed?", "1")
    told(page, "the till program, its printer")
    hand(page, "Choose the new drive", "d")
    expect(page.get_by_role("heading", name="Parts")).to_be_visible()
    expect(page.get_by_role("main")).to_contain_text("Speaks NVME, this machine takes SATA.")
    page.keyboard.press("1")
    told(page, "QF2-000815")
    hand(page, "Connect mains", "1")
    hand(page, "Mains off, battery out, 30 seconds on the button", "1")
    hand(page, "Open it, down to the part")
    tray_group(page, "1", "1")
    tray_group(page, "2", "+", "s", "7", "9", "Enter")
    tray = page.get_by_role("region", name="Tray")
    expect(tray).to_contain_text("11 screws lie out")
    page.keyboard.press("1")
    hand(page, "Look at the drive", "2")
    told(page, "the hinge")
    hand(page, "Read the drive's label", "1")
    told(page, "QS5-120774")
    hand(page, "When was it made?", "1")
    told(page, "2019")
    hand(page, "How does it lie in its carrier?", "3")
    hand(page, "New drive in, the same way up")
    expect(page.locator("[data-guard]")).to_contain_text("label up, plug right")
    page.keyboard.press("1")
    hand(page, "Is it detected? Before the last screw", "1")
    hand(page, "Close it: the tray backwards", "1")
    # screws left over say where they belong
    expect(page.get_by_role("alert")).to_contain_text("expected an empty tray, got Base cover (9)")
    page.keyboard.press("-")
    expect(tray).to_contain_text("2 screws lie out")
    page.keyboard.press("-")
    expect(tray).to_contain_text("Nothing lies out")
    hand(page, "Close it: the tray backwards", "1")
    hand(page, "The new drive's first pages", "1")
    hand(page, "The right media, started in the right mode")
    expect(page.locator("[data-guard]")).to_contain_text("Edition: Home")
    page.keyboard.press("1")
    hand(page, "Is it this drive?", "1")
    told(page, "0774")  # the old one's: the guard of the wrong drive
    expect(page.get_by_role("dialog").get_by_role("alert")).to_contain_text("QF2-000815 (QUARRY FLINT 500), got 0774")
    page.get_by_role("dialog").get_by_role("textbox").fill("0815")
    page.keyboard.press("Enter")
    hand(page, "Delete every partition on it", "1")
    hand(page, "Start the installation", "1")
    hand(page, "Stick out at the first restart")
    page.reload()
    hand(page, "Stick out at the first restart")
    expect(page.get_by_role("region", name="In hand")).to_contain_text(re.compile(r"Due at \d\d:\d\d, [89] min left"))
    page.keyboard.press("1")
    hand(page, "Account as they said", "1")
    hand(page, "The system's own entry first again", "1")
    hand(page, "Updates, round after round", "1")
    told(page, "14")
    expect(page.locator("[data-guard]")).to_contain_text("1 round, 14 updates")
    hand(page, "Updates, round after round", "2")
    hand(page, "Is a driver missing?", "1")
    hand(page, "Is it activated?", "1")
    hand(page, "Their data back", "1")
    told(page, "4 folders, 12,804 files")
    hand(page, "What becomes of the old drive?", "1")
    hand(page, "Starts cold, everything external out", "1")
    expect(page.locator("header")).to_contain_text("Ferrow Lathe-14")
    hand(page, "And once more, cold", "1")
    hand(page, "Detected with the right size", "1")
    hand(page, "A short test of the new drive", "1")
    hand(page, "Data seen by the customer's own eye", "1")
    hand(page, "Every step is settled")
    expect(page.locator("[data-proof]:not([data-state=proven])")).to_have_count(0)
    page.keyboard.press("h")
    expect(page.get_by_role("dialog")).to_contain_text("Everything is proven")
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
        page.get_by_role("region", name="In hand").get_by_role(
            "button", name=re.compile(rf"^\d {re.escape(answer)}$")
        ).tap()

    tap("What does the customer want done?", "What was called")
    tap("Mains off, battery out, 30 seconds on the button", "It is dead")
    hand(page, "Open it, down to the part")
    page.get_by_role("button", name="another group for the tray").tap()
    page.get_by_role("button", name="Base cover").tap()
    page.get_by_role("button", name="bottom left").tap()
    tap("Open it, down to the part", "The part lies free")
    tap("Look at the drive", "No marks")
    tap("Reseat drive and cable, both ends", "It sat loose")
    tap("Is it detected? Before the last screw", "With the right size")
    hand(page, "Close it: the tray backwards")
    page.get_by_role("button", name="Base cover is back").tap()
    expect(page.get_by_role("region", name="Tray")).to_contain_text("Nothing lies out")
    tap("Close it: the tray backwards", "It is closed")
    tap("Starts cold, everything external out", "It starts")
    tap("And once more, cold", "It starts")
    tap("Detected with the right size", "Right size")
    hand(page, "Every step is settled")
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
    hand(page, "Connect mains", "1")
    hand(page, "Which installation is the right one?", "2")
    hand(page, "Is there a way back?", "1")
    hand(page, "Start it, and touch nothing", "1")
    hand(page, "Is it through?", "1")
    hand(page, "Starts cold, everything external out", "2")
    expect(page.get_by_role("dialog")).to_contain_text("It does not")
    page.keyboard.press("a")  # stop: the boot volume
    expect(page.get_by_role("region", name="Suspects")).to_be_visible()
    assert server.ticket(number)["signed"] is None
    tape = page.get_by_role("region", name="Tape")
    expect(tape.get_by_role("listitem").first).to_contain_text("Stop: boot volume")
    tape.get_by_role("button", name="undo: Starts cold, everything external out: it does not").click()
    hand(page, "Starts cold, everything external out", "1")
    hand(page, "And once more, cold")
    page.keyboard.press("u")
    hand(page, "Starts cold, everything external out")


def test_a_proof_that_fails_is_not_handed_over_without_a_reason(server: Any, window: Window) -> None:
    number = signed(server, "release", None, "screen=boots", data="irreplaceable")
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    hand(page, "Starts cold, everything external out", "1")
    hand(page, "And once more, cold", "1")
    hand(page, "Data seen by the customer's own eye", "2")
    told(page, "the pictures of the summer")
    expect(page.locator("[data-proof=data-seen]")).to_contain_text("does not hold")
    page.keyboard.press("h")
    sheet = page.get_by_role("dialog")
    expect(sheet).to_contain_text("1 line is open")
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
    hand(one, "Which edition and version is installed?", "v")
    one.get_by_role("dialog").get_by_role("textbox").fill("They bring their own media")
    one.keyboard.press("Enter")
    hand(one, "Where does its licence stand?", "e")
    one.get_by_role("dialog").get_by_role("button", name="Connect mains").click()
    hand(one, "Connect mains", "1")
    hand(one, "Where does its licence stand?")
    answer = HTTP.post(
        f"{server.url}/api/tickets/{number}/steps/way-other", json={"answer": "nothing", "by": "MO"}, timeout=20
    )
    assert answer.status_code == 422
    assert "one that entry" in answer.json()["detail"]


def test_the_shelf_says_which_line_of_a_file_is_wrong(server: Any, window: Window) -> None:
    page = window()
    page.goto(f"{server.url}/shelf")
    expect(page.get_by_text("Nothing lies on the shelf")).to_be_visible()
    page.get_by_label("bring in a CSV file").set_input_files(
        {"name": "shelf.csv", "mimeType": "text/csv", "buffer": SHELF.replace("62", "cheap").encode()}
    )
    expect(page.get_by_role("alert")).to_contain_text("line 2, price: expected a number")
    page.get_by_label("bring in a CSV file").set_input_files(
        {"name": "shelf.csv", "mimeType": "text/csv", "buffer": SHELF.encode()}
    )
    expect(page.get_by_role("listitem").filter(has_text="QUARRY FLINT 500")).to_contain_text("1 left")
    expect(page.get_by_role("alert")).to_have_count(0)
