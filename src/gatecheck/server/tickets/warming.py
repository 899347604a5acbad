"""Tickets are looked at before somebody asks: after the start, and after machines have reported, one after the other,
so that whoever opens the bench then does not wait for all of them."""

from __future__ import annotations

import logging
import queue
import threading
from collections.abc import Callable

_log = logging.getLogger(__name__)
_PAUSE = 0.01
"""seconds between two tickets: who waits for an answer comes first"""


class Warming:
    """A thread of its own, from `start` to `close`; before and after, asking for one does nothing."""

    def __init__(self, look: Callable[[int], object]) -> None:
        self._look = look
        self._wanted: queue.Queue[int | None] = queue.Queue()
        self._waiting = set[int]()
        self._closed = threading.Event()
        self._thread: threading.Thread | None = None

    def start(self) -> None:
        self._thread = threading.Thread(target=self._work, name="warming", daemon=True)
        self._thread.start()

    def later(self, ticket_id: int) -> None:
        """Look at it when its turn comes; asked for again meanwhile it has one turn."""
        if self._thread is not None and ticket_id not in self._waiting:
            self._waiting.add(ticket_id)
            self._wanted.put(ticket_id)

    def close(self) -> None:
        self._closed.set()
        self._wanted.put(None)
        if self._thread is not None:
            self._thread.join()
            self._thread = None

    def _work(self) -> None:
        while (own := self._wanted.get()) is not None and not self._closed.is_set():
            self._waiting.discard(own)
            try:
                self._look(own)
            except Exception:  # one that cannot be shown takes no other away; who asks for it is told why
                _log.debug("ticket %s was not looked at", own, exc_info=True)
            self._closed.wait(_PAUSE)
