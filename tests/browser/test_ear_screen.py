"""Ear at the screen: recorded from a microphone that is fed from a file, seen by its rhythm, played, timed; by key and
by touch; without a microphone a file is taken."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect

from gatecheck.practice.sounds import Scene, sound
from gatecheck.server.ear.service import wav_bytes
from serving import HTTP

SLOW = 40_000
RATE = 48_000


def take_in(server: Any) -> int:
    body = {
        "customer": "Choir",
        "machine": "Ferrow Lathe-14",
        "by": "KT",
        "facts": {"drive_kind": "hdd", "data": "irreplaceable"},
    }
    return int(HTTP.post(f"{server.url}/api/tickets", json=body, headers={"X-Gate-Check": "1"}).json()["id"])


def made(kind: str, rate: int = 16_000) -> bytes:
    return wav_bytes(sound(Scene(kind, rate=rate, seconds=12, snr=22), 12), rate)


@pytest.fixture
def fed(browser: Browser, flags: list[str], tmp_path: Path) -> Iterator[Page]:
    """A browser whose microphone hears a ticking drive."""
    heard = tmp_path / "microphone.wav"
    heard.write_bytes(made("ticking", RATE))
    arguments = [
        *flags,
        "--use-fake-ui-for-media-stream",
        "--use-fake-device-for-media-stream",
        f"--use-file-for-fake-audio-capture={heard}",
    ]
    opened = browser.browser_type.launch(executable_path="/usr/bin/chromium", args=arguments)
    page = opened.new_context(viewport={"width": 1280, "height": 800}, permissions=["microphone"]).new_page()
    page.set_default_timeout(60_000)
    yield page
    opened.close()


def record(page: Page) -> None:
    """Record by key, from the quiet start to the result that the screen shows."""
    page.keyboard.press("r")
    expect(page.locator("[data-listening=ready]")).to_contain_text("Hold it to the drive", timeout=SLOW)
    expect(page.locator("[data-listening=runs]")).to_contain_text("Power on now", timeout=SLOW)
    expect(page.get_by_role("meter")).not_to_have_attribute("aria-valuenow", "0", timeout=SLOW)
    expect(page.locator("[data-listening]")).to_have_count(0, timeout=SLOW)
    expect(page.locator("[data-heard]").first).to_be_attached(timeout=SLOW)


def test_a_drive_is_recorded_by_key_and_ends_as_evidence_on_the_tape(server: Any, fed: Page) -> None:
    number = take_in(server)
    fed.goto(f"{server.url}/ticket/{number}")
    fed.get_by_role("heading", level=1).first.wait_for()
    fed.keyboard.press("n")
    fed.get_by_text("No recording yet").wait_for()
    record(fed)
    # a busy machine drops sound of the fake device: as a technician would, record it once more
    if fed.locator("[data-heard]").first.get_attribute("data-heard") != "ticking":
        record(fed)
    expect(fed.locator("[data-heard=ticking]")).to_contain_text("Regular ticks", timeout=SLOW)
    expect(fed.locator("[data-folded=beat]")).to_be_visible()
    fed.keyboard.press("ArrowRight")
    fed.keyboard.press("-")
    fed.keyboard.press("2")
    fed.get_by_role("button", name="count from “power on” in the recording").click()
    expect(fed.locator("[data-watch=runs]")).to_contain_text(re.compile("0:[12]"))  # since the recording said power on
    fed.keyboard.press("x")
    expect(fed.locator("[data-watch=idle]")).to_be_visible()
    fed.keyboard.press("Escape")
    expect(fed.get_by_role("region", name="Log")).to_contain_text("Heard in the recording", timeout=SLOW)


@pytest.mark.parametrize(
    ("size", "theme"), [pytest.param((820, 1180), "dark", marks=pytest.mark.wide), ((390, 844), "light")]
)
def test_a_file_is_taken_and_a_trace_drawn_by_touch(
    server: Any, screen: Callable[..., Page], size: tuple[int, int], theme: str, tmp_path: Path
) -> None:
    number = take_in(server)
    page = screen(size, theme=theme, touch=True)
    page.goto(f"{server.url}/ticket/{number}/ear")
    page.get_by_label("load a file").set_input_files(
        {"name": "clunks.wav", "mimeType": "audio/wav", "buffer": made("clunking")}
    )
    expect(page.locator("[data-heard=clunking]")).to_be_visible(timeout=SLOW)
    page.locator("[data-folded] svg").tap()
    page.get_by_label("load a file").set_input_files(
        {
            "name": "flat.csv",
            "mimeType": "text/csv",
            "buffer": b"t,a5\n" + b"".join(b"%.2f,0.001\n" % (n / 20) for n in range(200)),
        }
    )
    expect(page.locator("[data-heard=flat]")).to_contain_text("No current", timeout=SLOW)
    expect(page.locator("[data-trace]")).to_be_visible()
    page.get_by_label("load a file").set_input_files(
        {"name": "photo.jpg", "mimeType": "image/jpeg", "buffer": b"\xff\xd8\xff"}
    )
    expect(page.get_by_text("expected a sound file this browser can open")).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")


def test_the_watch_goes_on_over_a_reload_and_its_time_lands_on_the_tape(
    server: Any, window: Callable[[], Page]
) -> None:
    number = take_in(server)
    page = window()
    page.goto(f"{server.url}/ticket/{number}/ear")
    page.get_by_role("region", name="Ready time").wait_for()
    page.keyboard.press("Enter")
    expect(page.locator("[data-watch=runs]")).to_be_visible()
    page.reload()
    expect(page.locator("[data-watch=runs]")).to_be_visible()
    page.evaluate("id => sessionStorage.setItem('gatecheck-ready-' + id, String(Date.now() - 220000))", number)
    page.reload()
    expect(page.get_by_role("alert")).to_contain_text("then switch it off")
    page.keyboard.press("Enter")
    expect(page.locator("[data-watch=idle]")).to_be_visible()
    entry = server.tape_until(number, lambda tape: tape and tape[-1])
    assert (entry["body"]["move"], entry["body"]["outcome"]) == ("ready-time", "slow")


def test_the_watch_counts_from_the_links_first_answer_and_can_be_dropped(
    server: Any, window: Callable[[], Page]
) -> None:
    number = take_in(server)
    HTTP.post(
        f"{server.url}/api/tickets/{number}/entries",
        json={"entry": {"move": "live-start", "outcome": "runs"}, "by": "KT"},
        headers={"X-Gate-Check": "1"},
    )
    page = window()
    page.goto(f"{server.url}/ticket/{number}/ear")
    expect(page.get_by_role("button", name="count from the first contact")).to_be_visible(timeout=SLOW)
    page.wait_for_timeout(1200)
    page.get_by_role("button", name="count from the first contact").click()
    expect(page.locator("[data-watch=runs]")).to_contain_text(re.compile("0:0[1-9]"))
    page.keyboard.press("x")
    expect(page.locator("[data-watch=idle]")).to_be_visible()
    assert not [
        e
        for e in HTTP.get(f"{server.url}/api/tickets/{number}").json()["tape"]
        if e["body"].get("move") == "ready-time"
    ]


def test_what_was_heard_is_overruled_with_a_reason_and_played_from_the_tape(
    server: Any, window: Callable[[], Page]
) -> None:
    number = take_in(server)
    page = window()
    page.goto(f"{server.url}/ticket/{number}/ear")
    page.get_by_label("load a file").set_input_files(
        {"name": "ticks.wav", "mimeType": "audio/wav", "buffer": made("ticking")}
    )
    expect(page.locator("[data-heard=ticking]")).to_be_visible(timeout=SLOW)
    expect(page.get_by_role("button", name="correct it")).to_be_visible(timeout=SLOW)
    page.keyboard.press("w")
    sheet = page.get_by_role("dialog")
    expect(sheet).to_contain_text("replaced by your answer")
    page.keyboard.press("1")
    sheet.get_by_label("Why is it not").fill("it was the clock on the wall")
    page.keyboard.press("Enter")
    expect(sheet).to_have_count(0)
    entries = server.tape_until(
        number, lambda tape: len(own := [e for e in tape if e["body"].get("move") == "sound"]) > 1 and own
    )
    assert [(e["stands"], "weights" in e["body"]) for e in entries] == [(False, True), (True, False)]
    assert entries[1]["body"]["note"] == "it was the clock on the wall"
    assert entries[1]["body"]["outcome"] != "ticking"
    expect(page.get_by_role("button", name="correct it")).to_have_count(0)  # nothing of it is left to overrule
    page.keyboard.press("Escape")
    tape = page.get_by_role("region", name="Log")
    expect(tape).to_contain_text("it was the clock on the wall")
    with page.expect_request(re.compile("/recordings/[0-9a-f]{64}$")):
        tape.get_by_role("button", name="play: ticks.wav").click()
