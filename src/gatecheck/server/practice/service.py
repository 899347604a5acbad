"""Practice machines: a real probe in a process of its own, on simulated drives, linked like any other."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable

from gatecheck.core.tape.entries import Part
from gatecheck.practice.patients import PATIENTS, Patient, patient
from gatecheck.server.errors import NotFoundError, TooManyError
from gatecheck.server.link.service import Links
from gatecheck.server.shop import Shop
from gatecheck.server.tickets.service import Tickets
from gatecheck.server.tickets.wire import TicketOut
from gatecheck.store import StoreError, links

_MOST_RUNNING = 24


class Practice:
    """The practice bench. `url`: where a probe on this very computer finds the server."""

    def __init__(self, shop: Shop, at_work: Tickets, linked: Links, url: str | None) -> None:
        self.shop, self.tickets, self.links, self.url = shop, at_work, linked, url
        self.new_drive: Callable[[int], Part | None] = lambda ticket_id: None
        self._running: dict[int, tuple[subprocess.Popen[bytes], str]] = {}
        linked.on_end = self._stop

    def connect(self, ticket_id: int, name: str, *, by: str) -> None:
        """Connect a practice machine to the ticket; connected again, the same machine has aged. Raises NotFoundError, StoreError."""
        own = _known(name)
        if sum(p.poll() is None for p, _ in self._running.values()) >= _MOST_RUNNING and ticket_id not in self._running:
            raise TooManyError(f"practice machine: expected at most {_MOST_RUNNING} at a time, got another; end the link of one")
        if self.url is None:
            raise StoreError("practice machine: expected a server that knows its own address, got none")
        self.links.open(ticket_id, by=by)
        with self.shop.database.write() as connection:
            link = links.link_of(connection, ticket_id)
            assert link is not None
            since = link.practice_since if link.practice == own.id and link.practice_since else time.time()
            links.set_practice(connection, ticket_id, own.id, since)
        self._stop(ticket_id)
        spool = tempfile.mkdtemp(prefix="gatecheck-practice-")
        command = [
            sys.executable, "-m", "gatecheck.practice", own.id, "--since", str(since), "--server", self.url, "--spool", spool,
            "--wait", "3", "--started-by", str(os.getpid()),
        ]  # fmt: skip
        mended = self._mended(ticket_id)
        if mended:
            place = os.path.join(spool, "mended.json")
            with open(place, "w", encoding="utf-8") as file:
                json.dump(mended, file)
            command += ["--mended", place]
        part = self.new_drive(ticket_id)
        if part is not None:
            command += ["--new-drive", json.dumps({"name": part.name, "serial": part.serial, "size_gb": part.size_gb})]
        secret = {**os.environ, "GATECHECK_SECRET": link.secret}  # not among its arguments, which any user of this computer can list
        process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True, env=secret)
        self._running[ticket_id] = (process, spool)

    def _mended(self, ticket_id: int) -> list[tuple[str, int, str]]:
        """What was written to its disks since it came in: disk, byte, bytes (base64)."""
        with self.shop.database.read() as connection:
            orders = links.orders_of(connection, ticket_id)
        return [
            (str(o.body["disk"]) if "at" in w else str(w["name"]), int(w.get("at", -1)), str(w["after"] or ""))
            for o in orders if o.body["order"] in ("mend", "entry") and o.state == "done" for w in o.body["writes"]
        ]  # fmt: skip

    def connect_again(self, ticket_id: int) -> None:
        """The same practice machine with what was changed in it since; nothing where the ticket has none."""
        with self.shop.database.read() as connection:
            link = links.link_of(connection, ticket_id)
        if link is not None and link.practice and not link.ended_at:
            self.connect(ticket_id, link.practice, by="practice")

    def take_in(self, name: str, *, bay: int | None, by: str) -> TicketOut:
        """A practice machine comes to the bench: its ticket with what was asked at the counter, already connected."""
        own = _known(name)
        ticket = self.tickets.take_in(
            customer=own.customer, machine=own.machine, words=own.words, facts=own.facts, entries=[dict(e) for e in own.entries], bay=bay, by=by
        )
        self.connect(ticket.id, own.id, by=by)
        return ticket

    def _stop(self, ticket_id: int) -> None:
        process, spool = self._running.pop(ticket_id, (None, ""))
        if process is None:
            return
        if process.poll() is None:
            process.terminate()
            process.wait(5)
        shutil.rmtree(spool, ignore_errors=True)

    def close(self) -> None:
        """Stop all practice machines."""
        for ticket_id in list(self._running):
            self._stop(ticket_id)


def _known(name: str) -> Patient:
    if name not in {p.id for p in PATIENTS}:
        raise NotFoundError(f"practice machine {name[:40]!r}: expected one of {', '.join(p.id for p in PATIENTS)}")
    return patient(name)
