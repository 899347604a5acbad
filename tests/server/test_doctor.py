"""The doctor names what is wrong, what it saw and what to do; one look that fails takes no other away."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from gatecheck.server.announce import addresses
from gatecheck.server.doctor import BAD, DOUBT, GOOD, Bench, Seen, looked_at
from gatecheck.server.services import open_services
from gatecheck.server.tls.authority import FOLDER, BenchTls
from gatecheck.store.keeping import DATABASE, backup
from serving import free_port

DAY, LATER, MUCH_LATER = timedelta(), timedelta(days=5), timedelta(days=500)


@pytest.fixture
def shop(tmp_path: Path) -> Path:
    house = open_services(tmp_path / "data")
    first = [{"move": "screen", "outcome": "boots"}]
    house.tickets.take_in(customer="A", machine="B", words="", facts={}, bay=None, by="KT", entries=first)
    house.shop.database.close()
    BenchTls(tmp_path / "data", "The bench", ("localhost", *addresses("0.0.0.0")))
    (tmp_path / "share").mkdir()
    backup(tmp_path / "data", tmp_path / f"share/gatecheck-{datetime.now(UTC).date().isoformat()}.zip")
    return tmp_path


def seen(shop: Path, later: timedelta = DAY) -> dict[str, Seen]:
    bench = Bench(shop / "data", "", free_port(), shop / "share", datetime.now(UTC) + later)
    return {own.what: own for own in looked_at(bench)}


def test_a_bench_in_order_has_nothing_wrong(shop: Path) -> None:
    found = seen(shop)
    assert [w for w, own in found.items() if own.state == BAD] == []
    assert {found[what].state for what in ("data folder", "database", "certificate", "backups")} == {GOOD}
    assert found["port"].state == DOUBT, "nobody listens there"


def torn(shop: Path) -> None:
    with (shop / "data" / DATABASE).open("r+b") as file:
        file.seek(4096)
        file.write(b"\xa5" * 4096 * 8)


WRONG: dict[str, tuple[Callable[[Path], object], str, timedelta]] = {
    "a torn database": (torn, "database", DAY),
    "a key for everybody": (lambda shop: (shop / "data" / FOLDER / "bench.key").chmod(0o644), "key", DAY),
    "a certificate that has ended": (lambda shop: None, "certificate", MUCH_LATER),
    "old backups": (lambda shop: None, "backups", LATER),
    "a share that is gone": (lambda shop: (shop / "share").rename(shop / "elsewhere"), "backups", DAY),
}


@pytest.mark.parametrize("name", WRONG)
def test_what_is_wrong_is_named_with_what_to_do(shop: Path, name: str) -> None:
    hurt, what, later = WRONG[name]
    hurt(shop)
    found = seen(shop, later)
    assert found[what].state in (BAD, DOUBT)
    assert found[what].do or "could not be looked at" in found[what].text
    assert len(found) >= 5, "the others were looked at all the same"


def test_a_clock_before_the_log_is_wrong(shop: Path) -> None:
    assert seen(shop, timedelta(days=-3))["clock"].state == BAD
