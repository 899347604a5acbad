"""Prints the API's OpenAPI document: the front end's types are generated from it."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path


def openapi_text() -> str:
    """The document as it is kept in web/openapi.json."""
    from gatecheck.server.app import create_app
    from gatecheck.server.services import open_services

    with tempfile.TemporaryDirectory() as folder:
        house = open_services(Path(folder))
        text = json.dumps(create_app(house).openapi(), indent=1, ensure_ascii=False) + "\n"
        house.shop.database.close()
    return text


if __name__ == "__main__":
    print(openapi_text(), end="")
