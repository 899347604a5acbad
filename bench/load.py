"""Fifty browsers with event streams and sixty posters for a minute, on one server: how long an answer takes, and
whether any is an error.

Prints the median, the 95th percentile and the worst, beside one lone poster on the same server just before. `make load
SECONDS=60`."""

from __future__ import annotations

import argparse
import asyncio
import base64
import hashlib
import multiprocessing
import os
import random
import statistics
import sys
import tempfile
import threading
import time
from collections import Counter
from multiprocessing.queues import Queue
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


async def probe(client: httpx.AsyncClient, secret: str, end: float, reads: bool, errors: Counter[str]) -> None:
    """A linked machine: it asks for orders every two seconds, or reads and sends its pages."""
    head = {"Authorization": f"Bearer {secret}"}
    body = {"protocol": 1, "probe": "1", "machine": {"product_name": "Lathe-14"}, "session": "", "has": 0}
    body["session"] = hashlib.sha256(secret.encode()).hexdigest()[:16]
    try:
        session = (await client.post("/api/link/hello", json=body, headers=head)).json()["session"]
        orders: list[dict[str, str]] = []
        number, data = 0, b"x" * 512
        while time.monotonic() < end:
            if not reads or not orders:
                answer = await client.get("/api/link/orders", params={"session": session}, headers=head)
                errors.update([] if answer.status_code == 200 else [f"orders {answer.status_code}"])
                orders = answer.json().get("orders", [])
                await asyncio.sleep(2)
                continue
            number += 1
            page = {
                "session": session, "seq": number, "order": orders[0]["id"], "path": f"sda/page-{number}.bin",
                "kind": "text", "device": "sda", "how": "load", "status": "ok", "size": len(data),
                "sha256": hashlib.sha256(data).hexdigest(), "data": base64.b64encode(data).decode(),
            }  # fmt: skip
            answer = await client.post("/api/link/pages", json=page, headers=head)
            errors.update([] if answer.status_code == 200 else [f"page {answer.status_code}"])
            said = {"session": session, "order": orders[0]["id"], "done": number, "of": 500, "text": page["path"]}
            answer = await client.post("/api/link/progress", json=said, headers=head)
            errors.update([] if answer.status_code == 200 else [f"progress {answer.status_code}"])
            await asyncio.sleep(1)
    except (httpx.HTTPError, ValueError, KeyError) as error:
        errors[f"probe {type(error).__name__}"] += 1


def probes(
    url: str, secrets: list[str], reading: int, seconds: float, out: multiprocessing.Queue[dict[str, int]]
) -> None:
    """All machines, in a process of their own."""

    async def all_of_them() -> Counter[str]:
        errors: Counter[str] = Counter()
        limits = httpx.Limits(max_connections=len(secrets), max_keepalive_connections=len(secrets))
        async with httpx.AsyncClient(base_url=url, timeout=60, limits=limits) as client:
            end = time.monotonic() + seconds
            await asyncio.gather(*(probe(client, s, end, n < reading, errors) for n, s in enumerate(secrets)))
        return errors

    out.put(dict(asyncio.run(all_of_them())))


def memory_of(pid: int) -> int:
    """Resident MiB of a process and its children."""
    found = 0
    for place in Path("/proc").glob("[0-9]*/stat"):
        try:
            raw = place.read_text().rpartition(")")[2].split()
        except OSError:
            continue
        if pid in (int(place.parent.name), int(raw[1])):
            found += int(raw[21]) * 4096
    return found >> 20


def processor_seconds(pid: int) -> float:
    """What a process has used so far."""
    raw = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(raw[11]) + int(raw[12])) / os.sysconf("SC_CLK_TCK")


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
    parser.add_argument("--probes", type=int, default=0, help="linked machines that ask for orders")
    parser.add_argument("--reading", type=int, default=60, help="of them, so many read and send pages")
    parser.add_argument("--tickets", type=int, default=12, help="open tickets")
    chosen = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        server = Served(Path(folder), by_command=True)
        server.start()
        try:
            most = max(chosen.tickets, chosen.probes)
            tickets = [server.take_in("screen=no-boot-device", drive_kind="hdd") for _ in range(most)]
            secrets = [
                server.call("POST", f"/api/tickets/{t}/link", json={"by": "KT"})["secret"]
                for t in tickets[: chosen.probes]
            ]
            told: Queue[dict[str, int]] = multiprocessing.Queue()
            machines = multiprocessing.Process(
                target=probes, args=(server.url, secrets, chosen.reading, chosen.seconds + 2, told)
            )
            alone: list[float] = []
            errors: Counter[str] = Counter()
            poster(server.url, tickets[0], time.monotonic() + 4, 0.1, 1, alone, errors)
            pid = server.process.pid if server.process else 0
            used = processor_seconds(pid)
            end, times, heard = time.monotonic() + chosen.seconds, list[float](), Counter[str]()
            threads = [
                threading.Thread(target=listener, args=(server.url, end, heard, errors), daemon=True)
                for _ in range(chosen.listeners)
            ]
            threads += [
                threading.Thread(
                    target=poster, args=(server.url, tickets[n % len(tickets)], end, chosen.pause, n, times, errors)
                )
                for n in range(chosen.posters)
            ]
            if secrets:
                machines.start()
            for thread in threads:
                thread.start()
            for thread in threads[chosen.listeners :]:
                thread.join()
            used = processor_seconds(pid) - used
            if secrets:
                errors.update(told.get(timeout=120))
            began = time.perf_counter()
            server.call("GET", "/api/bench")
            print(f"bench of {len(tickets)} open tickets: {(time.perf_counter() - began) * 1000:.0f} ms")
            print(f"memory of the server and its helpers: {memory_of(pid)} MiB")
            print(f"processor: {used / chosen.seconds:.2f} of one core")
            moves = [name for name, _ in CHECKS]
            kept = sum(sum(e["body"].get("move") in moves for e in server.ticket(t)["tape"]) for t in tickets)
        finally:
            server.stop()
    print(f"alone:    {shown(alone)}")
    settled = times[len(times) // 3 :]
    print(f"settled:  {shown(settled)} (without the first third: all machines report at once there)")
    print(
        f"together: {shown(times)}, {heard['events']} events heard; p95 is "
        f"{sorted(times)[int(0.95 * (len(times) - 1))] / statistics.median(alone):.1f} times the lone median"
    )
    print(f"kept: {kept} entries of {len(times) + len(alone)} acknowledged; errors: {dict(errors) or 'none'}")
    return 1 if errors or kept != len(times) + len(alone) else 0


if __name__ == "__main__":
    sys.exit(main())
