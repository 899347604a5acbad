"""A customer erased for good: from the database and its free pages, from files, from what the links brought, and from
the copies that restores have left beside the shop."""

from __future__ import annotations

import hashlib
import json
import shutil
import sqlite3
import tempfile
from collections.abc import Callable, Mapping
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.store.database import Database, StoreError
from gatecheck.store.keeping import BEFORE, COPIES, DATABASE, FILES, VOLUMES, backup, moment, put_file, restore

ERASED = "—"
_WRITTEN = ("note", "reason", "says", "value")
_ENTRIES = "SELECT place, body FROM entry WHERE ticket_id = ? ORDER BY place"
_TRIGGER = (
    "CREATE TRIGGER entry_no_update BEFORE UPDATE ON entry BEGIN SELECT RAISE(ABORT, 'the tape is append-only'); END"
)
_PICTURES = "SELECT sha256 FROM picture WHERE ticket_id = ? UNION SELECT sha256 FROM recording WHERE ticket_id = ?"
_USED = (
    "SELECT 1 FROM picture WHERE sha256 = :d UNION SELECT 1 FROM attachment WHERE sha256 = :d UNION SELECT 1 FROM "
    "recording WHERE sha256 = :d"
)
_PAGES = "DELETE FROM link_page WHERE session_id IN (SELECT id FROM link_session WHERE ticket_id = ?)"
_ERASE = (
    "INSERT INTO erasure (ticket_id, erased_by, erased_at, told) VALUES (?, ?, ?, ?) "
    "ON CONFLICT DO UPDATE SET erased_at = excluded.erased_at, told = excluded.told"
)
Strip = Callable[[str, bytes], bytes | None]
"""name and bytes of a file of a ticket -> what stays of it; None where nothing does"""


@dataclass(frozen=True, slots=True)
class Erasure:
    """When a ticket's customer was erased, and which safety copies were written anew or deleted for it: (name,
    rewritten or deleted)."""

    at: str
    copies: tuple[tuple[str, str], ...]


def erasure_of(connection: sqlite3.Connection, ticket_id: int) -> Erasure | None:
    row = connection.execute("SELECT erased_at, told FROM erasure WHERE ticket_id = ?", (ticket_id,)).fetchone()
    return Erasure(str(row[0]), tuple((str(name), str(what)) for name, what in json.loads(row[1]))) if row else None


def erase_customer(
    database: Database,
    files: Path,
    ticket_id: int,
    knowledge: Knowledge,
    strip: Strip,
    *,
    by: str,
    told: tuple[tuple[str, str], ...] = (),
    even_open: bool = False,
) -> None:
    """Take the customer out of a handed-over ticket for good: name, words, everything that somebody wrote, pictures,
    file names, and every sector of their disks that was read. What the shop learned, readings and serials stay.
    Overwritten in the database, not only unlinked. Raises StoreError where the ticket is open."""
    with database.write() as own:
        row = own.execute("SELECT closed_at, facts FROM ticket WHERE id = ?", (ticket_id,)).fetchone()
        if row is None or (row[0] is None and not even_open):
            raise StoreError(
                f"ticket {ticket_id}: expected one that was handed over, got {'an open one' if row else 'none'}"
            )
        own.execute("PRAGMA secure_delete = ON")
        facts = {k: v for k, v in json.loads(row[1]).items() if k in knowledge.facts or isinstance(v, int | float)}
        own.execute(
            "UPDATE ticket SET customer = ?, words = '', facts = ?, request_key = NULL WHERE id = ?",
            (ERASED, json.dumps(facts), ticket_id),
        )
        renamed = _strip_attachments(own, files, ticket_id, strip)
        own.execute("DROP TRIGGER entry_no_update")
        for place, body in own.execute(_ENTRIES, (ticket_id,)).fetchall():
            own.execute(
                "UPDATE entry SET body = ? WHERE ticket_id = ? AND place = ?",
                (json.dumps(_without_customer(json.loads(body), knowledge, renamed)), ticket_id, place),
            )
        own.execute(_TRIGGER)
        _strip_link(own, ticket_id)
        gone = {d for (d,) in own.execute(_PICTURES, (ticket_id, ticket_id))} | {
            old for old, new in renamed.items() if old != new
        }
        own.execute("DELETE FROM picture WHERE ticket_id = ?", (ticket_id,))
        own.execute("DELETE FROM recording WHERE ticket_id = ?", (ticket_id,))
        gone = {d for d in gone if not own.execute(_USED, {"d": d}).fetchone()}
        own.executemany("DELETE FROM file WHERE sha256 = ?", [(d,) for d in gone])
        own.execute(_ERASE, (ticket_id, by, moment(), json.dumps(told)))
    for digest in gone:
        (files / digest[:2] / digest).unlink(missing_ok=True)
    database.forget()


def _strip_attachments(own: sqlite3.Connection, files: Path, ticket_id: int, strip: Strip) -> dict[str, str]:
    """Each file of the ticket without its customer: its digest before -> the one that it has now, empty where nothing
    of it stays."""
    found: dict[str, str] = {}
    for number, digest, name in own.execute(
        "SELECT id, sha256, name FROM attachment WHERE ticket_id = ?", (ticket_id,)
    ).fetchall():
        place = files / digest[:2] / digest
        stays = strip(name, place.read_bytes()) if place.is_file() else None
        if stays is None:
            found[digest] = ""
            own.execute("DELETE FROM attachment WHERE id = ?", (number,))
            continue
        new = found[digest] = hashlib.sha256(stays).hexdigest()
        put_file(files.parent, new, stays)
        own.execute(
            "INSERT INTO file (sha256, size, added_at) VALUES (?, ?, ?) ON CONFLICT DO NOTHING",
            (new, len(stays), moment()),
        )
        own.execute("UPDATE attachment SET sha256 = ?, name = ? WHERE id = ?", (new, f"{new[:12]}.gcap", number))
    return found


def _strip_link(own: sqlite3.Connection, ticket_id: int) -> None:
    """Pages that the probe sent, and the sectors that an order carries: nothing can be taken back any more."""
    own.execute(_PAGES, (ticket_id,))
    for number, body in own.execute("SELECT id, body FROM link_order WHERE ticket_id = ?", (ticket_id,)).fetchall():
        kept = {k: v for k, v in json.loads(body).items() if k not in ("writes", "what")}
        if kept.get("order") in ("mend", "entry"):
            kept |= {"writes": [], "what": ERASED}
        own.execute("UPDATE link_order SET body = ?, detail = '' WHERE id = ?", (json.dumps(kept), number))


def _without_customer(body: Any, knowledge: Knowledge, renamed: Mapping[str, str]) -> dict[str, Any]:
    """An entry as it stays: ids and numbers, nothing that somebody wrote."""
    if not isinstance(body, dict) or "picture" in body or "unreadable" in body:
        return {"note": ERASED}
    kept = dict(body)
    for name in _WRITTEN:
        if isinstance(kept.get(name), str) and not (
            name == "value" and ("saw" in kept or kept.get(name) in knowledge.checks["screen"].outcomes)
        ):
            kept[name] = ERASED
    if isinstance(kept.get("note"), dict):
        kept["note"] = _without_texts(kept["note"])
    if isinstance(kept.get("fact"), dict):
        kept["fact"] = {
            k: v
            for k, v in kept["fact"].items()
            if k in knowledge.facts or isinstance(v, int | float) or k == "drive_serial"
        }
    if isinstance(kept.get("part"), dict) and kept["part"].get("shelf") is None:
        kept["part"] = {**kept["part"], "name": ERASED}
    if isinstance(kept.get("rests_on"), dict):
        old = str(kept["rests_on"].get("file", ""))
        new = renamed.get(old, old) or old
        kept["rests_on"] = {**kept["rests_on"], "file": new, "name": f"{new[:12]}.gcap"}
    return kept


_SAYS_NOBODY = ("serial", "machine", "device", "kind", "status", "gate", "check", "fix", "state")


def _without_texts(note: Mapping[str, Any]) -> dict[str, Any]:
    """A sentence of ours with its numbers; a text in it may be a name on the customer's disk."""
    values = {
        name: value
        if isinstance(value, int | float | bool) or value is None or name in _SAYS_NOBODY
        else _without_texts(value)
        if isinstance(value, dict) and "say" in value
        else ERASED
        for name, value in (note.get("values") or {}).items()
    }
    return {"say": note.get("say", ""), **({"values": values} if values else {})}


# --- what restores have left beside the shop -------------------------------------------------------------------------


def erase_safety_copies(
    data: Path, customer: str, knowledge: Knowledge, strip: Strip, *, by: str
) -> tuple[tuple[str, str], ...]:
    """Erase a customer from every copy of the shop that a restore has left: written anew where that can be done,
    deleted where it cannot. (name, what was done). Raises StoreError where one can be neither."""
    done: list[tuple[str, str]] = []
    known: set[str] = set()
    for place in sorted(data.glob(f"{BEFORE}*.zip")):
        known.add(place.stem)
        try:
            ids = _erase_in(place, data, customer, knowledge, strip, by=by)
        except StoreError:
            _remove(place)
            done.append((place.name, "deleted"))
            ids = None
        if ids:
            done.append((place.name, "rewritten"))
        for folder in (data / f"{kind}-{place.stem}" for kind in (COPIES, VOLUMES)):
            if folder.is_dir():
                done += _without_tickets(folder, ids)
    for kind in (COPIES, VOLUMES):
        for folder in sorted(data.glob(f"{kind}-{BEFORE}*")):
            if (
                folder.is_dir() and folder.name.removeprefix(f"{kind}-") not in known
            ):  # nobody can tell any more whose they are
                _remove(folder)
                done.append((folder.name, "deleted"))
    return tuple(done)


def _erase_in(place: Path, data: Path, customer: str, knowledge: Knowledge, strip: Strip, *, by: str) -> list[int]:
    """Tickets of the customer in a backup, which are erased in it. Raises StoreError."""
    with tempfile.TemporaryDirectory(dir=data, prefix=".erase-") as scratch:
        shop = Path(scratch) / "shop"
        restore(place, shop)
        with closing(sqlite3.connect(shop / DATABASE)) as own:
            ids = [int(row[0]) for row in own.execute("SELECT id FROM ticket WHERE customer = ?", (customer,))]
        if not ids:
            return []
        database = Database(shop / DATABASE)
        try:
            for ticket_id in ids:
                erase_customer(database, shop / FILES, ticket_id, knowledge, strip, by=by, even_open=True)
        finally:
            database.close()
        backup(shop, place)
    return ids


def _without_tickets(folder: Path, ids: list[int] | None) -> list[tuple[str, str]]:
    """The folders of these tickets go; all of them where it cannot be told which those are."""
    if ids is None:
        _remove(folder)
        return [(folder.name, "deleted")]
    own = [folder / str(ticket_id) for ticket_id in ids if (folder / str(ticket_id)).is_dir()]
    for place in own:
        _remove(place)
    return [(folder.name, "rewritten")] if own else []


def _remove(place: Path) -> None:
    """Raises StoreError."""
    try:
        shutil.rmtree(place) if place.is_dir() else place.unlink()
    except OSError as error:
        raise StoreError(f"{place}: expected a safety copy that can be deleted, got {error.strerror}") from error
