"""The key by which a stick knows the bench that built it: made once, kept in the shop's folder, part of no backup."""

from __future__ import annotations

import hashlib
import os
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from gatecheck.adapters.durable_file import sync_folder
from gatecheck.core.errors import InputError

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

FILE = "bench-key"


class BenchKey:
    """An Ed25519 key (RFC 8032) in a folder. It is read, or made, when it is first asked for."""

    def __init__(self, folder: Path) -> None:
        self.place = folder / FILE

    @cached_property
    def _private(self) -> Ed25519PrivateKey:
        """Raises InputError where the file is none, or cannot be made."""
        from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

        try:
            if not self.place.exists():
                self._make()
            raw = bytes.fromhex(self.place.read_text("ascii"))
            return Ed25519PrivateKey.from_private_bytes(raw)
        except (OSError, ValueError) as error:
            raise InputError(f"{self.place}: expected the bench's key (32 bytes as hex digits), got {error}") from error

    def _make(self) -> None:
        new = self.place.with_name(f"{FILE}.{os.getpid()}")
        self.place.parent.mkdir(parents=True, exist_ok=True)
        descriptor = os.open(new, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(descriptor, "w", encoding="ascii") as file:
            file.write(os.urandom(32).hex())
            file.flush()
            os.fsync(file.fileno())
        try:
            os.link(new, self.place)  # whoever comes second takes what is there
            sync_folder(self.place.parent)
        except FileExistsError:
            pass
        finally:
            new.unlink()

    @property
    def public(self) -> str:
        """32 bytes as hex digits. Raises InputError."""
        from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

        return self._private.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw).hex()

    def sign(self, text: str) -> str:
        """64 bytes as hex digits. Raises InputError."""
        return self._private.sign(text.encode()).hex()


def number_of(nonce: str, token: str, key: str) -> str:
    """The short number that both screens show: of what the machine chose before it knew the token, the token, and the
    bench's key."""
    return f"{int(hashlib.sha256(f'gatecheck-number|{nonce}|{token}|{key}'.encode()).hexdigest(), 16) % 1_000_000:06d}"
