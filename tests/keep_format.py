"""Write the shop's format as test data: `python tests/keep_format.py [STEP]` puts a small shop whose database has gone
through all steps up to this one (the last) into tests/data/shops/STEP.sql. Run it before a step is added; the test of
updates takes whatever lies there."""

from __future__ import annotations

import sqlite3
import sys
import tempfile
from contextlib import closing
from pathlib import Path

from gatecheck.server.services import open_services
from gatecheck.store.database import atomic
from gatecheck.store.keeping import DATABASE
from gatecheck.store.migrations import MIGRATIONS, migrate

SHOPS = Path(__file__).parent / "data" / "shops"


def filled(folder: Path) -> Path:
    """Three tickets with what was done on them: one waiting, one with a call, one handed over."""
    house = open_services(folder, name="Gullhaven Repair Loft", prefix="GL", bays=4)
    for number, (customer, entries) in enumerate(
        (
            ("Wren Oakes", [{"move": "sound", "outcome": "ticking"}]),
            ("Ida Marsh", [{"move": "screen", "outcome": "no-boot-device"}, {"note": "asked for the charger"}]),
            ("Tove Lund", [{"move": "sound", "outcome": "steady"}, {"undo": 0}]),
        )
    ):
        ticket = house.tickets.take_in(
            customer=customer,
            machine="Ferrow Lathe-14",
            words="It says that there is nothing to start from.",
            facts={"form": "laptop", "data": "backed-up"} if number else {"form": "laptop"},
            entries=[],
            bay=number + 1,
            by="KT",
        ).id
        for entry in entries:
            house.tickets.append(ticket, entry, by="KT")
    house.shop.database.close()
    return folder / DATABASE


def dump(step: str) -> str:
    """The small shop in the format of that step."""
    upto = [name for name, _ in MIGRATIONS].index(step) + 1
    with tempfile.TemporaryDirectory() as scratch:
        full = filled(Path(scratch))
        with closing(sqlite3.connect(":memory:", isolation_level=None)) as own:
            migrate(own, atomic, upto=upto)
            own.execute("ATTACH DATABASE ? AS now", (str(full),))
            tables = [row[0] for row in own.execute("SELECT name FROM main.sqlite_master WHERE type = 'table'")]
            for table in (t for t in tables if t != "migration" and not t.startswith("sqlite_")):
                columns = [row[1] for row in own.execute(f"PRAGMA main.table_info({table})")]
                names = ", ".join(columns)
                own.execute(f"DELETE FROM main.{table}")
                own.execute(f"INSERT INTO main.{table} ({names}) SELECT {names} FROM now.{table}")
            own.execute("DETACH DATABASE now")
            return "\n".join(own.iterdump()) + "\n"


if __name__ == "__main__":
    name = sys.argv[1] if len(sys.argv) > 1 else MIGRATIONS[-1][0]
    SHOPS.mkdir(parents=True, exist_ok=True)
    (SHOPS / f"{name}.sql").write_text(dump(name), encoding="utf-8")
