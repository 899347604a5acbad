"""Takes the screenshots in docs/screenshots from the demo data; run by `make shots`."""

from __future__ import annotations

import socket
import subprocess
import sys
import time
from pathlib import Path

import httpx2 as httpx
from playwright.sync_api import Browser, sync_playwright

SCRIPT = Path(sys.executable).with_name("gatecheck")
FOLDER = Path(__file__).parent / "screenshots"
CHROMIUM = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]

# name, path, theme, size, keys pressed. One of each main view: more views are to come, and all stay under twenty.
DESK, TABLET, PHONE = (1280, 800), (820, 1180), (390, 844)
SHOTS: list[tuple[str, str, str, tuple[int, int], list[str]]] = [
    ("bench", "/", "light", DESK, []),
    ("ticket", "/ticket/1", "dark", DESK, []),
    ("call-sheet", "/ticket/5/call", "light", DESK, []),
    ("pages", "/ticket/3/pages", "light", DESK, []),
    ("surface", "/ticket/3/surface", "light", DESK, ["u", "ArrowRight", "ArrowRight", "+", "+"]),
    ("path", "/ticket/13/path", "light", DESK, ["r", "later"]),
    ("volume", "/ticket/19/volume", "light", DESK, ["z", "later", "later"]),
    ("ear", "/ticket/2/ear", "light", DESK, ["ArrowRight", "ArrowRight"]),
    ("settings", "/ticket/10/settings", "light", DESK, []),
    ("sightings", "/ticket/13/sightings", "dark", DESK, []),
    ("odds", "/odds", "light", DESK, []),
    ("job", "/ticket/14", "light", DESK, []),
    ("parts", "/ticket/14/parts", "light", DESK, []),
    ("proof", "/ticket/16", "dark", DESK, []),
    ("papers", "/ticket/17/papers", "light", DESK, []),
    ("shop", "/shop", "light", DESK, []),
    ("tablet", "/ticket/3", "light", TABLET, []),
    ("phone", "/ticket/2", "light", PHONE, []),
]


def take(browser: Browser, url: str, name: str, path: str, theme: str, size: tuple[int, int], keys: list[str]) -> None:
    """One picture; a phone or tablet is touched."""
    touch = size != DESK
    context = browser.new_context(
        viewport={"width": size[0], "height": size[1]}, has_touch=touch, is_mobile=touch, reduced_motion="reduce"
    )
    page = context.new_page()
    page.add_init_script(
        f"localStorage.setItem('gatecheck-theme', '{theme}'); localStorage.setItem('gatecheck-initials', 'KT')"
    )
    page.goto(url + path)
    page.get_by_role("heading", level=1).first.wait_for()
    page.wait_for_timeout(300)
    for key in keys:
        if key == "later":  # what was asked for has come
            page.wait_for_timeout(6000)
            continue
        page.keyboard.press(key)
        page.wait_for_timeout(300)
    page.screenshot(path=FOLDER / f"{name}.png")
    context.close()
    print(f"docs/screenshots/{name}.png")


def _wait_for_links(url: str) -> None:
    """The demo's linked machines have been read."""
    linked = [row["id"] for row in httpx.get(f"{url}/api/bench", timeout=10).json()["rows"]]
    for _ in range(200):
        orders = [httpx.get(f"{url}/api/tickets/{ticket}/link", timeout=10).json()["orders"] for ticket in linked]
        if sum(bool(o) for o in orders) >= 2 and all(o["state"] != "waiting" for own in orders for o in own):
            return
        time.sleep(0.3)
    raise RuntimeError("the demo's linked machines were not read in time")


def main() -> None:
    FOLDER.mkdir(parents=True, exist_ok=True)
    for old in FOLDER.glob("*.png"):
        if old.stem not in {name for name, *_ in SHOTS} and not old.stem.startswith(
            "stick"
        ):  # those are taken in the emulator (tests/lab)
            old.unlink()
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    url = f"http://127.0.0.1:{port}"
    server = subprocess.Popen([SCRIPT, "demo", "--port", str(port)], stdout=subprocess.DEVNULL)
    try:
        for _ in range(200):
            try:
                httpx.get(f"{url}/api/bench", timeout=2)
                break
            except httpx.TransportError:
                time.sleep(0.05)
        _wait_for_links(url)
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
            for shot in SHOTS:
                take(browser, url, *shot)
            browser.close()
    finally:
        server.terminate()
        server.wait()


if __name__ == "__main__":
    main()
