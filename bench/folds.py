"""How often a tape is folded, and how many events go out, per action of a technician: printed from the real services.

.venv/bin/python bench/folds.py
"""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from gatecheck.server.services import Services, open_services
from gatecheck.server.tickets.folded import COUNT
from practised import capture_of


def actions(house: Services) -> list[tuple[str, Callable[[], object]]]:
    """(name, action) in the order a ticket would see them."""
    ticket = house.tickets.take_in(
        customer="Bakery",
        machine="Ferrow Lathe-14",
        words="",
        facts={"drive_kind": "hdd", "platform": "pc"},
        entries=[{"move": "screen", "outcome": "no-boot-device"}],
        bay=1,
        by="KT",
    ).id
    capture = capture_of("growing")
    return [
        ("open the ticket", lambda: house.tickets.ticket(ticket)),
        (
            "answer the move in hand",
            lambda: house.tickets.append(ticket, {"move": "setup-entry", "outcome": "reached"}, by="KT"),
        ),
        ("open the ticket again", lambda: house.tickets.ticket(ticket)),
        ("open Settings", lambda: house.instruments.settings(ticket)),
        ("open Sightings", lambda: house.instruments.sightings(ticket)),
        ("open the keys", lambda: house.instruments.keys_of_ticket(ticket)),
        ("look at the bench", house.bench.overview),
        ("drop a capture", lambda: house.captures.add_file(ticket, "machine.gcap", capture, by="KT")),
        ("open Pages", lambda: house.captures.captures(ticket)),
        ("open Settings after it", lambda: house.instruments.settings(ticket)),
        ("open the call sheet", lambda: house.tickets.sheet(ticket, {})),
        ("change a term on it", lambda: house.tickets.sheet(ticket, {"budget": 100})),
        (
            "put a setting back and try the next",
            lambda: house.tickets.append_all(ticket, [({"note": "one"}, "a"), ({"note": "two"}, "b")], by="KT"),
        ),
        ("sign the call", lambda: house.tickets.append(ticket, {"signed": "replace", "fix": "replace-drive"}, by="KT")),
        ("ask what it was", lambda: house.learning.guesses(ticket)),
        (
            "hand it over",
            lambda: house.learning.hand_over(ticket, ["drive.media"], by="KT", waive="No proof is measured here"),
        ),
    ]


def measured() -> list[tuple[str, int, int, int]]:
    """(action, folds, events, entries on the tape by it)."""
    rows = []
    with tempfile.TemporaryDirectory() as folder:
        house = open_services(Path(folder))
        events: list[object] = []
        house.shop.announce = events.append
        for name, act in actions(house):
            folds, heard, length = COUNT.folds, len(events), _length(house)
            act()
            rows.append((name, COUNT.folds - folds, len(events) - heard, _length(house) - length))
        house.shop.database.close()
    return rows


def _length(house: Services) -> int:
    with house.shop.database.read() as connection:
        return int(connection.execute("SELECT count(*) FROM entry").fetchone()[0])


if __name__ == "__main__":
    print(f"{'action':40}{'folds':>7}{'events':>8}{'entries':>9}")
    for name, folds, events, entries in measured():
        print(f"{name:40}{folds:7}{events:8}{entries:9}")
