"""How a page is looked over: at which sizes, which views, and everything that can be wrong with one as it stands."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from playwright.sync_api import Page, ViewportSize, expect

from gatecheck.adapters.shipped_tables import shipped_model
from serving import Served

WEB = Path(__file__).parents[1] / "web"
AXE = (WEB / "node_modules" / "axe-core" / "axe.min.js").read_text(encoding="utf-8")
RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]
SIZES = {
    "phone": (390, 844),
    "tablet upright": (820, 1180),
    "tablet": (1024, 768),
    "screen": (1280, 800),
    "large screen": (1920, 1080),
}
VIEWS = {
    "bench": ("/", []),
    "ticket": ("/ticket/2", []),
    "a screen in hand": ("/ticket/3?move=screen", []),
    "settings": ("/ticket/10/settings", []),
    "trial": ("/ticket/12/settings", []),
    "ways": ("/ticket/11/settings", []),
    "sightings": ("/ticket/13/sightings", []),
    "pages": ("/ticket/3/pages", []),
    "compare options": ("/ticket/5/call", []),
    "odds": ("/odds", []),
    "a step in hand": ("/ticket/14", []),
    "installing": ("/ticket/15", []),
    "in proof": ("/ticket/16", []),
    "parts": ("/ticket/14/parts", []),
    "shelf": ("/shelf", []),
    "papers": ("/ticket/17/papers", []),
    "the shop's page": ("/shop", []),
}
SHEETS = {
    "intake": ("/", ["+"]),
    "find": ("/", ["/"]),
    "keys": ("/", ["g"]),
    "practice": ("/", ["e"]),
    "help": ("/", ["?"]),
    "moves": ("/ticket/2", ["e"]),
    "facts": ("/ticket/2", ["i"]),
    "why": ("/ticket/2", ["u"]),
    "link": ("/ticket/3", ["c"]),
    "handover": ("/ticket/9", ["h"]),
    "help on a ticket": ("/ticket/2", ["?"]),
    "off the machine": ("/ticket/14", ["+"]),
    "other steps": ("/ticket/14", ["e"]),
    "skipped": ("/ticket/14", ["0"]),
    "signing": ("/ticket/1", ["s"]),
    "returned as it is": ("/ticket/5/call", ["e"]),
    "told with it": ("/ticket/16", ["2"]),
    "note": ("/ticket/16", ["m"]),
}


MOVE = """path => {
    delete document.documentElement.dataset.theme
    history.pushState(null, '', path)
}"""


def opened(page: Page, url: str) -> None:
    """The front end in a browser; from here on it is led from view to view (`shown`), for it is one page that never loads
    again."""
    page.goto(url)
    page.get_by_role("heading", level=1).first.wait_for()
    settled(page)


def shown(page: Page, path: str, keys: list[str]) -> None:
    for _ in range(2):  # a sheet may lie on a sheet
        if page.get_by_role("dialog").count():
            page.keyboard.press("Escape")
            page.get_by_role("dialog").last.wait_for(state="detached")
    page.evaluate(MOVE, path)
    page.get_by_role("heading", level=1).first.wait_for()
    settled(page)
    for key in keys:
        page.keyboard.press(key)
        page.get_by_role("dialog").wait_for()
        settled(page)


def settled(page: Page) -> None:
    """Nothing is being fetched, and two frames were drawn since."""
    expect(page.locator("[data-loading]")).to_have_count(0)
    page.evaluate("new Promise(done => requestAnimationFrame(() => requestAnimationFrame(done)))")
    expect(page.locator("[data-loading]")).to_have_count(0)


def violations(page: Page, run_only: list[str]) -> list[str]:
    kind = "tag" if run_only is RULES else "rule"
    found: Any = page.evaluate(
        "([type, values]) => axe.run(document, { runOnly: { type, values }, resultTypes: ['violations'] })",
        [kind, run_only],
    )
    return [f"{v['id']}: {node['html'][:160]}" for v in found["violations"] for node in v["nodes"][:3]]


def looked_over(page: Page, *, axe: bool, touch: bool) -> list[str]:
    """Everything that can be wrong with a page as it stands: runs off, lies over itself, is too small to tap, breaks
    WCAG in light or dark."""
    wide = page.evaluate("document.documentElement.scrollWidth - document.documentElement.clientWidth")
    found = [f"runs off by {wide}"] if wide > 0 else []
    found += [f"overlap: {text}" for text in page.evaluate(OVERLAPS)]
    if touch:
        gates = tuple(g.name for g in shipped_model().knowledge.gates)  # these stand on a rail, over lines of their own
        found += [f"small: {text}" for text in page.evaluate(SMALL) if not text.endswith(gates)]
    if axe:
        found += violations(page, RULES)
        page.evaluate("document.documentElement.dataset.theme = 'dark'")
        found += [f"dark: {text}" for text in violations(page, ["color-contrast"])]
    return found


def wrong_views(demo: Served, screen: Callable[..., Page], sizes: Sequence[str], axe: str) -> dict[str, list[str]]:
    """WCAG 2.2 A and AA by axe-core at one of the sizes, light and dark; at all of them fingers on what is touched,
    nothing off the edge or over itself. A view is opened once and turned to the next size, as a tablet is."""
    touch = SIZES[sizes[0]][0] < 1100
    page, found = screen(SIZES[sizes[0]], touch=touch), {}
    opened(page, demo.url)
    page.evaluate(AXE)
    for name, (path, keys) in {**VIEWS, **SHEETS}.items():
        page.set_viewport_size(_sized(sizes[0]))
        shown(page, path, keys)
        for size in sorted(sizes, key=lambda s: s == axe):
            page.set_viewport_size(_sized(size))
            page.evaluate("new Promise(done => requestAnimationFrame(() => requestAnimationFrame(done)))")
            if looked_over(
                page, axe=False, touch=touch
            ):  # on a busy computer a page takes a moment to lie as it will; what is wrong stays wrong
                page.wait_for_timeout(1000)
            if wrong := looked_over(page, axe=size == axe, touch=touch):
                found[f"{name} on a {size}"] = wrong
    return found


def _sized(size: str) -> ViewportSize:
    width, height = SIZES[size]
    return {"width": width, "height": height}


# names of gates and buttons in one row that lie over each other
OVERLAPS = """() => {
    const boxes = [...document.querySelectorAll('nav[aria-label="Stages"] button, header button')].filter(e => e.offsetParent).map(e => {
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
