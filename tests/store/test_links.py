"""What is kept of a link to a probe: its secret, its sessions, the pages that were acknowledged and the orders."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator

import pytest

from gatecheck.store import Database, links, open_database, tickets

AT, LATER = "2026-11-24T09:00:00+00:00", "2026-11-24T09:05:00+00:00"


@pytest.fixture
def database() -> Iterator[Database]:
    opened = open_database(None)
    yield opened
    opened.close()


@pytest.fixture
def number(database: Database) -> int:
    with database.write() as connection:
        row = tickets.open_ticket(
            connection, customer="Choir office", machine="Ferrow Lathe-14", words="", facts={}, bay=None, by="KT", at=AT
        )
        links.open_link(connection, row.id, "first", "first-code", by="KT", at=AT)
    return row.id


def test_a_link_opened_anew_forgets_its_first_secret(database: Database, number: int) -> None:
    with database.write() as connection:
        links.end_link(connection, number, LATER)
        ended = links.link_of(connection, number)
        assert ended is not None
        assert ended.ended_at == LATER
        links.open_link(connection, number, "second", "second-code", by="KT", at=LATER)
        again = links.link_of(connection, number)
        assert again is not None
        assert (again.secret, again.code, again.ended_at) == ("second", "second-code", None)
        links.set_code(connection, number, "third-code")
        assert [link.code for link in links.links_with_codes(connection)] == ["third-code"]


def test_only_orders_that_wait_end(database: Database, number: int) -> None:
    with database.write() as connection:
        done, waiting = (
            links.put_order(connection, number, {"order": kind}, by="KT", at=AT) for kind in ("read", "test")
        )
        links.end_order(connection, done, "done", "12 pages", LATER)
        links.end_order(connection, done, "failed", "told twice", LATER)
        links.end_link(connection, number, LATER)
        orders = {o.id: (o.body["order"], o.state, o.detail, o.done_at) for o in links.orders_of(connection, number)}
    assert orders == {done: ("read", "done", "12 pages", LATER), waiting: ("test", "cancelled", "", LATER)}


def test_pages_come_back_by_order_and_count_up_to_the_last(database: Database, number: int) -> None:
    with database.write() as connection:
        assert links.acknowledged(connection, "s1") == 0
        links.begin_session(connection, "s1", number, {"sys_vendor": "Ferrow"}, "1.0", AT)
        for seq, order in ((1, "a"), (2, "b"), (3, "a")):
            links.keep_page(connection, "s1", seq, order, {"path": f"sda/{seq}.bin"}, bytes([seq]))
        assert links.acknowledged(connection, "s1") == 3
        assert [(line["path"], data) for line, data in links.pages_of(connection, "s1", "a")] == [
            ("sda/1.bin", b"\x01"),
            ("sda/3.bin", b"\x03"),
        ]
    with pytest.raises(sqlite3.IntegrityError), database.write() as connection:
        links.keep_page(connection, "s1", 3, "a", {}, b"again")


def test_the_newest_session_is_the_machine_that_is_linked(database: Database, number: int) -> None:
    with database.write() as connection:
        for name, vendor in (("s1", "Ferrow"), ("s2", "Quarry")):
            links.begin_session(connection, name, number, {"sys_vendor": vendor}, "1.0", AT)
        assert [(s.id, s.machine["sys_vendor"]) for s in links.sessions_of(connection, number)] == [
            ("s2", "Quarry"),
            ("s1", "Ferrow"),
        ]
        assert links.session_by_id(connection, "s3") is None


@pytest.mark.parametrize("act", [
    lambda c, t: links.begin_session(c, "s1", t + 40, {}, "1.0", AT),
    lambda c, t: links.open_link(c, t + 40, "other", "other-code", by="KT", at=AT),
    lambda c, t: links.keep_page(c, "nobody", 1, "a", {}, b""),
], ids=["session", "link", "page"])  # fmt: skip
def test_nothing_is_kept_for_what_is_not_there(database: Database, number: int, act: object) -> None:
    with pytest.raises(sqlite3.IntegrityError), database.write() as connection:
        act(connection, number)  # type: ignore[operator]
