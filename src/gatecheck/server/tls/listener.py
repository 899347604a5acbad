"""One port for both: a connection whose first byte begins a TLS handshake is encrypted, any other is plain HTTP, and
what that may ask for is said by the request guard."""

from __future__ import annotations

import asyncio
import contextlib
import functools
import logging
import socket
import ssl
from collections.abc import Callable, Coroutine
from typing import Any

import uvicorn

_HANDSHAKE = 0x16
_FIRST_BYTE_SECONDS, _HANDSHAKE_SECONDS = 15.0, 20.0
_MOST_WAITING = 512
_log = logging.getLogger(__name__)


class TlsServer(uvicorn.Server):
    """A server over a socket that is listened on already. `context`: None for plain HTTP only; `ready`: is told once it
    is there; `hourly`: is done every hour."""

    def __init__(
        self,
        config: uvicorn.Config,
        listening: socket.socket,
        context: ssl.SSLContext | None,
        ready: Callable[[], None],
        hourly: Callable[[], object],
    ) -> None:
        super().__init__(config)
        self._listening, self._context, self._ready, self._hourly = listening, context, ready, hourly
        self._tasks: set[asyncio.Task[None]] = set()
        self._waiting = 0

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        await super().startup(sockets=[] if self._context is not None else [self._listening])
        if not self.started:
            return
        if self._context is not None:
            self._listening.setblocking(False)
            self._start(self._accept())
            self._start(self._every_hour())
        self._ready()

    async def shutdown(self, sockets: list[socket.socket] | None = None) -> None:
        for task in list(self._tasks):
            task.cancel()
        await super().shutdown(sockets=sockets)

    def _start(self, work: Coroutine[Any, Any, None]) -> None:
        task = asyncio.get_running_loop().create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _every_hour(self) -> None:
        while True:
            await asyncio.sleep(3600)
            try:
                await asyncio.get_running_loop().run_in_executor(None, self._hourly)
            except Exception:
                _log.exception("renewing the certificate")

    async def _accept(self) -> None:
        loop = asyncio.get_running_loop()
        while True:
            try:
                connection, _ = await loop.sock_accept(self._listening)
            except OSError:  # no descriptors left, or the other side is gone already: the next one may do
                await asyncio.sleep(0.05)
                continue
            connection.setblocking(False)
            if self._waiting >= _MOST_WAITING:
                connection.close()
                continue
            self._start(self._take(connection))

    async def _take(self, connection: socket.socket) -> None:
        self._waiting += 1
        try:
            async with asyncio.timeout(_FIRST_BYTE_SECONDS):
                first = await _first_byte(connection)
        except (OSError, TimeoutError):
            connection.close()
            return
        except asyncio.CancelledError:
            connection.close()
            raise
        finally:
            self._waiting -= 1
        if not first:
            connection.close()
            return
        is_tls = first[0] == _HANDSHAKE
        loop = asyncio.get_running_loop()
        protocol: Any = self.config.http_protocol_class
        make = functools.partial(
            protocol, config=self.config, server_state=self.server_state, app_state=self.lifespan.state, _loop=loop
        )
        with contextlib.suppress(OSError, ssl.SSLError, ConnectionError, TimeoutError):
            await loop.connect_accepted_socket(
                make,
                connection,
                ssl=self._context if is_tls else None,
                ssl_handshake_timeout=_HANDSHAKE_SECONDS if is_tls else None,
            )


async def _first_byte(connection: socket.socket) -> bytes:
    """What comes first, left where it is; empty where the other side has closed."""
    loop = asyncio.get_running_loop()
    while True:
        try:
            return connection.recv(1, socket.MSG_PEEK)
        except (BlockingIOError, InterruptedError):
            there: asyncio.Future[None] = loop.create_future()
            loop.add_reader(connection.fileno(), _done, there)
            try:
                await there
            finally:
                loop.remove_reader(connection.fileno())


def _done(there: asyncio.Future[None]) -> None:
    if not there.done():
        there.set_result(None)
