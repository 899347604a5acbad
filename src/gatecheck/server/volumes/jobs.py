"""Work on volumes that goes on in the background, one piece for each volume at a time."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from gatecheck.core.errors import GateCheckError
from gatecheck.server.volumes.wire import VolumeJobOut
from gatecheck.store.links import WAITING, Order

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


_KIND_OF = {"volume": "look", "rescue": "rescue", "mend": "repair"}
"""orders that are work on a volume -> what that work is"""
_ENDED_BADLY = {"failed": "failed", "refused": "failed", "paused": "paused"}


@dataclass(frozen=True, slots=True)
class _Of:
    """The work on one volume: what the bench does itself, and the ticket's orders."""

    source: str
    first: int
    task: BackgroundTask | None
    orders: Sequence[Order]


def _waiting_order(of: _Of) -> VolumeJobOut | None:
    """An order that the probe has, or will have: of the whole disk, for one thing is done with a disk at a time."""
    running = next(
        (
            o
            for o in of.orders
            if o.standing == WAITING and o.body["order"] in _KIND_OF and o.body.get("disk") == of.source
        ),
        None,
    )
    if running is None:
        return None
    what = "records" if running.body.get("kind") == "records" else _KIND_OF[running.body["order"]]
    own = of.task if of.task is not None and of.task.order == running.id else BackgroundTask(what)
    return VolumeJobOut(what=what, stage=own.stage or "reading", done=own.done, of=own.of, order=running.id)


def _check_that_ended_badly(of: _Of) -> VolumeJobOut | None:
    """The newest order to check this volume, where it came to nothing."""
    newest = next(
        (
            o
            for o in reversed(of.orders)
            if o.body["order"] == "volume" and (o.body.get("disk"), o.body.get("first")) == (of.source, of.first)
        ),
        None,
    )
    if newest is None or newest.state not in _ENDED_BADLY:
        return None
    what = "records" if newest.body.get("kind") == "records" else "look"
    stage = _ENDED_BADLY[newest.state]
    return VolumeJobOut(what=what, stage=stage, done=0, of=0, order=newest.id, problem=newest.detail)


def _task_here(of: _Of) -> VolumeJobOut | None:
    """What the bench does itself, as long as it goes on or has failed."""
    task = of.task
    if task is None or (task.ended.is_set() and not task.problem):
        return None
    stage = "failed" if task.problem else task.stage
    return VolumeJobOut(what=task.what, stage=stage, done=task.done, of=task.of, order=None, problem=task.problem)


_SHOWN_FIRST: Sequence[Callable[[_Of], VolumeJobOut | None]] = (_waiting_order, _check_that_ended_badly, _task_here)


def job_shown(source: str, first: int, task: BackgroundTask | None, orders: Sequence[Order]) -> VolumeJobOut | None:
    """What the screen of a volume says of the work on it: the first of these that has anything to say."""
    of = _Of(source, first, task, orders)
    return next((shown for rule in _SHOWN_FIRST if (shown := rule(of)) is not None), None)
