"""Starts the server: data folder, demo, address."""

from __future__ import annotations

import gc
import shutil
import sys
import tempfile
from pathlib import Path

import uvicorn

from gatecheck.server.app import create_app
from gatecheck.server.demo.fill import BAYS, PREFIX, SHOP, fill
from gatecheck.server.house import open_house

DIST = Path(__file__).resolve().parents[3] / "web" / "dist"


def own_address(host: str, port: int) -> str:
    """Where this very computer finds the server."""
    return f"http://{'127.0.0.1' if host in ('0.0.0.0', '::', '') else host}:{port}"


def run(host: str, port: int, data: Path | None, *, demo: bool) -> int:
    """Serve until stopped. The demo starts afresh each time unless it was given a folder."""
    temporary, url = None, own_address(host, port)
    practice: dict[int, str] = {}
    if demo:
        if data is None:
            temporary = data = Path(tempfile.mkdtemp(prefix="gatecheck-demo-"))
        house = open_house(data, name=SHOP, prefix=PREFIX, bays=BAYS, url=url)
        if not house.bench.overview().rows:
            practice = fill(house)
    else:
        house = open_house(data or Path.home() / ".local" / "share" / "gatecheck", url=url)
    for notice in house.shop.notices:
        print(notice, file=sys.stderr)
    if not DIST.is_dir():
        print("The front end is not built yet: run `make install`. The API works without it.")
    gc.collect()
    gc.freeze()  # the compiled model lives as long as the process: the collector need not walk it at every pause
    print(f"Gate Check is at http://{host}:{port}", flush=True)
    try:
        uvicorn.run(create_app(house, DIST, practice), host=host, port=port, log_level="warning", timeout_graceful_shutdown=2)
    finally:
        if temporary:
            shutil.rmtree(temporary, ignore_errors=True)
    return 0
