"""Machines that were started from the stick and wait to be taken to a ticket: they knock, somebody at the bench says
where they belong, and they are handed that ticket's link."""

from __future__ import annotations

import hashlib
import hmac
import secrets
import threading
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from gatecheck.probe.settings import PROTOCOL
from gatecheck.server.bench_key import BenchKey, number_of
from gatecheck.server.errors import NotFoundError, TooManyError
from gatecheck.server.link.sessions import Sessions
from gatecheck.server.link.start_codes import StartCodes
from gatecheck.server.link.wire import KnockOut, KnocksOut
from gatecheck.server.people.throttle import Throttle
from gatecheck.server.qr import qr_rows
from gatecheck.server.shop import Shop

_MOST, _AWAY_SECONDS, _FORGOTTEN_SECONDS = 24, 15.0, 600.0
_SHOWN = ("sys_vendor", "product_name", "product_serial", "mode")


@dataclass(slots=True)
class _Knock:
    machine: dict[str, str]
    token: str
    at: float = field(default_factory=time.monotonic)
    seen: float = field(default_factory=time.monotonic)
    secret: str = ""
    commit: str = ""
    """SHA-256 of what the machine tells once it has the token: neither side can choose the number that both screens
    show"""
    number: str = ""
    ticket: int = 0


class WaitingMachines:
    """Kept in memory: a machine whose bench was started anew knocks again. The token is known to the machine and to who
    sees its screen; what it is good for is being handed a link that somebody at the bench has opened for it."""

    def __init__(self, shop: Shop, sessions: Sessions, codes: StartCodes, key: BenchKey) -> None:
        self.shop, self.sessions, self.codes, self.key = shop, sessions, codes, key
        self._waiting: dict[str, _Knock] = {}
        self._lock = threading.Lock()
        self._throttle = Throttle(30, 60.0)

    def knock(
        self, machine: Mapping[str, str], protocol: int, base_url: str, source: str, commit: str = ""
    ) -> dict[str, Any]:
        """A machine reports; where it is to be asked for, and the address to scan. Raises TooManyError, StoreError."""
        if not self._throttle.is_open(source):
            raise TooManyError("knock: expected a pause after so many, got another; wait a minute")
        self._throttle.wrong(source)
        own = {name: str(machine.get(name, ""))[:80] for name in _SHOWN}
        with self._lock:
            now = time.monotonic()
            self._waiting = {t: k for t, k in self._waiting.items() if now - k.seen < _FORGOTTEN_SECONDS}
            if len(self._waiting) >= _MOST:  # those that were not heard for a while make room first
                self._waiting = {t: k for t, k in self._waiting.items() if now - k.seen < _AWAY_SECONDS}
            if len(self._waiting) >= _MOST:
                raise TooManyError(
                    f"knock: expected at most {_MOST} machines that wait, got another; take one in first"
                )
            token = secrets.token_urlsafe(12)
            self._waiting[token] = _Knock(own, token, commit=commit)
        self.shop.announce({"kind": "knock"})
        proof = {"key": self.key.public, "sign": self.key.sign(f"gatecheck-knock|{commit}|{token}")} if commit else {}
        return {
            **proof,
            "token": token,
            "name": self.shop.name,
            "protocol": PROTOCOL,
            "qr": qr_rows(f"{base_url.rstrip('/')}/claim/{token}"),
        }

    def asked(self, token: str, nonce: str = "") -> dict[str, Any]:
        """The machine asks what has become of its knock; it is handed its link's secret once. `nonce`: what it had
        promised by its hash."""
        with self._lock:
            own = self._waiting.get(token)
            if own is None:
                return {"state": "unknown"}
            own.seen = time.monotonic()
            is_news = self._number(own, nonce)
        if is_news:
            self.shop.announce({"kind": "knock"})
            if own.ticket:  # somebody was quicker than the machine's first question
                self.sessions.wait_for_key(own.ticket, own.number)
        with self._lock:
            if token not in self._waiting:
                return {"state": "unknown"}
            if not own.secret:
                return {"state": "waiting"}
            del self._waiting[token]
        self.shop.announce({"kind": "knock"})
        return {"state": "taken", "secret": own.secret}

    def _number(self, own: _Knock, nonce: str) -> bool:
        """Keep the number of a machine that has told what it promised; is it new?"""
        if (
            own.number
            or not own.commit
            or not hmac.compare_digest(hashlib.sha256(nonce.encode()).hexdigest(), own.commit)
        ):
            return False
        own.number = number_of(nonce, own.token, self.key.public)
        return True

    def code(self, code: str, source: str, token: str = "") -> dict[str, Any]:
        """A ticket's code typed at the machine, for the secret of that ticket's link. `token`: of the machine's knock,
        whose number the ticket shows from then on. Raises LinkUnknownError, LinkEndedError, TooManyError."""
        secret = self.codes.secret_for(code, source)
        with self._lock:
            own = self._waiting.pop(token, None) if token else None
        if own is not None:
            self.sessions.wait_for_key(int(secret.partition("-")[0]), own.number)
            self.shop.announce({"kind": "knock"})
        return {"secret": secret}

    def all(self) -> KnocksOut:
        """Machines that wait and answered a moment ago, in the order they came."""
        with self._lock:
            now = time.monotonic()
            waiting = [k for k in self._waiting.values() if now - k.seen < _AWAY_SECONDS and not k.secret]
        return KnocksOut(
            knocks=[
                KnockOut(
                    token=k.token,
                    machine=" ".join(filter(None, (k.machine["sys_vendor"], k.machine["product_name"]))),
                    number=k.number,
                    serial=k.machine["product_serial"],
                    mode=k.machine["mode"],
                    seconds=int(now - k.at),
                )
                for k in sorted(waiting, key=lambda k: k.at)
            ]
        )

    def take(self, token: str, ticket_id: int, *, by: str) -> None:
        """Somebody at the bench says that this machine is that ticket's. Raises NotFoundError, StoreError."""
        with self._lock:
            own = next((k for t, k in self._waiting.items() if hmac.compare_digest(t.encode(), token.encode())), None)
        if own is None or own.secret:
            raise NotFoundError(
                "machine: expected one that waits at its stick, got one that was taken in, or has gone; start it "
                "again, or press A there"
            )
        self.sessions.open(ticket_id, by=by)
        own.ticket, own.secret = ticket_id, self.sessions.secret_of(ticket_id)
        self.sessions.wait_for_key(ticket_id, own.number)
        self.shop.announce({"kind": "knock"})
