"""Keeping a shop: backup and restore while it runs, one ticket out and in, a customer's data erased. Files are told by
their hashes, all is checked before anything is changed."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import sqlite3
import tempfile
import zipfile
import zlib
from collections.abc import Iterator, Mapping
from contextlib import closing, contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from gatecheck.adapters.durable_file import durable, put_in_place, write_durably
from gatecheck.core.errors import TapeError
from gatecheck.core.knowledge.tables import Knowledge
from gatecheck.core.tape.parse import parse_entries, parse_facts
from gatecheck.store.database import Database, StoreError, atomic
from gatecheck.store.migrations import MIGRATIONS
from gatecheck.store.updates import ENTRIES_SINCE, TICKETS_SINCE, SafetyCopy, newest_copy, put_back

DATABASE, FILES = "gatecheck.sqlite3", "files"
COPIES, VOLUMES = "copies", "volumes"
"""folder of images of customers' drives; no part of a backup"""
FORMAT, TICKET_FORMAT = "gate check shop 1", "gate check ticket 1"
_LARGEST = 64 << 30
_AT_ONCE = 1 << 20
_RATIO, _ALWAYS = 200, 8 << 20
"""how much smaller than itself something of ours may be packed; what is small may be packed as it likes"""
BEFORE = "before-restore-"
"""how a file begins that holds the shop as it was before a restore"""
_LARGEST_TICKET = 1 << 30


class KeepingError(StoreError):
    """A file or a folder that is not what it should be: nothing was changed."""


def moment() -> str:
    """Now, as it is kept."""
    return datetime.now(UTC).isoformat(timespec="milliseconds")


def _sha256(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


# --- the whole shop --------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Kept:
    """What a backup holds, or what was brought back."""

    tickets: int
    files: int
    bytes: int


def backup(data: Path, target: Path) -> Kept:
    """Write the whole shop into one file while it runs: the database through SQLite's own backup, the files by their
    hashes, all read back.

    Raises KeepingError where there is no shop, StoreError where it cannot be written. An earlier file under that name
    stays until the new one is whole."""
    source = data / DATABASE
    if not source.is_file():
        raise KeepingError(f"--data {data}: expected a shop's folder, got none with {DATABASE}")
    with tempfile.TemporaryDirectory(dir=_folder_of(target), prefix=".gatecheck-") as scratch:
        copy = Path(scratch) / DATABASE
        try:
            with (
                closing(sqlite3.connect(f"file:{source}?mode=ro", uri=True)) as running,
                closing(sqlite3.connect(copy)) as own,
            ):
                running.backup(own, pages=256, sleep=0.005)
                own.execute("PRAGMA journal_mode=DELETE")
                wanted = [row[0] for row in own.execute("SELECT sha256 FROM file ORDER BY sha256")]
                tickets = int(own.execute("SELECT count(*) FROM ticket").fetchone()[0])
                steps = [row[0] for row in own.execute("SELECT name FROM migration")]
            whole = Path(scratch) / "backup.zip"
            total = copy.stat().st_size
            with zipfile.ZipFile(whole, "w", zipfile.ZIP_DEFLATED) as archive:
                archive.write(copy, DATABASE)
                for digest in wanted:
                    content = _file(data, digest)
                    total += len(content)
                    archive.writestr(zipfile.ZipInfo(f"{FILES}/{digest}"), content)
                manifest = {
                    "format": FORMAT,
                    "made_at": moment(),
                    "steps": steps,
                    "tickets": tickets,
                    "files": len(wanted),
                    "database": _sha256(copy.read_bytes()),
                }
                archive.writestr("manifest.json", json.dumps(manifest))
            _opened(whole)
            put_in_place(whole, target)
        except (sqlite3.Error, OSError) as error:
            raise StoreError(f"backup {target}: expected room to write and a readable shop, got {error}") from error
    return Kept(tickets, len(wanted), total)


def restore(source: Path, data: Path, *, over: bool = False) -> tuple[Kept, Path | None]:
    """Bring a backup back, also while the server runs; what was there before is kept in a file beside it, whose path is
    returned.

    Raises KeepingError for a broken backup or one of a newer program, StoreError where the shop holds tickets that the
    backup does not (`over` says that they may go). Nothing is changed by any of these."""
    content = _opened(source)
    place = data / DATABASE
    data.mkdir(parents=True, exist_ok=True)
    new: list[Path] = []
    with tempfile.TemporaryDirectory(dir=data, prefix=".restore-") as scratch:
        copy = Path(scratch) / DATABASE
        with _zip(source, _LARGEST) as archive:
            _member_to(archive, DATABASE, copy)
            tickets = _checked_database(source, copy)
            before = None
            if place.is_file():
                newer = _only_here(place, copy)
                if newer and not over:
                    raise StoreError(
                        f"restore {source}: expected a shop without work of its own since the backup, got {newer}; "
                        f"`--over` restores all the same and keeps it in a file"
                    )
                before = data / f"{BEFORE}{datetime.now(UTC).strftime('%Y%m%d-%H%M%S-%f')}.zip"
                backup(data, before)
            try:
                for digest in content:
                    own = _put_member(data, digest, archive)
                    if own is not None:
                        new.append(own)
                Database(place).close()  # brings an empty folder's database into being, or an older one up to date
                with closing(sqlite3.connect(copy)) as own_copy, closing(sqlite3.connect(place, timeout=30)) as running:
                    last = int(running.execute("SELECT n FROM epoch").fetchone()[0])
                    own_copy.execute("UPDATE epoch SET n = ?", (last + 1,))
                    own_copy.commit()
                    own_copy.backup(running)
                    running.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            except (sqlite3.Error, OSError, StoreError) as error:
                for own in new:
                    own.unlink(missing_ok=True)
                if before is not None:
                    before.unlink(missing_ok=True)
                raise StoreError(
                    f"restore {source}: expected a database that can be written, got {error}; nothing was changed"
                ) from error
    for folder in (COPIES, VOLUMES):  # they are of the tickets that were here: numbers may mean others now
        if before is not None and (data / folder).is_dir():
            (data / folder).rename(data / f"{folder}-{before.stem}")
    return Kept(tickets, len(content), 0), before


def rehearse_restore(source: Path, data: Path) -> dict[str, object]:
    """Restore a backup beside the shop, and compare: what it holds, what the shop has that it lacks, and what differs
    in what both have. Changes nothing. Raises KeepingError for a backup that could not be restored."""
    content = _opened(source)
    with tempfile.TemporaryDirectory(prefix="gatecheck-") as scratch:
        copy = Path(scratch) / DATABASE
        with _zip(source, _LARGEST) as archive:
            _member_to(archive, DATABASE, copy)
        tickets = _checked_database(source, copy)
        told: dict[str, object] = {"restorable": True, "tickets": tickets, "files": len(content)}
        place = data / DATABASE
        if not place.is_file():
            return told | {"since": None, "differ": None}
        with closing(sqlite3.connect(f"file:{place}?mode=ro", uri=True, timeout=30)) as running:
            running.execute("ATTACH DATABASE ? AS old", (str(copy),))
            since = {name: int(running.execute(query).fetchone()[0]) for name, query in _REHEARSED.items()}
            differ = [row[0] for row in running.execute(_DIFFERENT)]
    return told | {"since": since, "differ": differ}


_REHEARSED = {
    "tickets": TICKETS_SINCE,
    "entries": ENTRIES_SINCE,
    "files": "SELECT count(*) FROM main.file f WHERE NOT EXISTS (SELECT 1 FROM old.file o WHERE o.sha256 = f.sha256)",
}
_DIFFERENT = (
    "SELECT DISTINCT t.number FROM main.entry e JOIN old.entry o ON o.ticket_id = e.ticket_id AND o.place = e.place "
    "AND o.made_at = e.made_at JOIN main.ticket t ON t.id = e.ticket_id WHERE o.body IS NOT e.body ORDER BY t.number "
    "LIMIT 50"
)
"""numbers of tickets one of whose entries is another in the backup"""


def go_back(data: Path, *, apply: bool) -> tuple[SafetyCopy | None, Path | None]:
    """(the newest copy from before an update that this program can use, where what it replaced is kept once `apply` has
    put it in place). Raises KeepingError, StoreError."""
    if not (data / DATABASE).is_file():
        raise KeepingError(f"--data {data}: expected a shop's folder, got none with {DATABASE}")
    try:
        copy = newest_copy(data, DATABASE)
        return copy, put_back(data, DATABASE, copy) if copy is not None and apply else None
    except (sqlite3.Error, OSError) as error:
        raise StoreError(f"go-back: expected a database that nobody uses, got {error}; nothing was changed") from error


def _migrated(connection: sqlite3.Connection) -> None:
    from gatecheck.store.migrations import migrate

    connection.isolation_level = None
    migrate(connection, atomic)


def _only_here(place: Path, copy: Path) -> str:
    """What the running shop holds that the backup does not, in words; empty where nothing."""
    with closing(sqlite3.connect(f"file:{place}?mode=ro", uri=True, timeout=30)) as running:
        running.execute("ATTACH DATABASE ? AS old", (str(copy),))
        tickets, entries = (running.execute(query).fetchone()[0] for query in (TICKETS_SINCE, ENTRIES_SINCE))
    return f"{tickets} tickets and {entries} entries that it does not hold" if entries or tickets else ""


def _opened(source: Path) -> list[str]:
    """File digests of a backup, every byte checked. Raises KeepingError."""
    with _zip(source, _LARGEST) as archive:
        manifest = _manifest(source, archive, FORMAT)
        known = [name for name, _ in MIGRATIONS]
        steps = manifest.get("steps", [])
        newer = [s for s in steps if s not in known] if isinstance(steps, list) else [steps]
        if newer:
            raise KeepingError(
                f"{source}: expected a backup of this program or an older one, got one of a newer program "
                f"({', '.join(map(str, newer))[:80]})"
            )
        if _member_sum(archive, DATABASE) != manifest.get("database"):
            raise KeepingError(f"{source}: expected the database as it was written, got other bytes")
        digests = [name.partition("/")[2] for name in archive.namelist() if name.startswith(f"{FILES}/")]
        for digest in digests:
            if _member_sum(archive, f"{FILES}/{digest}") != digest:
                raise KeepingError(f"{source}: expected file {digest[:12]} as it was written, got other bytes")
        if len(digests) != manifest.get("files"):
            raise KeepingError(f"{source}: expected {manifest.get('files')} files, got {len(digests)}")
        return digests


def _checked_database(source: Path, copy: Path) -> int:
    """How many tickets it holds, once it is up to date and of just the tables, indexes and triggers that this program
    makes. Raises KeepingError."""
    try:
        with closing(sqlite3.connect(copy)) as own:
            found = own.execute("PRAGMA integrity_check").fetchone()[0]
            if found != "ok":
                raise KeepingError(f"{source}: expected a sound database, got {found}")
            odd = _odd_schema(own, _steps_of(own))
            if odd:
                raise KeepingError(
                    f"{source}: expected a database of this program's, got one with {odd}; nothing was changed"
                )
            _migrated(own)
            odd = _odd_schema(own, None)
            if odd:
                raise KeepingError(
                    f"{source}: expected a database of this program's, got one with {odd}; nothing was changed"
                )
            return int(own.execute("SELECT count(*) FROM ticket").fetchone()[0])
    except (sqlite3.Error, StoreError) as error:
        if isinstance(error, KeepingError):
            raise
        raise KeepingError(f"{source}: expected a shop's database, got {error}; nothing was changed") from error


def _steps_of(own: sqlite3.Connection) -> int:
    """How many steps of the schema it has gone through. Raises sqlite3.Error."""
    done = {row[0] for row in own.execute("SELECT name FROM migration")}
    return next((n for n, (name, _) in enumerate(MIGRATIONS) if name not in done), len(MIGRATIONS))


def _odd_schema(own: sqlite3.Connection, steps: int | None) -> str:
    """What of its schema is not as these steps make it; empty where all is."""
    from gatecheck.store.migrations import migrate

    with closing(sqlite3.connect(":memory:", isolation_level=None)) as fresh:
        migrate(fresh, atomic, steps)
        wanted, got = (
            {
                (kind, name): " ".join(str(sql or "").split())
                for kind, name, sql in connection.execute(
                    "SELECT type, name, sql FROM sqlite_master WHERE name NOT LIKE 'sqlite_stat%'"
                )
            }
            for connection in (fresh, own)
        )
    extra, lacking = sorted(got.keys() - wanted.keys()), sorted(wanted.keys() - got.keys())
    changed = sorted(key for key in got.keys() & wanted.keys() if got[key] != wanted[key])
    return next(
        (
            f"{what} {kind} {name[:40]}"
            for what, keys in (("a foreign", extra), ("no", lacking), ("another", changed))
            for kind, name in keys
        ),
        "",
    )


# --- one ticket ------------------------------------------------------------------------------------------------------

_TICKET = (
    "SELECT number, customer, machine, words, facts, opened_by, opened_at, closed_at FROM ticket WHERE number = "
    "? OR CAST(id AS TEXT) = ?"
)
_ENTRIES = "SELECT place, body, made_by, made_at FROM entry WHERE ticket_id = ? ORDER BY place"
_ATTACHED = "SELECT sha256, name, added_by, added_at FROM attachment WHERE ticket_id = ? ORDER BY id"
_LESSON_COLUMNS = ("closed_at", "context", "faults", "expected", "choice", "confidence", "suspects", "was_right")
_LESSON = f"SELECT {', '.join(_LESSON_COLUMNS)} FROM lesson WHERE ticket_id = ?"
_TEACH = (
    f"INSERT INTO lesson (ticket_id, era, {', '.join(_LESSON_COLUMNS)}) VALUES (?, (SELECT count(*) FROM "
    f"learning_reset), ?, ?, ?, ?, ?, ?, ?, ?)"
)
_RECORDINGS = "SELECT sha256, kind, name, added_by, added_at FROM recording WHERE ticket_id = ?"
_PICTURES = "SELECT sha256, added_by, added_at FROM picture WHERE ticket_id = ?"


def export_ticket(data: Path, number: str, target: Path) -> Kept:
    """Write one ticket with its tape and files into one file. Raises KeepingError where there is none by that
    number."""
    place = data / DATABASE
    if not place.is_file():
        raise KeepingError(f"--data {data}: expected a shop's folder, got none with {DATABASE}")
    with closing(sqlite3.connect(f"file:{place}?mode=ro", uri=True, timeout=30)) as own:
        row = own.execute(_TICKET, (number, number)).fetchone()
        if row is None:
            raise KeepingError(f"{number}: expected a ticket of this shop, got none by that number")
        ticket = dict(
            zip(
                ("number", "customer", "machine", "words", "facts", "opened_by", "opened_at", "closed_at"),
                row,
                strict=True,
            )
        )
        ticket["facts"] = json.loads(ticket["facts"])
        (ticket_id,) = own.execute("SELECT id FROM ticket WHERE number = ?", (ticket["number"],)).fetchone()
        ticket["tape"] = [
            {"place": p, "body": json.loads(body), "by": by, "at": at}
            for p, body, by, at in own.execute(_ENTRIES, (ticket_id,))
        ]
        ticket["files"] = [
            {"sha256": s, "name": n, "by": by, "at": at} for s, n, by, at in own.execute(_ATTACHED, (ticket_id,))
        ]
        lesson = own.execute(_LESSON, (ticket_id,)).fetchone()
        ticket["lesson"] = dict(zip(_LESSON_COLUMNS, lesson, strict=True)) if lesson else None
        ticket["pictures"] = [{"sha256": s, "by": by, "at": at} for s, by, at in own.execute(_PICTURES, (ticket_id,))]
        ticket["recordings"] = [
            {"sha256": s, "kind": k, "name": n, "by": by, "at": at}
            for s, k, n, by, at in own.execute(_RECORDINGS, (ticket_id,))
        ]
    digests = sorted({f["sha256"] for f in _files_of(ticket)})
    with tempfile.TemporaryDirectory(dir=_folder_of(target), prefix=".gatecheck-") as scratch:
        whole = Path(scratch) / "ticket.zip"
        try:
            with zipfile.ZipFile(whole, "w", zipfile.ZIP_DEFLATED) as archive:
                text = json.dumps(ticket)
                archive.writestr(
                    "manifest.json",
                    json.dumps({"format": TICKET_FORMAT, "made_at": moment(), "ticket": _sha256(text.encode())}),
                )
                archive.writestr("ticket.json", text)
                for digest in digests:
                    archive.writestr(zipfile.ZipInfo(f"{FILES}/{digest}"), _file(data, digest))
            put_in_place(whole, target)
        except OSError as error:
            raise StoreError(f"export {target}: expected room to write, got {error.strerror}") from error
    return Kept(1, len(digests), target.stat().st_size)


def _files_of(ticket: Mapping[str, Any]) -> list[Mapping[str, Any]]:
    """Every file that a ticket has. One that was exported before there were recordings has none."""
    return [*ticket["files"], *ticket["pictures"], *ticket.get("recordings", [])]


def import_ticket(source: Path, data: Path, knowledge: Knowledge, *, prefix: str = "GC") -> str:
    """Take an exported ticket in, whole, off the bench; its number stays where nobody has it. Returns the number.
    Raises KeepingError for what is no such file, or speaks of ids that this shop's tables do not know; then nothing is
    kept."""
    with _zip(source, _LARGEST_TICKET) as archive:
        manifest = _manifest(source, archive, TICKET_FORMAT)
        text = archive.read("ticket.json")
        if _sha256(text) != manifest.get("ticket"):
            raise KeepingError(f"{source}: expected the ticket as it was written, got other bytes")
        ticket = _ticket_of(source, text, knowledge)
        content = {}
        for name in archive.namelist():
            if name.startswith(f"{FILES}/"):
                digest = name.partition("/")[2]
                content[digest] = archive.read(name)
                if _sha256(content[digest]) != digest:
                    raise KeepingError(f"{source}: expected file {digest[:12]} as it was written, got other bytes")
    lacking = {f["sha256"] for f in _files_of(ticket)} - content.keys()
    if lacking:
        raise KeepingError(f"{source}: expected all of its files, got none of {sorted(lacking)[0][:12]}")
    for digest, stored in content.items():
        put_file(data, digest, stored)
    data.mkdir(parents=True, exist_ok=True)
    database = Database(data / DATABASE)
    try:
        with database.write() as own:
            try:
                return _keep_ticket(own, ticket, {d: len(c) for d, c in content.items()}, prefix)
            except (
                sqlite3.IntegrityError,
                sqlite3.InterfaceError,
                sqlite3.ProgrammingError,
                OverflowError,
                UnicodeEncodeError,
            ) as error:
                raise KeepingError(f"{source}: expected a ticket that this shop can keep, got {error}") from error
    finally:
        database.close()


def _keep_ticket(own: sqlite3.Connection, ticket: Mapping[str, Any], sizes: Mapping[str, int], prefix: str) -> str:
    same = own.execute(
        "SELECT 1 FROM ticket WHERE number = ? AND opened_at = ?", (ticket["number"], ticket["opened_at"])
    ).fetchone()
    if same:
        raise KeepingError(f"{ticket['number']}: expected a ticket that is not here yet, got one that is")
    (ticket_id,) = own.execute("SELECT coalesce(max(id), 0) + 1 FROM ticket").fetchone()
    free = own.execute("SELECT 1 FROM ticket WHERE number = ?", (ticket["number"],)).fetchone() is None
    number = ticket["number"] if free else f"{prefix}-{ticket_id:04d}"
    own.execute(
        (
            "INSERT INTO ticket (id, number, customer, machine, words, facts, bay, opened_by, opened_at, closed_at) "
            "VALUES "
            "(?, ?, ?, ?, ?, ?, NULL, ?, ?, ?)"
        ),
        (
            ticket_id,
            number,
            ticket["customer"],
            ticket["machine"],
            ticket["words"],
            json.dumps(ticket["facts"]),
            ticket["opened_by"],
            ticket["opened_at"],
            ticket["closed_at"],
        ),
    )
    for entry in ticket["tape"]:
        own.execute(
            "INSERT INTO entry (ticket_id, place, body, made_by, made_at) VALUES (?, ?, ?, ?, ?)",
            (ticket_id, entry["place"], json.dumps(entry["body"]), entry["by"], entry["at"]),
        )
    for digest, size in sizes.items():
        own.execute(
            "INSERT INTO file (sha256, size, added_at) VALUES (?, ?, ?) ON CONFLICT DO NOTHING",
            (digest, size, moment()),
        )
    for file in ticket["files"]:
        own.execute(
            "INSERT INTO attachment (ticket_id, sha256, name, added_by, added_at) VALUES (?, ?, ?, ?, ?)",
            (ticket_id, file["sha256"], file["name"], file["by"], file["at"]),
        )
    for file in ticket["pictures"]:
        own.execute(
            "INSERT INTO picture (ticket_id, sha256, added_by, added_at) VALUES (?, ?, ?, ?)",
            (ticket_id, file["sha256"], file["by"], file["at"]),
        )
    for file in ticket.get("recordings", []):
        own.execute(
            "INSERT INTO recording (ticket_id, sha256, kind, name, added_by, added_at) VALUES (?, ?, ?, ?, ?, ?)",
            (ticket_id, file["sha256"], file["kind"], file["name"], file["by"], file["at"]),
        )
    if ticket.get("lesson"):
        own.execute(_TEACH, (ticket_id, *(ticket["lesson"][name] for name in _LESSON_COLUMNS)))
    own.execute("UPDATE epoch SET n = n + 1")  # a server that runs on this shop has something new to learn from
    return str(number)


def _ticket_of(source: Path, text: bytes, knowledge: Knowledge) -> dict[str, Any]:
    """A ticket whose every line can be read here. Raises KeepingError."""
    try:
        ticket = json.loads(text)
        texts = all(
            isinstance(ticket[name], str) and len(ticket[name]) <= 8000
            for name in ("number", "customer", "machine", "words", "opened_by", "opened_at")
        )
        if (
            not texts
            or not all(isinstance(ticket[name], list) for name in ("tape", "files", "pictures"))
            or not (ticket["closed_at"] is None or isinstance(ticket["closed_at"], str))
        ):
            raise ValueError("lines missing")
        datetime.fromisoformat(ticket["opened_at"])
        places = [entry["place"] for entry in ticket["tape"]]
        if places != list(range(len(places))) or not all(
            isinstance(e["by"], str) and isinstance(e["at"], str) for e in ticket["tape"]
        ):
            raise ValueError("a log with gaps")
        lesson = ticket.get("lesson")
        if lesson is not None and (
            set(lesson) != set(_LESSON_COLUMNS)
            or not all(
                isinstance(json.loads(lesson[name]), kind)
                for name, kind in (("faults", list), ("expected", dict), ("suspects", dict))
            )
        ):
            raise ValueError("a lesson that is none")
        if not all(
            isinstance(f["sha256"], str)
            and len(f["sha256"]) == 64
            and all(isinstance(f[name], str) for name in ("by", "at"))
            for f in _files_of(ticket)
        ):
            raise ValueError("files without a hash")
        if not all(isinstance(f["name"], str) for f in (*ticket["files"], *ticket.get("recordings", []))) or not all(
            isinstance(f["kind"], str) for f in ticket.get("recordings", [])
        ):
            raise ValueError("files without a name")
        facts, bodies = ticket["facts"], [entry["body"] for entry in ticket["tape"]]
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        raise KeepingError(f"{source}: expected a complete ticket, got {str(error)[:80]}") from error
    try:
        parse_facts(facts, knowledge)
        parse_entries(bodies, knowledge)
    except TapeError as error:
        raise KeepingError(f"{source}: expected a ticket that speaks this shop's vocabulary, got {error}") from error
    found: dict[str, Any] = ticket
    return found


# --- files and archives ----------------------------------------------------------------------------------------------


def _file(data: Path, digest: str) -> bytes:
    try:
        content = (data / FILES / digest[:2] / digest).read_bytes()
    except OSError as error:
        raise StoreError(f"file {digest[:12]}: expected a stored file, got {error.strerror}") from error
    if _sha256(content) != digest:
        raise StoreError(f"file {digest[:12]}: expected its own digest, got other bytes: the disk has changed them")
    return content


def _member_sum(archive: zipfile.ZipFile, name: str) -> str:
    """SHA-256 of a member, read a little at a time."""
    with archive.open(name) as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()  # type: ignore[arg-type]


def _member_to(archive: zipfile.ZipFile, name: str, target: Path) -> None:
    """A member as a file on the disk. Raises OSError."""
    with archive.open(name) as stream, target.open("wb") as file:
        shutil.copyfileobj(stream, file, _AT_ONCE)
        file.flush()
        os.fsync(file.fileno())


def _put_member(data: Path, digest: str, archive: zipfile.ZipFile) -> Path | None:
    """A file of a backup into the store, whole under its name; where it lies, None where it was there. Raises OSError,
    StoreError."""
    place = data / FILES / digest[:2] / digest
    if place.is_file():
        with place.open("rb") as file:
            if hashlib.file_digest(file, "sha256").hexdigest() == digest:
                return None
    with archive.open(f"{FILES}/{digest}") as stream, durable(place) as file:
        shutil.copyfileobj(stream, file, _AT_ONCE)
    return place


def put_file(data: Path, digest: str, content: bytes) -> None:
    """Keep a file of the shop under its hash, whole. Raises OSError."""
    place = data / FILES / digest[:2] / digest
    if place.is_file() and _sha256(place.read_bytes()) == digest:
        return
    write_durably(place, content)


def _folder_of(target: Path) -> Path:
    folder = target.resolve().parent
    if not folder.is_dir():
        raise KeepingError(f"{target}: expected a folder that is there, got none")
    if target.is_dir():
        raise KeepingError(f"{target}: expected the name of a file, got a folder")
    return folder


@contextmanager
def _zip(source: Path, largest: int) -> Iterator[zipfile.ZipFile]:
    """An archive of ours, its names and sizes checked. Raises KeepingError."""
    try:
        with zipfile.ZipFile(source) as archive:
            names = archive.namelist()
            plain = all(
                n in ("manifest.json", "ticket.json", DATABASE)
                or (n.startswith(f"{FILES}/") and len(n) == len(FILES) + 65 and n[len(FILES) + 1 :].isalnum())
                for n in names
            )
            if len(set(names)) < len(names) or not plain or sum(i.file_size for i in archive.infolist()) > largest:
                raise KeepingError(f"{source}: expected a file that Gate Check wrote, got other contents")
            bomb = next(
                (i for i in archive.infolist() if i.file_size > _RATIO * max(i.compress_size, 1) + _ALWAYS), None
            )
            if bomb is not None:
                raise KeepingError(
                    f"{source}: expected contents that pack at most {_RATIO} times, got {bomb.filename[:60]} of "
                    f"{bomb.file_size >> 20} MiB in {bomb.compress_size >> 10} KiB"
                )
            yield archive
    except FileNotFoundError as error:
        raise KeepingError(f"{source}: expected a file, got nothing there") from error
    except (zipfile.BadZipFile, zlib.error, OSError, KeyError, NotImplementedError, EOFError, ValueError) as error:
        raise KeepingError(
            f"{source}: expected a complete file that Gate Check wrote, got {str(error)[:80]}"
        ) from error


def _manifest(source: Path, archive: zipfile.ZipFile, wanted: str) -> dict[str, Any]:
    try:
        manifest = json.loads(archive.read("manifest.json"))
    except (ValueError, KeyError, RecursionError) as error:
        raise KeepingError(f"{source}: expected a manifest, got {str(error)[:60]}") from error
    if not isinstance(manifest, dict) or manifest.get("format") != wanted:
        got = manifest.get("format") if isinstance(manifest, dict) else type(manifest).__name__
        raise KeepingError(f"{source}: expected {wanted!r}, got {got!r}")
    return manifest
