"""Orders of a link: given, held back, handed out with their clearances, paused, stopped, taken back."""

from __future__ import annotations

import base64
import secrets
import time
from collections.abc import Mapping, Sequence
from typing import Any

from gatecheck.core.capture.identity import Identity
from gatecheck.core.decide.gates import gate_states
from gatecheck.core.words.said import say, to_json
from gatecheck.probe.orders import NEEDED, clearance, writes_sum
from gatecheck.probe.settings import PROTOCOL
from gatecheck.server.captures.service import Captures
from gatecheck.server.errors import NotFoundError
from gatecheck.server.link.drive_copy import DriveCopies
from gatecheck.server.link.order_kinds import ORDER_KINDS, InteractiveOrder, OrderInstruments, kind_of, move_of
from gatecheck.server.link.sessions import Sessions
from gatecheck.server.link.wire import ProgressIn
from gatecheck.server.shop import Shop, now
from gatecheck.server.tickets.folded import FoldedTicket
from gatecheck.server.tickets.service import Tickets
from gatecheck.store import Connection, StoreError, links
from gatecheck.store.links import Link, Order, Session

BY = "probe"
_MOST_SESSIONS = 40
_SECTORS_MOVE = "disk-layout"
"""reading first sectors asks the medium: allowed where this check is"""
_GIVEN = ("order", "device", "kind", "minutes", "hot", "first", "end", "tight")
_SHOWN = ("order", "device", "drive", "kind", "minutes", "hot", "first", "end")


class Orders:
    """The orders of a shop's links."""

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

    # --- for the browser ---------------------------------------------------------------------------------------

    def give(self, ticket_id: int, body: Mapping[str, Any], *, by: str) -> None:
        """A person gives an order. Raises StoreError where an interlock holds it or there is no link to pull it."""
        kind = ORDER_KINDS.get(str(body.get("order")))
        if kind is not None and kind.by_instrument:
            raise StoreError(f"order: expected one that a person gives, got {kind.name}: an instrument makes it")
        self.enqueue(ticket_id, {k: body[k] for k in _GIVEN if body.get(k)}, by=by)

    def enqueue(self, ticket_id: int, body: Mapping[str, Any], *, by: str, to: Identity | None = None) -> int:
        """The same for an order that was made here, with all that it carries; its number. `to`: the drive that was
        confirmed on the screen, for an order that writes. Raises StoreError where that drive does not say who it is,
        where two say that they are it, or where another order writes."""
        held = self.held(ticket_id, move_of(body))
        if held:
            raise StoreError(f"order {body['order']}: {held}")
        writes = ORDER_KINDS[str(body["order"])].writes
        own = to or (
            self.captures.identity_named(ticket_id, str(body["device"])) if body.get("device") and not writes else None
        )
        if writes and (own is None or not own.name):
            raise StoreError(
                self.shop.words.say(
                    say("write.no-identity", order=str(body["order"]), device=str(body.get("device") or "?"))
                )
            )
        if own is not None and own.name:
            self._no_twins(ticket_id, str(body["order"]), own)
        if body["order"] == "copy" and not body.get("tight"):
            self.copies.has_room(ticket_id, str(body["device"]))
        whole = {k: v for k, v in body.items() if k != "tight"} | (
            own.order_body() if own is not None and own.name else {}
        )
        with self.shop.database.write() as connection:
            link = links.link_of(connection, ticket_id)
            if link is None or link.ended_at:
                raise StoreError("order: expected a link on this ticket, got none")
            _one_write_at_a_time(links.orders_of(connection, ticket_id), body)
            number = links.put_order(connection, ticket_id, whole, by=by, at=now())
        self.sessions.notify(ticket_id, at_once=True)
        return number

    def _no_twins(self, ticket_id: int, order: str, own: Identity) -> None:
        """Raises StoreError where two drives of the machine say that they are this one."""
        twins = self.captures.twins_of(ticket_id, own)
        if twins:
            raise StoreError(self.shop.words.say(say("write.twins", order=order, serial=own.name, names=twins)))

    def pending(self, ticket_id: int) -> bool:
        """Is there a first order still to come, or one that the probe has not carried out?"""
        with self.shop.database.read() as connection:
            orders = links.orders_of(connection, ticket_id)
        return not orders or any(o.standing == links.WAITING for o in orders)

    def control(self, ticket_id: int, order_id: int, what: str) -> Order | None:
        """Pause or stop an order that runs, go on with one that is paused, or leave it. The order, where one that a
        probe had begun was left. Raises NotFoundError, StoreError."""
        self.tickets.row_of(ticket_id)
        with self.shop.database.read() as connection:
            order = links.order_of(connection, ticket_id, order_id)
        if order is None:
            raise NotFoundError(f"order {order_id}: expected one of this ticket, got none")
        fits = {"pause": links.WAITING, "stop": links.WAITING, "go-on": links.PAUSED, "leave": links.PAUSED}
        if order.state != fits[what] or (what == "pause" and not kind_of(order).pausable):
            raise StoreError(
                f"order {order_id}: expected one that is {fits[what]} and can do so, got a {order.name} that is "
                f"{order.state}"
            )
        if what == "go-on":
            held = self.held_now(self.tickets.folded_of(ticket_id), move_of(order.body))
            if held:
                raise StoreError(f"order {order.name}: {held}")
        with self.shop.database.write() as connection:
            order = links.order_of(connection, ticket_id, order_id) or order
            if what == "go-on":
                _one_write_at_a_time(
                    [o for o in links.orders_of(connection, ticket_id) if o.id != order_id], order.body
                )
                links.go_on(connection, order_id)
            elif what == "leave" or (what == "stop" and not order.is_handed_out):
                links.cancel(connection, order_id, now())
            elif what == "pause" and not order.is_handed_out:
                links.pause(connection, order_id, self.shop.words.say(say("write.paused-before")))
            else:
                links.want(connection, order_id, what)
        self.sessions.notify(ticket_id, at_once=True)
        return order if what == "leave" and order.is_handed_out else None

    def held(self, ticket_id: int, move: str | None) -> str:
        """Why this move is held back now; empty where it is not."""
        return self.held_now(self.tickets.folded_of(ticket_id), move)

    def held_now(self, folded: FoldedTicket, move: str | None) -> str:
        """The same for a ticket that was just looked at. A drive in doubt is not written to, whatever else would allow
        it."""
        say_it = self.shop.words.say
        if move in ORDER_KINDS["mend"].moves and any(
            g.id == "health" and g.state in ("shut", "suspect") for g in gate_states(folded.model, folded.state)
        ):
            return say_it(say("path.drive-in-doubt"))
        return next((f"{say_it(h.why)}. {say_it(h.release)}" for h in folded.held if h.move == move), "")

    def offers(self, ticket_id: int) -> list[dict[str, Any]]:
        """The orders that a person may give, and why one is held back."""
        ticket = self.tickets.folded_of(ticket_id)
        return [
            {"order": kind.name, "kind": variant, "move": move, "held": self.held_now(ticket, move)}
            for kind in ORDER_KINDS.values()
            if not kind.by_instrument
            for variant, move in kind.moves.items()
            if move
        ]

    # --- for the probe -----------------------------------------------------------------------------------------

    def hello(
        self, secret: str, protocol: int, probe: str, machine: Mapping[str, str], session_id: str, has: int
    ) -> dict[str, Any]:
        """A probe reports. A session that is known goes on where it was; one whose pages the probe has lost begins
        anew."""
        if protocol != PROTOCOL:
            raise StoreError(f"protocol: expected {PROTOCOL}, got {protocol}; take the probe from this server's /probe")
        link = self.sessions.link_with(secret)
        with self.shop.database.write() as connection:
            known = links.session_by_id(connection, session_id)
            at = links.acknowledged(connection, session_id) if known else 0
            if known and (known.ticket_id != link.ticket_id or at > has):
                session_id, known, at = secrets.token_hex(8), None, 0
            if known is None and links.starts_of(connection, link.ticket_id) >= _MOST_SESSIONS:
                raise StoreError(
                    f"link: expected at most {_MOST_SESSIONS} starts of the probe on one link, got another; open "
                    f"the "
                    f"link anew"
                )
            if known is None:
                links.begin_session(connection, session_id, link.ticket_id, machine, probe, now())
        self.sessions.progress(link.ticket_id)
        self.sessions.hear(session_id)
        self.sessions.number_was_compared(link.ticket_id)
        row = self.tickets.row_of(link.ticket_id)
        if known is None:
            text = " ".join(filter(None, (machine.get("sys_vendor"), machine.get("product_name"))))
            entry = {"move": "live-start", "outcome": "runs", "note": to_json(say("evidence.hello", machine=text))}
            clock = self.captures.clock(link.ticket_id, machine, int(time.time()))
            entries = [(entry, f"hello-{session_id}"), *((body, f"clock-{session_id}") for body in clock)]
            self.tickets.note_all(link.ticket_id, entries, by=BY)
        held = self.held(link.ticket_id, "health-pages")
        self._first_order(link.ticket_id, held)
        self.sessions.notify(link.ticket_id, at_once=True)
        return {
            "protocol": PROTOCOL,
            "session": session_id,
            "ticket": row.number,
            "acknowledged": at,
            "rest": bool(held),
        }

    def _first_order(self, ticket_id: int, held: str) -> None:
        """Nobody has to ask for the first reading. Where the drive must not be read, only the firmware is looked at."""
        with self.shop.database.write() as connection:
            if not links.orders_of(connection, ticket_id):
                links.put_order(connection, ticket_id, {"order": "look" if held else "read"}, by=BY, at=now())

    def hand_out(self, secret: str, session_id: str) -> dict[str, Any]:
        """Orders to work on, each with the clearances that the ticket's interlocks leave it now. Who pulls one has it:
        another start of a probe is not handed it while that one is heard of."""
        link, session = self.sessions.session_of(secret, session_id)
        with self.shop.database.read() as connection:
            own = self._for(connection, link, session)
        if any(o.holder != session.id for o in own):
            with self.shop.database.write() as connection:
                own = self._for(connection, link, session)
                for order in own:
                    if order.holder != session.id:
                        links.hand_out(connection, order.id, session.id)
        ticket = self.tickets.folded_of(link.ticket_id) if own else None
        return {"orders": [self._made_out(link, o, ticket) for o in own if ticket]}

    def _for(self, connection: Connection, link: Link, session: Session) -> list[Order]:
        """Orders that wait and are this session's to work on."""
        waiting = [
            o
            for o in links.orders_of(connection, link.ticket_id)
            if o.state == links.WAITING and o.id not in self.copies.reading_back
        ]
        return [o for o in waiting if o.holder in ("", session.id) or self._is_free(connection, o, session)]

    def _is_free(self, connection: Connection, order: Order, session: Session) -> bool:
        """Is an order that another start of a probe has this one's to go on with? Where that one is not heard of any
        more; and what only reads, on the same machine."""
        holder = links.session_by_id(connection, order.holder)
        serial = session.machine.get("product_serial", "")
        same = holder is not None and holder.machine == {
            **session.machine,
            **{k: v for k, v in holder.machine.items() if k == "rtc"},
        }
        if not kind_of(order).writes and serial and same:
            return True
        return not self.sessions.is_heard(order.holder)

    def _made_out(self, link: Link, order: Order, ticket: FoldedTicket) -> dict[str, Any]:
        cleared = [NEEDED[order.name]] if not self.held_now(ticket, move_of(order.body)) else []
        if cleared and order.name == "read" and not self.held_now(ticket, _SECTORS_MOVE):
            cleared.append("sectors")
        device = order.body.get("drive") or order.body.get("device", "")
        made_for = _made_for(order)
        marks = {
            what: clearance(link.secret, str(order.id), order.name, device, made_for.get(what, what))
            for what in cleared
        }
        return {"id": str(order.id), **order.body, "clearances": marks}

    def map_so_far(self, secret: str, session_id: str, order_id: str) -> dict[str, Any]:
        """The map of an order that was begun, for a probe that has lost its own."""
        link, _ = self.sessions.session_of(secret, session_id)
        with self.shop.database.read() as connection:
            pieces = links.map_of(connection, link.ticket_id, order_id)
        return {"map": base64.b64encode(b"".join(pieces)).decode()}

    def _interactive(self, secret: str, session_id: str, order_id: str) -> tuple[int, Order, InteractiveOrder]:
        """An order that is carried out turn by turn, and who knows its next turn. Raises NotFoundError."""
        link, session, order = self.sessions.order_of(secret, session_id, order_id)
        reader = None
        if order is not None:
            held_by(order, session)
            reader = self.instruments.reader_of(order)
        if order is None or reader is None or order.state != links.WAITING:
            raise NotFoundError(f"order {order_id[:20]!r}: expected one of this ticket that asks for sectors, got none")
        return link.ticket_id, order, reader

    def next_ranges(self, secret: str, session_id: str, order_id: str, *, ahead: bool = False) -> dict[str, Any]:
        """What an order is to read next, by what was read so far; nothing where it needs no more, or is held by now."""
        ticket_id, order, reader = self._interactive(secret, session_id, order_id)
        if self.held_now(self.tickets.folded_of(ticket_id), move_of(order.body)):
            return {"ranges": [], "do": "pause"}
        return reader.next_ranges(ticket_id, order, session_id, ahead=ahead)

    def report_unreadable(
        self, secret: str, session_id: str, order_id: str, first: int, count: int, *, careful: bool
    ) -> dict[str, Any]:
        """Sectors of an order that did not read; `careful`: one by one, so they never will. Raises NotFoundError."""
        ticket_id, order, reader = self._interactive(secret, session_id, order_id)
        reader.report_unreadable(ticket_id, order, session_id, first, count, careful=careful)
        return {}

    def receive(
        self,
        secret: str,
        session_id: str,
        order_id: str,
        at: int,
        parts: Sequence[bytes],
        told: str,
        zeros: int,
        crc: int | None = None,
    ) -> dict[str, Any]:
        """Bytes of a copy, or of an order that is carried out turn by turn, in parts as they came. Raises
        NotFoundError, StoreError."""
        link, _, order = self.sessions.order_of(secret, session_id, order_id)
        reader = self.instruments.reader_of(order) if order is not None and order.state == links.WAITING else None
        if order is None or reader is None:
            self.copies.receive(link.ticket_id, order, order_id, at, parts, told, zeros, crc)
        else:
            self.copies.check_sum(at, parts, told, zeros, crc)
            reader.receive(
                link.ticket_id, order, session_id, at, None if zeros else parts, zeros or sum(map(len, parts))
            )
        return {}

    def verdicts(self, secret: str, session_id: str) -> dict[str, Any]:
        """What the bench makes of this machine's drives so far, for a screen on the machine itself: device -> words."""
        link, _ = self.sessions.session_of(secret, session_id)
        return {"drives": self.captures.verdicts(link.ticket_id)}

    def progress(self, secret: str, said: ProgressIn) -> dict[str, Any]:
        """How far the probe is; the answer says what the bench wants of it."""
        link, _, order = self.sessions.order_of(secret, said.session, said.order)
        live = self.sessions.progress(link.ticket_id)
        if (said.order, said.done) != (live.order, live.done):
            live.went_on = time.monotonic()
        live.done, live.of, live.text, live.minutes_left = said.done, said.of, said.text, said.minutes_left
        live.unit, live.order, live.hot, live.key = said.unit, said.order, said.hot, said.key
        live.kind = order.name if order else ""
        self.sessions.notify(link.ticket_id)
        return {"do": self._wanted_of(order) if order else ""}

    def _wanted_of(self, order: Order) -> str:
        """What the bench wants of an order that runs: an interlock that holds it by now stops it, a pause where it can
        be paused."""
        kind = kind_of(order)
        if not kind.long_running:
            return ""
        if order.wanted:
            return order.wanted
        return (
            ("pause" if kind.pausable else "stop")
            if self.held_now(self.tickets.folded_of(order.ticket_id), move_of(order.body))
            else ""
        )


def held_by(order: Order, session: Session) -> None:
    """Raises StoreError where the order is in the hands of another start of a probe."""
    if order.holder not in ("", session.id):
        raise StoreError(
            f"order {order.id}: expected a word from the start of the probe that has it, got one from another"
        )


def order_out(order: Order) -> dict[str, Any]:
    """An order as the screen is sent it."""
    body = {name: value for name, value in order.body.items() if name in _SHOWN}
    if "copy" in order.body:
        body["copy_of"] = int(order.body["copy"])
    return {
        "id": order.id,
        **body,
        "wanted": order.wanted,
        "state": order.standing,
        "detail": order.detail,
        "made_by": order.made_by,
        "made_at": order.made_at,
    }


def _made_for(order: Order) -> Mapping[str, str]:
    """What a clearance to write is good for: these very writes, this copy onto this disk."""
    if order.name == "fill":
        return {"write": f"write:{order.body['copy']}:{order.body['size']}:{order.body['disk']}"}
    return {"write": f"write:{writes_sum(order.body['writes'])}"} if kind_of(order).writes else {}


def _one_write_at_a_time(orders: Sequence[Order], body: Mapping[str, Any]) -> None:
    """In the transaction that puts the order: of requests that come at once, one is first. Raises StoreError."""
    kind = ORDER_KINDS[str(body["order"])]
    open_ones = [o for o in orders if o.state in (links.WAITING, links.PAUSED)]
    if kind.runs_alone and any(o.state == links.WAITING for o in open_ones):
        raise StoreError(f"{kind.name}: expected no other order that waits, got one; what writes runs alone")
    if kind.writes and any(kind_of(o).writes for o in open_ones):
        raise StoreError(
            f"{kind.name}: expected no other order that writes, got one that is not through; one at a time"
        )
