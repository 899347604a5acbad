"""From posting an entry to the new state on screen, in a real browser, beside the bare round trip in the same run."""

from __future__ import annotations

import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import httpx2 as httpx
import numpy as np
from playwright.sync_api import sync_playwright

SCRIPT = Path(sys.executable).with_name("gatecheck")
ROUNDS, WARM_UP = 40, 4
CHROMIUM = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]

# presses a key and waits, frame by frame, until the tape has one more line: the time is taken inside the page
MEASURE = """async (key) => {
  const lines = () => document.querySelectorAll('section[aria-label=Tape] li').length
  const before = lines(), start = performance.now()
  window.dispatchEvent(new KeyboardEvent('keydown', { key, bubbles: true, cancelable: true }))
  while (lines() === before) await new Promise((done) => requestAnimationFrame(done))
  return performance.now() - start
}"""


def main() -> None:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    url = f"http://127.0.0.1:{port}"
    with tempfile.TemporaryDirectory() as data:
        server = subprocess.Popen([SCRIPT, "serve", "--port", str(port), "--data", data], stdout=subprocess.DEVNULL)
        try:
            started = time.perf_counter()
            while time.perf_counter() - started < 10:
                try:
                    httpx.get(f"{url}/api/bench", timeout=1)
                    break
                except httpx.TransportError:
                    time.sleep(0.02)
            print(f"server ready after {time.perf_counter() - started:.2f} s")
            body = {
                "customer": "c",
                "machine": "m",
                "by": "KT",
                "entries": [{"move": "screen", "outcome": "no-boot-device"}],
            }
            ticket = httpx.post(f"{url}/api/tickets", json=body).json()["id"]
            bare = []
            with httpx.Client() as client:
                for number in range(ROUNDS):
                    start = time.perf_counter()
                    client.post(
                        f"{url}/api/tickets/{ticket}/entries", json={"entry": {"note": str(number)}, "by": "KT"}
                    )
                    bare.append((time.perf_counter() - start) * 1e3)
            with sync_playwright() as playwright:
                browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
                page = browser.new_page(viewport={"width": 1280, "height": 800})
                page.goto(f"{url}/ticket/{ticket}")
                page.get_by_role("region", name="In hand").wait_for()
                taken = []
                for number in range(WARM_UP + ROUNDS):
                    taken.append(page.evaluate(MEASURE, "1" if number % 2 == 0 else "u"))
                    page.wait_for_timeout(60)
                shown = taken[WARM_UP:]
                print(
                    f"the first {WARM_UP} in a new window: " + ", ".join(f"{ms:.0f}" for ms in taken[:WARM_UP]) + " ms"
                )
                browser.close()
        finally:
            server.kill()
            server.wait()
    print(f"bare round trip: median {np.median(bare):.0f} ms, p95 {np.percentile(bare, 95):.0f} ms")
    print(
        f"key to new state on screen: median {np.median(shown):.0f} ms, p95 {np.percentile(shown, 95):.0f} ms "
        f"(wanted: "
        f"under 100)"
    )
    print(f"ratio of the medians: {np.median(shown) / np.median(bare):.1f}")


if __name__ == "__main__":
    main()
