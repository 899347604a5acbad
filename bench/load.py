"""Fifty browsers with event streams and sixty posters for a minute, on one server: how long an answer takes, and
whether any is an error.

Prints the median, the 95th percentile and the worst, beside one lone poster on the same server just before. `make load
SECONDS=60`."""

from __future__ import annotations

import argparse
import random
import statistics
import sys
import tempfile
import threading
import time
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

import httpx2 as httpx

from serving import Served

CHECKS = (
    ("sound", ("steady", "ticking", "silent")),
    ("seat", ("firm", "loose")),
    ("seen-setup", ("right", "absent")),
    ("clock", ("right", "wrong")),
)


def poster(
    url: str, ticket: int, end: float, pause: float, seed: int, times: list[float], errors: Counter[str]
) -> None:
    """Appends a reading, then takes it back, as fast as a person in a hurry."""
    rng = random.Random(seed)
    with httpx.Client(base_url=url, timeout=30) as client:
        while time.monotonic() < end:
            time.sleep(rng.random() * pause)
            move, outcomes = rng.choice(CHECKS)
            began = time.perf_counter()
            try:
                answer = client.post(
                    f"/api/tickets/{ticket}/entries",
                    json={"entry": {"move": move, "outcome": rng.choice(outcomes)}, "by": "KT"},
                )
                times.append(time.perf_counter() - began)
                if answer.status_code != 201:
                    errors[f"{answer.status_code} {answer.text[:80]}"] += 1
            except httpx.HTTPError as error:
                errors[type(error).__name__] += 1


def listener(url: str, end: float, heard: Counter[str], errors: Counter[str]) -> None:
    """A browser: an event stream, and a look at the bench now and then."""
    try:
        with (
            httpx.Client(base_url=url, timeout=httpx.Timeout(30, read=30)) as client,
            client.stream("GET", "/api/events") as stream,
        ):
            for line in stream.iter_lines():
                if line.startswith("event: change"):
                    heard["events"] += 1
                if time.monotonic() > end:
                    return
    except httpx.HTTPError as error:
        errors[f"stream {type(error).__name__}"] += 1


def shown(times: list[float]) -> str:
    ordered = sorted(times)
    return (
        f"{len(ordered)} answers, median {statistics.median(ordered) * 1000:.0f} ms, p95 "
        f"{ordered[int(0.95 * (len(ordered) - 1))] * 1000:.0f} ms, worst {ordered[-1] * 1000:.0f} ms"
    )


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seconds", type=float, default=60.0)
    parser.add_argument("--posters", type=int, default=60)
    parser.add_argument("--listeners", type=int, default=50)
    parser.add_argument(
        "--pause", type=float, default=6.0, help="seconds that a poster waits at most between two entries"
    )
    chosen = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        server = Served(Path(folder), by_command=True)
        server.start()
        try:
            tickets = [server.take_in("screen=no-boot-device", drive_kind="hdd") for _ in range(12)]
            alone: list[float] = []
            errors: Counter[str] = Counter()
            poster(server.url, tickets[0], time.monotonic() + 4, 0.1, 1, alone, errors)
            end, times, heard = time.monotonic() + chosen.seconds, list[float](), Counter[str]()
            threads = [
                threading.Thread(target=listener, args=(server.url, end, heard, errors), daemon=True)
                for _ in range(chosen.listeners)
            ]
            threads += [
                threading.Thread(target=poster, args=(server.url, tickets[n % 12], end, chosen.pause, n, times, errors))
                for n in range(chosen.posters)
            ]
            for thread in threads:
                thread.start()
            for thread in threads[chosen.listeners :]:
                thread.join()
            lengths = sum(len(server.ticket(t)["tape"]) for t in tickets)
        finally:
            server.stop()
    print(f"alone:    {shown(alone)}")
    print(
        f"together: {shown(times)}, {heard['events']} events heard; p95 is "
        f"{sorted(times)[int(0.95 * (len(times) - 1))] / statistics.median(alone):.1f} times the lone median"
    )
    print(f"kept: {lengths - 12} entries of {len(times) + len(alone)} acknowledged; errors: {dict(errors) or 'none'}")
    return 1 if errors or lengths - 12 != len(times) + len(alone) else 0


if __name__ == "__main__":
    sys.exit(main())
