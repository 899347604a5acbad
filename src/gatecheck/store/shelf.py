"""The shop's shelf of drives and cables. What of it is reserved stands on the tapes; nothing is counted twice."""

from __future__ import annotations

import sqlite3
from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence

from gatecheck.core.work.parts import Item
from gatecheck.store.database import StoreError
from gatecheck.store.tickets import loads

_COLUMNS = "id, kind, name, interface, form, key, height_mm, length_mm, flash, size_gb, price, count"
_ALL = f"SELECT {_COLUMNS} FROM shelf ORDER BY kind DESC, interface, form, size_gb, name, id"
_PUT = """
    INSERT INTO shelf (kind, name, interface, form, key, height_mm, length_mm, flash, size_gb, price, count)
    VALUES (:kind, :name, :interface, :form, :key, :height_mm, :length_mm, :flash, :size_gb, :price, :count)
    ON CONFLICT (kind, name, interface, form, size_gb) DO UPDATE SET key = excluded.key,
        height_mm = excluded.height_mm, length_mm = excluded.length_mm,
        flash = excluded.flash, price = excluded.price, count = excluded.count"""
_REMOVE = "DELETE FROM shelf WHERE id = ?"
_CHOSEN = """
    SELECT ticket_id, place, json_extract(body, '$.part.shelf') FROM entry
    WHERE json_extract(body, '$.part') IS NOT NULL ORDER BY ticket_id, place"""
_UNDOS = """
    SELECT ticket_id, place, json_extract(body, '$.undo') FROM entry
    WHERE json_extract(body, '$.undo') IS NOT NULL ORDER BY ticket_id, place DESC"""


def taken_back(connection: sqlite3.Connection) -> Mapping[int, set[int]]:
    """Ticket -> places of its entries that an undo took back (an undo that was itself undone takes nothing back)."""
    found: defaultdict[int, set[int]] = defaultdict(set)
    for ticket_id, place, target in connection.execute(_UNDOS):
        if place not in found[ticket_id]:
            found[ticket_id].add(target)
    return found


def reserved(connection: sqlite3.Connection, but_for: int | None = None) -> Counter[int]:
    """Number on the shelf -> how many tickets have chosen it: the last part of each tape that stands."""
    undone, last = taken_back(connection), {}
    for ticket_id, place, shelf in connection.execute(_CHOSEN):
        if place not in undone[ticket_id] and ticket_id != but_for:
            last[ticket_id] = shelf
    return Counter(shelf for shelf in last.values() if isinstance(shelf, int))


def shelf(connection: sqlite3.Connection, but_for: int | None = None) -> list[Item]:
    """Everything on the shelf. `but_for`: a ticket whose own reservation is not counted."""
    gone = reserved(connection, but_for)
    return [
        Item(
            number,
            kind,
            name,
            interface,
            form,
            key,
            height,
            length,
            bool(flash),
            size,
            price,
            count,
            max(count - gone[number], 0),
        )
        for number, kind, name, interface, form, key, height, length, flash, size, price, count in connection.execute(
            _ALL
        )
    ]


def check_left(connection: sqlite3.Connection, item_id: int, ticket_id: int) -> None:
    """Raises StoreError where nobody can have one more of it. Inside the transaction that reserves it, so that none is
    sold twice."""
    item = next((i for i in shelf(connection, ticket_id) if i.id == item_id), None)
    if item is None or item.left < 1:
        raise StoreError(
            f"part {item_id}: expected one that is left, got "
            f"{'none by that number' if item is None else f'{item.name}, of which the last was taken'}"
        )


def put_items(connection: sqlite3.Connection, items: Sequence[Item]) -> None:
    """Lay items on the shelf; one of the same name, form and size is brought up to date."""
    for item in items:
        connection.execute(
            _PUT,
            {
                "kind": item.kind,
                "name": item.name,
                "interface": item.interface,
                "form": item.form,
                "key": item.key,
                "height_mm": item.height_mm,
                "length_mm": item.length_mm,
                "flash": int(item.flash),
                "size_gb": item.size_gb,
                "price": item.price,
                "count": item.count,
            },
        )


def remove_item(connection: sqlite3.Connection, item_id: int) -> None:
    """Take one off the shelf. Raises StoreError where there is none, or tickets have chosen it."""
    if reserved(connection)[item_id]:
        raise StoreError(f"part {item_id}: expected one that nobody has reserved, got one that is on a ticket")
    if not connection.execute(_REMOVE, (item_id,)).rowcount:
        raise StoreError(f"part {item_id}: expected one of the shelf, got none by that number")


# --- what was taken apart here --------------------------------------------------------------------------------------

_OUT = """
    SELECT e.ticket_id, e.place, e.body, e.made_at, t.machine,
        coalesce(json_extract(t.facts, '$.platform'), 'pc'), coalesce(json_extract(t.facts, '$.form'), '')
    FROM entry e JOIN ticket t ON t.id = e.ticket_id
    WHERE json_extract(e.body, '$.out') IS NOT NULL ORDER BY e.made_at, e.ticket_id, e.place"""


def groups_out(connection: sqlite3.Connection) -> list[tuple[int, str, str, str, dict[str, object], str]]:
    """(ticket, machine, platform, form, entry, moment) of every group that came off a machine and was not taken back,
    oldest first."""
    undone = taken_back(connection)
    return [
        (ticket, machine, platform, form, loads(body), moment)
        for ticket, place, body, moment, machine, platform, form in connection.execute(_OUT)
        if place not in undone[ticket]
    ]


_MACHINES = "SELECT machine, max(id) FROM ticket WHERE id <> ? GROUP BY machine COLLATE NOCASE"


def machine_names(connection: sqlite3.Connection, but_for: int) -> list[str]:
    """Names of the machines that were here on other tickets."""
    return [str(name) for name, _ in connection.execute(_MACHINES, (but_for,))]
