"""How often somebody may be wrong: codes that a person types are short, so nobody may try many."""

from __future__ import annotations

import threading
import time
from collections import deque

HERE = ("127.0.0.1", "::1")
"""this very computer: what others do does not count against it"""
_FEW, _MANY = 10, 400


class Throttle:
    """At most `tries` wrong ones within `seconds` for each key. Where many keys have been wrong, a key that was wrong
    itself waits; one that never was may try all the same, so that nobody locks another out, until there are so many
    that somebody tries them all."""

    def __init__(self, tries: int, seconds: float) -> None:
        self.tries, self.seconds = tries, seconds
        self._wrong: dict[str, deque[float]] = {}
        self._lock = threading.Lock()

    def is_open(self, key: str) -> bool:
        """True while another try is allowed."""
        with self._lock:
            self._forget()
            own, all_of_them = len(self._wrong.get(key, ())), sum(map(len, self._wrong.values()))
            if own >= self.tries or (own and all_of_them >= _FEW * self.tries and key not in HERE):
                return False
            return all_of_them < _MANY * self.tries or key in HERE

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
