"""From a proven ticket to printed papers, by keyboard and by touch; notes and pictures; the shop's page; a customer
erased."""

from __future__ import annotations

import io
from collections.abc import Callable
from typing import Any

from PIL import Image
from playwright.sync_api import Browser, Page, expect
from pypdf import PdfReader

Window = Callable[..., Page]


def picture() -> bytes:
    out = io.BytesIO()
    Image.new("RGB", (640, 480), "firebrick").save(out, "PNG")
    return out.getvalue()


def proven(server: Any) -> int:
    number = int(
        server.take_in(
            "story=routine",
            "screen=wrong-boot-device",
            "pull-externals=boots",
            platform="pc",
            form="desktop",
            data="none",
        )
    )
    server.append(number, {"signed": "release", "fix": None})
    for step, answer in (("cold-1", "starts"), ("cold-2", "starts")):
        server.call("POST", f"/api/tickets/{number}/steps/{step}", json={"answer": answer, "by": "KT"})
    return number


def printed(page: Page) -> str:
    """What the printer would get of the page as it stands; a page that is still being laid out prints as nothing."""
    page.evaluate("document.fonts.ready.then(() => true)")
    for _ in range(50):
        pdf = PdfReader(io.BytesIO(page.pdf(format="A4")))
        if text := " ".join(" ".join(p.extract_text() for p in pdf.pages).split()):
            return text
    raise AssertionError("it prints as nothing")


def test_from_a_proven_ticket_to_printed_papers_by_keyboard(server: Any, window: Window) -> None:
    server.call(
        "PUT",
        "/api/shop",
        json={
            "page": {
                "name": "Gullhaven Repair Loft",
                "address": ["3 Stairs"],
                "currency": "XXX",
                "opening": "Thank you for the stairs.",
            },
            "by": "KT",
        },
    )
    number = proven(server)
    page = window(fresh=True)
    page.add_init_script("window.print = () => { window.__printed = (window.__printed || 0) + 1 }")
    page.goto(f"{server.url}/ticket/{number}")
    expect(page.get_by_role("heading", name="All tasks done")).to_be_visible()
    page.keyboard.press("m")
    page.keyboard.type("The stick goes back to them")
    page.keyboard.press("Enter")
    expect(page.get_by_role("dialog")).to_have_count(0)
    page.keyboard.press("q")
    expect(page.get_by_role("heading", name="What we found, and what we did")).to_be_visible()
    page.keyboard.press("Enter")
    page.wait_for_function("window.__printed === 1")
    text = printed(page)
    assert "Thank you for the stairs." in text
    assert "We have looked" not in text
    assert "Usual for this work" not in text, "only the paper is printed"
    page.keyboard.press("4")
    expect(page.get_by_role("heading", name="Invoice")).to_be_visible()
    page.keyboard.press("e")
    page.keyboard.type("90")
    page.keyboard.press("Enter")
    expect(page.get_by_role("main")).to_contain_text("Total due¤90.00")
    assert "Total due ¤90.00" in printed(page)
    page.keyboard.press("2")
    expect(page.get_by_role("heading", name="Technical sheet")).to_be_visible()
    assert "The stick goes back to them" in printed(page)
    page.keyboard.press("e")
    page.keyboard.type("7")
    page.keyboard.press("Escape")  # out of the field, and nothing is corrected
    assert [s["body"]["spent"] for s in server.ticket(number)["tape"] if "spent" in s["body"]] == [90]
    page.keyboard.press("3")
    expect(page.get_by_role("img", name="GC-0001").first).to_be_visible()
    page.keyboard.press("Escape")
    expect(page).to_have_url(f"{server.url}/ticket/{number}")


def test_a_picture_is_taken_shown_and_stands_on_the_customers_page_by_touch(server: Any, browser: Browser) -> None:
    number = proven(server)
    context = browser.new_context(viewport={"width": 820, "height": 1180}, has_touch=True)
    page = context.new_page()
    page.goto(f"{server.url}/ticket/{number}")
    page.get_by_role("button", name="note or picture").tap()
    page.get_by_label("Take or choose a picture").set_input_files(
        {"name": "IMG_1.png", "mimeType": "image/png", "buffer": picture()}
    )
    page.get_by_label("What it shows").fill("The stick that caught the boot")
    page.get_by_label("Show it in the repair report").tap()
    page.get_by_role("button", name="Save the picture").tap()
    expect(page.get_by_role("dialog")).to_have_count(0)
    page.get_by_role("region", name="Next step").get_by_role("button", name="Documents").tap()
    expect(page.get_by_role("img", name="The stick that caught the boot")).to_be_visible()
    assert page.evaluate("document.querySelector('[data-print] img').naturalWidth") == 640
    page.get_by_role("tab", name="Invoice").tap()
    expect(page.get_by_role("heading", name="Invoice")).to_be_visible()
    context.close()


def test_a_picture_can_be_dropped_or_pasted_and_one_that_is_none_is_said(server: Any, window: Window) -> None:
    number = int(server.take_in("screen=dead"))
    page = window()
    page.goto(f"{server.url}/ticket/{number}")
    expect(page.get_by_role("region", name="Next step")).to_be_visible()
    put = """([name, type, bytes, how]) => {
        const transfer = new DataTransfer()
        transfer.items.add(new File([new Uint8Array(bytes)], name, { type }))
        if (how === 'drop') document.querySelector('[data-drop-zone]').dispatchEvent(new DragEvent('drop', { bubbles: true, cancelable: true, dataTransfer: transfer }))
        else window.dispatchEvent(new ClipboardEvent('paste', { clipboardData: transfer }))
    }"""
    page.evaluate(put, ["shot.png", "image/png", list(picture()), "drop"])
    expect(page.get_by_role("region", name="Log").get_by_role("img")).to_have_count(1)
    page.evaluate(put, ["shot.png", "image/png", list(picture()), "paste"])
    expect(page.get_by_role("region", name="Log").get_by_role("img")).to_have_count(2)
    page.evaluate(put, ["photo.jpg", "image/jpeg", list(b"no picture"), "drop"])
    expect(page.get_by_role("alert")).to_contain_text("expected a picture")
    assert len(server.ticket(number)["tape"]) == 3


def test_the_shops_page_is_kept_with_a_preview_and_says_what_is_wrong(server: Any, window: Window) -> None:
    page = window()
    page.goto(server.url)
    expect(page.get_by_text("The bench is empty")).to_be_visible()
    page.keyboard.press("t")
    expect(page.get_by_role("heading", name="Shop settings")).to_be_visible()
    page.get_by_label("Name", exact=True).fill("Quay Clinic")
    page.get_by_label("Address, a line each").fill("1 Quay\nHarbour")
    expect(page.get_by_role("region", name="Letterhead preview")).to_contain_text("Quay Clinic")
    page.get_by_label("Tax, %").fill("99")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("alert")).to_contain_text("shop.tax: expected a number from 0 to 60, got 99")
    page.get_by_label("Tax, %").fill("8")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("alert")).to_have_count(0)
    page.keyboard.press("Escape")
    page.goto(server.url)
    expect(page.get_by_text("Quay Clinic")).to_be_visible()


def test_a_customer_is_erased_after_a_second_word(server: Any, window: Window) -> None:
    number = proven(server)
    server.call("POST", f"/api/tickets/{number}/handover", json={"proven": [], "by": "KT", "waive": "x"})
    page = window()
    page.goto(f"{server.url}/ticket/{number}/papers")
    page.get_by_role("button", name="Delete customer data").click()
    expect(page.get_by_role("status").filter(has_text="This cannot be undone")).to_be_visible()
    page.get_by_role("button", name="Yes, delete for good").click()
    expect(page.get_by_text("Customer data was deleted on")).to_be_visible()
    assert server.ticket(number)["customer"] == "—"
