"""Papers over HTTP: what stands on each, PDFs read back, pictures by their content, the shop's page, minutes."""

from __future__ import annotations

import io
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient
from PIL import Image
from pypdf import PdfReader

from gatecheck.core.work.spent import Moment, paces, spent
from gatecheck.server.app import create_app
from gatecheck.server.demo.fill import fill
from gatecheck.server.services import open_services
from serving import HERE, ME

FONTS = Path(__file__).parents[2] / "web" / "dist" / "fonts"
READY, DIRT_CHEAP = "Oar and Anchor, inn", "Barnacle cleaners"


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Iterator[TestClient]:
    house = open_services(tmp_path_factory.mktemp("demo"), prefix="GL", bays=6, fonts=FONTS)
    house.learning.bring_in_closed = lambda records, today: None  # type: ignore[method-assign]
    fill(house)
    with TestClient(create_app(house), base_url=HERE, client=ME) as opened:
        yield opened


def number_of(client: TestClient, customer: str) -> int:
    return int(client.get("/api/find", params={"text": customer}).json()[0]["id"])


def pdf_of(client: TestClient, number: int, kind: str, size: str = "") -> PdfReader:
    answer = client.get(f"/api/tickets/{number}/papers/{kind}/pdf{f'?size={size}' if size else ''}")
    assert answer.status_code == 200, answer.text
    assert answer.headers["content-type"] == "application/pdf"
    return PdfReader(io.BytesIO(answer.content))


def text_of(pdf: PdfReader) -> str:
    return " ".join(" ".join(page.extract_text() for page in pdf.pages).split())


def all_embedded(pdf: PdfReader) -> bool:
    fonts = [f.get_object() for page in pdf.pages for f in page["/Resources"]["/Font"].values()]  # type: ignore[index, union-attr]
    inner = [f["/DescendantFonts"][0].get_object()["/FontDescriptor"] for f in fonts]
    return bool(inner) and all("/FontFile2" in d for d in inner)


def test_the_customers_page_says_on_one_page_what_was_found_done_and_kept(demo: TestClient) -> None:
    pdf = pdf_of(demo, number_of(demo, READY), "customer")
    text = text_of(pdf)
    assert len(pdf.pages) == 1
    assert all_embedded(pdf)
    for wanted in (
        "Gullhaven Repair Loft",
        "3 Ropewalk Stairs",
        "Thank you for bringing it up the stairs",
        "A barrel rolled against it",
        "It showed: no bootable device.",
        "We listened to the drive: regular ticks.",
        "37 updates in 2 rounds",
        "we switched it off completely and started it twice",
        "9,214 files, 138 GB",
        "You have looked at your files",
        "QS5-118340",
        "QUARRY FLINT S500 · QF7-500198",
        "Keep two copies",
        "until 20",
        "the dent of the blow",
    ):
        assert wanted in text, wanted
    assert len(pdf.pages[0].images) == 1


def test_a_machine_that_goes_back_as_it_came_promises_nothing(demo: TestClient) -> None:
    text = text_of(pdf_of(demo, number_of(demo, DIRT_CHEAP), "customer"))
    assert "We repaired nothing, as you asked. You get it back as it was." in text
    assert "Warranty" not in text
    assert "What was replaced" not in text


@pytest.mark.parametrize(("size", "points"), [("a4", (595, 842)), ("letter", (612, 792))])
def test_both_papers(demo: TestClient, size: str, points: tuple[int, int]) -> None:
    box = pdf_of(demo, number_of(demo, READY), "bill", size).pages[0].mediabox
    assert (round(box.width), round(box.height)) == points


def test_a_paper_that_nobody_has_is_refused(demo: TestClient) -> None:
    number = number_of(demo, READY)
    for path, said in (
        ("papers/customer/pdf?size=a3", "one of a4, letter"),
        ("papers/poster", "one of customer, file, label, bill"),
    ):
        answer = demo.get(f"/api/tickets/{number}/{path}")
        assert answer.status_code in (400, 404)
        assert said in answer.json()["detail"]


def test_the_technical_sheet_holds_the_tape_the_odds_and_the_proof(demo: TestClient) -> None:
    number = number_of(demo, READY)
    pdf = pdf_of(demo, number, "file")
    text = text_of(pdf)
    assert all_embedded(pdf)
    for wanted in (
        "Probabilities when the verdict was signed off",
        "Heads or motor failing",
        "Listen to the drive: Regular ticks",
        "Confirm the drive: This drive (0198)",
        "All screws refitted passed",
        "Drive, GB 500",
    ):
        assert wanted in text, wanted
    shown = demo.get(f"/api/tickets/{number}/papers/file").json()
    assert len(shown["sections"][-2]["rows"]) > 40, "the print view is of the same"


def test_labels_carry_the_number_as_a_code(demo: TestClient) -> None:
    pdf = pdf_of(demo, number_of(demo, READY), "label")
    assert [page.extract_text().split("\n")[:2] for page in pdf.pages] == [
        ["GL-0017", "Machine"],
        ["GL-0017", "Screws and parts"],
        ["GL-0017", "Old drive"],
    ]
    assert all(len(page.images) == 1 for page in pdf.pages)


def test_the_bill_is_minutes_part_and_tax(demo: TestClient) -> None:
    number = number_of(demo, READY)
    demo.post(f"/api/tickets/{number}/entries", json={"entry": {"spent": 100}, "by": "KT"})
    demo.post(f"/api/tickets/{number}/entries", json={"entry": {"fact": {"lab_price": 40}}, "by": "KT"})
    rows = demo.get(f"/api/tickets/{number}/papers/bill").json()["sections"][0]["rows"]
    assert [amount for _, amount in rows] == ["¤90.00", "¤62.00", "¤40.00", "¤192.00", "¤15.36", "¤207.36"]
    assert rows[0][0] == "Labour, 100 min at ¤54.00 per hour"
    assert text_of(pdf_of(demo, number, "bill")).endswith("Total due ¤207.36")


NAMES = {
    "long": "Maximiliana " * 16,
    "rtl": "שלום עולם",
    "arabic": "مكتبة الميناء",
    "cjk": "港町の本屋",
    "polish": "Żółć Łódź",
    "greek": "Βιβλιοπωλείο",
    "thai": "ร้านหนังสือ",
    "unbroken": "W" * 200,
    "wordy": "x",
}


@pytest.mark.parametrize("name", NAMES)
def test_every_name_has_its_glyphs_and_one_page_stays_one(demo: TestClient, name: str) -> None:
    customer = NAMES[name][:200].strip()
    words = "A very long story. " * 200 if name == "wordy" else customer
    number = demo.post(
        "/api/tickets",
        json={
            "customer": customer,
            "machine": "Ferrow Lathe-14",
            "words": words[:4000],
            "by": "KT",
            "entries": [{"move": "screen", "outcome": "dead"}],
        },
    ).json()["id"]
    pdf = pdf_of(demo, number, "customer")
    assert len(pdf.pages) == 1
    assert all_embedded(pdf)
    faces = {str(f.get_object()["/BaseFont"]) for f in pdf.pages[0]["/Resources"]["/Font"].values()}  # type: ignore[index, union-attr]
    assert any("Atkinson" in f for f in faces)
    if name in ("polish", "long", "greek", "cjk"):
        assert customer.split()[0] in text_of(pdf)
    for kind in ("file", "label", "bill"):
        assert pdf_of(demo, number, kind).pages


# --- pictures --------------------------------------------------------------------------------------------------------


def image(width: int, height: int, kind: str = "JPEG", **more: Any) -> bytes:
    out = io.BytesIO()
    Image.new("RGB", (width, height), "teal").save(out, kind, **more)
    return out.getvalue()


def with_exif() -> bytes:
    exif = Image.Exif()
    exif[0x0112], exif[0x010F], exif[0x9286] = 6, "Maker of cameras", "secret place"
    return image(400, 200, exif=exif)


def add(client: TestClient, number: int, data: bytes, name: str = "shot.jpg", **more: Any) -> Any:
    return client.post(
        f"/api/tickets/{number}/pictures",
        files={"file": (name, data)},
        data={"by": "KT", **more},
        headers={"X-Gate-Check": "1"},
    )


def test_a_picture_is_made_small_upright_and_forgetful(demo: TestClient) -> None:
    number = number_of(demo, "Sail loft")
    body = add(demo, number, with_exif(), says="the label", evidence="true").json()["tape"][-1]["body"]
    assert (body["says"], body["evidence"]) == ("the label", True)
    kept = demo.get(f"/api/tickets/{number}/pictures/{body['picture']}").content
    shown = Image.open(io.BytesIO(kept))
    assert shown.size == (200, 400), "turned as the camera said"
    assert b"Maker of cameras" not in kept
    assert not shown.getexif()
    body = add(demo, number, image(5000, 2500)).json()["tape"][-1]["body"]
    assert Image.open(io.BytesIO(demo.get(f"/api/tickets/{number}/pictures/{body['picture']}").content)).size == (
        1600,
        800,
    )
    assert demo.get(f"/api/tickets/{number_of(demo, READY)}/pictures/{body['picture']}").status_code == 404, (
        "of this ticket alone"
    )


def bomb() -> bytes:
    import struct
    import zlib

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    return (
        b"\x89PNG\r\n\x1a\n"
        + chunk(b"IHDR", struct.pack(">IIBBBBB", 20_000, 20_000, 8, 2, 0, 0, 0))
        + chunk(b"IDAT", zlib.compress(b"\0" * 1000))
        + chunk(b"IEND", b"")
    )


@pytest.mark.parametrize(
    ("data", "said"),
    [
        pytest.param(b"not a picture at all", "expected a picture", id="text"),
        pytest.param(b"", "expected a picture", id="empty"),
        pytest.param(
            b"<svg xmlns='http://www.w3.org/2000/svg'><script>alert(1)</script></svg>", "expected a picture", id="svg"
        ),
        pytest.param(bomb(), "at most 60 million pixels", id="20,000 pixels"),
        pytest.param(image(300, 300)[:200], "expected a picture", id="cut off"),
        pytest.param(image(300, 300, "PNG")[:120], "expected a picture", id="half a png"),
    ],
)
def test_what_is_no_picture_is_told_by_its_content(demo: TestClient, data: bytes, said: str) -> None:
    number = number_of(demo, "Sail loft")
    before = len(demo.get(f"/api/tickets/{number}").json()["tape"])
    answer = add(demo, number, data, name="photo.jpg")
    assert answer.status_code == 422, answer.text
    assert said in answer.json()["detail"]
    assert len(demo.get(f"/api/tickets/{number}").json()["tape"]) == before


def test_an_entry_cannot_name_a_picture_that_was_never_handed_in(demo: TestClient) -> None:
    number = number_of(demo, "Sail loft")
    answer = demo.post(f"/api/tickets/{number}/entries", json={"entry": {"picture": "0" * 64}, "by": "KT"})
    assert answer.status_code == 422


# --- the shop's page -------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("said", "error"),
    [
        ({"paper": "a3"}, "shop.paper: expected one of a4, letter, got 'a3'"),
        ({"bays": 0}, "shop.bays: expected a whole number from 1 to 99"),
        ({"bays": 2.5}, "whole number"),
        ({"name": " "}, "shop.name: expected a text"),
        ({"tax": -1}, "shop.tax: expected a number from 0 to 60"),
        ({"bench_hour": "much"}, "shop.bench_hour: expected a number"),
        ({"address": ["x"] * 9}, "shop.address: expected at most 6 texts"),
        ({"prefix": "G-L"}, "shop.prefix: expected at most 6 letters or digits"),
        ({"colour": "red"}, "unknown line"),
        ({"bays": 3}, "for there is a machine in bay 6"),
    ],
)
def test_a_line_of_the_shops_page_that_cannot_be_used(demo: TestClient, said: dict[str, Any], error: str) -> None:
    before = demo.get("/api/shop").json()
    answer = demo.put("/api/shop", json={"page": said, "by": "KT"})
    assert answer.status_code in (400, 409)
    assert error in answer.json()["detail"]
    assert demo.get("/api/shop").json() == before


def test_the_shops_page_is_kept_and_used_at_once(tmp_path: Path) -> None:
    for _ in range(2):
        house = open_services(tmp_path)
        with TestClient(create_app(house), base_url=HERE, client=ME) as client:
            if _ == 0:
                client.put("/api/shop", json={"page": {"name": "Quay Clinic", "prefix": "qc", "bays": 4}, "by": "KT"})
            bench = client.get("/api/bench").json()
            assert (bench["shop"], bench["bays"]) == ("Quay Clinic", 4)
            made = client.post("/api/tickets", json={"customer": "A", "machine": "B", "by": "KT"}).json()
            assert made["number"].startswith("QC-")


# --- minutes ---------------------------------------------------------------------------------------------------------


def moments(*rows: tuple[int, str, float, float | None]) -> list[Moment]:
    return [Moment(ticket, place, by, at, expected) for place, (ticket, by, at, expected) in enumerate(rows)]


@pytest.mark.parametrize(
    ("rows", "took"),
    [
        pytest.param([(1, "KT", 0, 2.0), (1, "KT", 7, 5.0)], {1: 9.0}, id="from one entry to the next"),
        pytest.param(
            [(1, "KT", 0, 2.0), (2, "KT", 20, 5.0), (1, "KT", 40, 3.0)],
            {1: 5.0, 2: 5.0},
            id="another ticket in between",
        ),
        pytest.param([(1, "KT", 0, 2.0), (1, "MO", 1, 5.0)], {1: 7.0}, id="two technicians"),
        pytest.param([(1, "KT", 0, 2.0), (1, "KT", 300, 5.0)], {1: 7.0}, id="a pause"),
        pytest.param([(1, "KT", 0, None), (2, "KT", 1, 9.0)], {1: 3.0, 2: 1.0}, id="no longer than since the last one"),
        pytest.param([(1, "KT", 0, 0.0)], {1: 0.0}, id="what is no work"),
    ],
)
def test_minutes_are_those_a_technician_was_on_it(
    rows: list[tuple[int, str, float, float | None]], took: dict[int, float]
) -> None:
    assert {ticket: sum(places.values()) for ticket, places in spent(moments(*rows)).items()} == took


def test_what_work_really_takes_is_told_from_three_times_on() -> None:
    rows = moments(*[(1, "KT", at * 8.0, 4.0) for at in range(5)])
    found = paces(rows, {(1, place): "Reseat" for place in range(5)})
    assert [(p.what, p.expected, p.times) for p in found] == [("Reseat", 4.0, 5)]
    assert found[0].took == pytest.approx((4 + 4 * 8) / 5)
    assert paces(rows[:2], {(1, place): "Reseat" for place in range(5)}) == []
