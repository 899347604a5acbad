"""A newer program on older data, and an older one on newer: a safety copy, one transaction, and the way back."""

from __future__ import annotations

import fcntl
import json
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from gatecheck.cli.main import main
from gatecheck.server.services import open_services
from gatecheck.store import StoreError
from gatecheck.store.database import Database
from gatecheck.store.keeping import DATABASE, backup
from gatecheck.store.migrations import MIGRATIONS
from gatecheck.store.updates import AFTER, BEFORE, KEPT

SHOPS = sorted((Path(__file__).parents[1] / "data" / "shops").glob("*.sql"))
LATEST = MIGRATIONS[-1][0]


def laid(folder: Path, dump: Path) -> Path:
    """A shop's folder in that format."""
    folder.mkdir(parents=True, exist_ok=True)
    place = folder / DATABASE
    with closing(sqlite3.connect(place, isolation_level=None)) as own:
        own.executescript(dump.read_text("utf-8"))
    return place


def older(folder: Path) -> Path:
    return laid(folder, next(s for s in SHOPS if s.stem != LATEST))


def rows(place: Path) -> dict[str, Any]:
    with closing(sqlite3.connect(place)) as own:
        return {
            "ticket": own.execute("SELECT id, number, customer, words, facts FROM ticket ORDER BY id").fetchall(),
            "entry": own.execute("SELECT ticket_id, place, body, made_at FROM entry ORDER BY 1, 2").fetchall(),
        }


def test_the_last_three_formats_are_kept() -> None:
    assert [name for name, _ in MIGRATIONS][-3:] == sorted(
        (s.stem for s in SHOPS), key=[name for name, _ in MIGRATIONS].index
    )[-3:], "python tests/keep_format.py"


@pytest.mark.parametrize("dump", SHOPS, ids=lambda own: own.stem)
def test_every_kept_format_is_opened_copied_before_and_says_the_same(dump: Path, tmp_path: Path) -> None:
    place = laid(tmp_path, dump)
    before = rows(place)
    house = open_services(tmp_path)
    answers = [house.tickets.ticket(n) for (n, *_) in before["ticket"]]
    copy = house.shop.database.safety_copy
    house.shop.database.close()
    assert rows(place) == before
    assert [(t.number, t.customer, len(t.tape)) for t in answers] == [
        (number, customer, sum(e[0] == n for e in before["entry"])) for n, number, customer, *_ in before["ticket"]
    ]
    assert (copy is None) == (dump.stem == LATEST)
    if copy is not None:
        assert copy.name.startswith(BEFORE)
        assert rows(copy) == before


def test_a_step_that_fails_changes_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    place = older(tmp_path)
    with closing(sqlite3.connect(place)) as own:
        before = list(own.iterdump())
    broken = (*MIGRATIONS, ("torn", ("CREATE TABLE torn (n INTEGER) STRICT", "no such statement")))
    monkeypatch.setattr("gatecheck.store.migrations.MIGRATIONS", broken)
    with pytest.raises(StoreError, match="expected a database that can be written"):
        Database(place)
    with closing(sqlite3.connect(place)) as own:
        assert list(own.iterdump()) == before, "the steps before it too"


def newer(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A shop that a newer program has updated, and worked on since."""
    place = laid(tmp_path, next(s for s in SHOPS if s.stem == LATEST))
    with monkeypatch.context() as patched:
        patched.setattr("gatecheck.store.migrations.MIGRATIONS", (*MIGRATIONS, ("of-tomorrow", ())))
        house = open_services(tmp_path)
        house.tickets.append(1, {"note": "said after the update"}, by="KT")
        house.shop.database.close()
    return place


def test_an_older_program_says_so_and_goes_back_to_the_copy(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    place = newer(tmp_path, monkeypatch)
    (tmp_path / f"{BEFORE}99990101-000000.sqlite3").write_bytes(b"no database" * 99)  # takes no older copy away
    with pytest.raises(StoreError, match=r"got data of a newer one \(of-tomorrow\).*gatecheck go-back"):
        Database(place)
    after = rows(place)
    assert main(["go-back", "--data", str(tmp_path)]) == 0
    told = json.loads(capsys.readouterr().out)
    assert (told["tickets"], told["since"], told["applied"]) == (3, {"tickets": 0, "entries": 1}, False)
    assert rows(place) == after, "only said so far"
    assert main(["go-back", "--data", str(tmp_path), "--apply"]) == 0
    kept = Path(json.loads(capsys.readouterr().out)["kept"])
    assert kept.name.startswith(AFTER)
    assert rows(kept) == after
    house = open_services(tmp_path)
    assert len(house.tickets.ticket(1).tape) == 1
    house.shop.database.close()


def test_going_back_is_refused_while_a_server_works_or_where_there_is_no_copy(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    newer(tmp_path / "a", monkeypatch)
    with (tmp_path / "a" / "server.lock").open("a+") as file:
        fcntl.flock(file, fcntl.LOCK_EX)
        assert main(["go-back", "--data", str(tmp_path / "a"), "--apply"]) == 2
    assert "no other server" in capsys.readouterr().err
    laid(tmp_path / "b", SHOPS[0])
    assert main(["go-back", "--data", str(tmp_path / "b"), "--apply"]) == 2
    assert "expected a copy from before an update" in capsys.readouterr().err


def test_only_the_newest_copies_stay(tmp_path: Path) -> None:
    for n in range(5):
        (tmp_path / f"{BEFORE}2026010{n}-000000.sqlite3").touch()
    older(tmp_path)
    Database(tmp_path / DATABASE).close()
    assert len(list(tmp_path.glob(f"{BEFORE}*"))) == KEPT


def test_a_restore_is_rehearsed_and_what_differs_is_told(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    laid(tmp_path / "shop", next(s for s in SHOPS if s.stem == LATEST))
    backup(tmp_path / "shop", tmp_path / "b.zip")
    house = open_services(tmp_path / "shop")
    house.tickets.append(2, {"note": "said since"}, by="KT")
    house.shop.database.close()
    before = (tmp_path / "shop" / DATABASE).read_bytes()
    assert main(["restore", str(tmp_path / "b.zip"), "--rehearse", "--data", str(tmp_path / "shop")]) == 0
    assert json.loads(capsys.readouterr().out) == {
        "restorable": True,
        "tickets": 3,
        "files": 0,
        "since": {"tickets": 0, "entries": 1, "files": 0},
        "differ": [],
    }
    assert (tmp_path / "shop" / DATABASE).read_bytes() == before
    raw = bytearray((tmp_path / "b.zip").read_bytes())
    raw[len(raw) // 2] ^= 0xFF
    (tmp_path / "b.zip").write_bytes(raw)
    assert main(["restore", str(tmp_path / "b.zip"), "--rehearse", "--data", str(tmp_path / "shop")]) == 2
