"""Pages of a link as they come, and the end of an order: its pages become a capture on the ticket, and its instruments
are told."""

from __future__ import annotations

import base64
import binascii
import hashlib
import logging
import threading
from typing import Any

from gatecheck.adapters.capture_files import LARGEST_CAPTURE, LARGEST_PAGE, MOST_PAGES
from gatecheck.core.capture.manifest import is_plain_path
from gatecheck.core.words.said import say
from gatecheck.server.captures.service import Captures
from gatecheck.server.errors import NotFoundError
from gatecheck.server.link.capture import capture_of
from gatecheck.server.link.drive_copy import DriveCopies
from gatecheck.server.link.order_kinds import OrderInstruments, kind_of
from gatecheck.server.link.orders import BY, held_by
from gatecheck.server.link.sessions import Sessions
from gatecheck.server.link.wire import DoneIn, PageIn
from gatecheck.server.shop import Shop, now
from gatecheck.server.tickets.service import Tickets
from gatecheck.store import Connection, StoreError, links
from gatecheck.store.links import Order

_log = logging.getLogger(__name__)
_MOST_BYTES = LARGEST_CAPTURE - (2 << 20)
_MOST_SESSION_PAGES = 10 * MOST_PAGES
"""a map comes in hundreds of pieces, which are one page in the capture"""


class Pages:
    """What the probe sends for its orders."""

    def __init__(
        self,
        shop: Shop,
        at_work: Tickets,
        captures: Captures,
        sessions: Sessions,
        copies: DriveCopies,
        instruments: OrderInstruments,
    ) -> None:
        self.shop, self.tickets, self.captures = shop, at_work, captures
        self.sessions, self.copies, self.instruments = sessions, copies, instruments
        self._lock = threading.Lock()
        self._ending = set[int]()

    def page(self, secret: str, page: PageIn) -> dict[str, Any]:
        """Keep one page. Pages come in order; one that is not the next is not kept, and the answer says where the bench
        stands."""
        link, session, own = self.sessions.order_of(secret, page.session, page.order)
        data = checked_page(page)
        if own is None:
            raise StoreError(f"page {page.path[:80]}: expected an order of this ticket, got {page.order[:20]!r}")
        with self.shop.database.read() as connection:
            held = links.bytes_of(connection, session.id, page.order)
        if (
            kind_of(own).writes and own.holder != session.id
        ):  # it counts for nothing, and the pages after it come through
            page, data = _skipped(page, "not from the start of the probe that has this order"), b""
        if data and held + len(data) > _MOST_BYTES:  # what does not fit into the capture is said in it
            page, data = _skipped(page, f"the capture is full: {_MOST_BYTES >> 20} MiB"), b""
        if page.kind == "read-map":
            # what the map says is read is on the disk before the map is
            self.copies.copies.sync(link.ticket_id, own.id)
        with self.shop.database.write() as connection:
            at = links.acknowledged(connection, session.id)
            if page.seq == at + 1:
                if page.seq > _MOST_SESSION_PAGES:
                    raise StoreError(f"page {page.seq}: expected at most {_MOST_SESSION_PAGES} in a session")
                line = page.model_dump(include={"path", "kind", "device", "how", "status", "detail", "sha256"})
                links.keep_page(connection, session.id, page.seq, page.order, line, data)
                at = page.seq
        self.sessions.progress(link.ticket_id)
        return {"acknowledged": at}

    def done(self, secret: str, said: DoneIn) -> dict[str, Any]:
        """An order is through: its pages become a capture on the ticket. Said twice it is done once."""
        link, session, order = self.sessions.order_of(secret, said.session, said.order)
        if order is None:
            raise NotFoundError(f"order {said.order[:20]!r}: expected one of this ticket, got none")
        with self.shop.database.read() as connection:
            pages = links.all_pages_of(connection, link.ticket_id, said.order)
        if order.state == links.WAITING:
            held_by(order, session)
        result, detail, wrote = self._came_to(order, said)

        def end(connection: Connection) -> None:
            if not order.is_handed_out:
                links.hand_out(connection, order.id, session.id)
            links.end_order(connection, order.id, result, detail[:300], now(), wrote=wrote, is_recorded=False)

        if order.name == "copy" and order.state == links.WAITING and result == "done":
            self.copies.sent(link.ticket_id, order)
            return {"ok": True}
        if (
            pages and order.state == links.WAITING and result != links.PAUSED
        ):  # pages, entries and the order's end stand or fall together
            name = f"{self.tickets.row_of(link.ticket_id).number.lower()}-{order.id}.gcap"
            raw = capture_of(session, pages, said.order if kind_of(order).by_instrument else "")
            self.captures.add_file(link.ticket_id, name, raw, by=BY, also=end, read_now=True)
        else:
            with self.shop.database.write() as connection:
                end(connection)
        self.sessions.progress(link.ticket_id).clear()
        self.handle_order_end(order.id)
        return {"ok": True}

    def _came_to(self, order: Order, said: DoneIn) -> tuple[str, str, bool | None]:
        """(result, detail, has it written): a start of the probe speaks for itself, and not for another one that had
        the order before it."""
        had_by_another = len(order.handed_to) > 1
        wrote = None if had_by_another and not said.wrote else said.wrote
        if said.result == "refused" and wrote:
            return "failed", said.detail, wrote
        if said.result == "refused" and kind_of(order).writes and had_by_another:
            return "failed", self.shop.words.say(say("write.had-by-another", detail=said.detail)), wrote
        return said.result, said.detail, wrote

    # --- what an order's end comes to --------------------------------------------------------------------------

    def resume_outcomes(self) -> None:
        """Go on with orders that had ended when an earlier server died before their instruments were told."""
        with self.shop.database.read() as connection:
            left = links.unrecorded_orders(connection)
        for order in left:
            try:
                self.handle_order_end(order.id)
            except StoreError:  # a start goes on without it, and the next one tries again
                _log.exception("the end of order %s of ticket %s", order.id, order.ticket_id)

    def handle_order_end(self, order_id: int) -> None:
        """What follows from an order's end, once; where the server dies in the middle, again after its start. One that
        cannot be told takes no other away."""
        with self._lock:
            if order_id in self._ending:
                return
            self._ending.add(order_id)
        try:
            with self.shop.database.read() as connection:
                order = next((o for o in links.unrecorded_orders(connection) if o.id == order_id), None)
            if order is None:
                return
            for follower in self.instruments.followers_of(order):
                try:
                    follower.order_ended(order.ticket_id, order, order.state)
                except Exception:
                    _log.exception("the end of order %s of ticket %s", order.id, order.ticket_id)
            with self.shop.database.write() as connection:
                links.record_order(connection, order.id)
        finally:
            self._ending.discard(order_id)
        if order.state == links.PAUSED or kind_of(order).long_running:
            self.shop.announce({"kind": "work", "ticket": order.ticket_id, "order": order.id, "result": order.state})
        self.sessions.notify(order.ticket_id, at_once=True)

    def keep_left(self, ticket_id: int, order: Order) -> None:
        """What was read of the surface before an order was left becomes a file on the ticket all the same."""
        with self.shop.database.read() as connection:
            pages, session = (
                links.all_pages_of(connection, ticket_id, str(order.id)),
                next(iter(links.sessions_of(connection, ticket_id)), None),
            )
        if pages and session:
            row = self.tickets.row_of(ticket_id)
            self.captures.add_file(
                ticket_id, f"{row.number.lower()}-{order.id}.gcap", capture_of(session, pages), by=BY, read_now=True
            )


def checked_page(page: PageIn) -> bytes:
    """The page's bytes. Raises StoreError where they are not what the line says."""
    try:
        data = base64.b64decode(page.data, validate=True)
    except (binascii.Error, ValueError) as error:
        raise StoreError(f"{page.path[:80]}: expected base64, got {error}") from error
    if len(data) > LARGEST_PAGE or not is_plain_path(page.path):
        raise StoreError(
            f"{page.path[:80]!r}: expected a plain relative name and at most {LARGEST_PAGE >> 20} MiB, got "
            f"{len(data)} "
            f"bytes"
        )
    if page.sha256 != (hashlib.sha256(data).hexdigest() if page.status == "ok" else None):
        raise StoreError(f"{page.path[:80]}: expected the bytes of the page's SHA-256, got others")
    return data


def _skipped(page: PageIn, why: str) -> PageIn:
    return page.model_copy(update={"status": "skipped", "detail": why, "sha256": None})
