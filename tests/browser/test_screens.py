"""Any screen, any hand: every main view at every size, light and dark, by touch and by keyboard; axe-core finds nothing."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect

from gatecheck.library import shipped_model
from serving import Served

WEB = Path(__file__).parents[2] / "web"
AXE = (WEB / "node_modules" / "axe-core" / "axe.min.js").read_text(encoding="utf-8")
RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]
SIZES = {"phone": (390, 844), "tablet upright": (820, 1180), "tablet": (1024, 768), "screen": (1280, 800), "large screen": (1920, 1080)}
VIEWS = {
    "bench": ("/", []), "ticket": ("/ticket/2", []), "a screen in hand": ("/ticket/3?move=screen", []), "settings": ("/ticket/10/settings", []),
    "trial": ("/ticket/12/settings", []), "ways": ("/ticket/11/settings", []), "sightings": ("/ticket/13/sightings", []), "pages": ("/ticket/3/pages", []),
    "call sheet": ("/ticket/5/call", []), "odds": ("/odds", []),
}  # fmt: skip
SHEETS = {
    "intake": ("/", ["n"]), "find": ("/", ["/"]), "keys": ("/", ["k"]), "practice": ("/", ["p"]), "help": ("/", ["?"]), "moves": ("/ticket/2", ["e"]),
    "facts": ("/ticket/2", ["f"]), "why": ("/ticket/2", ["w"]), "link": ("/ticket/3", ["y"]), "handover": ("/ticket/9", ["h"]), "help on a ticket": ("/ticket/2", ["?"]),
}  # fmt: skip


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
        context = browser.new_context(viewport={"width": size[0], "height": size[1]}, has_touch=touch, is_mobile=touch, reduced_motion="reduce")
        contexts.append(context)
        page = context.new_page()
        page.set_default_timeout(8000)
        page.add_init_script(f"localStorage.setItem('gatecheck-theme', '{theme}')")
        return page

    yield open_screen
    for context in contexts:
        context.close()


def shown(page: Page, url: str, keys: list[str]) -> None:
    page.goto(url)
    page.get_by_role("heading", level=1).first.wait_for()
    page.wait_for_timeout(120)
    for key in keys:
        page.keyboard.press(key)
        page.get_by_role("dialog").wait_for()
        page.wait_for_timeout(80)


def violations(page: Page, run_only: list[str]) -> list[str]:
    kind = "tag" if run_only is RULES else "rule"
    found: Any = page.evaluate("([type, values]) => axe.run(document, { runOnly: { type, values }, resultTypes: ['violations'] })", [kind, run_only])
    return [f"{v['id']}: {node['html'][:160]}" for v in found["violations"] for node in v["nodes"][:3]]


def looked_over(page: Page, *, axe: bool, touch: bool) -> list[str]:
    """Everything that can be wrong with a page as it stands: runs off, lies over itself, is too small to tap, breaks WCAG in light or dark."""
    wide = page.evaluate("document.documentElement.scrollWidth - document.documentElement.clientWidth")
    found = [f"runs off by {wide}"] if wide > 0 else []
    found += [f"overlap: {text}" for text in page.evaluate(OVERLAPS)]
    if touch:
        gates = tuple(g.name for g in shipped_model().knowledge.gates)  # these stand on a rail, over lines of their own
        found += [f"small: {text}" for text in page.evaluate(SMALL) if not text.endswith(gates)]
    if axe:
        page.evaluate(AXE)
        found += violations(page, RULES)
        page.evaluate("document.documentElement.dataset.theme = 'dark'")
        found += [f"dark: {text}" for text in violations(page, ["color-contrast"])]
    return found


@pytest.mark.parametrize("size", SIZES)
def test_every_view_at_every_size(demo: Served, screen: Callable[..., Page], size: str) -> None:
    """WCAG 2.2 A and AA by axe-core at two widths, light and dark; fingers on what is touched; nothing off the edge or over itself."""
    touch = SIZES[size][0] < 1100
    page, found = screen(SIZES[size], touch=touch), {}
    for name, (path, keys) in {**VIEWS, **SHEETS}.items():
        shown(page, demo.url + path, keys)
        if wrong := looked_over(page, axe=size in ("phone", "screen"), touch=touch):
            found[name] = wrong
    assert found == {}


# names of gates and buttons in one row that lie over each other
OVERLAPS = """() => {
    const boxes = [...document.querySelectorAll('nav[aria-label="Gates"] button, header button')].filter(e => e.offsetParent).map(e => {
        const range = document.createRange(); range.selectNodeContents(e); return [e.textContent, range.getBoundingClientRect()] })
    const found = []
    boxes.forEach(([a, r], i) => boxes.slice(i + 1).forEach(([b, s]) => {
        if (r.width && s.width && r.left < s.right - 1 && s.left < r.right - 1 && r.top < s.bottom - 1 && s.top < r.bottom - 1) found.push(`${a} | ${b}`) }))
    return found
}"""
SMALL = """() => [...document.querySelectorAll('button, [role=option], summary, a[href]')].filter(e => {
        const r = e.getBoundingClientRect()
        return r.width && r.height && getComputedStyle(e).visibility !== 'hidden' && e.offsetParent && r.height < 43.5
    }).map(e => `${Math.round(e.getBoundingClientRect().height)} ${e.textContent.slice(0, 40)}`)"""


def test_all_outcomes_of_every_move_are_seen_at_once(demo: Served, screen: Callable[..., Page]) -> None:
    """At 1280x800, with a prompt above them, up to the fifteen of the screen."""
    page = screen(SIZES["screen"])
    knowledge = shipped_model().knowledge
    shown(page, f"{demo.url}/ticket/2", [])
    hidden = {}
    for move in [*knowledge.checks, *knowledge.fixes]:
        page.evaluate("move => { history.pushState(null, '', `/ticket/2?move=${move}`); dispatchEvent(new PopStateEvent('popstate')) }", move)
        expect(page.get_by_role("region", name="In hand").locator("[data-outcome]")).to_have_count(len(knowledge.move(move).outcomes))
        last = page.locator("[data-outcome]").last.bounding_box()
        strip = page.get_by_role("contentinfo", name="The call").bounding_box()
        assert last is not None
        assert strip is not None
        if last["y"] + last["height"] > strip["y"]:
            hidden[move] = round(last["y"] + last["height"] - strip["y"])
    assert hidden == {}


def test_on_a_phone_the_move_comes_first_and_the_rest_is_a_tap_away(demo: Served, screen: Callable[..., Page]) -> None:
    page = screen(SIZES["phone"], touch=True)
    shown(page, f"{demo.url}/ticket/1", [])
    expect(page.get_by_role("region", name="In hand").get_by_role("heading", level=1)).to_be_in_viewport()
    expect(page.locator("[data-outcome]").first).to_be_in_viewport(ratio=1)
    tabs = page.get_by_role("navigation", name="Parts of the ticket")
    for pane in ("Suspects", "Tape"):
        expect(page.get_by_role("region", name=pane)).not_to_be_in_viewport()
        tabs.get_by_role("button", name=pane).tap()
        expect(page.get_by_role("region", name=pane)).to_be_in_viewport()
    tabs.get_by_role("button", name="In hand").tap()
    expect(page.locator("[data-outcome]").first).to_be_in_viewport(ratio=1)


def test_what_a_key_does_can_be_tapped_from_the_help(demo: Served, screen: Callable[..., Page]) -> None:
    page = screen(SIZES["phone"], touch=True)
    shown(page, f"{demo.url}/ticket/1", [])
    page.get_by_role("button", name="help").tap()
    sheet = page.get_by_role("dialog", name="Help: a ticket")
    expect(sheet).to_contain_text("Shut: this is where it stops.")
    expect(sheet.get_by_role("region", name="Words on this page")).to_contain_text("Held back")
    sheet.get_by_role("button", name=re.compile("light or dark")).tap()
    expect(sheet).to_have_count(0)
    expect(page.locator("html")).to_have_attribute("data-theme", "dark")
    page.get_by_role("button", name="help").tap()
    page.get_by_role("dialog").get_by_role("button", name=re.compile("settings")).tap()
    expect(page).to_have_url(re.compile("/ticket/1/settings$"))


def test_an_empty_shop_leads_to_the_first_ticket_or_the_practice_bench(server: Served, screen: Callable[..., Page]) -> None:
    page = screen(SIZES["screen"])
    page.goto(server.url)
    page.get_by_role("button", name=re.compile("Practise on a simulated one")).click()
    expect(page.get_by_role("dialog", name="Practice bench")).to_be_visible()
    page.keyboard.press("Escape")
    page.get_by_role("button", name=re.compile("Take a machine in")).click()
    expect(page.get_by_role("dialog", name="Take a machine in")).to_be_visible()


def test_a_known_customer_is_taken_in_with_few_keys(server: Served, screen: Callable[..., Page]) -> None:
    """Every key is counted: twenty seconds are about thirty of them."""
    known = {"platform": "pc", "form": "laptop", "drive_kind": "nvme", "installed_os": "windows-11", "data": "backed-up"}
    server.take_in("screen=dead", **known)
    page, pressed = screen(SIZES["screen"]), 0

    def press(*keys: str) -> None:
        nonlocal pressed
        for key in keys:
            page.keyboard.press(key)
            pressed += 1

    page.goto(server.url)
    page.get_by_role("region", name="Hands wanted").wait_for()
    press("n", *"cho")
    expect(page.get_by_role("button", name=re.compile("Choir office"))).to_be_visible()
    press("Tab")
    expect(page.get_by_role("textbox", name="Machine")).to_have_value("Ferrow Lathe-14")
    press("Tab", "Tab", "2", "Tab", "4", "Tab", "3", "Enter")  # power cut, no bootable device, backed up
    expect(page.get_by_role("heading", name="Ferrow Lathe-14")).to_be_visible()
    taken = server.ticket(2)
    assert (taken["customer"], taken["machine"]) == ("Choir office", "Ferrow Lathe-14")
    assert {name: taken["facts"].get(name) for name in known} == known
    assert [e["body"]["outcome"] for e in taken["tape"]] == ["power-cut", "no-boot-device"]
    assert pressed <= 16


def test_a_reading_is_one_line_that_opens(demo: Served, screen: Callable[..., Page]) -> None:
    page = screen(SIZES["screen"])
    shown(page, f"{demo.url}/ticket/13", [])
    reading = page.locator("[data-reading]").first
    expect(reading).to_contain_text(re.compile(r"\d+ readings"))
    inside = reading.get_by_role("listitem")
    expect(inside.first).not_to_be_visible()
    reading.locator("summary").first.click()
    expect(inside.first).to_be_visible()
    assert inside.count() >= 4
