"""A tablet over the encrypted page: the certificate's steps on the bench, paired, and with a microphone."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from gatecheck.server.people.routes import own_address
from gatecheck.server.tls.authority import BenchTls
from serving import Served

SLOW = 40_000


def test_a_paired_tablet_has_a_secure_page_and_a_microphone(
    browser: Browser, flags: list[str], window: Callable[[], Page], tmp_path: Path
) -> None:
    if not own_address() or own_address().startswith("127."):
        pytest.skip("this machine has no address but its own")
    running = Served(tmp_path, host="0.0.0.0")
    running.start()
    # trust in this one key stands for the authority that a person installs on a tablet
    pin = BenchTls(tmp_path, "The bench", ("localhost",)).pin
    fake = ["--use-fake-ui-for-media-stream", "--use-fake-device-for-media-stream"]
    opened = browser.browser_type.launch_persistent_context(
        str(tmp_path / "profile"),
        executable_path="/usr/bin/chromium",
        args=[*flags, *fake, f"--ignore-certificate-errors-spki-list={pin}"],
        viewport={"width": 819, "height": 1180},
        has_touch=True,
        permissions=["microphone"],
    )
    try:
        number = running.take_in("screen=no-boot-device", drive_kind="hdd")
        here = window()
        here.goto(running.url)
        here.get_by_role("button", name="Ferrow Lathe-14").first.wait_for()
        here.keyboard.press("i")
        here.keyboard.press("+")
        sheet = here.get_by_role("dialog", name="Devices")
        steps = sheet.locator("[data-authority]")
        expect(steps).to_contain_text("/authority.crt")
        expect(steps).to_contain_text(BenchTls(tmp_path, "The bench", ("localhost",)).words)
        code = sheet.locator("p.font-mono").first.inner_text()
        tablet = opened.new_page()
        tablet.goto(f"http://{own_address()}:{running.port}/")
        tablet.get_by_role("link", name="Open the encrypted page").tap()
        expect(tablet.get_by_role("heading", name="Pair this device with the bench")).to_be_visible(timeout=SLOW)
        tablet.get_by_label("Code").fill(code)
        tablet.get_by_label("Your initials").fill("MB")
        tablet.keyboard.press("Enter")
        expect(tablet.get_by_role("button", name="Ferrow Lathe-14").first).to_be_visible(timeout=SLOW)
        assert tablet.evaluate("[isSecureContext, 'mediaDevices' in navigator, 'wakeLock' in navigator]") == [True] * 3
        tablet.goto(f"https://{own_address()}:{running.port}/ticket/{number}/ear")
        tablet.get_by_role("button", name="record with this device").tap(timeout=SLOW)
        expect(tablet.locator("[data-listening]").first).to_be_visible(timeout=SLOW)
        assert all(c.get("secure") for c in opened.cookies() if c.get("name") == "gatecheck")
    finally:
        opened.close()
        running.stop()
