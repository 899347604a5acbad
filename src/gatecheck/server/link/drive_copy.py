"""Copying over the link: what the probe sends goes into an image, and is read back when all of it is there."""

from __future__ import annotations

import hashlib
import logging
import threading
import time
from collections.abc import Sequence
from typing import Any

from gatecheck.adapters.vectored_write import crc_of
from gatecheck.core.scan.evidence import missing_of
from gatecheck.core.words.said import say, to_json
from gatecheck.server.captures.service import Captures
from gatecheck.server.copies.service import Copies, DriveCopy
from gatecheck.server.errors import NotFoundError
from gatecheck.server.link.capture import capture_of
from gatecheck.server.link.sessions import Sessions
from gatecheck.server.shop import Shop, now
from gatecheck.server.tickets.service import Tickets
from gatecheck.store import Connection, StoreError, links
from gatecheck.store.keeping import COPIES
from gatecheck.store.links import Order

_BY = "probe"
_log = logging.getLogger(__name__)


class DriveCopies:
    """The copies that are made over a shop's links. `reading_back`: orders whose copy is compared with what was sent
    just now; `changes`: what changes or deletes a copy, and what begins to fill a drive from one, are one after the
    other."""

    def __init__(self, shop: Shop, at_work: Tickets, captures: Captures, sessions: Sessions) -> None:
        self.shop, self.tickets, self.captures, self.sessions = shop, at_work, captures, sessions
        self.copies = Copies(shop.files.folder.parent / COPIES)
        self.reading_back: set[int] = set()
        self.changes = threading.Lock()
        self._repairs: dict[tuple[int, int], threading.Event] = {}

    def repairing(self, ticket_id: int, copy: int, ended: threading.Event) -> None:
        """Something is written to a copy from here on until `ended` is set."""
        self._repairs[ticket_id, copy] = ended

    def is_written_to(self, ticket_id: int, copy: int) -> bool:
        """Is something being written to a copy just now?"""
        ended = self._repairs.get((ticket_id, copy))
        return ended is not None and not ended.is_set()

    def is_source(self, ticket_id: int, copy: int) -> bool:
        """Is a drive being filled from this copy, or paused in it?"""
        with self.shop.database.read() as connection:
            orders = links.orders_of(connection, ticket_id)
        return any(
            o.name == "fill" and o.body["copy"] == str(copy) and o.state in (links.WAITING, links.PAUSED)
            for o in orders
        )

    def sent(self, ticket_id: int, order: Order) -> None:
        """The probe has sent everything: read it back, once."""
        if order.id not in self.reading_back:
            self.reading_back.add(order.id)
            threading.Thread(target=self._after_copy, args=(ticket_id, order), daemon=True).start()

    def fits(self, ticket_id: int, device: str) -> bool:
        """Has the bench's disk room for all of the drive? A practice drive is mostly empty, and takes little."""
        with self.shop.database.read() as connection:
            link = links.link_of(connection, ticket_id)
        size = self.captures.capacity_of(ticket_id, device)
        return not size or self.copies.room() >= size or bool(link and link.practice)

    def has_room(self, ticket_id: int, device: str) -> None:
        """Raises StoreError where there is none."""
        if not self.fits(ticket_id, device):
            size, room = self.captures.capacity_of(ticket_id, device) or 0, self.copies.room()
            raise StoreError(
                f"room: expected {size / 1e9:,.0f} GB on the bench's disk for a copy of {device}, got "
                f"{room / 1e9:,.0f} GB"
            )

    def of_ticket(self, ticket_id: int) -> list[DriveCopy]:
        """The copies on the bench's disk. Raises NotFoundError."""
        self.tickets.row_of(ticket_id)
        return self.copies.of_ticket(ticket_id)

    def remove(self, ticket_id: int, order_id: int) -> None:
        """Delete one that is not being made. Raises NotFoundError, StoreError."""
        self.tickets.row_of(ticket_id)
        with self.changes:
            with self.shop.database.read() as connection:
                order = links.order_of(connection, ticket_id, order_id)
            if order is not None and order.state in (links.WAITING, links.PAUSED):
                raise StoreError(
                    f"copy {order_id}: expected one that is finished or was left, got one that is {order.state}"
                )
            if self.is_source(ticket_id, order_id):
                raise StoreError(f"copy {order_id}: expected one that is not being restored, got one that is in use")
            self.copies.remove(ticket_id, order_id)

    def begin(self, secret: str, session_id: str, order_id: str, size: int) -> dict[str, Any]:
        """The probe is about to copy a drive of so many bytes. Raises NotFoundError, StoreError."""
        link, _, order = self.sessions.order_of(secret, session_id, order_id)
        self.copies.begin(link.ticket_id, _being_made(order, order_id).id, size)
        return {}

    @staticmethod
    def check_sum(at: int, parts: Sequence[bytes], told: str, zeros: int, crc: int | None) -> None:
        """Raises StoreError where the bytes are not those of their sum."""
        if not zeros and (
            crc_of(parts) != crc if crc is not None else hashlib.sha256(b"".join(parts)).hexdigest() != told
        ):
            raise StoreError(f"piece at byte {at}: expected the bytes of the sum, got others")

    def receive(
        self,
        ticket_id: int,
        order: Order | None,
        order_id: str,
        at: int,
        parts: Sequence[bytes],
        told: str,
        zeros: int,
        crc: int | None = None,
    ) -> None:
        """Bytes of a copy, in parts as they came. Raises NotFoundError, StoreError."""
        own = _being_made(order, order_id)
        if zeros:
            self.copies.zeros(ticket_id, own.id, at, zeros)
        else:
            self.copies.write(ticket_id, own.id, at, parts, told, crc)

    def _after_copy(self, ticket_id: int, order: Order) -> None:
        """Everything was sent: read it back, compare, and say on the tape what is there. The order ends when that is
        done, or cannot be."""
        try:
            self._compare(ticket_id, order)
        except Exception as error:
            _log.exception("image %s of ticket %s cannot be verified", order.id, ticket_id)
            with self.shop.database.write() as connection:
                links.end_order(connection, order.id, "failed", f"{type(error).__name__}: {error}"[:300], now())
        finally:
            self.reading_back.discard(order.id)
            live = self.sessions.progress(ticket_id)
            live.clear()
            self.sessions.notify(ticket_id, at_once=True)
            self.shop.announce({"kind": "work", "ticket": ticket_id, "order": order.id, "result": "done"})

    def _compare(self, ticket_id: int, order: Order) -> None:
        words, last = self.shop.words, 0.0

        def told(done: int, of: int) -> None:
            nonlocal last
            if time.monotonic() - last > 1.0:
                last = time.monotonic()
                live = self.sessions.progress(ticket_id)
                live.done, live.of, live.unit, live.kind, live.order, live.text = (
                    done,
                    max(of, 1),
                    "bytes",
                    "copy",
                    str(order.id),
                    words.say(say("copy.reading-back")),
                )
                live.went_on, live.minutes_left = last, None
                self.sessions.notify(ticket_id)

        wrong = self.copies.verify(ticket_id, order.id, told)
        with self.shop.database.read() as connection:
            pages, session = (
                links.all_pages_of(connection, ticket_id, str(order.id)),
                next(iter(links.sessions_of(connection, ticket_id))),
            )
        share, missing, _ = missing_of(b"".join(data for line, data in pages if line["kind"] == "read-map"))
        is_whole = share >= 1.0 and missing == 0 and not wrong
        said = say("copy.whole" if is_whole else "copy.part", share=share, missing=missing, wrong=len(wrong))
        entry: dict[str, Any] = {"note": to_json(said)}
        if self.captures.is_the_machines(
            ticket_id, str(order.body["device"])
        ):  # a copy of a card beside it makes nothing of the machine's safe
            entry |= {"move": "copy-data", "outcome": "complete" if is_whole else "partial"}
        # by its key once, whatever dies between this and the end
        self.tickets.append_all(ticket_id, [(entry, f"copy-{order.id}")], by=_BY)

        def end(connection: Connection) -> None:
            links.end_order(connection, order.id, "done", words.say(said)[:300], now())

        number = self.tickets.row_of(ticket_id).number.lower()
        self.captures.add_file(
            ticket_id, f"{number}-{order.id}.gcap", capture_of(session, pages), by=_BY, also=end, read_now=True
        )


def _being_made(order: Order | None, order_id: str) -> Order:
    """Raises NotFoundError for anything but a copy that is being made."""
    if order is None or order.name != "copy" or order.state != links.WAITING:
        raise NotFoundError(f"order {order_id[:20]!r}: expected a copy that is being made, got none")
    return order
