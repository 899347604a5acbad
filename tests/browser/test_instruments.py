"""Settings, sightings and keys with the keyboard alone."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from practised import capture_of

Window = Callable[..., Page]


def press(page: Page, *keys: str) -> None:
    for key in keys:
        page.keyboard.press(key)


def row(page: Page, name: str) -> Any:
    return page.locator(f"[data-row='{name}']")


def state(page: Page, name: str, value: str) -> None:
    expect(row(page, name)).to_have_attribute("data-state", value)


def bodies(server: Any, number: int) -> list[dict[str, Any]]:
    return [e["body"] for e in server.ticket(number)["tape"] if e["stands"]]


def open_settings(page: Page, server: Any, number: int) -> None:
    page.goto(f"{server.url}/ticket/{number}")
    expect(page.get_by_role("region", name="Next step")).to_be_visible()
    press(page, "t")
    expect(page).to_have_url(re.compile("/settings$"))


def test_all_settings_and_sightings_take_one_key_each(server: Any, window: Window) -> None:
    """A sound set of settings is one key a row; a whole line of sightings one key a cell."""
    number = server.take_in(
        "screen=no-boot-device",
        "setup-entry=reached",
        platform="pc",
        installed_os="windows-10",
        disk_layout="gpt",
        storage_was="ahci",
    )
    page = window()
    open_settings(page, server, number)
    expect(row(page, "clock")).to_be_visible()
    press(page, "1", "2", "3", "4", "5", "6", "7")
    for name in ("clock", "boot-mode", "secure-boot", "storage-mode", "port", "boot-order", "warning"):
        state(page, name, "fits")
    press(page, "d")  # leaving keeps what was not kept yet
    expect(page).to_have_url(re.compile("/sightings$"))
    expect(page.locator("[data-cell='drive-setup']")).to_be_visible()
    press(page, "1", "4", "5", "1", "1")
    expect(page.locator("[data-cell='drive-dock']")).to_have_attribute("data-value", "right")
    expect(page.locator("[data-pattern='setup-not-picker']")).to_contain_text("not bootable")
    tape = bodies(server, number)
    assert [b.get("found") or b.get("value") for b in tape[2:]] == [
        "right",
        "uefi",
        "on",
        "ahci",
        "on",
        "system-first",
        "on",
        "right",
        "absent",
        "no-such-tool",
        "right",
        "right",
    ]


def test_the_next_value_is_one_more_key_and_only_the_last_is_kept(server: Any, window: Window) -> None:
    number = server.take_in("screen=no-boot-device", platform="pc", installed_os="windows-11", disk_layout="gpt")
    page = window()
    open_settings(page, server, number)
    expect(row(page, "boot-mode")).to_be_visible()
    press(page, "2", "2", "3")
    state(page, "boot-mode", "differs")
    expect(row(page, "boot-mode")).to_contain_text("blocks Firmware")
    expect(page.locator("[data-together='legacy-with-secure-boot']")).to_be_visible()
    expect(page.locator("[data-together='gpt-in-legacy']")).to_contain_text("GPT installation in legacy mode")
    assert [b["found"] for b in bodies(server, number)[1:]] == ["legacy", "on"]
    press(page, "1", "1", "1")  # its first day
    expect(page.locator("[data-together='battery-all-fell-back']")).to_contain_text("the flat battery is the cause")
    press(page, "ArrowDown", "ArrowDown", "ArrowRight", "ArrowRight")  # not shown is an answer
    state(page, "secure-boot", "not-shown")


def test_a_trial_is_changed_judged_and_put_back(server: Any, window: Window) -> None:
    number = server.take_in(
        "screen=no-boot-device", "setup-entry=reached", platform="pc", installed_os="windows-11", disk_layout="gpt"
    )
    page = window()
    open_settings(page, server, number)
    expect(row(page, "boot-mode")).to_be_visible()
    press(page, "2", "2", "Enter")
    trial = page.get_by_role("region", name="Change the boot mode")
    expect(trial).to_contain_text("legacy → UEFI")
    press(page, "Escape")
    expect(page.get_by_role("region", name="Next step")).to_contain_text("It starts")
    expect(page.get_by_text("Not started with it yet.").first).to_be_visible()
    press(page, "b")
    expect(page.get_by_text("1 test change")).to_be_visible()
    page.goto(f"{server.url}/ticket/{number}/settings")
    expect(trial).to_be_visible()
    press(page, "4")
    expect(trial).to_contain_text("It changed nothing")
    press(page, "x")
    expect(trial).to_have_count(0)
    state(page, "boot-mode", "differs")
    assert [next(iter(b)) for b in bodies(server, number)[2:]] == ["move", "changed", "move", "put_back"]
    assert server.ticket(number)["trials"][0]["standing"] == "put-back"


def test_each_storage_mode_is_tried_until_it_starts(server: Any, window: Window) -> None:
    number = server.take_in("screen=volume-stop", "setup-entry=reached", platform="pc", installed_os="windows-7")
    page = window()
    open_settings(page, server, number)
    expect(row(page, "storage-mode")).to_be_visible()
    press(page, "4", "r")
    trial = page.get_by_role("region", name="Change the storage mode")
    expect(trial).to_contain_text("AHCI → RAID")
    press(page, "4")
    expect(trial).to_contain_text("revert, then try IDE")
    press(page, "Enter")
    expect(trial).to_contain_text("AHCI → IDE")
    press(page, "4")
    expect(trial).to_contain_text("None of them starts it: revert to AHCI")
    press(page, "x")
    expect(trial).to_have_count(0)
    left = row(page, "storage-mode").get_by_role("radio", checked=True)
    expect(left).to_have_text("AHCI")


def test_the_handover_shows_settings_as_found_and_as_left(server: Any, window: Window) -> None:
    number = server.take_in(
        "screen=no-boot-device", "setup-entry=reached", platform="pc", installed_os="windows-11", disk_layout="gpt"
    )
    server.append(
        number,
        {"move": "boot-mode", "found": "legacy", "weights": {"fits": 0.03, "conflicts": 0.97}},
        {"changed": "set-mode", "before": "legacy", "after": "uefi"},
        {"move": "set-mode", "outcome": "boots"},
        {"changed": "set-secure-boot", "before": "off", "after": "on"},
        {"signed": "repair", "fix": "set-mode"},
    )
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    expect(page.get_by_role("region", name="Next step")).to_be_visible()
    press(page, "h")
    sheet = page.get_by_role("dialog")
    expect(sheet.get_by_role("region", name="Settings: found and left")).to_contain_text("legacy → UEFI")
    expect(sheet).to_contain_text("test change is open")


def test_a_machine_without_a_text_setup_offers_its_own_ways(server: Any, window: Window) -> None:
    number = server.take_in("screen=missing-disk-symbol", platform="mac", installed_os="macos")
    page = window()
    open_settings(page, server, number)
    expect(page.get_by_role("heading", level=1, name="has no setup screen")).to_be_visible()
    expect(page.get_by_role("radio")).to_have_count(0)
    press(page, "ArrowDown", "ArrowDown", "Enter")
    expect(page.get_by_role("region", name="Next step").get_by_role("heading", level=1)).to_have_text(
        "Start the recovery system"
    )
    expect(page.get_by_role("region", name="Keys for: recovery")).to_contain_text("Cmd+R")


def test_a_key_that_worked_is_learned_for_the_model(server: Any, window: Window) -> None:
    number = server.take_in("screen=no-boot-device", platform="pc")
    page = window()
    page.goto(f"{server.url}/ticket/{number}?move=setup-entry")
    strip = page.get_by_role("region", name="Keys for: firmware setup")
    expect(strip).to_contain_text("generally used")
    first = strip.locator("kbd").nth(0).inner_text()
    press(page, "-")
    expect(strip.locator("kbd").nth(0)).not_to_have_text(first)
    press(page, "+")
    page.keyboard.type("F7")
    press(page, "Enter")
    expect(page.get_by_role("region", name="Log")).to_contain_text("F7 opens firmware setup")
    expect(page.get_by_role("region", name="Log")).to_contain_text("Setup is open")
    assert [b.get("tried_key") or b.get("move") for b in bodies(server, number)[1:]] == [first, "F7", "setup-entry"]
    press(page, "b")
    expect(page.get_by_role("region", name="Needs you")).to_be_visible()
    press(page, "g")
    book = page.get_by_role("dialog")
    expect(book.get_by_role("combobox")).to_be_focused()
    page.keyboard.type("Ferrow Lathe-14")
    expect(book.get_by_role("region", name="Firmware setup")).to_contain_text("1 of 1 times on this model")
    expect(book.get_by_role("region", name="Firmware setup").locator("kbd").first).to_have_text("F7")


def drop(page: Page, name: str, content: bytes) -> None:
    """Drop a file anywhere on the page, as from a file manager."""
    page.evaluate(
        """([name, bytes]) => {
            const transfer = new DataTransfer()
            transfer.items.add(new File([new Uint8Array(bytes)], name))
            const zone = document.querySelector('[data-drop-zone]')
            for (const kind of ['dragover', 'drop'])
                zone.dispatchEvent(new DragEvent(kind, { bubbles: true, cancelable: true, dataTransfer: transfer }))
        }""",
        [name, list(content)],
    )


@pytest.mark.parametrize("path", ["", "/settings", "/sightings", "/pages"])
def test_every_screen_of_a_ticket_takes_a_file(server: Any, window: Window, path: str) -> None:
    number = server.take_in("screen=no-boot-device", platform="pc", installed_os="windows-11", drive_kind="nvme")
    page = window()
    page.goto(f"{server.url}/ticket/{number}{path}")
    expect(page.get_by_role("main")).to_be_visible()
    drop(page, "holiday.txt", b"neither a page nor a capture")
    expect(page.get_by_text("holiday.txt").first).to_be_visible()
    drop(page, "laptop.gcap", capture_of("stale-entry"))
    page.wait_for_function(
        "async (at) => (await (await fetch(at)).json()).files.length === 1", arg=f"/api/tickets/{number}"
    )
    assert page.url == f"{server.url}/ticket/{number}{path}"


def test_a_capture_fills_the_live_column_and_the_sheet(server: Any, window: Window) -> None:
    number = server.take_in("screen=no-boot-device", platform="pc", installed_os="windows-11", drive_kind="nvme")
    page = window()
    page.goto(f"{server.url}/ticket/{number}/sightings")
    expect(page.locator("[data-cell='drive-live']")).to_have_attribute("data-value", "")
    drop(page, "laptop.gcap", capture_of("stale-entry"))
    expect(page.locator("[data-cell='drive-live']")).to_have_attribute("data-value", "right")
    expect(page.locator("[data-cell='stick-live']")).to_have_attribute("data-value", "right")
    press(page, "ArrowRight", "ArrowRight", "ArrowRight")
    expect(page.get_by_text("serial QF9-310500")).to_be_visible()
    press(page, "t")
    state(page, "secure-boot", "fits")
    expect(row(page, "secure-boot")).to_contain_text("from a file")
    expect(page.get_by_role("list", name="Boot entries")).to_contain_text("its disk is gone")


@pytest.mark.parametrize("path", ["settings", "sightings"])
def test_entries_wait_while_the_server_is_away(server: Any, window: Window, path: str) -> None:
    number = server.take_in("screen=no-boot-device", platform="pc", installed_os="windows-11", disk_layout="gpt")
    page = window()
    page.goto(f"{server.url}/ticket/{number}/{path}")
    expect(page.locator("[data-row='clock'], [data-cell='drive-setup']").first).to_be_visible()
    server.stop()
    press(page, "1")
    expect(page.get_by_text("Waiting for the server")).to_be_visible()
    server.start()
    expect(page.get_by_text("Waiting for the server")).to_have_count(0)
    assert bodies(server, number)[-1]["found"] == "right"
