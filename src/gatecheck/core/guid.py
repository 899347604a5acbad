"""GUIDs as the UEFI specification stores and writes them (2.10, appendix A): first three parts little-endian."""

from __future__ import annotations

import uuid

from gatecheck.core.errors import DecodeError


def guid_text(raw: bytes) -> str:
    """16 bytes as `XXXXXXXX-XXXX-XXXX-XXXX-XXXXXXXXXXXX`. Raises DecodeError where they are not 16."""
    if len(raw) != 16:
        raise DecodeError("GUID", at=0, expected="16 bytes", got=f"{len(raw)} bytes")
    return str(uuid.UUID(bytes_le=raw)).upper()


def guid_bytes(text: str) -> bytes:
    """The reverse, for encoders."""
    return uuid.UUID(text).bytes_le
