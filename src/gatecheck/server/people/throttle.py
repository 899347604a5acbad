"""How often somebody may be wrong: codes that a person types are short, so nobody may try many."""

from __future__ import annotations

import threading
import time
from collections import deque


class Throttle:
    """At most `tries` wrong ones within `seconds` for each key, and ten times as many from everywhere."""

    def __init__(self, tries: int, seconds: float) -> None:
        self.tries, self.seconds = tries, seconds
        self._wrong: dict[str, deque[float]] = {}
        self._lock = threading.Lock()

    def is_open(self, key: str) -> bool:
        """True while another try is allowed."""
        with self._lock:
            self._forget()
            own = self._wrong.get(key, ())
            return len(own) < self.tries and sum(map(len, self._wrong.values())) < 10 * self.tries

    def wrong(self, key: str) -> None:
        """Another one was wrong."""
        with self._lock:
            self._wrong.setdefault(key, deque()).append(time.monotonic())

    def _forget(self) -> None:
        oldest = time.monotonic() - self.seconds
        for key in list(self._wrong):
            while self._wrong[key] and self._wrong[key][0] < oldest:
                self._wrong[key].popleft()
            if not self._wrong[key]:
                del self._wrong[key]
