"""The link between a ticket and the probe on its machine: secret, orders with clearances, pages, the capture at the end."""

from __future__ import annotations

import base64
import hmac
import logging
import secrets
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from gatecheck.adapters.capture_files import LARGEST_CAPTURE, MOST_PAGES
from gatecheck.core.capture.identity import Identity
from gatecheck.core.words.said import say, to_json
from gatecheck.probe.gatecheck_probe import NEEDED, PROTOCOL, clearance, writes_sum
from gatecheck.server.captures.service import Captures
from gatecheck.server.errors import LinkEndedError, LinkUnknownError, NotFoundError
from gatecheck.server.link.capture import capture_of
from gatecheck.server.link.drive_copy import Copying
from gatecheck.server.link.drive_restore import Filling
from gatecheck.server.link.orders import LONG_ONES, MADE_HERE, MOVES, PAUSED_ONES, WRITING, Errand, checked_page, move_of, order_out
from gatecheck.server.link.start_codes import Handing, new_code, starts
from gatecheck.server.link.wire import LinkOut, LinkRowOut, PageIn, ProgressIn
from gatecheck.server.qr import qr_svg
from gatecheck.server.shop import Shop, now
from gatecheck.server.tickets.service import Tickets
from gatecheck.server.tickets.wire import TicketOut
from gatecheck.store import Connection, StoreError, links
from gatecheck.store.links import Link, Order, Session

_log = logging.getLogger(__name__)
_SECRET_BYTES = 24
"""of chance in a secret: 192 bits"""
_MOST_BYTES = LARGEST_CAPTURE - (2 << 20)
_MOST_SESSIONS, _MOST_SESSION_PAGES = 40, 10 * MOST_PAGES
"""a map comes in hundreds of pieces, which are one page in the capture"""
_AWAY_SECONDS = 12.0
_QUIET_SECONDS = 0.4
BY = "probe"
_STALL_SECONDS = 90.0
_SECTORS_MOVE = "disk-layout"
"""reading first sectors asks the medium: allowed where this check is"""


class _Live:
    """What is known of a probe that is on the line; not kept over a restart, for it says hello again."""

    def __init__(self) -> None:
        self.seen, self.told = time.monotonic(), 0.0
        self.done, self.of, self.text, self.unit, self.order = 0, 0, "", "percent", ""
        self.kind, self.hot, self.key = "", False, False
        self.minutes_left: float | None = None
        self.went_on = time.monotonic()
        """when it was further than before for the last time"""


class Links:
    """Every link of the shop. `on_end` is told of each that ends."""

    def __init__(self, shop: Shop, at_work: Tickets, captures: Captures) -> None:
        self.shop, self.tickets, self.captures = shop, at_work, captures
        self.on_end: Callable[[int], None] = lambda ticket_id: None
        self._live: dict[int, _Live] = {}
        self._heard: dict[str, float] = {}
        """when each start of a probe was heard last"""
        self._began = time.monotonic()
        self._numbers: dict[int, str] = {}
        """of machines that were taken to a ticket and wait for a key of their own: what their screen shows"""
        self._lock = threading.Lock()
        self._telling = set[int]()
        self.copying, self.handing = Copying(self), Handing(self)
        self.errands: dict[str, Errand] = {}
        """who says what the probe is to read next, by order"""
        self.filling = Filling(self)
        self.on_done: list[Callable[[int, Order, str], None]] = [self.filling.done]
        """told of each order that is through"""

    # --- for the browser ---------------------------------------------------------------------------------------

    def open(self, ticket_id: int, *, by: str) -> None:
        """Give the ticket a secret, if it has none that is valid. Raises NotFoundError, LinkEndedError."""
        if self.tickets.row_of(ticket_id).closed_at:
            raise StoreError("link: expected an open ticket, got one that was handed over")
        with self.shop.database.write() as connection:
            known = links.link_of(connection, ticket_id)
            if known is None or known.ended_at:
                links.open_link(connection, ticket_id, f"{ticket_id}-{secrets.token_urlsafe(_SECRET_BYTES)}", new_code(), by=by, at=now())
        self.tell(ticket_id, at_once=True)

    def view(self, ticket_id: int, base_url: str) -> LinkOut:
        """The ticket's link as the screen shows it. Raises NotFoundError."""
        self.tickets.row_of(ticket_id)
        with self.shop.database.read() as connection:
            link = links.link_of(connection, ticket_id)
            sessions, orders = links.sessions_of(connection, ticket_id), links.orders_of(connection, ticket_id)
        address = f"{base_url.rstrip('/')}/p/{link.code}" if link and not link.ended_at else ""
        ticket = self.tickets.ticket(ticket_id)
        return LinkOut.model_validate({
            "state": self._state(ticket_id, link), "secret": link.secret if link else "", "code": link.code or "" if link else "", "address": address,
            "commands": starts(base_url, link.code or "") if link and address else [], "qr": qr_svg(address) if address else "",
            "local_only": any(host in base_url for host in ("//127.", "//localhost", "//[::1]")),
            "practice": link.practice if link else None, "number": self._numbers.get(ticket_id, ""), "machine": sessions[0].machine if sessions else {},
            "progress": self._progress(ticket_id),
            "orders": [order_out(o) for o in orders],
            "offers": [
                {"order": order, "kind": kind, "move": move, "held": self._held(ticket, move)}
                for order, kinds in MOVES.items() for kind, move in kinds.items() if move and order not in MADE_HERE
            ],
        })  # fmt: skip

    def wait_for_key(self, ticket_id: int, number: str) -> None:
        """A machine was handed this ticket's secret, and begins once somebody has compared the numbers there."""
        self._numbers[ticket_id] = number
        self.tell(ticket_id, at_once=True)

    def row(self, ticket_id: int) -> LinkRowOut | None:
        """For the bench: linked, away, and how far it is; None where there is no link."""
        live = self._live.get(ticket_id)
        if live is None:
            return None
        state = "linked" if time.monotonic() - live.seen < _AWAY_SECONDS else "away"
        with self.shop.database.read() as connection:
            paused = next((o for o in reversed(links.orders_of(connection, ticket_id)) if o.state == links.PAUSED), None)
        is_long = live.of and live.kind in LONG_ONES
        stalls = bool(live.of) and time.monotonic() - live.went_on > _STALL_SECONDS
        waits = paused if not is_long else None
        return LinkRowOut(
            state=state, done=live.done, of=live.of, text=live.text, minutes_left=live.minutes_left, stalls=stalls, hot=live.hot,
            work=live.kind if is_long else str(waits.body["order"]) if waits else "", paused=waits.detail if waits else "",
        )  # fmt: skip

    def _progress(self, ticket_id: int) -> dict[str, Any] | None:
        live = self._live.get(ticket_id)
        return {"done": live.done, "of": live.of, "text": live.text, "minutes_left": live.minutes_left, "unit": live.unit, "order": live.order, "waits_for_key": live.key} if live and live.of else None

    def _state(self, ticket_id: int, link: Link | None) -> str:
        if link is None:
            return "none"
        if link.ended_at:
            return "ended"
        live = self._live.get(ticket_id)
        return "waiting" if live is None else "linked" if time.monotonic() - live.seen < _AWAY_SECONDS else "away"

    def order(self, ticket_id: int, body: Mapping[str, Any], *, by: str) -> None:
        """Put an order for the probe. Raises StoreError where an interlock holds it or there is no link to pull it."""
        if body.get("order") in MADE_HERE:
            raise StoreError(f"order: expected one that a person gives, got {body['order']}: an instrument makes it")
        self.put(ticket_id, {k: body[k] for k in ("order", "device", "kind", "minutes", "hot", "first", "end", "tight") if body.get(k)}, by=by)

    def put(self, ticket_id: int, body: Mapping[str, Any], *, by: str, to: Identity | None = None) -> int:
        """The same for an order that was made here, with all that it carries; its number. `to`: the drive that was confirmed on the screen, for an order that writes.
        Raises StoreError where that drive does not say who it is, where two say that they are it, or where another order writes."""
        ticket = self.tickets.ticket(ticket_id)
        held = self._held(ticket, move_of(body))
        if held:
            raise StoreError(f"order {body['order']}: {held}")
        writes = body["order"] in WRITING
        own = to or (self.captures.identity_named(ticket_id, str(body["device"])) if body.get("device") and not writes else None)
        if writes and (own is None or not own.name):
            raise StoreError(self.shop.words.say(say("write.no-identity", order=str(body["order"]), device=str(body.get("device") or "?"))))
        if own is not None and own.name:
            self.no_twins(ticket_id, str(body["order"]), own)
        if body["order"] == "copy" and not body.get("tight"):
            self.copying.has_room(ticket_id, str(body["device"]))
        whole = {k: v for k, v in body.items() if k != "tight"} | (own.order_body() if own is not None and own.name else {})
        with self.shop.database.write() as connection:
            link = links.link_of(connection, ticket_id)
            if link is None or link.ended_at:
                raise StoreError("order: expected a link on this ticket, got none")
            self._one_write_at_a_time(links.orders_of(connection, ticket_id), body)
            number = links.put_order(connection, ticket_id, whole, by=by, at=now())
        self.tell(ticket_id, at_once=True)
        return number

    def no_twins(self, ticket_id: int, order: str, own: Identity) -> None:
        """Raises StoreError where two drives of the machine say that they are this one."""
        twins = self.captures.twins_of(ticket_id, own)
        if twins:
            raise StoreError(self.shop.words.say(say("write.twins", order=order, serial=own.name, names=twins)))

    @staticmethod
    def _one_write_at_a_time(orders: Sequence[Order], body: Mapping[str, Any]) -> None:
        """In the transaction that puts the order: of requests that come at once, one is first. Raises StoreError."""
        open_ones = [o for o in orders if o.state in (links.WAITING, links.PAUSED)]
        if body["order"] not in WRITING:
            return
        if body["order"] != "fill" and any(o.state == links.WAITING for o in open_ones):
            raise StoreError(f"{body['order']}: expected no other order that waits, got one; what writes runs alone")
        if any(o.body["order"] in WRITING for o in open_ones):
            raise StoreError(f"{body['order']}: expected no other order that writes, got one that is not through; one at a time")

    def pending(self, ticket_id: int) -> bool:
        """Is there a first order still to come, or one that the probe has not carried out?"""
        with self.shop.database.read() as connection:
            orders = links.orders_of(connection, ticket_id)
        return not orders or any(o.standing == links.WAITING for o in orders)

    def steer(self, ticket_id: int, order_id: int, what: str) -> None:
        """Pause or stop an order that runs, go on with one that is paused, or leave it. Raises NotFoundError, StoreError."""
        self.tickets.row_of(ticket_id)
        with self.shop.database.read() as connection:
            order = next((o for o in links.orders_of(connection, ticket_id) if o.id == order_id), None)
        if order is None:
            raise NotFoundError(f"order {order_id}: expected one of this ticket, got none")
        fits = {"pause": links.WAITING, "stop": links.WAITING, "go-on": links.PAUSED, "leave": links.PAUSED}
        if order.state != fits[what] or (what == "pause" and order.body["order"] not in PAUSED_ONES):
            raise StoreError(f"order {order_id}: expected one that is {fits[what]} and can do so, got a {order.body['order']} that is {order.state}")
        if what == "go-on":
            held = self._held(self.tickets.ticket(ticket_id), move_of(order.body))
            if held:
                raise StoreError(f"order {order.body['order']}: {held}")
        begun = True
        with self.shop.database.write() as connection:
            order = next(o for o in links.orders_of(connection, ticket_id) if o.id == order_id)
            begun = order.is_handed_out
            if what == "go-on":
                if order.body["order"] in WRITING:
                    self._one_write_at_a_time([o for o in links.orders_of(connection, ticket_id) if o.id != order_id], order.body)
                links.go_on(connection, order_id)
            elif what == "leave" or (what == "stop" and not begun):
                links.cancel(connection, order_id, now())
            elif what == "pause" and not begun:
                links.pause(connection, order_id, self.shop.words.say(say("write.paused-before")))
            else:
                links.want(connection, order_id, what)
        if what == "leave" and begun:
            self._left(ticket_id, order)
        self.tell(ticket_id, at_once=True)

    def _left(self, ticket_id: int, order: Order) -> None:
        """What was read of the surface before an order was left becomes a file on the ticket all the same; a drive that is filled in part is said to be."""
        if order.body["order"] == "fill":
            self.filling.left(ticket_id, order)
        with self.shop.database.read() as connection:
            pages, session = links.all_pages_of(connection, ticket_id, str(order.id)), next(iter(links.sessions_of(connection, ticket_id)), None)
        if pages and session:
            row = self.tickets.row_of(ticket_id)
            self.captures.add_file(ticket_id, f"{row.number.lower()}-{order.id}.gcap", capture_of(session, pages), by=BY, read_now=True)

    def held(self, ticket_id: int, move: str) -> str:
        """Why this move is held back now; empty where it is not."""
        return self._held(self.tickets.ticket(ticket_id), move)

    def _held(self, ticket: TicketOut, move: str | None) -> str:
        """Why the order's move is held back now; empty where it is not. A drive in doubt is not written to, whatever else would allow it."""
        if move in MOVES["mend"] and any(g.id == "health" and g.state in ("shut", "suspect") for g in ticket.gates):
            return self.shop.words.say(say("path.drive-in-doubt"))
        return next((f"{h.why}. {h.release}" for h in ticket.held if h.move == move), "")

    def end(self, ticket_id: int) -> None:
        """End the link: the probe is told at its next call. What is out to be written then may be written, and the tape says so."""
        row = self.tickets.row_of(ticket_id)
        with self.shop.database.write() as connection:
            begun = [o for o in links.orders_of(connection, ticket_id) if o.state in (links.WAITING, links.PAUSED) and o.body["order"] in PAUSED_ONES and o.is_handed_out]
            out = links.end_orders(connection, ticket_id, now(), maybe_written=self.shop.words.say(say("write.link-ended")), writing=("mend", "entry"))
            links.end_link(connection, ticket_id, now())
        for order in begun if not row.closed_at else ():
            self._left(ticket_id, order)
        for order in out:
            self._came_to(order.id)
        self._live.pop(ticket_id, None)
        self._numbers.pop(ticket_id, None)
        self.on_end(ticket_id)
        self.tell(ticket_id, at_once=True)

    # --- for the probe -----------------------------------------------------------------------------------------

    def hello(self, secret: str, protocol: int, probe: str, machine: Mapping[str, str], session_id: str, has: int) -> dict[str, Any]:
        """A probe reports. A session that is known goes on where it was; one whose pages the probe has lost begins anew."""
        if protocol != PROTOCOL:
            raise StoreError(f"protocol: expected {PROTOCOL}, got {protocol}; take the probe from this server's /probe")
        link = self.link_with(secret)
        with self.shop.database.write() as connection:
            known = links.session_by_id(connection, session_id)
            at = links.acknowledged(connection, session_id) if known else 0
            if known and (known.ticket_id != link.ticket_id or at > has):
                session_id, known, at = secrets.token_hex(8), None, 0
            if known is None and links.starts_of(connection, link.ticket_id) >= _MOST_SESSIONS:
                raise StoreError(f"link: expected at most {_MOST_SESSIONS} starts of the probe on one link, got another; open the link anew")
            if known is None:
                links.begin_session(connection, session_id, link.ticket_id, machine, probe, now())
        self.seen(link.ticket_id)
        self._heard[session_id] = time.monotonic()
        self._numbers.pop(link.ticket_id, None)
        row = self.tickets.row_of(link.ticket_id)
        if known is None:
            text = " ".join(filter(None, (machine.get("sys_vendor"), machine.get("product_name"))))
            entry = {"move": "live-start", "outcome": "runs", "note": to_json(say("evidence.hello", machine=text))}
            clock = self.captures.clock(link.ticket_id, machine, int(time.time()))
            entries = [(entry, f"hello-{session_id}"), *((body, f"clock-{session_id}") for body in clock)]
            self.tickets.append_all(link.ticket_id, entries, by=BY)
        self._first_order(link.ticket_id)
        self.tell(link.ticket_id, at_once=True)
        return {"protocol": PROTOCOL, "session": session_id, "ticket": row.number, "acknowledged": at, "rest": bool(self.held(link.ticket_id, "health-pages"))}

    def _first_order(self, ticket_id: int) -> None:
        """Nobody has to ask for the first reading. Where the drive must not be read, only the firmware is looked at."""
        held = self._held(self.tickets.ticket(ticket_id), "health-pages")
        with self.shop.database.write() as connection:
            if not links.orders_of(connection, ticket_id):
                links.put_order(connection, ticket_id, {"order": "look" if held else "read"}, by=BY, at=now())

    def orders(self, secret: str, session_id: str) -> dict[str, Any]:
        """Orders to work on, each with the clearances that the ticket's interlocks leave it now. Who pulls one has it: another start of a probe is not handed it
        while that one is heard of."""
        link, session = self.session_of(secret, session_id)
        with self.shop.database.read() as connection:
            own = self._for(connection, link, session)
        if any(o.holder != session.id for o in own):
            with self.shop.database.write() as connection:
                own = self._for(connection, link, session)
                for order in own:
                    if order.holder != session.id:
                        links.hand_out(connection, order.id, session.id)
        ticket = self.tickets.ticket(link.ticket_id) if own else None
        return {"orders": [self._made_out(link, o, ticket) for o in own if ticket]}

    def _for(self, connection: Connection, link: Link, session: Session) -> list[Order]:
        """Orders that wait and are this session's to work on."""
        waiting = [o for o in links.orders_of(connection, link.ticket_id) if o.state == links.WAITING and o.id not in self.copying.reading_back]
        return [o for o in waiting if o.holder in ("", session.id) or self._is_free(connection, o, session)]

    def _is_free(self, connection: Connection, order: Order, session: Session) -> bool:
        """Is an order that another start of a probe has this one's to go on with? Where that one is not heard of any more; and what only reads, on the same machine."""
        holder = links.session_by_id(connection, order.holder)
        serial = session.machine.get("product_serial", "")
        if order.body["order"] not in WRITING and holder is not None and serial and holder.machine == {**session.machine, **{k: v for k, v in holder.machine.items() if k == "rtc"}}:
            return True
        return time.monotonic() - self._heard.get(order.holder, self._began) > _AWAY_SECONDS

    def held_by(self, order: Order, session: Session) -> None:
        """Raises StoreError where the order is in the hands of another start of a probe."""
        if order.holder not in ("", session.id):
            raise StoreError(f"order {order.id}: expected a word from the start of the probe that has it, got one from another")

    def _made_out(self, link: Link, order: Order, ticket: TicketOut) -> dict[str, Any]:
        kind = order.body["order"]
        cleared = [NEEDED[kind]] if not self._held(ticket, move_of(order.body)) else []
        if cleared and kind == "read" and not self._held(ticket, _SECTORS_MOVE):
            cleared.append("sectors")
        device = order.body.get("drive") or order.body.get("device", "")
        made_for = {"write": f"write:{writes_sum(order.body['writes'])}"} if kind in ("mend", "entry") else {"write": f"write:{order.body['copy']}:{order.body['size']}:{order.body['disk']}"} if kind == "fill" else {}
        marks = {what: clearance(link.secret, str(order.id), kind, device, made_for.get(what, what)) for what in cleared}
        return {"id": str(order.id), **order.body, "clearances": marks}

    def map_so_far(self, secret: str, session_id: str, order_id: str) -> dict[str, Any]:
        """The map of an order that was begun, for a probe that has lost its own."""
        link, _ = self.session_of(secret, session_id)
        with self.shop.database.read() as connection:
            pieces = links.map_of(connection, link.ticket_id, order_id)
        return {"map": base64.b64encode(b"".join(pieces)).decode()}

    def errand_of(self, secret: str, session_id: str, order_id: str) -> tuple[int, Order, Errand]:
        """An order that is carried out turn by turn, and who knows its next turn. Raises NotFoundError."""
        link, session = self.session_of(secret, session_id)
        with self.shop.database.read() as connection:
            order = next((o for o in links.orders_of(connection, link.ticket_id) if str(o.id) == order_id), None)
        if order is not None:
            self.held_by(order, session)
        if order is None or order.body["order"] not in self.errands or order.state != links.WAITING:
            raise NotFoundError(f"order {order_id[:20]!r}: expected one of this ticket that asks for sectors, got none")
        return link.ticket_id, order, self.errands[order.body["order"]]

    def wanted(self, secret: str, session_id: str, order_id: str, *, ahead: bool = False) -> dict[str, Any]:
        """What an order is to read next, by what was read so far; nothing where it needs no more, or is held by now."""
        ticket_id, order, errand = self.errand_of(secret, session_id, order_id)
        if self._held(self.tickets.ticket(ticket_id), move_of(order.body)):
            return {"ranges": [], "do": "pause"}
        return errand.wanted(ticket_id, order, session_id, ahead=ahead)

    def unread(self, secret: str, session_id: str, order_id: str, first: int, count: int, *, careful: bool) -> dict[str, Any]:
        """Sectors of an order that did not read; `careful`: one by one, so they never will. Raises NotFoundError."""
        ticket_id, order, errand = self.errand_of(secret, session_id, order_id)
        errand.unread(ticket_id, order, session_id, first, count, careful=careful)
        return {}

    def said(self, secret: str, session_id: str) -> dict[str, Any]:
        """What the bench makes of this machine's drives so far, for a screen on the machine itself: device -> words."""
        link, _ = self.session_of(secret, session_id)
        return {"drives": self.captures.verdicts(link.ticket_id)}

    def page(self, secret: str, page: PageIn) -> dict[str, Any]:
        """Keep one page. Pages come in order; one that is not the next is not kept, and the answer says where the bench stands."""
        link, session = self.session_of(secret, page.session)
        data = checked_page(page)
        with self.shop.database.read() as connection:
            known = {str(o.id): o for o in links.orders_of(connection, link.ticket_id)}
            held = links.bytes_of(connection, session.id, page.order)
        if page.order not in known:
            raise StoreError(f"page {page.path[:80]}: expected an order of this ticket, got {page.order[:20]!r}")
        own = known[page.order]
        if own.body["order"] in WRITING and own.holder != session.id:  # it counts for nothing, and the pages after it come through
            page, data = page.model_copy(update={"status": "skipped", "detail": "not from the start of the probe that has this order", "sha256": None}), b""
        if data and held + len(data) > _MOST_BYTES:  # what does not fit into the capture is said in it
            page, data = page.model_copy(update={"status": "skipped", "detail": f"the capture is full: {_MOST_BYTES >> 20} MiB", "sha256": None}), b""
        if page.kind == "read-map" and page.order.isdigit():
            self.copying.copies.sync(link.ticket_id, int(page.order))  # what the map says is read is on the disk before the map is
        with self.shop.database.write() as connection:
            at = links.acknowledged(connection, session.id)
            if page.seq == at + 1:
                if page.seq > _MOST_SESSION_PAGES:
                    raise StoreError(f"page {page.seq}: expected at most {_MOST_SESSION_PAGES} in a session")
                line = page.model_dump(include={"path", "kind", "device", "how", "status", "detail", "sha256"})
                links.keep_page(connection, session.id, page.seq, page.order, line, data)
                at = page.seq
        self.seen(link.ticket_id)
        return {"acknowledged": at}

    def progress(self, secret: str, progress: ProgressIn) -> dict[str, Any]:
        """How far the probe is."""
        link, _ = self.session_of(secret, progress.session)
        live = self.seen(link.ticket_id)
        if (progress.order, progress.done) != (live.order, live.done):
            live.went_on = time.monotonic()
        live.done, live.of, live.text, live.minutes_left = progress.done, progress.of, progress.text, progress.minutes_left
        live.unit, live.order, live.hot, live.key = progress.unit, progress.order, progress.hot, progress.key
        self.tell(link.ticket_id)
        return {"do": self._wanted(link, progress.order, live)}

    def _wanted(self, link: Link, order_id: str, live: _Live) -> str:
        """What the bench wants of an order that runs: an interlock that holds it by now stops it, a pause where it can be paused."""
        with self.shop.database.read() as connection:
            order = next((o for o in links.orders_of(connection, link.ticket_id) if str(o.id) == order_id), None)
        live.kind = str(order.body["order"]) if order else ""
        if order is None or live.kind not in LONG_ONES:
            return ""
        if order.wanted:
            return order.wanted
        return ("pause" if order.body["order"] in PAUSED_ONES else "stop") if self._held(self.tickets.ticket(link.ticket_id), move_of(order.body)) else ""

    def done(self, secret: str, session_id: str, order_id: str, result: str, detail: str, wrote: bool | None = None) -> dict[str, Any]:
        """An order is through: its pages become a capture on the ticket. Said twice it is done once."""
        link, session = self.session_of(secret, session_id)
        with self.shop.database.read() as connection:
            order = next((o for o in links.orders_of(connection, link.ticket_id) if str(o.id) == order_id), None)
            pages = links.all_pages_of(connection, link.ticket_id, order_id)
        if order is None:
            raise NotFoundError(f"order {order_id[:20]!r}: expected one of this ticket, got none")
        if order.state == links.WAITING:
            self.held_by(order, session)
        if len(order.handed_to) > 1 and not wrote:
            wrote = None  # this start of the probe speaks for itself, and not for the one that had the order before
        if result == "refused" and wrote:
            result = "failed"
        elif result == "refused" and order.body["order"] in WRITING and len(order.handed_to) > 1:
            result, detail = "failed", self.shop.words.say(say("write.had-by-another", detail=detail))

        def end(connection: Connection) -> None:
            if not order.is_handed_out:
                links.hand_out(connection, order.id, session.id)
            links.end_order(connection, order.id, result, detail[:300], now(), wrote=wrote, is_told=False)

        if order.body["order"] == "copy" and order.state == links.WAITING and result == "done":
            self.copying.sent(link.ticket_id, order)
            return {"ok": True}
        if pages and order.state == links.WAITING and result != links.PAUSED:  # pages, entries and the order's end stand or fall together
            row = self.tickets.row_of(link.ticket_id)
            self.captures.add_file(link.ticket_id, f"{row.number.lower()}-{order_id}.gcap", capture_of(session, pages, order_id if order.body["order"] in MADE_HERE else ""), by=BY, also=end, read_now=True)
        else:
            with self.shop.database.write() as connection:
                end(connection)
        live = self.seen(link.ticket_id)
        live.done, live.of, live.minutes_left, live.text, live.key = 0, 0, None, "", False
        self._came_to(order.id)
        return {"ok": True}

    def catch_up(self) -> None:
        """Tell what orders came to that had ended when an earlier server died before it could."""
        with self.shop.database.read() as connection:
            left = links.untold_orders(connection)
        for order in left:
            try:
                self._came_to(order.id)
            except StoreError:  # a start goes on without it, and the next one tries again
                _log.exception("what order %s of ticket %s came to", order.id, order.ticket_id)

    def _came_to(self, order_id: int) -> None:
        """What follows from an order's end, once; where the server dies in the middle, again after its start. One that cannot be told takes no other away."""
        with self._lock:
            if order_id in self._telling:
                return
            self._telling.add(order_id)
        try:
            with self.shop.database.read() as connection:
                order = next((o for o in links.untold_orders(connection) if o.id == order_id), None)
            if order is None:
                return
            for told in self.on_done:
                try:
                    told(order.ticket_id, order, order.state)
                except Exception:
                    _log.exception("what order %s of ticket %s came to", order.id, order.ticket_id)
            with self.shop.database.write() as connection:
                links.told_order(connection, order.id)
        finally:
            self._telling.discard(order_id)
        if order.state == links.PAUSED or order.body["order"] in LONG_ONES:
            self.shop.announce({"kind": "work", "ticket": order.ticket_id, "order": order.id, "result": order.state})
        self.tell(order.ticket_id, at_once=True)

    def link_with(self, secret: str) -> Link:
        named = secret.partition("-")[0]
        with self.shop.database.read() as connection:
            link = links.link_of(connection, int(named)) if named.isdigit() and len(named) < 18 else None
        if not hmac.compare_digest((link.secret if link else secrets.token_urlsafe()).encode(), secret.encode()) or link is None:
            raise LinkUnknownError("secret: expected the one that the link's code was exchanged for, got another")
        if link.ended_at or self.tickets.row_of(link.ticket_id).closed_at:
            raise LinkEndedError("link: expected one that is open, got one that was ended")
        return link

    def session_of(self, secret: str, session_id: str) -> tuple[Link, Session]:
        link = self.link_with(secret)
        with self.shop.database.read() as connection:
            session = links.session_by_id(connection, session_id)
        if session is None or session.ticket_id != link.ticket_id:
            raise NotFoundError("session: expected one of this link, got another; say hello first")
        self._heard[session.id] = time.monotonic()
        self.seen(link.ticket_id)
        return link, session

    def seen(self, ticket_id: int) -> _Live:
        with self._lock:
            live = self._live.setdefault(ticket_id, _Live())
            live.seen = time.monotonic()
            return live

    def tell(self, ticket_id: int, *, at_once: bool = False) -> None:
        live = self._live.get(ticket_id)
        if live and not at_once and time.monotonic() - live.told < _QUIET_SECONDS:
            return
        if live:
            live.told = time.monotonic()
        self.shop.announce({"kind": "link", "ticket": ticket_id})

    def secret_of(self, ticket_id: int) -> str:
        """The secret of a ticket's open link. Raises NotFoundError."""
        with self.shop.database.read() as connection:
            link = links.link_of(connection, ticket_id)
        if link is None or link.ended_at:
            raise NotFoundError(f"ticket {ticket_id}: expected an open link, got none")
        return link.secret
