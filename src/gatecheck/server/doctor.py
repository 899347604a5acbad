"""What may keep a bench from working, looked at from outside: each with what was seen and what to do."""

from __future__ import annotations

import os
import shutil
import socket
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509

from gatecheck.server.announce import addresses
from gatecheck.server.nightly import NightlyBackups
from gatecheck.server.tls.authority import FOLDER
from gatecheck.store import StoreError
from gatecheck.store.health import DatabaseHealth, database_health
from gatecheck.store.keeping import DATABASE

GOOD, DOUBT, BAD = "good", "doubt", "bad"
_LEAST_FREE, _LITTLE_FREE = 2 << 30, 20 << 30
_SLACK, _RENEWED_DAYS = timedelta(minutes=5), 20
"""a certificate that has fewer days left was not renewed as it should have been"""


@dataclass(frozen=True, slots=True)
class Seen:
    """`state`: good, doubt, bad; `do`: what to do, empty where it is good."""

    what: str
    state: str
    text: str
    do: str = ""


@dataclass(frozen=True, slots=True)
class Bench:
    data: Path
    host: str
    port: int
    backups: Path | None
    now: datetime


def looked_at(bench: Bench) -> list[Seen]:
    """Every check, each on its own: one that fails takes no other away."""
    found: list[Seen] = []
    for what, check in _CHECKS:
        try:
            found += check(bench)
        except Exception as error:
            found.append(Seen(what, DOUBT, f"could not be looked at: {type(error).__name__}: {error}"))
    return found


def _folder(bench: Bench) -> Iterator[Seen]:
    if not bench.data.is_dir():
        yield Seen("data folder", BAD, f"{bench.data} is not there", "start the server once, or name it with --data")
        return
    if not os.access(bench.data, os.W_OK):
        yield Seen("data folder", BAD, f"{bench.data} may not be written", "give it to the user that runs the server")
        return
    yield Seen("data folder", GOOD, str(bench.data))
    free = shutil.disk_usage(bench.data).free
    state = BAD if free < _LEAST_FREE else DOUBT if free < _LITTLE_FREE else GOOD
    do = "" if state == GOOD else "free some: images of closed tickets are the largest (shop settings, disk space)"
    yield Seen("disk space", state, f"{free / 1e9:.1f} GB free", do)


def _database(bench: Bench) -> Iterator[Seen]:
    place = bench.data / DATABASE
    if not place.is_file():
        return
    try:
        own = database_health(place)
    except StoreError as error:
        own = DatabaseHealth(str(error), 0, None)
    if own.problem:
        yield Seen("database", BAD, own.problem, "restore the last backup: gatecheck restore FILE")
    else:
        yield Seen("database", GOOD, f"{own.tickets} tickets, structure intact")
    if own.newest:
        newest = datetime.fromisoformat(own.newest)
        newest = newest if newest.tzinfo else newest.replace(tzinfo=UTC)
        if newest > bench.now + _SLACK:
            told = f"the clock says {bench.now:%d %B %Y %H:%M}, the log goes to {newest:%d %B %Y %H:%M}"
            yield Seen("clock", BAD, told, "set this computer's clock, and have it set from the network")
        else:
            yield Seen("clock", GOOD, f"{bench.now:%d %B %Y %H:%M} UTC, not before the newest entry")


def _certificate(bench: Bench) -> Iterator[Seen]:
    place = bench.data / FOLDER
    if not (place / "bench.pem").is_file():
        yield Seen("certificate", DOUBT, "none yet", "it is made by serve --host; this computer itself needs none")
        return
    own = x509.load_pem_x509_certificate((place / "bench.pem").read_bytes())
    left = (own.not_valid_after_utc - bench.now).days
    names = own.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    missing = sorted(set(addresses("0.0.0.0")) - {str(n.value) for n in names})
    state = BAD if left < 0 else DOUBT if left < _RENEWED_DAYS or missing else GOOD
    text = f"{left} days left" + (f", not for {', '.join(missing)}" if missing else "")
    yield Seen("certificate", state, text, "" if state == GOOD else "start the server anew: it renews by itself")
    for key in ("authority.key", "bench.key"):
        mode = (place / key).stat().st_mode & 0o777
        if mode & 0o077:
            yield Seen("key", BAD, f"{key} may be read by others ({mode:o})", f"chmod 600 {place / key}")


def _network(bench: Bench) -> Iterator[Seen]:
    own = addresses("0.0.0.0")
    yield Seen(
        "network",
        GOOD if own else DOUBT,
        ", ".join(own) or "no address beyond this computer",
        "" if own else "connect the bench to the shop's network",
    )
    for where in ("127.0.0.1", *own[:1]):
        try:
            socket.create_connection((where, bench.port), 3).close()
            yield Seen("port", GOOD, f"{where}:{bench.port} answers")
        except OSError as error:
            do = (
                "start the server" if where == "127.0.0.1" else "start it with --host 0.0.0.0, and let the port through"
            )
            yield Seen("port", DOUBT, f"{where}:{bench.port}: {error.strerror or error}", do)


def _backups(bench: Bench) -> Iterator[Seen]:
    if bench.backups is None:
        yield Seen("backups", DOUBT, "none by themselves", "serve --backups DIR makes one each night")
        return
    nightly = NightlyBackups(bench.data, bench.backups)
    newest = max(nightly.days(), default=None)
    age = (bench.now.date() - newest).days if newest else None
    state = GOOD if age is not None and age < 2 else BAD
    text = f"the last is of {newest}" if newest else f"none in {bench.backups}"
    yield Seen("backups", state, text, "" if state == GOOD else "look whether the share is mounted and has room")


_CHECKS: Sequence[tuple[str, Callable[[Bench], Iterator[Seen]]]] = (
    ("data folder", _folder),
    ("database", _database),
    ("certificate", _certificate),
    ("network", _network),
    ("backups", _backups),
)
