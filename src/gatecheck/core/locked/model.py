"""An encrypted volume before and after a key: what it says of itself, and what it needs."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass

from gatecheck.core.errors import InputError
from gatecheck.core.locked.keys import PASSPHRASE, RECOVERY_PASSWORD, STARTUP_KEY, Key
from gatecheck.core.locked.sectors import OpenedSectors

COMPLETE = ("encrypted", "suspended")
"""states in which all of a volume is encrypted"""
_NAMES = {
    RECOVERY_PASSWORD: "recovery password",
    PASSPHRASE: "passphrase",
    STARTUP_KEY: "startup key file",
    "clear-key": "a key that is stored with it",
    "tpm": "that machine's TPM",
    "tpm-pin": "that machine's TPM and a PIN",
    "tpm-startup-key": "that machine's TPM and a startup key",
    "tpm-pin-startup-key": "that machine's TPM, a PIN and a startup key",
    "smart-card": "a smart card",
    "network": "a network",
}


@dataclass(frozen=True, slots=True)
class Protector:
    """`how` it opens the volume; `opens`: can it be used on the bench, given its key?"""

    id: str
    how: str
    opens: bool

    @property
    def told(self) -> str:
        return _NAMES.get(self.how, self.how)


class Locked(ABC):
    """`method`: cipher; `sector`: bytes that are encrypted as one; `state`; `size`: bytes of the inside; `id`: the
    volume's; `hurt` of its `copies` of the metadata are damaged."""

    def __init__(
        self,
        *,
        kind: str,
        name: str,
        method: str,
        sector: int,
        state: str,
        protectors: tuple[Protector, ...],
        size: int,
        id: str,
        hurt: int,
        copies: int,
    ) -> None:
        self.kind, self.name, self.method, self.sector, self.state = kind, name, method, sector, state
        self.protectors, self.size, self.id, self.hurt, self.copies = protectors, size, id, hurt, copies

    @property
    def needs_key(self) -> bool:
        return True

    @abstractmethod
    def open(self, key: Key | None) -> Opened:
        """Raises InputError where the key opens nothing, DecodeError where what it opens is damaged."""


@dataclass(frozen=True, slots=True)
class Opened:
    """`by`: the id of the protector that opened it."""

    locked: Locked
    by: str
    inside: OpenedSectors

    def to_disk(self, writes: Sequence[tuple[int, bytes]]) -> list[tuple[int, bytes]]:
        """(byte of the disk, bytes as they stand there) for (byte of the inside, whole sectors). Raises InputError
        where it is not safe: only an encryption that is complete and whole is written into through its key."""
        own = self.locked
        if own.hurt or own.state not in COMPLETE:
            raise InputError(
                "repair through the key: expected an encryption that is complete and whole, got one that is "
                + ("damaged in a copy of its records" if own.hurt else own.state)
            )
        return self.inside.to_disk(writes)


def not_opened(locked: Locked, key: Key | None, belongs: str = "") -> InputError:
    """One sentence: what was expected, by id, and that it was another."""
    usable = [f"{p.told} {p.id}" for p in locked.protectors if p.opens]
    wanted = "; ".join(usable) or "none that can be used away from that machine"
    if key is None:
        return InputError(f"{locked.name} {locked.id}: expected a key ({wanted}), got none")
    got = f"{_NAMES[key.how]} {belongs}".strip()
    return InputError(f"{locked.name} {locked.id}: expected its key ({wanted}), got another {got}")
