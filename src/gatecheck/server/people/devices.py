"""Devices beyond this computer: paired once by a code that the bench's own screen shows, known by a cookie from then
on."""

from __future__ import annotations

import hashlib
import hmac
import secrets
import threading
import time
from collections.abc import Callable

from gatecheck.server.errors import NotFoundError, PairingError, TooManyError
from gatecheck.server.people.throttle import Throttle
from gatecheck.server.shop import now
from gatecheck.store import Database, devices
from gatecheck.store.devices import Device

CODE_SECONDS = 120
_ALPHABET = "ABCDEFGHJKLMNPQRSTUVWXYZ23456789"
_LENGTH = 6
_SEEN_EVERY = 60.0
_MOST_DEVICES = 50


class Devices:
    """The shop's paired devices. `announce` is told where one comes or goes."""

    def __init__(self, database: Database, announce: Callable[[dict[str, object]], None] = lambda event: None) -> None:
        self.database, self.announce = database, announce
        self._code: tuple[str, float] | None = None
        self._throttle = Throttle(5, 60.0)
        self._known: dict[str, tuple[Device, float]] = {}
        self._lock = threading.Lock()
        self._gone: set[int] = set()
        """devices that were thrown out since the server started"""

    # --- pairing -----------------------------------------------------------------------------------------------

    def code(self) -> tuple[str, float]:
        """A new code, and for how many seconds it is good. An older one is good no more."""
        with self._lock:
            self._code = ("".join(secrets.choice(_ALPHABET) for _ in range(_LENGTH)), time.monotonic() + CODE_SECONDS)
            return self._code[0], float(CODE_SECONDS)

    def pair(self, code: str, *, name: str, initials: str, source: str) -> str:
        """The token of a newly paired device. A code is good once. Raises PairingError, TooManyError."""
        if not self._throttle.is_open(source):
            raise TooManyError("code: expected a pause after so many wrong ones, got another; wait a minute")
        said = "".join(c for c in code.upper() if c.isalnum()).encode()
        with self._lock:
            kept = self._code
            is_right = kept is not None and time.monotonic() < kept[1] and hmac.compare_digest(kept[0].encode(), said)
            if is_right:
                self._code = None
        if not is_right:
            self._throttle.wrong(source)
            raise PairingError(
                "code: expected the one on the bench's own screen, got another, or one that was used or is older "
                "than "
                "two minutes"
            )
        with self.database.read() as connection:
            if len(devices.devices(connection)) >= _MOST_DEVICES:
                raise PairingError(
                    f"device: expected at most {_MOST_DEVICES}, got another; revoke one that is not used any more"
                )
        token = secrets.token_urlsafe(32)
        with self.database.write() as connection:
            devices.add_device(connection, _hash(token), name=name, initials=initials, at=now())
        self.announce({"kind": "devices"})
        return token

    # --- being known -------------------------------------------------------------------------------------------

    def of_token(self, token: str) -> Device | None:
        """The device that this cookie is of; None for one that is not paired any more."""
        if not token or len(token) > 100:
            return None
        digest = _hash(token)
        with self._lock:
            kept = self._known.get(digest)
        if kept and time.monotonic() - kept[1] < _SEEN_EVERY:
            return kept[0]
        with self.database.read() as connection:
            device = devices.device_by_token(connection, digest)
        if device is None:
            return None
        with self.database.write() as connection:
            devices.seen(connection, device.id, now())
        with self._lock:
            self._known[digest] = (device, time.monotonic())
        return device

    def is_paired(self, device_id: int) -> bool:
        """Is a device that was let in still one of the shop's?"""
        return device_id not in self._gone

    def all(self) -> list[Device]:
        with self.database.read() as connection:
            return devices.devices(connection)

    def revoke(self, device_id: int) -> None:
        """From now on it is a stranger again. Raises NotFoundError."""
        with self.database.write() as connection:
            found = devices.revoke(connection, device_id, now())
        with self._lock:
            self._known.clear()
            self._gone.add(device_id)
        if not found:
            raise NotFoundError(f"device {device_id}: expected one that is paired, got none")
        self.announce({"kind": "devices"})


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()
