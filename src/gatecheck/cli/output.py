"""What commands print."""

from __future__ import annotations

import json


def print_json(document: object) -> None:
    """One document, bytes as hex digits."""
    print(json.dumps(document, ensure_ascii=False, default=_plain))


def _plain(value: object) -> object:
    if isinstance(value, bytes):
        return value.hex()
    raise TypeError(type(value).__name__)
