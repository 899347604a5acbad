"""A server without a socket, over an empty shop."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from fastapi.testclient import TestClient

from gatecheck.server.app import create_app
from gatecheck.server.services import open_services
from serving import HERE, ME


@pytest.fixture
def client(tmp_path: Path) -> Iterator[TestClient]:
    with TestClient(create_app(open_services(tmp_path)), base_url=HERE, client=ME) as opened:
        yield opened
