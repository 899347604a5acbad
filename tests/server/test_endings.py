"""How a ticket ends, over HTTP: as it is, after a step that failed, fetched early, come back under warranty; and what
the invoice makes of it."""

from __future__ import annotations

import csv
import io
from decimal import Decimal

import pytest
from fastapi.testclient import TestClient
from test_work_api import SHELF, Bench, Json


@pytest.fixture
def bench(client: TestClient) -> Bench:
    client.put("/api/shop", json={"page": {"name": "Loft", "address": ["3 Stairs"]}, "by": "KT"})
    own = Bench(client)
    own.post("/shelf", csv=SHELF, by="KT")
    return own


def page(bench: Bench, number: int, kind: str = "customer") -> str:
    sections = bench.client.get(f"/api/tickets/{number}/papers/{kind}").json()["sections"]
    return "\n".join(line for s in sections for line in [*s["lines"], *(" | ".join(r) for r in s["rows"])])


def enter(bench: Bench, number: int, **entry: object) -> Json:
    return bench.post(f"/tickets/{number}/entries", entry=entry, by="KT")


@pytest.mark.parametrize(
    ("reason", "said"),
    [
        ("declined", "You did not want the repair."),
        ("not-worth", "more than the machine is worth"),
        ("cannot-wait", "You could not wait"),
        ("lab-declined", "You did not want the drive sent to a recovery lab."),
        ("refused", "would have cost what is on the drive"),
    ],
)
def test_a_clunking_drive_goes_back_as_it_is_without_another_start(bench: Bench, reason: str, said: str) -> None:
    number = bench.signed("refer", "refer-lab", "screen=no-boot-device", "sound=clunking", data="irreplaceable")
    enter(bench, number, signed="release", fix=None, reason=reason)
    assert bench.walk(number, {}) == ["as-found"]
    assert bench.ticket(number)["unproven"] == []
    enter(bench, number, spent=20)
    text = page(bench, number)
    assert said in text
    assert "We repaired nothing" in text
    assert "It does not start." in text
    assert "Warranty" not in text
    assert page(bench, number, "bill").endswith("Total due | ¤20.00")
    bench.post(f"/tickets/{number}/handover", 200, by="KT")


def test_a_reason_is_one_of_those_and_of_a_return(bench: Bench) -> None:
    number = bench.signed("repair", "reseat", "screen=no-boot-device")
    for entry, said in (
        ({"signed": "release", "fix": None, "reason": "bored"}, "why it goes back unrepaired"),
        ({"signed": "repair", "fix": "reseat", "reason": "declined"}, "none but for a return"),
    ):
        answer = bench.client.post(f"/api/tickets/{number}/entries", json={"entry": entry, "by": "KT"})
        assert answer.status_code in (400, 422)
        assert said in answer.json()["detail"]


def test_the_options_never_reseat_a_drive_that_clunks(bench: Bench) -> None:
    number = bench.signed("refer", "refer-lab", "screen=no-boot-device", "seen-setup=absent")
    loose = {o["fix"] or o["held_fix"] for o in bench.ticket(number)["call"]["options"]}
    clunks = enter(bench, number, move="sound", outcome="clunking")["call"]["options"]
    assert "reseat" in loose
    assert not {"reseat", "swap-cable"} & {f for o in clunks for f in [*o["fixes"], o["held_fix"]]}


def test_after_a_step_that_failed_handing_over_still_asks_for_the_final_checks(bench: Bench) -> None:
    number = bench.signed("repair", "repair-volume", "screen=volume-stop", "volume-look=damaged")
    bench.walk(number, {"run-through": ("failed", None)})
    assert bench.ticket(number)["job"] is None
    assert "Second cold start" in bench.ticket(number)["unproven"]
    refused = bench.post(f"/tickets/{number}/handover", 409, by="KT")
    assert "Cold start" in refused["detail"]
    bench.post(f"/tickets/{number}/handover", 200, by="KT", waive="They fetched it")
    text = page(bench, number)
    assert "It stopped with an error." in text
    assert "We did not check whether it starts a second time (They fetched it)." in text


def test_fetched_early_and_finished_later(bench: Bench) -> None:
    number = bench.signed("replace", "replace-drive", "screen=no-boot-device", "health-pages=failing")
    shelf = bench.client.get(f"/api/tickets/{number}/parts").json()["drives"][0]["item"]
    bench.walk(number, {}, upto="part")
    bench.post(f"/tickets/{number}/part", shelf=shelf["id"], serial="QF7-500198", by="KT")
    bench.walk(number, {"right-drive": ("this", "0198")}, upto="new-in")
    bench.post(f"/tickets/{number}/handover", 200, by="KT", waive="They could not wait")
    assert "QUARRY FLINT" not in page(bench, number, "bill"), "what is not in the machine is not on the invoice"
    bench.client.post(f"/api/tickets/{number}/reopen")
    assert len(bench.ticket(number)["unproven"]) > 3, "what was skipped to hand it over counts anew"
    bench.walk(number, {"right-drive": ("this", "0198")})
    assert bench.ticket(number)["unproven"] == []
    assert "QUARRY FLINT 500 | ¤62.00" in page(bench, number, "bill")
    left = next(i for i in bench.client.get("/api/shelf").json()["items"] if i["id"] == shelf["id"])
    assert left["left"] == shelf["count"] - 1


def test_what_was_read_before_a_repair_that_may_have_changed_it_is_read_again(bench: Bench) -> None:
    facts = {"platform": "pc", "form": "desktop"}
    number = bench.signed(
        "repair", "reseat", "screen=no-boot-device", "boot-order=system-absent", "seen-setup=absent", **facts
    )
    walked = bench.walk(number, {}, upto="settings-again")
    hints = next(s for s in bench.work(number)["steps"] if s["id"] == "settings-again")["hints"]
    assert "cold-1" in walked or bench.now(number) == "settings-again"
    assert any("Boot order" in h for h in hints), hints
    bench.walk(number, {})
    assert bench.ticket(number)["unproven"] == []


def test_a_part_on_order_wants_no_hands(bench: Bench) -> None:
    number = bench.signed("replace", "replace-drive", "screen=no-boot-device", "health-pages=failing")
    bench.walk(number, {}, upto="part")
    assert row(bench, number)["turn"] == "hands"
    bench.answer(number, "part", "none")
    assert (row(bench, number)["turn"], row(bench, number)["job"]["waits"]) == ("running", "None fits: ordered")


def row(bench: Bench, number: int) -> Json:
    return next(r for r in bench.client.get("/api/bench").json()["rows"] if r["id"] == number)


def test_a_comeback_within_the_warranty_is_no_new_bill_by_itself(bench: Bench) -> None:
    first = bench.signed("repair", "set-order", "screen=network-boot", "boot-order=other-first", drive_serial="QS5-1")
    bench.walk(first, {})
    bench.post(f"/tickets/{first}/handover", 200, by="KT", waive="as it is")
    body = {"customer": "Choir office", "machine": "Ferrow Lathe-14", "by": "KT", "facts": {"platform": "pc"}}
    again = int(bench.post("/tickets", **body, comeback_of=first)["id"])
    enter(bench, again, spent=45)
    assert page(bench, again, "bill").endswith("Total due | ¤0.00")
    assert f"Under the warranty of ticket {bench.ticket(first)['number']}" in page(bench, again, "bill")
    enter(bench, again, fact={"warranty": "not-covered"})
    assert page(bench, again, "bill").endswith("Total due | ¤45.00")
    before = bench.client.get(f"/api/tickets/{again}/earlier").json()
    assert [(e["id"], e["in_warranty"], e["is_comeback"]) for e in before] == [(first, True, True)]
    assert any("boot order" in line for line in before[0]["done"])


def test_a_machine_is_known_again_by_its_drive(bench: Bench) -> None:
    first = bench.signed("release", None, "screen=boots", drive_serial="QS5-7")
    bench.post(f"/tickets/{first}/handover", 200, by="KT", waive="as it is")
    other = bench.signed("release", None, machine="Ostler Tarn Mini", drive_serial="QS5-7")
    stranger = bench.signed("release", None, machine="Ostler Tarn Mini", drive_serial="QS5-8")
    assert [e["id"] for e in bench.client.get(f"/api/tickets/{other}/earlier").json()] == [first]
    sheet = page(bench, other, "file")
    assert f"{bench.ticket(first)['number']}, handed over on 20" in sheet
    assert "handed over on" not in page(bench, stranger, "file") + page(bench, other, "customer")
    assert bench.client.get(f"/api/tickets/{stranger}/earlier").json() == []


@pytest.mark.parametrize(
    ("shop", "minutes", "total"),
    [
        ({"bench_hour": 54.555, "currency": "EUR"}, 37.4, "€33.65"),
        ({"bench_hour": 4321, "currency": "JPY"}, 25, "¥1,800"),
        ({"bench_hour": 60, "tax": 7.7, "currency": "CHF", "locale": "de-CH"}, 13, "CHF 14.00"),
        ({"bench_hour": 60, "tax": 19, "tax_by": "line", "currency": "EUR"}, 13, "€15.47"),
    ],
)
def test_amounts_multiply_as_printed(bench: Bench, shop: Json, minutes: float, total: str) -> None:
    assert bench.client.put("/api/shop", json={"page": shop, "by": "KT"}).status_code == 200
    number = bench.signed("repair", "reseat", "screen=no-boot-device")
    enter(bench, number, spent=minutes)
    rows = bench.client.get(f"/api/tickets/{number}/papers/bill").json()["sections"][0]["rows"]
    assert rows[-1][1].replace("\N{NO-BREAK SPACE}", " ") == total
    assert f"{round(minutes)} min at" in rows[0][0]


def test_tax_by_line_and_by_sum_differ_where_the_coins_do(bench: Bench) -> None:
    number = bench.signed("refer", "refer-lab", "screen=no-boot-device", "sound=clunking")
    enter(bench, number, spent=1)
    enter(bench, number, fact={"lab_price": 0.53})
    taxes = {}
    for by in ("line", "sum"):
        page = {"bench_hour": 31.8, "tax": 19, "tax_by": by, "currency": "EUR"}
        bench.client.put("/api/shop", json={"page": page, "by": "KT"})
        rows = bench.client.get(f"/api/tickets/{number}/papers/bill").json()["sections"][0]["rows"]
        taxes[by] = next(amount for text, amount in rows if text.startswith("Tax"))
        sums = [Decimal(amount[1:]) for _, amount in rows]
        assert sums[-1] == sums[-2] + sums[-3]
    assert taxes == {"line": "€0.20", "sum": "€0.20"}


def test_nothing_for_the_customer_is_printed_before_the_shop_has_a_name(client: TestClient) -> None:
    number = Bench(client).signed("repair", "reseat", "screen=no-boot-device")
    for kind, status in (("customer", 400), ("bill", 400), ("file", 200), ("label", 200)):
        answer = client.get(f"/api/tickets/{number}/papers/{kind}/pdf")
        assert answer.status_code == status, kind
    assert client.get(f"/api/tickets/{number}/papers/customer").json()["may_print"] is False


def test_the_table_for_a_spreadsheet_says_what_the_page_says(bench: Bench) -> None:
    number = bench.signed("repair", "set-order", "screen=network-boot", "boot-order=other-first")
    bench.walk(number, {})
    table = list(csv.DictReader(io.StringIO(bench.client.get(f"/api/tickets/{number}/papers/ledger.csv").text)))
    text = page(bench, number)
    for kind in ("found", "data", "now"):
        assert [r["what"] for r in table if r["kind"] == kind] != []
        assert all(r["what"] in text for r in table if r["kind"] == kind)


def test_the_technical_sheet_has_no_python_in_it(bench: Bench) -> None:
    number = bench.signed("replace", "replace-drive", "screen=no-boot-device", "health-pages=failing")
    shelf = bench.client.get(f"/api/tickets/{number}/parts").json()["drives"][0]["item"]
    bench.walk(number, {}, upto="part")
    bench.post(f"/tickets/{number}/part", shelf=shelf["id"], serial="QF7-500198", by="KT")
    for entry in (
        {"fact": {"data": "none", "used_gb": 120.0, "account": "local"}},
        {"saw": "boot-order", "value": "system"},
        {"started": "long-test", "minutes": 90},
        {"tried_key": "F12", "opens": "setup", "worked": True},
        {"changed": "set-order", "before": "other", "after": "system"},
        {"put_back": "set-order"},
        {"override": "copy-first", "move": "long-test", "reason": "They know"},
    ):
        bench.client.post(f"/api/tickets/{number}/entries", json={"entry": entry, "by": "KT"})
    text = page(bench, number, "file")
    for sign in ("{", "}", "None", "True", "False", "['", "Said(", "told."):
        assert sign not in text, (sign, text)
    assert "Details: Data nothing to keep" in text
