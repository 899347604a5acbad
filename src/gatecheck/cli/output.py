"""What commands print."""

from __future__ import annotations

import json


def print_json(document: object) -> None:
    print(json.dumps(document, ensure_ascii=False))
