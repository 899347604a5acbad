"""Backups by themselves: one a night into a folder or a mounted share, each read back, the last seven and one of each
of the last four weeks kept; and a word on the bench where the last is too old."""

from __future__ import annotations

import contextlib
import logging
import re
import threading
from collections.abc import Callable, Iterable
from datetime import date, datetime, timedelta
from pathlib import Path

from gatecheck.core.errors import GateCheckError
from gatecheck.store.keeping import backup

_log = logging.getLogger(__name__)
_DAILY, _WEEKLY = 7, 4
_HOUR, _EVERY_SECONDS, _TOO_OLD = 2, 600.0, timedelta(days=2)
_NAME = re.compile(r"gatecheck-(\d{4}-\d\d-\d\d)\.zip")


def kept(days: Iterable[date]) -> set[date]:
    """Of backups of these days those that stay: the newest seven, and the newest of each of the newest four weeks (ISO
    8601)."""
    ordered = sorted(set(days), reverse=True)
    weeks: dict[tuple[int, int], date] = {}
    for day in ordered:
        weeks.setdefault(day.isocalendar()[:2], day)
    return {*ordered[:_DAILY], *list(weeks.values())[:_WEEKLY]}


class NightlyBackups:
    """`folder`: where they go; it is not made, for a share that is not mounted is no folder."""

    def __init__(self, data: Path, folder: Path, clock: Callable[[], datetime] = datetime.now) -> None:
        self.data, self.folder, self.clock = data, folder, clock
        self.problem = ""
        self._stop = threading.Event()
        self._since = clock()

    def start(self) -> None:
        threading.Thread(target=self._run, daemon=True).start()

    def close(self) -> None:
        self._stop.set()

    def _run(self) -> None:
        while not self._stop.is_set():
            try:
                self.turn()
            except Exception:
                _log.exception("nightly backup")
            self._stop.wait(_EVERY_SECONDS)

    def days(self) -> dict[date, Path]:
        """Backups that are there, by their day."""
        found = {}
        with contextlib.suppress(OSError):
            for place in self.folder.iterdir():
                told = _NAME.fullmatch(place.name)
                with contextlib.suppress(ValueError):
                    day = date.fromisoformat(told[1]) if told else None
                    if day is not None and day <= self.clock().date():  # one of a day to come is by a wrong clock
                        found[day] = place
        return found

    def turn(self) -> Path | None:
        """Tonight's backup where it is due; the one that was made. What is too old goes only once it is whole."""
        now, there = self.clock(), self.days()
        newest = max(there, default=None)
        is_due = newest is None or (newest < now.date() and (now.hour >= _HOUR or now.date() - newest > timedelta(1)))
        if not is_due:
            return None
        place = self.folder / f"gatecheck-{now.date().isoformat()}.zip"
        try:
            if not self.folder.is_dir():
                raise OSError("no such folder: is the share mounted?")
            backup(self.data, place)  # read back as a whole before it has its name
        except (GateCheckError, OSError) as error:
            self.problem = str(error)[:200]
            return None
        self.problem = ""
        there = self.days()
        for day in set(there) - kept(there):
            there[day].unlink(missing_ok=True)
        return place

    def notice(self) -> str:
        """What the bench says of them; nothing as long as all is well."""
        newest = max(self.days(), default=None)
        today = self.clock().date()
        if newest is not None and today - newest < _TOO_OLD:
            return ""
        if newest is None and not self.problem and self.clock() - self._since < timedelta(hours=1):
            return ""  # the first is on its way
        last = f"the last is of {newest.isoformat()}" if newest else "there is none"
        return f"Backups to {self.folder}: {last}" + (f" ({self.problem})" if self.problem else "")
