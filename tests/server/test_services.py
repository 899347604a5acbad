"""What holds the services together: one fold and one event an action, odds from the server's own state, the shop's own
tables."""

from __future__ import annotations

import contextlib
import dataclasses
import sys
from pathlib import Path
from typing import Any, cast

import pytest
from fastapi.testclient import TestClient

from gatecheck.core.belief.facts import all_odds
from gatecheck.probe.settings import PROTOCOL
from gatecheck.server.app import create_app
from gatecheck.server.link.order_kinds import ORDER_KINDS, OrderInstruments, OrderKind
from gatecheck.server.link.wire import DoneIn
from gatecheck.server.services import Services, open_services
from gatecheck.server.shop import now
from gatecheck.store import StoreError, links
from gatecheck.store.links import Order
from practised import capture_of

sys.path.insert(0, str(Path(__file__).parents[2] / "bench"))
from folds import measured
from serving import HERE, ME

LAPTOP = {"platform": "pc", "form": "laptop", "installed_os": "windows-10", "drive_kind": "hdd"}


def taken_in(house: Services, **facts: Any) -> int:
    return house.tickets.take_in(
        customer="Choir",
        machine="Ferrow Lathe-14",
        words="",
        facts={**LAPTOP, **facts},
        entries=[{"move": "screen", "outcome": "no-boot-device"}],
        bay=None,
        by="KT",
    ).id


@pytest.fixture
def house(tmp_path: Path) -> Any:
    opened = open_services(tmp_path)
    yield opened
    opened.shop.database.close()


def test_an_action_folds_a_tape_once_and_tells_once() -> None:
    rows = {name: (folds, events, entries) for name, folds, events, entries in measured()}
    for name in (
        "open the ticket",
        "open the ticket again",
        "open Settings",
        "open Sightings",
        "open the keys",
        "look at the bench",
        "open Pages",
        "open Settings after it",
        "open the call sheet",
    ):
        assert rows[name] == (0, 0, 0), name
    assert rows["answer the move in hand"] == (1, 1, 1)
    folds, events, entries = rows["drop a capture"]
    assert (folds, events) == (1, 1)
    assert entries >= 5
    assert rows["put a setting back and try the next"] == (1, 1, 2)
    assert rows["sign the call"] == (1, 1, 1)
    assert rows["ask what it was"] == (0, 0, 0)


def test_a_capture_that_cannot_be_kept_leaves_neither_file_nor_entries(house: Services) -> None:
    number = taken_in(house)

    def fails(connection: object) -> None:
        raise StoreError("the order: expected one that waits, got none")

    with pytest.raises(StoreError):
        house.captures.add_file(number, "m.gcap", capture_of("worn"), by="KT", also=fails)
    ticket = house.tickets.ticket(number)
    assert (len(ticket.tape), ticket.files) == (1, [])
    assert house.captures.add_file(number, "m.gcap", capture_of("worn"), by="KT").devices


def test_a_capture_dropped_twice_is_weighed_once(house: Services) -> None:
    number = taken_in(house)
    house.captures.add_file(number, "m.gcap", capture_of("growing"), by="KT")
    once = house.tickets.ticket(number)
    house.captures.add_file(number, "m.gcap", capture_of("growing"), by="KT")
    again = house.tickets.ticket(number)
    assert [e.body for e in again.tape] == [e.body for e in once.tape]
    assert len(again.files) == 1


def test_signed_odds_are_the_servers_own(house: Services) -> None:
    number = taken_in(house, data="backed-up")
    forged = {
        "signed": "replace",
        "fix": "replace-drive",
        "odds": {"confidence": 0.9999, "suspects": {"drive.dead": 1.0}},
    }
    body = house.tickets.append(number, forged, by="KT").tape[-1].body
    state = house.tickets.folded_of(number)
    assert body["odds"]["confidence"] == pytest.approx(state.result.call.balance["replace"], abs=0.01)
    assert body["odds"]["suspects"]["drive.dead"] < 0.9


def test_guesses_know_the_age_of_the_drive(house: Services) -> None:
    """What it came in with uses the same prior as the ticket, the year included."""
    old, new = (taken_in(house, drive_year=year) for year in (2008, 2026))
    for number in (old, new):
        folded = house.tickets.folded_of(number)
        assert folded.facts["as_of_year"] >= 2026
        assert (
            all_odds(folded.model.knowledge, folded.facts)["drive.media"]
            == all_odds(folded.model.knowledge, folded.state.facts)["drive.media"]
        )
    p = {n: sum(g.p for g in house.learning.guesses(n, most=400) if "drive.media" in g.faults) for n in (old, new)}
    assert p[old] > 1.3 * p[new]


MEND = {
    "order": "mend",
    "kind": "rebuild-loader",
    "device": "sda",
    "disk": "sda",
    "plan": "loader",
    "what": "the loader's file",
    "writes": [],
}


class Killed(BaseException):
    """The server dies here."""


@pytest.mark.parametrize(("first", "stands"), [(Killed, "waiting"), (ValueError, "done"), (None, "done")])
def test_what_an_order_came_to_is_told_whatever_happens_at_its_end(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, first: type[BaseException] | None, stands: str
) -> None:
    """Dead between the order's end and the tape: told after the start. One listener that breaks takes no other away."""

    class Breaks:
        def order_ended(self, ticket_id: int, order: Order, result: str) -> None:
            if first is not None:
                raise first("here")

    house = open_services(tmp_path)
    number = taken_in(house, data="backed-up")
    house.links.sessions.open(number, by="KT")
    secret = house.links.sessions.secret_of(number)
    session = house.links.orders.hello(secret, PROTOCOL, "probe", {"product_name": "Lathe-14"}, "s1", 0)["session"]
    with house.shop.database.write() as connection:
        order = links.put_order(connection, number, MEND, by="KT", at=now())
    followers = house.links.instruments.followers
    followers["breaks"], kind = Breaks(), ORDER_KINDS["mend"]
    monkeypatch.setitem(
        cast(dict[str, OrderKind], ORDER_KINDS),
        "mend",
        dataclasses.replace(kind, followers=("breaks", *kind.followers)),
    )
    with pytest.raises(Killed) if first is Killed else contextlib.nullcontext():
        house.links.pages.done(secret, DoneIn(session=session, order=str(order), result="done"))
    monkeypatch.undo()
    shown = {o.id: o.state for o in house.links.view(number, "http://bench").orders}
    assert (shown[order], len(said_of(house, number))) == (stands, 1 if stands == "done" else 0)
    house.shop.database.close()
    again = open_services(tmp_path)
    with TestClient(create_app(again), base_url=HERE, client=ME) as client:
        assert {o["id"]: o["state"] for o in client.get(f"/api/tickets/{number}/link").json()["orders"]}[
            order
        ] == "done"
        assert (
            client.post(
                "/api/link/done",
                json={"session": session, "order": str(order), "result": "done", "detail": ""},
                headers={"Authorization": f"Bearer {secret}"},
            ).status_code
            == 200
        )
        assert len(said_of(again, number)) == 1


def said_of(house: Services, number: int) -> list[Any]:
    return [e for e in house.tickets.ticket(number).tape if "the loader's file" in e.note]


def test_several_entries_stand_or_fall_together(house: Services) -> None:
    number = taken_in(house)
    with TestClient(create_app(house), base_url=HERE, client=ME) as client:
        url = f"/api/tickets/{number}/entries"
        bad = {"entries": [{"note": "one"}, {"put_back": "set-mode"}], "by": "KT", "key": "k"}
        assert client.post(url, json=bad).status_code == 422
        assert len(client.get(f"/api/tickets/{number}").json()["tape"]) == 1
        good = {
            "entries": [{"changed": "set-mode", "before": "uefi", "after": "legacy"}, {"put_back": "set-mode"}],
            "by": "KT",
            "key": "k",
        }
        for _ in range(2):  # sent twice, kept once
            assert len(client.post(url, json=good).json()["tape"]) == 3
        assert client.post(url, json={"by": "KT"}).status_code == 422


def test_the_shops_own_tables_are_laid_over_the_shipped_ones(tmp_path: Path) -> None:
    own = tmp_path / "knowledge"
    own.mkdir()
    (own / "decisions.toml").write_text("[rates]\nwarranty_days = 30\n", encoding="utf-8")
    house = open_services(tmp_path)
    assert (house.shop.model.knowledge.rates["warranty_days"], house.shop.notices) == (30, ())
    house.shop.database.close()


@pytest.mark.parametrize(
    ("name", "text", "notice"),
    [
        ("decisions.toml", "[plan]\nmade_margin = 'much'\n", "decisions.toml:2: plan.made_margin: expected a number"),
        ("odds.toml", "x = 1", "odds.toml: file: expected one of vocabulary.toml"),
        (
            "rules.toml",
            "[rules.failing-drive]\nlimits = { one_sign = 0.9 }\n",
            "rules.toml:2: rules.failing-drive.limits: expected just one_sign, more_signs, lasting",
        ),
        ("findings.toml", "[weights.error-log]\nempty = { empty = 0.5 }\n", "expected a row that sums to 1"),
        ("findings.toml", "[counts]\n700 = { finding = 'x', kind = 'physical', sign = 1, source = 's' }\n", "1 to 255"),
    ],
)
def test_tables_that_cannot_be_used_are_said_and_take_nothing_away(
    tmp_path: Path, name: str, text: str, notice: str
) -> None:
    own = tmp_path / "knowledge"
    own.mkdir()
    (own / name).write_text(text, encoding="utf-8")
    house = open_services(tmp_path)
    said = house.bench.overview().notices
    assert len(said) == 1
    assert notice in said[0]
    assert taken_in(house)
    house.shop.database.close()


def test_an_order_whose_instrument_is_missing_is_found_at_the_start(tmp_path: Path) -> None:
    with pytest.raises(LookupError, match="got none for path, restore, volumes"):
        OrderInstruments().check()
    open_services(tmp_path).shop.database.close()
