"""Runs the server over a folder and a socket that are its own (`start`), the demo's machines taken in where there are
none."""

from __future__ import annotations

import gc
import socket
import sys
from collections.abc import Callable
from contextlib import nullcontext
from pathlib import Path

import uvicorn

import gatecheck
from gatecheck.server.address import own_address
from gatecheck.server.announce import announced
from gatecheck.server.app import create_app
from gatecheck.server.connections import HeaderTimeoutProtocol, most_connections
from gatecheck.server.demo.fill import BAYS, PREFIX, SHOP, fill
from gatecheck.server.demo.shown import show_volumes
from gatecheck.server.services import Services, open_services

_PACKED = Path(gatecheck.__file__).resolve().parent / "front"
DIST = _PACKED if _PACKED.is_dir() else Path(__file__).resolve().parents[3] / "web" / "dist"
"""the built front end: within the package where it was installed from a wheel, else in the checkout"""
_HEADER_BYTES = 64 << 10


class _Server(uvicorn.Server):
    """Says where it is once it really is there."""

    def __init__(self, config: uvicorn.Config, ready: Callable[[], None]) -> None:
        super().__init__(config)
        self._ready = ready

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        await super().startup(sockets=sockets)
        if self.started:
            self._ready()


def serve(folder: Path, listening: socket.socket, host: str, port: int, names: tuple[str, ...], *, demo: bool) -> int:
    """Serve until stopped. Raises StoreError."""
    house, practice = _open(folder, own_address(host, port), demo=demo)
    return _run(house, practice, listening, host, port, names)


def _open(folder: Path, url: str, *, demo: bool) -> tuple[Services, dict[int, str]]:
    if not demo:
        return open_services(folder, url=url, fonts=DIST / "fonts"), {}
    house = open_services(folder, name=SHOP, prefix=PREFIX, bays=BAYS, url=url, fonts=DIST / "fonts")
    return house, {} if house.bench.overview().rows else fill(house)


def _run(
    house: Services, practice: dict[int, str], listening: socket.socket, host: str, port: int, names: tuple[str, ...]
) -> int:
    for notice in house.shop.notices:
        print(notice, file=sys.stderr)
    if not DIST.is_dir():
        print("The front end is not built yet: run `make install`. The API works without it.")
    gc.collect()
    gc.freeze()  # the compiled model lives as long as the process: the collector need not walk it at every pause
    is_public = not _is_loopback(listening)
    HeaderTimeoutProtocol.most = most_connections()
    app = create_app(
        house, DIST, practice, is_public=is_public, names=names, after=lambda: show_volumes(house, practice)
    )
    config = uvicorn.Config(
        app,
        log_level="warning",
        timeout_graceful_shutdown=2,
        http=HeaderTimeoutProtocol,
        h11_max_incomplete_event_size=_HEADER_BYTES,
        timeout_keep_alive=15,
        backlog=512,
    )
    with announced(house.shop.name, host, port) if is_public else nullcontext():
        _Server(config, lambda: print(f"Gate Check is at http://{host}:{port}", flush=True)).run(sockets=[listening])
    return 0


def _is_loopback(own: socket.socket) -> bool:
    host = str(own.getsockname()[0])
    return host.startswith("127.") or host == "::1"
