"""A server over a folder of its own, and real probes of practice machines that are linked to it."""

from __future__ import annotations

import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from nursery import Forked, start
from serving import Served

HANGING = ("hangs",)


class Bench(Served):
    """A server over its own folder, and probes of practice machines."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder / "data")
        self.folder = folder
        self.probes: list[subprocess.Popen[bytes] | Forked] = []

    def linked(self, *texts: str, **facts: Any) -> tuple[int, str]:
        """A ticket with a link; its number and secret."""
        number = self.take_in(*texts, **facts)
        return number, self.call("POST", f"/api/tickets/{number}/link", json={"by": "KT"})["secret"]

    def probe(self, name: str, secret: str, spool: str = "spool", *more: str) -> Forked:
        process = start(*self._line(name, secret, spool), *more, what="practice")
        self.probes.append(process)
        return process

    def probe_by_command(self, name: str, secret: str) -> subprocess.Popen[bytes]:
        """The same as a person starts it."""
        process = subprocess.Popen(
            [sys.executable, "-m", "gatecheck.practice", *self._line(name, secret, "spool")], stdout=subprocess.DEVNULL
        )
        self.probes.append(process)
        return process

    def _line(self, name: str, secret: str, spool: str) -> list[str]:
        wait = "2" if name in HANGING else "30"  # of a call: only a drive that hangs is to be left alone
        return [name, "--server", self.url, "--secret", secret, "--spool", str(self.folder / spool), "--wait", wait]

    def stop_probes(self) -> None:
        for own in self.probes:
            own.kill()
            own.wait()

    def until(self, number: int, wanted: Callable[[dict[str, Any]], bool], seconds: float = 900) -> dict[str, Any]:
        """The link once it is as wanted."""
        end = time.monotonic() + seconds
        link: dict[str, Any] = {}
        while time.monotonic() < end:
            link = self.call("GET", f"/api/tickets/{number}/link")
            if wanted(link):
                return link
            time.sleep(0.1)
        raise AssertionError(f"not in time: {link.get('state')} {link.get('progress')} {link.get('orders')}")
