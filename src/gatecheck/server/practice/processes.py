"""Practice machines that run, each a process of its own."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Sequence

from gatecheck.server.errors import TooManyError

_MOST_RUNNING = 24


class PracticeProcesses:
    """At most one for each ticket."""

    def __init__(self) -> None:
        self._running: dict[int, tuple[subprocess.Popen[bytes], str]] = {}

    def has_room(self, ticket_id: int) -> None:
        """Raises TooManyError where too many run already."""
        if sum(p.poll() is None for p, _ in self._running.values()) >= _MOST_RUNNING and ticket_id not in self._running:
            raise TooManyError(
                f"practice machine: expected at most {_MOST_RUNNING} at a time, got another; end the link of one"
            )

    def start(self, ticket_id: int, command: Sequence[str], secret: str, spool: str) -> None:
        """`secret`: the link's; `spool`: the folder where its pages wait, which goes with it."""
        # not among its arguments, which any user of this computer can list
        own = {**os.environ, "GATECHECK_SECRET": secret}
        process = subprocess.Popen(
            command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True, env=own
        )
        self._running[ticket_id] = (process, spool)

    def stop(self, ticket_id: int) -> None:
        process, spool = self._running.pop(ticket_id, (None, ""))
        if process is None:
            return
        if process.poll() is None:
            process.terminate()
            process.wait(5)
        shutil.rmtree(spool, ignore_errors=True)

    def close(self) -> None:
        """Stop all of them."""
        for ticket_id in list(self._running):
            self.stop(ticket_id)
