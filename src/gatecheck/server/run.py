"""Starts the server: data folder, demo, address."""

from __future__ import annotations

import gc
import shutil
import tempfile
from pathlib import Path

import uvicorn

from gatecheck.files import LARGEST_CAPTURE
from gatecheck.library import shipped_model
from gatecheck.server.app import create_app
from gatecheck.server.bench import Bench
from gatecheck.server.demo import BAYS, PREFIX, SHOP, fill
from gatecheck.store import open_database
from gatecheck.store.files import FileStore

DIST = Path(__file__).resolve().parents[3] / "web" / "dist"


def make_bench(data: Path, *, shop: str = "The bench", prefix: str = "GC", bays: int = 9) -> Bench:
    """A bench over a data folder; the folder is made where it is missing."""
    database = open_database(data / "gatecheck.sqlite3")
    return Bench(shipped_model(), database, FileStore(data / "files", LARGEST_CAPTURE), shop=shop, prefix=prefix, bays=bays)


def own_address(host: str, port: int) -> str:
    """Where this very computer finds the server."""
    return f"http://{'127.0.0.1' if host in ('0.0.0.0', '::', '') else host}:{port}"


def run(host: str, port: int, data: Path | None, *, demo: bool) -> int:
    """Serve until stopped. The demo starts afresh each time unless it was given a folder."""
    temporary = None
    practice: dict[int, str] = {}
    if demo:
        if data is None:
            temporary = data = Path(tempfile.mkdtemp(prefix="gatecheck-demo-"))
        bench = make_bench(data, shop=SHOP, prefix=PREFIX, bays=BAYS)
        if not bench.overview().rows:
            practice = fill(bench)
    else:
        bench = make_bench(data or Path.home() / ".local" / "share" / "gatecheck")
    if not DIST.is_dir():
        print("The front end is not built yet: run `make install`. The API works without it.")
    gc.collect()
    gc.freeze()  # the compiled model lives as long as the process: the collector need not walk it at every pause
    print(f"Gate Check is at http://{host}:{port}", flush=True)
    try:
        uvicorn.run(create_app(bench, DIST, own_address(host, port), practice), host=host, port=port, log_level="warning", timeout_graceful_shutdown=2)
    finally:
        if temporary:
            shutil.rmtree(temporary, ignore_errors=True)
    return 0
