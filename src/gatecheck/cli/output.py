"""What commands print."""

from __future__ import annotations

import json


def shown(document: object) -> None:
    print(json.dumps(document, ensure_ascii=False))
