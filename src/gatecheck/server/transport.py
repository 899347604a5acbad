"""How the network reaches the server."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True, slots=True)
class Transport:
    """How the network reaches the server: `is_plain`: HTTP only; `certificate`, `key`: the shop's own, in PEM; without
    either the bench's own authority makes one."""

    is_plain: bool = False
    certificate: Path | None = None
    key: Path | None = None
