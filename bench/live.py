"""What a timed read costs the server while it runs: a practice machine reads a drive at its own pace, a browser shows
the Surface.

`python bench/live.py [SECONDS]`: processor time of the server's process over wall time, with nothing going on, while a
machine reads, and while a browser looks on. Baseline of the same run: the server at rest with the same link open."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from pathlib import Path

from playwright.sync_api import sync_playwright

sys.path[:0] = [str(Path(__file__).parents[1] / "tests"), str(Path(__file__).parents[1] / "tests" / "link")]
from benches import Bench  # noqa: E402


def spent(pid: int) -> float:
    """Seconds of processor time of a process and its threads."""
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


def share(pid: int, seconds: float) -> float:
    before, began = spent(pid), time.monotonic()
    time.sleep(seconds)
    return (spent(pid) - before) / (time.monotonic() - began)


def main() -> None:
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 60.0
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as player:
        bench = Bench(Path(folder))
        bench.start()
        try:
            pid = bench.process.pid  # type: ignore[union-attr]
            number, secret = bench.linked("screen=other-stop", drive_kind="hdd", data="backed-up")
            bench.probe("spotted", secret, "spool", "--pace", "1")
            bench.until(number, lambda link: link["orders"] and link["orders"][0]["state"] == "done")
            time.sleep(5)
            print(f"at rest, linked: {share(pid, seconds):.2%} of a core")
            bench.call("POST", f"/api/tickets/{number}/orders", json={"order": "scan", "device": "sda", "by": "KT"})
            bench.until(number, lambda link: bool(link["progress"]) and link["progress"]["unit"] == "sectors")
            time.sleep(20)
            print(f"a machine reads: {share(pid, seconds):.2%}")
            browser = player.chromium.launch(
                executable_path="/usr/bin/chromium", args=["--no-sandbox", "--disable-gpu"]
            )
            page = browser.new_page()
            page.goto(f"{bench.url}/ticket/{number}/surface")
            time.sleep(10)
            print(f"a machine reads and a browser looks on: {share(pid, seconds):.2%}")
            assert page.get_by_text("MB/s").count() or page.get_by_role("img").count(), (
                "expected the surface on the screen"
            )
            browser.close()
        finally:
            bench.stop_probes()
            bench.stop()


if __name__ == "__main__":
    main()
