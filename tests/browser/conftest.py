"""A served front end and a headless Chromium."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from serving import Served

expect.set_options(timeout=30_000)  # a limit for what hangs, not for what is slow

ROOT = Path(__file__).parents[2]
CHROMIUM = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync",
]  # fmt: skip


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    for item in items:
        if "browser" in item.path.parts:
            item.add_marker(pytest.mark.browser)


@pytest.fixture
def server(tmp_path: Path) -> Iterator[Served]:
    assert (ROOT / "web" / "dist" / "index.html").exists(), "the front end is not built: run `make install`"
    running = Served(tmp_path)
    running.start()
    yield running
    running.stop()


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        opened = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
        yield opened
        opened.close()


@pytest.fixture(scope="session")
def flags() -> list[str]:
    """What Chromium is started with, for a test that needs one of its own."""
    return list(CHROMIUM)


@pytest.fixture
def window(browser: Browser) -> Iterator[Callable[[], Page]]:
    """Opens windows; a script error in any of them fails the test."""
    errors: list[str] = []
    contexts = []

    def open_window() -> Page:
        context = browser.new_context(viewport={"width": 1280, "height": 800})
        contexts.append(context)
        page = context.new_page()
        page.set_default_timeout(60_000)
        page.on("pageerror", lambda error: errors.append(str(error)))
        return page

    yield open_window
    for context in contexts:
        context.close()
    assert errors == []


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    running = Served(tmp_path_factory.mktemp("demo"), demo=True)
    running.start()
    yield running
    running.stop()


@pytest.fixture
def screen(browser: Browser) -> Iterator[Callable[..., Page]]:
    contexts = []

    def open_screen(size: tuple[int, int], *, theme: str = "light", touch: bool = False) -> Page:
        context = browser.new_context(
            viewport={"width": size[0], "height": size[1]}, has_touch=touch, is_mobile=touch, reduced_motion="reduce"
        )
        contexts.append(context)
        page = context.new_page()
        page.set_default_timeout(60_000)
        page.add_init_script(f"localStorage.setItem('gatecheck-theme', '{theme}')")
        return page

    yield open_screen
    for context in contexts:
        context.close()
