"""Server-sent events: every browser hears of every change at once."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator, Callable, Mapping

from gatecheck.server.errors import TooManyError

_HEARTBEAT = 15.0
_MOST_WAITING = 200
_MOST_LISTENERS = 300
_TOGETHER = 0.1
"""seconds for which events are gathered after one was sent: a quiet bench hears at once, and many machines that report
every second cost no more than ten texts a second"""


class Events:
    """Fans events out to all listeners. `publish` may be called from any thread."""

    def __init__(self) -> None:
        self._listeners: set[asyncio.Queue[str | None]] = set()
        self._loop: asyncio.AbstractEventLoop | None = None
        self._number = 0
        self._gathered: dict[str, None] = {}
        self._next: asyncio.TimerHandle | None = None
        self.program = ""
        """what tells one version of the pages from another"""

    def attach(self) -> None:
        """Remember the running loop; called once when the server starts."""
        self._loop = asyncio.get_running_loop()

    def publish(self, event: Mapping[str, object]) -> None:
        if self._loop and not self._loop.is_closed():
            self._loop.call_soon_threadsafe(self._gather, json.dumps(event))

    def close(self) -> None:
        """End all streams, so that the server can stop."""
        for listener in self._listeners:
            listener.put_nowait(None)

    def _gather(self, text: str) -> None:
        """The same said twice is said once; what was said again stands where it was said last."""
        self._gathered.pop(text, None)
        self._gathered[text] = None
        if self._next is None:
            self._send()

    def _send(self) -> None:
        self._next = None
        if not self._gathered or self._loop is None:
            return
        out = []
        for text in self._gathered:
            self._number += 1
            out.append(f"id: {self._number}\nevent: change\ndata: {text}\n\n")
        self._gathered.clear()
        whole = "".join(out)
        for listener in self._listeners:
            if listener.qsize() < _MOST_WAITING:
                listener.put_nowait(whole)
        self._next = self._loop.call_later(_TOGETHER, self._send)

    def check_room(self) -> None:
        """Raises TooManyError where too many listen already."""
        if len(self._listeners) >= _MOST_LISTENERS:
            raise TooManyError(
                f"events: expected at most {_MOST_LISTENERS} listeners, got another; close a page you do not need"
            )

    async def stream(self, is_known: Callable[[], bool] = lambda: True) -> AsyncIterator[str]:
        """The text of one listener's event stream. It ends when its listener is not known any more; that one goes tells
        an event of its own, which all of them hear."""
        listener: asyncio.Queue[str | None] = asyncio.Queue()
        self._listeners.add(listener)
        try:
            yield f"retry: 1000\n\nevent: hello\ndata: {json.dumps({'program': self.program})}\n\n"
            while True:
                try:
                    text = await asyncio.wait_for(listener.get(), _HEARTBEAT)
                except TimeoutError:
                    text = ": still here\n\n"
                if text is None or not is_known():
                    return
                yield text
        finally:
            self._listeners.discard(listener)
