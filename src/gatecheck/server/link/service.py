"""The link between a ticket and the probe on its machine, put together from its parts, and as the screen shows it."""

from __future__ import annotations

from collections.abc import Callable

from gatecheck.core.words.said import say
from gatecheck.server.captures.service import Captures
from gatecheck.server.link.drive_copy import DriveCopies
from gatecheck.server.link.drive_restore import DriveRestores
from gatecheck.server.link.order_kinds import RESTORE, OrderInstruments, kind_of
from gatecheck.server.link.orders import Orders, order_out
from gatecheck.server.link.pages import Pages
from gatecheck.server.link.sessions import Sessions
from gatecheck.server.link.start_codes import StartCodes
from gatecheck.server.link.wire import LinkOut
from gatecheck.server.qr import qr_svg
from gatecheck.server.shop import Shop, now
from gatecheck.server.tickets.service import Tickets
from gatecheck.store import links
from gatecheck.store.links import Order


class Links:
    """Every link of the shop. `ended`: is told of each that ends."""

    def __init__(self, shop: Shop, at_work: Tickets, captures: Captures, ended: Callable[[int], None]) -> None:
        self.shop, self.tickets, self._ended = shop, at_work, ended
        self.instruments = OrderInstruments()
        self.sessions = Sessions(shop, at_work)
        self.copies = DriveCopies(shop, at_work, captures, self.sessions)
        self.orders = Orders(shop, at_work, captures, self.sessions, self.copies, self.instruments)
        self.pages = Pages(shop, at_work, captures, self.sessions, self.copies, self.instruments)
        self.restores = DriveRestores(shop, at_work, captures, self.sessions, self.copies, self.orders)
        self.start_codes = StartCodes(shop, at_work, self.sessions)
        self.instruments.followers[RESTORE] = self.restores

    def view(self, ticket_id: int, base_url: str) -> LinkOut:
        """The ticket's link as the screen shows it. Raises NotFoundError."""
        self.tickets.row_of(ticket_id)
        with self.shop.database.read() as connection:
            link = links.link_of(connection, ticket_id)
            sessions, orders = links.sessions_of(connection, ticket_id), links.orders_of(connection, ticket_id)
        address = f"{base_url.rstrip('/')}/p/{link.code}" if link and not link.ended_at else ""
        return LinkOut.model_validate(
            {
                "state": self.sessions.state_of(ticket_id, link),
                "secret": link.secret if link else "",
                "code": link.code or "" if link else "",
                "address": address,
                "commands": self.start_codes.lines(base_url, link) if link and address else [],
                "qr": qr_svg(address) if address else "",
                "local_only": any(host in base_url for host in ("//127.", "//localhost", "//[::1]")),
                "practice": link.practice if link else None,
                "number": self.sessions.number_of(ticket_id),
                "machine": sessions[0].machine if sessions else {},
                "progress": self.sessions.progress_out(ticket_id),
                "orders": [order_out(o) for o in orders],
                "offers": self.orders.offers(ticket_id),
            }
        )

    def control(self, ticket_id: int, order_id: int, what: str) -> None:
        """Pause or stop an order that runs, go on with one that is paused, or leave it. Raises NotFoundError,
        StoreError."""
        left = self.orders.control(ticket_id, order_id, what)
        if left is not None:
            self._leave(ticket_id, left)

    def _leave(self, ticket_id: int, order: Order) -> None:
        """An order that was begun is not gone on with: what was read stays, a drive that is filled in part is said to
        be."""
        if order.name == "fill":
            self.restores.left(ticket_id, order)
        self.pages.keep_left(ticket_id, order)

    def end(self, ticket_id: int) -> None:
        """End the link: the probe is told at its next call. What is out to be written then may be written, and the tape
        says so."""
        row = self.tickets.row_of(ticket_id)
        with self.shop.database.write() as connection:
            open_ones = [o for o in links.orders_of(connection, ticket_id) if o.state in (links.WAITING, links.PAUSED)]
            begun = [o for o in open_ones if kind_of(o).pausable and o.is_handed_out]
            out = links.end_orders(
                connection,
                ticket_id,
                now(),
                maybe_written=self.shop.words.say(say("write.link-ended")),
                writing=tuple(o.name for o in open_ones if kind_of(o).runs_alone),
            )
            links.end_link(connection, ticket_id, now())
        for order in begun if not row.closed_at else ():
            self._leave(ticket_id, order)
        for order in out:
            self.pages.handle_order_end(order.id)
        self.sessions.forget(ticket_id)
        self._ended(ticket_id)
        self.sessions.notify(ticket_id, at_once=True)
