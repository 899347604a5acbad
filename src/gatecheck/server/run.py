"""Runs the server over a folder and a socket that are its own (`start`), the demo's machines taken in where there are
none."""

from __future__ import annotations

import gc
import resource
import socket
import ssl
import sys
from contextlib import nullcontext, suppress
from pathlib import Path

import uvicorn

import gatecheck
from gatecheck.server.address import own_address
from gatecheck.server.announce import announced
from gatecheck.server.app import create_app
from gatecheck.server.connections import HeaderTimeoutProtocol, most_connections
from gatecheck.server.demo.fill import BAYS, PREFIX, SHOP, fill
from gatecheck.server.demo.shown import show_volumes
from gatecheck.server.link.start_codes import Trust
from gatecheck.server.nightly import NightlyBackups
from gatecheck.server.services import Services, open_services
from gatecheck.server.tls.authority import BenchTls, own_hosts
from gatecheck.server.tls.listener import TlsServer
from gatecheck.server.transport import Transport
from gatecheck.store import StoreError

_PACKED = Path(gatecheck.__file__).resolve().parent / "front"
_SWITCH = 0.001
"""seconds that a thread keeps the interpreter while others wait: the one that sends waits for it after every write"""
DIST = _PACKED if _PACKED.is_dir() else Path(__file__).resolve().parents[3] / "web" / "dist"
"""the built front end: within the package where it was installed from a wheel, else in the checkout"""
_HEADER_BYTES = 64 << 10


def serve(
    folder: Path,
    listening: socket.socket,
    host: str,
    port: int,
    names: tuple[str, ...],
    *,
    demo: bool,
    transport: Transport,
    backups: Path | None,
) -> int:
    """Serve until stopped. `backups`: where one a night goes. Raises StoreError."""
    with suppress(ValueError, OSError):
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))  # customers' keys are in this memory: none ends in a dump
    house, practice = _open(folder, own_address(host, port), demo=demo)
    nightly = NightlyBackups(folder, backups) if backups is not None else None
    if nightly is not None:
        house.shop.backups_say = nightly.notice
        nightly.start()
    try:
        return _run(house, practice, listening, host, port, names, transport)
    finally:
        if nightly is not None:
            nightly.close()


def _open(folder: Path, url: str, *, demo: bool) -> tuple[Services, dict[int, str]]:
    if not demo:
        return open_services(folder, url=url, fonts=DIST / "fonts"), {}
    house = open_services(folder, name=SHOP, prefix=PREFIX, bays=BAYS, url=url, fonts=DIST / "fonts")
    return house, {} if house.bench.overview().rows else fill(house)


def _run(
    house: Services,
    practice: dict[int, str],
    listening: socket.socket,
    host: str,
    port: int,
    names: tuple[str, ...],
    transport: Transport,
) -> int:
    for notice in house.shop.notices:
        print(notice, file=sys.stderr)
    if not DIST.is_dir():
        print("The front end is not built yet: run `make install`. The API works without it.")
    gc.collect()
    gc.freeze()  # the compiled model lives as long as the process: the collector need not walk it at every pause
    is_public = not _is_loopback(listening)
    HeaderTimeoutProtocol.most = most_connections()
    tls, context = _tls(house, host, names, transport) if is_public else (None, None)
    if is_public and context is None:
        print(
            "Plain HTTP on the network: whoever is on it can read along, and a tablet's microphone does not work. "
            "Without --http the server encrypts.",
            file=sys.stderr,
        )
    if tls is not None:
        house.links.start_codes.trust = Trust(tls.pin, tls.authority_pem.decode())
    app = create_app(
        house,
        DIST,
        practice,
        is_public=is_public,
        names=names,
        after=lambda: show_volumes(house, practice),
        tls=tls,
        needs_tls=context is not None,
    )
    sys.setswitchinterval(_SWITCH)
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
        scheme = "https" if context is not None else "http"
        TlsServer(
            config,
            listening,
            context,
            ready=lambda: print(f"Gate Check is at {scheme}://{host}:{port}", flush=True),
            hourly=lambda: tls.refresh(hosts=(*own_hosts(host), *names)) if tls else False,
        ).run()
    return 0


def _tls(
    house: Services, host: str, names: tuple[str, ...], transport: Transport
) -> tuple[BenchTls | None, ssl.SSLContext | None]:
    """The shop's authority, None where it brings a certificate of its own; and what encrypts connections, None for
    plain HTTP. Raises StoreError."""
    if transport.is_plain:
        return None, None
    if transport.certificate is not None and transport.key is not None:
        own = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        try:
            own.load_cert_chain(transport.certificate, transport.key)
        except (OSError, ssl.SSLError) as error:
            raise StoreError(
                f"--cert {transport.certificate}, --key {transport.key}: expected a certificate and its key in PEM, "
                f"got {error}"
            ) from error
        return None, own
    tls = BenchTls(house.shop.files.folder.parent, house.shop.name, (*own_hosts(host), *names))
    return tls, tls.context


def _is_loopback(own: socket.socket) -> bool:
    host = str(own.getsockname()[0])
    return host.startswith("127.") or host == "::1"
