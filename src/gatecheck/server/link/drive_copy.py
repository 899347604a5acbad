"""Copying over the link: what the probe sends goes into an image, and is read back when all of it is there."""

from __future__ import annotations

import hashlib
import logging
import threading
import time
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from gatecheck.adapters.vectored_write import crc_of
from gatecheck.core.scan.evidence import missing_of
from gatecheck.core.words.said import say, to_json
from gatecheck.server.copies.service import Copies, Copy
from gatecheck.server.errors import NotFoundError
from gatecheck.server.link.capture import capture_of
from gatecheck.server.shop import now
from gatecheck.store import Connection, StoreError, links
from gatecheck.store.keeping import COPIES
from gatecheck.store.links import Link, Order

if TYPE_CHECKING:
    from gatecheck.server.link.service import Links

_BY = "probe"
_log = logging.getLogger(__name__)


class Copying:
    """The copies that are made over a shop's links. `reading_back`: orders whose copy is compared with what was sent just now; `changes`: what changes or deletes a
    copy, and what begins to fill a drive from one, are one after the other."""

    def __init__(self, of: Links) -> None:
        self.links = of
        self.copies = Copies(of.shop.files.folder.parent / COPIES)
        self.reading_back: set[int] = set()
        self.changes = threading.Lock()

    def sent(self, ticket_id: int, order: Order) -> None:
        """The probe has sent everything: read it back, once."""
        if order.id not in self.reading_back:
            self.reading_back.add(order.id)
            threading.Thread(target=self._after_copy, args=(ticket_id, order), daemon=True).start()

    def fits(self, ticket_id: int, device: str) -> bool:
        """Has the bench's disk room for all of the drive? A practice drive is mostly empty, and takes little."""
        with self.links.shop.database.read() as connection:
            link = links.link_of(connection, ticket_id)
        size = self.links.captures.capacity_of(ticket_id, device)
        return not size or self.copies.room() >= size or bool(link and link.practice)

    def has_room(self, ticket_id: int, device: str) -> None:
        """Raises StoreError where there is none."""
        if not self.fits(ticket_id, device):
            size, room = self.links.captures.capacity_of(ticket_id, device) or 0, self.copies.room()
            raise StoreError(f"room: expected {size / 1e9:,.0f} GB on the bench's disk for a copy of {device}, got {room / 1e9:,.0f} GB")

    def of_ticket(self, ticket_id: int) -> list[Copy]:
        """The copies on the bench's disk. Raises NotFoundError."""
        self.links.tickets.row_of(ticket_id)
        return self.copies.of_ticket(ticket_id)

    def remove(self, ticket_id: int, order_id: int) -> None:
        """Delete one that is not being made. Raises NotFoundError, StoreError."""
        self.links.tickets.row_of(ticket_id)
        with self.changes:
            with self.links.shop.database.read() as connection:
                orders = links.orders_of(connection, ticket_id)
            order = next((o for o in orders if o.id == order_id), None)
            if order is not None and order.state in (links.WAITING, links.PAUSED):
                raise StoreError(f"copy {order_id}: expected one that is finished or was left, got one that is {order.state}")
            if self.links.filling.is_source(ticket_id, order_id):
                raise StoreError(f"copy {order_id}: expected one that no drive is being filled from, got one that is in use")
            self.copies.remove(ticket_id, order_id)

    def begin(self, secret: str, session_id: str, order_id: str, size: int) -> dict[str, Any]:
        """The probe is about to copy a drive of so many bytes. Raises NotFoundError, StoreError."""
        link, _ = self.links.session_of(secret, session_id)
        order = self._copy_order(link, order_id)
        self.copies.begin(link.ticket_id, order.id, size)
        return {}

    def piece(self, secret: str, session_id: str, order_id: str, at: int, parts: Sequence[bytes], told: str, zeros: int, crc: int | None = None) -> dict[str, Any]:
        """A piece of it, in parts as they came. Raises NotFoundError, StoreError."""
        link, _ = self.links.session_of(secret, session_id)
        own = self._turned(link, order_id)
        if own is not None:
            if not zeros and (crc_of(parts) != crc if crc is not None else hashlib.sha256(b"".join(parts)).hexdigest() != told):
                raise StoreError(f"piece at byte {at}: expected the bytes of the sum, got others")
            self.links.errands[own.body["order"]].piece(link.ticket_id, own, session_id, at, None if zeros else parts, zeros or sum(map(len, parts)))
            return {}
        order = self._copy_order(link, order_id)
        if zeros:
            self.copies.zeros(link.ticket_id, order.id, at, zeros)
        else:
            self.copies.write(link.ticket_id, order.id, at, parts, told, crc)
        return {}

    def _turned(self, link: Link, order_id: str) -> Order | None:
        """An order that is carried out turn by turn; None where this is none."""
        with self.links.shop.database.read() as connection:
            order = next((o for o in links.orders_of(connection, link.ticket_id) if str(o.id) == order_id and o.state == links.WAITING), None)
        return order if order is not None and order.body["order"] in self.links.errands else None

    def _copy_order(self, link: Link, order_id: str) -> Order:
        with self.links.shop.database.read() as connection:
            order = next((o for o in links.orders_of(connection, link.ticket_id) if str(o.id) == order_id), None)
        if order is None or order.body["order"] != "copy" or order.state != links.WAITING:
            raise NotFoundError(f"order {order_id[:20]!r}: expected a copy that is being made, got none")
        return order

    def _after_copy(self, ticket_id: int, order: Order) -> None:
        """Everything was sent: read it back, compare, and say on the tape what is there. The order ends when that is done, or cannot be."""
        try:
            self._compare(ticket_id, order)
        except Exception as error:
            _log.exception("copy %s of ticket %s cannot be read back", order.id, ticket_id)
            with self.links.shop.database.write() as connection:
                links.end_order(connection, order.id, "failed", f"{type(error).__name__}: {error}"[:300], now())
        finally:
            self.reading_back.discard(order.id)
            live = self.links.seen(ticket_id)
            live.done, live.of, live.text = 0, 0, ""
            self.links.tell(ticket_id, at_once=True)
            self.links.shop.announce({"kind": "work", "ticket": ticket_id, "order": order.id, "result": "done"})

    def _compare(self, ticket_id: int, order: Order) -> None:
        words, last = self.links.shop.words, 0.0

        def told(done: int, of: int) -> None:
            nonlocal last
            if time.monotonic() - last > 1.0:
                last = time.monotonic()
                live = self.links.seen(ticket_id)
                live.done, live.of, live.unit, live.kind, live.order, live.text = done, max(of, 1), "bytes", "copy", str(order.id), words.say(say("copy.reading-back"))
                live.went_on, live.minutes_left = last, None
                self.links.tell(ticket_id)

        wrong = self.copies.verify(ticket_id, order.id, told)
        with self.links.shop.database.read() as connection:
            pages, session = links.all_pages_of(connection, ticket_id, str(order.id)), next(iter(links.sessions_of(connection, ticket_id)))
        share, missing, _ = missing_of(b"".join(data for line, data in pages if line["kind"] == "read-map"))
        is_whole = share >= 1.0 and missing == 0 and not wrong
        said = say("copy.whole" if is_whole else "copy.part", share=share, missing=missing, wrong=len(wrong))
        entry: dict[str, Any] = {"note": to_json(said)}
        if self.links.captures.is_the_machines(ticket_id, str(order.body["device"])):  # a copy of a card beside it makes nothing of the machine's safe
            entry |= {"move": "copy-data", "outcome": "complete" if is_whole else "partial"}
        self.links.tickets.append_all(ticket_id, [(entry, f"copy-{order.id}")], by=_BY)  # by its key once, whatever dies between this and the end

        def end(connection: Connection) -> None:
            links.end_order(connection, order.id, "done", words.say(said)[:300], now())

        number = self.links.tickets.row_of(ticket_id).number.lower()
        self.links.captures.add_file(ticket_id, f"{number}-{order.id}.gcap", capture_of(session, pages), by=_BY, also=end, read_now=True)
