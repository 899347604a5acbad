"""Starts of a probe and what is known of them: whose secret it is, who is heard, how far the work is."""

from __future__ import annotations

import hmac
import secrets
import threading
import time
from typing import Any

from gatecheck.server.errors import LinkEndedError, LinkUnknownError, NotFoundError
from gatecheck.server.link.order_kinds import ORDER_KINDS
from gatecheck.server.link.wire import LinkRowOut
from gatecheck.server.shop import Shop, now
from gatecheck.server.tickets.service import Tickets
from gatecheck.store import StoreError, links
from gatecheck.store.links import Link, Order, Session

_SECRET_BYTES = 24
"""of chance in a secret: 192 bits"""
_ALPHABET = "abcdefghjkmnpqrstuvwxyz23456789"
AWAY_SECONDS = 12.0
_QUIET_SECONDS = 0.4
_STALL_SECONDS = 90.0


class Progress:
    """What is known of a probe that is on the line; not stored over a restart, for it says hello again. `went_on`: when
    it was further than before for the last time; `key`: it waits for a key at the machine."""

    def __init__(self) -> None:
        self.seen, self.notified = time.monotonic(), 0.0
        self.done, self.of, self.text, self.unit, self.order = 0, 0, "", "percent", ""
        self.kind, self.hot, self.key = "", False, False
        self.minutes_left: float | None = None
        self.went_on = time.monotonic()

    def clear(self) -> None:
        """Nothing runs any more."""
        self.done, self.of, self.minutes_left, self.text, self.key = 0, 0, None, "", False


class Sessions:
    """The links of a shop's tickets, and the probes that talk through them."""

    def __init__(self, shop: Shop, at_work: Tickets) -> None:
        self.shop, self.tickets = shop, at_work
        self._progress: dict[int, Progress] = {}
        self._heard: dict[str, float] = {}
        """when each start of a probe was heard last"""
        self._began = time.monotonic()
        self._numbers: dict[int, str] = {}
        """of machines that were taken to a ticket and wait for a key of their own: what their screen shows"""
        self._lock = threading.Lock()

    # --- links -------------------------------------------------------------------------------------------------

    def open(self, ticket_id: int, *, by: str) -> None:
        """Give the ticket a secret, if it has none that is valid. Raises NotFoundError, StoreError."""
        if self.tickets.row_of(ticket_id).closed_at:
            raise StoreError("link: expected an open ticket, got one that was handed over")
        with self.shop.database.write() as connection:
            known = links.link_of(connection, ticket_id)
            if known is None or known.ended_at:
                links.open_link(
                    connection,
                    ticket_id,
                    f"{ticket_id}-{secrets.token_urlsafe(_SECRET_BYTES)}",
                    new_code(),
                    by=by,
                    at=now(),
                )
        self.notify(ticket_id, at_once=True)

    def link_with(self, secret: str) -> Link:
        """The link that has this secret. Raises LinkUnknownError, LinkEndedError."""
        named = secret.partition("-")[0]
        with self.shop.database.read() as connection:
            link = links.link_of(connection, int(named)) if named.isdigit() and len(named) < 18 else None
        if (
            not hmac.compare_digest((link.secret if link else secrets.token_urlsafe()).encode(), secret.encode())
            or link is None
        ):
            raise LinkUnknownError("secret: expected the one that the link's code was exchanged for, got another")
        if link.ended_at or self.tickets.row_of(link.ticket_id).closed_at:
            raise LinkEndedError("link: expected one that is open, got one that was ended")
        return link

    def secret_of(self, ticket_id: int) -> str:
        """The secret of a ticket's open link. Raises NotFoundError."""
        with self.shop.database.read() as connection:
            link = links.link_of(connection, ticket_id)
        if link is None or link.ended_at:
            raise NotFoundError(f"ticket {ticket_id}: expected an open link, got none")
        return link.secret

    def state_of(self, ticket_id: int, link: Link | None) -> str:
        """none, ended, waiting (for the first word of a probe), linked, away."""
        if link is None:
            return "none"
        if link.ended_at:
            return "ended"
        live = self._progress.get(ticket_id)
        return "waiting" if live is None else "linked" if time.monotonic() - live.seen < AWAY_SECONDS else "away"

    def forget(self, ticket_id: int) -> None:
        """The link was ended."""
        self._progress.pop(ticket_id, None)
        self._numbers.pop(ticket_id, None)

    # --- sessions ----------------------------------------------------------------------------------------------

    def session_of(self, secret: str, session_id: str) -> tuple[Link, Session]:
        """The link and the start of the probe that speaks. Raises LinkUnknownError, LinkEndedError, NotFoundError."""
        link = self.link_with(secret)
        with self.shop.database.read() as connection:
            session = links.session_by_id(connection, session_id)
        if session is None or session.ticket_id != link.ticket_id:
            raise NotFoundError("session: expected one of this link, got another; say hello first")
        self.hear(session.id)
        self.progress(link.ticket_id)
        return link, session

    def order_of(self, secret: str, session_id: str, order_id: str) -> tuple[Link, Session, Order | None]:
        """The same with an order of the link; None where it has none of that number."""
        link, session = self.session_of(secret, session_id)
        with self.shop.database.read() as connection:
            return link, session, links.order_of(connection, link.ticket_id, order_id)

    def hear(self, session_id: str) -> None:
        self._heard[session_id] = time.monotonic()

    def is_heard(self, session_id: str) -> bool:
        """Was this start of a probe heard a moment ago? Of one that nobody remembers: since this server runs."""
        return time.monotonic() - self._heard.get(session_id, self._began) <= AWAY_SECONDS

    # --- how far it is -----------------------------------------------------------------------------------------

    def progress(self, ticket_id: int) -> Progress:
        """What is known of the probe that was just heard."""
        with self._lock:
            live = self._progress.setdefault(ticket_id, Progress())
            live.seen = time.monotonic()
            return live

    def progress_out(self, ticket_id: int) -> dict[str, Any] | None:
        """For the screen; None where nothing runs."""
        live = self._progress.get(ticket_id)
        if not live or not live.of:
            return None
        return {
            "done": live.done,
            "of": live.of,
            "text": live.text,
            "minutes_left": live.minutes_left,
            "unit": live.unit,
            "order": live.order,
            "waits_for_key": live.key,
        }

    def row(self, ticket_id: int) -> LinkRowOut | None:
        """For the bench: linked, away, and how far it is; None where there is no link."""
        live = self._progress.get(ticket_id)
        if live is None:
            return None
        with self.shop.database.read() as connection:
            paused = next(
                (o for o in reversed(links.orders_of(connection, ticket_id)) if o.state == links.PAUSED), None
            )
        kind = ORDER_KINDS.get(live.kind)
        is_long = bool(live.of) and kind is not None and kind.long_running
        stalls = bool(live.of) and time.monotonic() - live.went_on > _STALL_SECONDS
        waits = paused if not is_long else None
        return LinkRowOut(
            state="linked" if time.monotonic() - live.seen < AWAY_SECONDS else "away",
            done=live.done,
            of=live.of,
            text=live.text,
            minutes_left=live.minutes_left,
            stalls=stalls,
            hot=live.hot,
            work=live.kind if is_long else waits.name if waits else "",
            paused=waits.detail if waits else "",
        )

    def wait_for_key(self, ticket_id: int, number: str) -> None:
        """A machine was handed this ticket's secret, and begins once somebody has compared the numbers there."""
        self._numbers[ticket_id] = number
        self.notify(ticket_id, at_once=True)

    def number_of(self, ticket_id: int) -> str:
        """The number that the machine's screen shows while it waits for its key; empty where none does."""
        return self._numbers.get(ticket_id, "")

    def number_was_compared(self, ticket_id: int) -> None:
        self._numbers.pop(ticket_id, None)

    def notify(self, ticket_id: int, *, at_once: bool = False) -> None:
        """Tell the browsers that something changed; where it changes all the time, now and then."""
        live = self._progress.get(ticket_id)
        if live and not at_once and time.monotonic() - live.notified < _QUIET_SECONDS:
            return
        if live:
            live.notified = time.monotonic()
        self.shop.announce({"kind": "link", "ticket": ticket_id})


def new_code() -> str:
    """A code to be typed: ten letters and digits that nobody takes for each other."""
    text = "".join(secrets.choice(_ALPHABET) for _ in range(10))
    return f"{text[:5]}-{text[5:]}"
