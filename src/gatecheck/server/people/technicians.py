"""Technicians that the shop knows: initials, a PIN, a role; who works at which browser now; and what a second one lets
another do once.

A shop that names nobody works as before: people write initials of their own."""

from __future__ import annotations

import hashlib
import hmac
import re
import secrets
import threading
import time
import tomllib
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

from gatecheck.core.errors import InputError
from gatecheck.server.errors import NotFoundError, PairingError, TooManyError
from gatecheck.server.people.throttle import Throttle
from gatecheck.server.shop import now
from gatecheck.store import Database
from gatecheck.store import technicians as store
from gatecheck.store.technicians import Technician

IDLE_SECONDS = 30 * 60.0
"""without a change of theirs somebody has to sign in again"""
APPROVAL_SECONDS = 120.0
PEOPLE, LEAD = "people", "lead"
_PIN = re.compile(r"[0-9]{4,8}")
_INITIALS = re.compile(r"\w[\w.]{0,7}")
_MOST = 60
_COST = {"n": 1 << 14, "r": 8, "p": 1, "maxmem": 64 << 20}


@dataclass(frozen=True, slots=True)
class Role:
    id: str
    name: str
    rights: frozenset[str]


@dataclass(frozen=True, slots=True)
class Roles:
    """`needs`: (right, what it is needed for: method and path)."""

    roles: Mapping[str, Role]
    rights: Mapping[str, str]
    needs: tuple[tuple[str, re.Pattern[str]], ...]

    def right_for(self, method: str, path: str) -> str | None:
        """The right that a request needs."""
        asked = f"{method} {path.rstrip('/')}"
        return next((right for right, pattern in self.needs if pattern.fullmatch(asked)), None)


@cache
def roles() -> Roles:
    told: dict[str, Any] = tomllib.loads((Path(__file__).parent / "roles.toml").read_text(encoding="utf-8"))
    return Roles(
        {id_: Role(id_, own["name"], frozenset(own["rights"])) for id_, own in told["roles"].items()},
        told["rights"],
        tuple((right, re.compile(pattern)) for right, patterns in told["needs"].items() for pattern in patterns),
    )


@dataclass(slots=True)
class _Session:
    technician: int
    used: float
    approved: dict[str, tuple[str, float]]
    """right -> (initials of who allowed it, until when), for one request"""


class Technicians:
    def __init__(self, database: Database, announce: Callable[[dict[str, object]], None] = lambda event: None) -> None:
        self.database, self.announce = database, announce
        self._throttle = Throttle(5, 60.0)
        self._sessions: dict[str, _Session] = {}
        self._lock = threading.Lock()
        self._all: tuple[Technician, ...] | None = None

    # --- who there are -----------------------------------------------------------------------------------------

    def all(self) -> tuple[Technician, ...]:
        known = self._all
        if known is None:
            with self.database.read() as connection:
                known = self._all = tuple(store.technicians(connection))
        return known

    @property
    def is_on(self) -> bool:
        """The shop knows its technicians: whoever changes something has signed in."""
        return bool(self.all())

    def add(self, initials: str, role: str, pin: str, *, by: str) -> Technician:
        """Raises InputError."""
        initials = initials.strip().upper()
        if not _INITIALS.fullmatch(initials):
            raise InputError(f"initials: expected 1 to 8 letters or digits, got {initials[:20]!r}")
        self._checked(role, pin)
        if not self.is_on and role != LEAD:
            raise InputError(f"role: expected {LEAD} for the first one, who adds the others, got {role!r}")
        if len(self.all()) >= _MOST:
            raise InputError(f"technicians: expected at most {_MOST}, got another")
        if any(t.initials == initials for t in self.all()):
            raise InputError(f"initials: expected some that nobody has, got {initials!r}")
        with self.database.write() as connection:
            made = store.add_technician(
                connection, initials=initials, role=role, pin_hash=_hashed(pin), by=by, at=now()
            )
        self._changed()
        return made

    def change(self, technician_id: int, *, role: str | None = None, pin: str | None = None) -> None:
        """Raises InputError, NotFoundError."""
        own = self._one(technician_id)
        self._checked(role or own.role, pin)
        if role is not None and role != LEAD:
            self._keep_a_lead(own)
        with self.database.write() as connection:
            if role is not None:
                store.set_role(connection, technician_id, role)
            if pin is not None:
                store.set_pin(connection, technician_id, _hashed(pin))
        if pin is not None:
            self._sign_out_all(technician_id)
        self._changed()

    def remove(self, technician_id: int) -> None:
        """They are signed out everywhere. The last lead goes last. Raises InputError, NotFoundError."""
        own = self._one(technician_id)
        if len(self.all()) > 1:
            self._keep_a_lead(own)
        with self.database.write() as connection:
            store.leave(connection, technician_id, now())
        self._sign_out_all(technician_id)
        self._changed()

    def _one(self, technician_id: int) -> Technician:
        own = next((t for t in self.all() if t.id == technician_id), None)
        if own is None:
            raise NotFoundError(f"technician {technician_id}: expected one of this shop, got none")
        return own

    def _keep_a_lead(self, without: Technician) -> None:
        if not any(t.role == LEAD for t in self.all() if t.id != without.id):
            raise InputError(f"{without.initials}: expected another {LEAD} in the shop first, got none")

    @staticmethod
    def _checked(role: str, pin: str | None) -> None:
        if role not in roles().roles:
            raise InputError(f"role: expected one of {', '.join(roles().roles)}, got {role[:20]!r}")
        if pin is not None and not _PIN.fullmatch(pin):
            raise InputError("PIN: expected 4 to 8 digits, got something else")
        if pin is not None and len(set(pin)) == 1:
            raise InputError("PIN: expected digits that differ, got one digit only")

    def _changed(self) -> None:
        self._all = None
        self.announce({"kind": "technicians"})

    # --- who works here now ------------------------------------------------------------------------------------

    def sign_in(self, initials: str, pin: str, *, source: str) -> tuple[str, Technician]:
        """(token of the session, who). Raises PairingError, TooManyError."""
        own = self._proven(initials, pin, source)
        token = secrets.token_urlsafe(32)
        with self._lock:
            self._forget_old()
            self._sessions[_digest(token)] = _Session(own.id, time.monotonic(), {})
        return token, own

    def sign_out(self, token: str) -> None:
        with self._lock:
            self._sessions.pop(_digest(token), None)

    def of_token(self, token: str, *, is_change: bool = True) -> Technician | None:
        """Who works at the browser that has this cookie; None where nobody does any more. Only a change counts as work:
        an open page asks by itself."""
        if not token or len(token) > 100:
            return None
        with self._lock:
            self._forget_old()
            session = self._sessions.get(_digest(token))
            if session is None:
                return None
            if is_change:
                session.used = time.monotonic()
            own = session.technician
        return next((t for t in self.all() if t.id == own), None)

    def approve(self, token: str, right: str, initials: str, pin: str, *, source: str) -> str:
        """Whoever has the right lets this browser's technician do one thing that needs it: their initials. Raises
        InputError, PairingError, TooManyError."""
        if right not in roles().rights:
            raise InputError(f"right: expected one of {', '.join(roles().rights)}, got {right[:20]!r}")
        other = self._proven(initials, pin, source)
        if right not in roles().roles[other.role].rights:
            wanted = roles().rights[right]
            raise PairingError(f"{other.initials}: expected somebody who may {wanted}, got a {other.role}")
        with self._lock:
            session = self._sessions.get(_digest(token))
            if session is None:
                raise PairingError("approval: expected somebody who is signed in, got nobody")
            session.approved[right] = (other.initials, time.monotonic() + APPROVAL_SECONDS)
        return other.initials

    def allowed(self, token: str, own: Technician, right: str) -> str | None:
        """Initials that stand for a request which needs the right: theirs, or theirs and those of who allowed it, once;
        None where it is not allowed."""
        if right in roles().roles[own.role].rights:
            return own.initials
        with self._lock:
            session = self._sessions.get(_digest(token))
            by, until = session.approved.pop(right, ("", 0.0)) if session else ("", 0.0)
        return f"{own.initials}+{by}" if by and time.monotonic() < until else None

    def _proven(self, initials: str, pin: str, source: str) -> Technician:
        """Raises PairingError, TooManyError."""
        initials = initials.strip().upper()
        for key in (source, f"who {initials}"):
            if not self._throttle.is_open(key):
                raise TooManyError("PIN: expected a pause after so many wrong ones, got another; wait a minute")
        with self.database.read() as connection:
            kept = store.pin_of(connection, initials)
        is_right = _is_pin(pin, kept[1] if kept else _NOBODY)
        if kept is None or not is_right:
            self._throttle.wrong(source)
            self._throttle.wrong(f"who {initials}")
            raise PairingError("PIN: expected the one of these initials, got another")
        return self._one(kept[0])

    def _forget_old(self) -> None:
        oldest = time.monotonic() - IDLE_SECONDS
        for key in [k for k, s in self._sessions.items() if s.used < oldest]:
            del self._sessions[key]

    def _sign_out_all(self, technician_id: int) -> None:
        with self._lock:
            for key in [k for k, s in self._sessions.items() if s.technician == technician_id]:
                del self._sessions[key]


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def _hashed(pin: str) -> str:
    """Salt and scrypt (RFC 7914) of a PIN."""
    salt = secrets.token_bytes(16)
    return f"{salt.hex()}:{hashlib.scrypt(pin.encode(), salt=salt, **_COST).hex()}"


_NOBODY = f"{bytes(16).hex()}:{bytes(64).hex()}"
"""takes as long to be wrong as a PIN of somebody"""


def _is_pin(pin: str, kept: str) -> bool:
    salt, _, told = kept.partition(":")
    return hmac.compare_digest(hashlib.scrypt(pin[:64].encode(), salt=bytes.fromhex(salt), **_COST).hex(), told)
