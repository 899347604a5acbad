"""Practice machines: a real probe in a process of its own, on simulated drives, linked like any other."""

from __future__ import annotations

import json
import os
import sys
import tempfile
import time

from gatecheck.practice.patients import PATIENTS, Patient, patient
from gatecheck.server.errors import NotFoundError
from gatecheck.server.link.service import Links
from gatecheck.server.practice.processes import PracticeProcesses
from gatecheck.server.shop import Shop
from gatecheck.server.tickets.service import Tickets
from gatecheck.server.tickets.wire import TicketOut
from gatecheck.store import StoreError, links


class Practice:
    """The practice bench. `url`: where a probe on this very computer finds the server."""

    def __init__(
        self, shop: Shop, at_work: Tickets, linked: Links, processes: PracticeProcesses, url: str | None
    ) -> None:
        self.shop, self.tickets, self.links, self.processes, self.url = shop, at_work, linked, processes, url

    def connect(self, ticket_id: int, name: str, *, by: str) -> None:
        """Connect a practice machine to the ticket; connected again, the same machine has aged. Raises NotFoundError,
        StoreError."""
        own = _known(name)
        self.processes.has_room(ticket_id)
        if self.url is None:
            raise StoreError("practice machine: expected a server that knows its own address, got none")
        with self.shop.database.read() as connection:
            before = links.link_of(connection, ticket_id)
        self.links.sessions.open(ticket_id, by=by)
        with self.shop.database.write() as connection:
            link = links.link_of(connection, ticket_id)
            assert link is not None
            aged = before.practice_since if before is not None and before.practice == own.id else None
            since = aged or time.time()
            links.set_practice(connection, ticket_id, own.id, since)
        self.processes.stop(ticket_id)
        spool = tempfile.mkdtemp(prefix="gatecheck-practice-")
        command = [
            sys.executable,
            "-m",
            "gatecheck.practice",
            own.id,
            "--since",
            str(since),
            "--server",
            self.url,
            "--spool",
            spool,
            "--wait",
            "3",
            "--started-by",
            str(os.getpid()),
        ]
        mended = self._mended(ticket_id)
        if mended:
            place = os.path.join(spool, "mended.json")
            with open(place, "w", encoding="utf-8") as file:
                json.dump(mended, file)
            command += ["--mended", place]
        part = self.tickets.folded_of(ticket_id).fitted_part
        if part is not None:
            command += ["--new-drive", json.dumps({"name": part.name, "serial": part.serial, "size_gb": part.size_gb})]
        self.processes.start(ticket_id, command, link.secret, spool)

    def _mended(self, ticket_id: int) -> list[tuple[str, int, str]]:
        """What was written to its disks since it came in: disk, byte, bytes (base64)."""
        with self.shop.database.read() as connection:
            orders = links.orders_of(connection, ticket_id)
        return [
            (str(o.body["disk"]) if "at" in w else str(w["name"]), int(w.get("at", -1)), str(w["after"] or ""))
            for o in orders
            if o.body["order"] in ("mend", "entry") and o.state == "done"
            for w in o.body["writes"]
        ]

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
            customer=own.customer,
            machine=own.machine,
            words=own.words,
            facts=own.facts,
            entries=[dict(e) for e in own.entries],
            bay=bay,
            by=by,
        )
        self.connect(ticket.id, own.id, by=by)
        return ticket


def _known(name: str) -> Patient:
    if name not in {p.id for p in PATIENTS}:
        raise NotFoundError(f"practice machine {name[:40]!r}: expected one of {', '.join(p.id for p in PATIENTS)}")
    return patient(name)
