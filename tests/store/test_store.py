"""The store: migrations both ways, an append-only tape, files by content, and nothing acknowledged that can be lost."""

from __future__ import annotations

import gc
import sqlite3
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gatecheck.store import Database, StoreError, open_database, tickets
from gatecheck.store.database import atomic
from gatecheck.store.files import FileStore, attach, attachments
from gatecheck.store.migrations import MIGRATIONS, migrate

AT = "2026-11-24T09:00:00+00:00"


@pytest.fixture
def database() -> Iterator[Database]:
    opened = open_database(None)
    yield opened
    opened.close()


def take_in(
    connection: sqlite3.Connection, bay: int | None = None, machine: str = "Ferrow Lathe-14"
) -> tickets.TicketRow:
    return tickets.open_ticket(
        connection,
        customer="Choir office",
        machine=machine,
        words="",
        facts={"platform": "pc"},
        bay=bay,
        by="KT",
        at=AT,
    )


def schema(connection: sqlite3.Connection) -> list[tuple[str, str]]:
    return list(connection.execute("SELECT name, sql FROM sqlite_master WHERE name NOT LIKE 'sqlite_%' ORDER BY name"))


@pytest.mark.parametrize("oldest", range(1, len(MIGRATIONS)))
def test_a_migrated_schema_equals_a_fresh_one(oldest: int) -> None:
    old, fresh = (sqlite3.connect(":memory:", isolation_level=None) for _ in range(2))
    assert len(migrate(old, atomic, upto=oldest)) == oldest
    assert len(migrate(old, atomic)) == len(MIGRATIONS) - oldest
    migrate(fresh, atomic)
    assert schema(old) == schema(fresh)
    assert migrate(fresh, atomic) == []
    old.close()
    fresh.close()


def test_a_failing_step_leaves_no_half_schema() -> None:
    connection = sqlite3.connect(":memory:", isolation_level=None)
    with pytest.raises(sqlite3.OperationalError), atomic(connection):
        connection.execute("CREATE TABLE half (id INTEGER)")
        connection.execute("CREATE TABLE half (id INTEGER)")
    assert schema(connection) == []
    connection.close()


@given(
    st.dictionaries(
        st.text(min_size=1), st.text() | st.integers(-(2**53), 2**53) | st.none() | st.booleans(), max_size=4
    )
)
def test_entries_come_back_as_they_went_in(body: dict[str, object]) -> None:
    database = open_database(None)
    with database.write() as connection:
        ticket = take_in(connection)
        tickets.append_entry(connection, ticket.id, 0, body, by="KT", at=AT)
    with database.read() as connection:
        assert tickets.tape_of(connection, ticket.id) == [tickets.EntryRow(0, body, "KT", AT)]
    database.close()


@pytest.mark.parametrize("statement", ["DELETE FROM entry", "UPDATE entry SET body = '{}'"])
def test_the_tape_is_append_only(database: Database, statement: str) -> None:
    with database.write() as connection:
        tickets.append_entry(connection, take_in(connection).id, 0, {"note": "x"}, by="KT", at=AT)
    with pytest.raises(sqlite3.IntegrityError, match="append-only"), database.write() as connection:
        connection.execute(statement)


def test_two_at_the_same_place_of_a_tape_cannot_both_be_right(database: Database) -> None:
    with database.write() as connection:
        ticket = take_in(connection)
        tickets.append_entry(connection, ticket.id, 0, {"note": "first"}, by="KT", at=AT)
    with pytest.raises(StoreError, match="expected the log to end before place 0"), database.write() as connection:
        tickets.append_entry(connection, ticket.id, 0, {"note": "second"}, by="MO", at=AT)
    with database.read() as connection:
        assert [e.body for e in tickets.tape_of(connection, ticket.id)] == [{"note": "first"}]


def test_an_entry_needs_its_ticket(database: Database) -> None:
    with pytest.raises(StoreError), database.write() as connection:
        tickets.append_entry(connection, 99, 0, {"note": "x"}, by="KT", at=AT)


def test_a_bay_holds_one_open_ticket(database: Database) -> None:
    with database.write() as connection:
        first = take_in(connection, bay=2)
    with pytest.raises(StoreError, match="bay 2: expected a free bay"), database.write() as connection:
        take_in(connection, bay=2)
    with database.write() as connection:
        tickets.close_ticket(connection, first.id, AT)
        second = take_in(connection, bay=2)
        assert tickets.ticket_by_id(connection, first.id).bay is None  # type: ignore[union-attr]
    with database.read() as connection:
        assert [t.id for t in tickets.tickets_on_bench(connection)] == [second.id]


def test_a_ticket_moves_closes_and_comes_back_once(database: Database) -> None:
    with database.write() as connection:
        one, other = take_in(connection, bay=1), take_in(connection)
        tickets.move_to_bay(connection, other.id, 3)
    refused = [
        (lambda c: tickets.move_to_bay(c, other.id, 1), "bay 1: expected a free bay, got one that is taken"),
        (lambda c: tickets.reopen_ticket(c, one.id), "expected a ticket that was handed over, got none"),
        (lambda c: tickets.close_ticket(c, 99, AT), "ticket 99: expected an open ticket, got none"),
    ]
    for act, message in refused:
        with pytest.raises(StoreError, match=message), database.write() as connection:
            act(connection)
    with database.write() as connection:
        tickets.close_ticket(connection, one.id, AT)
        with pytest.raises(StoreError, match="expected an open ticket, got none"):
            tickets.move_to_bay(connection, one.id, 5)
        tickets.reopen_ticket(connection, one.id)
        back = tickets.ticket_by_id(connection, one.id)
        assert back is not None
        assert (back.bay, back.closed_at) == (None, None)


def test_find_takes_the_text_literally(database: Database) -> None:
    with database.write() as connection:
        take_in(connection, machine="100 % Adze_22")
        take_in(connection, machine="Lathe-14")
    with database.read() as connection:
        assert [t.machine for t in tickets.find_tickets(connection, "% Adze_")] == ["100 % Adze_22"]
        assert len(tickets.find_tickets(connection, "CHOIR")) == 2


def test_readers_cannot_write(tmp_path: Path) -> None:
    database = open_database(tmp_path / "g.sqlite3")
    with database.read() as connection, pytest.raises(sqlite3.OperationalError, match="readonly"):
        take_in(connection)
    database.close()


def test_a_file_that_is_no_database_is_said_so(tmp_path: Path) -> None:
    (tmp_path / "g.sqlite3").write_bytes(b"not a database at all, but long enough to look at" * 20)
    with pytest.raises(StoreError, match="expected a database that can be opened"):
        open_database(tmp_path / "g.sqlite3")


def test_files_are_kept_by_content(tmp_path: Path, database: Database) -> None:
    files = FileStore(tmp_path, largest=1000)
    digest = files.put(b"page")
    assert files.put(b"page") == digest
    assert len([p for p in tmp_path.rglob("*") if p.is_file()]) == 1
    assert files.get(digest) == b"page"
    with database.write() as connection:
        ticket = take_in(connection)
        for name in ("a.bin", "again.bin"):
            attach(connection, ticket.id, digest, name, 4, by="KT", at=AT)
    with database.read() as connection:
        assert [a.name for a in attachments(connection, ticket.id)] == ["a.bin"]


BAD_FILES = [
    pytest.param(lambda f: f.put(b"x" * 1001), "expected at most", id="too-large"),
    pytest.param(lambda f: f.get("0" * 64), "expected a stored file", id="missing"),
    pytest.param(lambda f: f.get("../../etc/passwd"), "expected 64 hex digits", id="no-digest"),
    pytest.param(
        lambda f: (f.folder / "aa").mkdir() or ((f.folder / "aa" / ("a" * 64)).write_bytes(b"x") and f.get("a" * 64)),
        "the disk has changed them",
        id="changed",
    ),
]


@pytest.mark.parametrize(("act", "message"), BAD_FILES)
def test_bad_files_are_refused(tmp_path: Path, act: object, message: str) -> None:
    with pytest.raises(StoreError, match=message):
        act(FileStore(tmp_path, largest=1000))  # type: ignore[operator]


def test_threads_that_come_and_go_leave_no_connection_behind(tmp_path: Path) -> None:
    """A server's workers end when they have nothing to do; what they read with goes on to the next."""
    database = open_database(tmp_path / "x.sqlite3")
    open_files = Path("/proc/self/fd")

    def look() -> None:
        with database.read() as connection, database.read() as inner:
            assert connection is not inner
            connection.execute("SELECT count(*) FROM ticket").fetchone()

    look()
    gc.collect()  # what other tests left open is closed now, and not while this one counts
    before = len(list(open_files.iterdir()))
    for _ in range(40):
        thread = threading.Thread(target=look)
        thread.start()
        thread.join()
    assert len(list(open_files.iterdir())) == before
    database.close()
