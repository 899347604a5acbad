"""A killed server loses no acknowledged entry, and its events reach whoever listens."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx2 as httpx

from serving import HTTP, Served, free_port


@contextmanager
def served(data: Path, port: int) -> Iterator[subprocess.Popen[bytes]]:
    server = Served(data, by_command=True)
    server.port, server.url = port, f"http://127.0.0.1:{port}"
    try:
        server.start()
        assert isinstance(server.process, subprocess.Popen)
        yield server.process
    finally:
        server.stop()


def test_a_server_killed_mid_stream_keeps_every_acknowledged_entry(tmp_path: Path) -> None:
    port = free_port()
    url = f"http://127.0.0.1:{port}/api/tickets"
    acknowledged: list[str] = []
    with served(tmp_path, port) as process, httpx.Client(timeout=5, verify=False) as client:
        ticket = client.post(url, json={"customer": "c", "machine": "m", "by": "KT"}).json()["id"]

        def post_until_dead() -> None:
            try:
                for number in range(100_000):
                    answer = client.post(f"{url}/{ticket}/entries", json={"entry": {"note": f"n{number}"}, "by": "KT"})
                    if answer.status_code == 201:
                        acknowledged.append(f"n{number}")
            except httpx.TransportError:
                return

        writer = threading.Thread(target=post_until_dead)
        writer.start()
        while len(acknowledged) < 20 and writer.is_alive():
            time.sleep(0.01)
        os.kill(process.pid, signal.SIGKILL)
        writer.join(20)
    assert len(acknowledged) >= 20
    with served(tmp_path, port):
        tape = HTTP.get(f"{url}/{ticket}", timeout=5).json()["tape"]
    kept = [entry["body"]["note"] for entry in tape]
    assert kept[: len(acknowledged)] == acknowledged
    assert len(kept) <= len(acknowledged) + 1  # at most the one that was on its way


def test_events_tell_of_every_change(tmp_path: Path) -> None:
    port = free_port()
    url = f"http://127.0.0.1:{port}/api"
    with (
        served(tmp_path, port),
        httpx.Client(timeout=5, verify=False) as client,
        client.stream("GET", f"{url}/events") as stream,
    ):
        lines = stream.iter_lines()
        while next(lines) != "event: hello":
            pass
        ticket = HTTP.post(f"{url}/tickets", json={"customer": "c", "machine": "m", "by": "KT"}).json()["id"]
        HTTP.post(f"{url}/tickets/{ticket}/entries", json={"entry": {"note": "x"}, "by": "KT"})
        told: list[object] = []
        wanted = [{"kind": "ticket", "ticket": ticket}, {"kind": "entry", "ticket": ticket, "place": 0}]
        for line in lines:  # the client's own time limit ends a wait for events that never come
            if line.startswith('data: {"kind"'):
                told.append(json.loads(line[6:]))
            if all(event in told for event in wanted):
                break
    assert told[: len(wanted)] == wanted
