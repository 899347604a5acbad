"""Connections of the server: each head in its time, no more from one address than it needs, and always room for the
bench itself."""

from __future__ import annotations

import asyncio
import resource
import sys
from typing import ClassVar

import h11
from uvicorn.protocols.http.h11_impl import H11Protocol

HEAD_SECONDS = 20.0
"""from a connection's beginning, or from the first byte of another request on it, until the head of a request is
whole"""
MOST_FROM_ONE = 64
"""connections from one address other than this computer: tablets hold a few, a probe three"""
_FOR_ITSELF = 96
"""descriptors that the bench keeps for its files and its database"""


def most_connections() -> int:
    """How many may be open at once, by what the system allows this process; the system is asked for all it gives."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = min(hard, 8192) if hard != resource.RLIM_INFINITY else 8192
    if soft < wanted:
        try:
            resource.setrlimit(resource.RLIMIT_NOFILE, (wanted, hard))
            soft = wanted
        except (OSError, ValueError):
            pass
    return max(16, soft - _FOR_ITSELF if soft > 2 * _FOR_ITSELF else soft // 2)


class HeaderTimeoutProtocol(H11Protocol):
    """HTTP/1.1 with a limit for every head, the second one of a connection too, whatever trickles in meanwhile. Where
    there are too many connections, the one that has waited longest without a request makes room."""

    open_ones: ClassVar[dict[HeaderTimeoutProtocol, None]] = {}
    """in the order they came"""
    most: ClassVar[int] = 512
    _late: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        self._is_local = (
            bool(self.client) and (self.client[0].startswith("127.") or self.client[0] == "::1")
            if self.client
            else False
        )
        if (
            not self._is_local
            and sum(
                own.client is not None and self.client is not None and own.client[0] == self.client[0]
                for own in self.open_ones
            )
            >= MOST_FROM_ONE
        ):
            transport.abort()
            return
        if len(self.open_ones) >= self.most:
            self._make_room()
        self.open_ones[self] = None
        self._wait_for_head()

    def _make_room(self) -> None:
        idle = [own for own in self.open_ones if own.waits_for_head()]
        strangers = [own for own in idle if not own._is_local]
        for own in (strangers or idle or [self])[:1]:
            own.transport.abort()
            self.open_ones.pop(own, None)

    def waits_for_head(self) -> bool:
        """No request is worked on."""
        return self.cycle is None or self.cycle.response_complete

    def _wait_for_head(self) -> None:
        if self._late is None:
            self._late = self.loop.call_later(HEAD_SECONDS, self._close_if_silent)

    def data_received(self, data: bytes) -> None:
        super().data_received(data)
        if self.waits_for_head() and self.conn.their_state is not h11.CLOSED:
            # half a head, or a body that nobody reads any more: the clock runs from its first byte
            self._wait_for_head()
        else:
            self._forget_clock()

    def send_400_response(self, msg: str) -> None:
        """A head that grew beyond what is read: 414 where not even its first line ended, else 431 (RFC 9110, 15.5.15;
        RFC 6585, 5)."""
        error = sys.exc_info()[1]
        if not isinstance(error, h11.RemoteProtocolError) or error.error_status_hint != 431:
            super().send_400_response(msg)
            return
        received, _ = self.conn.trailing_data
        said = b"431 Request Header Fields Too Large" if b"\n" in received else b"414 URI Too Long"
        self.transport.write(b"HTTP/1.1 " + said + b"\r\nContent-Length: 0\r\nConnection: close\r\n\r\n")
        self.transport.close()

    def on_response_complete(self) -> None:
        super().on_response_complete()
        if not self.waits_for_head():  # another request had come behind it
            self._forget_clock()

    def _forget_clock(self) -> None:
        if self._late is not None:
            self._late.cancel()
            self._late = None

    def _close_if_silent(self) -> None:
        self._late = None
        if self.waits_for_head() and not self.transport.is_closing():
            self.transport.close()

    def connection_lost(self, exc: Exception | None) -> None:
        self._forget_clock()
        self.open_ones.pop(self, None)
        super().connection_lost(exc)
