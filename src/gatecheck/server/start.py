"""What has to be true before a server starts: an address of its own, a folder that can be written and that no other
server works on.

All of it is looked at before the rest of the program is read in, so that what stands in the way is said at once, in one
sentence."""

from __future__ import annotations

import errno
import fcntl
import os
import shutil
import socket
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from gatecheck.server.transport import Transport
from gatecheck.store import StoreError

LOCK = "server.lock"


class StartError(StoreError):
    """The server cannot start: says what is in the way and what would be right."""


def start(
    host: str,
    port: int,
    data: Path | None,
    *,
    demo: bool,
    names: tuple[str, ...] = (),
    transport: Transport | None = None,
    backups: Path | None = None,
) -> int:
    """Serve until stopped. The demo starts afresh each time unless it was given a folder. Raises StartError,
    StoreError."""
    temporary = None
    listening = _listen(host, port)
    try:
        if data is None and demo:
            temporary = data = Path(tempfile.mkdtemp(prefix="gatecheck-demo-"))
        folder = data or Path.home() / ".local" / "share" / "gatecheck"
        _usable(folder)
        with _only_one(folder, host, port):
            from gatecheck.server.run import serve

            return serve(
                folder, listening, host, port, names, demo=demo, transport=transport or Transport(), backups=backups
            )
    finally:
        listening.close()
        if temporary:
            shutil.rmtree(temporary, ignore_errors=True)


def _listen(host: str, port: int) -> socket.socket:
    """The socket, bound. Raises StartError."""
    where = f"--host {host} --port {port}"
    if not 0 <= port <= 65535:
        raise StartError(f"{where}: expected a port of 0 to 65535, got {port}")
    try:
        family, kind, protocol, _, address = socket.getaddrinfo(host or "0.0.0.0", port, type=socket.SOCK_STREAM)[0]
        own = socket.socket(family, kind, protocol)
    except (OSError, OverflowError) as error:
        raise StartError(
            f"{where}: expected an address of this machine and a port, got {getattr(error, 'strerror', None) or error}"
        ) from error
    try:
        own.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        own.bind(address)
        own.listen(512)
    except (OSError, OverflowError) as error:
        own.close()
        number = getattr(error, "errno", None)
        got = {
            errno.EADDRINUSE: "one that another program listens on",
            errno.EACCES: "one that only root may use",
            errno.EADDRNOTAVAIL: "an address that this machine has not",
        }
        raise StartError(
            f"{where}: expected a free port, got {got.get(number or 0) or getattr(error, 'strerror', None) or error}"
        ) from error
    return own


def _usable(folder: Path) -> None:
    """Raises StartError for a data folder that cannot be written, or that another user's files stand in."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.NamedTemporaryFile(dir=folder, prefix=".try-") as file:
            file.write(b"x" * 4096)
            file.flush()
            os.fsync(file.fileno())
    except OSError as error:
        raise StartError(
            f"--data {folder}: expected a folder that can be written, got {(error.strerror or str(error)).lower()}"
        ) from error
    for name in ("gatecheck.sqlite3", "files"):
        place = folder / name
        if place.exists() and not os.access(place, os.R_OK | os.W_OK):
            raise StartError(f"--data {folder}: expected files of this user, got {name}, which may not be written")


@contextmanager
def alone(folder: Path) -> Iterator[None]:
    """No server works on this folder meanwhile. Raises StartError, naming who does."""
    if not folder.is_dir():
        raise StartError(f"--data {folder}: expected a shop's folder, got none")
    with _only_one(folder, "", 0):
        yield


@contextmanager
def _only_one(folder: Path, host: str, port: int) -> Iterator[None]:
    """One server over one folder: two would tell each other's browsers nothing. Raises StartError, naming who is
    there."""
    with (folder / LOCK).open("a+", encoding="utf-8") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            file.seek(0)
            who = file.read(200).strip() or "another process"
            raise StartError(
                f"--data {folder}: expected a folder that no other server works on, got one held by {who}"
            ) from None
        file.truncate(0)
        file.write(f"process {os.getpid()}" + (f" at http://{host}:{port}" if host else ""))
        file.flush()
        yield
        file.truncate(0)
