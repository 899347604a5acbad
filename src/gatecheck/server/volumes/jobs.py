"""Work on volumes that goes on in the background, one piece for each volume at a time."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from typing import Any

from gatecheck.core.errors import GateCheckError

_log = logging.getLogger(__name__)


class BackgroundTask:
    """`what`: look, repair, rescue; `stage`, `done`, `of`: how far; `result`: what it came to, once `ended` is set;
    `problem`: why it did not."""

    def __init__(self, what: str, order: int | None = None) -> None:
        self.what, self.order = what, order
        self.stage, self.done, self.of = "", 0, 0
        self.result: Any = None
        self.problem = ""
        self.ended = threading.Event()

    def told(self, stage: str, done: int, of: int) -> None:
        self.stage, self.done, self.of = stage, done, of

    def run(self, work: Callable[[], Any], then: Callable[[Any], None] = lambda result: None) -> None:
        """In a thread; `then` with what it came to, before it counts as ended."""

        def whole() -> None:
            try:
                self.result = work()
                then(self.result)
            except (GateCheckError, OSError) as error:
                self.problem = str(error)[:400]
            except Exception as error:
                _log.exception("%s of a volume", self.what)
                self.problem = f"{type(error).__name__}: {error}"[:400]
            finally:
                self.ended.set()

        threading.Thread(target=whole, daemon=True).start()
