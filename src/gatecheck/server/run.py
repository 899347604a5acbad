"""Starts the server: data folder, demo, address. What stands in the way is said in one sentence, before anything is promised."""

from __future__ import annotations

import asyncio
import errno
import fcntl
import gc
import os
import shutil
import socket
import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, nullcontext
from pathlib import Path

import uvicorn
from uvicorn.protocols.http.h11_impl import H11Protocol

from gatecheck.server.announce import announced
from gatecheck.server.app import create_app
from gatecheck.server.demo.fill import BAYS, PREFIX, SHOP, fill
from gatecheck.server.demo.shown import show_volumes
from gatecheck.server.house import House, open_house
from gatecheck.store import StoreError

DIST = Path(__file__).resolve().parents[3] / "web" / "dist"
LOCK = "server.lock"
_FIRST_BYTES_SECONDS = 20.0
_HEADER_BYTES = 64 << 10


class StartError(StoreError):
    """The server cannot start: says what is in the way and what would be right."""


class Impatient(H11Protocol):
    """A connection that does not bring the head of a request in time is closed: it would keep a place for nothing."""

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        self._late = self.loop.call_later(_FIRST_BYTES_SECONDS, self._close_if_silent)

    def _close_if_silent(self) -> None:
        if getattr(self, "cycle", None) is None and not self.transport.is_closing():
            self.transport.close()

    def connection_lost(self, exc: Exception | None) -> None:
        self._late.cancel()
        super().connection_lost(exc)


class _Server(uvicorn.Server):
    """Says where it is once it really is there."""

    def __init__(self, config: uvicorn.Config, ready: Callable[[], None]) -> None:
        super().__init__(config)
        self._ready = ready

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        await super().startup(sockets=sockets)
        if self.started:
            self._ready()


def own_address(host: str, port: int) -> str:
    """Where this very computer finds the server."""
    return f"http://{'127.0.0.1' if host in ('0.0.0.0', '::', '') else f'[{host}]' if ':' in host else host}:{port}"


def run(host: str, port: int, data: Path | None, *, demo: bool, names: tuple[str, ...] = ()) -> int:
    """Serve until stopped. The demo starts afresh each time unless it was given a folder. Raises StartError, StoreError."""
    temporary = None
    listening = _listen(host, port)
    try:
        if data is None and demo:
            temporary = data = Path(tempfile.mkdtemp(prefix="gatecheck-demo-"))
        folder = data or Path.home() / ".local" / "share" / "gatecheck"
        _usable(folder)
        with _only_one(folder, host, port):
            house, practice = _open(folder, own_address(host, port), demo=demo)
            return _serve(house, practice, listening, host, port, names)
    finally:
        listening.close()
        if temporary:
            shutil.rmtree(temporary, ignore_errors=True)


def _open(folder: Path, url: str, *, demo: bool) -> tuple[House, dict[int, str]]:
    if not demo:
        return open_house(folder, url=url, fonts=DIST / "fonts"), {}
    house = open_house(folder, name=SHOP, prefix=PREFIX, bays=BAYS, url=url, fonts=DIST / "fonts")
    return house, {} if house.bench.overview().rows else fill(house)


def _serve(house: House, practice: dict[int, str], listening: socket.socket, host: str, port: int, names: tuple[str, ...]) -> int:
    for notice in house.shop.notices:
        print(notice, file=sys.stderr)
    if not DIST.is_dir():
        print("The front end is not built yet: run `make install`. The API works without it.")
    gc.collect()
    gc.freeze()  # the compiled model lives as long as the process: the collector need not walk it at every pause
    is_public = not _is_loopback(listening)
    app = create_app(house, DIST, practice, is_public=is_public, names=names, after=lambda: show_volumes(house, practice))
    config = uvicorn.Config(
        app, log_level="warning", timeout_graceful_shutdown=2, http=Impatient, h11_max_incomplete_event_size=_HEADER_BYTES,
        timeout_keep_alive=15, backlog=512,
    )  # fmt: skip
    with announced(house.shop.name, host, port) if is_public else nullcontext():
        _Server(config, lambda: print(f"Gate Check is at http://{host}:{port}", flush=True)).run(sockets=[listening])
    return 0


def _listen(host: str, port: int) -> socket.socket:
    """The socket, bound. Raises StartError."""
    where = f"--host {host} --port {port}"
    if not 0 <= port <= 65535:
        raise StartError(f"{where}: expected a port of 0 to 65535, got {port}")
    try:
        family, kind, protocol, _, address = socket.getaddrinfo(host or "0.0.0.0", port, type=socket.SOCK_STREAM)[0]
        own = socket.socket(family, kind, protocol)
    except (OSError, OverflowError) as error:
        raise StartError(f"{where}: expected an address of this machine and a port, got {getattr(error, 'strerror', None) or error}") from error
    try:
        own.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        own.bind(address)
        own.listen(512)
    except (OSError, OverflowError) as error:
        own.close()
        number = getattr(error, "errno", None)
        got = {errno.EADDRINUSE: "one that another program listens on", errno.EACCES: "one that only root may use", errno.EADDRNOTAVAIL: "an address that this machine has not"}
        raise StartError(f"{where}: expected a free port, got {got.get(number or 0) or getattr(error, 'strerror', None) or error}") from error
    return own


def _is_loopback(own: socket.socket) -> bool:
    host = str(own.getsockname()[0])
    return host.startswith("127.") or host == "::1"


def _usable(folder: Path) -> None:
    """Raises StartError for a data folder that cannot be written, or that another user's files stand in."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.NamedTemporaryFile(dir=folder, prefix=".try-") as file:
            file.write(b"x" * 4096)
            file.flush()
            os.fsync(file.fileno())
    except OSError as error:
        raise StartError(f"--data {folder}: expected a folder that can be written, got {(error.strerror or str(error)).lower()}") from error
    for name in ("gatecheck.sqlite3", "files"):
        place = folder / name
        if place.exists() and not os.access(place, os.R_OK | os.W_OK):
            raise StartError(f"--data {folder}: expected files of this user, got {name}, which may not be written")


@contextmanager
def _only_one(folder: Path, host: str, port: int) -> Iterator[None]:
    """One server over one folder: two would tell each other's browsers nothing. Raises StartError, naming who is there."""
    with (folder / LOCK).open("a+", encoding="utf-8") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            file.seek(0)
            who = file.read(200).strip() or "another process"
            raise StartError(f"--data {folder}: expected a folder that no other server works on, got one held by {who}") from None
        file.truncate(0)
        file.write(f"process {os.getpid()} at http://{host}:{port}")
        file.flush()
        yield
        file.truncate(0)
