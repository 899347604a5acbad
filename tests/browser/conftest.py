"""A served front end and a headless Chromium."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, ViewportSize, expect, sync_playwright

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


class _Windows:
    """Windows of contexts of their own, used again and again: a new one costs a process and a second. What a server of
    one test left in it, another's does not see, for each has a port of its own."""

    def __init__(self, browser: Browser) -> None:
        self.browser, self.free = browser, list[Page]()
        self.errors: list[str] = []

    def take(self, *, used_again: bool) -> Page:
        if used_again and self.free:
            return self.free.pop()
        page = self.browser.new_context(viewport=_SIZE).new_page()
        page.set_default_timeout(60_000)
        page.on("pageerror", lambda error: self.errors.append(str(error)))
        return page

    def give_back(self, page: Page) -> None:
        """Nothing of a test stays: no page, route, cookie, or other size."""
        page.goto("about:blank")
        page.unroute_all(behavior="ignoreErrors")
        page.context.clear_cookies()
        page.set_viewport_size(_SIZE)
        self.free.append(page)


_SIZE: ViewportSize = {"width": 1280, "height": 800}


@pytest.fixture(scope="session")
def windows(browser: Browser) -> _Windows:
    return _Windows(browser)


@pytest.fixture
def window(windows: _Windows) -> Iterator[Callable[..., Page]]:
    """Opens windows; a script error in any of them fails the test. `fresh`: for a test that changes its window for
    good, with a script of its own in every page or the like."""
    windows.errors.clear()
    used: list[Page] = []
    fresh_ones: list[Page] = []

    def open_window(*, fresh: bool = False) -> Page:
        page = windows.take(used_again=not fresh)
        (fresh_ones if fresh else used).append(page)
        return page

    yield open_window
    for page in fresh_ones:
        page.context.close()
    for page in used:
        if page.is_closed():
            page.context.close()
        else:
            windows.give_back(page)
    assert windows.errors == []


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
