"""A ticket of the lab: its link, and waiting for what comes in over it."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from serving import Served


class Ticket:
    """A ticket with a link, and what comes in over it."""

    def __init__(self, server: Served, **facts: Any) -> None:
        self.server, self.call = server, server.call
        self.id = server.take_in(platform="pc", **facts)
        self.secret = self.call("POST", f"/api/tickets/{self.id}/link", json={"by": "KT"})["secret"]

    @property
    def command_line(self) -> str:
        return f"gatecheck={self.server.url.replace('127.0.0.1', '10.0.2.2')}/s/{self.secret}"

    def until(
        self,
        wanted: Callable[[dict[str, Any]], bool],
        console: Path,
        seconds: float = 1200,
        asked: Callable[[], None] = lambda: None,
    ) -> dict[str, Any]:
        """The link once it is as wanted. `asked`: what is done where the machine asks for a key of its own."""
        end = time.monotonic() + seconds
        link: dict[str, Any] = {}
        while time.monotonic() < end:
            link = self.call("GET", f"/api/tickets/{self.id}/link")
            if wanted(link):
                return link
            if link["progress"] and link["progress"]["waits_for_key"]:
                asked()
            time.sleep(0.5)
        raise AssertionError(
            f"{link.get('orders')} {link.get('progress')}\n{console.read_text('utf-8', 'replace')[-1500:]}"
        )


def done(count: int) -> Callable[[dict[str, Any]], bool]:
    return lambda link: sum(o["state"] != "waiting" for o in link["orders"]) >= count
